//! What every operation on a lane works with.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, PoisonError};

use katabatic_core::blocks::Blocks;
use katabatic_core::{Digest, RelPath, Side, Stamp};

use crate::Error;
use crate::open::{OpenLane, side_failed};
use crate::progress::Progress;
use crate::seam::{Seam, SharedHook};
use katabatic_ledger::Ledger;
use katabatic_sides::clock::Clock;
use katabatic_sides::stop::Stop;
use katabatic_sides::{SideError, SideStore};

/// Everything a pass works with.
#[derive(Clone)]
pub struct Pass {
    /// The lane.
    pub lane: OpenLane,
    /// The ledger.
    pub ledger: Ledger,
    /// The clock.
    pub clock: Arc<dyn Clock>,
    /// What is told of every seam.
    pub hook: SharedHook,
    /// Whether somebody asked to stop.
    pub stop: Stop,
    /// What is told of every step forward.
    pub progress: Arc<Progress>,
    /// Large files that this pass has read already.
    pub read: ReadFiles,
}

/// What was read of a large file: the stamp of the version, its digest, its blocks.
type ReadFile = (Stamp, Digest, Blocks);

/// What reading large files told, so that none is read twice; and which are written all the time.
#[derive(Clone, Default)]
pub struct ReadFiles {
    known: Arc<Mutex<BTreeMap<RelPath, ReadFile>>>,
    written_long: Arc<Mutex<BTreeSet<RelPath>>>,
}

impl Pass {
    pub(crate) fn note_blocks(
        &self,
        path: &RelPath,
        stamp: &Stamp,
        (digest, blocks): (Digest, Blocks),
    ) {
        let mut read = (self.read.known.lock()).unwrap_or_else(PoisonError::into_inner);
        read.insert(path.clone(), (stamp.clone(), digest, blocks));
    }

    pub(crate) fn blocks_of(&self, path: &RelPath, stamp: &Stamp) -> Option<(Digest, Blocks)> {
        let mut read = (self.read.known.lock()).unwrap_or_else(PoisonError::into_inner);
        let (of, digest, blocks) = read.remove(path)?;
        (of == *stamp).then_some((digest, blocks))
    }

    /// From now on these files are read from a copy as they are at one moment, where the side can make one.
    pub(crate) fn read_copies_of(&self, paths: BTreeSet<RelPath>) {
        *(self.read.written_long.lock()).unwrap_or_else(PoisonError::into_inner) = paths;
    }

    /// Whether a file is to be read from such a copy.
    pub(crate) fn reads_a_copy_of(&self, path: &RelPath) -> bool {
        let paths = (self.read.written_long.lock()).unwrap_or_else(PoisonError::into_inner);
        paths.contains(path)
    }

    pub(crate) fn store(&self, side: Side) -> Arc<dyn SideStore> {
        self.lane.store(side)
    }

    pub(crate) async fn seam(&self, seam: Seam, side: Option<Side>, path: Option<&RelPath>) {
        self.hook.at(seam, side, path).await;
    }

    pub(crate) fn side_failed(&self, side: Side, error: &SideError) -> Error {
        side_failed(&self.lane.config, side, error)
    }
}
