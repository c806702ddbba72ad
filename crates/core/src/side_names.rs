//! What messages call the sides of a lane: nobody should have to think about which of them is "here".

use crate::Side;
use crate::place::Place;

/// What messages call the two sides of a lane.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum SideNames {
    /// A folder of this computer, and one of an account: so nearly every lane is.
    #[default]
    ComputerAndCloud,
    /// Two folders of this computer, or two of accounts: which of them is meant is plain only by the lane's own words.
    NearAndFar,
}

impl SideNames {
    /// Those of a lane between these places.
    ///
    /// ```
    /// use katabatic_core::place::Place;
    /// use katabatic_core::{Side, SideNames};
    /// let computer = Place::Local("/home/librarian/Scores".into());
    /// let drive = Place::Local("/media/drive/Scores".into());
    /// assert_eq!(SideNames::of(&computer, &drive).at(Side::Far), "on the far side");
    /// ```
    #[must_use]
    pub fn of(near: &Place, far: &Place) -> SideNames {
        match (near, far) {
            (Place::Local(_), Place::Far { .. }) => SideNames::ComputerAndCloud,
            (Place::Local(_), Place::Local(_)) | (Place::Far { .. }, _) => SideNames::NearAndFar,
        }
    }

    /// Where something on a side is: `on this computer`, `in the cloud`.
    #[must_use]
    pub fn at(self, side: Side) -> &'static str {
        match (self, side) {
            (SideNames::ComputerAndCloud, Side::Near) => "on this computer",
            (SideNames::ComputerAndCloud, Side::Far) => "in the cloud",
            (SideNames::NearAndFar, Side::Near) => "on the near side",
            (SideNames::NearAndFar, Side::Far) => "on the far side",
        }
    }

    /// What stands before what a side holds: `computer`, `cloud`.
    #[must_use]
    pub fn label(self, side: Side) -> &'static str {
        match (self, side) {
            (SideNames::ComputerAndCloud, Side::Near) => "computer",
            (SideNames::ComputerAndCloud, Side::Far) => "cloud",
            (SideNames::NearAndFar, Side::Near) => "near side",
            (SideNames::NearAndFar, Side::Far) => "far side",
        }
    }
}
