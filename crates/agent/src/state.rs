//! What the agent tells about itself: one picture of each lane, for whoever asks.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use katabatic_core::EditTime;
use serde::{Deserialize, Serialize};

use katabatic_engine::pass::Progress;
use katabatic_sides::stop::Stop;

/// So many of the paths under way are named.
const NAMED: usize = 4;

/// What a lane is doing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "doing", rename_all = "kebab-case")]
pub enum Doing {
    /// Nothing: all that was heard of is carried.
    Idle,
    /// Something was heard, and it waits until the folder is quiet or its turn comes.
    Waiting,
    /// A pass runs.
    Running {
        /// Paths looked at so far.
        seen: u64,
        /// Steps to carry, and of these, done.
        files: (u64, u64),
        /// Bytes to carry, and of these, done.
        bytes: (u64, u64),
        /// Some of what is being carried.
        #[serde(default)]
        paths: Vec<String>,
    },
    /// It was told to leave the lane alone.
    Paused,
    /// What must hold around the computer does not.
    Unfit {
        /// What it waits for, in words.
        waits_for: String,
    },
    /// Somebody has to do something first.
    Asking {
        /// What, in words.
        why: String,
    },
    /// Somebody ended the last pass before it had carried all; it goes on later.
    Stopped {
        /// Steps that it had not done.
        files: u64,
        /// Bytes that it had not carried.
        bytes: u64,
    },
    /// The last pass failed; it is tried again.
    Failing {
        /// Why.
        why: String,
        /// How many times in a row.
        times: u32,
    },
}

/// A lane as the agent sees it. Times are nanoseconds since 1970.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LaneNow {
    /// Its name.
    pub lane: String,
    /// What it is doing.
    #[serde(flatten)]
    pub doing: Doing,
    /// When it runs, as the config says.
    pub when: Vec<String>,
    /// How the agent hears of changes, or why it does not.
    pub follows: String,
    /// When the last pass by the agent ended, and how.
    pub last: Option<(i64, String)>,
    /// When it runs next, where a time says so.
    pub next: Option<i64>,
    /// Until when it is paused, where somebody said.
    pub paused_until: Option<i64>,
}

/// A running pass.
pub(super) struct RunningPass {
    pub(super) stop: Stop,
    pub(super) progress: Arc<Progress>,
}

struct OneLane {
    now: LaneNow,
    running: Option<RunningPass>,
}

/// The pictures of all lanes.
#[derive(Clone, Default)]
pub(super) struct Board(Arc<Mutex<BTreeMap<String, OneLane>>>);

impl Board {
    fn lanes(&self) -> MutexGuard<'_, BTreeMap<String, OneLane>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn add(&self, lane: &str, when: Vec<String>) {
        let now = LaneNow {
            lane: lane.to_owned(),
            doing: Doing::Waiting,
            when,
            follows: String::new(),
            last: None,
            next: None,
            paused_until: None,
        };
        let running = None;
        self.lanes()
            .insert(lane.to_owned(), OneLane { now, running });
    }

    pub(super) fn remove(&self, lane: &str) {
        self.lanes().remove(lane);
    }

    /// Changes the picture of a lane.
    pub(super) fn set(&self, lane: &str, change: impl FnOnce(&mut LaneNow)) {
        if let Some(one) = self.lanes().get_mut(lane) {
            change(&mut one.now);
        }
    }

    /// A pass begins; none is running.
    pub(super) fn begin(&self, lane: &str, pass: RunningPass) {
        if let Some(one) = self.lanes().get_mut(lane) {
            one.running = Some(pass);
        }
    }

    /// It has ended.
    pub(super) fn end(&self, lane: &str, at: EditTime, how: String) {
        if let Some(one) = self.lanes().get_mut(lane) {
            one.running = None;
            one.now.last = Some((at.0, how));
        }
    }

    /// Asks the running pass of a lane to stop; whether there was one.
    pub(super) fn stop_pass(&self, lane: &str) -> bool {
        let lanes = self.lanes();
        let running = lanes.get(lane).and_then(|one| one.running.as_ref());
        running.inspect(|pass| pass.stop.ask()).is_some()
    }

    /// Asks all running passes to stop.
    pub(super) fn stop_all(&self) {
        for one in self.lanes().values() {
            if let Some(pass) = &one.running {
                pass.stop.ask();
            }
        }
    }

    /// How things stand now.
    pub(super) fn look(&self) -> Vec<LaneNow> {
        let picture = |one: &OneLane| match &one.running {
            None => one.now.clone(),
            Some(pass) => {
                let moment = pass.progress.moment();
                LaneNow {
                    doing: Doing::Running {
                        seen: moment.seen,
                        files: (moment.files, moment.files_done),
                        bytes: (moment.bytes, moment.bytes_done),
                        paths: pass
                            .progress
                            .under_way()
                            .iter()
                            .take(NAMED)
                            .map(ToString::to_string)
                            .collect(),
                    },
                    ..one.now.clone()
                }
            }
        };
        self.lanes().values().map(picture).collect()
    }
}
