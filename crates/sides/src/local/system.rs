//! The calls that differ between operating systems: all of this is Linux.

use std::ffi::OsStr;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use katabatic_core::RelPath;
use rustix::fs::{
    AtFlags, Mode, OFlags, RenameFlags, ResolveFlags, Statx, StatxFlags, linkat, openat2, renameat,
    renameat_with, statx, unlinkat,
};
use rustix::io::Errno;

/// A path of this length or more is opened folder by folder: the system takes 4096 bytes at once.
const LONG_PATH: usize = 3900;

const BELOW: ResolveFlags = ResolveFlags::BENEATH
    .union(ResolveFlags::NO_SYMLINKS)
    .union(ResolveFlags::NO_MAGICLINKS)
    .union(ResolveFlags::NO_XDEV);

/// Opens something below `root`, never following a link and never leaving the file system.
pub(super) fn open_below(
    root: BorrowedFd<'_>,
    path: &RelPath,
    flags: OFlags,
) -> io::Result<OwnedFd> {
    // `NO_SYMLINKS` covers the last part too, and says "a link" where `NOFOLLOW` would say "not a folder".
    let flags = flags | OFlags::CLOEXEC;
    if path.is_root() {
        return Ok(openat2(root, ".", flags, Mode::empty(), BELOW)?);
    }
    if path.as_str().len() < LONG_PATH {
        return Ok(openat2(root, path.as_str(), flags, Mode::empty(), BELOW)?);
    }
    let folder = open_folder(root, &path.parent().unwrap_or_else(RelPath::root))?;
    Ok(openat2(
        folder.as_fd(),
        path.name(),
        flags,
        Mode::empty(),
        BELOW,
    )?)
}

/// Opens a folder below `root`, to work in with the `*at` calls.
pub(super) fn open_folder(root: BorrowedFd<'_>, path: &RelPath) -> io::Result<OwnedFd> {
    open_below(root, path, OFlags::RDONLY | OFlags::DIRECTORY)
}

/// The state of a name in a folder, a link's own and not its target's.
pub(super) fn stat_at(folder: BorrowedFd<'_>, name: &OsStr) -> io::Result<Statx> {
    Ok(statx(
        folder,
        name,
        AtFlags::SYMLINK_NOFOLLOW,
        StatxFlags::BASIC_STATS | StatxFlags::MNT_ID,
    )?)
}

/// The state of an open descriptor.
pub(super) fn stat_of(descriptor: BorrowedFd<'_>) -> io::Result<Statx> {
    Ok(statx(
        descriptor,
        "",
        AtFlags::EMPTY_PATH,
        StatxFlags::BASIC_STATS | StatxFlags::MNT_ID,
    )?)
}

/// Whether two descriptors are on one mount, so that a rename reaches from one to the other.
pub(super) fn is_one_mount(a: BorrowedFd<'_>, b: BorrowedFd<'_>) -> io::Result<bool> {
    let of = |stat: Statx| (stat.stx_mnt_id, stat.stx_dev_major, stat.stx_dev_minor);
    Ok(of(stat_of(a)?) == of(stat_of(b)?))
}

/// Whether a rename reaches from one folder to the other.
///
/// # Errors
/// Where one of the two is not there.
pub fn is_one_disk(a: &std::path::Path, b: &std::path::Path) -> io::Result<bool> {
    is_one_mount(
        std::fs::File::open(a)?.as_fd(),
        std::fs::File::open(b)?.as_fd(),
    )
}

/// Renames where the new name is free.
pub(super) fn rename_new(
    from: (BorrowedFd<'_>, &OsStr),
    to: (BorrowedFd<'_>, &OsStr),
) -> io::Result<()> {
    match renameat_with(from.0, from.1, to.0, to.1, RenameFlags::NOREPLACE) {
        // A second name and then the removal of the first never replaces anything either.
        Err(Errno::INVAL | Errno::NOSYS | Errno::NOTSUP) => {
            match linkat(from.0, from.1, to.0, to.1, AtFlags::empty()) {
                Ok(()) => Ok(unlinkat(from.0, from.1, AtFlags::empty())?),
                // No second names, or not of folders.
                Err(Errno::PERM | Errno::NOSYS | Errno::NOTSUP | Errno::MLINK) => {
                    rename_after_a_look(from, to)
                }
                Err(error) => Err(error.into()),
            }
        }
        result => Ok(result?),
    }
}

/// Where the file system guards no name: the instant between the look and the renaming is all that is left open.
fn rename_after_a_look(
    from: (BorrowedFd<'_>, &OsStr),
    to: (BorrowedFd<'_>, &OsStr),
) -> io::Result<()> {
    match stat_at(to.0, to.1) {
        Ok(_) => Err(Errno::EXIST.into()),
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            Ok(renameat(from.0, from.1, to.0, to.1)?)
        }
        Err(error) => Err(error),
    }
}

/// Exchanges two names in one step; `false` where the file system cannot.
pub(super) fn exchange(
    a: (BorrowedFd<'_>, &OsStr),
    b: (BorrowedFd<'_>, &OsStr),
) -> io::Result<bool> {
    match renameat_with(a.0, a.1, b.0, b.1, RenameFlags::EXCHANGE) {
        Ok(()) => Ok(true),
        Err(Errno::INVAL | Errno::NOSYS | Errno::NOTSUP) => Ok(false),
        Err(error) => Err(error.into()),
    }
}
