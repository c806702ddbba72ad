//! Many small new files together.
//!
//! Each goes the same way as any other: staged, placed where nothing is, verified, recorded, with an intent before
//! and an outcome after. Only that the intents of a convoy are one commit, its places one sync of each folder, and its
//! verifying one listing of each folder. Where a server is good for it, a file is held in memory instead of being staged,
//! and goes under its name in one request.

use bytes::Bytes;
use futures_util::{StreamExt, stream};
use katabatic_core::{Decision, Digest, Entry, RelPath, Side, Stamp, Step};

use super::carry::{Moved, Room};
use super::contents;
use super::primitive::{self, Trouble, agreed_put, moved_on, why_taken};
use super::transfer::{self, Brought, changed_under_us};
use crate::seam::Seam;
use katabatic_ledger::intents::{self, Intent, Version};
use katabatic_ledger::rows;
use katabatic_sides::effort::IN_FLIGHT;
use katabatic_sides::net::traffic::MOST;
use katabatic_sides::{Placing, Put, SideError, Undone, Verified};

/// Files up to this size travel together.
const SMALL: u64 = 256 * 1024;

/// So many at a time: enough to share a commit and a listing, few enough that a cut costs little.
const TOGETHER: usize = 64;

/// So many stubs at a time: there is nothing to carry again where one is cut.
const STUBS_TOGETHER: usize = 1024;

/// While one convoy is placed, the next one is staged.
const CONVOYS: usize = 2;

/// Whether a step may travel with others: a small new file.
pub(super) fn may_join(step: &Step) -> bool {
    let Decision::Carry {
        to,
        replaces: false,
    } = step.decision
    else {
        return false;
    };
    step.entry(to.other())
        .is_some_and(|seen| seen.size <= SMALL)
}

/// Files of one convoy that are under way together: as many as the account bears, unless the lane is to have few.
fn at_a_time(room: &Room<'_>) -> usize {
    match room.pass.lane.config.transfers {
        few @ ..IN_FLIGHT => few,
        _ => MOST,
    }
}

fn convoys_of(room: &Room<'_>) -> usize {
    if room.pass.lane.config.transfers < IN_FLIGHT {
        1
    } else {
        CONVOYS
    }
}

/// Carries them all.
pub(super) async fn carry(room: &Room<'_>, steps: &[&Step]) {
    let mut convoys = Vec::new();
    for to in [Side::Far, Side::Near] {
        let one_way: Vec<&Step> = steps
            .iter()
            .copied()
            .filter(
                |step| matches!(step.decision, Decision::Carry { to: there, .. } if there == to),
            )
            .collect();
        convoys.extend(one_way.chunks(TOGETHER).map(|convoy| (to, convoy.to_vec())));
    }
    stream::iter(convoys)
        .for_each_concurrent(convoys_of(room), |(to, convoy)| {
            one_convoy(room, to, convoy)
        })
        .await;
}

/// A file of the convoy that is under way.
pub(super) struct Under<'s> {
    step: &'s Step,
    path: &'s RelPath,
    placing: Placing,
    digest: Option<Digest>,
    /// The content, where it is not staged but goes at once.
    held: Option<Bytes>,
    /// Whether it is known which version arrived.
    told: bool,
    intent: Intent,
    number: Option<i64>,
}

async fn one_convoy(room: &Room<'_>, to: Side, steps: Vec<&Step>) {
    let under: Vec<Under<'_>> = stream::iter(steps)
        .map(|step| begin(room, to, step))
        .buffered(at_a_time(room))
        .filter_map(async |begun| begun)
        .collect()
        .await;
    together(room, to, under).await;
}

/// New stubs, which need nothing but a place.
pub(super) async fn stubs(room: &Room<'_>, steps: &[&Step]) {
    for together in steps.chunks(STUBS_TOGETHER) {
        let begun: Vec<&Step> = together
            .iter()
            .copied()
            .filter(|step| !room.may_not_begin(step))
            .collect();
        let staged = contents::stage(room, &begun).await;
        self::together(room, Side::Near, staged).await;
    }
}

/// What is staged, or held, gets its place.
async fn together(room: &Room<'_>, to: Side, mut under: Vec<Under<'_>>) {
    let pass = room.pass;
    if under.is_empty() {
        return;
    }
    if let Err(error) = note(room, &mut under).await {
        for one in under {
            room.settle(one.step, Err(Trouble::Ledger(error.clone())));
        }
        return;
    }
    for one in &under {
        pass.seam(Seam::Intended, Some(to), Some(one.path)).await;
    }
    let placed = place(room, to, under).await;
    for one in &placed {
        pass.seam(Seam::Placed, Some(to), Some(one.path)).await;
    }
    let placings: Vec<Placing> = placed.iter().map(|one| one.placing.clone()).collect();
    let verified = pass.store(to).verify_all(&placings).await;
    let mut done = Vec::new();
    for (one, verified) in placed.into_iter().zip(verified) {
        match verified {
            Ok(Some(verified)) => done.push((one, verified)),
            Ok(None) if moved_on(&*pass.store(to), &one.placing.version).await => {
                let verified = Verified {
                    entry: one.placing.version.clone(),
                    listed: true,
                };
                done.push((one, verified));
            }
            Ok(None) => {
                undone(room, &one);
                room.settle(
                    one.step,
                    Err(Trouble::Met(
                        "it was changed right after it was put there; the next pass looks at it"
                            .into(),
                    )),
                );
            }
            // It is in place; the intent stays, and the next pass finds it there.
            Err(error) => room.settle(one.step, Err(Trouble::Unsure(to, error))),
        }
    }
    for (one, _) in &done {
        pass.seam(Seam::Verified, Some(to), Some(one.path)).await;
    }
    record(room, to, &done);
    for (one, verified) in done {
        pass.seam(Seam::Recorded, Some(to), Some(one.path)).await;
        if verified.listed {
            room.was_listed(one.path);
        }
        room.settle(one.step, Moved::bytes(one.step.bytes()));
    }
}

/// Stages one file, or puts it in place at once; none where its step has come to its end.
async fn begin<'s>(room: &Room<'_>, to: Side, step: &'s Step) -> Option<Under<'s>> {
    if room.may_not_begin(step) {
        return None;
    }
    let path = step.path();
    let Some(seen) = step.entry(to.other()) else {
        room.settle(step, Err(Trouble::Met("there is nothing to carry".into())));
        return None;
    };
    let begun = if room.pass.store(to).puts_directly(seen.size) {
        hold(room, to, path, seen).await
    } else {
        stage(room, to, path, seen).await
    };
    let (placing, digest, held) = match begun {
        Ok(begun) => begun,
        Err(trouble) => {
            room.settle(step, Err(trouble));
            return None;
        }
    };
    if seen.content.is_some_and(|content| Some(content) != digest) {
        if held.is_none() {
            let _ = room.pass.store(to).unstage(&placing.slot).await;
        }
        room.settle(step, Err(changed_under_us(to.other())));
        return None;
    }
    Some(Under::new(to, step, seen, placing, digest, held))
}

impl<'s> Under<'s> {
    pub(super) fn new(
        to: Side,
        step: &'s Step,
        seen: &Entry,
        placing: Placing,
        digest: Option<Digest>,
        held: Option<Bytes>,
    ) -> Under<'s> {
        let intent = Intent {
            staged: held.is_none().then(|| placing.slot.clone()),
            new: Some(Version::of(&placing.version, digest)),
            source: Some(Version::of(seen, digest)),
            source_listed: to == Side::Near,
            ..Intent::on(to, None)
        };
        Under {
            step,
            path: step.path(),
            placing,
            digest,
            held,
            told: true,
            intent,
            number: None,
        }
    }
}

async fn stage(
    room: &Room<'_>,
    to: Side,
    path: &RelPath,
    seen: &Entry,
) -> Result<(Placing, Option<Digest>, Option<Bytes>), Trouble> {
    let Brought { staged, .. } = transfer::bring(room.pass, path, to.other(), seen, to).await?;
    room.pass.seam(Seam::Staged, Some(to), Some(path)).await;
    let placing = Placing {
        slot: staged.slot,
        version: staged.entry,
        path: path.clone(),
    };
    Ok((placing, staged.digest, None))
}

/// Reads a small file whole, to send it at once.
async fn hold(
    room: &Room<'_>,
    to: Side,
    path: &RelPath,
    seen: &Entry,
) -> Result<(Placing, Option<Digest>, Option<Bytes>), Trouble> {
    let content = transfer::read_whole(room.pass, path, seen, to.other()).await?;
    let version = Entry {
        edited: seen.edited,
        ..Entry::file(seen.size, Stamp::new(""))
    };
    let placing = Placing {
        slot: String::new(),
        version,
        path: path.clone(),
    };
    Ok((placing, Some(Digest::of(&content)), Some(content)))
}

/// Sends what is held. What became of it may stay open: then the intent stays, and the next pass reads what is there.
async fn send<'s>(room: &Room<'_>, to: Side, mut one: Under<'s>) -> Option<Under<'s>> {
    let content = one.held.take().unwrap_or_default();
    let sent = transfer::put_new(room.pass, one.path, &one.placing.version, content, to).await;
    let arrived = match sent {
        Ok(arrived) => arrived,
        Err(Trouble::Unsure(_, why)) => {
            resolve(room, to, &one, why).await;
            return None;
        }
        Err(trouble) => {
            undone(room, &one);
            room.settle(one.step, Err(trouble));
            return None;
        }
    };
    one.told = arrived.told;
    one.intent.unproven = !arrived.told;
    one.placing.version = arrived.entry;
    if one.told {
        return Some(one);
    }
    let expected = &one.placing.version;
    match room.pass.store(to).look_for_ours(one.path).await {
        Ok(Some(there)) if there.kind == expected.kind && there.size == expected.size => {
            one.placing.version = there;
            Some(one)
        }
        Ok(_) => {
            let why = "it was changed right after it was put there; the next pass looks at it";
            room.settle(one.step, Err(Trouble::Met(why.into())));
            None
        }
        // It arrived; which version that is, the next pass finds out.
        Err(error) => {
            room.settle(one.step, Err(Trouble::Unsure(to, error)));
            None
        }
    }
}

/// Notes what is about to be placed, in one commit.
async fn note(room: &Room<'_>, under: &mut Vec<Under<'_>>) -> Result<(), crate::Error> {
    under.retain(|one| {
        let clear = primitive::check_clear(room.pass, one.intent.side(), one.path);
        let is_clear = clear.is_ok();
        if let Err(trouble) = clear {
            room.settle(one.step, Err(trouble));
        }
        is_clear
    });
    let noted = under
        .iter()
        .map(|one| (one.path.clone(), one.intent.clone()))
        .collect();
    let numbers = primitive::note_all(room.pass, noted).await?;
    for (one, number) in under.iter_mut().zip(numbers) {
        one.number = Some(number);
    }
    Ok(())
}

/// Nobody said whether a file got its name: it is found out.
async fn resolve(room: &Room<'_>, to: Side, one: &Under<'_>, why: SideError) {
    let Some(number) = one.number else {
        room.settle(one.step, Err(Trouble::Unsure(to, why)));
        return;
    };
    let resolved = primitive::resolve(room.pass, to, one.path, (number, &one.intent), why).await;
    let moved = resolved.and_then(|()| Moved::bytes(one.step.bytes()));
    room.settle(one.step, moved);
}

/// Nothing is left to clear up.
fn undone(room: &Room<'_>, one: &Under<'_>) {
    if let Some(number) = one.number {
        room.pass
            .ledger
            .write_later(move |connection| intents::done(connection, number));
    }
}

/// Gives them their names; those that got them.
async fn place<'s>(room: &Room<'_>, to: Side, under: Vec<Under<'s>>) -> Vec<Under<'s>> {
    let store = room.pass.store(to);
    let (held, staged): (Vec<_>, Vec<_>) = under.into_iter().partition(|one| one.held.is_some());
    let mut placed: Vec<Under<'s>> = stream::iter(held)
        .map(|one| send(room, to, one))
        .buffer_unordered(at_a_time(room))
        .filter_map(async |sent| sent)
        .collect()
        .await;
    if staged.is_empty() {
        return placed;
    }
    let placings: Vec<Placing> = staged.iter().map(|one| one.placing.clone()).collect();
    let put = store.place_all(&placings).await;
    for (one, put) in staged.into_iter().zip(put) {
        let trouble = match put {
            Ok(Put::Done) => {
                placed.push(one);
                continue;
            }
            Err(Undone::Unsure(why)) => {
                resolve(room, to, &one, why).await;
                continue;
            }
            Ok(Put::Taken) => why_taken(&*room.pass.store(to), &one.placing.path).await,
            Err(Undone::NotDone(error)) => Trouble::Side(to, error),
        };
        if let Err(why) = store.unstage(&one.placing.slot).await {
            tracing::debug!("something staged is left over: {why}");
        }
        undone(room, &one);
        room.settle(one.step, Err(trouble));
    }
    placed
}

/// Records what stands in its place, in one commit.
fn record(room: &Room<'_>, to: Side, done: &[(Under<'_>, Verified)]) {
    let pass = room.pass;
    let lane = pass.lane.row.key;
    let rows: Vec<_> = done
        .iter()
        .map(|(one, verified)| {
            let new = Version::of(&verified.entry, one.digest);
            let mut agreed = agreed_put(pass, to, one.path, &verified.entry, &new, &one.intent);
            if to == Side::Far {
                agreed.base.listed.far = verified.listed;
                if !one.told {
                    // What a listing shows after an upload may be a stranger's already: the next pass reads it.
                    agreed.base.stamps.far = agreed.base.stamps.far.doubted();
                }
            }
            (agreed, one.number)
        })
        .collect();
    pass.ledger.write_later(move |connection| {
        for (agreed, number) in &rows {
            rows::agree(connection, lane, agreed)?;
            if let Some(number) = number {
                intents::done(connection, *number)?;
            }
        }
        Ok(())
    });
}
