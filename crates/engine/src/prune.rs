//! Giving up what has lain in the spares for long enough.
//!
//! This is the one place of the tool that destroys a version. So it is never done by itself; it names what goes and what
//! stays and why; and it trusts the clock only as far as a server, or the passes of the last days, bear it out: a clock
//! that jumped a year ahead would otherwise make yesterday's spares old.

use std::collections::BTreeSet;

use katabatic_core::{EditTime, Side, words};

use crate::hand::Hand;
use crate::ledger::spare_rows::{self, Spare};
use crate::ledger::{Ledger, rows, runs};
use crate::pass::Pass;
use crate::sides::SideStore;
use crate::{Class, Error};

const DAY: i64 = 86_400 * 1_000_000_000;

/// A limit in bytes never takes what is younger than so many days.
pub const NEVER_YOUNGER: i64 = 7;

/// A server's clock may differ from ours by so much.
const CLOCKS_DIFFER: i64 = DAY;

/// Passes of the last so many days bear out what day it is.
const BORNE_OUT: i64 = 60 * DAY;

/// What may go.
#[derive(Clone, Debug)]
pub struct Limits {
    /// What is older than so many days.
    pub older_than_days: i64,
    /// The oldest, until no more than so many bytes are left.
    pub keep_bytes: Option<u64>,
    /// Of this lane alone.
    pub lane: Option<String>,
}

/// What goes, and what stays although it is old enough.
#[derive(Clone, Debug, Default)]
pub struct Choice {
    /// These go.
    pub go: Vec<Spare>,
    /// These stay, and why.
    pub stay: Vec<(Spare, String)>,
    /// What is left afterwards: versions, and bytes.
    pub left: (u64, u64),
}

/// Chooses what goes; nothing is done yet.
///
/// # Errors
/// Where the ledger cannot be read, or the clock is not borne out by what is recorded.
pub fn choose(ledger: &Ledger, now: EditTime, limits: &Limits) -> Result<Choice, Error> {
    let (all, in_conflict, settled, newest_run) = ledger.read(|connection| {
        let all = spare_rows::all(connection, limits.lane.as_deref())?;
        let lanes: BTreeSet<i64> = all.iter().map(|spare| spare.lane.0).collect();
        let mut in_conflict = BTreeSet::new();
        for lane in lanes {
            for path in rows::in_state(connection, crate::ledger::LaneKey(lane), "conflict")? {
                in_conflict.insert((lane, path));
            }
        }
        let settled: BTreeSet<i64> = runs::of_command(connection, "settle")?
            .into_iter()
            .collect();
        let newest = runs::last(connection, None, 1)?
            .first()
            .map(|run| run.began);
        Ok((all, in_conflict, settled, newest))
    })?;
    check_clock(now, &all, newest_run)?;
    let mut choice = Choice::default();
    let mut bytes: u64 = all.iter().map(|spare| spare.size).sum();
    let count = all.len() as u64;
    // The oldest first.
    for spare in all.into_iter().rev() {
        let age = now.0.saturating_sub(spare.taken_at.0) / DAY;
        let old = age >= limits.older_than_days;
        let too_much = limits.keep_bytes.is_some_and(|most| bytes > most) && age >= NEVER_YOUNGER;
        if !(old || too_much) {
            continue;
        }
        let why_not = if in_conflict.contains(&(spare.lane.0, spare.path.clone())) {
            Some("its path is in conflict now")
        } else if spare.run.is_some_and(|run| settled.contains(&run)) {
            Some("it is the version that yielded in a conflict; name its number to give it up")
        } else {
            None
        };
        match why_not {
            Some(why) => choice.stay.push((spare, why.to_owned())),
            None => {
                bytes -= spare.size;
                choice.go.push(spare);
            }
        }
    }
    choice.left = (count - choice.go.len() as u64, bytes);
    Ok(choice)
}

/// A clock that stands before what is recorded, or far behind which nothing is recorded, says nothing about ages.
fn check_clock(now: EditTime, all: &[Spare], newest_run: Option<EditTime>) -> Result<(), Error> {
    let recorded = all
        .iter()
        .map(|spare| spare.taken_at)
        .chain(newest_run)
        .max();
    let wrong = |why: String| {
        Error::new(
            Class::NeedsPerson,
            "telling how old the spares are",
            why,
            "Set the clock, then sync; nothing was given up.",
        )
    };
    match recorded {
        Some(at) if at > now => Err(wrong(
            "the clock of this computer stands before the last thing that is recorded".into(),
        )),
        Some(at) if now.0.saturating_sub(at.0) > BORNE_OUT => Err(wrong(format!(
            "nothing was recorded for {} days, so the clock may have jumped ahead",
            now.0.saturating_sub(at.0) / DAY
        ))),
        _ => Ok(()),
    }
}

/// Gives up spares of a lane, those on the far side where the server agrees on the day. `elsewhere` are the folders of
/// accounts that lanes were tied to before.
///
/// # Errors
/// Where a side cannot be reached, or its clock says otherwise; what was given up until then is no longer listed.
pub async fn give_up(pass: &Pass, spares: &[Spare]) -> Result<(u64, u64), Error> {
    let _lock = pass.lock()?;
    pass.check_roots().await?;
    for side in [Side::Near, Side::Far] {
        let ahead = pass.store(side).clock_ahead();
        if let Some(ahead) = ahead.filter(|ahead| ahead.abs() > CLOCKS_DIFFER) {
            return Err(Error::new(
                Class::NeedsPerson,
                "telling how old the spares are",
                format!(
                    "the server's clock is {} {} this computer's",
                    words::count(ahead.unsigned_abs() / DAY.unsigned_abs(), "day", "days"),
                    if ahead > 0 { "ahead of" } else { "behind" }
                ),
                "Set this computer's clock; nothing was given up.",
            ));
        }
    }
    let (mut count, mut bytes) = (0, 0);
    for spare in spares {
        give_up_one(&*pass.store(spare.side), &pass.ledger, spare)
            .await
            .map_err(|error| pass.side_failed(spare.side, &error))??;
        count += 1;
        bytes += spare.size;
    }
    Ok((count, bytes))
}

/// Gives up what was removed or replaced by hand; what lies in a place that is not here any more stays.
///
/// # Errors
/// Where a place cannot be reached.
pub async fn give_up_by_hand(hand: &Hand<'_>, spares: &[Spare]) -> Result<(u64, u64), Error> {
    let (mut count, mut bytes) = (0, 0);
    for spare in spares {
        let Some((store, _)) = hand.room_of(spare)? else {
            continue;
        };
        give_up_one(&*store, hand.ledger, spare)
            .await
            .map_err(|why| {
                Error::failed(
                    format!("giving up the spare {} of {}", spare.number, spare.path),
                    why,
                    "Try again.",
                )
            })??;
        count += 1;
        bytes += spare.size;
    }
    Ok((count, bytes))
}

async fn give_up_one(
    store: &dyn SideStore,
    ledger: &Ledger,
    spare: &Spare,
) -> Result<Result<(), Error>, crate::sides::SideError> {
    store.drop_spare(&spare.slot).await?;
    let number = spare.number;
    Ok(ledger
        .write(move |connection| spare_rows::forget(connection, number))
        .await)
}
