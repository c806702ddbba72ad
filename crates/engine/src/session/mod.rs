//! What stands around an operation: the lock without which nothing is changed, and the run that tells what was done.

mod locked_lane;
mod op_run;

pub use locked_lane::LockedLane;
pub(crate) use op_run::{Ended, OpRun, in_run};
