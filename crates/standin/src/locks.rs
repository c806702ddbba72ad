//! Locks (RFC 4918 §6, §7): who holds which, and whether a request may change what they guard.

use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// A lock is never given for longer than this at a time.
const LONGEST: u64 = 3600;

/// A lock on a resource, or on a folder and all it holds.
#[derive(Clone, Debug)]
pub(crate) struct Lock {
    pub(crate) token: String,
    /// What it is on, on the disk: users who share a folder share its locks.
    pub(crate) disk: PathBuf,
    /// The address it was asked for at.
    pub(crate) href: String,
    pub(crate) deep: bool,
    pub(crate) exclusive: bool,
    /// What the client said about its owner, as XML.
    pub(crate) owner: String,
    pub(crate) seconds: u64,
    until: Instant,
}

impl Lock {
    pub(crate) fn covers(&self, disk: &Path) -> bool {
        self.disk == disk || self.deep && disk.starts_with(&self.disk)
    }
}

#[derive(Debug, Default)]
pub(crate) struct Locks {
    held: Mutex<Vec<Lock>>,
}

/// What is wanted of a new lock.
pub(crate) struct Wanted {
    pub(crate) disk: PathBuf,
    pub(crate) href: String,
    pub(crate) deep: bool,
    pub(crate) exclusive: bool,
    pub(crate) owner: String,
    pub(crate) seconds: u64,
}

/// How far a change reaches.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Reach {
    /// The content or the properties of one resource.
    Content,
    /// Its name: it comes or goes, and with it all it holds.
    Name,
}

impl Locks {
    fn held(&self) -> MutexGuard<'_, Vec<Lock>> {
        let mut held = self.held.lock().unwrap_or_else(PoisonError::into_inner);
        let now = Instant::now();
        held.retain(|lock| lock.until > now);
        held
    }

    /// Takes a lock, unless another one is in its way.
    pub(crate) fn take(&self, wanted: Wanted, token: String) -> Option<Lock> {
        let mut held = self.held();
        let clash = held.iter().any(|lock| {
            let meet =
                lock.covers(&wanted.disk) || wanted.deep && lock.disk.starts_with(&wanted.disk);
            meet && (lock.exclusive || wanted.exclusive)
        });
        if clash {
            return None;
        }
        let seconds = wanted.seconds.min(LONGEST);
        let lock = Lock {
            token,
            disk: wanted.disk,
            href: wanted.href,
            deep: wanted.deep,
            exclusive: wanted.exclusive,
            owner: wanted.owner,
            seconds,
            until: Instant::now() + Duration::from_secs(seconds),
        };
        held.push(lock.clone());
        Some(lock)
    }

    /// Lengthens the lock of one of these tokens that covers the resource.
    pub(crate) fn refresh(&self, disk: &Path, tokens: &[String], seconds: u64) -> Option<Lock> {
        let mut held = self.held();
        let lock = held
            .iter_mut()
            .find(|lock| lock.covers(disk) && tokens.contains(&lock.token))?;
        lock.seconds = seconds.min(LONGEST);
        lock.until = Instant::now() + Duration::from_secs(lock.seconds);
        Some(lock.clone())
    }

    /// Gives a lock back; false where there is none of that token on the resource.
    pub(crate) fn release(&self, disk: &Path, token: &str) -> bool {
        let mut held = self.held();
        let before = held.len();
        held.retain(|lock| !(lock.token == token && lock.covers(disk)));
        held.len() < before
    }

    /// A name went: its locks go with it.
    pub(crate) fn forget(&self, disk: &Path) {
        self.held().retain(|lock| !lock.disk.starts_with(disk));
    }

    /// Something took this place: what was locked in the place before is gone, but a lock on the place itself stays.
    pub(crate) fn forget_below(&self, disk: &Path) {
        self.held()
            .retain(|lock| lock.disk == disk || !lock.disk.starts_with(disk));
    }

    /// All locks that are held.
    pub(crate) fn all(&self) -> Vec<Lock> {
        self.held().clone()
    }

    /// The locks that cover a resource.
    pub(crate) fn on(&self, disk: &Path) -> Vec<Lock> {
        self.held()
            .iter()
            .filter(|lock| lock.covers(disk))
            .cloned()
            .collect()
    }

    /// Whether a change may go ahead, given the tokens that were sent along.
    pub(crate) fn allow(&self, disk: &Path, reach: Reach, tokens: &[String]) -> bool {
        let held = self.held();
        let name_too = reach == Reach::Name;
        let in_the_way: Vec<&Lock> = held
            .iter()
            .filter(|lock| {
                lock.covers(disk)
                    || name_too
                        && (lock.disk.starts_with(disk)
                            || disk.parent() == Some(lock.disk.as_path()))
            })
            .collect();
        // Holders of one shared lock are equal: a token of any of them on that resource is enough.
        in_the_way.iter().all(|lock| {
            in_the_way
                .iter()
                .filter(|other| other.disk == lock.disk)
                .any(|other| tokens.contains(&other.token))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn wanted(disk: &str, deep: bool, exclusive: bool) -> Wanted {
        Wanted {
            disk: disk.into(),
            href: disk.into(),
            deep,
            exclusive,
            owner: String::new(),
            seconds: 60,
        }
    }

    #[test]
    fn a_lock_guards_its_resource_its_members_and_its_name() {
        let locks = Locks::default();
        let token = |text: &str| vec![text.to_owned()];
        assert!(locks.take(wanted("/a", true, true), "t".into()).is_some());
        assert!(
            locks
                .take(wanted("/a/b", false, false), "u".into())
                .is_none()
        );
        assert!(locks.take(wanted("/", true, true), "u".into()).is_none());
        for disk in ["/a", "/a/b", "/a/b/c"] {
            assert!(!locks.allow(disk.as_ref(), Reach::Content, &[]));
            assert!(locks.allow(disk.as_ref(), Reach::Content, &token("t")));
        }
        assert!(locks.allow("/ab".as_ref(), Reach::Name, &[]));
        assert!(
            !locks.allow("/".as_ref(), Reach::Name, &[]),
            "it holds a lock"
        );
        assert!(!locks.release("/b".as_ref(), "t"));
        assert!(locks.release("/a/b".as_ref(), "t"));
        assert!(locks.allow("/a".as_ref(), Reach::Name, &[]));
    }

    #[test]
    fn shared_locks_go_together_and_each_opens() {
        let locks = Locks::default();
        assert!(locks.take(wanted("/a", false, false), "t".into()).is_some());
        assert!(locks.take(wanted("/a", false, false), "u".into()).is_some());
        assert!(locks.take(wanted("/a", false, true), "v".into()).is_none());
        assert!(locks.allow("/a".as_ref(), Reach::Content, &["u".to_owned()]));
        assert!(
            !locks.allow("/a/new".as_ref(), Reach::Name, &[]),
            "a folder's lock guards its list of names"
        );
        locks.forget("/a".as_ref());
        assert!(locks.on("/a".as_ref()).is_empty());
    }
}
