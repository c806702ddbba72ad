//! How often an account is asked what changed: soon after something happened, more and more seldom while nothing does.

use std::time::{Duration, Instant};

const SOONEST: Duration = Duration::from_secs(10);
const SELDOM: Duration = Duration::from_secs(300);

/// When to ask next.
#[derive(Debug)]
pub(super) struct Pace {
    step: Duration,
    next: Instant,
}

impl Pace {
    pub(super) fn new(now: Instant) -> Pace {
        Pace {
            step: SOONEST,
            next: now + SOONEST,
        }
    }

    pub(super) fn due(&self) -> Instant {
        self.next
    }

    /// Something happened on either side.
    pub(super) fn lively(&mut self, now: Instant) {
        *self = Pace::new(now);
    }

    /// It was asked, and nothing had changed.
    pub(super) fn nothing(&mut self, now: Instant) {
        self.step = self.step.mul_f64(1.5).min(SELDOM);
        self.next = now + self.step;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_slows_down_to_five_minutes_and_is_lively_again_at_once() {
        let start = Instant::now();
        let mut pace = Pace::new(start);
        assert_eq!(pace.due() - start, SOONEST);
        for _ in 0..20 {
            pace.nothing(start);
        }
        assert_eq!(pace.due() - start, SELDOM);
        pace.lively(start);
        assert_eq!(pace.due() - start, SOONEST);
    }
}
