//! What a person, or the agent for them, asks a pass for.

use std::collections::BTreeSet;
use std::sync::Arc;

use crate::{Entry, PerSide, RelPath, Rule, Side, Terms};

/// Where the content of what a pass is about is to be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WantedContents {
    /// On this computer.
    Here,
    /// On the far side alone; here there is a stub of it.
    Away,
}

/// What a pass is asked for.
#[derive(Clone, Debug, Default)]
pub struct Wish {
    /// The files and folders it is about; the whole lane where there are none.
    pub scope: Vec<RelPath>,
    /// Carry only what this plan said.
    pub exactly: Option<String>,
    /// The number the brake is released for.
    pub release_brake: Option<u64>,
    /// A person named each file: there is nothing left for the brake to ask.
    pub by_hand: bool,
    /// The only side that anything may be removed from; elsewhere a removal waits for an answer of its own.
    pub removes_on: Option<Side>,
    /// Terms for this pass alone, where a person said what is to become of drift or of a removal.
    pub terms: Option<Terms>,
    /// Nothing but that the content of what it is about is to be here, or away, where both sides agree on it.
    pub contents: Option<WantedContents>,
    /// Of what is to be away, just these files.
    pub only: Option<Arc<BTreeSet<RelPath>>>,
    /// Of what is to be here or away, just what one of these rules catches, with all that is in it.
    pub matching: Vec<Rule>,
    /// Where the system said of a side all that changed in it: these paths. Where it did not, the side is walked whole.
    pub heard: PerSide<Option<BTreeSet<RelPath>>>,
}

impl Wish {
    /// Whether it is about a path.
    #[must_use]
    pub fn is_about(&self, path: &RelPath) -> bool {
        self.scope.is_empty() || self.scope.iter().any(|scope| path.is_within(scope))
    }

    /// Whether the content of this file is what is wanted here, or away.
    #[must_use]
    pub fn means(&self, path: &RelPath, entry: &Entry) -> bool {
        let caught = |rule: &Rule| {
            rule.catches(path, entry)
                || std::iter::successors(path.parent(), RelPath::parent)
                    .any(|folder| rule.catches(&folder, &Entry::folder()))
        };
        self.is_about(path)
            && self.only.as_ref().is_none_or(|only| only.contains(path))
            && (self.matching.is_empty() || self.matching.iter().any(caught))
    }

    /// The paths it is about.
    #[must_use]
    pub fn paths(&self) -> Vec<RelPath> {
        if self.scope.is_empty() {
            vec![RelPath::root()]
        } else {
            self.scope.clone()
        }
    }

    /// The terms that hold for this pass, on a lane of these.
    #[must_use]
    pub fn terms_for(&self, lane: Terms) -> Terms {
        self.terms.unwrap_or(lane)
    }
}
