//! How much a user's files take (RFC 4331): counted on the disk, since people put files there by hand too.

use std::io;
use std::path::Path;

/// Used and free bytes of a folder that may hold `limit` bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Quota {
    pub(crate) used: u64,
    /// None where there is no limit.
    pub(crate) available: Option<u64>,
}

/// Counts a folder.
pub(crate) fn count(folder: &Path, limit: Option<u64>) -> io::Result<Quota> {
    let used = used(folder)?;
    Ok(Quota {
        used,
        available: limit.map(|limit| limit.saturating_sub(used)),
    })
}

fn used(folder: &Path) -> io::Result<u64> {
    let mut sum = 0;
    for entry in std::fs::read_dir(folder)? {
        let entry = entry?;
        let meta = match entry.metadata() {
            Err(error) if error.kind() == io::ErrorKind::NotFound => continue,
            meta => meta?,
        };
        sum += if meta.is_dir() {
            match used(&entry.path()) {
                Err(error) if error.kind() == io::ErrorKind::NotFound => 0,
                used => used?,
            }
        } else {
            meta.len()
        };
    }
    Ok(sum)
}
