//! What a run notes: what it did with each path, how that ended, and how the run itself did.
//!
//! These are facts, and are decided on as facts; the English for them is made in [`crate::words`] when somebody reads it.
//! They stand in the ledger in the form that serde gives them, so a variant keeps its name for good.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::Side;

/// What was done, or was to be done, with one path.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Deed {
    /// What both sides hold already was agreed on.
    Record,
    /// What is gone from both sides was forgotten.
    Forget,
    /// A file that was not there was carried to this side.
    Carry(Side),
    /// The version on this side gave way to the other one's.
    Replace(Side),
    /// A new version was carried to this side, beside the older one.
    CarryBeside(Side),
    /// A stub was made here.
    MakeStub,
    /// A stub of a newer version took the place of an older one.
    RenewStub,
    /// The content of a stub was brought here.
    Fetch,
    /// A content here gave way to a stub.
    Shed,
    /// A folder was made on this side.
    MakeFolder(Side),
    /// Something got another name on this side.
    Move(Side),
    /// The copy here of what the lane does not take any more went.
    DropCopy,
    /// A file was removed on this side.
    Remove(Side),
    /// A folder was removed on this side.
    RemoveFolder(Side),
    /// Both versions were read and compared.
    Compare,
    /// Nothing was done; this is how the path stands.
    Find,
    /// What the far side holds was brought here again.
    BringBack,
    /// What an earlier run took away was put back.
    TakeBack,
    /// Somebody removed it by hand.
    RemoveByHand,
    /// Somebody copied it by hand.
    CopyByHand,
    /// Somebody moved it by hand.
    MoveByHand {
        /// Where to, as it was typed.
        to: String,
    },
    /// In the words of an older version of the tool.
    Told(String),
}

impl Deed {
    /// Whether it changes what lies below a folder, where it is done to the folder whole.
    #[must_use]
    pub fn takes_members_along(&self) -> bool {
        match self {
            Deed::Move(_)
            | Deed::DropCopy
            | Deed::Remove(_)
            | Deed::RemoveFolder(_)
            | Deed::RemoveByHand
            | Deed::MoveByHand { .. } => true,
            Deed::Record
            | Deed::Forget
            | Deed::Carry(_)
            | Deed::Replace(_)
            | Deed::CarryBeside(_)
            | Deed::MakeStub
            | Deed::RenewStub
            | Deed::Fetch
            | Deed::Shed
            | Deed::MakeFolder(_)
            | Deed::Compare
            | Deed::Find
            | Deed::BringBack
            | Deed::TakeBack
            | Deed::CopyByHand
            | Deed::Told(_) => false,
        }
    }
}

/// How it ended for one path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ItemOutcome {
    /// In which way.
    pub ending: ItemEnding,
    /// What is to be said about it; may be empty.
    pub remark: String,
}

/// In which way it ended for one path.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ItemEnding {
    /// It was done.
    Done,
    /// It was set down; the next pass takes it up.
    Waiting,
    /// Both sides turned out to have changed.
    Conflict,
    /// It could not be done.
    Stuck,
    /// The receiving side turned out to have changed by itself.
    Drift,
    /// The same, and so a version of the source is not there.
    KeptBack,
    /// Whether it is to be removed was asked.
    Asked,
    /// Its removal from this side waits for a yes.
    Asks(Side),
    /// It is not the lane's.
    LeftOut,
    /// It was to go, and stays.
    Stays,
    /// It failed, and the remark says it all.
    Failed,
}

impl ItemOutcome {
    /// It was done, and there is nothing to say about it.
    pub const DONE: ItemOutcome = ItemOutcome {
        ending: ItemEnding::Done,
        remark: String::new(),
    };

    /// It ended in this way, of which this is to be said.
    pub fn with(ending: ItemEnding, remark: impl Into<String>) -> ItemOutcome {
        ItemOutcome {
            ending,
            remark: remark.into(),
        }
    }

    /// It was done, or could not be done, because of this.
    pub fn of<T, E: std::fmt::Display>(result: &Result<T, E>) -> ItemOutcome {
        match result {
            Ok(_) => ItemOutcome::DONE,
            Err(why) => ItemOutcome::with(ItemEnding::Stuck, why.to_string()),
        }
    }
}

/// What a run was asked for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RunCommand {
    /// A pass over a lane.
    Sync,
    /// A pass that brings content here.
    Fetch,
    /// A pass that leaves stubs here in place of content.
    Shed,
    /// Conflicts, drift and removals that waited were decided.
    Settle,
    /// What rules leave out was removed from both sides.
    Sweep,
    /// What an earlier run took away was brought back.
    Undo,
    /// Other folders were chosen, and local copies went.
    Choose,
    /// What a cut-off pass left was found again.
    Recover,
    /// A stub was opened by a program.
    Open,
    /// Names that are not taken there were changed here.
    Names,
    /// One place was removed by hand.
    Remove(String),
    /// One place was moved to another by hand.
    Move {
        /// What.
        from: String,
        /// Where to.
        to: String,
    },
    /// One place was copied to another by hand.
    Copy {
        /// What.
        from: String,
        /// Where to.
        to: String,
    },
    /// What an older version of the tool noted, in its words.
    Words(String),
}

impl fmt::Display for RunCommand {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            RunCommand::Sync => out.write_str("sync"),
            RunCommand::Fetch => out.write_str("fetch"),
            RunCommand::Shed => out.write_str("shed"),
            RunCommand::Settle => out.write_str("settle"),
            RunCommand::Sweep => out.write_str("sweep"),
            RunCommand::Undo => out.write_str("undo"),
            RunCommand::Choose => out.write_str("choose"),
            RunCommand::Recover => out.write_str("recover"),
            RunCommand::Open => out.write_str("open"),
            RunCommand::Names => out.write_str("names"),
            RunCommand::Remove(what) => write!(out, "remove {what}"),
            RunCommand::Move { from, to } => write!(out, "move {from} to {to}"),
            RunCommand::Copy { from, to } => write!(out, "copy {from} to {to}"),
            RunCommand::Words(words) => out.write_str(words),
        }
    }
}

/// How a run ended.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RunOutcome {
    /// A pass left nothing open.
    AllSettled,
    /// A pass left nothing open but so many files that are being written.
    BeingWritten(u64),
    /// It did what was asked for.
    Done,
    /// Local copies went that the lane does not take any more.
    Dropped,
    /// What rules leave out was removed.
    Swept,
    /// So many files were put back that an earlier run took away.
    TookBack(u64),
    /// It came to its end, and something needs a person.
    NeedsPerson,
    /// Somebody stopped it.
    Stopped,
    /// An error ended it: what it said.
    Failed(String),
}

impl RunOutcome {
    /// As a person would ask for it.
    #[must_use]
    pub fn class(&self) -> RunClass {
        match self {
            RunOutcome::AllSettled
            | RunOutcome::BeingWritten(_)
            | RunOutcome::Done
            | RunOutcome::Dropped
            | RunOutcome::Swept
            | RunOutcome::TookBack(_) => RunClass::Fine,
            RunOutcome::NeedsPerson => RunClass::NeedsPerson,
            RunOutcome::Stopped | RunOutcome::Failed(_) => RunClass::Failed,
        }
    }

    /// Done, or in need of a person, by whether all of it came about.
    #[must_use]
    pub fn done_if(all: bool) -> RunOutcome {
        RunOutcome::or_needs_person(RunOutcome::Done, all)
    }

    /// This, if all of it came about; else it needs a person.
    #[must_use]
    pub fn or_needs_person(self, all: bool) -> RunOutcome {
        if all { self } else { RunOutcome::NeedsPerson }
    }
}

/// The ways in which runs end, as people ask for them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RunClass {
    /// As they should.
    Fine,
    /// With something that needs a person.
    NeedsPerson,
    /// With an error, or because somebody stopped them.
    Failed,
    /// Not yet: they run now.
    Running,
    /// Not at all: they were cut off.
    CutOff,
}
