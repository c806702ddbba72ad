//! A new version goes beside the older one, under a dated name: `Poster [2026-11-23 09.20].svg`.
//!
//! The name tells when that version was edited, so that a pass that was cut off after it arrived finds it again instead
//! of carrying it twice. The ledger knows the dated name as one that the source has not: nobody takes it for a
//! stranger's, and nothing is removed because the source never shows it.

use katabatic_core::dated_name::dated_name;
use katabatic_core::{
    Base, Digest, EditTime, Entry, Kind, PerSide, RelPath, Side, SpareCause, Step,
};

use super::Pass;
use super::primitive::{self, Change, Trouble, agreed};
use super::transfer::{self, Brought};
use crate::local_time::in_a_name;
use crate::session::LockedLane;
use katabatic_ledger::rows;

/// Carries the new version; the answer is its bytes.
pub(super) async fn carry(
    pass: &LockedLane,
    step: &Step,
    to: Side,
    run: Option<i64>,
) -> Result<u64, Trouble> {
    let (path, from) = (step.path(), to.other());
    let (Some(seen), Some(older)) = (step.entry(from), step.entry(to)) else {
        return Err(Trouble::Met("it went away meanwhile".into()));
    };
    let brought = transfer::bring(pass, path, from, seen, to).await?;
    let digest = brought.staged.digest;
    put_beside(pass, path, seen.edited, brought, to, run).await?;
    transfer::forget_steps(pass, path, seen, to);
    let base = Base {
        kind: Kind::File,
        size: seen.size,
        content: digest,
        stamps: PerSide {
            near: stamp(Side::Near, from, seen, older),
            far: stamp(Side::Far, from, seen, older),
        },
        listed: PerSide {
            near: true,
            far: step.seen.base.as_ref().is_some_and(|base| base.listed.far),
        },
        away: None,
    };
    let lane = pass.lane.row.key;
    let agreed = agreed(pass, path, base, seen.edited, (None, None));
    pass.ledger
        .write_later(move |connection| rows::agree(connection, lane, &agreed));
    Ok(seen.size)
}

fn stamp(of: Side, from: Side, new: &Entry, older: &Entry) -> katabatic_core::Stamp {
    if of == from { &new.stamp } else { &older.stamp }.clone()
}

async fn put_beside(
    pass: &LockedLane,
    path: &RelPath,
    edited: Option<EditTime>,
    brought: Brought,
    to: Side,
    run: Option<i64>,
) -> Result<(), Trouble> {
    let Brought { staged, learned } = brought;
    let label = in_a_name(edited.unwrap_or_else(|| pass.clock.now()));
    let parent = path.parent().unwrap_or_else(RelPath::root);
    for attempt in 1..100 {
        let name = dated_name(path.name(), &label, attempt);
        let beside = parent
            .join(&name)
            .map_err(|why| Trouble::Met(format!("its dated name cannot be used: {why}")))?;
        let there = pass.store(to).look(&beside).await;
        if there.map_err(|error| Trouble::Side(to, error))?.is_none() {
            let change = Change {
                side: to,
                path: &beside,
                old: None,
                source: None,
                run,
                cause: SpareCause::PutBeside,
                learned,
            };
            return primitive::put(pass, change, staged).await.map(drop);
        }
        if is_known(pass, &beside, staged.digest)? {
            // A leftover in the staging is cleared by the next pass.
            let _ = pass.store(to).unstage(&staged.slot).await;
            return Ok(());
        }
    }
    Err(Trouble::Met("no dated name is free beside it".into()))
}

/// Whether an earlier pass carried this very version there.
fn is_known(pass: &Pass, beside: &RelPath, content: Option<Digest>) -> Result<bool, Trouble> {
    let row = pass
        .ledger
        .read(|connection| rows::row(connection, pass.lane.row.key, beside))?;
    let known = row.and_then(|row| row.base).and_then(|base| base.content);
    Ok(known.is_some() && known == content)
}
