//! Which habits a server has, by a number.

use std::fmt;

use fastrand::Rng;

/// Habits that exclude each other, and how many of a hundred servers have one of them.
const GROUPS: [(u8, &[&str]); 20] = [
    (
        60,
        &[
            "tags=late",
            "tags=coarse",
            "tags=counted",
            "tags=clock",
            "tags=missing",
            "tags=restless",
        ],
    ),
    (
        40,
        &["validators=none", "validators=other", "validators=late"],
    ),
    (
        50,
        &[
            "hrefs=whole",
            "hrefs=other-host",
            "hrefs=lower-case",
            "hrefs=twice-escaped",
            "hrefs=without-slash",
        ],
    ),
    (
        40,
        &[
            "listings=no-lengths",
            "listings=no-dates",
            "listings=old-dates",
            "listings=without-itself",
            "listings=deeper",
        ],
    ),
    (2, &["listings=none"]),
    (
        30,
        &["slash-redirect=301", "slash-redirect=308", "strict-slashes"],
    ),
    (25, &["needs-length"]),
    (25, &["http-1.0", "closes"]),
    (30, &["hide-dots", "forbid-dots"]),
    (30, &["no-put-tag"]),
    (35, &["early-conditions", "no-conditions"]),
    (30, &["no-overwrite-check", "racing-moves"]),
    (20, &["write-in-place"]),
    (40, &["partial-put-keeps-part", "without=partial-put"]),
    (
        60,
        &[
            "without=infinity",
            "without=properties",
            "without=quota",
            "without=changes",
            "without=locks",
            "without=digests",
            "without=principal",
            "without=rights",
            "without=resource-ids",
        ],
    ),
    (
        60,
        &[
            "without=infinity",
            "without=properties",
            "without=changes",
            "without=digests",
            "without=resource-ids",
        ],
    ),
    (
        15,
        &["unserved=?", "unserved=%", "unserved=;", "unserved=\\"],
    ),
    (15, &["half-done"]),
    (15, &["write-behind=300"]),
    (
        12,
        &[
            "largest=300000",
            "without-method=COPY",
            "without-method=HEAD",
            "without-method=OPTIONS",
            "without-method=REPORT",
            "without-method=PROPPATCH",
            "without-method=MOVE",
            "no-top",
            "one-case",
        ],
    ),
];

/// A server.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Draw {
    /// The number that it was drawn by.
    pub number: u64,
    /// What it does, as a stand-in is asked for it.
    pub habits: Vec<&'static str>,
    /// Whether the day has a large file in it, whose way is cut.
    pub large: bool,
}

impl Draw {
    /// The server of this number.
    #[must_use]
    pub fn of(number: u64) -> Draw {
        // Numbers that follow each other make draws that do not.
        let mut random = Rng::with_seed(number.wrapping_mul(0x9e37_79b9_7f4a_7c15));
        let mut habits = Vec::new();
        for (of_a_hundred, group) in GROUPS {
            if random.u8(0..100) < of_a_hundred {
                let habit = group[random.usize(0..group.len())];
                if !habits.contains(&habit) {
                    habits.push(habit);
                }
            }
        }
        Draw {
            number,
            habits,
            large: random.u8(0..8) == 0,
        }
    }

    /// Whether the server has this habit.
    #[must_use]
    pub fn has(&self, habit: &str) -> bool {
        self.habits.contains(&habit)
    }
}

impl fmt::Display for Draw {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let large = if self.large { ", a large file" } else { "" };
        write!(
            out,
            "draw {}: {}{large}",
            self.number,
            self.habits.join(" ")
        )
    }
}

/// The fewest habits with which a draw still fails: one after the other is left out, as long as that is so.
pub fn shrink(draw: &Draw, fails: &dyn Fn(&Draw) -> bool) -> Draw {
    let mut smallest = draw.clone();
    let calm = Draw {
        large: false,
        ..smallest.clone()
    };
    if smallest.large && fails(&calm) {
        smallest = calm;
    }
    let mut at = 0;
    while at < smallest.habits.len() {
        let mut without = smallest.clone();
        without.habits.remove(at);
        if fails(&without) {
            smallest = without;
        } else {
            at += 1;
        }
    }
    smallest
}
