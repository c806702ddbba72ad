//! Waits until a folder has been quiet for a moment, so that half-saved work does not travel and a burst is one pass.
//!
//! A file that is written all the time holds up nobody else: once it has gone on for a while it is waited for by itself,
//! and the others are carried meanwhile.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use katabatic_core::Side;

/// Somebody who writes all the time holds the others up for so long at most.
const LONGEST: Duration = Duration::from_secs(30);

/// A file that changes for longer than this is waited for by itself.
const RESTLESS: Duration = Duration::from_secs(5);

/// As many files are waited for by themselves; of more, all are waited for together.
const MOST: usize = 1_000;

/// A place, as it is heard of.
pub(super) type At = (Side, PathBuf);

/// The first and the last news of something since the last pass.
#[derive(Clone, Copy, Debug)]
struct News {
    first: Instant,
    last: Instant,
}

impl News {
    fn at(now: Instant) -> News {
        News {
            first: now,
            last: now,
        }
    }

    /// When a pass may begin because of it.
    fn due(self, wanted: Duration) -> Instant {
        (self.last + wanted).min(self.first + LONGEST)
    }
}

/// What is heard from a folder.
#[derive(Debug)]
pub(super) struct Quiet {
    wanted: Duration,
    /// Places that changed since the last pass.
    places: BTreeMap<At, News>,
    /// Of these and of others, places that were written all the time when they were heard of last.
    restless: BTreeMap<At, Instant>,
    /// Everything that changed since the last pass, but for what is restless.
    calm: Option<News>,
}

impl Quiet {
    pub(super) fn new(wanted: Duration) -> Quiet {
        Quiet {
            wanted,
            places: BTreeMap::new(),
            restless: BTreeMap::new(),
            calm: None,
        }
    }

    /// Something changed, somewhere.
    pub(super) fn hear(&mut self, now: Instant) {
        let news = self.calm.get_or_insert(News::at(now));
        news.last = now;
    }

    /// These places changed.
    pub(super) fn hear_of(&mut self, now: Instant, places: impl IntoIterator<Item = At>) {
        for at in places {
            if !self.places.contains_key(&at) && self.places.len() >= MOST {
                self.hear(now);
                continue;
            }
            let news = self.places.entry(at.clone()).or_insert(News::at(now));
            news.last = now;
            let goes_on = now.saturating_duration_since(news.first) >= RESTLESS;
            if let Some(last) = self.restless.get_mut(&at) {
                *last = now;
            } else if goes_on && self.restless.len() < MOST {
                self.restless.insert(at, now);
                self.forget_what_it_held_up();
            } else {
                self.hear(now);
            }
        }
    }

    /// What turned out to be restless has held up the others for long enough.
    fn forget_what_it_held_up(&mut self) {
        let calm = |(at, news): (&At, &News)| (!self.restless.contains_key(at)).then_some(*news);
        let join = |all: News, one: News| News {
            first: all.first.min(one.first),
            last: all.last.max(one.last),
        };
        self.calm = self.places.iter().filter_map(calm).reduce(join);
    }

    /// When a pass may begin; none where nothing was heard.
    pub(super) fn due(&self) -> Option<Instant> {
        let restless = self.restless.keys().filter_map(|at| self.places.get(at));
        self.calm
            .iter()
            .chain(restless)
            .map(|news| news.due(self.wanted))
            .min()
    }

    /// A pass begins: what was heard until now is its matter, but for what is still being written and is returned.
    pub(super) fn begin(&mut self, now: Instant) -> Vec<At> {
        self.calm = None;
        let wanted = self.wanted;
        // What has been quiet since is like any other from now on.
        self.restless
            .retain(|_, last| now.saturating_duration_since(*last) < LONGEST);
        let waits = |at: &At, news: &News| self.restless.contains_key(at) && news.due(wanted) > now;
        self.places.retain(|at, news| waits(at, news));
        self.places.keys().cloned().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(name: &str) -> At {
        (Side::Near, PathBuf::from(name))
    }

    #[test]
    fn a_burst_is_one_pass_and_nobody_holds_the_others_up_for_ever() {
        let start = Instant::now();
        let after = |seconds: f64| start + Duration::from_secs_f64(seconds);
        let mut quiet = Quiet::new(Duration::from_secs(2));
        assert_eq!(quiet.due(), None);
        quiet.hear(start);
        assert_eq!(quiet.due(), Some(after(2.0)));
        for step in 1..=290 {
            // Each a file of its own, as when a folder is copied.
            quiet.hear_of(after(f64::from(step) / 10.0), [at(&step.to_string())]);
        }
        assert_eq!(quiet.due(), Some(after(30.0)));
        assert_eq!(quiet.begin(after(30.0)), []);
        assert_eq!(quiet.due(), None);
        quiet.hear(after(40.0));
        assert_eq!(quiet.due(), Some(after(42.0)));
    }

    #[test]
    fn a_file_that_is_written_all_the_time_is_waited_for_by_itself() {
        let start = Instant::now();
        let after = |seconds: f64| start + Duration::from_secs_f64(seconds);
        let mut quiet = Quiet::new(Duration::from_secs(2));
        let write = |quiet: &mut Quiet, from: u32, to: u32| {
            for tenth in from..to {
                quiet.hear_of(after(f64::from(tenth) / 10.0), [at("log")]);
            }
        };
        write(&mut quiet, 0, 60);
        // It alone is due when it is quiet, or at the latest after the longest time.
        assert_eq!(quiet.due(), Some(after(7.9)));
        quiet.hear_of(after(6.0), [at("letter")]);
        write(&mut quiet, 60, 80);
        assert_eq!(quiet.due(), Some(after(8.0)), "the letter waits for nobody");
        assert_eq!(quiet.begin(after(8.0)), [at("log")]);
        write(&mut quiet, 80, 300);
        assert_eq!(quiet.due(), Some(after(30.0)));
        assert_eq!(quiet.begin(after(30.0)), [], "its time has come");
        quiet.hear_of(after(30.5), [at("log"), at("letter")]);
        write(&mut quiet, 306, 320);
        assert_eq!(
            quiet.due(),
            Some(after(32.5)),
            "it is known to be restless from before"
        );
        assert_eq!(quiet.begin(after(32.5)), [at("log")]);
        // It ends: the last of it is carried like any other.
        assert_eq!(quiet.due(), Some(after(33.9)));
        assert_eq!(quiet.begin(after(33.9)), []);
    }
}
