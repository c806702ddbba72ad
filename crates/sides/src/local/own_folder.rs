//! The tool's own folder at the top of a local one, where others may be who make names there, too.
//!
//! Whoever may write at the top can make a folder of that name beforehand: spares would lie with them, and a link in it
//! would lead anywhere. So it is opened below the top without following links, it has to belong to us, and nobody else
//! may write in it; the same goes for all that is in it. Where somebody else has the name, another one is taken.

use std::ffi::OsStr;
use std::fs;
use std::io;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use rustix::fs::{Mode, OFlags, mkdirat, openat};
use rustix::io::Errno;

use super::abilities::kind_of;
use super::system;
use crate::{OTHER_OWN_FOLDER, OWN_FOLDER};

/// Whoever makes more of them than this is in the way on purpose.
const MOST: u32 = 100;

/// File systems that keep whose a file is and who may write it. Of what another one shows, nothing is concluded.
const KEEP_RIGHTS: [&str; 8] = [
    "bcachefs", "btrfs", "ext2", "ext3", "ext4", "f2fs", "tmpfs", "xfs",
];

/// What has a name.
enum Has {
    Nobody,
    Ours(OwnedFd),
    /// It belongs to us, and others may write in it: somebody gave them the right, such as by `chmod -R`.
    OursAndOpen(OwnedFd),
    Others,
}

/// Opens a folder in another one, and makes it where nothing has the name. Where others were given the right to write in
/// it, it is taken from them: what was kept in it stays found.
///
/// # Errors
/// [`io::ErrorKind::PermissionDenied`] where it is not ours, or no folder.
pub(super) fn open_private(folder: BorrowedFd<'_>, name: &str) -> io::Result<OwnedFd> {
    let made = match mkdirat(folder, name, Mode::from_raw_mode(0o700)) {
        Ok(()) | Err(Errno::EXIST) => Ok(()),
        Err(why) => Err(io::Error::from(why)),
    };
    match has(folder, name)? {
        // What may only be read can be looked at.
        Has::Ours(there) => Ok(there),
        Has::OursAndOpen(there) => {
            close(&there)?;
            Ok(there)
        }
        Has::Nobody => Err(made.err().unwrap_or(io::ErrorKind::NotFound.into())),
        Has::Others => Err(io::Error::new(
            io::ErrorKind::PermissionDenied,
            format!("{name} belongs to somebody else, or is no folder"),
        )),
    }
}

/// The same of one that is there and that nobody else may write in.
pub(super) fn open_ours(folder: BorrowedFd<'_>, name: &str) -> io::Result<Option<OwnedFd>> {
    match has(folder, name)? {
        Has::Ours(there) => Ok(Some(there)),
        Has::Nobody | Has::OursAndOpen(_) | Has::Others => Ok(None),
    }
}

fn has(folder: BorrowedFd<'_>, name: &str) -> io::Result<Has> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let there = match openat(folder, name, flags, Mode::empty()) {
        Ok(there) => there,
        Err(Errno::NOENT) => return Ok(Has::Nobody),
        Err(Errno::LOOP | Errno::NOTDIR) => return Ok(Has::Others),
        Err(Errno::ACCESS) => {
            // Where the folder around it may not be entered, nothing is known of the name.
            system::stat_at(folder, OsStr::new(name))?;
            return Ok(Has::Others);
        }
        Err(why) => return Err(why.into()),
    };
    let stat = system::stat_of(there.as_fd())?;
    let keeps_rights = kind_of(stat.stx_mnt_id).is_some_and(|kind| KEEP_RIGHTS.contains(&&*kind));
    let is_ours = stat.stx_uid == rustix::process::geteuid().as_raw();
    Ok(match (keeps_rights, is_ours, stat.stx_mode & 0o022) {
        (false, _, _) | (true, true, 0) => Has::Ours(there),
        (true, true, _) => Has::OursAndOpen(there),
        (true, false, _) => Has::Others,
    })
}

fn close(folder: &OwnedFd) -> io::Result<()> {
    Ok(rustix::fs::fchmod(folder, Mode::from_raw_mode(0o700))?)
}

/// The names that it may have, the usual one first.
fn names() -> impl Iterator<Item = String> {
    let others = (1..MOST).map(|number| format!("{OTHER_OWN_FOLDER}{number}"));
    std::iter::once(OWN_FOLDER.to_owned()).chain(others)
}

/// The name of ours at the top of a folder: of one that is there, the one that holds this lane's things before others;
/// where there is none, the first that nobody has.
///
/// # Errors
/// Where the folder cannot be read, or every name is taken.
pub(crate) fn name(root: BorrowedFd<'_>, lane_id: &str) -> io::Result<String> {
    let (mut ours, mut free) = (None, None);
    let holds_the_lane =
        |there: &OwnedFd| system::stat_at(there.as_fd(), OsStr::new(lane_id)).is_ok();
    for name in names() {
        match has(root, &name)? {
            Has::Ours(there) => {
                if holds_the_lane(&there) {
                    return Ok(name);
                }
                ours = ours.or(Some(name));
            }
            // With what the lane has kept in it; an empty one tells nothing, and another is taken.
            Has::OursAndOpen(there) if holds_the_lane(&there) => {
                close(&there)?;
                return Ok(name);
            }
            Has::Nobody => {
                // Names are taken one after the other.
                let is_usual = name == OWN_FOLDER;
                free = free.or(Some(name));
                if !is_usual {
                    break;
                }
            }
            Has::OursAndOpen(_) | Has::Others => {}
        }
    }
    let taken = || {
        io::Error::other(format!(
            "others have all the names that the tool's own folder can have, {OWN_FOLDER} and {OTHER_OWN_FOLDER}1 to {OTHER_OWN_FOLDER}{}",
            MOST - 1
        ))
    };
    ours.or(free).ok_or_else(taken)
}

/// Its path, by the path of the folder; the usual one where the folder is not there.
pub fn path(root: &Path, lane_id: &str) -> PathBuf {
    let name = fs::File::open(root).and_then(|root| name(root.as_fd(), lane_id));
    root.join(name.unwrap_or_else(|_| OWN_FOLDER.to_owned()))
}

/// It, made where it is not there; and a path to it that leads nowhere else, whatever others do at the top meanwhile, for
/// as long as it is held.
pub fn hold(root: &Path, lane_id: &str) -> io::Result<(OwnedFd, PathBuf)> {
    let root = fs::File::open(root)?;
    let own = open_private(root.as_fd(), &name(root.as_fd(), lane_id)?)?;
    let path = format!("/proc/self/fd/{}", own.as_raw_fd());
    Ok((own, path.into()))
}

/// What is to be told of it, where it does not have its usual name.
pub(super) fn shortcoming(root: &Path, lane_id: &str) -> Option<String> {
    let own = path(root, lane_id);
    let name = own.file_name()?.to_string_lossy().into_owned();
    let usual = fs::symlink_metadata(root.join(OWN_FOLDER)).ok()?;
    (name != OWN_FOLDER).then(|| {
        format!(
            "{OWN_FOLDER} in it belongs to somebody else (user {}), or others may write in it: what is kept lies in {name}",
            usual.uid()
        )
    })
}
