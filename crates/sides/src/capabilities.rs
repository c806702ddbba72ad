//! What a side can do, a trait a capability.
//!
//! Most of it has an answer for sides that cannot: no change is told, no stub is held, no digest is given. So a side says
//! just what it can, and a side that can only be read refuses what [`Stages`], [`Places`] and [`crate::Shelves`] would change.

use std::collections::{BTreeMap, HashSet};

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::StreamExt as _;
use futures_util::future::join_all;
use katabatic_core::blocks::{Grain, Stretch};
use katabatic_core::known_root::KnownRoot;
use katabatic_core::{Entry, Kind, RelPath, Stamp};
use tokio::sync::mpsc;

use crate::{
    Arrived, Captured, Changes, Checked, Content, FolderGone, Found, NewStub, Outcome, Patch,
    Placing, Put, Sha256, SharedFolder, Shortcomings, SideError, Source, Staged, Steps, Swapped,
    Undone, Verified, Whereabouts,
};

/// What a side shows: its root, what lies in it, and whether a listing can be believed.
#[async_trait]
pub trait Lists: Send + Sync {
    /// How the root is recognised again, after making sure that it is there.
    async fn root(&self) -> Result<KnownRoot, SideError>;

    /// Sends everything below the root in tree order. After an error nothing that was sent may be used.
    async fn scan(&self, found: mpsc::Sender<Found>) -> Result<(), SideError>;

    /// The names that a listing of one folder shows.
    async fn names(&self, folder: &RelPath) -> Result<Vec<String>, SideError>;

    /// A direct look at one path.
    async fn look(&self, path: &RelPath) -> Result<Option<Entry>, SideError>;

    /// As [`Lists::look`], for what the side has just said to have made: where it shows that only later, it is waited for.
    ///
    /// # Errors
    /// As [`Lists::look`].
    async fn look_for_ours(&self, path: &RelPath) -> Result<Option<Entry>, SideError> {
        self.look(path).await
    }

    /// Whether something may be at a path without ever being listed.
    fn may_hide(&self, _path: &RelPath) -> bool {
        false
    }
}

/// What changed since a side was looked at, for those that tell.
#[async_trait]
pub trait TellsChanges: Send + Sync {
    /// What stands for how everything below the root is now, where this side can tell later what changed since.
    async fn token(&self) -> Result<Option<String>, SideError> {
        Ok(None)
    }

    /// What changed since a token; none where that cannot be told any more, and everything has to be listed.
    async fn changes_since(&self, _token: &str) -> Result<Option<Changes>, SideError> {
        Ok(None)
    }
}

/// Content, and what a side tells of it without sending it.
#[async_trait]
pub trait Reads: Send + Sync {
    /// Opens the version that `seen` describes, for reading from this byte on.
    async fn read_from(&self, path: &RelPath, seen: &Entry, from: u64)
    -> Result<Source, SideError>;

    /// Opens the version that `seen` describes, for reading.
    async fn read(&self, path: &RelPath, seen: &Entry) -> Result<Source, SideError> {
        self.read_from(path, seen, 0).await
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

    /// Keeps a copy of the file at a path as it is at one moment, so that what is written meanwhile does not show in it,
    /// where that costs no room. The version that it answers is read from the copy from now on, by every read of this
    /// path, until [`Reads::thaw`]. None where there is no such way.
    async fn freeze(&self, _path: &RelPath) -> Result<Option<Entry>, SideError> {
        Ok(None)
    }

    /// Gives up all that was frozen.
    async fn thaw(&self) {}

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
}

/// What a stamp and a handle are worth as evidence that a file is the same one, or unchanged.
pub trait Identifies: Send + Sync {
    /// What finds a file again after it was moved, where this side gives anything.
    fn handle(&self, seen: &Entry) -> Option<String>;

    /// Whether a handle is never given to another file.
    fn handles_last(&self) -> bool;

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

/// Bringing content to a side under a name that nobody sees.
#[async_trait]
pub trait Stages: Send + Sync {
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

    /// In what pieces large files are carried; the far side says so for both.
    fn grain(&self) -> Grain {
        Grain::USUAL
    }

    /// Whether a new version can be staged from an old one and what differs.
    fn patches(&self) -> bool {
        false
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

    /// Drops something staged.
    async fn unstage(&self, slot: &str) -> Result<(), SideError>;

    /// Whether something staged is still there.
    async fn is_staged(&self, slot: &str) -> Result<bool, SideError>;

    /// Drops everything in this lane's staging but `keep`; it must not be in use.
    async fn clear_staging(&self, keep: &HashSet<String>) -> Result<(), SideError>;
}

/// What changes under names that others see: taking out, checking, placing, verifying.
#[async_trait]
pub trait Places: Send + Sync {
    /// Whether a new file of this size can get its real name whole or not at all, in one step.
    fn puts_directly(&self, _size: u64) -> bool {
        false
    }

    /// Puts a new file under its real name in one step; none where something has the name.
    async fn put_new(&self, _: Source, _: &RelPath) -> Outcome<Option<Arrived>> {
        let no = SideError::Failed("this side stages every file".into());
        Err(Undone::NotDone(no))
    }

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

    /// Makes a folder; one that is there already is fine.
    async fn make_folder(&self, path: &RelPath) -> Outcome<Put>;

    /// Removes a folder that should be empty; strangers in it keep it. On its way it may lie in the spare.
    async fn remove_folder(&self, path: &RelPath, spare: &str) -> Outcome<FolderGone>;

    /// Renames within the side, if nothing has the new name.
    async fn rename(&self, from: &RelPath, to: &RelPath) -> Outcome<Put>;
}

/// Requests that nobody answered, and that may be done late.
#[async_trait]
pub trait Fences: Send + Sync {
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
    /// As [`Fences::fence_spare`].
    async fn fence_staged(&self, names: &[String], anew: &str)
    -> Result<Option<String>, SideError>;
}

/// Names without content, for sides that can hold them.
#[async_trait]
pub trait HoldsStubs: Send + Sync {
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

    /// Whether what is at a path is a stub whose content is on its way here.
    async fn is_coming(&self, _path: &RelPath) -> bool {
        false
    }

    /// Whether a stub was seen that somebody can read, who reads zeros then.
    fn saw_open_stubs(&self) -> bool {
        false
    }

    /// Takes the rights from every stub that has any; how many had.
    async fn close_open_stubs(&self) -> Result<u64, SideError> {
        Ok(0)
    }
}

/// By what a root is known again, and what other computers left there.
#[async_trait]
pub trait Marks: Send + Sync {
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
}

/// What a side is like, as far as it can tell.
#[async_trait]
pub trait Describes: Send + Sync {
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
}
