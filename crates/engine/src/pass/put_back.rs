//! A version that was kept goes back to where people see it.

use katabatic_core::RelPath;

use super::primitive;
use crate::session::LockedLane;
use katabatic_ledger::spare_rows::{self, Spare};
use katabatic_sides::{Put, SideError, Undone};

/// Moves a spare to a path of the side it lies on, where nothing is; then it is no spare any more.
///
/// # Errors
/// Where it could not be moved, or nobody said whether it was: what still lies on the shelf stays a spare.
pub(crate) async fn back_to(
    pass: &LockedLane,
    spare: &Spare,
    path: &RelPath,
) -> Result<Put, SideError> {
    let (store, number) = (pass.store(spare.side), spare.number);
    let forget = || {
        pass.ledger
            .write_later(move |connection| spare_rows::forget(connection, number));
    };
    primitive::check_clear(pass, spare.side, path)
        .map_err(|trouble| SideError::Failed(trouble.to_string()))?;
    match store.put_back(&spare.slot, path).await {
        Ok(Put::Done) => {
            forget();
            Ok(Put::Done)
        }
        Ok(Put::Taken) => Ok(Put::Taken),
        Err(Undone::NotDone(error)) => Err(error),
        // What has left the shelf has come to the path; what has not may do so yet, where nothing is then.
        Err(Undone::Unsure(error)) => match store.look_at_spare(&spare.slot).await {
            Ok(None) if store.look(path).await?.is_some() => {
                forget();
                Ok(Put::Done)
            }
            _ => Err(error),
        },
    }
}
