//! Why something that was asked of a side did not come about.

use katabatic_core::Side;

use crate::Error;
use katabatic_sides::SideError;

/// Why the primitive did not do what it was asked.
#[derive(Clone, Debug)]
pub enum Trouble {
    /// Something else than the plan saw was met; it is untouched, and the next pass plans afresh.
    Met(String),
    /// The side could not do it.
    Side(Side, SideError),
    /// Whether it was done, or will be, cannot be told now: the path is held until it can.
    Unsure(Side, SideError),
    /// The ledger could not be written.
    Ledger(Error),
}

impl Trouble {
    /// Whether nothing is wrong, and somebody only asked to stop: before the side was asked, or while it was.
    #[must_use]
    pub fn is_a_stop(&self) -> bool {
        match self {
            Trouble::Side(_, error) | Trouble::Unsure(_, error) => {
                matches!(error, SideError::Stopped)
            }
            Trouble::Met(_) | Trouble::Ledger(_) => false,
        }
    }
}

impl From<Error> for Trouble {
    fn from(error: Error) -> Trouble {
        Trouble::Ledger(error)
    }
}

impl std::fmt::Display for Trouble {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Trouble::Met(why) => out.write_str(why),
            Trouble::Side(_, why) => write!(out, "{why}"),
            Trouble::Unsure(_, why) => write!(
                out,
                "{why}; it may be done yet, so nothing else is done here until that is clear"
            ),
            Trouble::Ledger(why) => write!(out, "{why}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_stop_is_one_whether_the_request_had_left_or_not() {
        assert!(Trouble::Side(Side::Far, SideError::Stopped).is_a_stop());
        assert!(Trouble::Unsure(Side::Far, SideError::Stopped).is_a_stop());
        assert!(!Trouble::Unsure(Side::Far, SideError::Missing).is_a_stop());
        assert!(!Trouble::Met("a stranger".into()).is_a_stop());
    }
}
