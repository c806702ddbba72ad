//! The two sides of a lane.

/// One side of a lane.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, serde::Serialize, serde::Deserialize,
)]
#[serde(rename_all = "kebab-case")]
pub enum Side {
    /// Usually the person's folder on this computer.
    Near,
    /// Usually the cloud.
    Far,
}

impl Side {
    /// The opposite side.
    #[must_use]
    pub fn other(self) -> Side {
        match self {
            Side::Near => Side::Far,
            Side::Far => Side::Near,
        }
    }

    /// The word used in messages: a technician sits at the near side.
    #[must_use]
    pub fn here_or_there(self) -> &'static str {
        match self {
            Side::Near => "here",
            Side::Far => "there",
        }
    }

    /// `near` or `far`, as options and JSON spell it.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Side::Near => "near",
            Side::Far => "far",
        }
    }

    /// The word for a transfer that ends on this side.
    #[must_use]
    pub fn towards(self) -> &'static str {
        match self {
            Side::Near => "down",
            Side::Far => "up",
        }
    }
}
