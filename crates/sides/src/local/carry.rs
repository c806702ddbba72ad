//! Changing a local folder: the steps of the primitive, each of them one system call that cannot do half of it.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use bytes::Bytes;
use futures_util::{StreamExt, stream};
use katabatic_core::{Digest, Entry, Kind, RelPath};
use rustix::fs::{AtFlags, Mode, OFlags, mkdirat, unlinkat};
use tokio::sync::mpsc;

use super::room::{SPARES, STAGING, Shelf};
use super::{Inner, fingerprint, frozen, scan, side_error, stub, system};
use crate::{
    Captured, Checked, Content, FolderGone, Outcome, Placing, Put, SideError, Source, Swapped,
    Undone,
};

/// Files up to this size go through memory in one piece.
pub(super) const SMALL: u64 = 256 * 1024;
const CHUNK: usize = 256 * 1024;

fn failed(error: io::Error) -> SideError {
    side_error(&error)
}

/// Before anything was changed.
fn not_done(error: io::Error) -> Undone {
    Undone::NotDone(failed(error))
}

/// After something was changed: whether it outlives a power cut, or was done by halves, is found out by looking.
fn unsure(error: io::Error) -> Undone {
    Undone::Unsure(failed(error))
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
    SideError::BeingWritten
}

pub(super) fn read(
    inner: &Inner,
    path: &RelPath,
    seen: &Entry,
    from: u64,
) -> Result<Source, SideError> {
    if let Some((file, copy)) = frozen::of(inner, path, seen)? {
        return Ok(Source {
            size: copy.size,
            edited: seen.edited,
            from,
            announced: None,
            content: content(inner, file, &copy, from)?,
        });
    }
    let file = open_unused(inner, path).map_err(failed)?;
    stub::refuse(&file)?;
    let stat = system::stat_of(file.as_fd()).map_err(failed)?;
    if fingerprint::stamp(&stat) != seen.stamp {
        return Err(SideError::BeingWritten);
    }
    let edited = Some(fingerprint::edit_time(&stat));
    Ok(Source {
        size: seen.size,
        edited,
        from,
        announced: None,
        content: content(inner, file, seen, from)?,
    })
}

/// Opens a file for reading, which is no use of it by people: when it was read last stays as it is, where the system lets
/// us.
pub(super) fn open_unused(inner: &Inner, path: &RelPath) -> io::Result<File> {
    let flags = OFlags::RDONLY | OFlags::NONBLOCK;
    let opened = match system::open_below(inner.root.as_fd(), path, flags | OFlags::NOATIME) {
        Err(why) if why.kind() == io::ErrorKind::PermissionDenied => {
            system::open_below(inner.root.as_fd(), path, flags)
        }
        opened => opened,
    };
    Ok(File::from(opened?))
}

pub(super) fn read_spare(inner: &Inner, spare: &str) -> Result<Source, SideError> {
    let file = inner.room.open(SPARES, spare).map_err(failed)?;
    stub::refuse(&file)?;
    let seen = inner.room.entry(SPARES, spare)?.ok_or(SideError::Missing)?;
    Ok(Source {
        size: seen.size,
        edited: seen.edited,
        from: 0,
        announced: None,
        content: content(inner, file, &seen, 0)?,
    })
}

/// The content, which ends in an error where the file is not the same at the end as at the beginning.
fn content(inner: &Inner, mut file: File, seen: &Entry, from: u64) -> Result<Content, SideError> {
    // What is still on its way to the disk would be read, and lost by a power cut after it was called settled.
    file.sync_data().map_err(failed)?;
    if from > 0 {
        file.seek(SeekFrom::Start(from)).map_err(failed)?;
    }
    if seen.size <= SMALL {
        let mut whole = Vec::with_capacity(seen.size as usize);
        file.read_to_end(&mut whole).map_err(failed)?;
        still_the_same(&file, seen)?;
        return Ok(stream::iter([Ok(Bytes::from(whole))]).boxed());
    }
    let (sender, receiver) = mpsc::channel(8);
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

pub(super) fn swap(inner: &Inner, staged: &str, path: &RelPath, spare: &str) -> Outcome<Swapped> {
    let folder = parent(inner, path).map_err(Undone::NotDone)?;
    let (staging, spares) = (inner.room.shelf(STAGING), inner.room.shelf(SPARES));
    let (staged, spare, name) = (
        OsStr::new(staged),
        OsStr::new(spare),
        OsStr::new(path.name()),
    );
    // In the spares first: what comes out of the exchange must never lie where leftovers are cleared away.
    system::rename_new((staging, staged), (spares, spare))
        .map_err(|error| not_named(error, spares, spare))?;
    sync(spares).map_err(Undone::Unsure)?;
    let swapped = match system::exchange((spares, spare), (folder.as_fd(), name)) {
        Ok(true) => Swapped::Done,
        Ok(false) => Swapped::Unable,
        Err(error) if error.kind() == io::ErrorKind::NotFound => Swapped::Nothing,
        Err(error) => {
            system::rename_new((spares, spare), (staging, staged)).map_err(unsure)?;
            sync(spares).map_err(Undone::Unsure)?;
            return Err(not_done(error));
        }
    };
    if swapped == Swapped::Done {
        sync(folder.as_fd()).map_err(Undone::Unsure)?;
    } else {
        system::rename_new((spares, spare), (staging, staged)).map_err(unsure)?;
    }
    sync(spares).map_err(Undone::Unsure)?;
    Ok(swapped)
}

pub(super) fn swap_back(inner: &Inner, path: &RelPath, spare: &str) -> Outcome<()> {
    let folder = parent(inner, path).map_err(Undone::NotDone)?;
    let spares = inner.room.shelf(SPARES);
    let refused = |why: &str| Err(Undone::NotDone(SideError::Failed(why.to_owned())));
    match system::exchange(
        (spares, OsStr::new(spare)),
        (folder.as_fd(), OsStr::new(path.name())),
    ) {
        Ok(true) => {}
        Ok(false) => return refused("it could not be exchanged back"),
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            if put(inner, SPARES, spare, path)? == Put::Taken {
                return refused("something came to have its name just now");
            }
        }
        Err(error) => return Err(not_done(error)),
    }
    sync(folder.as_fd()).map_err(Undone::Unsure)?;
    sync(spares).map_err(Undone::Unsure)
}

/// A new name could not be given, which is two steps where the file system has no such call: where the name is there all
/// the same, it was done by halves.
fn not_named(error: io::Error, folder: BorrowedFd<'_>, name: &OsStr) -> Undone {
    let may_be_ours = error.kind() != io::ErrorKind::AlreadyExists;
    if may_be_ours && system::stat_at(folder, name).is_ok() {
        return unsure(error);
    }
    not_done(error)
}

pub(super) fn capture(inner: &Inner, path: &RelPath, spare: &str) -> Outcome<Captured> {
    let folder = parent(inner, path).map_err(Undone::NotDone)?;
    let (spares, spare) = (inner.room.shelf(SPARES), OsStr::new(spare));
    let name = OsStr::new(path.name());
    match system::rename_new((folder.as_fd(), name), (spares, spare)) {
        Ok(()) => {}
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Captured::Nothing),
        Err(error) => return Err(not_named(error, spares, spare)),
    }
    sync(spares).map_err(Undone::Unsure)?;
    sync(folder.as_fd()).map_err(Undone::Unsure)?;
    Ok(Captured::Taken)
}

/// Under which of these names something is on a shelf, once the disk has kept what was done to shelf and folder: what
/// could not be synced may look otherwise after a power cut.
pub(super) fn fence(
    inner: &Inner,
    shelf: Shelf,
    path: Option<&RelPath>,
    names: &[String],
) -> Result<Option<String>, SideError> {
    let above = path.map(|path| path.parent().unwrap_or_else(RelPath::root));
    if let Some(above) = above {
        match system::open_folder(inner.root.as_fd(), &above) {
            Ok(folder) => sync(folder.as_fd())?,
            // It went with all that was in it.
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            Err(error) => return Err(failed(error)),
        }
    }
    sync(inner.room.shelf(shelf))?;
    for name in names {
        if inner.room.entry(shelf, name)?.is_some() {
            return Ok(Some(name.clone()));
        }
    }
    Ok(None)
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
        // What a stub stands for lies elsewhere; that it is this stub is all there is to know of it.
        Some(_) if entry.is_stub() => Ok(true),
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
pub(super) fn put(inner: &Inner, shelf: Shelf, slot: &str, path: &RelPath) -> Outcome<Put> {
    let folder = parent(inner, path).map_err(Undone::NotDone)?;
    let from = inner.room.folder_of(shelf, slot);
    let name = OsStr::new(path.name());
    match system::rename_new((from, OsStr::new(slot)), (folder.as_fd(), name)) {
        Ok(()) => {}
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => return Ok(Put::Taken),
        Err(error) => {
            return Err(match inner.room.lies_elsewhere(slot) {
                Some(at) if error.kind() == io::ErrorKind::CrossesDevices => {
                    Undone::NotDone(SideError::Failed(format!(
                        "it lies on another disk, in {}, from where it cannot be moved: copy it from there",
                        at.display()
                    )))
                }
                _ => not_named(error, folder.as_fd(), name),
            });
        }
    }
    sync(folder.as_fd()).map_err(Undone::Unsure)?;
    Ok(Put::Done)
}

/// Moves staged files to their names; their folders are synced once, and before anybody is told.
pub(super) fn put_all(inner: &Inner, placings: &[Placing]) -> Vec<Outcome<Put>> {
    let mut folders: HashMap<RelPath, Result<OwnedFd, SideError>> = HashMap::new();
    let from = inner.room.shelf(STAGING);
    let mut put: Vec<Outcome<Put>> = Vec::with_capacity(placings.len());
    for placing in placings {
        let above = placing.path.parent().unwrap_or_else(RelPath::root);
        let folder = folders
            .entry(above)
            .or_insert_with(|| parent(inner, &placing.path));
        put.push(match folder {
            Err(error) => Err(Undone::NotDone(error.clone())),
            Ok(folder) => {
                let to = (folder.as_fd(), OsStr::new(placing.path.name()));
                match system::rename_new((from, OsStr::new(&placing.slot)), to) {
                    Ok(()) => Ok(Put::Done),
                    Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Ok(Put::Taken),
                    Err(error) => Err(not_named(error, to.0, to.1)),
                }
            }
        });
    }
    for (above, folder) in &folders {
        let synced = match folder {
            Ok(folder) => sync(folder.as_fd()),
            Err(_) => Ok(()),
        };
        let Err(why) = synced else {
            continue;
        };
        // They bear their names, and whether they will after a power cut cannot be told.
        for (placing, put) in placings.iter().zip(&mut put) {
            let there = placing.path.parent().unwrap_or_else(RelPath::root) == *above;
            if there && *put == Ok(Put::Done) {
                *put = Err(Undone::Unsure(why.clone()));
            }
        }
    }
    put
}

pub(super) fn make_folder(inner: &Inner, path: &RelPath) -> Outcome<Put> {
    let folder = parent(inner, path).map_err(Undone::NotDone)?;
    match mkdirat(&folder, path.name(), Mode::from_raw_mode(0o777)) {
        Ok(()) => {
            sync(folder.as_fd()).map_err(Undone::Unsure)?;
            Ok(Put::Done)
        }
        Err(rustix::io::Errno::EXIST) => {
            let there = scan::look(inner, path).map_err(Undone::NotDone)?;
            Ok(if there.is_some_and(|entry| entry.kind == Kind::Folder) {
                Put::Done
            } else {
                Put::Taken
            })
        }
        Err(error) => Err(not_done(error.into())),
    }
}

pub(super) fn remove_folder(inner: &Inner, path: &RelPath) -> Outcome<FolderGone> {
    let folder = parent(inner, path).map_err(Undone::NotDone)?;
    match unlinkat(&folder, path.name(), AtFlags::REMOVEDIR) {
        Ok(()) => {
            sync(folder.as_fd()).map_err(Undone::Unsure)?;
            Ok(FolderGone::Gone)
        }
        Err(rustix::io::Errno::NOENT) => Ok(FolderGone::Gone),
        Err(rustix::io::Errno::NOTEMPTY | rustix::io::Errno::EXIST) => {
            let inside = system::open_folder(inner.root.as_fd(), path).map_err(not_done)?;
            let names =
                rustix::fs::Dir::read_from(&inside).map_err(|error| not_done(error.into()))?;
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
        Err(error) => Err(not_done(error.into())),
    }
}

pub(super) fn rename(inner: &Inner, from: &RelPath, to: &RelPath) -> Outcome<Put> {
    let old = parent(inner, from).map_err(Undone::NotDone)?;
    let new = parent(inner, to).map_err(Undone::NotDone)?;
    let name = OsStr::new(to.name());
    match system::rename_new((old.as_fd(), OsStr::new(from.name())), (new.as_fd(), name)) {
        Ok(()) => {}
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => return Ok(Put::Taken),
        // As of a capture, what it was renamed from may be gone.
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            return Err(Undone::NotDone(SideError::Missing));
        }
        Err(error) => return Err(not_named(error, new.as_fd(), name)),
    }
    sync(new.as_fd()).map_err(Undone::Unsure)?;
    sync(old.as_fd()).map_err(Undone::Unsure)?;
    Ok(Put::Done)
}
