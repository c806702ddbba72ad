//! What the file system of a local folder can do, found out by asking it, and what is done where it cannot.
//!
//! Sticks, memory cards and network drives lack some of what a computer's own disk has. What they are called says
//! little: the same name behaves otherwise with another driver. So each thing is tried, with files of our own in the
//! tool's own room.

use std::ffi::OsStr;
use std::fs::{File, FileTimes};
use std::io::{self, Write};
use std::os::fd::{AsFd, BorrowedFd};
use std::os::unix::fs::PermissionsExt;
use std::time::{Duration, SystemTime};

use rustix::fs::{
    AtFlags, CWD, Mode, OFlags, RenameFlags, StatxFlags, XattrFlags, openat, renameat_with, statx,
    unlinkat,
};

use super::system;
use crate::private_files::random_hex;

/// An instant with all the digits a clock can have, long ago: 2001-09-09, 01:46:41.987654321.
const LONG_AGO: Duration = Duration::new(1_000_000_001, 987_654_321);

/// What a file system can do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Abilities {
    /// What the system calls it.
    pub(super) kind: String,
    /// Whether a name is given only while it is free, in one step.
    pub(super) guards_names: bool,
    /// Whether two names can be exchanged in one step.
    pub(super) exchanges: bool,
    /// Whether files hold extended attributes.
    pub(super) attributes: bool,
    /// Whether files keep their rights.
    pub(super) rights: bool,
    /// In which steps edit times are kept, in nanoseconds; 1 where they are kept whole.
    pub(super) time_step: u64,
    /// Whether a change leaves a trace though the edit time was set back.
    pub(super) change_times: bool,
    /// Whether names that differ only in case are two.
    pub(super) tells_case: bool,
    /// Of the characters that travel badly, those it refuses.
    pub(super) refused: String,
}

/// Asks a folder's file system; leaves nothing behind.
pub(super) fn ask(folder: BorrowedFd<'_>) -> io::Result<Abilities> {
    let asked = random_hex(6).map_err(|error| io::Error::other(error.why))?;
    let names = ["a", "b"].map(|name| format!("ask-{asked}-{name}"));
    let answer = answers(folder, &names);
    for name in &names {
        let _ = unlinkat(folder, name.as_str(), AtFlags::empty());
    }
    answer
}

fn answers(folder: BorrowedFd<'_>, [a, b]: &[String; 2]) -> io::Result<Abilities> {
    let (first, _second) = (create(folder, a)?, create(folder, b)?);
    let stat = system::stat_of(folder)?;
    let rename = |flags| renameat_with(folder, a.as_str(), folder, b.as_str(), flags);
    let exchanges = rename(RenameFlags::EXCHANGE).is_ok();
    // Both names are taken now, whichever way round.
    let onto = rename(RenameFlags::NOREPLACE);
    let guards_in_one = {
        let _ = unlinkat(folder, b.as_str(), AtFlags::empty());
        onto.is_err() && rename(RenameFlags::NOREPLACE).is_ok()
    };
    let guards_names = guards_in_one || {
        let from = system::stat_at(folder, OsStr::new(a)).map_or(b, |_| a);
        let other = if from == a { b } else { a };
        let linked = rustix::fs::linkat(
            folder,
            from.as_str(),
            folder,
            other.as_str(),
            AtFlags::empty(),
        );
        linked.is_ok()
    };
    let refused = "\\:*?\"<>|"
        .chars()
        .filter(|c| !holds(folder, *c))
        .collect();
    let upper = system::stat_at(folder, OsStr::new(&a.to_uppercase()))
        .or_else(|_| system::stat_at(folder, OsStr::new(&b.to_uppercase())));
    let attributes =
        rustix::fs::fsetxattr(&first, "user.katabatic.ask", b"1", XattrFlags::empty()).is_ok();
    let rights = first
        .set_permissions(std::fs::Permissions::from_mode(0o640))
        .is_ok()
        && first.metadata()?.permissions().mode() & 0o777 == 0o640;
    let long_ago = SystemTime::UNIX_EPOCH + LONG_AGO;
    first.set_times(FileTimes::new().set_modified(long_ago))?;
    let dated = system::stat_of(first.as_fd())?;
    let kept = Duration::new(
        dated.stx_mtime.tv_sec.try_into().unwrap_or_default(),
        dated.stx_mtime.tv_nsec,
    );
    Ok(Abilities {
        kind: kind_of(stat.stx_mnt_id).unwrap_or_else(|| "unknown".into()),
        guards_names,
        exchanges,
        attributes,
        rights,
        time_step: step_of(kept),
        change_times: dated.stx_ctime.tv_sec > dated.stx_mtime.tv_sec + 1,
        tells_case: upper.is_err(),
        refused,
    })
}

fn create(folder: BorrowedFd<'_>, name: &str) -> io::Result<File> {
    let flags = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::CLOEXEC;
    let mut file = File::from(openat(folder, name, flags, Mode::from_raw_mode(0o600))?);
    file.write_all(name.as_bytes())?;
    Ok(file)
}

fn holds(folder: BorrowedFd<'_>, c: char) -> bool {
    let name = format!("ask{c}ed");
    let held = create(folder, &name).is_ok();
    let _ = unlinkat(folder, name.as_str(), AtFlags::empty());
    held
}

/// In which steps a clock goes that keeps an instant so.
fn step_of(kept: Duration) -> u64 {
    let steps = [
        1,
        100,
        1_000,
        1_000_000,
        10_000_000,
        1_000_000_000,
        2_000_000_000,
    ];
    let whole = LONG_AGO.as_nanos();
    let fits = |step: &u64| whole - whole % u128::from(*step) == kept.as_nanos();
    steps.into_iter().find(fits).unwrap_or(2_000_000_000)
}

/// What the system calls the file system that is mounted under this number.
pub(super) fn kind_of(mount: u64) -> Option<String> {
    let mounts = std::fs::read_to_string("/proc/self/mountinfo").ok()?;
    let line = mounts
        .lines()
        .find(|line| line.split(' ').next() == Some(&mount.to_string()))?;
    let (_, kind) = line.split_once(" - ")?;
    kind.split(' ').next().map(str::to_owned)
}

/// What the system calls the file system that a folder lies on.
pub fn file_system_of(folder: &std::path::Path) -> Option<String> {
    let stat = statx(CWD, folder, AtFlags::empty(), StatxFlags::MNT_ID).ok()?;
    kind_of(stat.stx_mnt_id)
}

impl Abilities {
    /// What is missing and what is done instead, a sentence each.
    pub(super) fn shortcomings(&self) -> Vec<String> {
        let mut said = Vec::new();
        if !self.exchanges {
            said.push("it cannot exchange two files in one step: what is replaced goes to the spares first, and for an instant its name is missing".to_owned());
        }
        if !self.guards_names {
            said.push("it cannot give a name only while it is free: a look comes right before, and a file that another program makes in the instant between is replaced".to_owned());
        }
        if self.time_step >= 1_000_000 {
            said.push(format!(
                "it keeps times in steps of {}: what changed within the last two seconds is read again by the next pass",
                words_of(self.time_step)
            ));
        }
        if !self.change_times {
            said.push("it notes no time of change: a new version of the same length whose date was set back is not noticed".to_owned());
        }
        if !self.attributes {
            said.push("it holds no extended attributes: the folder is known by a file in .katabatic, and files lose theirs".to_owned());
        }
        if !self.rights {
            said.push(
                "it keeps no owners and rights: files come out with those of the mount".to_owned(),
            );
        }
        if !self.tells_case {
            said.push("it takes names that differ only in case for one: the second of two waits, with a name that would do".to_owned());
        }
        if !self.refused.is_empty() {
            let refused: Vec<String> = self.refused.chars().map(String::from).collect();
            said.push(format!(
                "it refuses names with {}: they wait, with a name that would do",
                refused.join(" ")
            ));
        }
        said
    }
}

fn words_of(step: u64) -> String {
    match step {
        1_000_000_000.. => format!("{} s", step / 1_000_000_000),
        _ => format!("{} ms", step / 1_000_000),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_ordinary_folder_is_asked_and_left_as_it_was() {
        let dir = tempfile::tempdir().unwrap();
        let folder = File::open(dir.path()).unwrap();
        let abilities = ask(folder.as_fd()).unwrap();
        assert!(abilities.guards_names && abilities.tells_case && abilities.rights);
        assert_eq!(abilities.refused, "");
        assert_ne!(abilities.kind, "unknown");
        assert_eq!(std::fs::read_dir(dir.path()).unwrap().count(), 0);
    }

    #[test]
    fn the_steps_of_a_clock_are_told_by_what_it_keeps() {
        for (kept, step) in [
            (Duration::new(1_000_000_001, 987_654_321), 1),
            (Duration::new(1_000_000_001, 987_654_300), 100),
            (Duration::new(1_000_000_001, 980_000_000), 10_000_000),
            (Duration::new(1_000_000_001, 0), 1_000_000_000),
            (Duration::new(1_000_000_000, 0), 2_000_000_000),
        ] {
            assert_eq!(step_of(kept), step, "{kept:?}");
        }
    }

    #[test]
    fn what_is_missing_is_said_with_what_is_done_instead() {
        let stick = Abilities {
            kind: "exfat".into(),
            guards_names: false,
            exchanges: false,
            attributes: false,
            rights: false,
            time_step: 2_000_000_000,
            change_times: false,
            tells_case: false,
            refused: ":*".into(),
        };
        let said = stick.shortcomings();
        assert_eq!(said.len(), 8);
        assert!(said[2].contains("steps of 2 s"), "{said:?}");
        assert!(said[7].contains("names with : *"), "{said:?}");
        let disk = Abilities {
            guards_names: true,
            exchanges: true,
            attributes: true,
            rights: true,
            time_step: 1,
            change_times: true,
            tells_case: true,
            refused: String::new(),
            ..stick
        };
        assert_eq!(disk.shortcomings(), Vec::<String>::new());
    }
}
