//! A side of a lane: a local folder or a folder of an account, behind one trait.
//!
//! The trait is cut along the one primitive of carrying: stage, capture, check, place, verify. A side offers the
//! steps and says honestly how each ended; [`crate::pass`] alone puts them together.

pub mod local;
pub mod walk;
pub mod webdav;

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::stream::BoxStream;
use katabatic_core::{Digest, EditTime, Entry, Listing, RelPath};
use tokio::sync::mpsc;

use crate::net::Distrust;

/// Why a side could not do what it was asked.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SideError {
    /// The whole side is not there: an unplugged drive, a server that does not answer.
    #[error("{0}")]
    NotThere(String),
    /// The account refused: sign-in or trust.
    #[error("{0}")]
    Refused(String),
    /// The server's certificate is not trusted; nothing was sent to it.
    #[error("{0}")]
    Untrusted(Box<Distrust>),
    /// Nothing is at the path.
    #[error("it is not there any more")]
    Missing,
    /// Something else than expected is at the path.
    #[error("{0}")]
    Changed(String),
    /// The side asks to come again later, or a line was cut; trying again is harmless.
    #[error("{0}")]
    TryAgain(String),
    /// It failed, and how things stand now is known.
    #[error("{0}")]
    Failed(String),
    /// It failed, and whether it was done cannot be told now.
    #[error("{0}")]
    Unsure(String),
    /// There is no room left.
    #[error("{0}")]
    Full(String),
    /// Somebody asked to stop.
    #[error("stopped")]
    Stopped,
}

impl SideError {
    /// Whether going on with other files makes no sense.
    #[must_use]
    pub fn ends_the_pass(&self) -> bool {
        matches!(
            self,
            SideError::NotThere(_)
                | SideError::Refused(_)
                | SideError::Untrusted(_)
                | SideError::Stopped
        )
    }
}

/// A stream of content; an error in it means that nothing of it may be used.
pub type Content = BoxStream<'static, Result<Bytes, SideError>>;

/// A file that is being read: its content ends with an error where it was not the version that was asked for.
pub struct Source {
    /// Length in bytes.
    pub size: u64,
    /// When it was edited, where the side knows.
    pub edited: Option<EditTime>,
    /// The content.
    pub content: Content,
}

/// Content that arrived whole on a side, under a name of its own.
#[derive(Clone, Debug)]
pub struct Staged {
    /// Its name in the side's staging.
    pub slot: String,
    /// The version, as this side sees it.
    pub entry: Entry,
    /// BLAKE3 of what went through our hands.
    pub digest: Digest,
}

/// How a capture ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Captured {
    /// What was at the path is in the spare now.
    Taken,
    /// Nothing was there.
    Nothing,
}

/// How a placing, a putting back or a making ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Put {
    /// It is there.
    Done,
    /// Something else has the name; it was not touched.
    Taken,
}

/// What a captured version turned out to be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Checked {
    /// The expected version.
    Same,
    /// Another one.
    Other,
    /// The spare is empty.
    Nothing,
}

/// How the removal of a folder ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum FolderGone {
    /// It is gone.
    Gone,
    /// Something is in it; it stays (or was put back).
    Kept(Vec<String>),
}

/// How a swap ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Swapped {
    /// The new version is in place and the old one in the spare, in one step.
    Done,
    /// This side cannot do it in one step.
    Unable,
    /// Nothing was at the path to swap with.
    Nothing,
}

/// Something a scan came across that can never be in a lane.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unusable {
    /// The name as far as it can be shown.
    pub shown: String,
    /// Why it is left out.
    pub why: String,
}

/// What a scan sends.
#[derive(Debug)]
pub enum Found {
    /// Whether the root itself was listed whole; comes first.
    Root(Listing),
    /// Something at a path, in tree order.
    Entry(RelPath, Entry),
    /// A name that no path can be made of.
    Unusable(Unusable),
}

/// One side of a lane.
#[async_trait]
pub trait SideStore: Send + Sync {
    /// How the root is recognised again, after making sure that it is there.
    async fn root(&self) -> Result<String, SideError>;

    /// Sends everything below the root in tree order. After an error nothing that was sent may be used.
    async fn scan(&self, found: mpsc::Sender<Found>) -> Result<(), SideError>;

    /// The names that a listing of one folder shows.
    async fn names(&self, folder: &RelPath) -> Result<Vec<String>, SideError>;

    /// A direct look at one path.
    async fn look(&self, path: &RelPath) -> Result<Option<Entry>, SideError>;

    /// Opens the version that `seen` describes, for reading.
    async fn read(&self, path: &RelPath, seen: &Entry) -> Result<Source, SideError>;

    /// Takes content whole into the staging, durably; `like` is the path whose owner and rights a file takes over.
    async fn stage(&self, source: Source, like: &RelPath) -> Result<Staged, SideError>;

    /// Drops something staged.
    async fn unstage(&self, slot: &str) -> Result<(), SideError>;

    /// Whether something staged is still there.
    async fn is_staged(&self, slot: &str) -> Result<bool, SideError>;

    /// Drops everything in this lane's staging, which must not be in use.
    async fn clear_staging(&self) -> Result<(), SideError>;

    /// Puts the staged file in place and what was there into the spare, in one step, where the side can.
    async fn swap(&self, staged: &str, path: &RelPath, spare: &str) -> Result<Swapped, SideError>;

    /// The reverse of a swap: what is in the spare goes back in place. What comes out is in the spare afterwards.
    async fn swap_back(&self, path: &RelPath, spare: &str) -> Result<(), SideError>;

    /// Moves what is at the path, whole, into the spare.
    async fn capture(&self, path: &RelPath, spare: &str) -> Result<Captured, SideError>;

    /// Whether a spare holds this version.
    async fn check(&self, spare: &str, expected: &Entry) -> Result<Checked, SideError>;

    /// Moves a spare back to the path, if nothing is there.
    async fn put_back(&self, spare: &str, path: &RelPath) -> Result<Put, SideError>;

    /// Moves the staged file to the path, if nothing is there.
    async fn place(&self, staged: &str, version: &Entry, path: &RelPath) -> Result<Put, SideError>;

    /// What is at the path, where that is the version that was staged.
    async fn verify(&self, path: &RelPath, staged: &Entry) -> Result<Option<Entry>, SideError>;

    /// What is in a spare.
    async fn look_at_spare(&self, spare: &str) -> Result<Option<Entry>, SideError>;

    /// Opens a spare for reading.
    async fn read_spare(&self, spare: &str) -> Result<Source, SideError>;

    /// Drops a spare for good.
    async fn drop_spare(&self, spare: &str) -> Result<(), SideError>;

    /// Makes a folder; one that is there already is fine.
    async fn make_folder(&self, path: &RelPath) -> Result<Put, SideError>;

    /// Removes a folder that should be empty; strangers in it keep it.
    async fn remove_folder(&self, path: &RelPath, spare: &str) -> Result<FolderGone, SideError>;

    /// Renames within the side, if nothing has the new name.
    async fn rename(&self, from: &RelPath, to: &RelPath) -> Result<Put, SideError>;

    /// Whether a stamp seen just now may still hide a change made right after it, so that it must be looked at again.
    fn is_fresh(&self, entry: &Entry) -> bool;
}

/// The name of the tool's own folder on a side; every lane leaves it out, at every depth.
pub const OWN_FOLDER: &str = ".katabatic";

/// Names at the top of an account that begin so hold what a test of the account writes, for a moment.
pub const TEST_FOLDER: &str = ".katabatic-test-";

/// Whether a name is the tool's own, which every lane leaves out.
#[must_use]
pub fn is_own(name: &str) -> bool {
    name == OWN_FOLDER || name.starts_with(TEST_FOLDER)
}
