//! A local folder as a side.
//!
//! Everything below the root is reached through the root's own descriptor with `openat2`, which refuses to leave it
//! by `..`, by a link or onto another file system, whatever is renamed meanwhile. Replacing is an exchange of two
//! names in one step; new files take a name only while nobody else has it.

mod abilities;
mod carry;
mod fingerprint;
mod frozen;
mod give_up;
pub mod own_folder;
pub mod raw_names;
mod room;
mod root_mark;
mod scan;
mod stage;
mod stub;
mod system;

use std::collections::HashSet;
use std::fs::File;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use crate::capabilities::{
    Describes, Fences, HoldsStubs, Identifies, Lists, Marks, Places, Reads, Stages, TellsChanges,
};
use crate::shelves::Shelves;
use async_trait::async_trait;
use katabatic_core::{Entry, Kind, RelPath, Stamp};
use tokio::sync::mpsc;

use super::{
    Captured, Checked, FolderGone, Found, GivenUp, NewStub, Outcome, Placing, Put, Shortcomings,
    SideError, Source, Staged, Steps, Swapped, Undone, Verified, Whereabouts,
};
use crate::proof::Warrant;
use crate::stop::Stop;
pub use abilities::file_system_of;
pub use fingerprint::handle_of;
pub use fingerprint::was_written_since;
pub use give_up::give_up_file;
use katabatic_core::known_root::KnownRoot;
pub use room::STUBS as STUBS_FOLDER;
pub use room::{SPARES_FOLDER, place as room_place};
pub use scan::is_stub;
pub use stub::{Filling, LIKE as STUB_RIGHTS, MarkFiles};
pub use system::is_one_disk;

/// As many folders are read at a time.
const LISTINGS: usize = 4;

/// A local folder.
#[derive(Clone)]
pub struct LocalSide {
    inner: Arc<Inner>,
}

pub(crate) struct Inner {
    root: OwnedFd,
    root_path: PathBuf,
    lane_id: String,
    /// The folder for staging and spares, on the root's own file system.
    room: room::Room,
    stop: Stop,
    frozen: frozen::Frozen,
    /// How often a stub was seen that has rights.
    open_stubs: AtomicU64,
}

impl Inner {
    /// The folder is still there: nothing that it does not show is missing otherwise.
    fn check_alive(&self) -> Result<(), SideError> {
        root_mark::check_alive(self.root.as_fd(), &self.root_path)
    }
}

impl LocalSide {
    /// Opens the folder at `root`; `state` is where the tool would like to keep what it stages and spares.
    ///
    /// # Errors
    /// [`SideError::NotThere`] where the root is not a folder that can be read.
    pub fn open(
        root: &Path,
        state: &Path,
        lane_id: &str,
        stop: Stop,
    ) -> Result<LocalSide, SideError> {
        let descriptor = open_root(root)?;
        let room = room::Room::choose(descriptor.as_fd(), root, state, lane_id)
            .map_err(|why| no_room(&why))?;
        Ok(LocalSide {
            inner: Arc::new(Inner {
                root: descriptor,
                root_path: root.to_owned(),
                lane_id: lane_id.to_owned(),
                room,
                stop,
                frozen: frozen::Frozen::default(),
                open_stubs: AtomicU64::new(0),
            }),
        })
    }

    /// Opens a folder that is only read: nothing is made in it, wherever it lies.
    ///
    /// # Errors
    /// As [`LocalSide::open`].
    pub fn reading(root: &Path, state: &Path, stop: Stop) -> Result<LocalSide, SideError> {
        let descriptor = open_root(root)?;
        let room = room::Room::at(state).map_err(|why| no_room(&why))?;
        Ok(LocalSide {
            inner: Arc::new(Inner {
                root: descriptor,
                root_path: root.to_owned(),
                lane_id: String::new(),
                room,
                stop,
                frozen: frozen::Frozen::default(),
                open_stubs: AtomicU64::new(0),
            }),
        })
    }

    /// How the folder at `root` is recognised, without making anything there.
    ///
    /// # Errors
    /// [`SideError::NotThere`] where there is none.
    pub fn recognise(root: &Path) -> Result<KnownRoot, SideError> {
        let descriptor = File::open(root)
            .map_err(|why| SideError::not_there(format!("{}: {why}", root.display())))?;
        root_mark::recognise_root(descriptor.as_fd(), root)
    }

    /// The folder with the second names of its stubs, or where that would come to be.
    pub fn stubs_folder(&self) -> PathBuf {
        self.inner.room.path_of_stubs()
    }

    /// Takes the rights from every stub, so that nobody is let in to one that is not asked about; how many there are.
    ///
    /// # Errors
    /// As the system says.
    pub fn close_stubs(&self) -> Result<u64, SideError> {
        stub::close_all(&self.inner.room)
    }

    /// Has every stub without rights marked, and gives those rights for which that was possible; how many, and why not
    /// the rest.
    ///
    /// # Errors
    /// As the system says, or where `mark` failed.
    pub fn open_stubs(&self, mark: &MarkFiles<'_>) -> Result<(u64, Option<String>), SideError> {
        stub::open_all(&self.inner.room, mark)
    }

    /// As [`LocalSide::blocking`], for what changes something: whether that was done cannot be told where it broke off.
    async fn changing<T: Send + 'static>(
        &self,
        work: impl FnOnce(&Inner) -> Outcome<T> + Send + 'static,
    ) -> Outcome<T> {
        let inner = Arc::clone(&self.inner);
        tokio::task::spawn_blocking(move || work(&inner))
            .await
            .unwrap_or_else(|error| {
                let why = SideError::Failed(format!("it broke off: {error}"));
                Err(Undone::Unsure(why))
            })
    }

    async fn blocking<T: Send + 'static>(
        &self,
        work: impl FnOnce(&Inner) -> Result<T, SideError> + Send + 'static,
    ) -> Result<T, SideError> {
        let inner = Arc::clone(&self.inner);
        tokio::task::spawn_blocking(move || work(&inner))
            .await
            .unwrap_or_else(|error| Err(SideError::Failed(format!("it broke off: {error}"))))
    }
}

/// The folder at a root, whatever it is called later.
fn open_root(root: &Path) -> Result<OwnedFd, SideError> {
    let not_there =
        |why: &dyn std::fmt::Display| SideError::not_there(format!("{}: {why}", root.display()));
    let descriptor = File::open(root).map_err(|why| not_there(&why))?;
    let meta = descriptor.metadata().map_err(|why| not_there(&why))?;
    if !meta.is_dir() {
        return Err(not_there(&"it is not a folder"));
    }
    Ok(OwnedFd::from(descriptor))
}

/// Why there are no folders for staging and spares.
fn no_room(why: &io::Error) -> SideError {
    match side_error(why) {
        SideError::Full(why) => SideError::Full(why),
        _ => SideError::Failed(format!(
            "the tool's own folders for staging and spares cannot be made: {why}"
        )),
    }
}

/// The words for an error of the file system.
pub(crate) fn side_error(error: &io::Error) -> SideError {
    match error.kind() {
        io::ErrorKind::NotFound => SideError::Missing,
        io::ErrorKind::PermissionDenied => SideError::Failed(
            "this computer does not allow it; look at the owner and the rights".into(),
        ),
        io::ErrorKind::ReadOnlyFilesystem => SideError::Failed(
            "the disk may only be read; mount it to be written, and sync again".into(),
        ),
        io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => {
            SideError::Full("the disk is full; free some room (katabatic choose takes fewer folders) and sync again".into())
        }
        _ => SideError::Failed(match error.raw_os_error() {
            Some(code) if code == rustix::io::Errno::LOOP.raw_os_error() => {
                "a symbolic link stands in the way; links are never followed".into()
            }
            Some(code) if code == rustix::io::Errno::XDEV.raw_os_error() => {
                "another file system is mounted there".into()
            }
            Some(code) if code == rustix::io::Errno::NAMETOOLONG.raw_os_error() => {
                "the name is longer than this disk can hold; give it a shorter one".into()
            }
            _ => error.to_string(),
        }),
    }
}

#[async_trait]
impl Lists for LocalSide {
    async fn root(&self) -> Result<KnownRoot, SideError> {
        self.blocking(|inner| root_mark::recognise_root(inner.root.as_fd(), &inner.root_path))
            .await
    }

    async fn scan(&self, found: mpsc::Sender<Found>) -> Result<(), SideError> {
        super::walk::walk(
            Arc::new(scan::LocalLister(Arc::clone(&self.inner))),
            LISTINGS,
            RelPath::root(),
            found,
        )
        .await?;
        // What went while it was listed showed nothing at the end, and nothing was removed from it.
        self.blocking(|inner| inner.check_alive()).await
    }

    async fn names(&self, folder: &RelPath) -> Result<Vec<String>, SideError> {
        let folder = folder.clone();
        self.blocking(move |inner| {
            let listed = scan::list(inner, &folder)?;
            inner.check_alive()?;
            Ok(listed.names.into_iter().map(|(name, _)| name).collect())
        })
        .await
    }

    async fn look(&self, path: &RelPath) -> Result<Option<Entry>, SideError> {
        let path = path.clone();
        self.blocking(move |inner| {
            let looked = scan::look(inner, &path)?;
            if looked.is_none() {
                inner.check_alive()?;
            }
            Ok(looked)
        })
        .await
    }
}

impl TellsChanges for LocalSide {}

#[async_trait]
impl Reads for LocalSide {
    async fn read_from(
        &self,
        path: &RelPath,
        seen: &Entry,
        from: u64,
    ) -> Result<Source, SideError> {
        let (path, seen) = (path.clone(), seen.clone());
        self.blocking(move |inner| carry::read(inner, &path, &seen, from))
            .await
    }

    async fn freeze(&self, path: &RelPath) -> Result<Option<Entry>, SideError> {
        let path = path.clone();
        self.blocking(move |inner| frozen::freeze(inner, &path))
            .await
    }

    async fn thaw(&self) {
        let given_up = self.blocking(|inner| {
            frozen::thaw(inner);
            Ok(())
        });
        // What is left of it is cleared up by the next pass.
        let _ = given_up.await;
    }
}

impl Identifies for LocalSide {
    /// Size, both times and the inode; one that is too young is in doubt and equals none.
    fn tags_prove(&self) -> bool {
        true
    }

    fn stamps_change_alone(&self) -> bool {
        true
    }

    fn handle(&self, seen: &Entry) -> Option<String> {
        handle_of(&seen.stamp)
    }

    fn handles_last(&self) -> bool {
        false
    }

    fn is_fresh(&self, entry: &Entry) -> bool {
        fingerprint::is_fresh(&entry.stamp, &self.inner.room.now())
    }
}

#[async_trait]
impl Stages for LocalSide {
    async fn stage(
        &self,
        source: Source,
        like: &RelPath,
        steps: &Steps,
    ) -> Result<Staged, SideError> {
        stage::stage(Arc::clone(&self.inner), source, like.clone(), steps.clone()).await
    }

    fn wants_the_rest_only(&self) -> bool {
        true
    }

    async fn unstage(&self, slot: &str) -> Result<(), SideError> {
        let slot = slot.to_owned();
        self.blocking(move |inner| inner.room.remove(room::STAGING, &slot))
            .await
    }

    async fn is_staged(&self, slot: &str) -> Result<bool, SideError> {
        let slot = slot.to_owned();
        self.blocking(move |inner| Ok(inner.room.entry(room::STAGING, &slot)?.is_some()))
            .await
    }

    async fn clear_staging(&self, keep: &HashSet<String>) -> Result<(), SideError> {
        let keep = keep.clone();
        self.blocking(move |inner| inner.room.clear_staging(&keep))
            .await
    }
}

#[async_trait]
impl Places for LocalSide {
    fn exchanges(&self) -> bool {
        true
    }

    async fn place_all(&self, placings: &[Placing]) -> Vec<Outcome<Put>> {
        let (count, placings) = (placings.len(), placings.to_vec());
        let placed = self.changing(move |inner| Ok(carry::put_all(inner, &placings)));
        placed.await.unwrap_or_else(|error| vec![Err(error); count])
    }

    async fn verify_all(&self, placings: &[Placing]) -> Vec<Result<Option<Verified>, SideError>> {
        let (count, placings) = (placings.len(), placings.to_vec());
        let verify = |inner: &Inner, placing: &Placing| {
            let there = scan::look(inner, &placing.path)?;
            let same = |there: &Entry| {
                fingerprint::same_but_for_ctime(&there.stamp, &placing.version.stamp)
            };
            Ok(there.filter(same).map(|entry| Verified {
                entry,
                listed: true,
            }))
        };
        let verified = self.blocking(move |inner| {
            Ok(placings
                .iter()
                .map(|placing| verify(inner, placing))
                .collect())
        });
        verified
            .await
            .unwrap_or_else(|error| vec![Err(error); count])
    }

    async fn swap(&self, staged: &str, path: &RelPath, spare: &str) -> Outcome<Swapped> {
        let (staged, path, spare) = (staged.to_owned(), path.clone(), spare.to_owned());
        self.changing(move |inner| carry::swap(inner, &staged, &path, &spare))
            .await
    }

    async fn swap_back(&self, path: &RelPath, spare: &str) -> Outcome<()> {
        let (path, spare) = (path.clone(), spare.to_owned());
        self.changing(move |inner| carry::swap_back(inner, &path, &spare))
            .await
    }

    async fn capture(&self, path: &RelPath, spare: &str) -> Outcome<Captured> {
        let (path, spare) = (path.clone(), spare.to_owned());
        self.changing(move |inner| carry::capture(inner, &path, &spare))
            .await
    }

    async fn check(&self, spare: &str, expected: &Entry) -> Result<Checked, SideError> {
        let (spare, expected) = (spare.to_owned(), expected.clone());
        self.blocking(move |inner| carry::check(inner, &spare, &expected))
            .await
    }

    async fn put_back(&self, spare: &str, path: &RelPath) -> Outcome<Put> {
        let (spare, path) = (spare.to_owned(), path.clone());
        self.changing(move |inner| carry::put(inner, room::SPARES, &spare, &path))
            .await
    }

    async fn place(&self, staged: &str, _: &Entry, path: &RelPath) -> Outcome<Put> {
        let (staged, path) = (staged.to_owned(), path.clone());
        self.changing(move |inner| carry::put(inner, room::STAGING, &staged, &path))
            .await
    }

    async fn verify(&self, path: &RelPath, staged: &Entry) -> Result<Option<Entry>, SideError> {
        let (path, staged) = (path.clone(), staged.clone());
        self.blocking(move |inner| {
            let there = scan::look(inner, &path)?;
            Ok(there.filter(|there| fingerprint::same_but_for_ctime(&there.stamp, &staged.stamp)))
        })
        .await
    }

    async fn make_folder(&self, path: &RelPath) -> Outcome<Put> {
        let path = path.clone();
        self.changing(move |inner| carry::make_folder(inner, &path))
            .await
    }

    async fn remove_folder(&self, path: &RelPath, _: &str) -> Outcome<FolderGone> {
        let path = path.clone();
        self.changing(move |inner| carry::remove_folder(inner, &path))
            .await
    }

    async fn rename(&self, from: &RelPath, to: &RelPath) -> Outcome<Put> {
        let (from, to) = (from.clone(), to.clone());
        self.changing(move |inner| carry::rename(inner, &from, &to))
            .await
    }
}

#[async_trait]
impl Fences for LocalSide {
    async fn fence_spare(
        &self,
        path: &RelPath,
        _: Kind,
        names: &[String],
        _: &str,
    ) -> Result<Option<String>, SideError> {
        let (path, names) = (path.clone(), names.to_vec());
        self.blocking(move |inner| carry::fence(inner, room::SPARES, Some(&path), &names))
            .await
    }

    async fn fence_staged(&self, names: &[String], _: &str) -> Result<Option<String>, SideError> {
        let names = names.to_vec();
        self.blocking(move |inner| carry::fence(inner, room::STAGING, None, &names))
            .await
    }
}

#[async_trait]
impl Shelves for LocalSide {
    fn spare_here(&self, spare: &str) -> Option<PathBuf> {
        use std::os::fd::AsRawFd;
        let shelf = self.inner.room.folder_of(room::SPARES, spare).as_raw_fd();
        Some(PathBuf::from(format!("/proc/self/fd/{shelf}")).join(spare))
    }

    async fn look_at_spare(&self, spare: &str) -> Result<Option<Entry>, SideError> {
        let spare = spare.to_owned();
        self.blocking(move |inner| inner.room.entry(room::SPARES, &spare))
            .await
    }

    async fn shelf(&self) -> Result<Vec<String>, SideError> {
        self.blocking(|inner| inner.room.names_of_spares()).await
    }

    async fn is_empty_spare(&self, spare: &str) -> Result<bool, SideError> {
        let spare = spare.to_owned();
        self.blocking(move |inner| inner.room.is_empty_folder(&spare))
            .await
    }

    async fn read_spare(&self, spare: &str) -> Result<Source, SideError> {
        let spare = spare.to_owned();
        self.blocking(move |inner| carry::read_spare(inner, &spare))
            .await
    }

    async fn give_up(&self, spare: &str, warrant: Warrant) -> Result<GivenUp, SideError> {
        let spare = spare.to_owned();
        self.blocking(move |inner| give_up::give_up(inner, &spare, &warrant))
            .await
    }
}

#[async_trait]
impl HoldsStubs for LocalSide {
    async fn holds_stubs(&self) -> Result<(), String> {
        let asked = self.blocking(|inner| Ok(stub::can_be_held(inner)));
        asked.await.unwrap_or_else(|error| Err(error.to_string()))
    }

    async fn stage_stubs(&self, stubs: &[NewStub]) -> Vec<Result<Staged, SideError>> {
        let (count, stubs) = (stubs.len(), stubs.to_vec());
        let staged = self.blocking(move |inner| Ok(stub::stage_all(inner, &stubs)));
        staged.await.unwrap_or_else(|error| vec![Err(error); count])
    }

    async fn stub_whereabouts(&self, stamp: &Stamp) -> Result<Whereabouts, SideError> {
        let stamp = stamp.clone();
        self.blocking(move |inner| stub::whereabouts(&inner.room, &stamp))
            .await
    }

    async fn keep_only_stubs(&self, keep: &HashSet<String>) -> Result<(), SideError> {
        let keep = keep.clone();
        self.blocking(move |inner| stub::keep_only(&inner.room, &keep))
            .await
    }

    async fn forget_stub(&self, stamp: &Stamp) -> Result<(), SideError> {
        let stamp = stamp.clone();
        self.blocking(move |inner| stub::forget(&inner.room, &stamp))
            .await
    }

    async fn is_coming(&self, path: &RelPath) -> bool {
        let path = path.clone();
        let coming = self.blocking(move |inner| Ok(stub::is_coming(inner, &path)));
        coming.await.unwrap_or(false)
    }

    fn saw_open_stubs(&self) -> bool {
        self.inner.open_stubs.load(Ordering::Relaxed) > 0
    }

    async fn close_open_stubs(&self) -> Result<u64, SideError> {
        self.blocking(|inner| {
            inner.open_stubs.store(0, Ordering::Relaxed);
            stub::close_open(&inner.room)
        })
        .await
    }
}

#[async_trait]
impl Marks for LocalSide {
    async fn mark_root(&self) -> Result<(), SideError> {
        let mark = crate::private_files::random_hex(8)
            .map_err(|why| SideError::Failed(format!("there is no randomness: {}", why.why)))?;
        self.blocking(move |inner| {
            root_mark::mark_root(inner.root.as_fd(), &mark)?;
            Ok(())
        })
        .await
    }

    async fn note_pass(&self, number: u64) -> bool {
        let noted = self.blocking(move |inner| {
            Ok(root_mark::note_pass(
                inner.root.as_fd(),
                &inner.lane_id,
                number,
            ))
        });
        noted.await.unwrap_or(false)
    }

    async fn noted_pass(&self) -> Option<u64> {
        let noted =
            self.blocking(|inner| Ok(root_mark::noted_pass(inner.root.as_fd(), &inner.lane_id)));
        noted.await.ok().flatten()
    }

    async fn is_marked(&self) -> Result<bool, SideError> {
        Ok(true)
    }
}

#[async_trait]
impl Describes for LocalSide {
    /// A folder here is recognised by what [`Lists::root`] says of it.
    fn is_read_only(&self) -> bool {
        rustix::fs::fstatvfs(&self.inner.root)
            .is_ok_and(|stat| stat.f_flag.contains(rustix::fs::StatVfsMountFlags::RDONLY))
    }

    async fn shortcomings(&self) -> Option<Shortcomings> {
        let asked = self.blocking(|inner| {
            abilities::ask(inner.room.shelf(room::STAGING)).map_err(|error| side_error(&error))
        });
        match asked.await {
            Ok(abilities) => Some(Shortcomings {
                place: format!("{} ({})", self.inner.root_path.display(), abilities.kind),
                said: {
                    let Inner {
                        root_path, lane_id, ..
                    } = &*self.inner;
                    let own = own_folder::shortcoming(root_path, lane_id);
                    abilities.shortcomings().into_iter().chain(own).collect()
                },
            })
            .filter(|lacks| !lacks.said.is_empty()),
            Err(why) => {
                tracing::debug!("the file system could not be asked: {why}");
                None
            }
        }
    }

    async fn free(&self) -> Option<u64> {
        let stat = rustix::fs::fstatvfs(&self.inner.root).ok()?;
        // Some file systems of their own making know no sizes.
        (stat.f_blocks > 0).then(|| stat.f_bavail.saturating_mul(stat.f_frsize))
    }
}
