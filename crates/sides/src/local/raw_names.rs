//! The names of a local folder as the disk has them, bytes that are no UTF-8 included.
//!
//! No lane carries a name that is no UTF-8, so everything else here works with text. To give such a file another name, it
//! has to be reached by the one it has.

use std::ffi::{OsStr, OsString};
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};

use rustix::fs::{Dir, FileType, Mode, OFlags, openat};

use super::{open_root, system};
use crate::SideError;
use crate::stop::Stop;

/// A name in a folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RawName {
    /// Its bytes.
    pub name: OsString,
    /// Whether it is a folder, and not a link to one.
    pub folder: bool,
}

/// Shows each folder below a root to `see`, with its path and its names; that says which of the folders in it are to be looked
/// into. Links are not followed, and other file systems not entered.
///
/// # Errors
/// Where the root is not there, a folder cannot be read, or somebody asked to stop.
pub fn each_folder(
    root: &Path,
    stop: &Stop,
    see: &mut dyn FnMut(&Path, &[RawName]) -> Vec<OsString>,
) -> Result<(), SideError> {
    let top = open_root(root)?;
    let mut open = vec![PathBuf::new()];
    while let Some(folder) = open.pop() {
        if stop.asked() {
            return Err(SideError::Stopped);
        }
        let names = names_in(top.as_fd(), &folder).map_err(|why| {
            SideError::Failed(format!("{} cannot be read: {why}", folder.display()))
        })?;
        open.extend(
            see(&folder, &names)
                .into_iter()
                .map(|name| folder.join(name)),
        );
    }
    Ok(())
}

/// Gives a file or a folder another name in the same folder, where that name is free.
///
/// # Errors
/// As the system says; [`io::ErrorKind::AlreadyExists`] where something has the new name.
pub fn rename_in(root: &Path, folder: &Path, from: &OsStr, to: &str) -> Result<(), SideError> {
    let top = open_root(root)?;
    let renamed = open_raw(top.as_fd(), folder).and_then(|folder| {
        let folder = folder.as_fd();
        system::rename_new((folder, from), (folder, OsStr::new(to)))?;
        Ok(rustix::fs::fsync(folder)?)
    });
    renamed.map_err(|why| SideError::Failed(why.to_string()))
}

fn names_in(top: BorrowedFd<'_>, folder: &Path) -> io::Result<Vec<RawName>> {
    let descriptor = match open_raw(top, folder) {
        // Removed, or made a link, since its parent was read; or another file system.
        Err(why) if matches!(why.raw_os_error(), Some(ENOENT | ENOTDIR | ELOOP | EXDEV)) => {
            return Ok(Vec::new());
        }
        opened => opened?,
    };
    let mut names = Vec::new();
    for item in Dir::read_from(&descriptor)? {
        let item = item?;
        let name = item.file_name().to_bytes();
        if name == b"." || name == b".." {
            continue;
        }
        let kind = match item.file_type() {
            // Not every file system says so in a listing.
            FileType::Unknown => {
                let stat = system::stat_at(descriptor.as_fd(), OsStr::from_bytes(name))?;
                FileType::from_raw_mode(stat.stx_mode.into())
            }
            told => told,
        };
        names.push(RawName {
            name: OsString::from_vec(name.to_vec()),
            folder: kind == FileType::Directory,
        });
    }
    names.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(names)
}

const ENOENT: i32 = rustix::io::Errno::NOENT.raw_os_error();
const ENOTDIR: i32 = rustix::io::Errno::NOTDIR.raw_os_error();
const ELOOP: i32 = rustix::io::Errno::LOOP.raw_os_error();
const EXDEV: i32 = rustix::io::Errno::XDEV.raw_os_error();

/// Opens a folder below the top, part by part, so that no path is too long and no link is followed.
fn open_raw(top: BorrowedFd<'_>, folder: &Path) -> io::Result<OwnedFd> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let mut open = openat(top, ".", flags, Mode::empty())?;
    let mount = system::stat_of(open.as_fd())?.stx_mnt_id;
    for part in folder.iter() {
        if part == ".." {
            return Err(io::Error::other("a path that leads out of the folder"));
        }
        open = openat(open.as_fd(), part, flags, Mode::empty())?;
        if system::stat_of(open.as_fd())?.stx_mnt_id != mount {
            return Err(rustix::io::Errno::XDEV.into());
        }
    }
    Ok(open)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;

    #[test]
    fn names_are_seen_and_changed_by_their_bytes() {
        let dir = tempfile::tempdir().unwrap();
        let odd = dir.path().join(OsStr::from_bytes(b"caf\xe9"));
        fs::create_dir_all(&odd).unwrap();
        fs::write(odd.join(OsStr::from_bytes(b"\xff.txt")), "x").unwrap();
        std::os::unix::fs::symlink("/", dir.path().join("link")).unwrap();

        let mut seen = Vec::new();
        each_folder(dir.path(), &Stop::default(), &mut |folder, names| {
            seen.push((folder.to_owned(), names.to_vec()));
            let folders = names.iter().filter(|name| name.folder);
            folders.map(|name| name.name.clone()).collect()
        })
        .unwrap();
        assert_eq!(seen.len(), 2, "{seen:?}");
        assert_eq!(seen[1].1[0].name.as_bytes(), b"\xff.txt");

        let rename = |folder: &[u8], from: &[u8], to| {
            let folder = Path::new(OsStr::from_bytes(folder));
            rename_in(dir.path(), folder, OsStr::from_bytes(from), to)
        };
        rename(b"caf\xe9", b"\xff.txt", "plain.txt").unwrap();
        assert_eq!(fs::read(odd.join("plain.txt")).unwrap(), b"x");
        fs::write(odd.join("other"), "y").unwrap();
        assert!(rename(b"caf\xe9", b"other", "plain.txt").is_err());
        assert_eq!(fs::read(odd.join("plain.txt")).unwrap(), b"x");
        assert!(rename(b"..", b"x", "y").is_err() && rename(b"link", b"tmp", "y").is_err());
    }
}
