//! The tool's own room beside a local folder: staging and spares, on the same file system.
//!
//! Renames are only one step within a file system. So the room lies in the state folder where that is on the root's
//! own mount, and in a hidden folder at the root otherwise.

use std::collections::HashSet;
use std::ffi::OsStr;
use std::fs::{self, File};
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::Path;

use katabatic_core::{EditTime, Entry};
use rustix::fs::{AtFlags, OFlags, XattrFlags, unlinkat};

use super::{scan, side_error, system};
use crate::clock::{Clock, SystemClock};
use crate::home;
use crate::sides::{OWN_FOLDER, SideError};

pub(super) const STAGING: Shelf = Shelf::Staging;
pub(super) const SPARES: Shelf = Shelf::Spares;

#[derive(Clone, Copy)]
pub(super) enum Shelf {
    Staging,
    Spares,
}

pub(super) struct Room {
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
        home::private_folder(state).map_err(|error| io::Error::other(error.why))?;
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
        Room::at(&dir)
    }

    /// A room in this very folder.
    pub(super) fn at(dir: &Path) -> io::Result<Room> {
        home::private_folder(dir).map_err(|error| io::Error::other(error.why))?;
        let shelf = |name: &str| {
            let path = dir.join(name);
            home::private_folder(&path).map_err(|error| io::Error::other(error.why))?;
            Ok::<_, io::Error>(OwnedFd::from(File::open(path)?))
        };
        let staging = shelf("staging")?;
        let clock_ahead = clock_ahead(staging.as_fd())?;
        Ok(Room {
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

    pub(super) fn entry(&self, shelf: Shelf, slot: &str) -> Result<Option<Entry>, SideError> {
        let folder = self.shelf(shelf);
        let looked = system::stat_of(folder).and_then(|own| {
            Ok(scan::entry(
                &system::stat_at(folder, OsStr::new(slot))?,
                own.stx_mnt_id,
            ))
        });
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
        match unlinkat(self.shelf(shelf), slot, AtFlags::empty()) {
            Ok(()) | Err(rustix::io::Errno::NOENT) => Ok(()),
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
    unlinkat(staging, ".now", AtFlags::empty())?;
    let stamped = stat
        .stx_ctime
        .tv_sec
        .saturating_mul(1_000_000_000)
        .saturating_add(i64::from(stat.stx_ctime.tv_nsec));
    Ok(stamped.saturating_sub(SystemClock.now().0))
}

const MARK: &str = "user.katabatic.root";

/// A mark that this folder, and no other at the same path, carries: in an extended attribute where the file system
/// has them, and its inode number where not. An empty mount point has neither.
pub(super) fn recognise_root(root: BorrowedFd<'_>, path: &Path) -> Result<String, SideError> {
    let mut buffer = [0u8; 64];
    if let Ok(length) = rustix::fs::fgetxattr(root, MARK, &mut buffer)
        && let Ok(mark) = std::str::from_utf8(&buffer[..length])
    {
        return Ok(format!("mark {mark}"));
    }
    // The descriptor survives a removal; the path tells whether the folder is still what is found there.
    path.metadata()
        .map_err(|why| SideError::NotThere(format!("{}: {why}", path.display())))?;
    let stat = system::stat_of(root).map_err(|error| side_error(&error))?;
    Ok(format!("inode {}", stat.stx_ino))
}

/// Gives the root a mark where it can hold one.
pub(crate) fn mark_root(root: BorrowedFd<'_>, mark: &str) {
    // Without extended attributes the inode number has to do; see `recognise_root`.
    if let Err(why) = rustix::fs::fsetxattr(root, MARK, mark.as_bytes(), XattrFlags::CREATE) {
        tracing::debug!("the near root keeps no mark: {why}");
    }
}
