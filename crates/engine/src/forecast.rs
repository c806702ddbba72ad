//! What a plan would take: time at the speed that was measured, and names that are long.

use std::time::Duration;

use katabatic_core::{PerSide, RelPath, Side, Step};
use katabatic_ledger::Ledger;
use katabatic_ledger::runs::{self, Run};

use crate::Error;
use crate::config::{Config, LaneConfig};
use crate::pass::Plan;

/// So many of the last runs of a lane are looked at.
const RUNS: u32 = 30;

/// A run that carried less than this says nothing of the line's speed.
const BYTES: u64 = 1_000_000;

/// A name longer than this, in bytes, is told: many file systems and servers end at 255, and a dated name needs some more.
const LONG: usize = 200;

/// What a plan would take.
#[derive(Clone, Debug, Default)]
pub struct Forecast {
    /// How long what goes to each side would take, and the bytes a second that this is reckoned with.
    pub takes: PerSide<Option<(Duration, u64)>>,
    /// The longest name among what is to be carried, and its bytes, where it is long.
    pub longest: Option<(RelPath, usize)>,
}

/// Reckons it from the last runs of this lane and of others with the same account.
///
/// # Errors
/// Where the ledger cannot be read.
pub fn of(
    ledger: &Ledger,
    config: &Config,
    lane: &LaneConfig,
    plan: &Plan,
) -> Result<Forecast, Error> {
    let totals = plan.totals();
    let bytes = PerSide {
        near: totals.down.1,
        far: totals.up.1,
    };
    let changed = plan
        .steps
        .iter()
        .filter(|step| step.changes(Side::Near) || step.changes(Side::Far));
    of_bytes(ledger, config, lane, bytes, changed.map(Step::path))
}

/// The same of so many bytes to each side, and of these paths.
///
/// # Errors
/// Where the ledger cannot be read.
pub fn of_bytes<'p>(
    ledger: &Ledger,
    config: &Config,
    lane: &LaneConfig,
    bytes: PerSide<u64>,
    paths: impl Iterator<Item = &'p RelPath>,
) -> Result<Forecast, Error> {
    let accounts: Vec<&str> = [Side::Near, Side::Far]
        .into_iter()
        .filter_map(|side| lane.account(side))
        .collect();
    let alike = |other: &&LaneConfig| {
        other.name == lane.name || accounts.iter().any(|account| other.uses(account))
    };
    let mut all = Vec::new();
    for other in config.lanes.iter().filter(alike) {
        all.extend(ledger.read(|connection| runs::last(connection, Some(&other.name), RUNS))?);
    }
    let takes = PerSide::of(|side| {
        let bytes = bytes[side];
        let speed = speed(&all, side).filter(|_| bytes > 0)?;
        Some((Duration::from_secs(bytes.div_ceil(speed)), speed))
    });
    let longest = paths
        .map(|path| (path, path.name().len()))
        .max_by_key(|(_, bytes)| *bytes)
        .filter(|(_, bytes)| *bytes > LONG)
        .map(|(path, bytes)| (path.clone(), bytes));
    Ok(Forecast { takes, longest })
}

/// Bytes a second to a side, over the runs that carried nearly all that way.
fn speed(runs: &[Run], to: Side) -> Option<u64> {
    let (mut bytes, mut nanos) = (0u64, 0u64);
    for run in runs {
        let (this_way, other_way) = match to {
            Side::Far => (run.counts.bytes_up, run.counts.bytes_down),
            Side::Near => (run.counts.bytes_down, run.counts.bytes_up),
        };
        let took = run.ended.map(|ended| ended.0.saturating_sub(run.began.0));
        if let Some(took) = took.and_then(|took| u64::try_from(took).ok())
            && this_way >= BYTES
            && other_way < this_way / 10
        {
            bytes = bytes.saturating_add(this_way);
            nanos = nanos.saturating_add(took);
        }
    }
    let seconds = Duration::from_nanos(nanos).as_secs_f64();
    let speed = (bytes as f64 / seconds) as u64;
    (nanos > 0 && speed > 0).then_some(speed)
}

#[cfg(test)]
mod tests {
    use katabatic_core::{EditTime, RunCommand, RunOutcome};
    use katabatic_ledger::runs::Counts;

    use super::*;

    fn run(up: u64, down: u64, seconds: i64) -> Run {
        Run {
            number: 1,
            lane: "scores".into(),
            command: RunCommand::Sync,
            began: EditTime(0),
            ended: Some(EditTime(seconds * 1_000_000_000)),
            outcome: Some(RunOutcome::AllSettled),
            runs_still: false,
            counts: Counts {
                bytes_up: up,
                bytes_down: down,
                ..Counts::default()
            },
        }
    }

    #[test]
    fn only_runs_that_say_something_of_a_way_are_reckoned_with() {
        let runs = [
            run(10_000_000, 0, 10),
            run(20_000_000, 1_000, 10),
            run(500, 0, 100),
            run(5_000_000, 5_000_000, 100),
            run(0, 8_000_000, 2),
        ];
        assert_eq!(speed(&runs, Side::Far), Some(1_500_000));
        assert_eq!(speed(&runs, Side::Near), Some(4_000_000));
        assert_eq!(speed(&runs[2..3], Side::Far), None);
        assert_eq!(speed(&[], Side::Far), None);
    }
}
