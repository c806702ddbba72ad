//! By what the root of a side is known again as the one that was tied.

use serde::{Deserialize, Serialize};

/// By what a root is known again.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum KnownRoot {
    /// A folder of this computer that bears a mark.
    Marked {
        /// The mark, which comes along when the folder is copied.
        mark: String,
        /// Number and birth of the folder itself, where the file system keeps both for good: no copy has them.
        folder: Option<String>,
    },
    /// A folder of this computer that takes no mark: its inode's number.
    Inode(u64),
    /// A folder of an account: its address.
    Address(String),
}

/// What one finds where a folder was tied.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Recognised {
    /// That folder.
    Itself,
    /// A copy of it: the mark is in it, and it is another folder.
    Copy,
    /// Another folder, or none.
    Other,
}

impl KnownRoot {
    /// Whether what is found is what is known.
    #[must_use]
    pub fn recognises(&self, found: &KnownRoot) -> Recognised {
        if self == found {
            return Recognised::Itself;
        }
        match (self, found) {
            (
                KnownRoot::Marked { mark, folder },
                KnownRoot::Marked {
                    mark: found,
                    folder: at,
                },
            ) if mark == found => match (folder, at) {
                // Known from when the mark alone was noted: it is noted whole by the next pass.
                (None, Some(_)) => Recognised::Itself,
                (Some(_), _) | (None, None) => Recognised::Copy,
            },
            (KnownRoot::Marked { .. } | KnownRoot::Inode(_) | KnownRoot::Address(_), _) => {
                Recognised::Other
            }
        }
    }

    /// The mark, where it bears one.
    #[must_use]
    pub fn mark(&self) -> Option<&str> {
        match self {
            KnownRoot::Marked { mark, .. } => Some(mark),
            KnownRoot::Inode(_) | KnownRoot::Address(_) => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn marked(mark: &str, folder: Option<&str>) -> KnownRoot {
        KnownRoot::Marked {
            mark: mark.into(),
            folder: folder.map(str::to_owned),
        }
    }

    #[test]
    fn a_copy_is_told_from_the_folder_by_what_no_copy_has() {
        let known = marked("m", Some("7.1.2"));
        assert_eq!(known.recognises(&known), Recognised::Itself);
        assert_eq!(
            known.recognises(&marked("m", Some("8.1.2"))),
            Recognised::Copy
        );
        // On another disk, which gives no lasting number.
        assert_eq!(known.recognises(&marked("m", None)), Recognised::Copy);
        assert_eq!(marked("m", None).recognises(&known), Recognised::Itself);
        for other in [
            marked("n", Some("7.1.2")),
            KnownRoot::Inode(7),
            KnownRoot::Address("https://a/".into()),
        ] {
            assert_eq!(known.recognises(&other), Recognised::Other);
            assert_eq!(other.recognises(&known), Recognised::Other);
        }
    }
}
