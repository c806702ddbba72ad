//! The lock on a lane: of two programs, one at a time changes it, whatever home they were started from.
//!
//! What is locked is the lane's own folder in the home, which is there also while a drive is not, and the near root,
//! which other homes may have tied as well. The near root can be locked by whoever may read it: only a lock of this
//! person's own, or of root's, counts.

use std::fs::{self, File};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use rustix::fs::{FlockOperation, flock};

use crate::{Class, Error};

/// What is locked of a lane.
#[derive(Clone, Debug, Default)]
pub struct LockAt {
    /// The lane's own folder in the home; a trial has none.
    pub room: Option<PathBuf>,
    /// The near folder, where that is on this computer.
    pub near: Option<PathBuf>,
}

/// Held for as long as something is changed; the system takes it back when the process ends, however it ends.
#[derive(Debug)]
pub struct LaneLock(#[expect(dead_code, reason = "held, not read")] Vec<File>);

impl LaneLock {
    /// A file that is locked already.
    pub(crate) fn of(locked: File) -> LaneLock {
        LaneLock(vec![locked])
    }
}

/// Locks a lane.
///
/// # Errors
/// Says which process holds it, since when; or that the near folder is not there.
pub fn lock_lane(at: &LockAt) -> Result<LaneLock, Error> {
    let room = at.room.iter().map(|path| lock_one(path, Whose::Ours));
    let near = at.near.iter().map(|path| lock_one(path, Whose::Anybodys));
    room.chain(near).collect::<Result<_, _>>().map(LaneLock)
}

/// The same where the drive of the near folder may not be plugged in: what is not there, nobody else can lock.
///
/// # Errors
/// As [`lock_lane`], but for a near folder that is not there.
pub fn lock_what_is_there(at: &LockAt) -> Result<LaneLock, Error> {
    let mut files = Vec::new();
    let room = at.room.iter().map(|path| (path, Whose::Ours));
    let near = at.near.iter().map(|path| (path, Whose::Anybodys));
    for (path, whose) in room.chain(near) {
        match lock_one(path, whose) {
            Ok(file) => files.push(file),
            Err(error) if error.class == Class::NotThere => {}
            Err(error) => return Err(error),
        }
    }
    Ok(LaneLock(files))
}

/// Locks a folder that no lane has yet, or has again.
///
/// # Errors
/// As [`lock_lane`].
pub fn lock_folder(root: &Path) -> Result<LaneLock, Error> {
    Ok(LaneLock(vec![lock_one(root, Whose::Anybodys)?]))
}

/// An agent's pass is waited for this long; it carries what it has to carry, and ends.
const PATIENCE: Duration = Duration::from_secs(120);

/// Who can lock a folder.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Whose {
    /// It lies in the home, where nobody else comes: every lock counts.
    Ours,
    /// Whoever may read it.
    Anybodys,
}

/// Locks a folder; where the agent runs a pass there, once that has ended.
fn lock_one(root: &Path, whose: Whose) -> Result<File, Error> {
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
        Ok(()) => Ok(file),
        Err(rustix::io::Errno::WOULDBLOCK) if whose == Whose::Anybodys && !is_held_by_us(&file) => {
            tracing::warn!(
                "somebody else holds {}, and is not waited for",
                root.display()
            );
            Ok(file)
        }
        Err(rustix::io::Errno::WOULDBLOCK) if is_the_agent(&file) => match wait(&file) {
            true => Ok(file),
            false => Err(busy(what(), &file)),
        },
        Err(rustix::io::Errno::WOULDBLOCK) => Err(busy(what(), &file)),
        Err(error) => Err(Error::failed(what(), error, "Look at the folder's rights.")),
    }
}

fn busy(what: String, file: &File) -> Error {
    let holder = holder(file).map_or_else(
        || "a process that cannot be named".into(),
        |holder| holder.to_string(),
    );
    Error::new(
        Class::Busy,
        what,
        format!("another pass is running there: {holder}"),
        "Wait until it has ended, then try again.",
    )
}

/// Whether a pass of the agent is what holds the lock, and not one of ours that the agent itself has to wait for.
fn is_the_agent(file: &File) -> bool {
    let ours: Vec<String> = std::env::args().collect();
    !runs_the_agent(&ours) && holder(file).is_some_and(|holder| runs_the_agent(&holder.command))
}

/// Whether a program was started to be the agent.
fn runs_the_agent(command: &[String]) -> bool {
    command.windows(2).any(|pair| pair == ["agent", "run"])
}

/// Waits for the lock in a thread of its own, since that cannot be given up once it has begun.
fn wait(file: &File) -> bool {
    let Ok(same) = file.try_clone() else {
        return false;
    };
    let (tell, told) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        let _ = tell.send(flock(&same, FlockOperation::LockExclusive).is_ok());
    });
    told.recv_timeout(PATIENCE).unwrap_or(false)
}

/// Whether a process of this person's, or of root's, may be what holds the lock. The list names inodes by numbers that
/// other disks have, too: whoever locks another file of the same number hides nobody. One that has ended, and left the
/// lock with a descriptor that it gave away, is none of them.
fn is_held_by_us(file: &File) -> bool {
    let own = rustix::process::geteuid().as_raw();
    let user = |holder: &u32| {
        // Whose the folder of a process is that lets nobody look into it is no sign (proc(5)).
        let status = fs::read_to_string(format!("/proc/{holder}/status")).ok()?;
        let users = status.lines().find_map(|line| line.strip_prefix("Uid:"))?;
        users.split_whitespace().nth(1)?.parse::<u32>().ok()
    };
    let holders = holding_processes(file);
    holders
        .iter()
        .filter_map(user)
        .any(|user| user == own || user == 0)
}

/// Processes that took a lock on an inode of this number, as the kernel's own list of locks says.
fn holding_processes(file: &File) -> Vec<u32> {
    let Ok(meta) = file.metadata() else {
        return Vec::new();
    };
    let inode = meta.ino().to_string();
    let locks = fs::read_to_string("/proc/locks").unwrap_or_default();
    let holder = |line: &str| {
        let fields: Vec<&str> = line.split_whitespace().collect();
        let is_it = fields.get(1) == Some(&"FLOCK")
            && fields.get(5).and_then(|place| place.rsplit(':').next()) == Some(&*inode);
        fields.get(4).filter(|_| is_it)?.parse().ok()
    };
    locks.lines().filter_map(holder).collect()
}

/// A process that holds a lock.
struct Holder {
    process: u32,
    /// The program and its arguments.
    command: Vec<String>,
    since: Option<jiff::Timestamp>,
}

impl std::fmt::Display for Holder {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(out, "process {} ({})", self.process, self.command.join(" "))?;
        match &self.since {
            None => Ok(()),
            Some(at) => {
                let here = at.to_zoned(jiff::tz::TimeZone::system());
                write!(out, ", since {}", here.strftime("%H:%M:%S"))
            }
        }
    }
}

/// Who holds the lock.
fn holder(file: &File) -> Option<Holder> {
    let process = *holding_processes(file).first()?;
    let command = fs::read(format!("/proc/{process}/cmdline")).ok()?;
    let command = String::from_utf8_lossy(&command);
    let command = command.trim_end_matches('\0').split('\0');
    let since = fs::metadata(format!("/proc/{process}"))
        .and_then(|meta| meta.modified())
        .ok();
    Some(Holder {
        process,
        command: command.map(str::to_owned).collect(),
        since: since.and_then(|at| jiff::Timestamp::try_from(at).ok()),
    })
}
