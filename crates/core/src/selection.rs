//! What a lane leaves out, by its rules and by its choice of folders, as the stream of paths goes by.
//!
//! Leaving out never removes anything, on either side. What was agreed on at such a path is forgotten, so that a path
//! that comes back into the lane later is looked at as if for the first time: nothing that happened to it meanwhile
//! can travel as a removal.

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::choice::{Choice, NewFolders};
use crate::rules::{Rule, Screen};
use crate::{Base, Entry, Kind, RelPath, Stamp, Triple};

/// A lane's rules and its choice of folders.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Selection {
    /// The rules, in the order they were written; the first that matches counts.
    pub rules: Vec<Rule>,
    /// The choice of folders.
    pub choice: Choice,
}

/// Why a path is not in the lane.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum LeftOutBy {
    /// This rule.
    Rule(String),
    /// The choice: this folder is skipped.
    Skipped(RelPath),
    /// The choice: new folders of the far side stay there.
    NewFolder(RelPath),
    /// The choice skips this folder of the far side, and yet something of that name stands here.
    StandsHere(RelPath),
}

/// What something leaves out, in numbers.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Tally {
    /// Files.
    pub files: u64,
    /// Their bytes, on the side where they are larger.
    pub bytes: u64,
}

/// A path that is not in the lane.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Caught {
    pub(crate) by: LeftOutBy,
    /// Whether the folder around it is in the lane.
    pub(crate) outermost: bool,
}

/// Tells which paths of a stream in tree order are left out.
#[derive(Debug, Default)]
pub(crate) struct Sieve {
    selection: Arc<Selection>,
    screen: Screen,
    within: Option<(RelPath, LeftOutBy)>,
    tallies: BTreeMap<LeftOutBy, Tally>,
}

impl Sieve {
    pub(crate) fn new(selection: Arc<Selection>) -> Sieve {
        Sieve {
            screen: Screen::of(&selection.rules),
            selection,
            ..Sieve::default()
        }
    }

    pub(crate) fn tallies(&self) -> &BTreeMap<LeftOutBy, Tally> {
        &self.tallies
    }

    pub(crate) fn into_tallies(self) -> BTreeMap<LeftOutBy, Tally> {
        self.tallies
    }

    pub(crate) fn caught(&mut self, triple: &Triple) -> Option<Caught> {
        if let Some((folder, by)) = &self.within {
            if triple.path.is_within(folder) {
                let by = by.clone();
                self.count(triple, &by);
                return Some(Caught {
                    by,
                    outermost: false,
                });
            }
            self.within = None;
        }
        let by_rule = match self.screen.may_catch(&triple.path) {
            true => self.selection.ruled_out(triple),
            false => None,
        };
        let by = by_rule.or_else(|| self.selection.not_chosen(triple))?;
        self.count(triple, &by);
        self.within = Some((triple.path.clone(), by.clone()));
        Some(Caught {
            by,
            outermost: true,
        })
    }

    fn count(&mut self, triple: &Triple, by: &LeftOutBy) {
        if matches!(by, LeftOutBy::StandsHere(_)) {
            return;
        }
        let files = [&triple.views.near, &triple.views.far].map(|view| {
            view.entry()
                .filter(|entry| entry.kind == Kind::File)
                .map(|entry| entry.size)
        });
        if let Some(bytes) = files.into_iter().flatten().max() {
            let tally = self.tallies.entry(by.clone()).or_default();
            tally.files += 1;
            tally.bytes = tally.bytes.saturating_add(bytes);
        }
    }
}

impl Selection {
    /// What leaves out a path by itself, whatever becomes of the folders around it.
    #[must_use]
    pub fn leaves_out(&self, triple: &Triple) -> Option<LeftOutBy> {
        self.ruled_out(triple).or_else(|| self.not_chosen(triple))
    }

    fn ruled_out(&self, triple: &Triple) -> Option<LeftOutBy> {
        let path = &triple.path;
        let known = triple.base.as_ref().map(entry_of);
        let shown = [triple.views.near.entry(), triple.views.far.entry()];
        let entries = || {
            let fallback = known.as_ref().filter(|_| shown == [None, None]);
            shown.into_iter().flatten().chain(fallback)
        };
        let rule = self
            .rules
            .iter()
            .find(|rule| entries().any(|entry| rule.catches(path, entry)));
        rule.map(|rule| LeftOutBy::Rule(rule.text().to_owned()))
    }

    fn not_chosen(&self, triple: &Triple) -> Option<LeftOutBy> {
        let path = &triple.path;
        let here = triple.views.near.entry().is_some();
        let folder = match self.choice.said_of(path) {
            Some((_, true)) => return None,
            Some((_, false)) if self.choice.leads_to_taken(path) => return None,
            Some((folder, false)) => folder.clone(),
            None => {
                let new = self.choice.new_folders == NewFolders::Skip
                    && path.depth() == 1
                    && !here
                    && triple.base.is_none()
                    && triple.views.far.is_folder()
                    && !self.choice.leads_to_taken(path);
                return new.then(|| LeftOutBy::NewFolder(path.clone()));
            }
        };
        Some(if here {
            LeftOutBy::StandsHere(folder)
        } else {
            LeftOutBy::Skipped(folder)
        })
    }
}

fn entry_of(base: &Base) -> Entry {
    Entry {
        kind: base.kind,
        ..Entry::file(base.size, Stamp::new(""))
    }
}
