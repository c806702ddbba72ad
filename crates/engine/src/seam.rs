//! The seams between the steps of a pass, where a test can crash the process or let a stranger write.
//!
//! Every promise about crashes and strangers is a promise about *instants*. A hook at every seam makes each of those
//! instants reachable on purpose, instead of waiting for luck.

use std::sync::Arc;

use async_trait::async_trait;
use katabatic_core::{RelPath, Side};

/// An instant between two steps of a pass.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Seam {
    /// The near root is locked, nothing was looked at.
    Locked,
    /// What an earlier pass left unfinished is cleared up.
    Recovered,
    /// Both sides were looked at and the plan is made.
    Planned,
    /// A file is about to be read.
    BeforeRead,
    /// The content is staged on the receiving side.
    Staged,
    /// What is about to happen stands in the ledger.
    Intended,
    /// The old version is in the spares.
    Captured,
    /// The captured version is the one the plan saw.
    Checked,
    /// The new version is in place.
    Placed,
    /// What is in place was looked at again.
    Verified,
    /// The ledger has the outcome.
    Recorded,
    /// A folder was made.
    MadeFolder,
    /// A folder was removed.
    RemovedFolder,
    /// Everything is carried; the pass is about to be closed.
    Carried,
}

impl Seam {
    /// All of them, in the order of a pass.
    pub const ALL: [Seam; 14] = [
        Seam::Locked,
        Seam::Recovered,
        Seam::Planned,
        Seam::BeforeRead,
        Seam::Staged,
        Seam::Intended,
        Seam::Captured,
        Seam::Checked,
        Seam::Placed,
        Seam::Verified,
        Seam::Recorded,
        Seam::MadeFolder,
        Seam::RemovedFolder,
        Seam::Carried,
    ];
}

/// Something that is told of every seam, and may take its time there.
#[async_trait]
pub trait Hook: Send + Sync {
    /// The pass stands at `seam`, about to go on with `path` on `side` where the seam is about one.
    async fn at(&self, seam: Seam, side: Option<Side>, path: Option<&RelPath>);
}

/// Nothing happens at the seams.
#[derive(Clone, Copy, Debug, Default)]
pub struct NoHook;

#[async_trait]
impl Hook for NoHook {
    async fn at(&self, _: Seam, _: Option<Side>, _: Option<&RelPath>) {}
}

/// A shared hook.
pub type SharedHook = Arc<dyn Hook>;
