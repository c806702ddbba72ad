//! Places as people write them: `~/Scores`, `@office/Scores`. An address is never guessed.

use std::fmt;
use std::path::{Path, PathBuf};

use crate::RelPath;
use crate::did_you_mean::did_you_mean;

use crate::Error;

/// Somewhere files are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Place {
    /// A folder or file of this computer; absolute, with links resolved as far as it exists.
    Local(PathBuf),
    /// A folder or file of an account.
    Far {
        /// The account's name.
        account: String,
        /// The path below the account's address.
        path: RelPath,
    },
}

impl fmt::Display for Place {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Place::Local(path) => write!(out, "{}", path.display()),
            Place::Far { account, path } => out.write_str(&far_place(account, path)),
        }
    }
}

impl Place {
    /// The folder or file of this computer, where it is one.
    #[must_use]
    pub fn local(&self) -> Option<&Path> {
        match self {
            Place::Local(path) => Some(path),
            Place::Far { .. } => None,
        }
    }

    /// The account it is a folder or file of, where it is one of an account.
    #[must_use]
    pub fn account(&self) -> Option<&str> {
        match self {
            Place::Local(_) => None,
            Place::Far { account, .. } => Some(account),
        }
    }

    /// The place of a path in this folder.
    #[must_use]
    pub fn join(&self, below: &RelPath) -> Place {
        match self {
            Place::Local(folder) if below.is_root() => Place::Local(folder.clone()),
            Place::Local(folder) => Place::Local(folder.join(below.as_str())),
            Place::Far { account, path } => Place::Far {
                account: account.clone(),
                path: path.joined(below),
            },
        }
    }

    /// Whether it is this folder or lies in it, by the names alone.
    #[must_use]
    pub fn is_within(&self, folder: &Place) -> bool {
        match (self, folder) {
            (Place::Local(path), Place::Local(folder)) => path.starts_with(folder),
            (
                Place::Far { account, path },
                Place::Far {
                    account: other,
                    path: folder,
                },
            ) => account == other && path.is_within(folder),
            _ => false,
        }
    }

    /// The path from a folder down to this place, where it lies in that folder.
    #[must_use]
    pub fn below(&self, folder: &Place) -> Option<String> {
        if !self.is_within(folder) {
            return None;
        }
        match (self, folder) {
            (Place::Local(path), Place::Local(folder)) => {
                Some(path.strip_prefix(folder).ok()?.to_str()?.to_owned())
            }
            (Place::Far { path, .. }, Place::Far { path: folder, .. }) => {
                let below = &path.as_str()[folder.as_str().len()..];
                Some(below.trim_start_matches('/').to_owned())
            }
            _ => None,
        }
    }

    /// Understands a place; `accounts` are the names that exist.
    ///
    /// # Errors
    /// An account that does not exist, a path that could leave its root, or a local path that looks as if an account
    /// was meant.
    pub fn parse(text: &str, accounts: &[String]) -> Result<Place, Error> {
        let what = || format!("the place {text}");
        if text.is_empty() {
            return Err(Error::usage(
                "a place",
                "it is empty",
                "Write it as a local path, or as @ACCOUNT/FOLDER.",
            ));
        }
        if let Some(rest) = text.strip_prefix('@') {
            let (account, path) = rest.split_once('/').unwrap_or((rest, ""));
            if !accounts.iter().any(|name| name == account) {
                return Err(Error::usage(
                    what(),
                    format!(
                        "there is no account @{account}; {}{}",
                        meant(account, accounts),
                        known(accounts)
                    ),
                    "For a local folder whose name begins with @, write ./@NAME.",
                ));
            }
            let path = RelPath::parse(path.trim_matches('/')).map_err(|why| {
                Error::usage(
                    what(),
                    why.to_string(),
                    "Write it as @ACCOUNT/FOLDER/FOLDER.",
                )
            })?;
            return Ok(Place::Far {
                account: account.to_owned(),
                path,
            });
        }
        let first = text.split('/').next().unwrap_or("");
        if accounts.iter().any(|name| name == first) && !Path::new(first).exists() {
            return Err(Error::usage(
                what(),
                format!("there is no {first} here, but there is an account of that name"),
                format!("Did you mean @{text}?"),
            ));
        }
        Ok(Place::Local(absolute(Path::new(text))))
    }
}

/// The account that may have been meant, as a question before the others.
fn meant(typed: &str, accounts: &[String]) -> String {
    let known: Vec<&str> = accounts.iter().map(String::as_str).collect();
    did_you_mean(typed, &known).map_or_else(String::new, |meant| format!("did you mean @{meant}? "))
}

fn known(accounts: &[String]) -> String {
    if accounts.is_empty() {
        return "there are no accounts yet (katabatic account add)".into();
    }
    format!(
        "there are {}",
        accounts
            .iter()
            .map(|name| format!("@{name}"))
            .collect::<Vec<_>>()
            .join(", ")
    )
}

/// The absolute path, with links resolved in the part that exists.
#[must_use]
pub fn absolute(path: &Path) -> PathBuf {
    let path = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    let mut rest = Vec::new();
    let mut above = path.as_path();
    loop {
        if let Ok(real) = above.canonicalize() {
            return rest.iter().rev().fold(real, |path, part| path.join(part));
        }
        match (above.parent(), above.file_name()) {
            (Some(parent), Some(name)) => {
                rest.push(name.to_owned());
                above = parent;
            }
            _ => return path,
        }
    }
}

/// A folder of an account as people write it.
#[must_use]
pub fn far_place(account: &str, path: &RelPath) -> String {
    if path.is_root() {
        format!("@{account}/")
    } else {
        format!("@{account}/{path}")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_is_never_guessed() {
        let accounts = vec!["office".to_owned()];
        let far = |path: &str| Place::Far {
            account: "office".into(),
            path: RelPath::parse(path).unwrap(),
        };
        assert_eq!(
            Place::parse("@office/Scores/", &accounts),
            Ok(far("Scores"))
        );
        assert_eq!(Place::parse("@office", &accounts), Ok(far("")));
        let unknown = Place::parse("@ofice/Scores", &accounts).unwrap_err();
        assert!(unknown.why.contains("there are @office"), "{unknown:?}");
        let forgotten = Place::parse("office/Scores", &accounts).unwrap_err();
        assert_eq!(forgotten.next, "Did you mean @office/Scores?");
        assert!(matches!(
            Place::parse("./@office", &accounts),
            Ok(Place::Local(_))
        ));
        assert!(Place::parse("@office/../up", &accounts).is_err());
    }

    #[test]
    fn fuzz_places() {
        let accounts = vec!["office".to_owned()];
        katabatic_fuzz::each_text("places", |text| match Place::parse(text, &accounts) {
            Ok(Place::Local(path)) => assert!(path.is_absolute(), "{text:?}"),
            Ok(Place::Far { path, .. }) => {
                assert!(
                    path.parts()
                        .all(|part| part != ".." && !part.contains('\0'))
                );
            }
            Err(_) => {}
        });
    }
}
