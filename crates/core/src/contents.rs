//! Which files of a lane are to have their content on this computer, and which only a stub.
//!
//! The person's wish stands here, the facts do not: that a file *is* a stub is told by the stamp of its near version
//! ([`crate::Stamp::is_stub`]). What is here stays here until somebody drops it, and a stub stays one until somebody
//! wants its content. So a wish that changes carries nothing by itself, but for what is held: that is to be here.

use std::collections::{BTreeMap, BTreeSet};

use crate::room::Budget;
use crate::{Entry, RelPath};

/// What a lane does with content.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Contents {
    /// How much room it may take here.
    pub budget: Budget,
    /// Whether what is new on the far side comes as a stub.
    stubs: bool,
    /// Where that is otherwise, with all below, but for what is named below it.
    folders: BTreeMap<RelPath, bool>,
    held: BTreeSet<RelPath>,
}

/// Why a path cannot be let go.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NotLetGo {
    /// It is not held.
    NotHeld,
    /// It lies in this folder, which is held.
    Within(RelPath),
}

impl Contents {
    /// With these held paths; one within another is no path of its own.
    #[must_use]
    pub fn new(stubs: bool, held: impl IntoIterator<Item = RelPath>) -> Contents {
        let mut contents = Contents {
            stubs,
            ..Contents::default()
        };
        for path in held {
            contents.hold(path);
        }
        contents
    }

    /// Whether what is new comes as a stub, where no folder says otherwise.
    #[must_use]
    pub fn comes_as_stubs(&self) -> bool {
        self.stubs
    }

    /// What is new in the whole lane comes as a stub, or with its content; no folder says otherwise any more.
    pub fn set_all(&mut self, stubs: bool) {
        self.stubs = stubs;
        self.folders.clear();
    }

    /// What is new in a folder and all below comes as a stub, or with its content.
    pub fn set_folder(&mut self, folder: RelPath, stubs: bool) {
        self.folders.retain(|known, _| !known.is_within(&folder));
        if self.stubs_at(&folder) != stubs {
            self.folders.insert(folder, stubs);
        }
    }

    /// The folders that say otherwise, and whether what is new there comes as a stub.
    pub fn folders(&self) -> impl Iterator<Item = (&RelPath, bool)> {
        self.folders.iter().map(|(folder, stubs)| (folder, *stubs))
    }

    fn stubs_at(&self, path: &RelPath) -> bool {
        let around = self
            .folders
            .iter()
            .filter(|(folder, _)| path.is_within(folder));
        around
            .max_by_key(|(folder, _)| folder.depth())
            .map_or(self.stubs, |(_, stubs)| *stubs)
    }

    /// What is held, the outermost paths.
    pub fn held(&self) -> impl Iterator<Item = &RelPath> {
        self.held.iter()
    }

    /// The held path that a path is, or lies in.
    #[must_use]
    pub fn held_by(&self, path: &RelPath) -> Option<&RelPath> {
        self.held.iter().find(|held| path.is_within(held))
    }

    /// Keeps a path here for good, with all that is or comes below it; whether that is news.
    pub fn hold(&mut self, path: RelPath) -> bool {
        if self.held_by(&path).is_some() {
            return false;
        }
        self.held.retain(|held| !held.is_within(&path));
        self.held.insert(path)
    }

    /// Keeps a path here no longer than anything else, and what is held below it.
    ///
    /// # Errors
    /// Where it is not held, or only because a folder around it is.
    pub fn let_go(&mut self, path: &RelPath) -> Result<(), NotLetGo> {
        if let Some(around) = self.held_by(path).filter(|held| *held != path) {
            return Err(NotLetGo::Within(around.clone()));
        }
        let before = self.held.len();
        self.held.retain(|held| !held.is_within(path));
        if self.held.len() == before {
            return Err(NotLetGo::NotHeld);
        }
        Ok(())
    }

    /// Whether a far version that is about to come takes the place of what is here as a stub. A file without content has
    /// nothing that could stay away.
    #[must_use]
    pub fn comes_as_stub(&self, path: &RelPath, near: Option<&Entry>, far: &Entry) -> bool {
        let stays_away = match near {
            Some(near) => near.is_stub(),
            None => self.stubs_at(path),
        };
        stays_away && far.size > 0 && self.held_by(path).is_none()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Stamp, StampKind};

    fn path(text: &str) -> RelPath {
        RelPath::parse(text).expect("a path")
    }

    #[test]
    fn what_is_held_covers_all_below_it() {
        let mut contents = Contents::new(true, [path("a/b"), path("c")]);
        assert_eq!(contents.held_by(&path("a/b/x")), Some(&path("a/b")));
        assert_eq!(contents.held_by(&path("a/bc")), None);
        assert!(!contents.hold(path("a/b/x")));
        assert!(contents.hold(path("a")));
        assert_eq!(
            contents.held().map(RelPath::as_str).collect::<Vec<_>>(),
            ["a", "c"]
        );
    }

    #[test]
    fn only_what_is_held_by_itself_can_be_let_go() {
        let mut contents = Contents::new(false, [path("a/b"), path("c")]);
        assert_eq!(
            contents.let_go(&path("a/b/x")),
            Err(NotLetGo::Within(path("a/b")))
        );
        assert_eq!(contents.let_go(&path("d")), Err(NotLetGo::NotHeld));
        assert_eq!(contents.let_go(&path("a")), Ok(()));
        assert_eq!(contents.held_by(&path("a/b")), None);
    }

    #[test]
    fn the_nearest_folder_says_what_comes() {
        let mut contents = Contents::default();
        contents.set_folder(path("old"), true);
        contents.set_folder(path("old/2019"), false);
        contents.set_folder(path("new"), false);
        let far = Entry::file(5, Stamp::new("1"));
        let comes = |contents: &Contents, at: &str| contents.comes_as_stub(&path(at), None, &far);
        assert!(comes(&contents, "old/a") && comes(&contents, "old/2018/a"));
        assert!(
            !comes(&contents, "old/2019/x/a")
                && !comes(&contents, "older")
                && !comes(&contents, "a")
        );
        let named: Vec<_> = contents
            .folders()
            .map(|(folder, stubs)| (folder.as_str(), stubs))
            .collect();
        assert_eq!(
            named,
            [("old", true), ("old/2019", false)],
            "what is so anyway is not named"
        );
        contents.set_folder(path("old"), false);
        assert_eq!(contents, Contents::default(), "with all below");
        contents.set_folder(path("old"), true);
        contents.set_all(true);
        assert!(contents.comes_as_stubs() && contents.folders().next().is_none());
    }

    #[test]
    fn what_comes_as_a_stub() {
        let (file, stub) = (
            Entry::file(5, Stamp::new("1")),
            Entry::file(5, Stamp::of(StampKind::Stub, "5")),
        );
        let empty = Entry::file(0, Stamp::new("1"));
        let contents = Contents::new(true, [path("held")]);
        let comes = |at: &str, near: Option<&Entry>, far: &Entry| {
            contents.comes_as_stub(&path(at), near, far)
        };
        assert!(comes("a", None, &file));
        assert!(!comes("a", None, &empty));
        assert!(!comes("a", Some(&file), &file), "what is here stays here");
        assert!(comes("a", Some(&stub), &file));
        assert!(!comes("held/a", None, &file));
        assert!(!comes("held/a", Some(&stub), &file));
        let all = Contents::default();
        assert!(!all.comes_as_stub(&path("a"), None, &file));
        assert!(all.comes_as_stub(&path("a"), Some(&stub), &file));
    }
}
