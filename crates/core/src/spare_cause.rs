//! Why a version lies among the spares.
//!
//! What is decided on is the variant; the English for it is made in [`crate::words`]. The ledger keeps it in the form that
//! serde gives it, so a variant keeps its name for good.

use serde::{Deserialize, Serialize};

use crate::Side;

/// Why a version lies among the spares.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SpareCause {
    /// The version from this side took its place.
    ReplacedFrom(Side),
    /// It was removed on this side.
    RemovedFrom(Side),
    /// Something of another kind from this side took its place.
    MadeWayFor(Side),
    /// It was moved on this side.
    MovedOn(Side),
    /// A new version was put beside an older one.
    PutBeside,
    /// It was moved to a name beside the other version, when a conflict was settled.
    KeptBeside,
    /// Somebody removed it by hand.
    RemovedByHand,
    /// Somebody replaced it by hand.
    ReplacedByHand,
    /// Somebody moved it by hand.
    MovedByHand,
    /// Somebody had what a rule leaves out removed: the rule.
    SweptBy(String),
    /// It yielded to the version from this side when a conflict was settled.
    YieldedTo(Side),
    /// It made way when the run of this number was taken back.
    MadeWayForRun(i64),
    /// Nobody asked for it: it was met where something else was carried.
    Met,
    /// It lay on the shelf and was in no list.
    Found,
    /// It was taken out to be given up, since the other side holds its content or there is none in it.
    Dropped(DroppedFor),
    /// It was to be given up, and was kept.
    Kept(KeptFor),
    /// In the words of an older version of the tool.
    Told(String),
}

/// Why a copy here was taken out to be given up.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DroppedFor {
    /// Its content stays there; a stub has its place here.
    Stub,
    /// Its folder is not taken any more.
    NotTaken,
    /// It was moved there to this place, which is not taken.
    MovedOut(String),
    /// It is the stub of what came.
    Content,
    /// It is a stub, and a newer one has its place.
    NewerStub,
    /// It is the stub of what was removed there.
    Removal,
    /// It is the stub of a lane that is taken away.
    LaneGone,
    /// In the words of an older version of the tool.
    Told(String),
}

/// Why what was to be given up was kept.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum KeptFor {
    /// A program had it open.
    Open,
    /// Whether a program has it open cannot be told: what the disk said.
    CannotTell(String),
    /// It was written to meanwhile.
    Written,
    /// The other side's version went or changed.
    ChangedThere,
    /// The other side could not be asked again.
    NotAsked,
}

impl SpareCause {
    /// Whether it was taken out to be given up only, so that no version was replaced or removed by it.
    #[must_use]
    pub fn is_drop(&self) -> bool {
        match self {
            SpareCause::Dropped(_) => true,
            SpareCause::ReplacedFrom(_)
            | SpareCause::RemovedFrom(_)
            | SpareCause::MadeWayFor(_)
            | SpareCause::MovedOn(_)
            | SpareCause::PutBeside
            | SpareCause::KeptBeside
            | SpareCause::RemovedByHand
            | SpareCause::ReplacedByHand
            | SpareCause::MovedByHand
            | SpareCause::SweptBy(_)
            | SpareCause::YieldedTo(_)
            | SpareCause::MadeWayForRun(_)
            | SpareCause::Met
            | SpareCause::Found
            | SpareCause::Kept(_)
            | SpareCause::Told(_) => false,
        }
    }
}
