//! The lock without which nothing is changed, as a type.
//!
//! Whatever changes a side, or what was agreed on, takes a [`LockedLane`]. What was read before the lock was had may
//! be old by then: whoever held it has carried on, or somebody has changed the lane. So the lane's row is read again
//! under the lock, and a lane whose settings are others by now is not gone on with.

use std::collections::BTreeSet;
use std::ops::Deref;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use katabatic_core::{RelPath, Side};

use super::Pass;
use crate::config::{Config, LaneConfig};
use crate::lock::{LaneLock, lock_lane};
use crate::{Class, Error};
use katabatic_ledger::intents::Intent;
use katabatic_ledger::rows;

/// A lane that nobody else changes for as long as this lives.
pub struct LockedLane {
    pass: Pass,
    _locks: Arc<Vec<LaneLock>>,
    /// Where a request of before may be done yet.
    held: Mutex<BTreeSet<(Side, RelPath)>>,
}

impl LockedLane {
    /// A folder that is no lane, of which the lanes that it lies in are locked.
    pub(crate) fn outside(pass: Pass, locks: Arc<Vec<LaneLock>>) -> LockedLane {
        LockedLane {
            pass,
            _locks: locks,
            held: Mutex::default(),
        }
    }

    fn held(&self) -> MutexGuard<'_, BTreeSet<(Side, RelPath)>> {
        self.held.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// From now on, nothing is done at the paths of an intent: what was asked for there may be done yet.
    pub(crate) fn hold(&self, path: &RelPath, intent: &Intent) {
        let paths = intent.moved_from().into_iter().chain([path.clone()]);
        self.held().extend(paths.map(|path| (intent.side(), path)));
    }

    /// Whether a request of before may be done yet at a path.
    pub(crate) fn is_held(&self, side: Side, path: &RelPath) -> bool {
        self.held().contains(&(side, path.clone()))
    }
}

impl Deref for LockedLane {
    type Target = Pass;

    fn deref(&self) -> &Pass {
        &self.pass
    }
}

impl Pass {
    /// Locks the lane, and reads again what may have changed until the lock was had.
    ///
    /// # Errors
    /// Where another pass runs there, where the lane was changed or removed meanwhile, or the ledger cannot be read.
    pub fn lock(&self) -> Result<LockedLane, Error> {
        let locked = lock_lane(&self.lane.lock_at)?;
        let mut pass = self.clone();
        self.check_settings()?;
        let id = &self.lane.config.id;
        let row = self
            .ledger
            .read(|connection| rows::lane_of(connection, id))?;
        pass.lane.row = row.ok_or_else(|| self.changed_meanwhile())?;
        Ok(LockedLane {
            pass,
            _locks: Arc::new(vec![locked]),
            held: Mutex::default(),
        })
    }

    /// The settings are those that the lane was opened with.
    fn check_settings(&self) -> Result<(), Error> {
        let Some(home) = &self.lane.home else {
            return Ok(());
        };
        let config = Config::read(home)?;
        let of_the_lane = |lane: &LaneConfig| LaneConfig {
            limits: lane.limits.clone(),
            ..self.lane.config.clone()
        };
        match config
            .lanes
            .iter()
            .find(|lane| lane.id == self.lane.config.id)
        {
            // What may go over the line in this pass alone is no setting of the lane.
            Some(lane) if *lane == of_the_lane(lane) => Ok(()),
            _ => Err(self.changed_meanwhile()),
        }
    }

    fn changed_meanwhile(&self) -> Error {
        let name = &self.lane.config.name;
        Error::new(
            Class::NeedsPerson,
            format!("working on lane {name}"),
            "its settings were changed, or it was removed, while this waited for its turn",
            format!("Nothing was done. Look at them, and do it again: katabatic lane show {name}"),
        )
    }
}
