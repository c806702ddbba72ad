//! The tool's own room beside a local folder: staging and spares, on the same file system.
//!
//! Renames are only one step within a file system. So the room lies in the state folder where that is on the root's
//! own mount, and in a hidden folder at the root otherwise.

use std::collections::HashSet;
use std::ffi::OsStr;
use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

use katabatic_core::{EditTime, Entry, RelPath};
use rustix::fs::{AtFlags, OFlags, XattrFlags, unlinkat};

use super::{scan, side_error, stub, system};
use crate::clock::{Clock, SystemClock};
use crate::sides::{GivenUp, OWN_FOLDER, SideError, WhyKept};

pub(super) const STAGING: Shelf = Shelf::Staging;
pub(super) const SPARES: Shelf = Shelf::Spares;

pub(crate) const STUBS: &str = "stubs";

#[derive(Clone, Copy)]
pub(super) enum Shelf {
    Staging,
    Spares,
}

pub(super) struct Room {
    dir: OwnedFd,
    path: PathBuf,
    staging: OwnedFd,
    spares: OwnedFd,
    clock_ahead: i64,
}

impl Room {
    pub(super) fn choose(
        root: BorrowedFd<'_>,
        root_path: &Path,
        state: &Path,
        lane_id: &str,
    ) -> io::Result<Room> {
        let root_mount = system::stat_of(root)?;
        private_folder(state)?;
        let state_mount = system::stat_of(File::open(state)?.as_fd())?;
        let same = (
            root_mount.stx_mnt_id,
            root_mount.stx_dev_major,
            root_mount.stx_dev_minor,
        ) == (
            state_mount.stx_mnt_id,
            state_mount.stx_dev_major,
            state_mount.stx_dev_minor,
        );
        let dir = if same {
            state.to_owned()
        } else {
            root_path.join(OWN_FOLDER).join(lane_id)
        };
        match Room::at(&dir) {
            // Nothing will be staged or kept on a disk that may only be read.
            Err(error) if error.kind() == io::ErrorKind::ReadOnlyFilesystem && !same => {
                Room::at(state)
            }
            room => room,
        }
    }

    /// A room in this very folder.
    pub(super) fn at(dir: &Path) -> io::Result<Room> {
        private_folder(dir)?;
        let shelf = |name: &str| {
            let path = dir.join(name);
            private_folder(&path)?;
            Ok::<_, io::Error>(OwnedFd::from(File::open(path)?))
        };
        let staging = shelf("staging")?;
        let clock_ahead = match clock_ahead(staging.as_fd()) {
            Ok(ahead) => ahead,
            // What is full or may only be read can be looked at all the same.
            Err(error) if nothing_can_be_made(&error) => 0,
            Err(error) => return Err(error),
        };
        Ok(Room {
            dir: OwnedFd::from(File::open(dir)?),
            path: dir.to_owned(),
            staging,
            spares: shelf("spares")?,
            clock_ahead,
        })
    }

    pub(super) fn shelf(&self, shelf: Shelf) -> BorrowedFd<'_> {
        match shelf {
            Shelf::Staging => self.staging.as_fd(),
            Shelf::Spares => self.spares.as_fd(),
        }
    }

    /// Where the second names of stubs lie; where there never was one, where that folder would come to be.
    pub(super) fn path_of_stubs(&self) -> PathBuf {
        let stubs = self.path.join(STUBS);
        match stubs.is_dir() {
            true => stubs,
            false => self.path.clone(),
        }
    }

    /// Whether there was a stub, ever.
    pub(super) fn had_stubs(&self) -> bool {
        self.path.join(STUBS).is_dir()
    }

    /// Where every stub of the lane has a second name, its inode; made when the first stub is.
    pub(super) fn stubs(&self) -> io::Result<OwnedFd> {
        match rustix::fs::mkdirat(&self.dir, STUBS, rustix::fs::Mode::from_raw_mode(0o700)) {
            Ok(()) | Err(rustix::io::Errno::EXIST) => {}
            Err(error) => return Err(error.into()),
        }
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        Ok(rustix::fs::openat(
            &self.dir,
            STUBS,
            flags,
            rustix::fs::Mode::empty(),
        )?)
    }

    pub(super) fn entry(&self, shelf: Shelf, slot: &str) -> Result<Option<Entry>, SideError> {
        let folder = self.shelf(shelf);
        let looked = system::stat_of(folder)
            .and_then(|own| scan::entry_at(folder, OsStr::new(slot), own.stx_mnt_id));
        match looked {
            Ok(entry) => Ok(Some(entry)),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(side_error(&error)),
        }
    }

    pub(super) fn open(&self, shelf: Shelf, slot: &str) -> io::Result<File> {
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        Ok(File::from(rustix::fs::openat(
            self.shelf(shelf),
            slot,
            flags,
            rustix::fs::Mode::empty(),
        )?))
    }

    pub(super) fn create(&self, shelf: Shelf, slot: &str) -> io::Result<File> {
        let flags =
            OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let mode = rustix::fs::Mode::from_raw_mode(0o666);
        Ok(File::from(rustix::fs::openat(
            self.shelf(shelf),
            slot,
            flags,
            mode,
        )?))
    }

    /// Opens what was staged before, to go on with it.
    pub(super) fn open_staged(&self, slot: &str) -> io::Result<File> {
        let flags = OFlags::RDWR | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        Ok(File::from(rustix::fs::openat(
            &self.staging,
            slot,
            flags,
            rustix::fs::Mode::empty(),
        )?))
    }

    pub(super) fn remove(&self, shelf: Shelf, slot: &str) -> Result<(), SideError> {
        self.forget_stub(shelf, slot)?;
        match unlinkat(self.shelf(shelf), slot, AtFlags::empty()) {
            Ok(()) | Err(rustix::io::Errno::NOENT) => Ok(()),
            Err(error) => Err(side_error(&error.into())),
        }
    }

    /// What is kept of a stub goes with it.
    fn forget_stub(&self, shelf: Shelf, slot: &str) -> Result<(), SideError> {
        match self.entry(shelf, slot)? {
            Some(entry) if entry.is_stub() => stub::forget(self, &entry.stamp),
            _ => Ok(()),
        }
    }

    /// Drops a folder among the spares with all that is in it.
    pub(super) fn drop_folder(&self, slot: &str) -> Result<(), SideError> {
        if slot.is_empty() || slot.contains('/') || slot.starts_with('.') {
            return Err(SideError::Failed(format!("{slot:?} is no name of a spare")));
        }
        // Named by the shelf's own descriptor, so that no link put in the way leads anywhere else.
        let shelf = std::os::fd::AsRawFd::as_raw_fd(&self.shelf(Shelf::Spares));
        match std::fs::remove_dir_all(format!("/proc/self/fd/{shelf}/{slot}")) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
            dropped => dropped.map_err(|error| side_error(&error)),
        }
    }

    /// Removes a folder among the spares that has nothing in it.
    pub(super) fn drop_empty_folder(&self, slot: &str) -> Result<GivenUp, SideError> {
        match unlinkat(self.shelf(Shelf::Spares), slot, AtFlags::REMOVEDIR) {
            Ok(()) | Err(rustix::io::Errno::NOENT) => Ok(GivenUp::Gone),
            Err(rustix::io::Errno::NOTEMPTY | rustix::io::Errno::EXIST) => {
                Ok(GivenUp::Kept(WhyKept::OtherContent))
            }
            Err(error) => Err(side_error(&error.into())),
        }
    }

    /// Staging holds only what was on its way, never the only copy of anything.
    pub(super) fn clear_staging(&self, keep: &HashSet<String>) -> Result<(), SideError> {
        let names =
            rustix::fs::Dir::read_from(&self.staging).map_err(|error| side_error(&error.into()))?;
        for item in names {
            let item = item.map_err(|error| side_error(&error.into()))?;
            let name = item.file_name().to_string_lossy().into_owned();
            if name != "." && name != ".." && !keep.contains(&name) {
                self.remove(Shelf::Staging, &name)?;
            }
        }
        Ok(())
    }

    /// The time of the file system itself, which stamps its files, be it another computer's clock.
    pub(super) fn now(&self) -> EditTime {
        EditTime(SystemClock.now().0.saturating_add(self.clock_ahead))
    }
}

fn nothing_can_be_made(error: &io::Error) -> bool {
    matches!(
        error.kind(),
        io::ErrorKind::StorageFull
            | io::ErrorKind::QuotaExceeded
            | io::ErrorKind::ReadOnlyFilesystem
    )
}

/// How far the file system's clock is ahead of this computer's, in nanoseconds.
fn clock_ahead(staging: BorrowedFd<'_>) -> io::Result<i64> {
    let flags = OFlags::RDWR | OFlags::CREATE | OFlags::TRUNC | OFlags::CLOEXEC;
    let touched = File::from(rustix::fs::openat(
        staging,
        ".now",
        flags,
        rustix::fs::Mode::from_raw_mode(0o600),
    )?);
    touched.set_times(fs::FileTimes::new().set_modified(std::time::SystemTime::now()))?;
    let stat = system::stat_of(touched.as_fd())?;
    match unlinkat(staging, ".now", AtFlags::empty()) {
        // Somebody else who opened the same folder in the same moment has taken it away.
        Ok(()) | Err(rustix::io::Errno::NOENT) => {}
        Err(why) => return Err(why.into()),
    }
    let stamped = stat
        .stx_ctime
        .tv_sec
        .saturating_mul(1_000_000_000)
        .saturating_add(i64::from(stat.stx_ctime.tv_nsec));
    Ok(stamped.saturating_sub(SystemClock.now().0))
}

/// Makes a folder that only its owner may enter, where it is not there.
fn private_folder(dir: &Path) -> io::Result<()> {
    fs::DirBuilder::new()
        .recursive(true)
        .mode(0o700)
        .create(dir)
}

const MARK: &str = "user.katabatic.root";

/// With the lane's id behind it: a number that grows with each pass. A ledger that knows another one is an older ledger,
/// or the folder is an older folder.
const PASS: &str = "user.katabatic.pass.";

pub(super) fn note_pass(root: BorrowedFd<'_>, lane_id: &str, number: u64) -> bool {
    let (name, number) = (format!("{PASS}{lane_id}"), number.to_string());
    let noted = rustix::fs::fsetxattr(root, name, number.as_bytes(), XattrFlags::empty());
    if let Err(why) = &noted {
        tracing::debug!("the root keeps no number of the pass: {why}");
    }
    noted.is_ok()
}

pub(super) fn noted_pass(root: BorrowedFd<'_>, lane_id: &str) -> Option<u64> {
    let mut buffer = [0u8; 32];
    let length = rustix::fs::fgetxattr(root, format!("{PASS}{lane_id}"), &mut buffer).ok()?;
    std::str::from_utf8(&buffer[..length]).ok()?.parse().ok()
}

/// In the tool's own folder at the root, where the file system holds no extended attributes.
const MARK_FILE: &str = "root";

/// A mark that this folder, and no other at the same path, carries: in an extended attribute where the file system
/// has them, else in a file where the tool's own folder lies at the root. Where there is neither, its inode number has
/// to do. An empty mount point has none of these.
pub(super) fn recognise_root(root: BorrowedFd<'_>, path: &Path) -> Result<String, SideError> {
    let mut buffer = [0u8; 64];
    if let Ok(length) = rustix::fs::fgetxattr(root, MARK, &mut buffer)
        && let Ok(mark) = std::str::from_utf8(&buffer[..length])
    {
        return Ok(format!("mark {mark}"));
    }
    if let Some(mark) = read_mark_file(root) {
        return Ok(format!("mark {mark}"));
    }
    // The descriptor survives a removal; the path tells whether the folder is still what is found there.
    path.metadata()
        .map_err(|why| SideError::NotThere(format!("{}: {why}", path.display())))?;
    let stat = system::stat_of(root).map_err(|error| side_error(&error))?;
    Ok(format!("inode {}", stat.stx_ino))
}

fn own_folder(root: BorrowedFd<'_>) -> io::Result<OwnedFd> {
    let own = RelPath::parse(OWN_FOLDER).map_err(io::Error::other)?;
    system::open_folder(root, &own)
}

fn read_mark_file(root: BorrowedFd<'_>) -> Option<String> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let own = own_folder(root).ok()?;
    let file = rustix::fs::openat(&own, MARK_FILE, flags, rustix::fs::Mode::empty()).ok()?;
    let mut mark = String::new();
    File::from(file).take(64).read_to_string(&mut mark).ok()?;
    (!mark.is_empty()).then_some(mark)
}

/// Gives the root a mark where it can hold one and has none.
pub(crate) fn mark_root(root: BorrowedFd<'_>, mark: &str) -> Result<(), SideError> {
    match rustix::fs::fsetxattr(root, MARK, mark.as_bytes(), XattrFlags::CREATE) {
        Ok(()) | Err(rustix::io::Errno::EXIST) => return Ok(()),
        Err(why) => tracing::debug!("the root holds no attribute: {why}"),
    }
    let Ok(own) = own_folder(root) else {
        // On the computer's own disk the inode number does.
        return Ok(());
    };
    write_mark_file(own.as_fd(), mark).map_err(|error| side_error(&error))
}

/// Whole or not at all: half a mark would be another one.
fn write_mark_file(own: BorrowedFd<'_>, mark: &str) -> io::Result<()> {
    const GROWING: &str = "root-new";
    let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::TRUNC | OFlags::CLOEXEC;
    let mode = rustix::fs::Mode::from_raw_mode(0o600);
    let mut file = File::from(rustix::fs::openat(own, GROWING, flags, mode)?);
    file.write_all(mark.as_bytes())?;
    file.sync_all()?;
    let (from, to) = (OsStr::new(GROWING), OsStr::new(MARK_FILE));
    match system::rename_new((own, from), (own, to)) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
            Ok(unlinkat(own, GROWING, AtFlags::empty())?)
        }
        result => result,
    }
}
