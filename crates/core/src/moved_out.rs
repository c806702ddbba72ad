//! What somebody moved on the far side out of the folders that this lane takes.
//!
//! A lane sees such a file go. Had it really been removed, its copy here would go too, into the spares and under the
//! brake. But it is there still, in a folder that is not taken, and so its copy here only costs room: it is dropped as
//! `choose` drops copies, once it is proven to be there, and nothing is removed anywhere.

use std::collections::{BTreeMap, BTreeSet};

use crate::decide::Change;
use crate::{Decision, Kind, RelPath, Side, Step, View};

/// Whether the file that was agreed on at this path may have been moved out of what is taken.
#[must_use]
pub fn may_have_left(step: &Step) -> bool {
    let agreed = step
        .seen
        .base
        .as_ref()
        .is_some_and(|base| base.kind == Kind::File && base.away.is_none());
    agreed
        && step.near == Change::Same
        && step.seen.views.far == View::Absent
        && goes_here(&step.decision)
}

fn goes_here(decision: &Decision) -> bool {
    matches!(
        decision,
        Decision::Remove {
            on: Side::Near,
            makes_way: false
        } | Decision::KeepRemoved { on: Side::Near }
            | Decision::AskRemoval { on: Side::Near }
    )
}

/// Makes drops of what would be removals; `moved_to` says where each of these files is on the far side now. A folder of
/// which nothing else is left goes with them.
pub fn drop_here(steps: &mut [Step], moved_to: &BTreeMap<RelPath, RelPath>) {
    if moved_to.is_empty() {
        return;
    }
    let mut dropped_in = BTreeSet::new();
    for step in steps.iter_mut() {
        if let Some(to) = moved_to.get(step.path()) {
            step.decision = Decision::DropHere {
                moved_to: to.clone(),
            };
            dropped_in.extend(std::iter::successors(step.path().parent(), RelPath::parent));
        }
    }
    let keeps: Vec<RelPath> = steps
        .iter()
        .filter(|step| !step.view(Side::Near).is_folder())
        .filter(|step| !matches!(step.decision, Decision::DropHere { .. } | Decision::Forget))
        .map(|step| step.path().clone())
        .collect();
    for step in steps.iter_mut() {
        let folder = step.path();
        let empties = step.view(Side::Near).is_folder()
            && goes_here(&step.decision)
            && dropped_in.contains(folder)
            && !keeps.iter().any(|kept| kept.is_within(folder));
        if empties {
            step.decision = Decision::Remove {
                on: Side::Near,
                makes_way: false,
            };
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::reconcile::reconcile;
    use crate::{Base, Entry, PerSide, Reconciler, Removals, Selection, Stamp, Terms, Triple};

    fn path(text: &str) -> RelPath {
        RelPath::parse(text).unwrap()
    }

    fn gone_there(at: &str, folder: bool) -> Triple {
        let entry = match folder {
            true => Entry::folder(),
            false => Entry::file(1, Stamp::new("n")),
        };
        Triple {
            path: path(at),
            base: Some(Base {
                kind: entry.kind,
                size: entry.size,
                content: None,
                stamps: PerSide {
                    near: entry.stamp.clone(),
                    far: Stamp::new("f"),
                },
                listed: PerSide {
                    near: true,
                    far: true,
                },
                away: None,
            }),
            views: PerSide {
                near: View::Present(entry),
                far: View::Absent,
            },
        }
    }

    fn planned(removals: Removals, triples: Vec<Triple>) -> Vec<Step> {
        let terms = Terms {
            removals,
            ..Terms::default()
        };
        let reconciler = Reconciler::new(terms, Arc::new(Selection::default()));
        reconcile(triples, reconciler).0
    }

    fn decisions(steps: &[Step]) -> BTreeMap<&str, &Decision> {
        steps
            .iter()
            .map(|step| (step.path().as_str(), &step.decision))
            .collect()
    }

    const REMOVED: Decision = Decision::Remove {
        on: Side::Near,
        makes_way: false,
    };

    #[test]
    fn what_was_moved_out_is_dropped_whatever_becomes_of_removals() {
        for removals in [Removals::Carry, Removals::Keep, Removals::Ask] {
            let mut steps = planned(
                removals,
                vec![gone_there("d", true), gone_there("d/a", false)],
            );
            assert!(steps.iter().any(may_have_left), "{steps:#?}");
            drop_here(&mut steps, &[(path("d/a"), path("old/a"))].into());
            let to = Decision::DropHere {
                moved_to: path("old/a"),
            };
            assert_eq!(decisions(&steps), [("d", &REMOVED), ("d/a", &to)].into());
        }
    }

    #[test]
    fn a_folder_with_something_else_in_it_stays_as_it_was_decided() {
        let triples = vec![
            gone_there("d", true),
            gone_there("d/a", false),
            gone_there("d/b", false),
        ];
        let mut steps = planned(Removals::Keep, triples);
        drop_here(&mut steps, &[(path("d/a"), path("old/a"))].into());
        let kept = Decision::KeepRemoved { on: Side::Near };
        assert_eq!(decisions(&steps)["d"], &kept);
        assert_eq!(decisions(&steps)["d/b"], &kept);
    }

    #[test]
    fn a_copy_that_was_edited_here_is_no_copy() {
        let mut edited = gone_there("a", false);
        edited.views.near = View::Present(Entry::file(9, Stamp::new("other")));
        let steps = planned(Removals::Carry, vec![edited]);
        assert!(!steps.iter().any(may_have_left), "{steps:#?}");
    }
}
