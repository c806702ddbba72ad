//! A run that is under way, as a type: it comes to its end on every path, also where an error ends the operation.
//!
//! Only a process that is killed, or an operation that nobody waits for any more, leaves a run without an end, and that
//! is how such a one is told from the others.

use std::sync::Arc;

use katabatic_core::{EditTime, RunCommand, RunOutcome};

use crate::Error;
use katabatic_ledger::runs::{self, Counts, RunItem};
use katabatic_ledger::{LaneKey, Ledger};
use katabatic_sides::clock::Clock;

/// A run that is under way; whoever holds it ends it.
#[must_use]
pub(crate) struct OpRun {
    ledger: Ledger,
    clock: Arc<dyn Clock>,
    number: i64,
}

/// How an operation ended that came to its end.
pub(crate) struct Ended<T> {
    /// What it gives back.
    pub(crate) value: T,
    /// How it ended.
    pub(crate) outcome: RunOutcome,
    /// What it did, in numbers.
    pub(crate) counts: Counts,
}

impl OpRun {
    /// Begins a run of this command in a lane.
    pub(crate) async fn begin(
        ledger: &Ledger,
        clock: &Arc<dyn Clock>,
        (lane, lane_name): (LaneKey, &str),
        command: RunCommand,
        began: EditTime,
    ) -> Result<OpRun, Error> {
        let name = lane_name.to_owned();
        let number = ledger
            .write(move |connection| runs::begin(connection, lane, &name, &command, began))
            .await?;
        Ok(OpRun {
            ledger: ledger.clone(),
            clock: Arc::clone(clock),
            number,
        })
    }

    /// Its number.
    pub(crate) fn number(&self) -> i64 {
        self.number
    }

    /// Notes what was done with one thing.
    pub(crate) fn note(&self, item: RunItem) {
        let number = self.number;
        self.ledger
            .write_later(move |connection| runs::add_item(connection, number, &item));
    }

    /// Ends it.
    pub(crate) async fn end(self, outcome: RunOutcome, counts: Counts) -> Result<(), Error> {
        let (number, now) = (self.number, self.clock.now());
        self.ledger
            .write(move |connection| runs::end(connection, number, now, &outcome, &counts))
            .await?;
        self.was_ended();
        Ok(())
    }

    /// Ends it with the error that ended the operation; one whose end stands in the ledger already stays as it is.
    pub(crate) async fn failed(self, error: &Error) {
        let (number, now) = (self.number, self.clock.now());
        let outcome = RunOutcome::Failed(error.to_string());
        let ended = self
            .ledger
            .write(move |connection| runs::end_open(connection, number, now, &outcome));
        // The operation's own error is the one to tell.
        if let Err(why) = ended.await {
            tracing::debug!("the end of a run could not be noted: {}", why.why);
        }
    }

    /// Its end stands in the ledger, written together with other rows.
    pub(crate) fn was_ended(self) {}
}

/// Does something in a run, which ends with it, be it in an error.
pub(crate) async fn in_run<T>(
    run: OpRun,
    work: impl AsyncFnOnce(&OpRun) -> Result<Ended<T>, Error>,
) -> Result<T, Error> {
    match work(&run).await {
        Ok(ended) => {
            run.end(ended.outcome, ended.counts).await?;
            Ok(ended.value)
        }
        Err(error) => {
            run.failed(&error).await;
            Err(error)
        }
    }
}
