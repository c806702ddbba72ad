//! Changing a local folder: the steps of the primitive, each of them one system call that cannot do half of it.

use std::ffi::OsStr;
use std::fs::{File, FileTimes, Permissions};
use std::io::{self, Read, Write};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::fs::{PermissionsExt, fchown};
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use bytes::Bytes;
use futures_util::{StreamExt, stream};
use katabatic_core::{Digest, EditTime, Entry, Kind, RelPath};
use rustix::fs::{AtFlags, Mode, OFlags, XattrFlags, mkdirat, unlinkat};
use tokio::sync::mpsc;

use super::room::{SPARES, STAGING, Shelf};
use super::{Inner, fingerprint, scan, side_error, system};
use crate::home::random_hex;
use crate::sides::{
    Captured, Checked, Content, FolderGone, Put, SideError, Source, Staged, Swapped,
};

/// Files up to this size go through memory in one piece.
const SMALL: u64 = 256 * 1024;
const CHUNK: usize = 256 * 1024;

fn failed(error: io::Error) -> SideError {
    side_error(&error)
}

fn parent(inner: &Inner, path: &RelPath) -> Result<OwnedFd, SideError> {
    let parent = path.parent().unwrap_or_else(RelPath::root);
    system::open_folder(inner.root.as_fd(), &parent).map_err(|error| match side_error(&error) {
        SideError::Missing => SideError::Failed("the folder it lies in is not there".into()),
        other => other,
    })
}

fn sync(folder: BorrowedFd<'_>) -> Result<(), SideError> {
    rustix::fs::fsync(folder).map_err(|error| failed(error.into()))
}

fn changed() -> SideError {
    SideError::Changed("it changed while it was being read; the next pass takes it up".into())
}

pub(super) fn read(inner: &Inner, path: &RelPath, seen: &Entry) -> Result<Source, SideError> {
    let flags = OFlags::RDONLY | OFlags::NONBLOCK;
    let file = File::from(system::open_below(inner.root.as_fd(), path, flags).map_err(failed)?);
    let stat = system::stat_of(file.as_fd()).map_err(failed)?;
    if fingerprint::stamp(&stat) != seen.stamp {
        return Err(SideError::Changed(
            "it changed since it was looked at; the next pass takes it up".into(),
        ));
    }
    let edited = Some(fingerprint::edit_time(&stat));
    Ok(Source {
        size: seen.size,
        edited,
        content: content(inner, file, seen)?,
    })
}

pub(super) fn read_spare(inner: &Inner, spare: &str) -> Result<Source, SideError> {
    let file = inner.room.open(SPARES, spare).map_err(failed)?;
    let seen = inner.room.entry(SPARES, spare)?.ok_or(SideError::Missing)?;
    Ok(Source {
        size: seen.size,
        edited: seen.edited,
        content: content(inner, file, &seen)?,
    })
}

/// The content, which ends in an error where the file is not the same at the end as at the beginning.
fn content(inner: &Inner, mut file: File, seen: &Entry) -> Result<Content, SideError> {
    // What is still on its way to the disk would be read, and lost by a power cut after it was called settled.
    file.sync_data().map_err(failed)?;
    if seen.size <= SMALL {
        let mut whole = Vec::with_capacity(seen.size as usize);
        file.read_to_end(&mut whole).map_err(failed)?;
        still_the_same(&file, seen)?;
        return Ok(stream::iter([Ok(Bytes::from(whole))]).boxed());
    }
    let (sender, receiver) = mpsc::channel(4);
    let (seen, stop) = (seen.clone(), inner.stop.clone());
    tokio::task::spawn_blocking(move || {
        let end = loop {
            if stop.asked() {
                break Err(SideError::Stopped);
            }
            let mut chunk = vec![0; CHUNK];
            match file.read(&mut chunk) {
                Ok(0) => break still_the_same(&file, &seen),
                Ok(length) => {
                    chunk.truncate(length);
                    if sender.blocking_send(Ok(Bytes::from(chunk))).is_err() {
                        return;
                    }
                }
                Err(error) => break Err(failed(error)),
            }
        };
        if let Err(error) = end {
            // Whoever stopped listening has no use for the reason.
            let _ = sender.blocking_send(Err(error));
        }
    });
    Ok(stream::unfold(receiver, |mut receiver| async {
        receiver.recv().await.map(|item| (item, receiver))
    })
    .boxed())
}

fn still_the_same(file: &File, seen: &Entry) -> Result<(), SideError> {
    let stat = system::stat_of(file.as_fd()).map_err(failed)?;
    if fingerprint::stamp(&stat) == seen.stamp {
        Ok(())
    } else {
        Err(changed())
    }
}

pub(super) async fn stage(
    inner: Arc<Inner>,
    mut source: Source,
    like: RelPath,
) -> Result<Staged, SideError> {
    let (sender, receiver) = mpsc::channel::<Bytes>(4);
    let (size, edited) = (source.size, source.edited);
    let writer = {
        let inner = Arc::clone(&inner);
        move || write_staged(&inner, receiver, size, edited, &like)
    };
    let mut first = None;
    if size <= SMALL {
        // One trip to a writing thread instead of two for the many small files.
        let mut whole = Vec::with_capacity(size as usize);
        while let Some(chunk) = source.content.next().await {
            whole.extend_from_slice(&chunk?);
        }
        first = Some(Bytes::from(whole));
    }
    if let Some(whole) = first {
        sender
            .send(whole)
            .await
            .map_err(|_| SideError::Failed("the writing thread ended".into()))?;
        drop(sender);
        return join(tokio::task::spawn_blocking(writer).await).map(|(staged, _)| staged);
    }
    let writing = tokio::task::spawn_blocking(writer);
    let mut broken = None;
    while let Some(chunk) = source.content.next().await {
        match chunk {
            Ok(chunk) if inner.stop.asked() => {
                drop(chunk);
                broken = Some(SideError::Stopped);
                break;
            }
            // The writer stopped taking: it has the reason.
            Ok(chunk) => {
                if sender.send(chunk).await.is_err() {
                    break;
                }
            }
            Err(error) => {
                broken = Some(error);
                break;
            }
        }
    }
    drop(sender);
    let written = join(writing.await);
    match (broken, written) {
        (None, written) => written.map(|(staged, _)| staged),
        (Some(error), written) => {
            if let Ok((staged, _)) = written {
                inner.room.remove(STAGING, &staged.slot)?;
            }
            Err(error)
        }
    }
}

fn join<T>(joined: Result<Result<T, SideError>, tokio::task::JoinError>) -> Result<T, SideError> {
    joined.unwrap_or_else(|error| {
        Err(SideError::Failed(format!(
            "the writing thread broke off: {error}"
        )))
    })
}

fn write_staged(
    inner: &Inner,
    mut receiver: mpsc::Receiver<Bytes>,
    size: u64,
    edited: Option<EditTime>,
    like: &RelPath,
) -> Result<(Staged, File), SideError> {
    let slot = random_hex(8).map_err(|error| SideError::Failed(error.why))?;
    let mut file = inner.room.create(STAGING, &slot).map_err(failed)?;
    let written = (|| {
        let (mut hasher, mut length) = (blake3::Hasher::new(), 0u64);
        while let Some(chunk) = receiver.blocking_recv() {
            file.write_all(&chunk).map_err(failed)?;
            hasher.update(&chunk);
            length += chunk.len() as u64;
        }
        if length != size {
            return Err(SideError::TryAgain(format!(
                "{length} of {size} bytes arrived"
            )));
        }
        take_over(inner, &file, like).map_err(failed)?;
        if let Some(edited) = edited {
            file.set_times(FileTimes::new().set_modified(system_time(edited)))
                .map_err(failed)?;
        }
        file.sync_all().map_err(failed)?;
        let entry = inner
            .room
            .entry(STAGING, &slot)?
            .ok_or(SideError::Missing)?;
        Ok(Staged {
            slot: slot.clone(),
            entry,
            digest: Digest(*hasher.finalize().as_bytes()),
        })
    })();
    match written {
        Ok(staged) => Ok((staged, file)),
        Err(error) => {
            inner.room.remove(STAGING, &slot)?;
            Err(error)
        }
    }
}

fn system_time(at: EditTime) -> SystemTime {
    let distance = Duration::from_nanos(at.0.unsigned_abs());
    if at.0 < 0 {
        SystemTime::UNIX_EPOCH - distance
    } else {
        SystemTime::UNIX_EPOCH + distance
    }
}

/// Takes over owner, mode, ACL and extended attributes of the file that is about to be replaced.
fn take_over(inner: &Inner, file: &File, like: &RelPath) -> io::Result<()> {
    let old = match system::open_below(inner.root.as_fd(), like, OFlags::RDONLY | OFlags::NONBLOCK)
    {
        Ok(old) => File::from(old),
        // A new file, or something that is not a file: nothing to take over.
        Err(_) => return Ok(()),
    };
    let stat = system::stat_of(old.as_fd())?;
    if !old.metadata()?.is_file() {
        return Ok(());
    }
    let own = system::stat_of(file.as_fd())?;
    if (own.stx_uid, own.stx_gid) != (stat.stx_uid, stat.stx_gid) {
        // Not being allowed to give a file away is the usual case; it then belongs to whoever syncs.
        if let Err(why) = fchown(file, Some(stat.stx_uid), Some(stat.stx_gid)) {
            tracing::debug!("{like} changes its owner: {why}");
        }
    }
    file.set_permissions(Permissions::from_mode(u32::from(stat.stx_mode) & 0o7777))?;
    let mut names = vec![0u8; 64 * 1024];
    let Ok(length) = rustix::fs::flistxattr(&old, names.as_mut_slice()) else {
        return Ok(());
    };
    for name in names[..length]
        .split(|&byte| byte == 0)
        .filter(|name| !name.is_empty())
    {
        let mut value = vec![0u8; 64 * 1024];
        if let Ok(length) = rustix::fs::fgetxattr(&old, name, value.as_mut_slice())
            && let Err(why) =
                rustix::fs::fsetxattr(file, name, &value[..length], XattrFlags::empty())
        {
            tracing::debug!("{like} loses the attribute {}: {why}", name.escape_ascii());
        }
    }
    Ok(())
}

pub(super) fn swap(
    inner: &Inner,
    staged: &str,
    path: &RelPath,
    spare: &str,
) -> Result<Swapped, SideError> {
    let folder = parent(inner, path)?;
    let (staging, spares) = (inner.room.shelf(STAGING), inner.room.shelf(SPARES));
    let (staged, spare, name) = (
        OsStr::new(staged),
        OsStr::new(spare),
        OsStr::new(path.name()),
    );
    // In the spares first: what comes out of the exchange must never lie where leftovers are cleared away.
    system::rename_new((staging, staged), (spares, spare)).map_err(failed)?;
    sync(spares)?;
    let swapped = match system::exchange((spares, spare), (folder.as_fd(), name)) {
        Ok(true) => Swapped::Done,
        Ok(false) => Swapped::Unable,
        Err(error) if error.kind() == io::ErrorKind::NotFound => Swapped::Nothing,
        Err(error) => {
            system::rename_new((spares, spare), (staging, staged)).map_err(failed)?;
            return Err(failed(error));
        }
    };
    if swapped == Swapped::Done {
        sync(folder.as_fd())?;
    } else {
        system::rename_new((spares, spare), (staging, staged)).map_err(failed)?;
    }
    sync(spares)?;
    Ok(swapped)
}

pub(super) fn swap_back(inner: &Inner, path: &RelPath, spare: &str) -> Result<(), SideError> {
    let folder = parent(inner, path)?;
    let spares = inner.room.shelf(SPARES);
    match system::exchange(
        (spares, OsStr::new(spare)),
        (folder.as_fd(), OsStr::new(path.name())),
    ) {
        Ok(true) => {}
        Ok(false) => return Err(SideError::Unsure("it could not be exchanged back".into())),
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            put(inner, SPARES, spare, path)?;
        }
        Err(error) => return Err(failed(error)),
    }
    sync(folder.as_fd())?;
    sync(spares)
}

pub(super) fn capture(inner: &Inner, path: &RelPath, spare: &str) -> Result<Captured, SideError> {
    let folder = parent(inner, path)?;
    let spares = inner.room.shelf(SPARES);
    match system::rename_new(
        (folder.as_fd(), OsStr::new(path.name())),
        (spares, OsStr::new(spare)),
    ) {
        Ok(()) => {}
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Captured::Nothing),
        Err(error) => return Err(failed(error)),
    }
    sync(spares)?;
    sync(folder.as_fd())?;
    Ok(Captured::Taken)
}

pub(super) fn check(inner: &Inner, spare: &str, expected: &Entry) -> Result<Checked, SideError> {
    let Some(entry) = inner.room.entry(SPARES, spare)? else {
        return Ok(Checked::Nothing);
    };
    if entry.kind != expected.kind
        || (entry.kind == Kind::File && !same_file(inner, spare, &entry, expected)?)
    {
        return Ok(Checked::Other);
    }
    Ok(Checked::Same)
}

fn same_file(
    inner: &Inner,
    spare: &str,
    entry: &Entry,
    expected: &Entry,
) -> Result<bool, SideError> {
    if !fingerprint::same_but_for_ctime(&entry.stamp, &expected.stamp) {
        return Ok(false);
    }
    match expected.content {
        None => Ok(true),
        Some(content) => {
            Ok(hash(inner.room.open(SPARES, spare).map_err(failed)?).map_err(failed)? == content)
        }
    }
}

/// The content's digest, of data that has reached the disk.
pub(super) fn hash(file: File) -> io::Result<Digest> {
    file.sync_data()?;
    let mut hasher = blake3::Hasher::new();
    hasher.update_reader(file)?;
    Ok(Digest(*hasher.finalize().as_bytes()))
}

/// Moves something from a shelf to a path where nothing is.
pub(super) fn put(
    inner: &Inner,
    shelf: Shelf,
    slot: &str,
    path: &RelPath,
) -> Result<Put, SideError> {
    let folder = parent(inner, path)?;
    let from = inner.room.shelf(shelf);
    match system::rename_new(
        (from, OsStr::new(slot)),
        (folder.as_fd(), OsStr::new(path.name())),
    ) {
        Ok(()) => {}
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => return Ok(Put::Taken),
        Err(error) => return Err(failed(error)),
    }
    sync(folder.as_fd())?;
    Ok(Put::Done)
}

pub(super) fn make_folder(inner: &Inner, path: &RelPath) -> Result<Put, SideError> {
    let folder = parent(inner, path)?;
    match mkdirat(&folder, path.name(), Mode::from_raw_mode(0o777)) {
        Ok(()) => {
            sync(folder.as_fd())?;
            Ok(Put::Done)
        }
        Err(rustix::io::Errno::EXIST) => {
            let there = scan::look(inner, path)?;
            Ok(if there.is_some_and(|entry| entry.kind == Kind::Folder) {
                Put::Done
            } else {
                Put::Taken
            })
        }
        Err(error) => Err(failed(error.into())),
    }
}

pub(super) fn remove_folder(inner: &Inner, path: &RelPath) -> Result<FolderGone, SideError> {
    let folder = parent(inner, path)?;
    match unlinkat(&folder, path.name(), AtFlags::REMOVEDIR) {
        Ok(()) => {
            sync(folder.as_fd())?;
            Ok(FolderGone::Gone)
        }
        Err(rustix::io::Errno::NOENT) => Ok(FolderGone::Gone),
        Err(rustix::io::Errno::NOTEMPTY | rustix::io::Errno::EXIST) => {
            let inside = system::open_folder(inner.root.as_fd(), path).map_err(failed)?;
            let names =
                rustix::fs::Dir::read_from(&inside).map_err(|error| failed(error.into()))?;
            let names = names
                .filter_map(Result::ok)
                .map(|item| item.file_name().to_string_lossy().into_owned());
            Ok(FolderGone::Kept(
                names
                    .filter(|name| name != "." && name != "..")
                    .take(10)
                    .collect(),
            ))
        }
        Err(error) => Err(failed(error.into())),
    }
}

pub(super) fn rename(inner: &Inner, from: &RelPath, to: &RelPath) -> Result<Put, SideError> {
    let (old, new) = (parent(inner, from)?, parent(inner, to)?);
    match system::rename_new(
        (old.as_fd(), OsStr::new(from.name())),
        (new.as_fd(), OsStr::new(to.name())),
    ) {
        Ok(()) => {}
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => return Ok(Put::Taken),
        Err(error) => return Err(failed(error)),
    }
    sync(new.as_fd())?;
    sync(old.as_fd())?;
    Ok(Put::Done)
}
