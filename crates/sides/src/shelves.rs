//! What a side can do with what was taken out: the one capability that destroys, and so takes a [`Warrant`].

use std::path::PathBuf;

use async_trait::async_trait;
use katabatic_core::Entry;

use crate::proof::Warrant;
use crate::{GivenUp, SideError, Source};

/// What was taken out, and lies on the shelf.
#[async_trait]
pub trait Shelves: Send + Sync {
    /// What is in a spare.
    async fn look_at_spare(&self, spare: &str) -> Result<Option<Entry>, SideError>;

    /// Where a spare lies on this computer, for as long as the side is open; none where it lies elsewhere.
    fn spare_here(&self, _spare: &str) -> Option<PathBuf> {
        None
    }

    /// The names of all that lies on the shelf of spares.
    ///
    /// # Errors
    /// Where it cannot be listed whole.
    async fn shelf(&self) -> Result<Vec<String>, SideError>;

    /// Whether a folder on the shelf has nothing in it, for sure.
    async fn is_empty_spare(&self, spare: &str) -> Result<bool, SideError>;

    /// Opens a spare for reading.
    async fn read_spare(&self, spare: &str) -> Result<Source, SideError>;

    /// Gives up what lies in a spare, for good: only if it is what the warrant is about, and nobody can write into it any
    /// more. What is not there is given up already.
    async fn give_up(&self, spare: &str, warrant: Warrant) -> Result<GivenUp, SideError>;
}
