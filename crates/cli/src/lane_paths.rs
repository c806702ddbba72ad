//! Paths of a lane as people look at them: name, size, date, and where each stands.

use katabatic_core::{Agreement, EditTime, Entry, FileState, Kind, Lies, RelPath, Side, Step};
use katabatic_engine::config::LaneConfig;
use katabatic_engine::standing::LaneStanding;

/// One path of a lane.
#[derive(Clone, Debug)]
pub struct LanePath {
    /// Where it is, from the top of the lane.
    pub path: RelPath,
    /// What it is.
    pub kind: Kind,
    /// Length in bytes; 0 for anything but files.
    pub size: u64,
    /// When it was edited, or else received, where that is known.
    pub at: Option<EditTime>,
    /// Where it stands.
    pub state: FileState,
    /// Why; empty for what is settled.
    pub reason: String,
}

impl LanePath {
    /// What a step is about. What lies here counts before what lies there.
    pub fn of(step: &Step, state: FileState, reason: &str) -> Option<LanePath> {
        let entry = step.entry(Side::Near).or(step.entry(Side::Far))?;
        let is_file = entry.kind == Kind::File;
        Some(LanePath {
            path: step.path().clone(),
            kind: entry.kind,
            size: if is_file { entry.size } else { 0 },
            at: at(entry).or(step.entry(Side::Far).and_then(at)),
            state,
            reason: reason.to_owned(),
        })
    }

    /// What is settled.
    pub fn settled(lane: &LaneConfig, step: &Step) -> Option<LanePath> {
        LanePath::of(step, settled_state(lane, step), "")
    }
}

/// The state of what is settled.
pub fn settled_state(lane: &LaneConfig, step: &Step) -> FileState {
    FileState {
        agreement: Agreement::Settled,
        lies: Lies::of(
            step.entry(Side::Near),
            lane.contents.held_by(step.path()).is_some(),
        ),
    }
}

/// What of a standing is not settled.
pub fn open_paths(standing: &LaneStanding) -> impl Iterator<Item = LanePath> {
    standing
        .standings
        .iter()
        .filter(|one| one.state.agreement != Agreement::Settled)
        .filter_map(|one| LanePath::of(&one.step, one.state, &one.reason))
}

fn at(entry: &Entry) -> Option<EditTime> {
    entry.edited.or(entry.received)
}
