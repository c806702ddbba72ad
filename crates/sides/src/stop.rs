//! Stopping in order: what is being placed is finished, what is being transferred is set down, nothing new begins.
//!
//! Finishing may need a server that does not answer. So there is an end to it: what is under way has a few seconds in
//! all, and is then given up as if the line had been cut, which every step is made for.

use std::sync::Arc;
use std::time::Duration;

use tokio::sync::watch;
use tokio::time::Instant;

/// Once somebody asked, what is under way has so long in all.
const TO_FINISH: Duration = Duration::from_secs(3);

/// And each request after that still has so long: from a server that answers, that is enough to end in order.
const AT_LEAST: Duration = Duration::from_millis(500);

/// A request to stop, shared by everything that runs.
#[derive(Clone, Debug)]
pub struct Stop(Arc<watch::Sender<Option<Instant>>>);

impl Default for Stop {
    fn default() -> Stop {
        Stop(Arc::new(watch::Sender::new(None)))
    }
}

impl Stop {
    /// Asks everything to stop.
    pub fn ask(&self) {
        self.0.send_if_modified(|asked| {
            let first = asked.is_none();
            asked.get_or_insert_with(Instant::now);
            first
        });
    }

    /// Whether somebody asked.
    #[must_use]
    pub fn asked(&self) -> bool {
        self.0.borrow().is_some()
    }

    /// Whether the time has passed that was left to what was under way.
    pub(crate) fn is_over(&self) -> bool {
        self.0.borrow().is_some_and(|at| at.elapsed() >= TO_FINISH)
    }

    /// Waits until somebody asks; since when.
    pub async fn until_asked(&self) -> Instant {
        let mut asked = self.0.subscribe();
        let since = asked.wait_for(Option::is_some).await.map(|at| *at);
        match since {
            Ok(Some(at)) => at,
            // The sender is this very one, and what was waited for is there.
            Ok(None) | Err(_) => std::future::pending().await,
        }
    }

    /// Waits until what began now is to be given up: for ever, where nobody asks.
    pub(crate) async fn given_up(&self) {
        let began = Instant::now();
        let asked = self.until_asked().await;
        tokio::time::sleep_until((asked + TO_FINISH).max(began + AT_LEAST)).await;
    }
}
