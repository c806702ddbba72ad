//! What lies on a shelf of spares and is in no list would never be found again: it is taken into the list.
//!
//! Every change has its intent, and every intent its outcome, so nothing should ever lie there unlisted. Yet a ledger can
//! be lost, or come from an old backup; a home can be copied; a disk can fail between two steps. So the shelves are
//! compared with the list: those on this computer at the start of each pass, the far one after a run that was cut off
//! and once a day, since that takes a listing.
//!
//! An empty folder on a far shelf may be what keeps a name from a late request; after a month no request is that late.

use std::collections::HashSet;

use katabatic_core::{Entry, Kind, RelPath, Side, SpareCause};

use crate::Error;
use crate::session::LockedLane;
use katabatic_ledger::intents;
use katabatic_ledger::shelf_rows;
use katabatic_ledger::spare_rows::{self, Spare};
use katabatic_sides::SideError;
use katabatic_sides::digest::digest_of;
use katabatic_sides::proof::{Empty, Warrant};

const DAY: i64 = 24 * 3600 * 1_000_000_000;
const MONTH: i64 = 30 * DAY;

/// Compares the shelves of both sides with the list.
pub(crate) async fn compare(pass: &LockedLane, cut_off: bool) -> Result<(), Error> {
    let (lane, now) = (pass.lane.row.key, pass.clock.now());
    let looked_at = pass
        .ledger
        .read(|connection| shelf_rows::looked_at(connection, lane))?;
    let lately = looked_at.is_some_and(|at| (0..DAY).contains(&now.0.saturating_sub(at.0)));
    for side in [Side::Near, Side::Far] {
        let is_far_away = pass.lane.config.account(side).is_some();
        if is_far_away && lately && !cut_off {
            continue;
        }
        compare_one(pass, side).await?;
        if side == Side::Far {
            pass.ledger
                .write_later(move |connection| shelf_rows::set_looked_at(connection, lane, now));
        }
    }
    Ok(())
}

/// Compares one shelf with the list. What cannot be told now is looked at again by a later pass.
pub(crate) async fn compare_one(pass: &LockedLane, side: Side) -> Result<(), Error> {
    match on(pass, side).await {
        Ok(()) => Ok(()),
        Err(error) if error.ends_the_pass() => Err(pass.side_failed(side, &error)),
        Err(error) => {
            tracing::debug!(
                "the spares {} were not compared: {error}",
                pass.lane.config.side_names().at(side)
            );
            Ok(())
        }
    }
}

async fn on(pass: &LockedLane, side: Side) -> Result<(), SideError> {
    let failed = |error: Error| SideError::Failed(error.to_string());
    let lane = pass.lane.row.key;
    // What was recorded a moment ago may be on its way to the ledger yet.
    pass.ledger.flush().await.map_err(failed)?;
    let lying = pass.store(side).shelf().await?;
    let (mut known, open) = pass
        .ledger
        .read(|connection| {
            let known = spare_rows::slots(connection, lane, side)?;
            Ok((known, intents::unfinished(connection, lane)?))
        })
        .map_err(failed)?;
    for (_, _, intent) in open {
        known.extend(intent.spare);
        known.extend(intent.spare_before);
    }
    let unlisted: Vec<String> = lying
        .into_iter()
        .filter(|slot| !known.contains(slot))
        .collect();
    let empty = look_at_all(pass, side, &unlisted).await?;
    let (now, gone) = (pass.clock.now(), empty);
    pass.ledger
        .write_later(move |connection| shelf_rows::keep_only(connection, (lane, side), &gone, now));
    Ok(())
}

/// Takes everything into the list that is not an empty folder; which those are.
async fn look_at_all(
    pass: &LockedLane,
    side: Side,
    unlisted: &[String],
) -> Result<HashSet<String>, SideError> {
    let store = pass.store(side);
    let mut empty_ones = HashSet::new();
    for slot in unlisted {
        let Some(entry) = store.look_at_spare(slot).await? else {
            continue;
        };
        if let Some(stub) = Empty::stub(&entry) {
            store.give_up(slot, Warrant::Empty(stub)).await?;
            continue;
        }
        if entry.kind == Kind::Folder && store.is_empty_spare(slot).await? {
            match Empty::folder(&entry).filter(|_| is_old(pass, side, slot)) {
                Some(folder) => drop(store.give_up(slot, Warrant::Empty(folder)).await?),
                None => drop(empty_ones.insert(slot.clone())),
            }
            continue;
        }
        let spare = told_of(pass, side, slot, &entry).await?;
        pass.ledger
            .write_later(move |connection| spare_rows::add(connection, &spare));
    }
    Ok(empty_ones)
}

/// Whether an empty folder was seen there so long ago that no request which it keeps away can come any more.
fn is_old(pass: &LockedLane, side: Side, slot: &str) -> bool {
    let lane = pass.lane.row.key;
    let seen = pass
        .ledger
        .read(|connection| shelf_rows::first_seen(connection, (lane, side), slot));
    let since = seen.ok().flatten();
    since.is_some_and(|at| pass.clock.now().0.saturating_sub(at.0) > MONTH)
}

/// What can be told of something on a shelf.
async fn told_of(
    pass: &LockedLane,
    side: Side,
    slot: &str,
    entry: &Entry,
) -> Result<Spare, SideError> {
    let store = pass.store(side);
    let failed = |error: Error| SideError::Failed(error.to_string());
    let is_here = pass.lane.config.account(side).is_none();
    let content = match entry.kind {
        Kind::File if is_here => Some(digest_of(store.read_spare(slot).await?).await?),
        Kind::File | Kind::Folder | Kind::Odd(_) => None,
    };
    let lane = pass.lane.row.key;
    let known = pass
        .ledger
        .read(|connection| shelf_rows::path_of(connection, lane, content, &entry.stamp))
        .map_err(failed)?;
    let path = match known {
        Some(path) => path,
        None => RelPath::parse(&format!("kept without a name {slot}"))
            .map_err(|why| SideError::Failed(why.to_string()))?,
    };
    Ok(Spare {
        number: 0,
        lane,
        lane_name: pass.lane.config.name.clone(),
        side,
        path,
        slot: slot.to_owned(),
        folder: entry.kind == Kind::Folder,
        size: entry.size,
        content,
        edited: entry.edited,
        // Nobody knows since when it lies there: it counts from now, so that it is not old before anybody has seen it.
        taken_at: pass.clock.now(),
        run: None,
        cause: SpareCause::Found,
        place: pass.lane.place.clone(),
        lane_id: None,
        stamp: match entry.kind {
            Kind::File => Some(entry.stamp.clone()),
            Kind::Folder | Kind::Odd(_) => None,
        },
    })
}
