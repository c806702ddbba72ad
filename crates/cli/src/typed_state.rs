//! A state as it is typed: how the sides agree, or where the content lies.

use clap::ValueEnum;
use katabatic_core::{Agreement, FileState, Lies};

/// How a path stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum StateTyped {
    /// Both sides hold the same
    Settled,
    /// A change is known and not carried yet
    Waiting,
    /// Both sides changed
    Conflict,
    /// It cannot be carried
    Stuck,
    /// Its removal waits for a yes
    Asking,
    /// One-way: the receiving side changed by itself
    Drift,
    /// One-way: the receiving side changed by itself, and a version of the source is not there because of it
    KeptBack,
    /// A rule, the choice or its kind keeps it out
    LeftOut,
    /// Its content is on this computer
    Here,
    /// Only its name, size and date are on this computer
    Stub,
    /// Its content stays on this computer, whatever else is dropped
    Held,
    /// It is on the far side alone
    There,
}

impl StateTyped {
    /// Whether a path stands so.
    pub fn fits(self, state: FileState) -> bool {
        let agreement = state.agreement;
        match self {
            StateTyped::Settled => agreement == Agreement::Settled,
            StateTyped::Waiting => {
                matches!(agreement, Agreement::Waiting(_) | Agreement::Moving(_))
            }
            StateTyped::Conflict => agreement == Agreement::Conflict,
            StateTyped::Stuck => agreement == Agreement::Stuck,
            StateTyped::Asking => matches!(agreement, Agreement::Asking(_)),
            StateTyped::Drift => matches!(agreement, Agreement::Drift | Agreement::KeptBack),
            StateTyped::KeptBack => agreement == Agreement::KeptBack,
            StateTyped::LeftOut => agreement == Agreement::LeftOut,
            StateTyped::Here => matches!(state.lies, Lies::Here | Lies::Held),
            StateTyped::Stub => state.lies == Lies::Stub,
            StateTyped::Held => state.lies == Lies::Held,
            StateTyped::There => state.lies == Lies::There,
        }
    }

    /// Whether a path stands in one of these ways; in any, where none is named.
    pub fn any_fits(wanted: &[StateTyped], state: FileState) -> bool {
        wanted.is_empty() || wanted.iter().any(|wanted| wanted.fits(state))
    }

    /// Whether it says where content lies, and not how the sides agree.
    pub fn is_of_content(self) -> bool {
        match self {
            StateTyped::Here | StateTyped::Stub | StateTyped::Held | StateTyped::There => true,
            StateTyped::Settled
            | StateTyped::Waiting
            | StateTyped::Conflict
            | StateTyped::Stuck
            | StateTyped::Asking
            | StateTyped::Drift
            | StateTyped::KeptBack
            | StateTyped::LeftOut => false,
        }
    }
}
