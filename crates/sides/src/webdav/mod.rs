//! A folder of a WebDAV account as a side (RFC 4918).
//!
//! No condition of a server is taken as atomic. What arrives is staged under a name of its own and read back there,
//! so that only our own content is ever recorded as ours; what is replaced or removed is moved to the spares first
//! and looked at there, where nobody else writes.

mod carry;
mod changes;
pub(crate) mod client;
mod download;
mod entry;
pub(crate) mod knock;
mod list;
mod multistatus;
mod room;
pub mod survey;
mod told;
mod upload;
mod ways;
mod whole_tree;

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use crate::capabilities::{
    Describes, Fences, HoldsStubs, Identifies, Lists, Marks, Places, Reads, Stages, TellsChanges,
};
use crate::shelves::Shelves;
use async_trait::async_trait;
use bytes::Bytes;
use katabatic_core::blocks::Stretch;
use katabatic_core::{EditTime, Entry, Kind, RelPath, Stamp};
use tokio::sync::mpsc;

use super::{
    Arrived, Captured, Changes, Checked, Content, DOTLESS_OWN_FOLDER, FolderGone, Found, GivenUp,
    OWN_FOLDER, Outcome, Patch, Placing, Put, Sha256, SharedFolder, SideError, Source, Staged,
    Steps, Swapped, Undone, Verified, is_own, walk,
};
use crate::clock::{Clock, SystemClock};
use crate::net::traffic::MOST;
use crate::proof::Warrant;
use crate::side_error::Away;
pub(crate) use client::Watch;
pub use client::{AccessTokens, Client, Connection, Signer};
pub(crate) use download::read_digest;
pub(crate) use entry::http_date;
use katabatic_core::findings::Findings;
use katabatic_core::known_root::KnownRoot;
pub(crate) use multistatus::OWN_NAMESPACE;
use multistatus::Resource;
use room::{Room, StagedLooks};
pub use survey::survey;
pub(crate) use survey::{Listed, listed};
use ways::Ways;

/// Reads the body of a `207 Multi-Status` (RFC 4918 §13) as listings are read, and says how many resources it names.
///
/// # Errors
/// Why it cannot be believed.
pub async fn count_resources(body: &[u8]) -> Result<u64, String> {
    let mut count = 0;
    multistatus::read_each(body, &mut |_| {
        count += 1;
        Ok(())
    })
    .await?;
    Ok(count)
}

/// A version that a server received so short a time ago may share its tag with one that comes right after. Twice a
/// second's resolution, and the second or two by which clocks may differ unseen.
const FRESH_NANOSECONDS: i64 = 4_000_000_000;

/// So many names of a listing cost about as much as one request.
const LISTED_AT_THE_COST_OF_A_LOOK: usize = 16;

/// Files up to this size may go by one request where the server is good for it.
const SMALL: u64 = 256 * 1024;

/// As many folders are listed at a time; how many requests that are is for the traffic to say.
const LISTINGS: usize = MOST;

/// A folder of an account.
#[derive(Clone)]
pub struct WebdavSide {
    inner: Arc<Inner>,
}

pub(crate) struct Inner {
    client: Client,
    /// The lane's far folder, below the account's address.
    root: RelPath,
    room: Room,
    looks: StagedLooks,
    /// Whether the server keeps properties of our own; found out by trying.
    keeps_properties: AtomicBool,
    /// How far the server's clock is ahead of ours, in nanoseconds.
    clock_ahead: AtomicI64,
    /// Whether the server said that the root may only be read.
    only_read: AtomicBool,
    /// Whether the server gives ids that outlive a move (RFC 5842 §3.1).
    gives_ids: AtomicBool,
    /// In which way things are carried here.
    ways: Mutex<Ways>,
    /// How many names the last listing of a folder showed.
    listed: Mutex<HashMap<RelPath, usize>>,
    /// Characters of names that the server lists and does not give.
    unserved: String,
    /// The software that was probed, and the one that answers now.
    probed: Option<Option<String>>,
    software: Mutex<Option<Option<String>>>,
}

impl WebdavSide {
    /// The folder `root` of the account behind `client`; `computer` names this computer's own room there.
    #[must_use]
    pub fn new(client: Client, root: RelPath, computer: &str, lane_id: &str) -> WebdavSide {
        let room = Room::new(&root, OWN_FOLDER, computer, lane_id);
        let inner = Inner {
            client,
            root,
            room,
            looks: StagedLooks::default(),
            keeps_properties: AtomicBool::new(true),
            clock_ahead: AtomicI64::new(0),
            only_read: AtomicBool::new(false),
            gives_ids: AtomicBool::new(false),
            ways: Mutex::new(Ways::of_a_stranger()),
            listed: Mutex::default(),
            unserved: String::new(),
            probed: None,
            software: Mutex::new(None),
        };
        WebdavSide {
            inner: Arc::new(inner),
        }
    }

    /// The same side, with what the probe found out about its server.
    #[must_use]
    pub fn knowing(self, findings: &Findings) -> WebdavSide {
        let inner = Arc::try_unwrap(self.inner).map(|mut inner| {
            inner.ways = Mutex::new(Ways::of(findings));
            inner.keeps_properties = AtomicBool::new(findings.properties);
            inner.probed = Some(findings.server.clone());
            inner.client.escapes_twice(findings.escapes_twice);
            inner.unserved.clone_from(&findings.unserved_characters);
            inner
        });
        WebdavSide {
            inner: inner.map_or_else(|shared| shared, Arc::new),
        }
    }

    /// The same side, on a server that takes no names that begin with a dot: what is kept there lies in another folder.
    #[must_use]
    pub fn without_dots(self) -> WebdavSide {
        let inner = Arc::try_unwrap(self.inner).map(|mut inner| {
            inner.room = inner.room.within(&inner.root, DOTLESS_OWN_FOLDER);
            inner
        });
        WebdavSide {
            inner: inner.map_or_else(|shared| shared, Arc::new),
        }
    }

    /// Where a spare lies, below the account's address.
    ///
    /// # Errors
    /// Where that is no name.
    pub fn spare_at(&self, spare: &str) -> Result<RelPath, SideError> {
        self.inner.room.spare(spare)
    }

    /// What a folder holds, in no order.
    ///
    /// # Errors
    /// As [`Lists::look`]; a listing that is not whole is an error here.
    pub async fn members_of(&self, path: &RelPath) -> Result<Vec<(String, Entry)>, SideError> {
        let folder = list::members(&self.inner, &self.inner.far(path)).await?;
        match folder.cut_short {
            Some(why) => Err(SideError::Failed(why.to_string())),
            None => {
                let names = folder.names.into_iter();
                Ok(names.filter(|(name, _)| !is_own(name)).collect())
            }
        }
    }
}

impl Inner {
    /// The properties to ask for about anything here.
    fn wanted(&self, more: &str) -> String {
        let id = if self.gives_ids.load(Ordering::Relaxed) {
            "<resource-id/>"
        } else {
            ""
        };
        list::wanted(&format!("{id}{more}"))
    }

    /// What a resource of a listing is; none for a file that does not say how long it is.
    fn entry(&self, resource: &Resource) -> Option<Entry> {
        let ahead = self.clock_ahead.load(Ordering::Relaxed);
        entry::entry(resource, ahead, self.ways().ignores_tags)
    }

    /// What was found out about names that a folder has.
    fn found_fences(&self, fences: bool) {
        let mut ways = self.ways.lock().unwrap_or_else(PoisonError::into_inner);
        ways.fences = Some(fences);
    }

    /// What gets a name that the server lists and does not give could never be read there again.
    fn check_served(&self, path: &RelPath) -> Result<(), SideError> {
        let odd = path.name().chars().find(|c| self.unserved.contains(*c));
        odd.map_or(Ok(()), |odd| {
            let plain = path.name().replace(|c| self.unserved.contains(c), "_");
            Err(SideError::Failed(format!(
                "the server does not give names with {odd} when they are asked for: give it another name here, {plain:?}, say"
            )))
        })
    }

    fn ways(&self) -> Ways {
        *self.ways.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What stands in a folder now, where one listing of it is cheaper than a look at so many names.
    async fn listed_for(&self, folder: &RelPath, names: usize) -> HashMap<String, Entry> {
        let known = {
            let listed = self.listed.lock().unwrap_or_else(PoisonError::into_inner);
            listed.get(folder).copied().unwrap_or(0)
        };
        if names < 3 || known > names * LISTED_AT_THE_COST_OF_A_LOOK {
            return HashMap::new();
        }
        let found = match list::members(self, folder).await {
            Ok(listed) => listed.names,
            // Each is looked at by itself then, and says what is the matter.
            Err(_) => Vec::new(),
        };
        let mut listed = self.listed.lock().unwrap_or_else(PoisonError::into_inner);
        listed.insert(folder.clone(), found.len());
        found.into_iter().collect()
    }

    /// The path below the account's address of a path of the lane.
    fn far(&self, path: &RelPath) -> RelPath {
        self.root.joined(path)
    }
}

fn is_version(there: &Entry, staged: &Entry) -> bool {
    there.kind == Kind::File && there.stamp == staged.stamp && there.size == staged.size
}

#[async_trait]
impl Lists for WebdavSide {
    async fn root(&self) -> Result<KnownRoot, SideError> {
        let inner = &self.inner;
        match list::root(inner).await {
            Ok(Some(entry)) if entry.kind == Kind::Folder => Ok(KnownRoot::Address(
                inner.client.url(&inner.root, true).to_string(),
            )),
            Ok(Some(_)) => Err(SideError::away(
                Away::NoFolder,
                "it is a file there, not a folder",
            )),
            Ok(None) => Err(SideError::away(Away::NoFolder, "the folder is not there")),
            Err(error) => Err(error),
        }
    }

    async fn scan(&self, found: mpsc::Sender<Found>) -> Result<(), SideError> {
        if self.inner.ways().infinity
            && let Some(whole) = whole_tree::ask_for(&self.inner).await?
        {
            return whole.send(found).await;
        }
        walk::walk(
            Arc::new(list::FarLister(Arc::clone(&self.inner))),
            LISTINGS,
            RelPath::root(),
            found,
        )
        .await
    }

    async fn names(&self, folder: &RelPath) -> Result<Vec<String>, SideError> {
        let listed = list::members(&self.inner, &self.inner.far(folder)).await?;
        let names = listed.names.into_iter().map(|(name, _)| name);
        Ok(names.filter(|name| !is_own(name)).collect())
    }

    async fn look(&self, path: &RelPath) -> Result<Option<Entry>, SideError> {
        list::look(&self.inner, &self.inner.far(path)).await
    }

    async fn look_for_ours(&self, path: &RelPath) -> Result<Option<Entry>, SideError> {
        list::look_for_ours(&self.inner, &self.inner.far(path)).await
    }

    fn may_hide(&self, path: &RelPath) -> bool {
        !self.inner.ways().lists_dots && path.parts().any(|part| part.starts_with('.'))
    }
}

#[async_trait]
impl TellsChanges for WebdavSide {
    async fn token(&self) -> Result<Option<String>, SideError> {
        if !self.inner.ways().tokens {
            return Ok(None);
        }
        changes::token(&self.inner).await
    }

    async fn changes_since(&self, token: &str) -> Result<Option<Changes>, SideError> {
        if !self.inner.ways().tokens {
            return Ok(None);
        }
        changes::since(&self.inner, token).await
    }
}

#[async_trait]
impl Reads for WebdavSide {
    async fn read_from(
        &self,
        path: &RelPath,
        seen: &Entry,
        from: u64,
    ) -> Result<Source, SideError> {
        download::read(&self.inner, &self.inner.far(path), seen, from).await
    }

    async fn read_part(
        &self,
        path: &RelPath,
        seen: &Entry,
        part: Stretch,
    ) -> Result<Bytes, SideError> {
        download::part(&self.inner, &self.inner.far(path), seen, part).await
    }

    fn gives_digests(&self) -> bool {
        self.inner.ways().digests
    }

    async fn digest_there(
        &self,
        path: &RelPath,
        seen: &Entry,
    ) -> Result<Option<Sha256>, SideError> {
        match self.inner.ways().digests {
            true => download::digest(&self.inner, &self.inner.far(path), seen).await,
            false => Ok(None),
        }
    }

    async fn digests_in(
        &self,
        folder: &RelPath,
    ) -> Result<BTreeMap<String, (Stamp, Sha256)>, SideError> {
        match self.inner.ways().listed_digests {
            true => list::digests(&self.inner, &self.inner.far(folder)).await,
            false => Ok(BTreeMap::new()),
        }
    }
}

impl Identifies for WebdavSide {
    fn tags_prove(&self) -> bool {
        !self.inner.ways().read_young_again
    }

    fn tags_are_evidence(&self) -> bool {
        self.inner.ways().tags_are_evidence
    }

    fn handle(&self, seen: &Entry) -> Option<String> {
        seen.handle.as_deref().map(str::to_owned)
    }

    fn handles_last(&self) -> bool {
        true
    }

    fn is_fresh(&self, entry: &Entry) -> bool {
        let age = |received: EditTime| SystemClock.now().0.saturating_sub(received.0);
        self.inner.ways().read_young_again
            && entry
                .received
                .is_none_or(|received| age(received) < FRESH_NANOSECONDS)
    }
}

#[async_trait]
impl Stages for WebdavSide {
    async fn stage(&self, source: Source, _: &RelPath, steps: &Steps) -> Result<Staged, SideError> {
        upload::stage(&self.inner, source, steps).await
    }

    fn patches(&self) -> bool {
        self.inner.ways().patches
    }

    async fn patch(
        &self,
        path: &RelPath,
        old: &Entry,
        patch: &Patch,
        content: &(dyn Fn(Stretch) -> Content + Send + Sync),
    ) -> Result<Staged, SideError> {
        upload::patch(&self.inner, &self.inner.far(path), old, patch, content).await
    }

    async fn unstage(&self, slot: &str) -> Result<(), SideError> {
        carry::delete(&self.inner, &self.inner.room.staged(slot)?).await
    }

    async fn is_staged(&self, slot: &str) -> Result<bool, SideError> {
        Ok(list::look(&self.inner, &self.inner.room.staged(slot)?)
            .await?
            .is_some())
    }

    async fn clear_staging(&self, keep: &HashSet<String>) -> Result<(), SideError> {
        room::clear_staging(&self.inner, keep).await
    }
}

#[async_trait]
impl Places for WebdavSide {
    fn puts_directly(&self, size: u64) -> bool {
        size <= SMALL && self.inner.ways().direct
    }

    async fn put_new(&self, source: Source, path: &RelPath) -> Outcome<Option<Arrived>> {
        self.inner.check_served(path).map_err(Undone::NotDone)?;
        upload::put_new(&self.inner, source, &self.inner.far(path)).await
    }

    async fn verify_all(&self, placings: &[Placing]) -> Vec<Result<Option<Verified>, SideError>> {
        let mut folders: BTreeMap<RelPath, Vec<usize>> = BTreeMap::new();
        for (at, placing) in placings.iter().enumerate() {
            let above = placing.path.parent().unwrap_or_else(RelPath::root);
            folders.entry(above).or_default().push(at);
        }
        let mut verified = HashMap::new();
        for (folder, members) in folders {
            let there = self
                .inner
                .listed_for(&self.inner.far(&folder), members.len())
                .await;
            for at in members {
                let placing = &placings[at];
                let found = match there.get(placing.path.name()) {
                    Some(entry) => Ok(Some(entry.clone())),
                    None => list::look_for_ours(&self.inner, &self.inner.far(&placing.path)).await,
                };
                let listed = there.contains_key(placing.path.name());
                let same = |entry: &Entry| is_version(entry, &placing.version);
                verified.insert(
                    at,
                    found.map(|entry| entry.filter(same).map(|entry| Verified { entry, listed })),
                );
            }
        }
        (0..placings.len())
            .map(|at| verified.remove(&at).unwrap_or(Ok(None)))
            .collect()
    }

    async fn swap(&self, _: &str, _: &RelPath, _: &str) -> Outcome<Swapped> {
        // WebDAV has no request that exchanges two resources.
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
        let inner = &self.inner;
        carry::capture(
            inner,
            &inner.far(path),
            &inner.room.spare(spare).map_err(Undone::NotDone)?,
        )
        .await
    }

    async fn check(&self, spare: &str, expected: &Entry) -> Result<Checked, SideError> {
        Ok(
            match list::look_for_ours(&self.inner, &self.inner.room.spare(spare)?).await? {
                None => Checked::Nothing,
                Some(there) if there.kind != expected.kind => Checked::Other,
                Some(there) if there.kind == Kind::File && there.stamp != expected.stamp => {
                    Checked::Other
                }
                Some(_) => Checked::Same,
            },
        )
    }

    async fn put_back(&self, spare: &str, path: &RelPath) -> Outcome<Put> {
        let inner = &self.inner;
        carry::move_new(
            inner,
            &inner.room.spare(spare).map_err(Undone::NotDone)?,
            &inner.far(path),
            None,
        )
        .await
    }

    async fn place(&self, staged: &str, version: &Entry, path: &RelPath) -> Outcome<Put> {
        let inner = &self.inner;
        inner.check_served(path).map_err(Undone::NotDone)?;
        carry::move_new(
            inner,
            &inner.room.staged(staged).map_err(Undone::NotDone)?,
            &inner.far(path),
            Some(version),
        )
        .await
    }

    async fn verify(&self, path: &RelPath, staged: &Entry) -> Result<Option<Entry>, SideError> {
        let there = list::look_for_ours(&self.inner, &self.inner.far(path)).await?;
        Ok(there.filter(|there| is_version(there, staged)))
    }

    async fn make_folder(&self, path: &RelPath) -> Outcome<Put> {
        self.inner.check_served(path).map_err(Undone::NotDone)?;
        carry::make_folder(&self.inner, &self.inner.far(path)).await
    }

    async fn remove_folder(&self, path: &RelPath, spare: &str) -> Outcome<FolderGone> {
        let inner = &self.inner;
        carry::remove_folder(
            inner,
            &inner.far(path),
            &inner.room.spare(spare).map_err(Undone::NotDone)?,
        )
        .await
    }

    async fn rename(&self, from: &RelPath, to: &RelPath) -> Outcome<Put> {
        let inner = &self.inner;
        inner.check_served(to).map_err(Undone::NotDone)?;
        let seen = self.look(from).await.map_err(Undone::NotDone)?;
        let seen = seen.ok_or(Undone::NotDone(SideError::Missing))?;
        carry::move_new(inner, &inner.far(from), &inner.far(to), Some(&seen)).await
    }
}

#[async_trait]
impl Fences for WebdavSide {
    fn may_act_late(&self) -> bool {
        true
    }

    fn keeps_names_from_late_requests(&self) -> bool {
        self.inner.ways().fences == Some(true)
    }

    async fn fence_spare(
        &self,
        _: &RelPath,
        expected: Kind,
        names: &[String],
        anew: &str,
    ) -> Result<Option<String>, SideError> {
        carry::fence_spare(&self.inner, expected, names, anew).await
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
impl Shelves for WebdavSide {
    async fn look_at_spare(&self, spare: &str) -> Result<Option<Entry>, SideError> {
        list::look(&self.inner, &self.inner.room.spare(spare)?).await
    }

    async fn shelf(&self) -> Result<Vec<String>, SideError> {
        room::shelf(&self.inner).await
    }

    async fn is_empty_spare(&self, spare: &str) -> Result<bool, SideError> {
        carry::is_empty_spare(&self.inner, &self.inner.room.spare(spare)?).await
    }

    async fn read_spare(&self, spare: &str) -> Result<Source, SideError> {
        let path = self.inner.room.spare(spare)?;
        let seen = list::look(&self.inner, &path)
            .await?
            .ok_or(SideError::Missing)?;
        download::read(&self.inner, &path, &seen, 0).await
    }

    async fn give_up(&self, spare: &str, warrant: Warrant) -> Result<GivenUp, SideError> {
        carry::give_up(&self.inner, &self.inner.room.spare(spare)?, &warrant).await
    }
}

impl HoldsStubs for WebdavSide {}

#[async_trait]
impl Marks for WebdavSide {
    async fn mark_root(&self) -> Result<(), SideError> {
        room::make_ready(&self.inner).await?;
        // The root is recognised by it from now on.
        let lane = self.inner.room.lane();
        list::look_for_ours(&self.inner, lane).await.map(drop)
    }

    async fn is_marked(&self) -> Result<bool, SideError> {
        Ok(list::look(&self.inner, self.inner.room.lane())
            .await?
            .is_some())
    }

    async fn other_computers(&self) -> Vec<String> {
        room::other_computers(&self.inner)
            .await
            .unwrap_or_else(|why| {
                tracing::debug!("which computers have a room there could not be asked: {why}");
                Vec::new()
            })
    }
}

#[async_trait]
impl Describes for WebdavSide {
    fn clock_ahead(&self) -> Option<i64> {
        Some(self.inner.clock_ahead.load(Ordering::Relaxed))
    }

    async fn shared(&self) -> Vec<SharedFolder> {
        let shared = survey::shared(&self.inner.client, &self.inner.root).await;
        let shared = shared.unwrap_or_else(|why| {
            tracing::debug!("what is shared could not be asked: {why}");
            Vec::new()
        });
        shared
            .into_iter()
            .filter_map(|folder| {
                Some(SharedFolder {
                    name: folder.name,
                    owner: folder.owner?,
                    may_write: folder.may_write,
                })
            })
            .collect()
    }

    fn is_read_only(&self) -> bool {
        self.inner.client.is_read_only() || self.inner.only_read.load(Ordering::Relaxed)
    }

    fn software_changed(&self) -> bool {
        let inner = &self.inner;
        let now = inner
            .software
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        let changed = matches!((&inner.probed, &*now), (Some(probed), Some(now)) if probed != now);
        if changed {
            *inner.ways.lock().unwrap_or_else(PoisonError::into_inner) = Ways::of_a_stranger();
        }
        changed
    }
}
