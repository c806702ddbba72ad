//! A folder of an SFTP account as a side: SFTP version 3 with what OpenSSH adds to it.
//!
//! Versions are known by length and second alone, which is coarse: what is young is read again. What others may be writing
//! is taken out in one step and looked at in our own room; what is ours gets a name only while nothing else has it.

mod carry;
mod channel;
mod client;
mod far_path;
mod host_check;
mod known_hosts;
mod line;
mod list;
mod open_file;
pub mod probe;
mod refusal;
mod room;
mod sign_in;
mod ssh;
mod ssh_config;
mod survey;
mod transfer;
mod wire;

use std::collections::HashSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};

use async_trait::async_trait;
use katabatic_core::blocks::Stretch;
use katabatic_core::findings::Findings;
use katabatic_core::known_root::KnownRoot;
use katabatic_core::{EditTime, Entry, Kind, RelPath};
use tokio::sync::mpsc;

use crate::capabilities::{
    Describes, Fences, HoldsStubs, Identifies, Lists, Marks, Places, Reads, Stages, TellsChanges,
};
use crate::clock::{Clock, SystemClock};
use crate::net::SFTP;
use crate::net::traffic::MOST;
use crate::proof::Warrant;
use crate::shelves::Shelves;
use crate::side_error::Away;
use crate::{
    Captured, Checked, Content, FolderGone, Found, GivenUp, Outcome, Patch, Put, SideError, Source,
    Staged, Steps, Swapped, Undone, is_own, walk,
};
pub use client::{Connection, SftpClient, SftpShared};
use far_path::Path;
pub use sign_in::{AskStep, WayIn, agent_has_keys, described, is_locked, opens};
pub use ssh::{Reached, configured_user, really, usual_keys};

/// Equal seconds and lengths may hide a change for so long after a version came. Twice the resolution, and what clocks may
/// differ unseen.
const YOUNG: i64 = 4 * list::SECOND;

/// The same where nobody knows how the server's clock stands.
const YOUNG_BY_AN_UNKNOWN_CLOCK: i64 = 120 * list::SECOND;

/// What stands for a clock that is not known.
const UNKNOWN_CLOCK: i64 = i64::MIN;

/// A folder of an account.
#[derive(Clone)]
pub struct SftpSide {
    inner: Arc<Inner>,
}

pub(crate) struct Inner {
    client: SftpClient,
    /// The lane's far folder, below the account's.
    root: RelPath,
    room: room::Room,
    /// How far the server's clock is ahead of ours, in nanoseconds.
    clock_ahead: AtomicI64,
    /// Whether the server's clock was asked for, in which a file of ours is made and removed.
    clock_asked: tokio::sync::OnceCell<()>,
    /// Whether a second name is given only where nothing has it. What nobody has asked is believed of the extension that
    /// says so.
    links: bool,
    /// Whether the server copies within itself, and writes into the middle of a file: then a large file goes on where it was
    /// cut, and one that changed a little goes as the changes.
    patches: bool,
    /// Whether a folder that is not empty keeps its name from every rename; nobody has asked otherwise.
    keeps_names: bool,
}

impl SftpSide {
    /// The folder `root` of the account behind `client`; `computer` names this computer's own room there.
    #[must_use]
    pub fn new(client: SftpClient, root: RelPath, computer: &str, lane_id: &str) -> SftpSide {
        let room = room::Room::new(&root, computer, lane_id);
        SftpSide {
            inner: Arc::new(Inner {
                client,
                root,
                room,
                clock_ahead: AtomicI64::new(UNKNOWN_CLOCK),
                clock_asked: tokio::sync::OnceCell::new(),
                links: true,
                patches: false,
                keeps_names: false,
            }),
        }
    }

    /// The same side, with what the probe found out about its server.
    #[must_use]
    pub fn knowing(self, findings: &Findings) -> SftpSide {
        let Some(found) = &findings.sftp else {
            return self;
        };
        let inner = Arc::try_unwrap(self.inner).map(|mut inner| {
            inner.links = found.links;
            inner.patches = found.copies;
            inner.keeps_names = found.keeps_names;
            inner
        });
        SftpSide {
            inner: inner.map_or_else(|shared| shared, Arc::new),
        }
    }

    /// Where a spare lies, below the account's address.
    ///
    /// # Errors
    /// Where that is no name.
    pub fn spare_at(&self, spare: &str) -> Result<RelPath, SideError> {
        self.inner.room.spare_at(spare)
    }

    /// What a folder holds, in no order.
    ///
    /// # Errors
    /// As [`Lists::look`].
    pub async fn members_of(&self, path: &RelPath) -> Result<Vec<(String, Entry)>, SideError> {
        let folder = list::members(&self.inner, &self.inner.far(path)).await?;
        let names = folder.names.into_iter();
        Ok(names.filter(|(name, _)| !is_own(name)).collect())
    }

    fn far(&self, path: &RelPath) -> Path {
        Path::account(&self.inner.far(path))
    }
}

impl Inner {
    /// The path below the account's address of a path of the lane.
    fn far(&self, path: &RelPath) -> RelPath {
        self.root.joined(path)
    }

    fn learned_clock(&self, ahead: i64) {
        self.clock_ahead.store(ahead, Ordering::Relaxed);
    }

    fn clock(&self) -> Option<i64> {
        match self.clock_ahead.load(Ordering::Relaxed) {
            UNKNOWN_CLOCK => None,
            ahead => Some(ahead),
        }
    }

    /// Has the server's clock read, where it is not known and one of these versions may be young by it. Otherwise what was
    /// changed in the last minutes would be read again by pass after pass.
    async fn ask_clock_for(&self, seen: impl Iterator<Item = &Entry>) {
        let mut files = seen.filter(|entry| entry.kind == Kind::File);
        if self.clock().is_some() || self.client.is_read_only() || !files.any(|e| self.is_young(e))
        {
            return;
        }
        let asked = self.clock_asked.get_or_init(|| async {
            if let Err(why) = transfer::ask_clock(self).await {
                tracing::debug!("how the server's clock stands is not known: {why}");
            }
        });
        asked.await;
    }

    /// Whether another version may come, or have come, within the second that this one bears.
    fn is_young(&self, entry: &Entry) -> bool {
        let Some(EditTime(changed)) = entry.received else {
            return true;
        };
        let now = SystemClock.now().0;
        match self.clock() {
            Some(ahead) => (changed - ahead).abs_diff(now) < YOUNG.unsigned_abs(),
            None => changed.abs_diff(now) < YOUNG_BY_AN_UNKNOWN_CLOCK.unsigned_abs(),
        }
    }
}

#[async_trait]
impl Lists for SftpSide {
    async fn root(&self) -> Result<KnownRoot, SideError> {
        let client = &self.inner.client;
        let root = Path::account(&self.inner.root);
        match list::look(&self.inner, &root).await? {
            Some(entry) if entry.kind == Kind::Folder => {
                let base = client.base().await?;
                let below = String::from_utf8_lossy(&root.full(&base)).into_owned();
                let (host, port) = really(client.host(), client.address().port());
                Ok(KnownRoot::Address(format!("{SFTP}://{host}:{port}{below}")))
            }
            Some(_) => Err(SideError::away(
                Away::NoFolder,
                "it is a file there, not a folder, or a link",
            )),
            None => Err(SideError::away(Away::NoFolder, "the folder is not there")),
        }
    }

    async fn scan(&self, found: mpsc::Sender<Found>) -> Result<(), SideError> {
        walk::walk(
            Arc::new(list::FarLister(Arc::clone(&self.inner))),
            MOST,
            RelPath::root(),
            found,
        )
        .await
    }

    async fn names(&self, folder: &RelPath) -> Result<Vec<String>, SideError> {
        let members = self.members_of(folder).await?;
        Ok(members.into_iter().map(|(name, _)| name).collect())
    }

    async fn look(&self, path: &RelPath) -> Result<Option<Entry>, SideError> {
        list::look(&self.inner, &self.far(path)).await
    }
}

impl TellsChanges for SftpSide {}

#[async_trait]
impl Reads for SftpSide {
    async fn read_from(
        &self,
        path: &RelPath,
        seen: &Entry,
        from: u64,
    ) -> Result<Source, SideError> {
        transfer::read(&self.inner, &self.far(path), seen, from).await
    }
}

impl Identifies for SftpSide {
    fn handle(&self, _: &Entry) -> Option<String> {
        None
    }

    fn handles_last(&self) -> bool {
        false
    }

    fn tags_prove(&self) -> bool {
        false
    }

    fn is_fresh(&self, entry: &Entry) -> bool {
        self.inner.is_young(entry)
    }
}

#[async_trait]
impl Stages for SftpSide {
    async fn stage(
        &self,
        source: Source,
        like: &RelPath,
        steps: &Steps,
    ) -> Result<Staged, SideError> {
        transfer::stage(&self.inner, source, &self.far(like), steps).await
    }

    fn patches(&self) -> bool {
        self.inner.patches
    }

    async fn patch(
        &self,
        path: &RelPath,
        old: &Entry,
        patch: &Patch,
        content: &(dyn Fn(Stretch) -> Content + Send + Sync),
    ) -> Result<Staged, SideError> {
        transfer::patch(&self.inner, &self.inner.far(path), old, patch, content).await
    }

    async fn unstage(&self, slot: &str) -> Result<(), SideError> {
        carry::delete(&self.inner, &self.inner.room.staged(slot)?).await
    }

    async fn is_staged(&self, slot: &str) -> Result<bool, SideError> {
        let staged = self.inner.room.staged(slot)?;
        Ok(list::look(&self.inner, &staged).await?.is_some())
    }

    async fn clear_staging(&self, keep: &HashSet<String>) -> Result<(), SideError> {
        room::clear_staging(&self.inner, keep).await
    }
}

#[async_trait]
impl Places for SftpSide {
    async fn swap(&self, _: &str, _: &RelPath, _: &str) -> Outcome<Swapped> {
        // No request exchanges two names, and one that replaces keeps nothing of what was there.
        Ok(Swapped::Unable)
    }

    async fn swap_back(&self, path: &RelPath, spare: &str) -> Outcome<()> {
        match self.put_back(spare, path).await? {
            Put::Done => Ok(()),
            Put::Taken => Err(Undone::NotDone(SideError::Failed(
                "something else has its name".into(),
            ))),
        }
    }

    async fn capture(&self, path: &RelPath, spare: &str) -> Outcome<Captured> {
        let spare = self.inner.room.spare(spare).map_err(Undone::NotDone)?;
        carry::capture(&self.inner, &self.far(path), &spare).await
    }

    async fn check(&self, spare: &str, expected: &Entry) -> Result<Checked, SideError> {
        let there = list::look(&self.inner, &self.inner.room.spare(spare)?).await?;
        Ok(match there {
            None => Checked::Nothing,
            Some(there) if there.kind != expected.kind => Checked::Other,
            Some(there) if there.kind == Kind::File && !carry::is_version(&there, expected) => {
                Checked::Other
            }
            Some(_) => Checked::Same,
        })
    }

    async fn put_back(&self, spare: &str, path: &RelPath) -> Outcome<Put> {
        let spare = self.inner.room.spare(spare).map_err(Undone::NotDone)?;
        carry::move_new(&self.inner, &spare, &self.far(path)).await
    }

    async fn place(&self, staged: &str, _: &Entry, path: &RelPath) -> Outcome<Put> {
        let staged = self.inner.room.staged(staged).map_err(Undone::NotDone)?;
        carry::move_new(&self.inner, &staged, &self.far(path)).await
    }

    async fn verify(&self, path: &RelPath, staged: &Entry) -> Result<Option<Entry>, SideError> {
        let there = self.look(path).await?;
        Ok(there.filter(|there| carry::is_version(there, staged)))
    }

    async fn make_folder(&self, path: &RelPath) -> Outcome<Put> {
        carry::make_folder(&self.inner, &self.far(path), None).await
    }

    async fn remove_folder(&self, path: &RelPath, _: &str) -> Outcome<FolderGone> {
        carry::remove_folder(&self.inner, &self.inner.far(path)).await
    }

    async fn rename(&self, from: &RelPath, to: &RelPath) -> Outcome<Put> {
        carry::rename(&self.inner, &self.far(from), &self.far(to)).await
    }
}

#[async_trait]
impl Fences for SftpSide {
    fn may_act_late(&self) -> bool {
        true
    }

    fn keeps_names_from_late_requests(&self) -> bool {
        self.inner.keeps_names
    }

    async fn fence_spare(
        &self,
        _: &RelPath,
        _: Kind,
        names: &[String],
        anew: &str,
    ) -> Result<Option<String>, SideError> {
        carry::fence_spare(&self.inner, names, anew).await
    }

    async fn fence_staged(
        &self,
        names: &[String],
        anew: &str,
    ) -> Result<Option<String>, SideError> {
        carry::fence_staged(&self.inner, names, anew).await
    }
}

#[async_trait]
impl Shelves for SftpSide {
    async fn look_at_spare(&self, spare: &str) -> Result<Option<Entry>, SideError> {
        list::look(&self.inner, &self.inner.room.spare(spare)?).await
    }

    async fn shelf(&self) -> Result<Vec<String>, SideError> {
        room::shelf(&self.inner).await
    }

    async fn is_empty_spare(&self, spare: &str) -> Result<bool, SideError> {
        let at = self.inner.room.spare(spare)?;
        let there = list::look(&self.inner, &at).await?;
        Ok(there.is_some_and(|there| there.kind == Kind::Folder)
            && !matches!(room::stands(&self.inner, &at).await?, room::Kept::Something))
    }

    async fn read_spare(&self, spare: &str) -> Result<Source, SideError> {
        let at = self.inner.room.spare(spare)?;
        let seen = list::look(&self.inner, &at).await?;
        transfer::read(&self.inner, &at, &seen.ok_or(SideError::Missing)?, 0).await
    }

    async fn give_up(&self, spare: &str, warrant: Warrant) -> Result<GivenUp, SideError> {
        let at = self.inner.room.spare(spare)?;
        carry::give_up(&self.inner, &at, &warrant).await
    }
}

impl HoldsStubs for SftpSide {}

#[async_trait]
impl Marks for SftpSide {
    async fn mark_root(&self) -> Result<(), SideError> {
        room::make_ready(&self.inner).await
    }

    async fn is_marked(&self) -> Result<bool, SideError> {
        let lane = self.inner.room.lane();
        Ok(list::look(&self.inner, &lane).await?.is_some())
    }

    async fn other_computers(&self) -> Vec<String> {
        let others = room::other_computers(&self.inner).await;
        others.unwrap_or_else(|why| {
            tracing::debug!("which computers have a room there could not be asked: {why}");
            Vec::new()
        })
    }
}

#[async_trait]
impl Describes for SftpSide {
    fn is_read_only(&self) -> bool {
        self.inner.client.is_read_only()
    }

    fn clock_ahead(&self) -> Option<i64> {
        self.inner.clock()
    }

    async fn free(&self) -> Option<u64> {
        let space = self.inner.client.space().await;
        space.ok().flatten().map(|(_, free)| free)
    }
}
