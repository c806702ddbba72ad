//! A lane is taken away with the stubs it has here: nothing would ever bring their content again. Their files stay on
//! the far side.
//!
//! A stub that is gone is a removal to every pass. So the ledger forgets them first: cut off in the middle, the lane
//! brings them again.

use katabatic_core::{DroppedFor, Entry, Side, SpareCause};

use crate::pass::primitive::{self, Change, Learned, Trouble};
use crate::pass::{Pass, give_up};
use crate::relocate::{Stubs, known};
use crate::{Class, Error};
use katabatic_ledger::intents::Version;
use katabatic_ledger::rows;

/// Removes the stubs of a lane from this computer, before it is taken away; how many.
///
/// # Errors
/// Where something happened to one of them that no pass has settled yet; then none is removed.
pub async fn drop_stubs(pass: &Pass) -> Result<u64, Error> {
    let pass = &pass.lock()?;
    let lane = &pass.lane.config;
    // What was cut off before is cleared up; what cannot be is in the way of the lane's end, too.
    pass.prepare().await?;
    let stubs = Stubs::of(known(&pass.ledger, lane)?);
    stubs.check_still(lane, &*pass.lane.near).await?;
    let key = pass.lane.row.key;
    let forgotten: Vec<_> = stubs.each().map(|(path, _)| path.clone()).collect();
    pass.ledger
        .write(move |connection| {
            for path in &forgotten {
                rows::forget(connection, key, path)?;
            }
            Ok(())
        })
        .await?;
    let (mut dropped, mut met) = (0, None);
    for (path, base) in stubs.each() {
        let stub = Entry::file(base.size, base.stamps.near.clone());
        let change = Change {
            side: Side::Near,
            path,
            old: Some(Version::of(&stub, None)),
            source: None,
            run: None,
            cause: SpareCause::Dropped(DroppedFor::LaneGone),
            learned: Learned::default(),
        };
        match primitive::remove(pass, change).await {
            Ok(_) => dropped += 1,
            // Something else came to be there in this very instant. It stays.
            Err(Trouble::Met(why)) => met = met.or(Some((path, why))),
            Err(Trouble::Side(side, error) | Trouble::Unsure(side, error)) => {
                return Err(pass.side_failed(side, &error));
            }
            Err(Trouble::Ledger(error)) => return Err(error),
        }
    }
    give_up::stubs(pass).await?;
    stubs.forget(&*pass.lane.near).await;
    match met {
        None => Ok(dropped),
        Some((path, why)) => Err(Error::new(
            Class::NeedsPerson,
            format!("removing the stub {path}"),
            why,
            format!("Let a pass look at it first: katabatic sync {}", lane.name),
        )),
    }
}
