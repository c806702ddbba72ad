//! Giving up what has lain in the spares for long enough.
//!
//! This is the one place of the tool that destroys a version of which nobody proves that it is anywhere else: a person
//! gave it up. So it is never done by itself; it names what goes and what
//! stays and why; and it trusts the clock only as far as a server, or the passes of the last days, bear it out: a clock
//! that jumped a year ahead would otherwise make yesterday's spares old.

use std::collections::BTreeSet;

use katabatic_core::{Agreement, EditTime, RunCommand, Side, words};

use crate::hand::Hand;
use crate::pass::Pass;
use crate::{Class, Error};
use katabatic_ledger::spare_rows::{self, Spare};
use katabatic_ledger::{Ledger, rows, runs};
use katabatic_sides::digest::digest_of;
use katabatic_sides::proof::{OldVersion, Warrant};
use katabatic_sides::{GivenUp, SideError, SideStore, WhyKept};

const DAY: i64 = 86_400 * 1_000_000_000;

const NOT_AS_KEPT: &str = "it is not the version that was kept there: look at it first";

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
            for path in rows::in_state(
                connection,
                katabatic_ledger::LaneKey(lane),
                Agreement::Conflict,
            )? {
                in_conflict.insert((lane, path));
            }
        }
        let settled: BTreeSet<i64> = runs::of_command(connection, &RunCommand::Settle)?
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

/// What was given up, and what stayed after all.
#[derive(Clone, Debug, Default)]
pub struct GaveUp {
    /// Versions.
    pub versions: u64,
    /// Their bytes.
    pub bytes: u64,
    /// These stayed, and why.
    pub stayed: Vec<(Spare, String)>,
}

impl GaveUp {
    fn add(&mut self, spare: &Spare, given_up: GivenUp) {
        let why = match given_up {
            GivenUp::Gone => {
                self.versions += 1;
                self.bytes += spare.size;
                return;
            }
            GivenUp::Kept(WhyKept::Open) => "a program has it open, and may write into it yet",
            GivenUp::Kept(WhyKept::CannotTell(_)) => "whether a program has it open is not known",
            GivenUp::Kept(WhyKept::OtherContent) => NOT_AS_KEPT,
        };
        self.stays(spare, why);
    }

    fn stays(&mut self, spare: &Spare, why: impl Into<String>) {
        self.stayed.push((spare.clone(), why.into()));
    }
}

/// Gives up spares of a lane, where the servers agree on the day.
///
/// Before that, what an earlier pass was cut off in is cleared up: a version that it had just taken out may lie in the
/// spares alone, and goes back. So does what a program wrote late into a file that had been taken out.
///
/// # Errors
/// Where a side cannot be reached, or its clock says otherwise; what was given up until then is no longer listed.
pub async fn give_up(pass: &Pass, spares: &[Spare]) -> Result<GaveUp, Error> {
    let pass = &pass.lock()?;
    let unfinished = pass.prepare().await?;
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
    let mut gave_up = GaveUp::default();
    for spare in spares {
        let number = spare.number;
        let known = pass
            .ledger
            .read(|connection| spare_rows::spare(connection, number))?;
        if known.as_ref().map(|known| &known.slot) != Some(&spare.slot) {
            gave_up.stays(spare, "it is back where it was");
        } else if spare.lane != pass.lane.row.key {
            gave_up.stays(spare, "it is of an earlier lane of that name");
        } else if unfinished.contains_key(&spare.path) {
            gave_up.stays(spare, "an earlier pass was cut off at its path");
        } else if !is_as_kept(pass, spare).await {
            gave_up.stays(spare, NOT_AS_KEPT);
        } else {
            let given_up = give_up_one(&*pass.store(spare.side), &pass.ledger, spare)
                .await
                .map_err(|error| pass.side_failed(spare.side, &error))??;
            gave_up.add(spare, given_up);
        }
    }
    Ok(gave_up)
}

/// Whether a spare on this computer still holds what was put there: a program that had the file open may have written
/// into it since, and then this is the only copy of that.
async fn is_as_kept(pass: &Pass, spare: &Spare) -> bool {
    let here = pass.lane.config.account(spare.side).is_none();
    let (Some(content), true, false) = (spare.content, here, spare.folder) else {
        return true;
    };
    match pass.store(spare.side).read_spare(&spare.slot).await {
        Ok(source) => matches!(digest_of(source).await, Ok(found) if found == content),
        Err(error) => matches!(error, SideError::Missing),
    }
}

/// Gives up what was removed or replaced by hand; what lies in a place that is not here any more stays.
///
/// # Errors
/// Where a place cannot be reached.
pub async fn give_up_by_hand(hand: &Hand<'_>, spares: &[Spare]) -> Result<GaveUp, Error> {
    let mut gave_up = GaveUp::default();
    for spare in spares {
        let what = format!("giving up the spare {} of {}", spare.number, spare.path);
        let Some((lane, _)) = hand.room_of(spare, &what).await? else {
            gave_up.stays(spare, "the place it lies in is not here");
            continue;
        };
        let given_up = give_up_one(&*lane.store(spare.side), hand.ledger, spare)
            .await
            .map_err(|why| Error::failed(&what, why, "Try again."))??;
        gave_up.add(spare, given_up);
    }
    Ok(gave_up)
}

async fn give_up_one(
    store: &dyn SideStore,
    ledger: &Ledger,
    spare: &Spare,
) -> Result<Result<GivenUp, Error>, SideError> {
    let warrant = Warrant::GivenUp(OldVersion::of(
        spare.content,
        spare.stamp.clone(),
        spare.folder,
    ));
    let given_up = store.give_up(&spare.slot, warrant).await?;
    if given_up != GivenUp::Gone {
        return Ok(Ok(given_up));
    }
    let number = spare.number;
    let forgotten = ledger
        .write(move |connection| spare_rows::forget(connection, number))
        .await;
    Ok(forgotten.map(|()| given_up))
}
