//! A pass that ends before it carries anything: the brake, an account that refuses, a side that is not there.
//!
//! Whoever looks the next morning has not seen the message. So the lane remembers it until a pass goes on from there,
//! and the first of several that end alike is a run of its own.

use katabatic_core::{EditTime, RunCommand, RunOutcome};

use crate::config::LaneConfig;
use crate::{Class, Error};
use katabatic_ledger::Ledger;
use katabatic_ledger::rows::{self, FailedPass};
use katabatic_ledger::runs::{self, Counts};

/// Remembers how a pass over a lane ended that began and failed at these times. One that somebody stopped, or that was
/// asked for wrongly, says nothing of the lane; nor does one that another was in the way of.
pub fn remember(
    ledger: &Ledger,
    lane: &LaneConfig,
    (began, at): (EditTime, EditTime),
    error: &Error,
) {
    if matches!(
        error.class,
        Class::Stopped | Class::Usage | Class::NeedsPerson | Class::Busy
    ) {
        return;
    }
    let (id, name) = (lane.id.clone(), lane.name.clone());
    let failed = FailedPass {
        at,
        why: error.to_string(),
        next: error.next.clone(),
        away: error.side.filter(|_| error.class == Class::NotThere),
    };
    ledger.write_later(move |connection| {
        let Some(row) = rows::lane_of(connection, &id)? else {
            return Ok(());
        };
        let last = runs::last_pass(connection, row.key)?;
        // What went wrong while it carried is told by its run.
        if last.is_some_and(|last| last.began >= began) {
            return rows::set_failed(connection, row.key, None);
        }
        if row.failed.is_none_or(|known| known.why != failed.why) {
            let run = runs::begin(connection, row.key, &name, &RunCommand::Sync, began)?;
            let outcome = RunOutcome::Failed(failed.why.clone());
            runs::end(connection, run, at, &outcome, &Counts::default())?;
        }
        rows::set_failed(connection, row.key, Some(&failed))
    });
}
