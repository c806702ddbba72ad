//! A program that kept a file open while a pass moved that version to the spares writes on, into the spare.
//!
//! Nothing is lost by that, but nobody would look for it there. So the next pass reads each new spare on this computer once more;
//! one whose content is not what went in is put beside the file under a dated name, where people and the lane see it.

use katabatic_core::dated_name::dated_name;
use katabatic_core::{RelPath, Side};

use crate::Error;
use crate::local_time::in_a_name;
use crate::session::LockedLane;
use katabatic_ledger::spare_rows::{self, Spare};
use katabatic_sides::digest::digest_of;
use katabatic_sides::local::was_written_since;
use katabatic_sides::proof::{Empty, Warrant};
use katabatic_sides::{Put, SideError, SideStore, Staged, Steps, Undone};

/// Looks at every spare on this computer that no pass has looked at again yet.
pub(crate) async fn bring_forward(pass: &LockedLane) -> Result<(), Error> {
    for side in [Side::Near, Side::Far] {
        if pass.lane.config.account(side).is_none() {
            on(pass, side).await?;
        }
    }
    Ok(())
}

async fn on(pass: &LockedLane, side: Side) -> Result<(), Error> {
    let lane = pass.lane.row.key;
    let unread = pass
        .ledger
        .read(|connection| spare_rows::not_read_again(connection, lane, side))?;
    for spare in unread {
        match one(pass, &spare).await {
            Ok(()) => {}
            Err(error) if error.ends_the_pass() => return Err(pass.side_failed(side, &error)),
            // It stays unread, and the next pass tries again.
            Err(error) => tracing::debug!(
                "the spare {} could not be read again: {error}",
                spare.number
            ),
        }
    }
    Ok(())
}

async fn one(pass: &LockedLane, spare: &Spare) -> Result<(), SideError> {
    let store = pass.store(spare.side);
    let number = spare.number;
    let there = store.look_at_spare(&spare.slot).await?;
    if let Some(empty) = there.as_ref().and_then(Empty::stub) {
        // An earlier pass was cut off before it gave it up.
        store.give_up(&spare.slot, Warrant::Empty(empty)).await?;
        pass.ledger
            .write_later(move |connection| spare_rows::forget(connection, number));
        return Ok(());
    }
    let read = match store.read_spare(&spare.slot).await {
        Ok(source) => digest_of(source).await?,
        // Restored or pruned by hand: there is nothing to write to any more.
        Err(SideError::Missing) => {
            pass.ledger
                .write_later(move |connection| spare_rows::mark_read_again(connection, number));
            return Ok(());
        }
        Err(error) => return Err(error),
    };
    let written_to = match spare.content {
        Some(content) => read != content,
        // What it was when it went in was not known; what it is now is, and the next pass compares.
        None => {
            pass.ledger
                .write_later(move |connection| spare_rows::set_content(connection, number, read));
            let known = spare.stamp.clone();
            match known.zip(there) {
                Some((known, there)) if was_written_since(&known, &there.stamp) => {
                    return put_beside(pass, spare).await;
                }
                _ => return Ok(()),
            }
        }
    };
    if written_to {
        put_beside(pass, spare).await?;
    }
    pass.ledger
        .write_later(move |connection| spare_rows::mark_read_again(connection, number));
    Ok(())
}

async fn put_beside(pass: &LockedLane, spare: &Spare) -> Result<(), SideError> {
    let store = pass.store(spare.side);
    let parent = spare.path.parent().unwrap_or_else(RelPath::root);
    let folder = make_again(&*store, &parent).await?;
    let staged = store
        .stage(
            store.read_spare(&spare.slot).await?,
            &spare.path,
            &Steps::unkept(),
        )
        .await?;
    let placed = place_beside(pass, &*store, spare, &staged, &folder).await;
    if placed.is_err() {
        // What is left over is cleared by the next pass; this one says why it did not come forward.
        let _ = store.unstage(&staged.slot).await;
    }
    placed
}

async fn place_beside(
    pass: &LockedLane,
    store: &dyn SideStore,
    spare: &Spare,
    staged: &Staged,
    folder: &RelPath,
) -> Result<(), SideError> {
    let label = format!("written late {}", in_a_name(pass.clock.now()));
    for attempt in 1..100 {
        let name = dated_name(spare.path.name(), &label, attempt);
        let beside = folder
            .join(&name)
            .map_err(|why| SideError::Failed(why.to_string()))?;
        // One that is placed late is one more copy of what was written late; the spare itself stays.
        let placed = store.place(&staged.slot, &staged.entry, &beside).await;
        if placed.map_err(Undone::told)? == Put::Done {
            return Ok(());
        }
    }
    Err(SideError::Failed("no dated name is free beside it".into()))
}

/// The folder may have gone with the file: it is made again, so that people see what was written late. Where a file has
/// its name now, or that of a folder above it, the answer is the folder that this file lies in.
pub(super) async fn make_again(
    store: &dyn SideStore,
    folder: &RelPath,
) -> Result<RelPath, SideError> {
    let mut above: Vec<RelPath> = std::iter::successors(Some(folder.clone()), RelPath::parent)
        .filter(|folder| !folder.is_root())
        .collect();
    above.reverse();
    let mut there = RelPath::root();
    for folder in above {
        if store.make_folder(&folder).await.map_err(Undone::told)? == Put::Taken {
            break;
        }
        there = folder;
    }
    Ok(there)
}
