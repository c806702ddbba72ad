//! What a request came to that was not done: what the server said, or that it said nothing.

use super::wire::Status;
use crate::{SideError, Undone};

/// Why there is no answer.
pub(super) enum Lost {
    /// The request was never sent.
    NotSent(SideError),
    /// It was sent, or may have been.
    Sent(SideError),
}

impl Lost {
    pub(super) fn told(self) -> SideError {
        match self {
            Lost::NotSent(why) | Lost::Sent(why) => why,
        }
    }
}

impl From<Lost> for Undone {
    fn from(lost: Lost) -> Undone {
        match lost {
            Lost::NotSent(why) => Undone::NotDone(why),
            Lost::Sent(why) => Undone::Unsure(why),
        }
    }
}

/// The words for a request that the server did not do.
pub(super) fn refused(status: Status, words: &str) -> SideError {
    match status {
        Status::NoSuchFile => SideError::Missing,
        Status::NotAllowed => SideError::Failed(
            "the server does not allow it; look at the owner and the rights there".into(),
        ),
        Status::NoConnection => SideError::try_again("the server lost what it needs for that"),
        Status::Unsupported => SideError::Failed("the server does not do this".into()),
        Status::Failure | Status::BadMessage | Status::End | Status::Fine => {
            SideError::Failed(match words {
                "" | "Failure" => "the server could not do it, and does not say why".into(),
                words => format!("the server could not do it: {words}"),
            })
        }
    }
}

/// The words for what would change an account that was added read-only.
pub(super) fn only_read() -> SideError {
    SideError::Failed("the account was added read-only; nothing is ever written to it".into())
}

/// The words for an answer of a kind that the request has not.
pub(super) fn odd() -> SideError {
    SideError::Failed("the server's answer is about something else".into())
}
