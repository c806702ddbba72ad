//! What goes wrong, with the four things a technician needs: what failed, on which thing, why, and what to do next.

use std::fmt;

use crate::Side;

/// What kind of end an error is; the command line turns it into an exit code.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Class {
    /// It failed.
    Failed,
    /// Somebody else is at work there, and it can be done once they have ended.
    Busy,
    /// It was asked for wrongly.
    Usage,
    /// It waits for a person's decision.
    NeedsPerson,
    /// The brake stopped it.
    Brake,
    /// The account refused: sign-in, trust, permission.
    Refused,
    /// A side is not there.
    NotThere,
    /// Stopped by Ctrl-C, in order.
    Stopped,
}

/// An error as it reaches a person.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Error {
    /// The kind of end.
    pub class: Class,
    /// What failed, and on which thing.
    pub what: String,
    /// Why.
    pub why: String,
    /// What to do next; empty only where nothing can be done.
    pub next: String,
    /// Facts to compare with others, by name.
    pub facts: Vec<(&'static str, String)>,
    /// What there is to say of each of several things, a line each.
    pub details: Box<[String]>,
    /// The side of a lane whose trouble it is, where it is that of one as a whole.
    pub side: Option<Side>,
}

impl Error {
    /// An error of this class.
    pub fn new(
        class: Class,
        what: impl Into<String>,
        why: impl Into<String>,
        next: impl Into<String>,
    ) -> Error {
        Error {
            class,
            what: what.into(),
            why: why.into(),
            next: next.into(),
            facts: Vec::new(),
            details: Box::default(),
            side: None,
        }
    }

    /// As the trouble of a side of a lane.
    #[must_use]
    pub fn of_side(mut self, side: Side) -> Error {
        self.side = Some(side);
        self
    }

    /// With facts to compare with others.
    #[must_use]
    pub fn with_facts(mut self, facts: Vec<(&'static str, String)>) -> Error {
        self.facts = facts;
        self
    }

    /// With a line for each of several things.
    #[must_use]
    pub fn with_details(mut self, details: Vec<String>) -> Error {
        self.details = details.into();
        self
    }

    /// A failure of the tool's own files: its config, its ledger.
    pub fn failed(
        what: impl Into<String>,
        why: impl fmt::Display,
        next: impl Into<String>,
    ) -> Error {
        Error::new(Class::Failed, what, why.to_string(), next)
    }

    /// Something asked for wrongly.
    pub fn usage(
        what: impl Into<String>,
        why: impl Into<String>,
        next: impl Into<String>,
    ) -> Error {
        Error::new(Class::Usage, what, why, next)
    }
}

impl fmt::Display for Error {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "{}: {}", self.what, self.why)
    }
}

impl std::error::Error for Error {}
