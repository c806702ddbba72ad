//! How far a pass has come, for whoever wants to draw it.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicU8, AtomicU64, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};

use katabatic_core::RelPath;
use katabatic_sides::net::unacknowledged::unacknowledged;

/// What a pass is doing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Phase {
    /// Looking at both sides.
    Looking,
    /// Carrying.
    Carrying,
}

/// Counters that a pass moves and a drawing reads.
#[derive(Debug, Default)]
pub struct Progress {
    phase: AtomicU8,
    seen: AtomicU64,
    files: AtomicU64,
    files_done: AtomicU64,
    bytes: AtomicU64,
    bytes_done: AtomicU64,
    bytes_had: AtomicU64,
    under_way: Mutex<BTreeSet<RelPath>>,
}

/// A moment of a [`Progress`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Moment {
    /// What it is doing.
    pub phase: Phase,
    /// Paths looked at so far.
    pub seen: u64,
    /// Steps to carry.
    pub files: u64,
    /// Of these, done.
    pub files_done: u64,
    /// Bytes to carry.
    pub bytes: u64,
    /// Of these, done.
    pub bytes_done: u64,
    /// Of those, what an earlier pass had carried.
    pub bytes_had: u64,
}

impl Progress {
    pub(crate) fn saw(&self, paths: usize) {
        self.seen.fetch_add(paths as u64, Ordering::Relaxed);
    }

    pub(crate) fn begin_carrying(&self, files: u64, bytes: u64) {
        self.files.store(files, Ordering::Relaxed);
        self.bytes.store(bytes, Ordering::Relaxed);
        self.phase.store(1, Ordering::Relaxed);
    }

    pub(crate) fn carried_file(&self) {
        self.files_done.fetch_add(1, Ordering::Relaxed);
    }

    pub(crate) fn carried_bytes(&self, bytes: u64) {
        self.bytes_done.fetch_add(bytes, Ordering::Relaxed);
    }

    /// So much of a file had arrived before.
    pub(crate) fn had_bytes(&self, bytes: u64) {
        self.bytes_had.fetch_add(bytes, Ordering::Relaxed);
        self.carried_bytes(bytes);
    }

    pub(crate) fn took_back_bytes(&self, bytes: u64) {
        self.bytes_done.fetch_sub(bytes, Ordering::Relaxed);
    }

    fn paths(&self) -> MutexGuard<'_, BTreeSet<RelPath>> {
        self.under_way
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn begins(&self, path: &RelPath) {
        self.paths().insert(path.clone());
    }

    pub(crate) fn ends(&self, path: &RelPath) {
        self.paths().remove(path);
    }

    /// What is being carried now, small files aside, which go by too fast to be read.
    #[must_use]
    pub fn under_way(&self) -> Vec<RelPath> {
        self.paths().iter().cloned().collect()
    }

    /// How things stand now. What was handed over to be sent and is not acknowledged yet has not arrived.
    #[must_use]
    pub fn moment(&self) -> Moment {
        let read = |counter: &AtomicU64| counter.load(Ordering::Relaxed);
        Moment {
            phase: if self.phase.load(Ordering::Relaxed) == 0 {
                Phase::Looking
            } else {
                Phase::Carrying
            },
            seen: read(&self.seen),
            files: read(&self.files),
            files_done: read(&self.files_done),
            bytes: read(&self.bytes),
            bytes_done: read(&self.bytes_done).saturating_sub(unacknowledged()),
            bytes_had: read(&self.bytes_had),
        }
    }
}
