//! The clock is handed in, so that a test can say what time it is.

use katabatic_core::EditTime;

/// Tells the time.
pub trait Clock: Send + Sync {
    /// Now, in nanoseconds since 1970.
    fn now(&self) -> EditTime;
}

/// The computer's own clock.
#[derive(Clone, Copy, Debug, Default)]
pub struct SystemClock;

impl Clock for SystemClock {
    fn now(&self) -> EditTime {
        EditTime(i64::try_from(jiff::Timestamp::now().as_nanosecond()).unwrap_or(i64::MAX))
    }
}
