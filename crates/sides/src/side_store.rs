//! A side with all its capabilities, which is what a pass works with.

use crate::capabilities::{
    Describes, Fences, HoldsStubs, Identifies, Lists, Marks, Places, Reads, Stages, TellsChanges,
};
use crate::shelves::Shelves;

/// One side of a lane, with all that a pass asks of it.
pub trait SideStore:
    Lists
    + TellsChanges
    + Reads
    + Identifies
    + Stages
    + Places
    + Fences
    + Shelves
    + HoldsStubs
    + Marks
    + Describes
{
}

impl<S> SideStore for S where
    S: Lists
        + TellsChanges
        + Reads
        + Identifies
        + Stages
        + Places
        + Fences
        + Shelves
        + HoldsStubs
        + Marks
        + Describes
{
}
