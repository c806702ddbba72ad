//! The lock without which nothing is changed, as a type.
//!
//! Whatever changes a side, or what was agreed on, takes a [`LockedLane`]. What was read before the lock was had may
//! be old by then: whoever held it has carried on, or somebody has changed the lane. So the lane's row is read again
//! under the lock, and a lane whose settings are others by now is not gone on with.

use std::ops::Deref;

use crate::config::Config;
use crate::ledger::rows;
use crate::lock::{LaneLock, lock_lane};
use crate::pass::Pass;
use crate::{Class, Error};

/// A lane that nobody else changes for as long as this lives.
pub struct LockedLane {
    pass: Pass,
    _lock: LaneLock,
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
            _lock: locked,
        })
    }

    /// The settings are those that the lane was opened with.
    fn check_settings(&self) -> Result<(), Error> {
        let Some(home) = &self.lane.home else {
            return Ok(());
        };
        let config = Config::read(home)?;
        match config
            .lanes
            .iter()
            .find(|lane| lane.id == self.lane.config.id)
        {
            Some(lane) if *lane == self.lane.config => Ok(()),
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
