//! Files that somebody writes to all the time.
//!
//! A version that changes while it is read is none. Such a file waits until it is quiet and holds up nothing else. One
//! that is never quiet is read, after a while, from a copy as it is at one moment, where its file system can make one. And
//! only one that could not be read for a whole day is told as stuck.

use katabatic_core::{EditTime, RelPath, Side, Triple, View};

use super::Pass;
use super::carry::{Carried, Ending};
use crate::Error;
use crate::session::LockedLane;
use katabatic_ledger::written_rows;

const SECOND: i64 = 1_000_000_000;

/// A file that was written for so long is read from a copy.
const COPIED_AFTER: i64 = 600 * SECOND;

/// A file that could not be read for so long needs a person.
const TOLD_AFTER: i64 = 24 * 3_600 * SECOND;

/// Finds out which files are to be read from copies by this pass.
pub(super) fn prepare(pass: &LockedLane) -> Result<(), Error> {
    let lane = pass.lane.row.key;
    let all = pass
        .ledger
        .read(|connection| written_rows::all(connection, lane))?;
    let now = pass.clock.now();
    let long = |(path, since): (RelPath, EditTime)| {
        (now.0.saturating_sub(since.0) >= COPIED_AFTER).then_some(path)
    };
    pass.read_copies_of(all.into_iter().filter_map(long).collect());
    Ok(())
}

/// Takes a copy of what the near side shows, where that has been written for long.
pub(super) async fn freeze(pass: &Pass, triple: &mut Triple) {
    let agreed = triple.base.as_ref().map(|base| &base.stamps.near);
    let View::Present(seen) = &mut triple.views.near else {
        return;
    };
    if agreed == Some(&seen.stamp) || !pass.reads_a_copy_of(&triple.path) {
        return;
    }
    match pass.store(Side::Near).freeze(&triple.path).await {
        Ok(Some(copied)) => *seen = copied,
        Ok(None) => {}
        // Whatever it is, reading the file itself finds it, too.
        Err(why) => tracing::debug!("{} is not copied: {why}", triple.path),
    }
}

/// What a pass found of files that are being written.
#[derive(Debug, Default)]
pub(super) struct Written {
    /// These are.
    pub(super) now: Vec<RelPath>,
    /// These are not any more.
    pub(super) over: Vec<RelPath>,
}

/// Sorts what came of a pass; what could not be read for long is stuck from now on, and counted so.
pub(super) fn sort(pass: &Pass, carried: &mut Carried) -> Result<Written, Error> {
    let lane = pass.lane.row.key;
    let known = pass
        .ledger
        .read(|connection| written_rows::all(connection, lane))?;
    let now = pass.clock.now();
    let mut written = Written::default();
    for outcome in &mut carried.outcomes {
        let path = outcome.step.path();
        let since = known.get(path);
        match outcome.ending {
            Ending::BeingWritten => {
                written.now.push(path.clone());
                if since.is_some_and(|since| now.0.saturating_sub(since.0) >= TOLD_AFTER) {
                    outcome.ending = Ending::Stuck;
                    outcome.reason = "it has been written without a pause for a day, so no version of it could be read. Close the program that writes it for a moment, or leave the file out".into();
                    carried.counts.stuck += 1;
                }
            }
            Ending::Waiting => {}
            Ending::Done
            | Ending::Conflict
            | Ending::Stuck
            | Ending::Drift
            | Ending::KeptBack
            | Ending::Asking
            | Ending::LeftOut => {
                if since.is_some() {
                    written.over.push(path.clone());
                }
            }
        }
    }
    Ok(written)
}
