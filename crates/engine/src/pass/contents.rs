//! Where content is to lie: what comes as a stub, what is fetched, what is shed.
//!
//! To the core a stub is a version like any other. Here a transfer to the near side becomes the making of a stub where
//! that is all that is wanted, and what is settled becomes a step where its content is wanted here, or is not wanted any
//! more. Content is dropped only by a [`proof::Proof`] that the far side holds it; and the stub is exchanged into the
//! file's place, so that a program that has the file open goes on with the file.

use katabatic_core::{
    Base, Decision, DroppedFor, Entry, Kind, RelPath, Side, SpareCause, Stamp, Step, Unknown, View,
};

use super::carry::{Ending, Moved, Outcome, Room};
use super::convoy::Under;
use super::give_up::Copy;
use super::primitive::{self, Change, Learned, Trouble};
use super::{Pass, WantedContents, Wish};
use crate::ledger::intents::Version;
use crate::ledger::rows;
use crate::proof::{self, Claim, Outlook};
use crate::sides::{NewStub, Placing, Whereabouts};
use crate::{Class, Error};

fn is_stub(step: &Step) -> bool {
    step.seen.base.as_ref().is_some_and(Base::is_stub)
}

/// Whether somebody gave a stub rights and wrote into it: it is the same file still, and not what was agreed on.
fn was_written_into(pass: &Pass, step: &Step) -> bool {
    let (true, Some(near), Some(far)) =
        (is_stub(step), step.entry(Side::Near), step.entry(Side::Far))
    else {
        return false;
    };
    let both_files = near.kind == Kind::File && far.kind == Kind::File;
    both_files && !near.is_stub() && is_at_its_path(pass, step)
}

/// Whether a pass is to bring the content that the far side has at this path.
fn wants_here(wish: &Wish, step: &Step) -> bool {
    let is_meant = |far: &Entry| wish.means(step.path(), far);
    wish.contents == Some(WantedContents::Here) && step.entry(Side::Far).is_some_and(is_meant)
}

/// What both sides agree on becomes a step where its content is to be elsewhere than it is.
pub(crate) fn wanted(pass: &Pass, wish: &Wish, mut step: Step) -> Step {
    if wants_here(wish, &step) && was_written_into(pass, &step) {
        step.decision = Decision::Carry {
            to: Side::Near,
            replaces: true,
        };
        return step;
    }
    let agreed = step.decision == Decision::Settled || step.is_restamp();
    let (true, Some(near)) = (agreed, step.entry(Side::Near)) else {
        return step;
    };
    if near.kind != Kind::File {
        return step;
    }
    let held = pass.lane.config.contents.held_by(step.path()).is_some();
    let asked = wish.contents.filter(|_| wish.means(step.path(), near));
    let decision = match asked {
        _ if near.is_stub() && (held || asked == Some(WantedContents::Here)) => Decision::Fetch,
        Some(WantedContents::Away) if !near.is_stub() && near.size > 0 && !held => Decision::Shed,
        _ => return step,
    };
    step.decision = decision;
    step
}

/// Whether a step is what a pass is for that only fetches or sheds; of any other pass, every step.
pub(super) fn is_asked_for(wish: &Wish, step: &Step) -> bool {
    match wish.contents {
        None => true,
        Some(WantedContents::Away) => step.decision == Decision::Shed,
        Some(WantedContents::Here) if !wants_here(wish, step) => false,
        Some(WantedContents::Here) => match step.decision {
            Decision::Fetch => true,
            // There is a newer version there than the stub was made of; or the stub was moved away.
            Decision::Carry { to: Side::Near, .. } => is_stub(step),
            _ => false,
        },
    }
}

/// What it takes to prove that the far side holds what a plan sheds.
///
/// # Errors
/// Where the ledger cannot be read.
pub fn to_prove(pass: &Pass, plan: &super::Plan) -> Result<Outlook, Error> {
    let mut outlook = Outlook::default();
    for step in plan
        .steps
        .iter()
        .filter(|step| step.decision == Decision::Shed)
    {
        if let Some(claim) = claim(step) {
            outlook.add(proof::cost(pass, &claim)?);
        }
    }
    Ok(outlook)
}

/// What is claimed of a file whose content is to go.
fn claim(step: &Step) -> Option<Claim<'_>> {
    Some(Claim {
        path: step.path(),
        near: step.entry(Side::Near)?,
        at: step.path(),
        far: step.entry(Side::Far)?,
    })
}

/// What the far side tells of the digests of all that a pass sheds.
pub(super) async fn told(pass: &Pass, steps: &[Step]) -> proof::Told {
    let shed = steps.iter().filter(|step| step.decision == Decision::Shed);
    proof::told(pass, shed.map(Step::path)).await
}

/// Transfers of which only a stub is wanted.
pub(super) async fn make_stubs(pass: &Pass, steps: &mut [Step], wish: &Wish) -> Result<(), Error> {
    let mut able = None;
    for step in steps {
        if let Some(replaces) = comes_as_stub(pass, step, wish) {
            if able.is_none() {
                able = Some(pass.lane.near.holds_stubs().await);
            }
            if let Some(Err(why)) = &able {
                return Err(cannot_hold(pass, why));
            }
            step.decision = Decision::MakeStub { replaces };
        }
    }
    Ok(())
}

/// What was only moved away, or has another name, is not taken for removed; and a stub that was moved to where the far side
/// has another file stays what it is.
pub(crate) async fn hold_moved(pass: &Pass, steps: &mut [Step], wish: &Wish) -> Result<(), Error> {
    let mut in_its_place = Vec::new();
    for step in steps.iter_mut() {
        if was_made_anew(pass, step)? {
            step.decision = Decision::Carry {
                to: Side::Near,
                replaces: true,
            };
        }
        if step.changes(Side::Near) && is_of_another_path(pass, step)? {
            step.decision = Decision::Hold {
                on: Side::Near,
                why: Unknown::StrangeStub,
            };
        }
        if takes_what_it_stands_for(step) {
            let gone = is_gone(pass, step).await;
            let gone = gone.map_err(|trouble| match trouble {
                Trouble::Side(side, error) | Trouble::Unsure(side, error) => {
                    pass.side_failed(side, &error)
                }
                Trouble::Ledger(error) => error,
                Trouble::Met(why) => Error::failed("looking for a stub", why, "Try again."),
            })?;
            let asked = wants_here(wish, step) && step.seen.near == View::Absent;
            step.decision = match (gone, asked) {
                (true, _) => continue,
                // Its content is wanted at its own place, wherever the stub is.
                (false, true) => Decision::Carry {
                    to: Side::Near,
                    replaces: false,
                },
                (false, false) => {
                    if step.seen.near.is_folder() {
                        in_its_place.push(step.path().clone());
                    }
                    Decision::Hold {
                        on: Side::Near,
                        why: Unknown::StubElsewhere,
                    }
                }
            };
        }
    }
    // What lies in a folder has no place there, as long as the file is there that the folder is to take the place of.
    let below = |step: &&mut Step| {
        let path = step.path();
        let is_below = |folder: &RelPath| path.is_within(folder) && path != folder;
        step.changes(Side::Far) && in_its_place.iter().any(is_below)
    };
    for step in steps.iter_mut().filter(below) {
        step.decision = Decision::BelowConflict;
    }
    Ok(())
}

/// Whether a stub of another file, which no lane knows, shows just what the agreed one showed: the folder came to another
/// disk, and what happened there was cut off. Then it is renewed. It may be no stub of another path, which would look as
/// if it had gone.
fn was_made_anew(pass: &Pass, step: &Step) -> Result<bool, Error> {
    let is_strange = Decision::Hold {
        on: Side::Near,
        why: Unknown::StrangeStub,
    };
    let (Some(base), Some(near), Some(far)) = (
        &step.seen.base,
        step.entry(Side::Near),
        step.entry(Side::Far),
    ) else {
        return Ok(false);
    };
    let shows_it = base.near.shows_the_same(&near.stamp) && far.kind == Kind::File;
    if step.decision != is_strange || !shows_it {
        return Ok(false);
    }
    let Some(handle) = pass.lane.near.handle(near) else {
        return Ok(false);
    };
    let known = pass
        .ledger
        .read(|connection| rows::stubs_of_handle(connection, &handle))?;
    Ok(known.is_empty())
}

/// Whether there is a stub here that nothing was agreed on at this path, and that the ledger has at another one.
fn is_of_another_path(pass: &Pass, step: &Step) -> Result<bool, Error> {
    let stub = step.entry(Side::Near).filter(|near| near.is_stub());
    let Some(handle) = stub
        .filter(|_| step.seen.base.is_none())
        .and_then(|stub| pass.lane.near.handle(stub))
    else {
        return Ok(false);
    };
    let lane = pass.lane.row.key;
    let known = pass
        .ledger
        .read(|connection| rows::stubs_of_handle(connection, &handle))?;
    Ok(known.iter().any(|(of, ..)| *of == lane))
}

fn comes_as_stub(pass: &Pass, step: &Step, wish: &Wish) -> Option<bool> {
    let Decision::Carry {
        to: Side::Near,
        replaces,
    } = step.decision
    else {
        return None;
    };
    let wanted_here = wants_here(wish, step);
    let (far, near) = (step.entry(Side::Far)?, step.entry(Side::Near));
    let comes = !wanted_here
        && pass
            .lane
            .config
            .contents
            .comes_as_stub(step.path(), near, far);
    comes.then_some(replaces)
}

fn cannot_hold(pass: &Pass, why: &str) -> Error {
    let config = &pass.lane.config;
    Error::new(
        Class::Failed,
        format!("making stubs in {}", config.near),
        why,
        format!(
            "Nothing was carried. Bring the content instead: katabatic lane change {} --contents all",
            config.name
        ),
    )
}

/// Whether what is there goes, or gives way to something else, because the stub is not at its path any more.
fn takes_what_it_stands_for(step: &Step) -> bool {
    let takes = match step.decision {
        Decision::AskRemoval { on } | Decision::KeepRemoved { on } => on == Side::Far,
        _ => step.changes(Side::Far),
    };
    takes && is_stub(step)
}

/// Whether the stub that was agreed on is at its path, be it that it has content by now.
fn is_at_its_path(pass: &Pass, step: &Step) -> bool {
    let handle = |stamp: &Stamp| pass.lane.near.handle(&Entry::file(0, stamp.clone()));
    let here = step
        .entry(Side::Near)
        .filter(|near| near.kind == Kind::File);
    let here = here.and_then(|near| handle(&near.stamp));
    let agreed = step.seen.base.as_ref().and_then(|base| handle(&base.near));
    here.is_some() && here == agreed
}

/// Whether what is not at its path here any more was removed. A stub of which a name is left somewhere was not.
pub(super) async fn is_gone(pass: &Pass, step: &Step) -> Result<bool, Trouble> {
    let Some(base) = step.seen.base.as_ref().filter(|base| base.is_stub()) else {
        return Ok(true);
    };
    if is_at_its_path(pass, step) {
        return Ok(true);
    }
    let found = pass.lane.near.stub_whereabouts(&base.near).await;
    let found = found.map_err(|error| Trouble::Side(Side::Near, error))?;
    Ok(found == Whereabouts::Gone)
}

/// A stub that the ledger knows no more leaves nothing behind.
pub(super) async fn after(pass: &Pass, step: &Step) {
    let over = match step.decision {
        Decision::Remove { .. }
        | Decision::Forget
        | Decision::Fetch
        | Decision::MakeStub { .. }
        | Decision::Carry { .. } => true,
        Decision::Record => !step.entry(Side::Near).is_some_and(Entry::is_stub),
        _ => false,
    };
    if let Some(base) = step
        .seen
        .base
        .as_ref()
        .filter(|base| over && base.is_stub())
        && let Err(why) = pass.lane.near.forget_stub(&base.near).await
    {
        tracing::debug!("{} leaves a name of its stub: {why}", step.path());
    }
}

/// Whether a step took out a stub, which is to be given up now.
pub(super) fn leaves_a_stub_behind(outcome: &Outcome) -> bool {
    let step = &outcome.step;
    let took_out = step.entry(Side::Near).is_some_and(Entry::is_stub);
    outcome.ending == Ending::Done && took_out && step.changes(Side::Near)
}

fn new_stub(step: &Step, seen: &Entry) -> NewStub {
    NewStub {
        path: step.path().clone(),
        size: seen.size,
        edited: seen.edited.or(seen.received),
        in_place: false,
        content: None,
    }
}

/// Stages the stubs of new files of the far side; those that could not be have come to their end.
pub(super) async fn stage<'s>(room: &Room<'_>, steps: &[&'s Step]) -> Vec<Under<'s>> {
    let mut seen = Vec::with_capacity(steps.len());
    for step in steps {
        match step.entry(Side::Far) {
            Some(far) => seen.push((*step, far)),
            None => room.settle(step, Err(Trouble::Met("there is nothing to carry".into()))),
        }
    }
    let stubs: Vec<NewStub> = seen.iter().map(|(step, far)| new_stub(step, far)).collect();
    let staged = room.pass.lane.near.stage_stubs(&stubs).await;
    let mut under = Vec::with_capacity(seen.len());
    for ((step, far), staged) in seen.into_iter().zip(staged) {
        match staged {
            Ok(staged) => {
                let placing = Placing {
                    slot: staged.slot,
                    version: staged.entry,
                    path: step.path().clone(),
                };
                under.push(Under::new(Side::Near, step, far, placing, None, None));
            }
            Err(error) => room.settle(step, Err(Trouble::Side(Side::Near, error))),
        }
    }
    under
}

/// A stub of the newer far version takes the place of the older one.
pub(super) async fn renew(room: &Room<'_>, step: &Step) -> Result<Moved, Trouble> {
    let Some(far) = step.entry(Side::Far) else {
        return Err(Trouble::Met("there is nothing to carry".into()));
    };
    let cause = SpareCause::Dropped(DroppedFor::NewerStub);
    let learned = Learned::default();
    put(room, step, new_stub(step, far), far, (cause, learned)).await?;
    Moved::bytes(0)
}

/// Drops the content here, once it is proven that the far side has it; its bytes.
pub(super) async fn shed(room: &Room<'_>, step: &Step) -> Result<Moved, Trouble> {
    let pass = room.pass;
    let Some(claim) = claim(step) else {
        return Err(Trouble::Met(
            "it is not the same on both sides any more".into(),
        ));
    };
    let proof = proof::prove(pass, &claim, &room.told).await?;
    let content = Some(proof.content());
    let stub = NewStub {
        size: claim.near.size,
        edited: claim.near.edited,
        in_place: true,
        content,
        ..new_stub(step, claim.far)
    };
    let known = Entry {
        content,
        ..claim.near.clone()
    };
    let known = Step {
        seen: katabatic_core::Triple {
            near: View::Present(known),
            ..step.seen.clone()
        },
        ..step.clone()
    };
    let learned = Learned {
        unproven: proof.is_belief(),
        ..Learned::default()
    };
    let cause = SpareCause::Dropped(DroppedFor::Stub);
    let spare = put(room, &known, stub, claim.far, (cause, learned)).await?;
    if let Some(slot) = spare {
        let path = step.path().clone();
        room.give_up(Copy { path, slot, proof }).await?;
    }
    Moved::bytes(claim.near.size)
}

async fn put(
    room: &Room<'_>,
    step: &Step,
    stub: NewStub,
    far: &Entry,
    (cause, learned): (SpareCause, Learned),
) -> Result<Option<String>, Trouble> {
    let at_near = |error| Trouble::Side(Side::Near, error);
    let mut staged = room.pass.lane.near.stage_stubs(&[stub]).await;
    let staged = match staged.pop() {
        Some(staged) => staged.map_err(at_near)?,
        None => return Err(Trouble::Met("no stub could be made".into())),
    };
    let change = Change {
        side: Side::Near,
        path: step.path(),
        old: step.entry(Side::Near).map(|near| Version::of(near, None)),
        source: Some((Version::of(far, staged.digest), true)),
        run: room.run,
        cause,
        learned,
    };
    primitive::put(room.pass, change, staged).await
}
