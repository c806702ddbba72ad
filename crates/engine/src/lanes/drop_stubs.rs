//! A lane is taken away with the stubs it has here: nothing would ever bring their content again. Their files stay on
//! the far side.
//!
//! A stub that is gone is a removal to every pass. So the ledger forgets them first: cut off in the middle, the lane
//! brings them again.

use katabatic_core::Side;

use crate::home::random_hex;
use crate::ledger::rows;
use crate::pass::Pass;
use crate::relocate::{Stubs, known};
use crate::sides::{Captured, Checked, Put, SideError};
use crate::{Class, Error};

/// Removes the stubs of a lane from this computer, before it is taken away; how many.
///
/// # Errors
/// Where something happened to one of them that no pass has settled yet; then none is removed.
pub async fn drop_stubs(pass: &Pass) -> Result<u64, Error> {
    let _lock = pass.lock()?;
    let lane = &pass.lane.config;
    let stubs = Stubs::of(known(&pass.ledger, lane)?);
    let side = &*pass.lane.near;
    stubs.check_still(lane, side).await?;
    let (key, id) = (pass.lane.row.key, lane.id.clone());
    let forgotten: Vec<_> = stubs.each().map(|(path, _)| path.clone()).collect();
    pass.ledger
        .write(move |connection| {
            for path in &forgotten {
                rows::forget(connection, key, path)?;
            }
            // What is in no row any more, only a whole listing shows.
            rows::forget_token(connection, &id)
        })
        .await?;
    let failed = |error: SideError| pass.side_failed(Side::Near, &error);
    let mut dropped = 0;
    for (path, base) in stubs.each() {
        let spare = random_hex(8)?;
        if side.capture(path, &spare).await.map_err(failed)? == Captured::Nothing {
            continue;
        }
        let expected = katabatic_core::Entry::file(base.size, base.near.clone());
        match side.check(&spare, &expected).await.map_err(failed)? {
            Checked::Same => {
                side.drop_spare(&spare).await.map_err(failed)?;
                side.forget_stub(&base.near).await.map_err(failed)?;
                dropped += 1;
            }
            // Somebody put another file there in this very instant.
            _ => {
                if side.put_back(&spare, path).await.map_err(failed)? == Put::Taken {
                    return Err(Error::new(
                        Class::NeedsPerson,
                        format!("removing the stub {path}"),
                        "another program puts files there just now",
                        format!(
                            "What it put there is in the spares. Sync, and try again: katabatic sync {}",
                            lane.name
                        ),
                    ));
                }
            }
        }
    }
    Ok(dropped)
}
