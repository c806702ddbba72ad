//! Giving up copies here: what was captured because the far side is proven to hold it, and stubs, in which nothing is.
//!
//! They are given up in small lots: all of a lot are recorded before the first goes, so that whatever cuts this off leaves
//! copies that the list names. What stays after all is an ordinary spare, and says why.

use futures_util::{StreamExt, stream};
use katabatic_core::{KeptFor, RelPath, Side, SpareCause, words};

use crate::Error;
use crate::session::LockedLane;
use katabatic_ledger::spare_rows;
use katabatic_sides::effort::IN_FLIGHT;
use katabatic_sides::proof::{Empty, Proof, Warrant};
use katabatic_sides::{GivenUp, WhyKept};

/// So many copies wait to be given up together, at most: their room is not free before.
pub(crate) const LOT: usize = 32;

/// A copy on the shelf here, and the proof that the far side holds it.
pub(crate) struct Copy {
    pub(crate) path: RelPath,
    pub(crate) slot: String,
    pub(crate) proof: Proof,
}

/// How giving up copies ended.
#[derive(Debug, Default)]
pub(crate) struct Freed {
    /// Copies that a program has open, or may have: their room is not free.
    pub(crate) held_open: u64,
    /// Copies that went on evidence: what they held is believed to be there.
    pub(crate) believed: u64,
    /// Copies that stay for another reason, and that reason.
    pub(crate) stayed: Vec<(RelPath, String)>,
}

impl Freed {
    pub(crate) fn add(&mut self, other: Freed) {
        self.held_open += other.held_open;
        self.believed += other.believed;
        self.stayed.extend(other.stayed);
    }
}

/// Gives up copies, each by its proof.
pub(crate) async fn copies(pass: &LockedLane, copies: Vec<Copy>) -> Result<Freed, Error> {
    // Recorded before it goes: what is cut off here is found in the list.
    pass.ledger.flush().await?;
    let mut ended: Vec<Result<Freed, Error>> = stream::iter(copies)
        .map(|copy| one(pass, copy))
        .buffer_unordered(IN_FLIGHT)
        .collect()
        .await;
    pass.ledger.flush().await?;
    let mut freed = Freed::default();
    for one in ended.drain(..) {
        freed.add(one?);
    }
    Ok(freed)
}

async fn one(pass: &LockedLane, copy: Copy) -> Result<Freed, Error> {
    let Copy { path, slot, proof } = copy;
    let lane = pass.lane.row.key;
    let number = pass
        .ledger
        .read(|connection| spare_rows::number_of(connection, lane, &slot))?;
    let mut freed = Freed::default();
    let is_belief = proof.is_belief();
    let still_there = proof.still_holds(&*pass.lane.far).await;
    let kept = match still_there {
        Ok(true) => {
            let given_up = pass.lane.near.give_up(&slot, Warrant::Proven(proof)).await;
            match given_up.map_err(|error| pass.side_failed(Side::Near, &error))? {
                GivenUp::Gone => {
                    freed.believed = u64::from(is_belief);
                    pass.ledger
                        .write_later(move |connection| spare_rows::forget(connection, number));
                    return Ok(freed);
                }
                GivenUp::Kept(WhyKept::Open) => {
                    freed.held_open = 1;
                    KeptFor::Open
                }
                GivenUp::Kept(WhyKept::CannotTell(why)) => {
                    freed.held_open = 1;
                    KeptFor::CannotTell(why)
                }
                GivenUp::Kept(WhyKept::OtherContent) => KeptFor::Written,
            }
        }
        // Somebody was quicker there: what was to be dropped may be the last copy.
        Ok(false) => KeptFor::ChangedThere,
        Err(why) => {
            tracing::debug!("{path} is kept: {why}");
            KeptFor::NotAsked
        }
    };
    if freed.held_open == 0 {
        freed.stayed.push((path, words::kept_for(&kept)));
    }
    pass.ledger.write_later(move |connection| {
        spare_rows::set_cause(connection, number, &SpareCause::Kept(kept))
    });
    Ok(freed)
}

/// Gives up the stubs that were taken out, of this pass or of one that was cut off.
pub(crate) async fn stubs(pass: &LockedLane) -> Result<(), Error> {
    let lane = pass.lane.row.key;
    pass.ledger.flush().await?;
    let captured = pass
        .ledger
        .read(|connection| spare_rows::not_read_again(connection, lane, Side::Near))?;
    let near = &pass.lane.near;
    for spare in captured {
        let at_near = |error| pass.side_failed(Side::Near, &error);
        let there = near.look_at_spare(&spare.slot).await.map_err(at_near)?;
        let Some(empty) = there.as_ref().and_then(Empty::stub) else {
            continue;
        };
        let given_up = near.give_up(&spare.slot, Warrant::Empty(empty)).await;
        if given_up.map_err(at_near)? == GivenUp::Gone {
            pass.ledger
                .write_later(move |connection| spare_rows::forget(connection, spare.number));
        }
    }
    pass.ledger.flush().await
}
