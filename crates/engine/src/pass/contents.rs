//! Where content is to lie: what comes as a stub, what is fetched, what is shed.
//!
//! To the core a stub is a version like any other. Here a transfer to the near side becomes the making of a stub where
//! that is all that is wanted, and what is settled becomes a step where its content is wanted here, or is not wanted any
//! more. Content is dropped only by a [`katabatic_sides::proof::Proof`] that the far side holds it; and the stub is exchanged into the
//! file's place, so that a program that has the file open goes on with the file.

use katabatic_core::{
    Decision, DroppedFor, Entry, PerSide, Side, SpareCause, Stamp, Step, StubFact, View,
};

use super::Pass;
use super::carry::{Ending, Moved, Outcome, Room};
use super::convoy::Under;
use super::give_up::Copy;
use super::primitive::{self, Change, Learned, Trouble};
use crate::Error;
use crate::proof::{self, Claim, Outlook};
use katabatic_ledger::intents::Version;
use katabatic_sides::{NewStub, Placing, Whereabouts};

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

/// Whether what is not at its path here any more was removed. A stub of which a name is left somewhere was not.
pub(super) async fn is_gone(pass: &Pass, step: &Step) -> Result<bool, Trouble> {
    Ok(where_is_it(pass, step).await? != StubFact::Elsewhere)
}

/// What became of the stub that was agreed on; of what was none, no name is left.
pub(super) async fn where_is_it(pass: &Pass, step: &Step) -> Result<StubFact, Trouble> {
    let Some(base) = step.seen.base.as_ref().filter(|base| base.is_stub()) else {
        return Ok(StubFact::Gone);
    };
    if is_at_its_path(pass, step) {
        return Ok(StubFact::AtItsPath);
    }
    let found = pass.lane.near.stub_whereabouts(&base.stamps.near).await;
    let found = found.map_err(|error| Trouble::Side(Side::Near, error))?;
    Ok(match found {
        Whereabouts::Gone => StubFact::Gone,
        Whereabouts::Elsewhere => StubFact::Elsewhere,
    })
}

/// Whether the stub that was agreed on is at its path, be it that it has content by now.
fn is_at_its_path(pass: &Pass, step: &Step) -> bool {
    let handle = |stamp: &Stamp| pass.lane.near.handle(&Entry::file(0, stamp.clone()));
    let here = step.entry(Side::Near).filter(|_| step.is_file(Side::Near));
    let here = here.and_then(|near| handle(&near.stamp));
    let agreed = step
        .seen
        .base
        .as_ref()
        .and_then(|base| handle(&base.stamps.near));
    here.is_some() && here == agreed
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
        && let Err(why) = pass.lane.near.forget_stub(&base.stamps.near).await
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
            views: PerSide {
                near: View::Present(known),
                far: step.seen.views.far.clone(),
            },
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
