//! What `PROPFIND` finds: the resources at a path, to the depth that was asked for.

use std::fs::Metadata;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use crate::faults::Mishap;

/// One resource of a listing.
pub(crate) struct Found {
    /// The path from the user's root, parts unescaped, without slashes at its ends.
    pub(crate) path: String,
    pub(crate) disk: PathBuf,
    pub(crate) meta: Metadata,
}

/// `Depth` (RFC 4918 §10.2).
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Depth {
    Zero,
    One,
    Infinity,
}

/// The resource itself and, by depth, what it holds. A folder that a fault makes unreadable is there but empty-handed:
/// asked for itself it answers an error.
pub(crate) fn find(at: &str, disk: &Path, depth: Depth, mishap: &Mishap) -> io::Result<Vec<Found>> {
    let mut found = Vec::new();
    let meta = disk.symlink_metadata()?;
    if meta.is_dir() && depth != Depth::Zero && mishap.unreadable.iter().any(|folder| folder == at)
    {
        return Err(io::ErrorKind::PermissionDenied.into());
    }
    let folder = meta.is_dir();
    found.push(Found {
        path: at.to_owned(),
        disk: disk.to_owned(),
        meta,
    });
    if folder && depth != Depth::Zero {
        members(at, disk, depth, mishap, &mut found)?;
    }
    Ok(found)
}

fn members(
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
        if mishap.hide_dots && name.starts_with('.') {
            continue;
        }
        let path = if at.is_empty() {
            name
        } else {
            format!("{at}/{name}")
        };
        let folder = meta.is_dir();
        found.push(Found {
            path: path.clone(),
            disk: entry.path(),
            meta,
        });
        if folder && depth == Depth::Infinity {
            members(&path, &entry.path(), depth, mishap, found)?;
        }
    }
    Ok(())
}

/// When the file was last modified, as HTTP writes it (RFC 9110 §5.6.7).
pub(crate) fn http_date(meta: &Metadata) -> String {
    let at = jiff::Timestamp::new(meta.mtime(), 0).unwrap_or(jiff::Timestamp::UNIX_EPOCH);
    jiff::fmt::rfc2822::DateTimePrinter::new()
        .timestamp_to_rfc9110_string(&at)
        .unwrap_or_default()
}
