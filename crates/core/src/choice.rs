//! The choice: which folders of the far side a lane takes.
//!
//! A choice is made of folders that are skipped and folders that are taken; at each path the nearest word above it
//! counts. What lies at the root beside the folders is always taken. Skipping is about this computer alone: the far
//! side keeps everything, and a skipped folder that somehow stands here is not touched either, but told of.

use std::collections::BTreeMap;

use crate::RelPath;

/// What happens to folders at the far root that no word is said about.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum NewFolders {
    /// They are taken.
    #[default]
    Take,
    /// They stay there only, unless they are here too.
    Skip,
}

impl NewFolders {
    /// As config and options spell it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            NewFolders::Take => "take",
            NewFolders::Skip => "skip",
        }
    }

    /// The choice of this word.
    #[must_use]
    pub fn parse(word: &str) -> Option<NewFolders> {
        [NewFolders::Take, NewFolders::Skip]
            .into_iter()
            .find(|known| known.word() == word)
    }
}

/// Which folders a lane takes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Choice {
    /// What was said of a folder: whether it is taken.
    said: BTreeMap<RelPath, bool>,
    /// What counts for the others.
    pub new_folders: NewFolders,
}

/// How much of a folder is taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Share {
    /// All of it.
    Whole,
    /// Some of it.
    Part,
    /// Nothing.
    None,
}

impl Share {
    /// The word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Share::Whole => "whole",
            Share::Part => "in part",
            Share::None => "not taken",
        }
    }
}

impl Choice {
    /// A choice of these folders.
    #[must_use]
    pub fn new(skip: &[RelPath], take: &[RelPath], new_folders: NewFolders) -> Choice {
        let mut choice = Choice {
            said: BTreeMap::new(),
            new_folders,
        };
        let skip = skip.iter().map(|folder| (folder.clone(), false));
        let take = take.iter().map(|folder| (folder.clone(), true));
        choice.said.extend(skip.chain(take));
        choice.tidy();
        choice
    }

    /// Takes a folder whole, or nothing of it; what was said of folders in it counts no more.
    pub fn say(&mut self, folder: &RelPath, taken: bool) {
        self.said.retain(|known, _| !known.is_within(folder));
        self.said.insert(folder.clone(), taken);
        self.tidy();
    }

    /// Takes these folders and nothing else: neither what lies beside them in the folders around them, nor folders that
    /// come to be on the far side later.
    pub fn take_only(&mut self, folders: &[RelPath]) {
        self.said.clear();
        self.new_folders = NewFolders::Skip;
        let above = |folder: &RelPath| {
            let above = std::iter::successors(folder.parent(), RelPath::parent);
            above.filter(|folder| !folder.is_root()).collect::<Vec<_>>()
        };
        for around in folders.iter().flat_map(above) {
            self.said.insert(around, false);
        }
        for folder in folders {
            self.said.insert(folder.clone(), true);
        }
        self.tidy();
    }

    /// Words that change nothing are not kept.
    fn tidy(&mut self) {
        let all = self.said.clone();
        self.said.retain(|folder, taken| {
            let above = folder.parent().and_then(|parent| nearest(&all, &parent));
            match above {
                Some(above) => above != *taken,
                None => self.new_folders == NewFolders::Skip || !*taken,
            }
        });
    }

    /// The folders that are skipped.
    pub fn skipped(&self) -> impl Iterator<Item = &RelPath> {
        self.said
            .iter()
            .filter(|(_, taken)| !**taken)
            .map(|(folder, _)| folder)
    }

    /// The folders that are taken, within skipped ones or where new ones are skipped.
    pub fn taken(&self) -> impl Iterator<Item = &RelPath> {
        self.said
            .iter()
            .filter(|(_, taken)| **taken)
            .map(|(folder, _)| folder)
    }

    /// Whether everything is taken.
    #[must_use]
    pub fn is_everything(&self) -> bool {
        self.said.is_empty() && self.new_folders == NewFolders::Take
    }

    /// Whether what lies in a folder itself is taken, and by what was said of which folder; the root always is.
    ///
    /// `None` where nothing was said of it nor of a folder above it.
    #[must_use]
    pub fn said_of(&self, path: &RelPath) -> Option<(&RelPath, bool)> {
        let mut at = Some(path.clone());
        while let Some(folder) = at.filter(|folder| !folder.is_root()) {
            if let Some((said, taken)) = self.said.get_key_value(&folder) {
                return Some((said, *taken));
            }
            at = folder.parent();
        }
        None
    }

    /// Whether a folder in this one, however deep, is taken by its own name.
    #[must_use]
    pub fn leads_to_taken(&self, folder: &RelPath) -> bool {
        self.within(folder).any(|taken| taken)
    }

    fn within(&self, folder: &RelPath) -> impl Iterator<Item = bool> {
        self.said
            .range(folder.clone()..)
            .take_while(move |(inner, _)| inner.is_within(folder))
            .filter(move |(inner, _)| *inner != folder)
            .map(|(_, taken)| *taken)
    }

    /// How much of a folder of the far side is taken; `here` says whether it stands here too.
    #[must_use]
    pub fn share(&self, folder: &RelPath, here: bool) -> Share {
        let taken = match self.said_of(folder) {
            Some((_, taken)) => taken,
            None => self.new_folders == NewFolders::Take || here,
        };
        match (taken, self.within(folder).any(|inner| inner != taken)) {
            (_, true) => Share::Part,
            (true, false) => Share::Whole,
            (false, false) => Share::None,
        }
    }
}

fn nearest(said: &BTreeMap<RelPath, bool>, path: &RelPath) -> Option<bool> {
    let mut at = Some(path.clone());
    while let Some(folder) = at {
        if let Some(taken) = said.get(&folder) {
            return Some(*taken);
        }
        at = folder.parent();
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    fn path(text: &str) -> RelPath {
        RelPath::parse(text).unwrap()
    }

    #[test]
    fn the_nearest_word_counts() {
        let choice = Choice::new(
            &[path("Past"), path("Past/2019/raw")],
            &[path("Past/2019")],
            NewFolders::Take,
        );
        assert_eq!(choice.share(&path("Scores"), false), Share::Whole);
        assert_eq!(choice.share(&path("Past"), false), Share::Part);
        assert_eq!(choice.share(&path("Past/2018"), false), Share::None);
        assert_eq!(choice.share(&path("Past/2019"), false), Share::Part);
        assert_eq!(choice.share(&path("Past/2019/raw/x"), false), Share::None);
        assert!(choice.leads_to_taken(&path("Past")));
        assert!(!choice.leads_to_taken(&path("Past/2018")));
    }

    #[test]
    fn saying_something_of_a_folder_ends_what_was_said_inside_it() {
        let mut choice = Choice::default();
        choice.say(&path("a/b"), false);
        choice.say(&path("a"), false);
        assert_eq!(choice.skipped().collect::<Vec<_>>(), [&path("a")]);
        choice.say(&path("a/b"), true);
        assert_eq!(choice.share(&path("a"), false), Share::Part);
        choice.say(&path("a"), true);
        assert!(choice.is_everything());
    }

    #[test]
    fn new_folders_may_stay_there() {
        let choice = Choice::new(&[], &[path("Scores")], NewFolders::Skip);
        assert_eq!(choice.share(&path("Scores"), false), Share::Whole);
        assert_eq!(choice.share(&path("Newcomer"), false), Share::None);
        assert_eq!(choice.share(&path("Newcomer"), true), Share::Whole);
    }
}
