//! Which files of a lane are to have their content on this computer, and which only a stub.
//!
//! The person's wish stands here, the facts do not: that a file *is* a stub is told by the stamp of its near version
//! ([`crate::Stamp::is_stub`]). What is here stays here until somebody drops it, and a stub stays one until somebody
//! wants its content. So a wish that changes carries nothing by itself, but for what is held: that is to be here.

use std::collections::BTreeSet;

use crate::room::Budget;
use crate::{Entry, RelPath};

/// What a lane does with content.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Contents {
    /// Whether what is new on the far side comes as a stub.
    pub stubs: bool,
    /// How much room it may take here.
    pub budget: Budget,
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
            budget: Budget::default(),
            held: BTreeSet::new(),
        };
        for path in held {
            contents.hold(path);
        }
        contents
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
            None => self.stubs,
        };
        stays_away && far.size > 0 && self.held_by(path).is_none()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Stamp;

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
    fn what_comes_as_a_stub() {
        let (file, stub) = (
            Entry::file(5, Stamp::new("1")),
            Entry::file(5, Stamp::new("stub:5")),
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
