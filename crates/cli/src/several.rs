//! What is said of several lanes, one after the other: one that cannot be looked at takes nothing from the others.

use katabatic_engine::Error;
use katabatic_engine::config::LaneConfig;
use serde_json::{Value, json};

use crate::app::App;
use crate::draw::error::{described, error};
use crate::exit;

/// How it went with lanes so far.
pub struct Several {
    many: bool,
    /// The exit code that a script should hear of.
    pub code: u8,
    /// Lanes that could not be looked at, in JSON.
    pub failed: Vec<Value>,
}

impl Several {
    /// Of so many lanes.
    pub fn of(lanes: usize) -> Several {
        Several {
            many: lanes > 1,
            code: 0,
            failed: Vec::new(),
        }
    }

    /// What was found of a lane; none where that failed, which is told. Of a single one it is the command's error.
    pub fn take<T>(
        &mut self,
        app: &App,
        lane: &LaneConfig,
        found: Result<T, Error>,
    ) -> Result<Option<T>, Error> {
        match found {
            Err(why) if self.many => {
                self.code = exit::worse(self.code, exit::number(why.class));
                if app.common.json {
                    let failed = json!({"lane": lane.name, "error": described(&why)});
                    self.failed.push(failed);
                } else {
                    error(&why, false);
                }
                Ok(None)
            }
            found => found.map(Some),
        }
    }
}
