//! The tool's own room beside a local folder: staging and spares, on the same file system.
//!
//! Renames are only one step within a file system. So the room lies in the state folder where that is on the root's
//! own mount, and in a hidden folder at the root otherwise.

use std::collections::HashSet;
use std::ffi::OsStr;
use std::fs::{self, File};
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

use katabatic_core::{EditTime, Entry};
use rustix::fs::{AtFlags, OFlags, unlinkat};

use super::own_folder::{self, open_ours, open_private};
use super::{scan, side_error, stub, system};
use crate::clock::{Clock, SystemClock};
use crate::{GivenUp, SideError, WhyKept};

pub(super) const STAGING: Shelf = Shelf::Staging;
pub(super) const SPARES: Shelf = Shelf::Spares;

/// The folder of a room that keeps the names of stubs.
pub const STUBS: &str = "stubs";

/// The folder of the spares in a room.
pub const SPARES_FOLDER: &str = "spares";

#[derive(Clone, Copy)]
pub(super) enum Shelf {
    Staging,
    Spares,
}

/// Where a lane's own things lie for a folder.
pub struct RoomPlace {
    /// The folder.
    pub dir: PathBuf,
    /// Whether it is with the tool's state, and not at the folder's top.
    at_state: bool,
    /// Where it would lie if the folder were on another disk than it is: things may lie there from when it was, or from
    /// when the tool's state was on another.
    pub other: PathBuf,
}

/// Where the room for the folder `root` is: with the tool's state where one rename reaches from there to the folder, at
/// the folder's top otherwise. Renames reach no further than one mount, and two mounts of one disk are two.
///
/// # Errors
/// Where one of the two is not there.
pub fn place(root: &Path, state: &Path, lane_id: &str) -> io::Result<RoomPlace> {
    place_of(File::open(root)?.as_fd(), root, state, lane_id)
}

fn place_of(
    root: BorrowedFd<'_>,
    root_path: &Path,
    state: &Path,
    lane_id: &str,
) -> io::Result<RoomPlace> {
    let at_root = root_path
        .join(own_folder::name(root, lane_id)?)
        .join(lane_id);
    let at_state = system::is_one_mount(root, File::open(state)?.as_fd())?;
    let (dir, other) = match at_state {
        true => (state.to_owned(), at_root),
        false => (at_root, state.to_owned()),
    };
    Ok(RoomPlace {
        dir,
        at_state,
        other,
    })
}

pub(super) struct Room {
    dir: OwnedFd,
    path: PathBuf,
    staging: OwnedFd,
    spares: OwnedFd,
    /// Spares that lie where the room would be on another disk: from before the home, or the folder, was moved.
    spares_elsewhere: Option<OwnedFd>,
    clock_ahead: i64,
}

impl Room {
    pub(super) fn choose(
        root: BorrowedFd<'_>,
        root_path: &Path,
        state: &Path,
        lane_id: &str,
    ) -> io::Result<Room> {
        private_folder(state)?;
        let place = place_of(root, root_path, state, lane_id)?;
        if place.at_state {
            let mut room = Room::at(&place.dir)?;
            room.spares_elsewhere = spares_at_root(root, lane_id);
            return Ok(room);
        }
        match Room::at_root(root, lane_id, &place.dir) {
            // Nothing will be staged or kept on a disk that may only be read.
            Err(error) if error.kind() == io::ErrorKind::ReadOnlyFilesystem => Room::at(state),
            Err(error) => Err(error),
            Ok(mut room) => {
                let elsewhere = File::open(state.join(SPARES_FOLDER));
                room.spares_elsewhere = elsewhere.ok().map(OwnedFd::from);
                Ok(room)
            }
        }
    }

    /// A room at the top of a folder, where others may be, too.
    fn at_root(root: BorrowedFd<'_>, lane_id: &str, path: &Path) -> io::Result<Room> {
        let own = open_private(root, &own_folder::name(root, lane_id)?)?;
        let dir = open_private(own.as_fd(), lane_id)?;
        Room::of(dir, path)
    }

    /// A room in this very folder.
    pub(super) fn at(dir: &Path) -> io::Result<Room> {
        private_folder(dir)?;
        Room::of(OwnedFd::from(File::open(dir)?), dir)
    }

    fn of(dir: OwnedFd, path: &Path) -> io::Result<Room> {
        let staging = open_private(dir.as_fd(), "staging")?;
        let clock_ahead = match clock_ahead(staging.as_fd()) {
            Ok(ahead) => ahead,
            // What is full or may only be read can be looked at all the same.
            Err(error) if nothing_can_be_made(&error) => 0,
            Err(error) => return Err(error),
        };
        Ok(Room {
            spares: open_private(dir.as_fd(), SPARES_FOLDER)?,
            dir,
            path: path.to_owned(),
            staging,
            spares_elsewhere: None,
            clock_ahead,
        })
    }

    pub(super) fn shelf(&self, shelf: Shelf) -> BorrowedFd<'_> {
        match shelf {
            Shelf::Staging => self.staging.as_fd(),
            Shelf::Spares => self.spares.as_fd(),
        }
    }

    /// The folder in which a slot of a shelf lies.
    pub(super) fn folder_of(&self, shelf: Shelf, slot: &str) -> BorrowedFd<'_> {
        let here = self.shelf(shelf);
        match (shelf, &self.spares_elsewhere) {
            (Shelf::Spares, Some(elsewhere))
                if system::stat_at(here, OsStr::new(slot)).is_err()
                    && system::stat_at(elsewhere.as_fd(), OsStr::new(slot)).is_ok() =>
            {
                elsewhere.as_fd()
            }
            (Shelf::Staging | Shelf::Spares, _) => here,
        }
    }

    /// Where a spare lies from which no rename reaches the folder; none where one does.
    pub(super) fn lies_elsewhere(&self, slot: &str) -> Option<PathBuf> {
        use std::os::fd::AsRawFd;
        let elsewhere = self.spares_elsewhere.as_ref()?;
        let folder = self.folder_of(Shelf::Spares, slot).as_raw_fd();
        let at = std::fs::read_link(format!("/proc/self/fd/{folder}")).ok()?;
        (folder == elsewhere.as_raw_fd()).then(|| at.join(slot))
    }

    /// All that lies among the spares.
    pub(super) fn names_of_spares(&self) -> Result<Vec<String>, SideError> {
        let mut names = Vec::new();
        for folder in [Some(&self.spares), self.spares_elsewhere.as_ref()]
            .into_iter()
            .flatten()
        {
            names.extend(names_in(folder.as_fd()).map_err(|error| side_error(&error))?);
        }
        Ok(names)
    }

    /// Whether a folder among the spares has nothing in it.
    pub(super) fn is_empty_folder(&self, slot: &str) -> Result<bool, SideError> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let folder = self.folder_of(Shelf::Spares, slot);
        match rustix::fs::openat(folder, slot, flags, rustix::fs::Mode::empty()) {
            Ok(folder) => {
                let names = names_in(folder.as_fd()).map_err(|error| side_error(&error))?;
                Ok(names.is_empty())
            }
            Err(error) => Err(side_error(&error.into())),
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
        let folder = self.folder_of(shelf, slot);
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
            self.folder_of(shelf, slot),
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
        match unlinkat(self.folder_of(shelf, slot), slot, AtFlags::empty()) {
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
        let shelf = std::os::fd::AsRawFd::as_raw_fd(&self.folder_of(Shelf::Spares, slot));
        match std::fs::remove_dir_all(format!("/proc/self/fd/{shelf}/{slot}")) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
            dropped => dropped.map_err(|error| side_error(&error)),
        }
    }

    /// Removes a folder among the spares that has nothing in it.
    pub(super) fn drop_empty_folder(&self, slot: &str) -> Result<GivenUp, SideError> {
        match unlinkat(
            self.folder_of(Shelf::Spares, slot),
            slot,
            AtFlags::REMOVEDIR,
        ) {
            Ok(()) | Err(rustix::io::Errno::NOENT) => Ok(GivenUp::Gone),
            Err(rustix::io::Errno::NOTEMPTY | rustix::io::Errno::EXIST) => {
                Ok(GivenUp::Kept(WhyKept::OtherContent))
            }
            Err(error) => Err(side_error(&error.into())),
        }
    }

    /// Staging holds only what was on its way, never the only copy of anything.
    pub(super) fn clear_staging(&self, keep: &HashSet<String>) -> Result<(), SideError> {
        let names = names_in(self.staging.as_fd()).map_err(|error| side_error(&error))?;
        for name in names.iter().filter(|name| !keep.contains(*name)) {
            self.remove(Shelf::Staging, name)?;
        }
        Ok(())
    }

    /// The time of the file system itself, which stamps its files, be it another computer's clock.
    pub(super) fn now(&self) -> EditTime {
        EditTime(SystemClock.now().0.saturating_add(self.clock_ahead))
    }
}

/// Spares at the top of a folder, from when the tool's state was on another disk.
fn spares_at_root(root: BorrowedFd<'_>, lane_id: &str) -> Option<OwnedFd> {
    let name = own_folder::name(root, lane_id).ok()?;
    let own = open_ours(root, &name).ok()??;
    let dir = open_ours(own.as_fd(), lane_id).ok()??;
    open_ours(dir.as_fd(), SPARES_FOLDER).ok()?
}

/// Everything in a folder of ours.
fn names_in(folder: BorrowedFd<'_>) -> io::Result<Vec<String>> {
    let mut names = Vec::new();
    for item in rustix::fs::Dir::read_from(folder)? {
        let name = item?.file_name().to_string_lossy().into_owned();
        if name != "." && name != ".." {
            names.push(name);
        }
    }
    Ok(names)
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
