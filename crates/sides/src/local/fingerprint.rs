//! The stamp of a local file: size, modification time, change time and inode.
//!
//! A stamp that is equal means that nobody changed the file, with two exceptions that this module knows: the change
//! time moves with every rename, so what was captured is compared without it; and a change within the same instant as
//! the last look leaves no trace, so a file that changed less than two seconds before it was looked at is marked
//! *fresh* and looked at again.

use katabatic_core::{EditTime, Stamp, StampKind};
use rustix::fs::Statx;

/// Changes closer than this to the file system's "now" may still be joined by one that leaves no trace.
const FRESH_NANOSECONDS: i128 = 2_000_000_000;

/// The stamp of a stub. It holds no change time: what changes that and nothing else, such as a rename or other rights,
/// makes no other stub of it.
pub(super) fn stub_stamp(stat: &Statx) -> Stamp {
    let shown = format!(
        "{}:{}.{:09}:-:{}",
        stat.stx_size, stat.stx_mtime.tv_sec, stat.stx_mtime.tv_nsec, stat.stx_ino
    );
    Stamp::of(StampKind::Stub, &shown)
}

pub(super) fn stamp(stat: &Statx) -> Stamp {
    Stamp::new(&format!(
        "{}:{}.{:09}:{}.{:09}:{}",
        stat.stx_size,
        stat.stx_mtime.tv_sec,
        stat.stx_mtime.tv_nsec,
        stat.stx_ctime.tv_sec,
        stat.stx_ctime.tv_nsec,
        stat.stx_ino
    ))
}

pub(super) fn edit_time(stat: &Statx) -> EditTime {
    let nanoseconds =
        i128::from(stat.stx_mtime.tv_sec) * 1_000_000_000 + i128::from(stat.stx_mtime.tv_nsec);
    EditTime(nanoseconds.clamp(i128::from(i64::MIN), i128::from(i64::MAX)) as i64)
}

fn parts(stamp: &Stamp) -> Option<[&str; 4]> {
    let mut parts = stamp.as_str().split(':');
    Some([parts.next()?, parts.next()?, parts.next()?, parts.next()?])
}

/// Whether two stamps are of one version, wherever it was renamed to.
pub(super) fn same_but_for_ctime(a: &Stamp, b: &Stamp) -> bool {
    match (parts(a), parts(b)) {
        (Some([size, modified, _, inode]), Some([other_size, other_modified, _, other_inode])) => {
            (size, modified, inode) == (other_size, other_modified, other_inode)
                && a.is_stub() == b.is_stub()
        }
        _ => false,
    }
}

/// Whether a file here has another length or edit time than when it had the first of these stamps.
pub fn was_written_since(before: &Stamp, now: &Stamp) -> bool {
    match (parts(before), parts(now)) {
        (Some([size, modified, ..]), Some([size_now, modified_now, ..])) => {
            (size, modified) != (size_now, modified_now)
        }
        _ => false,
    }
}

/// What finds the file of this stamp again after a move: its inode number.
#[must_use]
pub fn handle_of(stamp: &Stamp) -> Option<String> {
    parts(stamp).map(|[.., inode]| inode.to_owned())
}

/// Whether the file changed so shortly before `now` that it has to be looked at again.
pub(super) fn is_fresh(stamp: &Stamp, now: &EditTime) -> bool {
    // What has no content cannot hide a change of it.
    let Some([_, _, changed, _]) = parts(stamp).filter(|_| !stamp.is_stub()) else {
        return false;
    };
    let Some((seconds, nanoseconds)) = changed.split_once('.') else {
        return true;
    };
    let (Ok(seconds), Ok(nanoseconds)) = (seconds.parse::<i128>(), nanoseconds.parse::<i128>())
    else {
        return true;
    };
    seconds * 1_000_000_000 + nanoseconds + FRESH_NANOSECONDS > i128::from(now.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_rename_changes_is_not_a_version() {
        let before = Stamp::new("5:100.000000001:100.000000002:77");
        let renamed = Stamp::new("5:100.000000001:200.000000000:77");
        assert!(same_but_for_ctime(&before, &renamed));
        for other in [
            "6:100.000000001:100.000000002:77",
            "5:100.000000002:0.0:77",
            "5:100.000000001:0.0:78",
            "",
        ] {
            assert!(!same_but_for_ctime(&before, &Stamp::new(other)), "{other}");
        }
        assert_eq!(handle_of(&before).as_deref(), Some("77"));
        let stub = Stamp::of(StampKind::Stub, "5:100.000000001:-:77");
        assert!(same_but_for_ctime(&stub, &stub));
        assert!(
            !same_but_for_ctime(&before, &stub),
            "a file is never its own stub"
        );
        assert_eq!(handle_of(&stub).as_deref(), Some("77"));
        assert!(!is_fresh(&stub, &EditTime(0)));
    }

    #[test]
    fn a_change_of_a_moment_ago_is_fresh() {
        let stamp = Stamp::new("5:1.000000000:100.500000000:7");
        assert!(is_fresh(&stamp, &EditTime(102_400_000_000)));
        assert!(!is_fresh(&stamp, &EditTime(102_600_000_000)));
        assert!(
            is_fresh(&stamp, &EditTime(90_000_000_000)),
            "a change in the future is no older"
        );
    }
}
