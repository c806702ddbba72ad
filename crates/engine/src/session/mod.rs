//! What stands around an operation: the lock without which nothing is changed, and the run that tells what was done.

mod context;
mod locked_lane;
mod op_run;
mod trouble;

pub use context::{Pass, ReadFiles};
pub use locked_lane::LockedLane;
pub(crate) use op_run::{Ended, OpRun, in_run};
pub use trouble::Trouble;
