//! By what a folder of this computer is known again as the one that was tied: a mark in it, and what no copy of it has.
//!
//! The mark is an extended attribute, and so it is copied with the folder. A half copy at the same path, which somebody
//! makes when a disk is replaced, would pass for the folder, and what is missing in it would count as removed. So where
//! the file system gives every folder a number of its own for good, that number and the instant of its birth belong to the
//! mark: no copy has both.

use std::ffi::OsStr;
use std::fs::File;
use std::io::{self, Read, Write};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::Path;

use rustix::fs::{AtFlags, OFlags, StatxFlags, XattrFlags, statx, unlinkat};

use super::own_folder;
use super::{side_error, system};
use crate::SideError;
use katabatic_core::known_root::KnownRoot;

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

/// What a root is known by.
///
/// # Errors
/// [`SideError::NotThere`] where the folder is not there any more, or another one is at its path now.
pub(super) fn recognise_root(root: BorrowedFd<'_>, path: &Path) -> Result<KnownRoot, SideError> {
    check_alive(root, path)?;
    let Some(mark) = read_mark(root) else {
        let stat = system::stat_of(root).map_err(|error| side_error(&error))?;
        return Ok(KnownRoot::Inode(stat.stx_ino));
    };
    Ok(KnownRoot::Marked {
        mark,
        folder: lasting_number(root),
    })
}

/// File systems of which it is known that a folder keeps its number and the instant of its birth for as long as it is
/// there, mounted anywhere.
const LASTING: [&str; 6] = ["ext2", "ext3", "ext4", "xfs", "btrfs", "f2fs"];

fn lasting_number(root: BorrowedFd<'_>) -> Option<String> {
    let stat = statx(
        root,
        "",
        AtFlags::EMPTY_PATH,
        StatxFlags::BASIC_STATS | StatxFlags::BTIME | StatxFlags::MNT_ID,
    )
    .ok()?;
    let kind = super::abilities::kind_of(stat.stx_mnt_id)?;
    let has_birth = stat.stx_mask & StatxFlags::BTIME.bits() != 0;
    (LASTING.contains(&kind.as_str()) && has_birth).then(|| {
        let born = stat.stx_btime;
        format!("{}.{}.{:09}", stat.stx_ino, born.tv_sec, born.tv_nsec)
    })
}

/// The folder that was opened is still the one at its path. A descriptor outlives a removal, and shows an empty folder
/// then.
///
/// # Errors
/// [`SideError::NotThere`] where it is not.
pub(super) fn check_alive(root: BorrowedFd<'_>, path: &Path) -> Result<(), SideError> {
    use std::os::unix::fs::MetadataExt;
    let gone = |why: String| SideError::not_there(format!("{}: {why}", path.display()));
    let there = path.metadata().map_err(|why| gone(why.to_string()))?;
    let open = rustix::fs::fstat(root).map_err(|why| gone(why.to_string()))?;
    match (there.dev(), there.ino()) == (open.st_dev, open.st_ino) {
        true => Ok(()),
        false => Err(gone("another folder has its place".into())),
    }
}

/// The mark in the root's attribute, else in the file where the tool's own folder lies at the root.
fn read_mark(root: BorrowedFd<'_>) -> Option<String> {
    let mut buffer = [0u8; 64];
    let attribute = rustix::fs::fgetxattr(root, MARK, &mut buffer).ok();
    let attribute = attribute.and_then(|length| std::str::from_utf8(&buffer[..length]).ok());
    match attribute {
        Some(mark) => Some(mark.to_owned()),
        None => read_mark_file(root),
    }
}

/// Nobody who may write at the top says whose mark it bears.
fn folder_of_ours(root: BorrowedFd<'_>) -> io::Result<OwnedFd> {
    let own = own_folder::open_ours(root, &own_folder::name(root, "")?)?;
    own.ok_or_else(|| io::ErrorKind::NotFound.into())
}

fn read_mark_file(root: BorrowedFd<'_>) -> Option<String> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let own = folder_of_ours(root).ok()?;
    let file = rustix::fs::openat(&own, MARK_FILE, flags, rustix::fs::Mode::empty()).ok()?;
    let mut mark = String::new();
    File::from(file).take(64).read_to_string(&mut mark).ok()?;
    (!mark.is_empty()).then_some(mark)
}

/// Gives the root a mark where it can hold one and has none.
pub(super) fn mark_root(root: BorrowedFd<'_>, mark: &str) -> Result<(), SideError> {
    match rustix::fs::fsetxattr(root, MARK, mark.as_bytes(), XattrFlags::CREATE) {
        Ok(()) | Err(rustix::io::Errno::EXIST) => return Ok(()),
        Err(why) => tracing::debug!("the root holds no attribute: {why}"),
    }
    let Ok(own) = folder_of_ours(root) else {
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
