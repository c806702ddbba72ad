//! This computer's own room at a far root: staging and spares of one lane.

use katabatic_core::RelPath;
use tokio::sync::Mutex;

use super::{Inner, carry, list};
use crate::home::random_hex;
use crate::sides::{OWN_FOLDER, Put, SideError};

/// Where in the folders of a room the one of the lane stands.
const LANE: usize = 2;

pub(super) struct Room {
    /// `.katabatic`, `.katabatic/<computer>`, and so on, in the order in which they are made.
    folders: Vec<RelPath>,
    staging: RelPath,
    spares: RelPath,
    ready: Mutex<bool>,
}

impl Room {
    pub(super) fn new(root: &RelPath, computer: &str, lane_id: &str) -> Room {
        // Computer and lane id are made by this tool of letters, digits and `-`.
        let below =
            |folder: &RelPath, name: &str| folder.join(name).unwrap_or_else(|_| folder.clone());
        let own = below(root, OWN_FOLDER);
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
            if carry::make_folder(inner, folder).await? == Put::Taken {
                return Err(SideError::Failed(format!(
                    "{folder} is a file there; it must be a folder of the tool's own"
                )));
            }
        }
        *ready = true;
    }
    Ok(())
}

pub(super) async fn clear_staging(inner: &Inner) -> Result<(), SideError> {
    let leftovers = match list::members(inner, &inner.room.staging).await {
        Ok(folder) => folder.names,
        Err(SideError::Missing) => return Ok(()),
        Err(error) => return Err(error),
    };
    for (name, _) in leftovers {
        carry::delete(inner, &inner.room.staged(&name)?).await?;
    }
    Ok(())
}
