//! Room for the ledger on a disk that is full.
//!
//! A person whose disk is full calls for help, and what helps writes to the ledger: giving up the content of files here is
//! recorded. So some room is kept back while there is plenty, and given back once there is none.

use std::fs::{self, File, OpenOptions};
use std::io;
use std::path::{Path, PathBuf};

use rustix::fs::{FallocateFlags, fallocate, statvfs};

/// What is kept back, in bytes.
const KEPT_BACK: u64 = 4 << 20;

/// With so much free, room is kept back.
const PLENTY: u64 = 64 << 20;

/// With less than that free, it is given back.
const LITTLE: u64 = 1 << 20;

/// With less than that free, nothing is written: a change that does not fit would end half way.
const LEAST: u64 = 64 << 10;

fn file_of(ledger: &Path) -> PathBuf {
    ledger.with_extension("reserve")
}

/// Free bytes beside the ledger; none where the file system tells none.
fn free(ledger: &Path) -> Option<u64> {
    let stat = statvfs(ledger.parent()?).ok()?;
    (stat.f_blocks > 0).then(|| stat.f_bavail.saturating_mul(stat.f_frsize))
}

/// Makes sure that there is room to write.
///
/// # Errors
/// [`io::ErrorKind::StorageFull`] where there is none, though all that was kept back was given back.
pub(super) fn make_room(ledger: &Path) -> io::Result<()> {
    let Some(free_now) = free(ledger) else {
        return Ok(());
    };
    let reserve = file_of(ledger);
    if free_now >= PLENTY {
        if !reserve.exists()
            && let Err(why) = keep_back(&reserve)
        {
            tracing::debug!("no room is kept back for the ledger: {why}");
        }
        return Ok(());
    }
    if free_now >= LITTLE {
        return Ok(());
    }
    match give_back(ledger, &reserve) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => {
            tracing::debug!("the room that was kept back is not given back: {error}");
        }
        _ => {}
    }
    match free(ledger) {
        Some(free) if free < LEAST => Err(io::ErrorKind::StorageFull.into()),
        _ => Ok(()),
    }
}

fn give_back(ledger: &Path, reserve: &Path) -> io::Result<()> {
    fs::remove_file(reserve)?;
    // Some file systems count what was given back only once it is written out.
    let folder = File::open(ledger.parent().unwrap_or_else(|| Path::new(".")))?;
    Ok(rustix::fs::syncfs(folder)?)
}

fn keep_back(reserve: &Path) -> io::Result<()> {
    let file = OpenOptions::new()
        .write(true)
        .create_new(true)
        .open(reserve)?;
    let kept = fallocate(&file, FallocateFlags::empty(), 0, KEPT_BACK);
    if let Err(why) = kept {
        // One that keeps nothing back would be taken for one that does.
        let _ = fs::remove_file(reserve);
        return Err(why.into());
    }
    Ok(())
}
