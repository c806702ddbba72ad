//! A side of a lane: a local folder or a folder of an account, behind one trait.
//!
//! The trait is cut along the one primitive of carrying: stage, capture, check, place, verify. A side offers the
//! steps and says honestly how each ended; a pass alone puts them together.

#![forbid(unsafe_code)]

pub mod away;
pub mod certificate;
pub mod clock;
pub mod digest;
pub mod effort;
pub mod explain;
pub mod local;
pub mod net;
pub mod private_files;
pub mod probe;
pub mod proof;
pub mod secret;
pub mod side_error;
pub mod stop;
pub mod walk;
pub mod webdav;

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::path::PathBuf;
use std::sync::Arc;

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::StreamExt;
use futures_util::future::join_all;
use futures_util::stream::BoxStream;
use katabatic_core::blocks::{Grain, Stretch};
use katabatic_core::{Digest, EditTime, Entry, Kind, Listing, RelPath, Stamp};
use tokio::sync::mpsc;

use crate::proof::Warrant;
pub use crate::side_error::SideError;
use katabatic_core::known_root::KnownRoot;
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

/// One side of a lane.
#[async_trait]
pub trait SideStore: Send + Sync {
    /// How the root is recognised again, after making sure that it is there.
    async fn root(&self) -> Result<KnownRoot, SideError>;

    /// Sends everything below the root in tree order. After an error nothing that was sent may be used.
    async fn scan(&self, found: mpsc::Sender<Found>) -> Result<(), SideError>;

    /// What stands for how everything below the root is now, where this side can tell later what changed since.
    async fn token(&self) -> Result<Option<String>, SideError> {
        Ok(None)
    }

    /// What changed since a token; none where that cannot be told any more, and everything has to be listed.
    async fn changes_since(&self, _token: &str) -> Result<Option<Changes>, SideError> {
        Ok(None)
    }

    /// The names that a listing of one folder shows.
    async fn names(&self, folder: &RelPath) -> Result<Vec<String>, SideError>;

    /// A direct look at one path.
    async fn look(&self, path: &RelPath) -> Result<Option<Entry>, SideError>;

    /// Opens the version that `seen` describes, for reading from this byte on.
    async fn read_from(&self, path: &RelPath, seen: &Entry, from: u64)
    -> Result<Source, SideError>;

    /// Opens the version that `seen` describes, for reading.
    async fn read(&self, path: &RelPath, seen: &Entry) -> Result<Source, SideError> {
        self.read_from(path, seen, 0).await
    }

    /// Takes content whole into the staging, durably; `like` is the path whose owner and rights a file takes over.
    async fn stage(
        &self,
        source: Source,
        like: &RelPath,
        steps: &Steps,
    ) -> Result<Staged, SideError>;

    /// Whether a staging that was cut can go on from where the side itself has kept it, so that the source need not be
    /// read again from its beginning.
    fn wants_the_rest_only(&self) -> bool {
        false
    }

    /// Whether a new file of this size can get its real name whole or not at all, in one step.
    fn puts_directly(&self, _size: u64) -> bool {
        false
    }

    /// Puts a new file under its real name in one step; none where something has the name.
    async fn put_new(&self, _: Source, _: &RelPath) -> Outcome<Option<Arrived>> {
        let no = SideError::Failed("this side stages every file".into());
        Err(Undone::NotDone(no))
    }

    /// In what pieces large files are carried; the far side says so for both.
    fn grain(&self) -> Grain {
        Grain::USUAL
    }

    /// Whether a new version can be staged from an old one and what differs.
    fn patches(&self) -> bool {
        false
    }

    /// Reads a part of the version that `seen` describes.
    async fn read_part(
        &self,
        path: &RelPath,
        seen: &Entry,
        part: Stretch,
    ) -> Result<Bytes, SideError> {
        let mut source = self.read_from(path, seen, part.from).await?;
        // Where the whole came though a part was asked for, what is before it is passed over.
        let mut before = part.from.saturating_sub(source.from);
        let mut read = Vec::with_capacity(usize::try_from(part.length).unwrap_or_default());
        while (read.len() as u64) < part.length {
            let Some(chunk) = source.content.next().await else {
                break;
            };
            let chunk = chunk?;
            let skipped = before.min(chunk.len() as u64);
            before -= skipped;
            let left = part.length - read.len() as u64;
            let rest = &chunk[usize::try_from(skipped).unwrap_or(chunk.len())..];
            let taken = left.min(rest.len() as u64);
            read.extend_from_slice(&rest[..usize::try_from(taken).unwrap_or(rest.len())]);
        }
        Ok(read.into())
    }

    /// Whether this side tells the digest of a file without sending it.
    fn gives_digests(&self) -> bool {
        false
    }

    /// The digest that this side tells of the version that `seen` describes; none where it tells none.
    async fn digest_there(&self, _: &RelPath, _: &Entry) -> Result<Option<Sha256>, SideError> {
        Ok(None)
    }

    /// The digests of all files of a folder, by name, each with the stamp of its version; nothing where this side tells
    /// none in a listing.
    async fn digests_in(
        &self,
        _folder: &RelPath,
    ) -> Result<BTreeMap<String, (Stamp, Sha256)>, SideError> {
        Ok(BTreeMap::new())
    }

    /// Stages a new version from `old`, which stands at the path, and what differs; `content` is asked for each part.
    async fn patch(
        &self,
        _path: &RelPath,
        _old: &Entry,
        _patch: &Patch,
        _content: &(dyn Fn(Stretch) -> Content + Send + Sync),
    ) -> Result<Staged, SideError> {
        Err(SideError::Failed(
            "this side stages every file whole".into(),
        ))
    }

    /// Whether this side can hold stubs, and if not, why.
    async fn holds_stubs(&self) -> Result<(), String> {
        Err("only a folder of this computer can hold stubs".into())
    }

    /// Stages stubs, durably; an answer each.
    async fn stage_stubs(&self, stubs: &[NewStub]) -> Vec<Result<Staged, SideError>> {
        let no = || SideError::Failed("this side holds no stubs".into());
        stubs.iter().map(|_| Err(no())).collect()
    }

    /// Where the stub of this stamp is, which is not at its path any more.
    async fn stub_whereabouts(&self, _stamp: &Stamp) -> Result<Whereabouts, SideError> {
        Ok(Whereabouts::Elsewhere)
    }

    /// Gives up what is kept of every stub but those that these handles find.
    async fn keep_only_stubs(&self, _keep: &HashSet<String>) -> Result<(), SideError> {
        Ok(())
    }

    /// Gives up what was kept of a stub that is gone.
    async fn forget_stub(&self, _stamp: &Stamp) -> Result<(), SideError> {
        Ok(())
    }

    /// Drops something staged.
    async fn unstage(&self, slot: &str) -> Result<(), SideError>;

    /// Whether something staged is still there.
    async fn is_staged(&self, slot: &str) -> Result<bool, SideError>;

    /// Drops everything in this lane's staging but `keep`; it must not be in use.
    async fn clear_staging(&self, keep: &HashSet<String>) -> Result<(), SideError>;

    /// Whether a replacement may be an exchange, in which what was staged lies on the spares' shelf for a moment.
    fn exchanges(&self) -> bool {
        false
    }

    /// Puts the staged file in place and what was there into the spare, in one step, where the side can.
    async fn swap(&self, staged: &str, path: &RelPath, spare: &str) -> Outcome<Swapped>;

    /// The reverse of a swap: what is in the spare goes back in place. What comes out is in the spare afterwards.
    async fn swap_back(&self, path: &RelPath, spare: &str) -> Outcome<()>;

    /// Moves what is at the path, whole, into the spare.
    async fn capture(&self, path: &RelPath, spare: &str) -> Outcome<Captured>;

    /// Whether a spare holds this version.
    async fn check(&self, spare: &str, expected: &Entry) -> Result<Checked, SideError>;

    /// Moves a spare back to the path, if nothing is there.
    async fn put_back(&self, spare: &str, path: &RelPath) -> Outcome<Put>;

    /// Moves the staged file to the path, if nothing is there.
    async fn place(&self, staged: &str, version: &Entry, path: &RelPath) -> Outcome<Put>;

    /// What is at the path, where that is the version that was staged.
    async fn verify(&self, path: &RelPath, staged: &Entry) -> Result<Option<Entry>, SideError>;

    /// Moves staged files to their names, each if nothing is there.
    async fn place_all(&self, placings: &[Placing]) -> Vec<Outcome<Put>> {
        let one = |placing: &Placing| {
            let Placing {
                slot,
                version,
                path,
            } = placing.clone();
            async move { self.place(&slot, &version, &path).await }
        };
        join_all(placings.iter().map(one)).await
    }

    /// What is at the names now, each where that is the version that was staged.
    async fn verify_all(&self, placings: &[Placing]) -> Vec<Result<Option<Verified>, SideError>> {
        let one = |placing: &Placing| {
            let Placing { version, path, .. } = placing.clone();
            async move {
                let found = self.verify(&path, &version).await?;
                Ok(found.map(|entry| Verified {
                    entry,
                    listed: false,
                }))
            }
        };
        join_all(placings.iter().map(one)).await
    }

    /// Whether a request may be carried out after whoever asked for it has given up waiting.
    fn may_act_late(&self) -> bool {
        false
    }

    /// Whether a name on the shelf can be kept from a request that comes late; where it cannot, only time tells.
    fn keeps_names_from_late_requests(&self) -> bool {
        true
    }

    /// Makes sure that no request that was sent before moves anything into a spare any more, or out of it: neither a
    /// capture of `path` under the first of these names, nor a putting back of what lies under any of them. Where
    /// it is afterwards: under `anew`, if requests may come late; none where nothing is there, and nothing will be.
    ///
    /// An empty folder in a spare counts as nothing, unless one of this kind is expected there and may not show all that
    /// is in it: it may be what keeps the name from a late request.
    ///
    /// # Errors
    /// Where that cannot be made sure now. Then nothing may be done at the path.
    async fn fence_spare(
        &self,
        path: &RelPath,
        expected: Kind,
        names: &[String],
        anew: &str,
    ) -> Result<Option<String>, SideError>;

    /// The same for what was staged, under any of these names: no placing that was asked for before is done any more.
    ///
    /// # Errors
    /// As [`SideStore::fence_spare`].
    async fn fence_staged(&self, names: &[String], anew: &str)
    -> Result<Option<String>, SideError>;

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

    /// Makes a folder; one that is there already is fine.
    async fn make_folder(&self, path: &RelPath) -> Outcome<Put>;

    /// Removes a folder that should be empty; strangers in it keep it. On its way it may lie in the spare.
    async fn remove_folder(&self, path: &RelPath, spare: &str) -> Outcome<FolderGone>;

    /// Renames within the side, if nothing has the new name.
    async fn rename(&self, from: &RelPath, to: &RelPath) -> Outcome<Put>;

    /// Whether something may be at a path without ever being listed.
    fn may_hide(&self, _path: &RelPath) -> bool {
        false
    }

    /// What finds a file again after it was moved, where this side gives anything.
    fn handle(&self, seen: &Entry) -> Option<String>;

    /// Whether a handle is never given to another file.
    fn handles_last(&self) -> bool;

    /// Gives the root a mark of this lane, by which it is recognised later.
    async fn mark_root(&self) -> Result<(), SideError>;

    /// Notes a number at the root with the pass that ends; whether the root holds it now.
    async fn note_pass(&self, _number: u64) -> bool {
        false
    }

    /// The number that was noted last.
    async fn noted_pass(&self) -> Option<u64> {
        None
    }

    /// Whether the root bears the mark of this lane.
    async fn is_marked(&self) -> Result<bool, SideError>;

    /// Other computers that have a room of their own at this root, where the side can tell.
    async fn other_computers(&self) -> Vec<String> {
        Vec::new()
    }

    /// The folders at the root that others share with this account, where the side can tell.
    async fn shared(&self) -> Vec<SharedFolder> {
        Vec::new()
    }

    /// What this side lacks of what a usual disk has, and what is done instead.
    async fn shortcomings(&self) -> Option<Shortcomings> {
        None
    }

    /// Whether nothing can be written on this side, as far as is known.
    fn is_read_only(&self) -> bool {
        false
    }

    /// Whether another software answers now than the one that was found out about.
    fn software_changed(&self) -> bool {
        false
    }

    /// How far this side's clock was ahead of ours when it last answered, in nanoseconds, where it has one of its own.
    fn clock_ahead(&self) -> Option<i64> {
        None
    }

    /// Bytes that are free on this side, where it can tell.
    async fn free(&self) -> Option<u64> {
        None
    }

    /// Whether a stamp that is equal tells that nobody changed a file by way of this side: what a change is seen by.
    fn tags_prove(&self) -> bool;

    /// Whether a stamp is evidence of the content as well: it belongs to one version of one file alone, and is not made
    /// of times and sizes, which others can have.
    fn tags_are_evidence(&self) -> bool {
        false
    }

    /// Whether a new stamp may well stand for the same content, so that only reading tells.
    fn stamps_change_alone(&self) -> bool {
        false
    }

    /// Whether a stamp seen just now may still hide a change made right after it, so that it must be looked at again.
    fn is_fresh(&self, entry: &Entry) -> bool;
}

/// The name of the tool's own folder on a side; every lane leaves it out, at every depth.
pub const OWN_FOLDER: &str = ".katabatic";

/// How its name begins where somebody else has the usual one; so do the others of the tool's own names.
pub const OTHER_OWN_FOLDER: &str = ".katabatic-";

/// Names at the top of an account that begin so hold what a test of the account writes, for a moment.
pub const TEST_FOLDER: &str = ".katabatic-test-";

/// Names that begin so hold a near folder that is on its way to another disk.
pub const MOVING_FOLDER: &str = ".katabatic-moving-";

/// Whether a name is the tool's own, which every lane leaves out.
#[must_use]
pub fn is_own(name: &str) -> bool {
    name == OWN_FOLDER || name.starts_with(OTHER_OWN_FOLDER)
}
