//! Copies of files as they were at one moment, for files that somebody writes to all the time.
//!
//! A file system that shares blocks between files (`FICLONE`, ioctl_ficlonerange(2)) makes such a copy at once, without
//! room, and with nobody writing in between. Where it cannot, there is no such copy: reading while somebody writes would
//! give a version that never was.

use std::collections::HashMap;
use std::fs::File;
use std::os::fd::AsFd;
use std::sync::{Mutex, MutexGuard, PoisonError};

use katabatic_core::{Entry, RelPath, Stamp};

use super::carry::open_unused;
use super::room::STAGING;
use super::{Inner, fingerprint, side_error, stub, system};
use crate::SideError;
use crate::private_files::random_hex;

/// A file that grew between the look at it and the copy is looked at again so often.
const ATTEMPTS: usize = 5;

/// What is frozen: of each path the version that is answered for it, and the copy in the staging.
#[derive(Default)]
pub(super) struct Frozen(Mutex<HashMap<RelPath, (Stamp, String)>>);

impl Frozen {
    fn all(&self) -> MutexGuard<'_, HashMap<RelPath, (Stamp, String)>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// The copy of this very version, and what it is.
pub(super) fn of(
    inner: &Inner,
    path: &RelPath,
    seen: &Entry,
) -> Result<Option<(File, Entry)>, SideError> {
    let slot = match inner.frozen.all().get(path) {
        Some((stamp, slot)) if *stamp == seen.stamp => slot.clone(),
        _ => return Ok(None),
    };
    let file = inner
        .room
        .open(STAGING, &slot)
        .map_err(|why| side_error(&why))?;
    let copy = inner
        .room
        .entry(STAGING, &slot)?
        .ok_or(SideError::Missing)?;
    Ok(Some((file, copy)))
}

/// Makes a copy of a file as it is now.
pub(super) fn freeze(inner: &Inner, path: &RelPath) -> Result<Option<Entry>, SideError> {
    let failed = |why: std::io::Error| side_error(&why);
    let file = open_unused(inner, path).map_err(failed)?;
    stub::refuse(&file)?;
    for _ in 0..ATTEMPTS {
        // What is on its way to the disk changes the times once it is there.
        file.sync_data().map_err(failed)?;
        let before = system::stat_of(file.as_fd()).map_err(failed)?;
        let slot = random_hex(8).map_err(|error| SideError::Failed(error.why))?;
        let copy = inner.room.create(STAGING, &slot).map_err(failed)?;
        if let Err(why) = rustix::fs::ioctl_ficlone(&copy, &file) {
            tracing::debug!("no copy of {path} at one moment can be made here: {why}");
            inner.room.remove(STAGING, &slot)?;
            return Ok(None);
        }
        let copied = system::stat_of(copy.as_fd()).map_err(failed)?;
        if copied.stx_size == before.stx_size {
            let seen = Entry {
                edited: Some(fingerprint::edit_time(&before)),
                // What was written between this look and the copy made the file another version, which is looked at again
                // by the next pass; the copy's content is what is carried and noted.
                ..Entry::file(before.stx_size, fingerprint::stamp(&before))
            };
            let stamp = seen.stamp.clone();
            let older = inner.frozen.all().insert(path.clone(), (stamp, slot));
            if let Some((_, older)) = older {
                inner.room.remove(STAGING, &older)?;
            }
            return Ok(Some(seen));
        }
        inner.room.remove(STAGING, &slot)?;
    }
    Err(SideError::BeingWritten)
}

/// Gives up all copies.
pub(super) fn thaw(inner: &Inner) {
    for (path, (_, slot)) in inner.frozen.all().drain() {
        if let Err(why) = inner.room.remove(STAGING, &slot) {
            tracing::debug!("the copy of {path} is left over: {why}");
        }
    }
}
