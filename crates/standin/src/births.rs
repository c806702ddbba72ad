//! When names came, for servers that list them only later.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// When names came.
#[derive(Debug, Default)]
pub(crate) struct Births(Mutex<HashMap<PathBuf, Instant>>);

impl Births {
    /// Something has a name that nothing had.
    pub(crate) fn came(&self, disk: &Path) {
        let mut births = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        births.insert(disk.to_owned(), Instant::now());
    }

    /// Whether this name, or that of a folder above it, came so short a time ago.
    pub(crate) fn is_younger(&self, disk: &Path, than: Duration) -> bool {
        let births = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        disk.ancestors()
            .filter_map(|above| births.get(above))
            .any(|born| born.elapsed() < than)
    }
}
