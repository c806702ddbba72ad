//! Waits until a folder has been quiet for a moment, so that half-saved work does not travel and a burst is one pass.

use std::time::{Duration, Instant};

/// Somebody who writes all the time holds the others up for so long at most.
const LONGEST: Duration = Duration::from_secs(30);

/// What is heard from a folder.
#[derive(Debug)]
pub(super) struct Quiet {
    wanted: Duration,
    /// The first and the last news since the last pass.
    heard: Option<(Instant, Instant)>,
}

impl Quiet {
    pub(super) fn new(wanted: Duration) -> Quiet {
        let heard = None;
        Quiet { wanted, heard }
    }

    /// Something changed.
    pub(super) fn hear(&mut self, now: Instant) {
        let first = self.heard.map_or(now, |(first, _)| first);
        self.heard = Some((first, now));
    }

    /// When a pass may begin; none where nothing was heard.
    pub(super) fn due(&self) -> Option<Instant> {
        let (first, last) = self.heard?;
        Some((last + self.wanted).min(first + LONGEST))
    }

    /// A pass begins: what was heard until now is its matter.
    pub(super) fn begin(&mut self) {
        self.heard = None;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_burst_is_one_pass_and_nobody_holds_the_others_up_for_ever() {
        let start = Instant::now();
        let after = |seconds: f64| start + Duration::from_secs_f64(seconds);
        let mut quiet = Quiet::new(Duration::from_secs(2));
        assert_eq!(quiet.due(), None);
        quiet.hear(start);
        assert_eq!(quiet.due(), Some(after(2.0)));
        for step in 1..=290 {
            quiet.hear(after(f64::from(step) / 10.0));
        }
        assert_eq!(quiet.due(), Some(after(30.0)));
        quiet.begin();
        assert_eq!(quiet.due(), None);
        quiet.hear(after(40.0));
        assert_eq!(quiet.due(), Some(after(42.0)));
    }
}
