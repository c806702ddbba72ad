//! Why a side could not do what it was asked: of which kind that is, and what was said of it.
//!
//! What comes next is decided by the kind. What was said is for people, and nothing is ever read out of it.

use std::fmt;

use crate::distrust::Distrust;

/// Why a side could not do what it was asked.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SideError {
    /// The whole side is not there: an unplugged drive, a server that does not answer.
    #[error("{0}")]
    NotThere(Said<Away>),
    /// The account refused: sign-in or trust.
    #[error("{0}")]
    Refused(Said<Refusal>),
    /// What the server showed of itself is not trusted; nothing was sent to it.
    #[error("{0}")]
    Untrusted(Box<Distrust>),
    /// Nothing is at the path.
    #[error("it is not there any more")]
    Missing,
    /// Something else than expected is at the path.
    #[error("{0}")]
    Changed(String),
    /// The content of a stub is on its way here.
    #[error(
        "its content comes just now, for a program that opened it (katabatic openings); where no agent runs, it was cut off, and comes with katabatic fetch PATH"
    )]
    Coming,
    /// It is being written: it changed since it was looked at, or while it was read.
    #[error("it is being written: it changed while it was read; it is carried once it is quiet")]
    BeingWritten,
    /// The side asks to come again later, or a line was cut; trying again is harmless.
    #[error("{0}")]
    TryAgain(Said<Delay>),
    /// It failed.
    #[error("{0}")]
    Failed(String),
    /// There is no room left.
    #[error("{0}")]
    Full(String),
    /// Somebody asked to stop.
    #[error("stopped")]
    Stopped,
}

/// In what way a whole side is not there.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Away {
    /// Nobody answers, or the drive is not there.
    #[default]
    NoAnswer,
    /// No host has the name.
    NoSuchHost,
    /// What answers speaks no TLS.
    NoTls,
    /// The server asked to be left alone for a while.
    LeftAlone,
    /// The side answers, and its folder is not there, or is none.
    NoFolder,
}

/// What an account refused.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Refusal {
    /// The sign-in, or what was asked for.
    #[default]
    SignIn,
    /// The user name with this password.
    Password,
    /// Nothing: another account answers than the one that was added, or none says who it is.
    OtherAccount,
}

/// Why it is worth trying again.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Delay {
    /// Something was cut or busy.
    #[default]
    Cut,
    /// The server took the request and sent nothing.
    Silent,
}

/// What was said, and of which kind it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Said<K> {
    /// The kind.
    pub kind: K,
    /// The words.
    pub why: String,
}

impl<K> fmt::Display for Said<K> {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(&self.why)
    }
}

impl<K> From<Said<K>> for String {
    fn from(said: Said<K>) -> String {
        said.why
    }
}

impl<K> From<&Said<K>> for String {
    fn from(said: &Said<K>) -> String {
        said.why.clone()
    }
}

impl SideError {
    /// The whole side is not there, in no special way.
    pub fn not_there(why: impl Into<String>) -> SideError {
        SideError::away(Away::default(), why)
    }

    /// The whole side is not there, in this way.
    pub fn away(kind: Away, why: impl Into<String>) -> SideError {
        let why = why.into();
        SideError::NotThere(Said { kind, why })
    }

    /// The account refused.
    pub fn refused(kind: Refusal, why: impl Into<String>) -> SideError {
        let why = why.into();
        SideError::Refused(Said { kind, why })
    }

    /// Trying again is harmless.
    pub fn try_again(why: impl Into<String>) -> SideError {
        SideError::TryAgain(Said {
            kind: Delay::default(),
            why: why.into(),
        })
    }

    /// Whether going on with other files makes no sense.
    #[must_use]
    pub fn ends_the_pass(&self) -> bool {
        match self {
            SideError::NotThere(_)
            | SideError::Refused(_)
            | SideError::Untrusted(_)
            | SideError::Stopped => true,
            SideError::Missing
            | SideError::Changed(_)
            | SideError::Coming
            | SideError::BeingWritten
            | SideError::TryAgain(_)
            | SideError::Failed(_)
            | SideError::Full(_) => false,
        }
    }
}
