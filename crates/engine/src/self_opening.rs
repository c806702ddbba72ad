//! Stubs that open themselves: whether an agent sees to that, and what a computer lacks for it, each with the next step
//! where there is one.

use std::fs::File;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;

use katabatic_opener::client;
use rustix::fs::{FlockOperation, flock};

use crate::Home;
use katabatic_sides::local::file_system_of;

/// The file in the home that is locked while programs may open stubs.
const LOCK: &str = "openings.lock";

/// The system asks before content is used from this version on (fanotify(7), `FAN_PRE_ACCESS`).
const ASKS_FROM: (u32, u32) = (6, 14);

/// Where the system asks.
const ASKED_ON: [&str; 3] = ["ext4", "xfs", "btrfs"];

/// Held by the agent for as long as programs may open stubs: then stubs have rights, and nobody takes them.
#[derive(Debug)]
pub struct Serves(#[expect(dead_code, reason = "held, not read")] File);

/// Begins to let programs open stubs; none where somebody else does, or the home cannot be written.
#[must_use]
pub fn serve(home: &Home) -> Option<Serves> {
    let file = File::options()
        .create(true)
        .truncate(false)
        .write(true)
        .mode(0o600)
        .open(home.state().join(LOCK))
        .ok()?;
    flock(&file, FlockOperation::NonBlockingLockExclusive).ok()?;
    Some(Serves(file))
}

/// Whether an agent lets programs open the stubs of this home now.
#[must_use]
pub fn is_served(home: &Home) -> bool {
    let Ok(file) = File::open(home.state().join(LOCK)) else {
        return false;
    };
    flock(&file, FlockOperation::NonBlockingLockShared).is_err()
}

/// What is missing for the stubs below this folder, in words.
#[must_use]
pub fn missing(folder: &Path, opener: &Path) -> Vec<String> {
    let release = rustix::system::uname();
    let release = release.release().to_string_lossy().into_owned();
    let mut missing = Vec::new();
    missing.extend(missing_version(&release));
    let kind = file_system_of(folder);
    missing.extend(kind.as_deref().and_then(missing_file_system));
    if let Err(why) = client::knock(opener) {
        missing.push(format!(
            "an opener ({}: {why}), which root starts: katabatic opener install",
            opener.display()
        ));
    }
    missing
}

fn missing_version(release: &str) -> Option<String> {
    let mut numbers = release.split(|c: char| !c.is_ascii_digit());
    let mut number = || numbers.next()?.parse::<u32>().ok();
    let version = (number()?, number()?);
    let (major, minor) = ASKS_FROM;
    (version < ASKS_FROM).then(|| format!("Linux {major}.{minor} or later (this is {release})"))
}

fn missing_file_system(kind: &str) -> Option<String> {
    let fits = ASKED_ON.contains(&kind);
    (!fits).then(|| format!("a folder on ext4, XFS or Btrfs (this one is on {kind})"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_are_read_as_the_system_writes_them() {
        for enough in ["6.14.0", "6.18.5-amd64", "7.0-rc1", "10.2"] {
            assert_eq!(missing_version(enough), None, "{enough}");
        }
        for old in ["6.13.9", "5.15.0-91-generic", "6.1.0-18-amd64"] {
            let missing = missing_version(old).unwrap();
            assert!(missing.ends_with(&format!("(this is {old})")), "{missing}");
        }
        // What cannot be read is no reason to say that it is too old.
        assert_eq!(missing_version("rolling"), None);
    }

    #[test]
    fn what_is_missing_is_named() {
        let folder = tempfile::tempdir().unwrap();
        let missing = missing(folder.path(), &folder.path().join("nobody.sock"));
        assert!(
            missing.last().unwrap().starts_with("an opener ("),
            "{missing:?}"
        );
        assert_eq!(missing_file_system("xfs"), None);
        assert!(missing_file_system("vfat").unwrap().contains("is on vfat"));
    }
}
