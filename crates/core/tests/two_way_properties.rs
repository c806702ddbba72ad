//! What must hold of every two-way pass, on random trees. `PROPTEST_CASES` sets how many; CI runs 10,000 of each.
#![allow(
    clippy::unwrap_used,
    reason = "a test stops where its world cannot be made"
)]

#[allow(dead_code, reason = "each test uses a part of the worlds")]
mod worlds;

use std::collections::BTreeSet;

use katabatic_core::{Decision, Listing, RelPath, Side, Step, View};
use proptest::prelude::*;
use worlds::{Node, Tree, a_world, a_world_with_unread_folders, content_of};

fn plain(tree: &Tree, without: &BTreeSet<RelPath>) -> Vec<(RelPath, Option<Vec<u8>>)> {
    tree.iter()
        .filter(|(path, node)| **node != Node::Link && !without.contains(path))
        .map(|(path, node)| (path.clone(), content_of(node)))
        .collect()
}

fn mirrored(decision: &Decision) -> Decision {
    let mut decision = decision.clone();
    match &mut decision {
        Decision::KeptAway { away: side }
        | Decision::Carry { to: side, .. }
        | Decision::MakeFolder { on: side }
        | Decision::Move { on: side, .. }
        | Decision::Remove { on: side, .. }
        | Decision::KeepFolder { on: side }
        | Decision::LeftOut { on: side, .. }
        | Decision::Hold { on: side, .. } => *side = side.other(),
        _ => {}
    }
    decision
}

/// Paths that a pass may leave unequal: in conflict, held, or kept for what is left out in them.
fn excused(steps: &[Step], conflicts: &BTreeSet<RelPath>) -> BTreeSet<RelPath> {
    let held = steps.iter().filter(|step| {
        matches!(
            step.decision,
            Decision::Hold { .. }
                | Decision::LeftOut { .. }
                | Decision::KeepFolder { .. }
                | Decision::KeptAway { .. }
                | Decision::BelowConflict
        )
    });
    held.map(|step| step.path().clone())
        .chain(conflicts.iter().cloned())
        .collect()
}

proptest! {
    #[test]
    fn after_a_pass_both_sides_are_equal_but_for_conflicts_and_unknowns(mut world in a_world()) {
        let steps = world.plan();
        let conflicts = world.carry(&steps);
        let without = excused(&steps, &conflicts);
        prop_assert_eq!(plain(&world.near, &without), plain(&world.far, &without));
    }

    #[test]
    fn a_second_pass_plans_nothing(mut world in a_world_with_unread_folders()) {
        let conflicts = world.pass();
        let work: Vec<Step> = world.plan().into_iter()
            .filter(|step| step.decision.is_work() && !conflicts.contains(step.path()))
            .collect();
        prop_assert!(work.is_empty(), "{:#?}", work);
    }

    #[test]
    fn swapping_the_sides_mirrors_the_plan(world in a_world_with_unread_folders()) {
        let mut plan = world.plan();
        let mut mirror = world.swapped().plan();
        prop_assert_eq!(plan.len(), mirror.len());
        // Moves that have nothing to do with each other come in an order of their own; what is done counts.
        plan.sort_by_key(|step| (step.path().clone(), format!("{:?}", mirrored(&step.decision))));
        mirror.sort_by_key(|step| (step.path().clone(), format!("{:?}", step.decision)));
        for (step, other) in plan.iter().zip(&mirror) {
            prop_assert_eq!(step.path(), other.path());
            // Where neither side can tell, either may be named.
            let untold = |view: &View| match view {
                View::Unknown(_) => true,
                View::Present(entry) => entry.listing != Listing::Complete,
                View::Absent => false,
            };
            let both_unknown = untold(&step.seen.views.near) && untold(&step.seen.views.far);
            if matches!(step.decision, Decision::Hold { .. }) && both_unknown {
                prop_assert!(matches!(other.decision, Decision::Hold { .. }), "{:?}", other);
            } else {
                prop_assert_eq!(mirrored(&step.decision), other.decision.clone());
            }
        }
    }

    #[test]
    fn nothing_unknown_is_ever_removed_or_replaced(mut world in a_world_with_unread_folders()) {
        let unread = world.unread.clone();
        let before = world.clone();
        world.pass();
        for (side, folder) in unread {
            if before.tree(side).get(&folder) != Some(&Node::Folder) {
                continue;
            }
            // What the failed listing hid is still there, and so is its counterpart.
            for hidden in before.tree(side).keys().filter(|path| path.is_within(&folder) && **path != folder) {
                prop_assert_eq!(before.tree(side).get(hidden), world.tree(side).get(hidden), "hidden {}", hidden);
                let other = side.other();
                if let Some(node) = before.tree(other).get(hidden).filter(|_| before.ledger.contains_key(hidden)) {
                    prop_assert_eq!(Some(node), world.tree(other).get(hidden), "counterpart of {}", hidden);
                }
            }
        }
    }

    #[test]
    fn every_version_is_on_a_side_or_in_the_spares(mut world in a_world_with_unread_folders()) {
        let before = world.contents();
        world.pass();
        let mut after = world.contents();
        after.extend(world.spares.iter().cloned());
        prop_assert!(before.is_subset(&after), "lost {:?}", before.difference(&after));
    }

    #[test]
    fn what_only_one_side_changed_is_never_a_conflict(mut world in a_world()) {
        world.pass();
        if world.plan().iter().any(|step| step.decision != Decision::Settled) {
            return Ok(());
        }
        world.edit(Side::Near, &worlds::Edit::Write(worlds::path("a/b"), b"new".to_vec()));
        for step in world.plan() {
            prop_assert!(step.decision != Decision::Conflict, "{:?}", step);
        }
    }
}
