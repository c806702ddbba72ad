//! A file's state, on its two axes: how the sides agree, and where the content lies.

use serde::{Deserialize, Serialize};

use crate::run_log::ItemEnding;
use crate::selection::LeftOutBy;
use crate::{Decision, Entry, Side, Unknown};

/// How the two sides agree at a path. The ledger keeps it in the form that serde gives it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Agreement {
    /// Both sides hold the same, and the ledger says so.
    Settled,
    /// A change is known and not carried yet; the side is the one it goes to.
    Waiting(Side),
    /// Being carried now, to this side.
    Moving(Side),
    /// Both sides changed; neither is touched until somebody settles it.
    Conflict,
    /// On a one-way lane: the receiving side changed by itself, and nothing of the source is missing there for it.
    Drift,
    /// On a one-way lane: the receiving side changed by itself, and a version of the source is not there because of it.
    KeptBack,
    /// It cannot be carried; the reason stands beside it.
    Stuck,
    /// It was removed on the other side; removing it from this one waits for a yes.
    Asking(Side),
    /// A rule, a choice, the lane's terms or its kind keep it out of the lane.
    LeftOut,
}

impl Agreement {
    /// The mark that may stand beside the word, never instead of it.
    #[must_use]
    pub fn mark(self) -> &'static str {
        match self {
            Agreement::Settled => "·",
            Agreement::Waiting(Side::Far) => "△",
            Agreement::Waiting(Side::Near) => "▽",
            Agreement::Moving(Side::Far) => "▲",
            Agreement::Moving(Side::Near) => "▼",
            Agreement::Conflict => "‡",
            Agreement::Drift | Agreement::KeptBack => "~",
            Agreement::Asking(_) => "?",
            Agreement::Stuck => "✱",
            Agreement::LeftOut => "∅",
        }
    }

    /// The word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Agreement::Settled => "settled",
            Agreement::Waiting(Side::Far) => "waiting up",
            Agreement::Waiting(Side::Near) => "waiting down",
            Agreement::Moving(Side::Far) => "moving up",
            Agreement::Moving(Side::Near) => "moving down",
            Agreement::Conflict => "conflict",
            Agreement::Drift => "drift",
            Agreement::KeptBack => "kept back",
            Agreement::Asking(Side::Near) => "asks to remove here",
            Agreement::Asking(Side::Far) => "asks to remove there",
            Agreement::Stuck => "stuck",
            Agreement::LeftOut => "left out",
        }
    }

    /// How a run that left a path so says that; none for what is no news of a run.
    #[must_use]
    pub fn ending(self) -> Option<ItemEnding> {
        match self {
            Agreement::Conflict => Some(ItemEnding::Conflict),
            Agreement::Stuck => Some(ItemEnding::Stuck),
            Agreement::Drift => Some(ItemEnding::Drift),
            Agreement::KeptBack => Some(ItemEnding::KeptBack),
            Agreement::Asking(side) => Some(ItemEnding::Asks(side)),
            Agreement::Settled
            | Agreement::Waiting(_)
            | Agreement::Moving(_)
            | Agreement::LeftOut => None,
        }
    }

    /// Whether a person has to do something about it.
    #[must_use]
    pub fn needs_a_person(self) -> bool {
        matches!(
            self,
            Agreement::Conflict | Agreement::Stuck | Agreement::KeptBack | Agreement::Asking(_)
        )
    }
}

impl From<&Decision> for Agreement {
    fn from(decision: &Decision) -> Agreement {
        match decision {
            Decision::Settled
            | Decision::KeptAway { .. }
            | Decision::Record
            | Decision::Shed
            | Decision::Forget
            | Decision::KeepFolder { .. }
            | Decision::KeepRemoved { .. } => Agreement::Settled,
            Decision::Carry { to, .. } | Decision::CarryBeside { to } => Agreement::Waiting(*to),
            Decision::MakeFolder { on }
            | Decision::Move { on, .. }
            | Decision::Remove { on, .. } => Agreement::Waiting(*on),
            // The far side's content is read to compare it.
            Decision::DropHere { .. }
            | Decision::Compare
            | Decision::MakeStub { .. }
            | Decision::Fetch => Agreement::Waiting(Side::Near),
            Decision::Conflict => Agreement::Conflict,
            Decision::Drift {
                keeps_back: false, ..
            } => Agreement::Drift,
            Decision::Drift {
                keeps_back: true, ..
            } => Agreement::KeptBack,
            Decision::AskRemoval { on } => Agreement::Asking(*on),
            Decision::Ruled(LeftOutBy::StandsHere(_)) => Agreement::Stuck,
            Decision::LeftOut { .. }
            | Decision::Ruled(_)
            | Decision::NotCarried { .. }
            | Decision::OldStays { .. } => Agreement::LeftOut,
            Decision::Hold {
                on,
                why: Unknown::BeingWritten,
            } => Agreement::Waiting(on.other()),
            Decision::Hold {
                on,
                why: Unknown::Coming,
            } => Agreement::Waiting(*on),
            Decision::Hold { .. } | Decision::BelowConflict => Agreement::Stuck,
        }
    }
}

/// Where the content lies.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Lies {
    /// On this computer.
    Here,
    /// Only name, size and date are here.
    Stub,
    /// On this computer, whatever else is dropped to make room.
    Held,
    /// Only on the far side, not brought here yet.
    There,
}

impl Lies {
    /// Where the content of what the near side shows lies; `held` where it is to stay here.
    #[must_use]
    pub fn of(near: Option<&Entry>, held: bool) -> Lies {
        match near {
            None => Lies::There,
            Some(near) if near.is_stub() => Lies::Stub,
            Some(_) if held => Lies::Held,
            Some(_) => Lies::Here,
        }
    }

    /// The mark; nothing for content that is simply here.
    #[must_use]
    pub fn mark(self) -> &'static str {
        match self {
            Lies::Here | Lies::There => "",
            Lies::Stub => "◌",
            Lies::Held => "◆",
        }
    }

    /// The word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Lies::Here => "here",
            Lies::Stub => "stub",
            Lies::Held => "held",
            Lies::There => "there only",
        }
    }
}

/// Both axes together.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct FileState {
    /// How the sides agree.
    pub agreement: Agreement,
    /// Where the content lies.
    pub lies: Lies,
}

impl FileState {
    /// The state a step finds a path in.
    #[must_use]
    pub fn of(step: &crate::Step) -> FileState {
        FileState {
            agreement: Agreement::from(&step.decision),
            lies: Lies::of(step.entry(Side::Near), false),
        }
    }
}
