//! Forgetting what passes did long ago.
//!
//! Only the words about old runs go, never a version: a run stays for as long as one of the versions that it took out
//! lies in the spares. The clock is trusted only where runs of the weeks before bear it out.

use katabatic_core::EditTime;

use crate::Error;
use katabatic_ledger::{Ledger, runs};

const DAY: i64 = 86_400 * 1_000_000_000;

/// A run between one day and so many days ago bears out what day it is.
const BORNE_OUT_DAYS: i64 = 60;

fn days_before(now: EditTime, days: i64) -> EditTime {
    EditTime(now.0.saturating_sub(days.saturating_mul(DAY)))
}

/// How many runs are older than so many days and may be forgotten.
///
/// # Errors
/// Where the ledger cannot be read.
pub fn old(ledger: &Ledger, now: EditTime, days: i64) -> Result<u64, Error> {
    ledger.read(|connection| runs::count_before(connection, days_before(now, days)))
}

/// Forgets them.
///
/// # Errors
/// Where the ledger cannot be written.
pub async fn forget(ledger: &Ledger, now: EditTime, days: i64) -> Result<(), Error> {
    let before = days_before(now, days);
    ledger
        .write(move |connection| runs::forget_before(connection, before))
        .await
}

/// Forgets them where the clock is to be trusted; otherwise a later command will.
///
/// # Errors
/// Where the ledger cannot be read or written.
pub async fn forget_by_itself(ledger: &Ledger, now: EditTime, days: i64) -> Result<(), Error> {
    let (from, to) = (days_before(now, BORNE_OUT_DAYS), days_before(now, 1));
    let borne_out = ledger.read(|connection| runs::any_between(connection, from, to))?;
    if borne_out && old(ledger, now, days)? > 0 {
        forget(ledger, now, days).await?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use katabatic_core::{Deed, ItemOutcome, RunCommand, RunOutcome, Side};

    use super::*;
    use crate::config::KEPT_DAYS;
    use katabatic_ledger::LaneKey;
    use katabatic_ledger::runs::Counts;

    async fn with_runs(ages_in_days: &[i64], now: EditTime) -> Ledger {
        let ledger = Ledger::in_memory().unwrap();
        for age in ages_in_days {
            let began = days_before(now, *age);
            ledger
                .write(move |connection| {
                    let run =
                        runs::begin(connection, LaneKey(1), "scores", &RunCommand::Sync, began)?;
                    let item = runs::RunItem {
                        path: "a".into(),
                        deed: Deed::Carry(Side::Far),
                        reason: String::new(),
                        bytes: 1,
                        outcome: ItemOutcome::DONE,
                        at: Some(began),
                    };
                    runs::add_item(connection, run, &item)?;
                    runs::end(
                        connection,
                        run,
                        began,
                        &RunOutcome::AllSettled,
                        &Counts::default(),
                    )
                })
                .await
                .unwrap();
        }
        ledger
    }

    fn numbers(ledger: &Ledger) -> Vec<i64> {
        let all = ledger.read(|connection| runs::last(connection, None, 99));
        all.unwrap().iter().map(|run| run.number).collect()
    }

    const NOW: EditTime = EditTime(2_000_000_000 * 1_000_000_000);

    #[tokio::test]
    async fn old_runs_go_and_the_first_and_the_last_of_a_lane_stay() {
        let ledger = with_runs(&[400, 200, 100, 91, 89, 30, 0], NOW).await;
        forget_by_itself(&ledger, NOW, KEPT_DAYS).await.unwrap();
        assert_eq!(numbers(&ledger), [7, 6, 5, 1]);
        let items = ledger
            .read(|connection| runs::items(connection, 3))
            .unwrap();
        assert!(items.is_empty());
        let ledger = with_runs(&[400, 300, 200], NOW).await;
        forget(&ledger, NOW, 1).await.unwrap();
        assert_eq!(numbers(&ledger), [3, 1]);
    }

    #[tokio::test]
    async fn a_clock_that_jumped_forgets_nothing() {
        let ledger = with_runs(&[400, 399, 398, 0], NOW).await;
        forget_by_itself(&ledger, NOW, KEPT_DAYS).await.unwrap();
        assert_eq!(numbers(&ledger), [4, 3, 2, 1]);
    }

    #[tokio::test]
    async fn a_run_whose_version_is_kept_stays() {
        let ledger = with_runs(&[400, 200, 199, 30, 0], NOW).await;
        ledger
            .write(|connection| {
                connection.execute(
                    "INSERT INTO spare (lane, lane_name, side, key, slot, folder, size, taken_at, run, cause)
                     VALUES (1, 'scores', 1, 'a', 'x', 0, 1, 0, 2, '\"met\"')",
                    [],
                )?;
                Ok(())
            })
            .await
            .unwrap();
        forget_by_itself(&ledger, NOW, KEPT_DAYS).await.unwrap();
        assert_eq!(numbers(&ledger), [5, 4, 2, 1]);
    }
}
