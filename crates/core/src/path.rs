//! Paths inside a lane: relative, checked once, never able to leave the root.
//!
//! A path is checked where it enters the program (a directory listing, a server's answer, the ledger, the command
//! line) and is then trusted as a value: there is no way to make a [`RelPath`] that holds `..`, starts at the root of
//! the file system, or has an empty part.
//!
//! The order of paths is *tree order*: a folder comes before what it holds, and all it holds comes before the next
//! name beside it. Comparing whole strings would not give that (`a b` sorts before `a/x`), so parts are compared one
//! by one; [`RelPath::key`] spells the same order in bytes, for the ledger.

use std::cmp::Ordering;
use std::fmt;
use std::sync::Arc;

/// Why a text is not a path inside a lane.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PathError {
    /// The path starts with `/`.
    #[error("it begins with a slash, so it is not relative")]
    Absolute,
    /// A part is empty: two slashes in a row, or one at the end.
    #[error("it has an empty part (two slashes, or one at the end)")]
    EmptyPart,
    /// A part is `.` or `..`.
    #[error("it has a part `{0}`, which could lead out of the folder")]
    Dots(String),
    /// A NUL byte, which no file system can hold.
    #[error("it holds a NUL byte")]
    Nul,
    /// Bytes that are not UTF-8.
    #[error("it is not valid UTF-8")]
    NotUtf8,
}

/// A path below the root of a lane's side; the root itself is the empty path.
#[derive(Clone, PartialEq, Eq, Hash)]
pub struct RelPath(Arc<str>);

impl RelPath {
    /// The root of the side.
    #[must_use]
    pub fn root() -> RelPath {
        RelPath(Arc::from(""))
    }

    /// Checks a text with `/` between its parts.
    ///
    /// # Errors
    /// [`PathError`] says which rule it breaks.
    pub fn parse(text: &str) -> Result<RelPath, PathError> {
        if text.is_empty() {
            return Ok(RelPath::root());
        }
        if text.starts_with('/') {
            return Err(PathError::Absolute);
        }
        for part in text.split('/') {
            check_name(part)?;
        }
        Ok(RelPath(Arc::from(text)))
    }

    /// Checks bytes that should be a path in UTF-8.
    ///
    /// # Errors
    /// As [`RelPath::parse`], and [`PathError::NotUtf8`].
    pub fn from_bytes(bytes: &[u8]) -> Result<RelPath, PathError> {
        RelPath::parse(std::str::from_utf8(bytes).map_err(|_| PathError::NotUtf8)?)
    }

    /// The path of `name` in this folder.
    ///
    /// # Errors
    /// [`PathError`] where `name` is not one single name.
    pub fn join(&self, name: &str) -> Result<RelPath, PathError> {
        check_name(name)?;
        if name.contains('/') {
            return Err(PathError::Absolute);
        }
        if self.is_root() {
            return Ok(RelPath(Arc::from(name)));
        }
        Ok(RelPath(Arc::from(format!("{}/{name}", self.0))))
    }

    /// Whether this is the root of the side.
    #[must_use]
    pub fn is_root(&self) -> bool {
        self.0.is_empty()
    }

    /// The folder that holds this path; none for the root.
    #[must_use]
    pub fn parent(&self) -> Option<RelPath> {
        if self.is_root() {
            return None;
        }
        Some(match self.0.rfind('/') {
            Some(at) => RelPath(Arc::from(&self.0[..at])),
            None => RelPath::root(),
        })
    }

    /// The last part; empty for the root.
    #[must_use]
    pub fn name(&self) -> &str {
        self.0.rsplit('/').next().unwrap_or("")
    }

    /// The parts from the root down.
    pub fn parts(&self) -> impl Iterator<Item = &str> {
        self.0.split('/').filter(|part| !part.is_empty())
    }

    /// How many parts there are; 0 for the root.
    #[must_use]
    pub fn depth(&self) -> usize {
        self.parts().count()
    }

    /// Whether this path is `folder` or lies anywhere below it.
    #[must_use]
    pub fn is_within(&self, folder: &RelPath) -> bool {
        folder.is_root()
            || self.0 == folder.0
            || (self.0.starts_with(&*folder.0)
                && self.0.as_bytes().get(folder.0.len()) == Some(&b'/'))
    }

    /// The path of something that is called `below` in this folder.
    #[must_use]
    pub fn joined(&self, below: &RelPath) -> RelPath {
        match (self.is_root(), below.is_root()) {
            (_, true) => self.clone(),
            (true, false) => below.clone(),
            (false, false) => RelPath(Arc::from(format!("{}/{}", self.0, below.0))),
        }
    }

    /// Where this path is once `from`, which it is or lies below, is called `to`; none where it lies elsewhere.
    #[must_use]
    pub fn rebased(&self, from: &RelPath, to: &RelPath) -> Option<RelPath> {
        if self == from {
            return Some(to.clone());
        }
        if from.is_root() || to.is_root() || !self.is_within(from) {
            return None;
        }
        Some(RelPath(Arc::from(format!(
            "{}{}",
            to.0,
            &self.0[from.0.len()..]
        ))))
    }

    /// The text, with `/` between parts.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Bytes whose plain order is tree order: a NUL, which no name can hold, stands for the slash.
    #[must_use]
    pub fn key(&self) -> Vec<u8> {
        self.0
            .bytes()
            .map(|byte| if byte == b'/' { 0 } else { byte })
            .collect()
    }

    /// The path behind a [`RelPath::key`].
    ///
    /// # Errors
    /// As [`RelPath::from_bytes`]: a ledger is a file too, and is not trusted blindly.
    pub fn from_key(key: &[u8]) -> Result<RelPath, PathError> {
        let mut bytes = key.to_vec();
        bytes
            .iter_mut()
            .filter(|byte| **byte == 0)
            .for_each(|byte| *byte = b'/');
        RelPath::from_bytes(&bytes)
    }
}

fn check_name(name: &str) -> Result<(), PathError> {
    match name {
        "" => Err(PathError::EmptyPart),
        "." | ".." => Err(PathError::Dots(name.to_owned())),
        _ if name.contains('\0') => Err(PathError::Nul),
        _ => Ok(()),
    }
}

impl Ord for RelPath {
    /// As [`RelPath::key`] orders them; paths are compared several times a file, so nothing is split for it.
    fn cmp(&self, other: &RelPath) -> Ordering {
        let (one, two) = (self.0.as_bytes(), other.0.as_bytes());
        let same = one.iter().zip(two).take_while(|(a, b)| a == b).count();
        // No name holds a NUL, so the end of a path and the end of a part both come before any byte of a name.
        let rank = |path: &[u8]| match path.get(same) {
            None => (0, 0),
            Some(b'/') => (1, 0),
            Some(byte) => (2, *byte),
        };
        rank(one).cmp(&rank(two))
    }
}

impl PartialOrd for RelPath {
    fn partial_cmp(&self, other: &RelPath) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl fmt::Display for RelPath {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(&self.0)
    }
}

impl fmt::Debug for RelPath {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "{:?}", &*self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_path_below_a_folder_is_joined_whole() {
        let path = |text: &str| match text {
            "" => RelPath::root(),
            text => RelPath::parse(text).unwrap(),
        };
        for (folder, below, joined) in [
            ("", "", ""),
            ("", "a/b", "a/b"),
            ("f/g", "", "f/g"),
            ("f/g", "a/b", "f/g/a/b"),
        ] {
            assert_eq!(path(folder).joined(&path(below)), path(joined));
        }
    }

    #[test]
    fn refuses_what_could_leave_the_root() {
        for (text, error) in [
            ("/etc", PathError::Absolute),
            ("a//b", PathError::EmptyPart),
            ("a/", PathError::EmptyPart),
            ("a/../b", PathError::Dots("..".into())),
            ("./a", PathError::Dots(".".into())),
            ("a\0b", PathError::Nul),
        ] {
            assert_eq!(RelPath::parse(text), Err(error), "{text:?}");
        }
        assert_eq!(RelPath::from_bytes(b"\xff"), Err(PathError::NotUtf8));
        assert_eq!(RelPath::root().join("a/b"), Err(PathError::Absolute));
    }

    #[test]
    fn tree_order_keeps_a_folder_together() {
        let mut paths: Vec<RelPath> = ["ab", "a/x", "a b", "a", "a/x/y", "b"]
            .iter()
            .map(|text| RelPath::parse(text).unwrap())
            .collect();
        paths.sort();
        let sorted: Vec<&str> = paths.iter().map(RelPath::as_str).collect();
        assert_eq!(sorted, ["a", "a/x", "a/x/y", "a b", "ab", "b"]);
    }

    #[test]
    fn within_is_by_whole_parts() {
        let folder = RelPath::parse("Viola").unwrap();
        assert!(RelPath::parse("Viola/1.txt").unwrap().is_within(&folder));
        assert!(folder.is_within(&folder));
        assert!(!RelPath::parse("Violas/1.txt").unwrap().is_within(&folder));
    }

    proptest! {
        #[test]
        fn key_keeps_order_and_comes_back(a in "[ab /!]{0,6}", b in "[ab /!]{0,6}") {
            let (Ok(a), Ok(b)) = (RelPath::parse(&a), RelPath::parse(&b)) else { return Ok(()) };
            prop_assert_eq!(a.cmp(&b), a.key().cmp(&b.key()));
            prop_assert_eq!(RelPath::from_key(&a.key()).unwrap(), a);
        }
    }
}
