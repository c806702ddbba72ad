//! Stopping in order: what is being placed is finished, what is being transferred is set down, nothing new begins.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// A request to stop, shared by everything that runs.
#[derive(Clone, Debug, Default)]
pub struct Stop(Arc<AtomicBool>);

impl Stop {
    /// Asks everything to stop.
    pub fn ask(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    /// Whether somebody asked.
    #[must_use]
    pub fn asked(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}
