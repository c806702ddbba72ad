//! A person's answer to what a lane asked or reported: yes or no to a removal, or drift put right from the source.
//!
//! The answer is about a file, or about a folder and everything in it that waits for one. It is carried out by a pass
//! under terms of its own, so that nothing else happens than a pass would have done by itself.

use katabatic_core::{Agreement, Drift, RelPath, Removals, RunCommand, Side, Terms, words};

use crate::Error;
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
    drift: Vec<RelPath>,
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
    let asked = asked(pass, path)?;
    if asked.removals.is_empty() && asked.drift.is_empty() {
        return Ok(None);
    }
    let what = format!("settling {path} in lane {}", pass.lane.config.name);
    let Keep::Side(side) = keep else {
        return Err(Error::usage(
            what,
            "it is no conflict: one side changed or removed it, and the other holds what was agreed",
            "Say --keep near or --keep far.",
        ));
    };
    let terms = pass.lane.config.terms;
    let mut answered = Answered {
        done: Vec::new(),
        reports: Vec::new(),
    };
    if !asked.drift.is_empty() {
        if terms.direction.source() != Some(side) {
            return Err(Error::usage(
                what,
                format!(
                    "it changed {0} by itself, and this lane never carries anything from {0}",
                    side.here_or_there()
                ),
                format!(
                    "To put it right from {}: --keep {}. To leave it, do nothing; to take it over, copy it by hand (katabatic copy).",
                    side.other().here_or_there(),
                    side.other().name()
                ),
            ));
        }
        let put_right = Terms {
            drift: Drift::Restore,
            ..terms
        };
        let count = asked.drift.len() as u64;
        answered.done.push(format!(
            "put {} right from {}; what was {} went to the spares",
            words::count(count, "path", "paths"),
            side.here_or_there(),
            side.other().here_or_there()
        ));
        answered
            .reports
            .push(run(pass, asked.drift, put_right, None).await?);
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
                side.here_or_there()
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
