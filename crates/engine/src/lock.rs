//! The lock on a near root: two passes never run on it at once, whatever home they were started from.

use std::fs::{self, File};
use std::os::unix::fs::MetadataExt;
use std::path::Path;

use rustix::fs::{FlockOperation, flock};

use crate::{Class, Error};

/// Held for as long as a pass runs; the system takes it back when the process ends, however it ends.
#[derive(Debug)]
pub struct RootLock(#[expect(dead_code, reason = "held, not read")] File);

/// Locks a near root.
///
/// # Errors
/// Says which process holds it, since when.
pub fn lock(root: &Path) -> Result<RootLock, Error> {
    let what = || format!("starting a pass on {}", root.display());
    let file = File::open(root).map_err(|why| {
        Error::new(
            Class::NotThere,
            what(),
            why.to_string(),
            "Is the drive plugged in and mounted? Nothing was changed.",
        )
    })?;
    match flock(&file, FlockOperation::NonBlockingLockExclusive) {
        Ok(()) => Ok(RootLock(file)),
        Err(rustix::io::Errno::WOULDBLOCK) => Err(Error::failed(
            what(),
            format!(
                "another pass is running there: {}",
                holder(&file).unwrap_or_else(|| "a process that cannot be named".into())
            ),
            "Wait until it has ended, then try again.",
        )),
        Err(error) => Err(Error::failed(what(), error, "Look at the folder's rights.")),
    }
}

/// Who holds the lock, as the kernel's own list of locks says.
fn holder(file: &File) -> Option<String> {
    let inode = file.metadata().ok()?.ino().to_string();
    let locks = fs::read_to_string("/proc/locks").ok()?;
    let line = locks.lines().find(|line| {
        let fields: Vec<&str> = line.split_whitespace().collect();
        fields.get(1) == Some(&"FLOCK")
            && fields.get(5).and_then(|place| place.rsplit(':').next()) == Some(&inode)
    })?;
    let process: u32 = line.split_whitespace().nth(4)?.parse().ok()?;
    let command = fs::read(format!("/proc/{process}/cmdline")).ok()?;
    let command = String::from_utf8_lossy(&command)
        .trim_end_matches('\0')
        .replace('\0', " ");
    let since = fs::metadata(format!("/proc/{process}"))
        .and_then(|meta| meta.modified())
        .ok();
    let since = since
        .and_then(|at| jiff::Timestamp::try_from(at).ok())
        .map_or_else(String::new, |at| {
            format!(
                ", since {}",
                at.to_zoned(jiff::tz::TimeZone::system())
                    .strftime("%H:%M:%S")
            )
        });
    Some(format!("process {process} ({command}){since}"))
}
