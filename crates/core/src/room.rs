//! How much room a lane may take on this computer's disk, and what makes room: the content that nobody has used for
//! longest, of what is settled and not held.

use crate::{EditTime, RelPath};

/// How much room a lane may take.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Budget {
    /// Its content here is at most so many bytes.
    pub max_local: Option<u64>,
    /// So many bytes of the disk stay free.
    pub leave_free: Option<u64>,
}

impl Budget {
    /// How many bytes have to go, of `here` that the lane has on a disk with `free` bytes left.
    #[must_use]
    pub fn over(&self, here: u64, free: Option<u64>) -> u64 {
        let too_much = self.max_local.map_or(0, |most| here.saturating_sub(most));
        let too_little = match (self.leave_free, free) {
            (Some(least), Some(free)) => least.saturating_sub(free),
            _ => 0,
        };
        too_much.max(too_little).min(here)
    }

    /// Whether there is one at all.
    #[must_use]
    pub fn is_set(&self) -> bool {
        *self != Budget::default()
    }
}

/// A file whose content lies here and could be dropped.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Lying {
    /// The file.
    pub path: RelPath,
    /// Its bytes.
    pub bytes: u64,
    /// When somebody read or wrote it last, as far as the disk knows.
    pub used: EditTime,
}

/// What goes to make room for `bytes`: what was not used for longest first, and no more than that takes.
#[must_use]
pub fn least_used(mut files: Vec<Lying>, bytes: u64) -> Vec<Lying> {
    files.sort_by(|a, b| (a.used, &a.path).cmp(&(b.used, &b.path)));
    let mut freed = 0_u64;
    let goes = |file: &Lying| {
        let goes = freed < bytes;
        freed = freed.saturating_add(file.bytes);
        goes
    };
    files.into_iter().take_while(goes).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lying(path: &str, bytes: u64, used: i64) -> Lying {
        Lying {
            path: RelPath::parse(path).expect("a path"),
            bytes,
            used: EditTime(used),
        }
    }

    #[test]
    fn what_was_not_used_for_longest_goes_first_and_no_more() {
        let files = vec![
            lying("new", 5, 9),
            lying("old", 5, 1),
            lying("b", 5, 4),
            lying("a", 5, 4),
        ];
        let names = |bytes: u64| -> Vec<String> {
            let goes = least_used(files.clone(), bytes);
            goes.iter().map(|file| file.path.to_string()).collect()
        };
        assert_eq!(names(0), Vec::<String>::new());
        assert_eq!(names(5), ["old"]);
        assert_eq!(names(6), ["old", "a"]);
        assert_eq!(names(15), ["old", "a", "b"]);
        assert_eq!(names(1_000), ["old", "a", "b", "new"]);
    }

    #[test]
    fn a_budget_is_over_by_what_is_too_much_or_too_little() {
        let budget = Budget {
            max_local: Some(100),
            leave_free: Some(50),
        };
        assert_eq!(budget.over(100, Some(50)), 0);
        assert_eq!(budget.over(130, Some(50)), 30);
        assert_eq!(budget.over(130, Some(10)), 40);
        assert_eq!(budget.over(20, Some(0)), 20, "no more than there is");
        assert_eq!(budget.over(90, None), 0, "a disk that cannot tell");
        assert_eq!(Budget::default().over(u64::MAX, Some(0)), 0);
        assert!(!Budget::default().is_set() && budget.is_set());
    }
}
