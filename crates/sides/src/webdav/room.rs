//! This computer's own room at a far root: staging and spares of one lane.

use std::collections::{HashMap, HashSet};
use std::sync::atomic::{AtomicU64, Ordering};

use katabatic_core::{Entry, Kind, RelPath};
use tokio::sync::Mutex;

use super::{Inner, carry, list};
use crate::private_files::random_hex;
use crate::{Put, SideError, Undone};

/// Where in the folders of a room the one of the lane stands.
const LANE: usize = 2;

/// Where the one of the computer stands, which is in that of the tool.
const COMPUTER: usize = 1;
const OWN: usize = 0;

pub(super) struct Room {
    /// `.katabatic`, `.katabatic/<computer>`, and so on, in the order in which they are made.
    folders: Vec<RelPath>,
    staging: RelPath,
    spares: RelPath,
    ready: Mutex<bool>,
}

impl Room {
    /// The room below `root` in the folder `own` of the tool.
    pub(super) fn new(root: &RelPath, own: &str, computer: &str, lane_id: &str) -> Room {
        // Computer and lane id are made by this tool of letters, digits and `-`.
        let below =
            |folder: &RelPath, name: &str| folder.join(name).unwrap_or_else(|_| folder.clone());
        let own = below(root, own);
        let computer = below(&own, computer);
        let lane = below(&computer, lane_id);
        let (staging, spares) = (below(&lane, "staging"), below(&lane, "spares"));
        let folders = vec![own, computer, lane, staging.clone(), spares.clone()];
        Room {
            folders,
            staging,
            spares,
            ready: Mutex::new(false),
        }
    }

    /// The same room in another folder of the tool's own.
    pub(super) fn within(&self, root: &RelPath, own: &str) -> Room {
        let name = |at: usize| self.folders[at].name();
        Room::new(root, own, name(COMPUTER), name(LANE))
    }

    /// The folder of this lane alone.
    pub(super) fn lane(&self) -> &RelPath {
        &self.folders[LANE]
    }

    pub(super) fn staged(&self, slot: &str) -> Result<RelPath, SideError> {
        self.staging
            .join(slot)
            .map_err(|why| SideError::Failed(why.to_string()))
    }

    pub(super) fn spare(&self, slot: &str) -> Result<RelPath, SideError> {
        self.spares
            .join(slot)
            .map_err(|why| SideError::Failed(why.to_string()))
    }

    pub(super) fn new_slot() -> Result<String, SideError> {
        random_hex(8).map_err(|error| SideError::Failed(error.why))
    }

    /// Forgets that the folders are there, after the server said that one is not.
    pub(super) async fn doubt(&self) {
        *self.ready.lock().await = false;
    }
}

/// Makes the room's folders where they are not there.
pub(super) async fn make_ready(inner: &Inner) -> Result<(), SideError> {
    let mut ready = inner.room.ready.lock().await;
    if !*ready {
        for folder in &inner.room.folders {
            let made = carry::make_folder(inner, folder).await;
            if made.map_err(Undone::told)? == Put::Taken {
                return Err(SideError::Failed(format!(
                    "{folder} is a file there; it must be a folder of the tool's own"
                )));
            }
        }
        *ready = true;
    }
    Ok(())
}

/// The names of the other computers that have a room at this root.
pub(super) async fn other_computers(inner: &Inner) -> Result<Vec<String>, SideError> {
    let folders = &inner.room.folders;
    let all = match list::members(inner, &folders[OWN]).await {
        Ok(folder) => folder.names,
        Err(SideError::Missing) => return Ok(Vec::new()),
        Err(error) => return Err(error),
    };
    let mut names: Vec<String> = all
        .into_iter()
        .filter(|(name, entry)| entry.kind == Kind::Folder && name != folders[COMPUTER].name())
        .map(|(name, _)| name)
        .collect();
    names.sort();
    Ok(names)
}

/// The names of all that lies on the shelf of spares.
pub(super) async fn shelf(inner: &Inner) -> Result<Vec<String>, SideError> {
    let lying = match list::members(inner, &inner.room.spares).await {
        Ok(folder) => folder,
        Err(SideError::Missing) => return Ok(Vec::new()),
        Err(error) => return Err(error),
    };
    match lying.cut_short {
        None => Ok(lying.names.into_iter().map(|(name, _)| name).collect()),
        Some(why) => Err(SideError::try_again(why.to_string())),
    }
}

pub(super) async fn clear_staging(inner: &Inner, keep: &HashSet<String>) -> Result<(), SideError> {
    let leftovers = match list::members(inner, &inner.room.staging).await {
        Ok(folder) => folder.names,
        Err(SideError::Missing) => return Ok(()),
        Err(error) => return Err(error),
    };
    for (name, _) in leftovers {
        if keep.contains(&name) {
            continue;
        }
        carry::delete(inner, &inner.room.staged(&name)?).await?;
    }
    Ok(())
}

/// Looks at what was just staged. Those who ask at the same time share one listing of the staging folder: a look at
/// each would double the requests of a first pass on servers that say nothing in their answer to an upload.
#[derive(Default)]
pub(super) struct StagedLooks {
    asked: AtomicU64,
    seen: Mutex<StagedSeen>,
}

#[derive(Default)]
struct StagedSeen {
    /// Whoever asked up to this number is answered by `found`.
    answers: u64,
    found: HashMap<String, Entry>,
}

impl StagedLooks {
    pub(super) async fn look(&self, inner: &Inner, slot: &str) -> Result<Option<Entry>, SideError> {
        let number = self.asked.fetch_add(1, Ordering::SeqCst) + 1;
        let mut seen = self.seen.lock().await;
        if seen.answers < number {
            // Taken before the listing is asked for: what was staged by then is in it.
            let asked = self.asked.load(Ordering::SeqCst);
            if asked > number {
                let listed = list::members(inner, &inner.room.staging).await?;
                if listed.cut_short.is_none() {
                    seen.found = listed.names.into_iter().collect();
                    seen.answers = asked;
                }
            }
        }
        if seen.answers >= number
            && let Some(entry) = seen.found.remove(slot)
        {
            return Ok(Some(entry));
        }
        drop(seen);
        list::look(inner, &inner.room.staged(slot)?).await
    }
}
