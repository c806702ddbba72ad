//! Which programs get the content of a stub that they open, and how many stubs one of them gets within a while.
//!
//! Two things fill a disk behind a person's back: programs that open every file only to look at it (indexers, makers of
//! previews), and one careless search through a whole tree. The first are known by name. The second is known by its
//! pace, and told, since it may be just what somebody wants.

use std::collections::{BTreeMap, VecDeque};
use std::time::Duration;

/// A pace is measured over so long.
pub const WITHIN: Duration = Duration::from_secs(600);

/// Programs that open files only to look at them, on the usual desktops.
pub const USUALLY_KEPT_OUT: [&str; 15] = [
    "baloo_file",
    "baloo_file_extractor",
    "clamd",
    "clamscan",
    "evince-thumbnailer",
    "ffmpegthumbnailer",
    "gdk-pixbuf-thumbnailer",
    "gnome-thumbnail-font",
    "localsearch*",
    "recollindex",
    "totem-video-thumbnailer",
    "tracker-extract*",
    "tracker-miner*",
    "tumblerd",
    "updatedb*",
];

/// The system keeps so many bytes of a process's name (`comm` in proc_pid_comm(5)).
const NAME_KEPT: usize = 15;

/// Who is let in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rules {
    /// Names of programs that get no content; a `*` at the end stands for any rest.
    pub kept_out: Vec<String>,
    /// So many stubs a program gets within [`WITHIN`]; any number where there is none.
    pub files: Option<u64>,
    /// So many bytes a program gets within [`WITHIN`]; the file that goes beyond is the last one.
    pub bytes: Option<u64>,
}

impl Default for Rules {
    fn default() -> Rules {
        Rules {
            kept_out: USUALLY_KEPT_OUT.map(str::to_owned).into(),
            files: Some(1_000),
            bytes: Some(10_000_000_000),
        }
    }
}

impl Rules {
    /// The rule by which a program of these names is kept out.
    #[must_use]
    pub fn keeps_out(&self, names: &[&str]) -> Option<&str> {
        let kept_out = self.kept_out.iter().map(String::as_str);
        kept_out
            .into_iter()
            .find(|rule| names.iter().any(|name| is_named(rule, name)))
    }
}

fn is_named(rule: &str, name: &str) -> bool {
    match rule.strip_suffix('*') {
        Some(beginning) => {
            name.starts_with(beginning) || name.len() == NAME_KEPT && beginning.starts_with(name)
        }
        None => rule == name || name.len() == NAME_KEPT && rule.starts_with(name),
    }
}

/// Whether a program gets the content of a stub.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// It does.
    LetIn,
    /// It got too much within [`WITHIN`].
    TooMuch(TooMuch),
}

/// What a program got within [`WITHIN`], at its limit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TooMuch {
    /// So many stubs.
    pub files: u64,
    /// Of so many bytes.
    pub bytes: u64,
    /// After so long it is let in again.
    pub again_in: Duration,
}

/// Knows what each program got lately. Times are those since any fixed moment, by a clock that is never set.
#[derive(Debug, Default)]
pub struct Door {
    lately: BTreeMap<String, VecDeque<(Duration, u64)>>,
}

impl Door {
    /// A program of this name, which is not kept out, opens a stub of so many bytes; what it is let in to counts.
    pub fn asks(&mut self, rules: &Rules, program: &str, bytes: u64, now: Duration) -> Verdict {
        let past = now.saturating_sub(WITHIN);
        self.lately.retain(|_, got| {
            while got
                .front()
                .is_some_and(|(at, _)| now >= WITHIN && *at <= past)
            {
                got.pop_front();
            }
            !got.is_empty()
        });
        let got = self.lately.entry(program.to_owned()).or_default();
        let mut left = (
            got.len() as u64,
            got.iter().map(|(_, bytes)| bytes).sum::<u64>(),
        );
        let is_full = |(files, bytes): (u64, u64)| {
            rules.files.is_some_and(|most| files >= most)
                || rules.bytes.is_some_and(|most| bytes >= most)
        };
        if !is_full(left) {
            got.push_back((now, bytes));
            return Verdict::LetIn;
        }
        let (files, all_bytes) = left;
        let mut again_in = WITHIN;
        for (at, bytes) in got {
            left = (left.0 - 1, left.1 - *bytes);
            if !is_full(left) {
                again_in = (*at + WITHIN).saturating_sub(now);
                break;
            }
        }
        Verdict::TooMuch(TooMuch {
            files,
            bytes: all_bytes,
            again_in,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn seconds(seconds: u64) -> Duration {
        Duration::from_secs(seconds)
    }

    #[test]
    fn programs_that_only_look_are_known_by_any_of_their_names() {
        let rules = Rules::default();
        let by = |names: &[&str]| rules.keeps_out(names).map(str::to_owned);
        assert_eq!(by(&["tumblerd"]).as_deref(), Some("tumblerd"));
        // The first name is cut by the system.
        assert_eq!(
            by(&["totem-video-thu"]).as_deref(),
            Some("totem-video-thumbnailer")
        );
        assert_eq!(by(&["tracker-miner-f"]).as_deref(), Some("tracker-miner*"));
        assert_eq!(
            by(&["pool-1", "localsearch-3"]).as_deref(),
            Some("localsearch*")
        );
        for let_in in ["gimp", "totem", "clam", "cat", ""] {
            assert_eq!(by(&[let_in]), None, "{let_in}");
        }
    }

    #[test]
    fn what_is_within_the_limits_is_let_in_and_what_is_beyond_waits_until_some_of_it_is_long_ago() {
        let rules = Rules {
            files: Some(3),
            bytes: Some(1_000),
            ..Rules::default()
        };
        let mut door = Door::default();
        let mut asks = |name: &str, bytes, at| door.asks(&rules, name, bytes, seconds(at));
        for at in [100, 101, 102] {
            assert_eq!(asks("grep", 10, at), Verdict::LetIn);
        }
        let too_much = |files, bytes, again| {
            Verdict::TooMuch(TooMuch {
                files,
                bytes,
                again_in: seconds(again),
            })
        };
        assert_eq!(asks("grep", 10, 110), too_much(3, 30, 590));
        assert_eq!(
            asks("cp", 5_000, 110),
            Verdict::LetIn,
            "another one has its own"
        );
        // One file of any size is let in; what comes behind it is not.
        assert_eq!(asks("cp", 1, 111), too_much(1, 5_000, 599));
        assert_eq!(asks("grep", 10, 699), too_much(3, 30, 1));
        assert_eq!(asks("grep", 10, 700), Verdict::LetIn);
        assert_eq!(asks("grep", 10, 700), too_much(3, 30, 1));
    }

    proptest! {
        #[test]
        fn never_more_than_the_limit_within_the_time_and_whoever_waits_is_let_in(
            gaps in prop::collection::vec((0_u64..200, 0_u64..400), 1..80),
            files in 1_u64..6,
            bytes in 1_u64..900,
        ) {
            let rules = Rules { kept_out: Vec::new(), files: Some(files), bytes: Some(bytes) };
            let mut door = Door::default();
            let (mut now, mut let_in) = (0, Vec::new());
            for (gap, size) in gaps {
                now += gap;
                match door.asks(&rules, "x", size, seconds(now)) {
                    Verdict::LetIn => let_in.push((now, size)),
                    Verdict::TooMuch(much) => {
                        prop_assert!(much.again_in > Duration::ZERO);
                        let then = seconds(now) + much.again_in;
                        let verdict = door.asks(&rules, "x", 0, then);
                        prop_assert_eq!(verdict, Verdict::LetIn);
                        now = then.as_secs();
                        let_in.push((now, 0));
                    }
                }
                let lately: Vec<_> = let_in.iter().filter(|(at, _)| *at + WITHIN.as_secs() > now).collect();
                prop_assert!(lately.len() as u64 <= files);
                let without_last: u64 = lately.iter().rev().skip(1).map(|(_, size)| size).sum();
                prop_assert!(without_last < bytes);
            }
        }
    }
}
