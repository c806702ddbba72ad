//! This computer's own room at a far root: staging and spares of one lane, and the names in it that are kept from late
//! requests.

use std::collections::HashSet;

use katabatic_core::RelPath;
use tokio::sync::Mutex;

use super::far_path::Path;
use super::refusal::refused;
use super::wire::{Answer, Ask, Attributes, Packet, Status};
use super::{Inner, carry};
use crate::private_files::random_hex;
use crate::{OWN_FOLDER, Put, SideError, Undone};

/// Only who signs in has a use for what lies in the room of a computer.
const PRIVATE: u32 = 0o700;

pub(super) struct Room {
    own: RelPath,
    computer: RelPath,
    lane: RelPath,
    staging: RelPath,
    spares: RelPath,
    ready: Mutex<bool>,
}

impl Room {
    /// The room below `root`.
    pub(super) fn new(root: &RelPath, computer: &str, lane_id: &str) -> Room {
        // Computer and lane id are made by this tool of letters, digits and `-`.
        let below =
            |folder: &RelPath, name: &str| folder.join(name).unwrap_or_else(|_| folder.clone());
        let own = below(root, OWN_FOLDER);
        let computer = below(&own, computer);
        let lane = below(&computer, lane_id);
        Room {
            staging: below(&lane, "staging"),
            spares: below(&lane, "spares"),
            own,
            computer,
            lane,
            ready: Mutex::new(false),
        }
    }

    pub(super) fn lane(&self) -> Path {
        Path::account(&self.lane)
    }

    pub(super) fn staged(&self, slot: &str) -> Result<Path, SideError> {
        within(&self.staging, slot)
    }

    pub(super) fn spare(&self, slot: &str) -> Result<Path, SideError> {
        within(&self.spares, slot)
    }

    pub(super) fn spare_at(&self, slot: &str) -> Result<RelPath, SideError> {
        let at = self.spares.join(slot);
        at.map_err(|why| SideError::Failed(why.to_string()))
    }

    /// Forgets that the folders are there, after the server said that one is not.
    pub(super) async fn doubt(&self) {
        *self.ready.lock().await = false;
    }
}

fn within(folder: &RelPath, slot: &str) -> Result<Path, SideError> {
    let at = folder.join(slot);
    at.map(|at| Path::account(&at))
        .map_err(|why| SideError::Failed(why.to_string()))
}

pub(super) fn new_slot() -> Result<String, SideError> {
    random_hex(8).map_err(|error| SideError::Failed(error.why))
}

/// Makes the room's folders where they are not there.
pub(super) async fn make_ready(inner: &Inner) -> Result<(), SideError> {
    let room = &inner.room;
    let mut ready = room.ready.lock().await;
    if *ready {
        return Ok(());
    }
    for (folder, rights) in [
        (&room.own, None),
        (&room.computer, Some(PRIVATE)),
        (&room.lane, None),
        (&room.staging, None),
        (&room.spares, None),
    ] {
        let made = carry::make_folder(inner, &Path::account(folder), rights).await;
        if made.map_err(Undone::told)? == Put::Taken {
            return Err(SideError::Failed(format!(
                "{folder} is a file there; it must be a folder of the tool's own"
            )));
        }
    }
    *ready = true;
    Ok(())
}

/// The names of the other computers that have a room at this root.
pub(super) async fn other_computers(inner: &Inner) -> Result<Vec<String>, SideError> {
    let all = match inner.client.names(&Path::account(&inner.room.own)).await {
        Ok(names) => names,
        Err(SideError::Missing) => return Ok(Vec::new()),
        Err(error) => return Err(error),
    };
    let mut names: Vec<String> = all
        .into_iter()
        .filter(|name| name.attributes.is_folder())
        .filter_map(|name| String::from_utf8(name.name.to_vec()).ok())
        .filter(|name| name != inner.room.computer.name())
        .collect();
    names.sort();
    Ok(names)
}

/// The names of all that lies on the shelf of spares.
pub(super) async fn shelf(inner: &Inner) -> Result<Vec<String>, SideError> {
    names_in(inner, &inner.room.spares).await
}

pub(super) async fn clear_staging(inner: &Inner, keep: &HashSet<String>) -> Result<(), SideError> {
    for name in names_in(inner, &inner.room.staging).await? {
        if !keep.contains(&name) {
            carry::delete(inner, &inner.room.staged(&name)?).await?;
        }
    }
    Ok(())
}

/// The names in a folder of ours, all of which we have made.
async fn names_in(inner: &Inner, folder: &RelPath) -> Result<Vec<String>, SideError> {
    match inner.client.names(&Path::account(folder)).await {
        Ok(names) => Ok(names
            .into_iter()
            .filter_map(|name| String::from_utf8(name.name.to_vec()).ok())
            .collect()),
        Err(SideError::Missing) => Ok(Vec::new()),
        Err(error) => Err(error),
    }
}

/// What lies in a folder that keeps its name free, by a name that nobody else gives: `rename` puts a folder over an empty one, and over no other.
const KEEPS_FREE: &str = ".katabatic-kept-free";

/// How it stands with a name on the shelf.
pub(super) enum Kept {
    /// Something of somebody's lies there.
    Something,
    /// Nothing, and a request that comes late may still put something there.
    Open,
    /// A folder of ours keeps everything else from it.
    Free,
}

/// How it stands with a name on the shelf, as far as a listing of it tells.
pub(super) async fn stands(inner: &Inner, at: &Path) -> Result<Kept, SideError> {
    let Some(there) = inner.client.look(at).await? else {
        return Ok(Kept::Open);
    };
    if !there.is_folder() {
        return Ok(Kept::Something);
    }
    let names = inner.client.names(at).await?;
    Ok(match &names[..] {
        [] => Kept::Open,
        [only] if only.name == KEEPS_FREE.as_bytes() => Kept::Free,
        _ => Kept::Something,
    })
}

/// Keeps a name on the shelf from every request that was sent before: a folder that is not empty has it from now on.
/// Whether it is kept; else something came to lie there.
pub(super) async fn keep_free(inner: &Inner, at: &Path) -> Result<bool, SideError> {
    let made = carry::make_folder(inner, at, Some(PRIVATE)).await;
    if made.map_err(Undone::told)? == Put::Taken {
        return Ok(false);
    }
    let keeper = at.below(KEEPS_FREE);
    let made = carry::make_folder(inner, &keeper, Some(PRIVATE)).await;
    made.map_err(Undone::told)?;
    // A folder may have been put over ours just before there was anything in it.
    match stands(inner, at).await? {
        Kept::Free => Ok(true),
        Kept::Something | Kept::Open => {
            carry::remove_empty(inner, &keeper).await?;
            Ok(false)
        }
    }
}

/// Gives up the folder that kept a name free, or an empty one.
pub(super) async fn let_go(inner: &Inner, at: &Path) -> Result<(), SideError> {
    carry::remove_empty(inner, &at.below(KEEPS_FREE)).await?;
    carry::remove_empty(inner, at).await
}

impl Inner {
    /// Makes a folder, with these rights where they are not the usual ones.
    pub(super) async fn ask_for_folder(
        &self,
        path: &Path,
        rights: Option<u32>,
    ) -> Result<Status, Undone> {
        let attributes = Attributes {
            mode: rights,
            ..Attributes::default()
        };
        let made = self.client.change(Ask::MakeFolder.word(), path, |full| {
            Packet::new(Ask::MakeFolder)
                .text(&full(path))
                .attributes(&attributes)
        });
        match made.await? {
            Answer::Status(status, _) => Ok(status),
            _ => Err(Undone::Unsure(refused(Status::BadMessage, ""))),
        }
    }
}
