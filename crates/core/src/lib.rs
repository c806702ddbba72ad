//! What a pass decides, and the words for it.
//!
//! Everything in this crate is pure: it reads no file, asks no server, looks at no clock and prints nothing. What a
//! side shows comes in as plain data, decisions go out as plain data. That is why every rule that could lose a file
//! can be tested here, on random trees, ten thousand times in a few seconds.
#![forbid(unsafe_code)]

pub mod admission;
pub mod blocks;
pub mod brake;
pub mod choice;
pub mod condition;
pub mod contents;
pub mod dated_name;
pub mod decide;
pub mod decision;
mod did_you_mean;
pub mod entry;
pub mod error;
pub mod findings;
pub mod fitting_name;
pub mod known_root;
pub mod merge;
pub mod moved_out;
pub mod moves;
pub mod partial;
pub mod path;
pub mod per_side;
pub mod place;
pub mod portable;
pub mod principal;
pub mod quantity;
pub mod reconcile;
pub mod recurrence;
pub mod refine;
pub mod room;
pub mod rules;
pub mod run_log;
pub mod schedule;
pub mod selection;
pub mod side;
mod side_names;
pub mod spare_cause;
pub mod state;
pub mod telling;
pub mod terms;
pub mod wish;
pub mod words;

pub use brake::{Brake, BrakeVerdict, Toll};
pub use choice::{Choice, NewFolders, Share};
pub use contents::Contents;
pub use decision::{Decision, Effects, Step, TakesOut};
pub use did_you_mean::did_you_mean;
pub use entry::{
    Base, Digest, EditTime, Entry, Kind, Listing, OddKind, Stamp, StampKind, Unknown, View,
};
pub use error::{Class, Error};
pub use merge::{Merge, MergeError, Triple};
pub use path::{PathError, RelPath};
pub use per_side::PerSide;
pub use reconcile::Reconciler;
pub use refine::{Facts, Refined, StubFact, StubQuestion, refine};
pub use rules::Rule;
pub use run_log::{Deed, ItemEnding, ItemOutcome, RunClass, RunCommand, RunOutcome};
pub use selection::{LeftOutBy, Selection, Tally};
pub use side::Side;
pub use side_names::SideNames;
pub use spare_cause::{DroppedFor, KeptFor, SpareCause};
pub use state::{Agreement, FileState, Lies};
pub use terms::{Direction, Drift, Removals, Terms, Updates};
pub use wish::{WantedContents, Wish};
