//! What `PROPFIND` finds: the resources at a path, to the depth that was asked for.

use std::fs::Metadata;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use crate::faults::Mishap;
use crate::habits::Habit;
use crate::people::Mount;

/// One resource of a listing.
pub(crate) struct Found {
    /// The path from the user's root, parts unescaped, without slashes at its ends.
    pub(crate) path: String,
    pub(crate) disk: PathBuf,
    pub(crate) meta: Metadata,
    /// Whose it is, and whether the one who asks may change it.
    pub(crate) owner: String,
    pub(crate) writable: bool,
}

/// `Depth` (RFC 4918 §10.2).
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Depth {
    Zero,
    One,
    Infinity,
}

/// What a listing is about.
pub(crate) struct Asked {
    pub(crate) path: String,
    pub(crate) disk: PathBuf,
    pub(crate) mount: Mount,
    /// All of the user's mounts: those at the top are listed there.
    pub(crate) mounts: Vec<Mount>,
    pub(crate) depth: Depth,
}

/// The resource itself and, by depth, what it holds. A folder that a fault makes unreadable is there but empty-handed:
/// asked for itself it answers an error.
pub(crate) fn find(asked: &Asked, mishap: &Mishap) -> io::Result<Vec<Found>> {
    let mut found = Vec::new();
    let meta = asked.disk.symlink_metadata()?;
    if mishap.is_unlisted(&asked.disk) {
        return Err(io::ErrorKind::NotFound.into());
    }
    let folder = meta.is_dir();
    let unreadable = mishap.unreadable.contains(&asked.path);
    if folder && asked.depth != Depth::Zero && unreadable {
        return Err(io::ErrorKind::PermissionDenied.into());
    }
    found.push(resource(
        &asked.mount,
        asked.path.clone(),
        asked.disk.clone(),
        meta,
    ));
    if !folder || asked.depth == Depth::Zero {
        return Ok(found);
    }
    let lists = |mount: &Mount, at: &str, disk: &Path, found: &mut Vec<Found>| {
        members(mount, at, disk, asked.depth, mishap, found)
    };
    lists(&asked.mount, &asked.path, &asked.disk, &mut found)?;
    if asked.path.is_empty() {
        // What is shared hangs at the top, over anything of that name that the user made.
        for mount in asked.mounts.iter().filter(|mount| !mount.at.is_empty()) {
            let below = format!("{}/", mount.at);
            found.retain(|found| found.path != mount.at && !found.path.starts_with(&below));
            let meta = mount.disk.symlink_metadata()?;
            found.push(resource(mount, mount.at.clone(), mount.disk.clone(), meta));
            if asked.depth == Depth::Infinity {
                lists(mount, &mount.at, &mount.disk, &mut found)?;
            }
        }
    }
    if mishap.short_listing && found.len() > 1 {
        let kept = 1 + (found.len() - 1) / 2;
        found.truncate(kept);
    }
    Ok(found)
}

fn resource(mount: &Mount, path: String, disk: PathBuf, meta: Metadata) -> Found {
    Found {
        path,
        disk,
        meta,
        owner: mount.owner.clone(),
        writable: mount.writable,
    }
}

fn members(
    mount: &Mount,
    at: &str,
    disk: &Path,
    depth: Depth,
    mishap: &Mishap,
    found: &mut Vec<Found>,
) -> io::Result<()> {
    for entry in std::fs::read_dir(disk)? {
        let entry = entry?;
        // A name that is not UTF-8 has no address that every client could ask for.
        let Ok(name) = entry.file_name().into_string() else {
            continue;
        };
        let meta = match entry.metadata() {
            Ok(meta) if meta.is_file() || meta.is_dir() => meta,
            Ok(_) => continue,
            Err(error) if error.kind() == io::ErrorKind::NotFound => continue,
            Err(error) => return Err(error),
        };
        let hidden = mishap.does(Habit::HideDots) && name.starts_with('.');
        if hidden || mishap.is_unlisted(&entry.path()) {
            continue;
        }
        let path = if at.is_empty() {
            name
        } else {
            format!("{at}/{name}")
        };
        let folder = meta.is_dir();
        found.push(resource(mount, path.clone(), entry.path(), meta));
        if folder && depth == Depth::Infinity && !mishap.unreadable.contains(&path) {
            members(mount, &path, &entry.path(), depth, mishap, found)?;
        }
    }
    Ok(())
}

/// When the file was last modified, as HTTP writes it (RFC 9110 §5.6.7).
pub(crate) fn http_date(meta: &Metadata) -> String {
    http_date_of(meta.mtime())
}

/// The same in the older form that HTTP still has to read (RFC 9110 §5.6.7).
pub(crate) fn rfc850_date(meta: &Metadata) -> String {
    let at = jiff::Timestamp::new(meta.mtime(), 0).unwrap_or(jiff::Timestamp::UNIX_EPOCH);
    at.strftime("%A, %d-%b-%y %H:%M:%S GMT").to_string()
}

/// A moment in seconds since 1970, as HTTP writes it.
pub(crate) fn http_date_of(seconds: i64) -> String {
    let at = jiff::Timestamp::new(seconds, 0).unwrap_or(jiff::Timestamp::UNIX_EPOCH);
    jiff::fmt::rfc2822::DateTimePrinter::new()
        .timestamp_to_rfc9110_string(&at)
        .unwrap_or_default()
}
