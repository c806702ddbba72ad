//! The brake: stops a pass that would remove or replace far more than is normal.
//!
//! A folder emptied by mistake, a virus that rewrites everything, a drive that came up empty: all of them look like
//! honest changes, file by file. Only the number gives them away, so the number is looked at before anything is
//! carried, together with what the passes of the last 24 hours took.

/// How many files a pass, or the passes of a day, removed or replaced.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Toll {
    /// Files removed.
    pub removed: u64,
    /// Files whose version was replaced.
    pub replaced: u64,
}

impl Toll {
    /// Both together.
    #[must_use]
    pub fn total(self) -> u64 {
        self.removed + self.replaced
    }
}

/// What the brake looks at.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Brake {
    /// Files the lane's two sides agreed on before this pass.
    pub files: u64,
    /// What this pass would do.
    pub planned: Toll,
    /// What the passes of the last 24 hours did.
    pub last_day: Toll,
    /// Files of the ledger that the near side still shows, or cannot tell about.
    pub left_near: u64,
    /// The same, far.
    pub left_far: u64,
    /// What is normal.
    pub limits: BrakeLimits,
    /// The number somebody released the brake for.
    pub released: Option<u64>,
}

/// What the brake says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum BrakeVerdict {
    /// Go on.
    Open,
    /// Stop: too much for one day.
    TooMuch,
    /// Stop: this side shows nothing of what it held.
    Wiped(crate::Side),
    /// Stop: released for another number than this pass comes to.
    OtherNumber,
}

/// What a lane takes for normal in a day.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct BrakeLimits {
    /// More than this share of the lane's files stops a pass; percent, from 1 to 100.
    pub percent: u64,
    /// Up to this many removals and replacements never stop a pass.
    pub always_fine: u64,
    /// More than this many stop a pass of a lane of any size.
    pub never_fine: u64,
}

impl Default for BrakeLimits {
    fn default() -> BrakeLimits {
        BrakeLimits {
            percent: 25,
            always_fine: 10,
            never_fine: 1000,
        }
    }
}

/// A side counts as wiped only where it held at least this many files.
pub const WIPED_FROM: u64 = 5;

impl Brake {
    /// Whether the pass may go on.
    #[must_use]
    pub fn verdict(&self) -> BrakeVerdict {
        let planned = self.planned.total();
        if planned == 0 {
            return BrakeVerdict::Open;
        }
        let limits = self.limits;
        let day = planned + self.last_day.total();
        // Files that earlier passes of the day removed are no longer counted in the lane; the share is of what there was.
        let of = self.files + self.last_day.removed;
        let stop = if self.files >= WIPED_FROM && self.planned.removed > 0 && self.left_near == 0 {
            BrakeVerdict::Wiped(crate::Side::Near)
        } else if self.files >= WIPED_FROM && self.planned.removed > 0 && self.left_far == 0 {
            BrakeVerdict::Wiped(crate::Side::Far)
        } else if day > limits.never_fine
            || (day > limits.always_fine && day * 100 > of * limits.percent)
        {
            BrakeVerdict::TooMuch
        } else {
            return BrakeVerdict::Open;
        };
        match self.released {
            Some(number) if number == planned => BrakeVerdict::Open,
            Some(_) => BrakeVerdict::OtherNumber,
            None => stop,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Side;

    fn brake(files: u64, removed: u64, last_day: u64) -> Brake {
        Brake {
            files,
            planned: Toll {
                removed,
                replaced: 0,
            },
            last_day: Toll {
                removed: last_day,
                replaced: 0,
            },
            left_near: files,
            left_far: files,
            limits: BrakeLimits::default(),
            released: None,
        }
    }

    #[test]
    fn stops_by_share_and_by_number() {
        assert_eq!(brake(12, 10, 0).verdict(), BrakeVerdict::Open);
        assert_eq!(brake(40, 11, 0).verdict(), BrakeVerdict::TooMuch);
        assert_eq!(brake(44, 11, 0).verdict(), BrakeVerdict::Open);
        assert_eq!(brake(100_000, 1_000, 0).verdict(), BrakeVerdict::Open);
        assert_eq!(brake(100_000, 1_001, 0).verdict(), BrakeVerdict::TooMuch);
    }

    #[test]
    fn a_day_of_small_bites_counts_as_one() {
        assert_eq!(brake(30, 6, 6).verdict(), BrakeVerdict::TooMuch);
        assert_eq!(
            brake(30, 0, 29).verdict(),
            BrakeVerdict::Open,
            "a pass that removes nothing is never stopped"
        );
    }

    #[test]
    fn a_side_that_shows_nothing_is_wiped_however_small() {
        let wiped = Brake {
            left_far: 0,
            ..brake(6, 6, 0)
        };
        assert_eq!(wiped.verdict(), BrakeVerdict::Wiped(Side::Far));
        assert_eq!(Brake { files: 4, ..wiped }.verdict(), BrakeVerdict::Open);
    }

    #[test]
    fn a_stale_release_does_not_pass() {
        let stopped = brake(20, 20, 0);
        assert_eq!(
            Brake {
                released: Some(20),
                ..stopped
            }
            .verdict(),
            BrakeVerdict::Open
        );
        assert_eq!(
            Brake {
                released: Some(19),
                ..stopped
            }
            .verdict(),
            BrakeVerdict::OtherNumber
        );
    }
}
