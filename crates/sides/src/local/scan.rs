//! Looking at a local folder.

use std::ffi::OsStr;
use std::fs::File;
use std::io;
use std::os::fd::{AsFd, BorrowedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use async_trait::async_trait;
use katabatic_core::{Entry, Kind, Listing, OddKind, RelPath, Unknown};
use rustix::fs::{Dir, FileType, Statx};

use super::{Inner, fingerprint, side_error, stub, system};
use crate::walk::{Folder, Lister};
use crate::{SideError, Unusable};

pub(super) struct LocalLister(pub(super) Arc<Inner>);

#[async_trait]
impl Lister for LocalLister {
    async fn list(&self, folder: &RelPath) -> Result<Folder, SideError> {
        let (inner, folder) = (Arc::clone(&self.0), folder.clone());
        tokio::task::spawn_blocking(move || list(&inner, &folder))
            .await
            .unwrap_or_else(|error| {
                Err(SideError::Failed(format!("the listing broke off: {error}")))
            })
    }
}

pub(super) fn list(inner: &Inner, path: &RelPath) -> Result<Folder, SideError> {
    if inner.stop.asked() {
        return Err(SideError::Stopped);
    }
    read_folder(inner, path).map_err(|error| match side_error(&error) {
        SideError::Missing if path.is_root() => SideError::not_there("the folder is gone"),
        // It was there when its parent was listed. Gone since, or on its way: not a proof of a removal.
        SideError::Missing => SideError::Failed("it went away while it was being listed".into()),
        other => other,
    })
}

fn read_folder(inner: &Inner, path: &RelPath) -> io::Result<Folder> {
    let descriptor = system::open_folder(inner.root.as_fd(), path)?;
    let mount = system::stat_of(descriptor.as_fd())?.stx_mnt_id;
    let mut folder = Folder::default();
    for item in Dir::read_from(&descriptor)? {
        let item = item?;
        let bytes = item.file_name().to_bytes();
        if bytes == b"." || bytes == b".." {
            continue;
        }
        let Ok(name) = std::str::from_utf8(bytes) else {
            folder.unusable.push(Unusable {
                shown: format!("{}/{}", path, bytes.escape_ascii())
                    .trim_start_matches('/')
                    .to_owned(),
                why: "its name is not valid UTF-8; renamed, it is carried (katabatic names)".into(),
            });
            continue;
        };
        match noted_at(inner, descriptor.as_fd(), OsStr::from_bytes(bytes), mount) {
            Ok(entry) => folder.names.push((name.to_owned(), entry)),
            // Removed between the reading of the folder and the look at it.
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            Err(error) => return Err(error),
        }
    }
    Ok(folder)
}

/// Whether a stub has this name.
///
/// # Errors
/// As the system says.
pub fn is_stub(path: &Path) -> io::Result<bool> {
    let (Some(parent), Some(name)) = (path.parent(), path.file_name()) else {
        return Ok(false);
    };
    let folder = File::open(parent)?;
    let own = system::stat_of(folder.as_fd())?;
    Ok(entry_at(folder.as_fd(), name, own.stx_mnt_id)?.is_stub())
}

/// What a name in a folder is; a stub that has rights is counted.
fn noted_at(inner: &Inner, folder: BorrowedFd<'_>, name: &OsStr, mount: u64) -> io::Result<Entry> {
    let stat = system::stat_at(folder, name)?;
    let entry = entry_of(folder, name, &stat, mount);
    if entry.is_stub() && stat.stx_mode & 0o7777 != 0 {
        inner.open_stubs.fetch_add(1, Ordering::Relaxed);
    }
    Ok(entry)
}

/// What a name in a folder is.
pub(super) fn entry_at(folder: BorrowedFd<'_>, name: &OsStr, mount: u64) -> io::Result<Entry> {
    let stat = system::stat_at(folder, name)?;
    Ok(entry_of(folder, name, &stat, mount))
}

fn entry_of(folder: BorrowedFd<'_>, name: &OsStr, stat: &Statx, mount: u64) -> Entry {
    let entry = entry(stat, mount);
    if entry.kind == Kind::File && stub::is_one(stat, || stub::is_labelled_at(folder, name)) {
        return Entry {
            stamp: fingerprint::stub_stamp(stat),
            ..entry
        };
    }
    entry
}

fn entry(stat: &Statx, mount: u64) -> Entry {
    let kind = match FileType::from_raw_mode(stat.stx_mode.into()) {
        FileType::RegularFile => Kind::File,
        FileType::Directory => Kind::Folder,
        FileType::Symlink => Kind::Odd(OddKind::Link),
        FileType::Socket => Kind::Odd(OddKind::Socket),
        FileType::Fifo => Kind::Odd(OddKind::Pipe),
        FileType::CharacterDevice | FileType::BlockDevice => Kind::Odd(OddKind::Device),
        _ => Kind::Odd(OddKind::Own),
    };
    match kind {
        Kind::File => Entry {
            edited: Some(fingerprint::edit_time(stat)),
            ..Entry::file(stat.stx_size, fingerprint::stamp(stat))
        },
        Kind::Folder if stat.stx_mnt_id != mount => Entry {
            listing: Listing::Incomplete(Unknown::OtherMount),
            ..Entry::folder()
        },
        kind => Entry::of_kind(kind),
    }
}

pub(super) fn look(inner: &Inner, path: &RelPath) -> Result<Option<Entry>, SideError> {
    let parent = path.parent().unwrap_or_else(RelPath::root);
    let looked = system::open_folder(inner.root.as_fd(), &parent).and_then(|folder| {
        let mount = system::stat_of(folder.as_fd())?.stx_mnt_id;
        noted_at(inner, folder.as_fd(), OsStr::new(path.name()), mount)
    });
    match looked {
        Ok(entry) => Ok(Some(entry)),
        Err(error)
            if matches!(
                error.kind(),
                io::ErrorKind::NotFound | io::ErrorKind::NotADirectory
            ) =>
        {
            Ok(None)
        }
        Err(error) => Err(side_error(&error)),
    }
}
