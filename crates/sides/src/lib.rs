//! A side of a lane: a local folder or a folder of an account, behind one trait.
//!
//! The trait is cut along the one primitive of carrying: stage, capture, check, place, verify. A side offers the
//! steps and says honestly how each ended; a pass alone puts them together.

#![forbid(unsafe_code)]

pub mod account;
pub mod away;
pub mod capabilities;
pub mod certificate;
pub mod clock;
pub mod digest;
pub mod distrust;
pub mod effort;
pub mod explain;
pub mod host_key;
pub mod local;
pub mod net;
pub mod private_files;
pub mod probe;
pub mod proof;
pub mod secret;
pub mod sftp;
pub mod shelves;
pub mod side_error;
pub mod side_store;
pub mod stop;
pub mod survey;
pub mod walk;
pub mod webdav;

pub use capabilities::{
    Describes, Fences, HoldsStubs, Identifies, Lists, Marks, Places, Reads, Stages, TellsChanges,
};
pub use shelves::Shelves;
pub use side_store::SideStore;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use bytes::Bytes;
use futures_util::stream::BoxStream;
use katabatic_core::blocks::{Grain, Stretch};
use katabatic_core::{Digest, EditTime, Entry, Listing, RelPath};

pub use crate::side_error::SideError;
pub use katabatic_core::partial::Partial;

/// How a request ended that changes something under a name which others may see: done, [not done](Undone::NotDone), or
/// [unsure](Undone::Unsure).
pub type Outcome<T> = Result<T, Undone>;

/// Why a request that changes something is not known to be done.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Undone {
    /// It was not done and never will be: the side itself said so, or nothing was sent.
    #[error("{0}")]
    NotDone(SideError),
    /// It may have been done, or may still be, at any later time: an answer got lost, a line was cut, something on the way
    /// answered in the server's place, or the disk failed right after it.
    #[error("{0}")]
    Unsure(SideError),
}

impl Undone {
    /// What went wrong, for whoever only tells it, since nothing of theirs depends on whether it was done.
    #[must_use]
    pub fn told(self) -> SideError {
        match self {
            Undone::NotDone(error) | Undone::Unsure(error) => error,
        }
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
    /// How many bytes at the beginning are left out, because they have arrived before.
    pub from: u64,
    /// The SHA-256 of the whole, where the side gives one and has not checked it itself.
    pub announced: Option<Vec<u8>>,
    /// The content.
    pub content: Content,
}

/// So many bytes of a large file are a step: what has arrived of it is kept whatever happens to the rest.
pub const STEP: u64 = Grain::USUAL.step;

/// What is told how far a staging has come; nothing where it is begun anew.
pub type NoteStep = Arc<dyn Fn(Option<Partial>) + Send + Sync>;

/// Where the progress of a staging comes from, and where it goes.
#[derive(Clone)]
pub struct Steps {
    /// How far an earlier attempt came with this very version.
    pub known: Option<Partial>,
    /// What is told of each step.
    pub note: NoteStep,
}

impl Steps {
    /// Nothing is known and nothing is kept.
    #[must_use]
    pub fn unkept() -> Steps {
        Steps {
            known: None,
            note: Arc::new(drop),
        }
    }
}

/// What a new version of a large file changes in the old one; no shorter than the old one is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Patch {
    /// Length of the new version.
    pub size: u64,
    /// When it was edited, where that is known.
    pub edited: Option<EditTime>,
    /// BLAKE3 of the new version.
    pub digest: Digest,
    /// What differs, in order.
    pub ranges: Vec<Stretch>,
}

/// A file that arrived under its real name in one step.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Arrived {
    /// The version; without a stamp where the side said nothing of it.
    pub entry: Entry,
    /// Whether the side said itself which version that is.
    pub told: bool,
    /// BLAKE3 of what went through our hands.
    pub digest: Digest,
}

/// Something staged and the name it is to get.
#[derive(Clone, Debug)]
pub struct Placing {
    /// Its name in the staging.
    pub slot: String,
    /// The version that was staged.
    pub version: Entry,
    /// The name.
    pub path: RelPath,
}

/// A version that stands in its place.
#[derive(Clone, Debug)]
pub struct Verified {
    /// What stands there.
    pub entry: Entry,
    /// Whether a listing of its folder showed it.
    pub listed: bool,
}

/// What changed on a side since a token.
#[derive(Debug, Default)]
pub struct Changes {
    /// What is at a path now; none where it was removed, and with it all that was below.
    pub changed: BTreeMap<RelPath, Option<Entry>>,
    /// Folders that came or were replaced: what is below each now is in `changed`, and nothing else is.
    pub folders: BTreeSet<RelPath>,
    /// What stands for how things are now.
    pub token: String,
}

/// Content that arrived whole on a side, under a name of its own.
#[derive(Clone, Debug)]
pub struct Staged {
    /// Its name in the side's staging.
    pub slot: String,
    /// The version, as this side sees it.
    pub entry: Entry,
    /// BLAKE3 of what went through our hands; of a stub, of what it stands for, where that is known.
    pub digest: Option<Digest>,
}

/// A stub that is to be made.
#[derive(Clone, Debug)]
pub struct NewStub {
    /// The path it is for.
    pub path: RelPath,
    /// The size that it shows, in bytes; not 0.
    pub size: u64,
    /// The date that it shows.
    pub edited: Option<EditTime>,
    /// Whether it takes the place of the file at its path, whose owner and rights are to come back with the content.
    pub in_place: bool,
    /// BLAKE3 of what it stands for, where that is known.
    pub content: Option<Digest>,
}

/// Where a stub is that is not at its path any more.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Whereabouts {
    /// Nowhere: its last name was removed.
    Gone,
    /// At another name, in the lane or outside of it; or nobody can tell.
    Elsewhere,
}

/// The SHA-256 of a content, by which servers tell what they hold (RFC 9530).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Sha256(pub [u8; 32]);

impl Sha256 {
    /// From its 32 bytes.
    #[must_use]
    pub fn from_slice(bytes: &[u8]) -> Option<Sha256> {
        bytes.try_into().ok().map(Sha256)
    }
}

/// What became of a copy that was to be given up.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum GivenUp {
    /// It is gone for good.
    Gone,
    /// It is there still.
    Kept(WhyKept),
}

/// Why a copy was not given up after all.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum WhyKept {
    /// A program has it open, and may write into it yet.
    Open,
    /// Whether a program has it open cannot be told on this file system.
    CannotTell(String),
    /// It holds something else than what it was given up for.
    OtherContent,
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
    /// It is gone from its place, and lies in the spare: this side may not show all that is in it.
    InSpare,
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
    /// The folder at this path holds a folder of the tool's own, which is of no lane: of this one, or of another whose
    /// side it is.
    Own(RelPath),
}

/// A folder at the root of a side that belongs to somebody else.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SharedFolder {
    /// Its name.
    pub name: String,
    /// Who owns it, as the server calls them.
    pub owner: String,
    /// Whether one may write there, where the server says so.
    pub may_write: Option<bool>,
}

/// What a side lacks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shortcomings {
    /// The place, and what it is: `/media/stick (exfat)`.
    pub place: String,
    /// What it lacks and what is done instead, a sentence each.
    pub said: Vec<String>,
}

/// The name of the tool's own folder on a side; every lane leaves it out, at every depth.
pub const OWN_FOLDER: &str = ".katabatic";

/// How its name begins where somebody else has the usual one; so do the others of the tool's own names.
pub const OTHER_OWN_FOLDER: &str = ".katabatic-";

/// What the folder is called where a server takes no name that begins with a dot.
pub const DOTLESS_OWN_FOLDER: &str = "katabatic.own";

/// Names at the top of an account that begin so hold what a test of the account writes, for a moment; the second where a
/// server takes no name that begins with a dot.
pub const TEST_FOLDERS: [&str; 2] = [".katabatic-test-", "katabatic.test-"];

/// Names that begin so hold a near folder that is on its way to another disk.
pub const MOVING_FOLDER: &str = ".katabatic-moving-";

/// Whether a name is the tool's own, which every lane leaves out.
#[must_use]
pub fn is_own(name: &str) -> bool {
    let [_, dotless_test] = TEST_FOLDERS;
    name == OWN_FOLDER
        || name.starts_with(OTHER_OWN_FOLDER)
        || name == DOTLESS_OWN_FOLDER
        || name.starts_with(dotless_test)
}
