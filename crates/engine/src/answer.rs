//! A person's answer to what a lane asked or reported: yes or no to a removal, or drift put right from the source.
//!
//! The answer is about a file, or about a folder and everything in it that waits for one. It is carried out by a pass
//! under terms of its own, so that nothing else happens than a pass would have done by itself.

use katabatic_core::{Agreement, Drift, Kind, RelPath, Removals, RunCommand, Side, Terms, words};

use crate::Error;
use crate::keep_beside::keep_beside;
use crate::pass::{Pass, Report, Wish};
use crate::session::LockedLane;
use katabatic_ledger::rows;

/// What a person decided.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Keep {
    /// The version of this side.
    Side(Side),
    /// Both, the far one under a dated name.
    Both,
    /// The one that was edited last.
    Newest,
}

/// Paths that wait for an answer, by what was last noted of them.
#[derive(Debug, Default)]
struct Asked {
    /// Removed on the other side than this one.
    removals: Vec<(RelPath, Side)>,
    /// Changed on the receiving side alone.
    drift: Vec<RelPath>,
    /// Changed on the receiving side, which keeps a newer version from the source out of its place.
    kept_back: Vec<RelPath>,
}

/// What an answer did.
#[derive(Debug)]
pub struct Answered {
    /// In words, a line each.
    pub done: Vec<String>,
    /// The passes that carried it out.
    pub reports: Vec<Report>,
}

/// Carries out an answer; none where nothing at the path waits for one.
///
/// # Errors
/// Where the answer means nothing for what was asked, or a side is not there.
pub(crate) async fn answer(
    pass: &LockedLane,
    path: &RelPath,
    keep: Keep,
) -> Result<Option<Answered>, Error> {
    let mut asked = asked(pass, path)?;
    if asked.removals.is_empty() && asked.drift.is_empty() && asked.kept_back.is_empty() {
        return Ok(None);
    }
    let what = format!("settling {path} in lane {}", pass.lane.config.name);
    let (terms, sides) = (pass.lane.config.terms, pass.lane.config.side_names());
    let mut answered = Answered {
        done: Vec::new(),
        reports: Vec::new(),
    };
    let side = match (keep, terms.direction.source()) {
        (Keep::Side(side), _) => side,
        (Keep::Both, Some(source)) if !asked.kept_back.is_empty() => {
            // The rest of a folder holds no two versions to keep, and goes on waiting for an answer of its own.
            asked.removals.clear();
            asked.drift.clear();
            beside(pass, &asked.kept_back, source.other(), &mut answered).await?;
            source
        }
        (Keep::Both | Keep::Newest, _) => {
            return Err(Error::usage(
                what,
                "it is no conflict: one side changed or removed it, and the other holds what was agreed",
                "Say --keep near or --keep far.",
            ));
        }
    };
    let has_both = !asked.kept_back.is_empty();
    let mut unlike_the_source = asked.drift;
    unlike_the_source.append(&mut asked.kept_back);
    if !unlike_the_source.is_empty() {
        if terms.direction.source() != Some(side) {
            return Err(Error::usage(
                what,
                format!(
                    "it changed {0} by itself, and this lane carries nothing that changes {0}",
                    sides.at(side)
                ),
                format!(
                    "To put it right with the version {0}: --keep {1}.{2} To have it {0}, too: katabatic copy {3} {4}",
                    sides.at(side.other()),
                    side.other().name(),
                    match has_both {
                        true => format!(
                            " To have both {}, this one under a dated name: --keep both.",
                            sides.at(side)
                        ),
                        false => String::new(),
                    },
                    words::typed(&pass.lane.config.place(side).join(path).to_string()),
                    words::typed(&pass.lane.config.place(side.other()).join(path).to_string()),
                ),
            ));
        }
        let put_right = Terms {
            drift: Drift::Restore,
            ..terms
        };
        let count = unlike_the_source.len() as u64;
        let paths = words::count(count, "path", "paths");
        let (from, to) = (sides.at(side), sides.at(side.other()));
        answered.done.push(match keep {
            Keep::Both => format!("carried {paths} {from} to their places {to}"),
            Keep::Side(_) | Keep::Newest => {
                format!("put {paths} right by what is {from}; what was {to} went to the spares")
            }
        });
        answered
            .reports
            .push(run(pass, unlike_the_source, put_right, None).await?);
    }
    for (carried, removals) in [(true, Removals::Carry), (false, Removals::Keep)] {
        let mut paths = Vec::new();
        for (path, on) in &asked.removals {
            if (*on != side) == carried {
                paths.push(path.clone());
            }
        }
        if paths.is_empty() {
            continue;
        }
        let count = words::count(paths.len() as u64, "path", "paths");
        answered.done.push(if carried {
            format!("yes: {count} removed on the other side too, into the spares")
        } else {
            format!(
                "no: {count} stay {}, and the lane does not ask again",
                sides.at(side)
            )
        });
        let answer = Terms { removals, ..terms };
        let removes_on = Some(side.other());
        answered
            .reports
            .push(run(pass, paths, answer, removes_on).await?);
    }
    Ok(Some(answered))
}

/// Gives what keeps a newer version back on the receiving side dated names, so that that one can go to its place there.
async fn beside(
    pass: &LockedLane,
    kept_back: &[RelPath],
    receiver: Side,
    answered: &mut Answered,
) -> Result<(), Error> {
    let sides = pass.lane.config.side_names();
    for path in kept_back {
        let there = pass
            .store(receiver)
            .look(path)
            .await
            .map_err(|error| pass.side_failed(receiver, &error))?;
        // What is gone there leaves room as it is; of a folder, what is in it gets names of its own.
        let Some(version) = there.filter(|entry| entry.kind == Kind::File) else {
            continue;
        };
        let beside = keep_beside(pass, path, receiver, &version).await?;
        answered.done.push(format!(
            "the version {} is {} now, beside the other one",
            sides.at(receiver),
            beside.name()
        ));
    }
    Ok(())
}

async fn run(
    pass: &LockedLane,
    scope: Vec<RelPath>,
    terms: Terms,
    removes_on: Option<Side>,
) -> Result<Report, Error> {
    let wish = Wish {
        scope,
        by_hand: true,
        removes_on,
        terms: Some(terms),
        ..Wish::default()
    };
    pass.run(RunCommand::Settle, &wish).await
}

fn asked(pass: &Pass, path: &RelPath) -> Result<Asked, Error> {
    let mut asked = Asked::default();
    pass.ledger.read(|connection| {
        rows::each_row(connection, pass.lane.row.key, path, |row| {
            match row.open.as_ref().map(|(state, _)| *state) {
                Some(Agreement::Drift) => asked.drift.push(row.path),
                Some(Agreement::KeptBack) => asked.kept_back.push(row.path),
                Some(Agreement::Asking(side)) => asked.removals.push((row.path, side)),
                None
                | Some(
                    Agreement::Settled
                    | Agreement::Waiting(_)
                    | Agreement::Moving(_)
                    | Agreement::Conflict
                    | Agreement::Stuck
                    | Agreement::LeftOut,
                ) => {}
            }
            true
        })
    })?;
    Ok(asked)
}
