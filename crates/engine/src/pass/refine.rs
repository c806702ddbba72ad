//! What only looking tells, looked up for the core's one function that refines decisions ([`katabatic_core::refine`]).
//!
//! Here stands what is asked of disks, of accounts and of the ledger; what comes of the answers does not.

use std::collections::BTreeMap;

use katabatic_core::moves::moved_on;
use katabatic_core::refine::stub_question;
use katabatic_core::{
    Decision, Facts, PerSide, Refined, RelPath, Side, Step, StubFact, StubQuestion, Wish,
};

use super::moved_out::NotTaken;
use super::primitive::Trouble;
use super::{Pass, contents, moves};
use crate::{Class, Error};
use katabatic_ledger::rows;

/// What was decided of the views of all paths that are not settled.
#[derive(Default)]
pub(crate) struct Decided {
    /// The steps.
    pub(crate) steps: Vec<Step>,
    /// Paths whose removal is remembered.
    pub(crate) aside: Vec<Step>,
    /// What lies on the far side in folders that are not taken.
    pub(crate) not_taken: NotTaken,
    /// What could not be listed whole, of the tops of both sides.
    pub(crate) tops: Vec<Step>,
}

/// What it comes to, once all is known that is to be known.
pub(crate) struct Outcome {
    /// What the core made of it.
    pub(crate) refined: Refined,
    /// Files that were agreed on and that a side has under another name, or where the lane does not reach.
    pub(crate) there_still: PerSide<u64>,
}

/// Finds moves, looks up what else is to be known, and refines what was decided.
pub(crate) async fn refine(pass: &Pass, decided: Decided, wish: &Wish) -> Result<Outcome, Error> {
    let Decided {
        steps,
        aside,
        not_taken,
        tops,
    } = decided;
    let mut steps = moves::join(pass, steps, aside, wish).await?;
    let facts = Facts {
        contents: &pass.lane.config.contents,
        portable_names: pass.lane.config.portable_names,
        read_only: PerSide::of(|side| pass.store(side).is_read_only()),
        free: PerSide {
            near: free(pass, Side::Near, &steps).await,
            far: free(pass, Side::Far, &steps).await,
        },
        stubs: stubs(pass, &steps, wish).await?,
        moved_to: not_taken.moved_to(pass, &steps, wish)?,
    };
    steps.splice(0..0, tops);
    let there_still = PerSide {
        near: moved_on(&steps, Side::Near),
        // They are there still, though not in the lane any more.
        far: moved_on(&steps, Side::Far) + facts.moved_to.len() as u64,
    };
    let refined = katabatic_core::refine(steps, &facts, wish);
    Ok(Outcome {
        refined,
        there_still,
    })
}

/// What is free where something is to come. What an account has free is the server's to say, file by file.
async fn free(pass: &Pass, side: Side, steps: &[Step]) -> Option<u64> {
    if pass.lane.config.account(side).is_some() || !steps.iter().any(|step| step.brings(side) > 0) {
        return None;
    }
    pass.store(side).free().await
}

/// Looks up what has to be known of stubs.
async fn stubs(
    pass: &Pass,
    steps: &[Step],
    wish: &Wish,
) -> Result<BTreeMap<RelPath, StubFact>, Error> {
    let mut facts = BTreeMap::new();
    for step in steps {
        let fact = match stub_question(step, wish) {
            None => continue,
            Some(StubQuestion::WhoseIsIt) => whose_is_it(pass, step)?,
            Some(StubQuestion::WhereIsIt) => Some(where_is_it(pass, step).await?),
        };
        if let Some(fact) = fact {
            facts.insert(step.path().clone(), fact);
        }
    }
    Ok(facts)
}

/// Where the ledger knows the stub that is at a path.
fn whose_is_it(pass: &Pass, step: &Step) -> Result<Option<StubFact>, Error> {
    let near = step.entry(Side::Near);
    let Some(handle) = near.and_then(|near| pass.lane.near.handle(near)) else {
        return Ok(None);
    };
    let lane = pass.lane.row.key;
    let known = pass
        .ledger
        .read(|connection| rows::stubs_of_handle(connection, &handle))?;
    Ok(Some(if known.is_empty() {
        StubFact::KnownNowhere
    } else if known.iter().any(|(of, ..)| *of == lane) {
        StubFact::OfThisLane
    } else {
        StubFact::OfAnotherLane
    }))
}

async fn where_is_it(pass: &Pass, step: &Step) -> Result<StubFact, Error> {
    contents::where_is_it(pass, step)
        .await
        .map_err(|trouble| match trouble {
            Trouble::Side(side, error) | Trouble::Unsure(side, error) => {
                pass.side_failed(side, &error)
            }
            Trouble::Ledger(error) => error,
            Trouble::Met(why) => Error::failed("looking for a stub", why, "Try again."),
        })
}

/// Where stubs are to be made, this computer's side can hold some.
pub(crate) async fn check_stubs(pass: &Pass, steps: &[Step]) -> Result<(), Error> {
    let makes = |step: &Step| matches!(step.decision, Decision::MakeStub { .. });
    if !steps.iter().any(makes) {
        return Ok(());
    }
    let config = &pass.lane.config;
    pass.lane.near.holds_stubs().await.map_err(|why| {
        Error::new(
            Class::Failed,
            format!("making stubs in {}", config.near),
            why,
            format!(
                "Nothing was carried. Bring the content instead: katabatic lane change {} --contents all",
                config.name
            ),
        )
    })
}
