//! Who has an account here, what is shared with whom, and what each may do where.
//!
//! A user sees one tree of folders. It is put together from *mounts*: the user's own folder, and the folders that
//! others share with them. Every right is a right on a mount.

use std::path::PathBuf;
use std::str::FromStr;

/// Somebody with an account on the stand-in.
#[derive(Clone, PartialEq, Eq)]
pub struct User {
    /// The name; also the name of the folder with their files.
    pub name: String,
    pub(crate) password: String,
    /// Whether signing in takes a one-time code too. Basic sign-in then wants an app password.
    pub second_step: bool,
    pub(crate) app_passwords: Vec<String>,
    /// The name of the account behind the sign-in (RFC 5397), where that is not the user's own.
    pub principal: String,
}

impl std::fmt::Debug for User {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(out, "User({})", self.name)
    }
}

/// A user, a group or a shared folder that was asked for in words nobody understands.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PeopleError {
    /// A user that was not given as `NAME:PASSWORD`.
    #[error(
        "a user is given as NAME:PASSWORD, with a name of letters, digits, `-`, `_` or `.` that does not begin with a dot"
    )]
    User,
    /// A group that was not given as `NAME=USER,USER`.
    #[error("a group is given as NAME=USER,USER")]
    Group,
    /// A share that was not given as `FOLDER=WHO,WHO`.
    #[error(
        "a shared folder is given as FOLDER=WHO,WHO:read, each a user or a group; the first one owns it, and `:read` may look only"
    )]
    Share,
    /// Somebody who is not there.
    #[error("there is no user or group {0}")]
    Nobody(String),
}

fn is_name(name: &str) -> bool {
    let fine = |c: char| c.is_alphanumeric() || "-_.".contains(c);
    !name.is_empty() && !name.starts_with('.') && name.chars().all(fine)
}

impl User {
    /// A user of this name and password.
    ///
    /// # Errors
    /// [`PeopleError::User`] where the name could not be a folder's.
    pub fn new(name: &str, password: &str) -> Result<User, PeopleError> {
        if !is_name(name) {
            return Err(PeopleError::User);
        }
        Ok(User {
            name: name.to_owned(),
            password: password.to_owned(),
            second_step: false,
            app_passwords: Vec::new(),
            principal: name.to_owned(),
        })
    }

    /// The same user with a second step at sign-in.
    #[must_use]
    pub fn with_second_step(mut self) -> User {
        self.second_step = true;
        self
    }

    /// The same user, behind whose sign-in stands another account.
    #[must_use]
    pub fn with_principal(mut self, principal: &str) -> User {
        self.principal = principal.to_owned();
        self
    }

    /// The same user with a password for one program, which asks for no second step.
    #[must_use]
    pub fn with_app_password(mut self, password: &str) -> User {
        self.app_passwords.push(password.to_owned());
        self
    }
}

impl FromStr for User {
    type Err = PeopleError;

    fn from_str(text: &str) -> Result<User, PeopleError> {
        let (name, password) = text.split_once(':').ok_or(PeopleError::User)?;
        User::new(name, password)
    }
}

/// Several users under one name: `choir=ada,bela`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Group {
    /// The group's name.
    pub name: String,
    /// The users in it.
    pub members: Vec<String>,
}

impl FromStr for Group {
    type Err = PeopleError;

    fn from_str(text: &str) -> Result<Group, PeopleError> {
        let (name, members) = text.split_once('=').ok_or(PeopleError::Group)?;
        let members: Vec<String> = members.split(',').map(str::to_owned).collect();
        if !is_name(name) || !members.iter().all(|name| is_name(name)) {
            return Err(PeopleError::Group);
        }
        Ok(Group {
            name: name.to_owned(),
            members,
        })
    }
}

/// A folder that lies at the top of several users' trees: `Season=librarian,choir:read`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Share {
    /// The folder's name.
    pub folder: String,
    /// Users and groups, and whether each may only look; the first one owns it.
    pub with: Vec<(String, bool)>,
}

impl FromStr for Share {
    type Err = PeopleError;

    fn from_str(text: &str) -> Result<Share, PeopleError> {
        let (folder, with) = text.split_once('=').ok_or(PeopleError::Share)?;
        let fine = !folder.is_empty() && !folder.starts_with('.') && !folder.contains('/');
        let with: Vec<(String, bool)> = with
            .split(',')
            .map(|who| match who.strip_suffix(":read") {
                Some(who) => (who.to_owned(), true),
                None => (who.to_owned(), false),
            })
            .collect();
        if !fine || !with.iter().all(|(who, _)| is_name(who)) {
            return Err(PeopleError::Share);
        }
        Ok(Share {
            folder: folder.to_owned(),
            with,
        })
    }
}

/// A part of a user's tree that lies in one folder of the disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Mount {
    /// Where it hangs in the user's tree: "" for the top, else one name.
    pub(crate) at: String,
    pub(crate) disk: PathBuf,
    pub(crate) writable: bool,
    /// Whose it is.
    pub(crate) owner: String,
}

/// Everybody, and what they share.
#[derive(Debug)]
pub(crate) struct People {
    pub(crate) users: Vec<User>,
    groups: Vec<Group>,
    shares: Vec<Share>,
    several_roots: bool,
}

/// Where a user's own files hang when there are several roots.
pub(crate) const OWN_ROOT: &str = "files";
const SHARED: &str = "shared folders";

impl People {
    pub(crate) fn new(
        users: Vec<User>,
        groups: Vec<Group>,
        shares: Vec<Share>,
        several_roots: bool,
    ) -> Result<People, PeopleError> {
        let people = People {
            users,
            groups,
            shares,
            several_roots,
        };
        let named = people
            .groups
            .iter()
            .flat_map(|group| group.members.iter().map(|name| (name, false)))
            .chain(
                people
                    .shares
                    .iter()
                    .flat_map(|share| share.with.iter().map(|(name, _)| (name, true))),
            );
        for (name, group_too) in named {
            let user = people.users.iter().any(|user| user.name == *name);
            let group = group_too && people.groups.iter().any(|group| group.name == *name);
            if !user && !group {
                return Err(PeopleError::Nobody(name.clone()));
            }
        }
        Ok(people)
    }

    /// The tree of a user; `root` is where everybody's files lie.
    pub(crate) fn mounts(&self, root: &std::path::Path, user: &str) -> Vec<Mount> {
        let top = |at: &str, disk: PathBuf, writable| Mount {
            at: at.to_owned(),
            disk,
            writable,
            owner: user.to_owned(),
        };
        let mut mounts = if self.several_roots {
            vec![
                top("", root.join(".standin/top"), false),
                top(OWN_ROOT, root.join(user), true),
            ]
        } else {
            vec![top("", root.join(user), true)]
        };
        for share in &self.shares {
            let rights: Vec<bool> = share
                .with
                .iter()
                .filter(|(who, _)| self.is_or_holds(who, user))
                .map(|(_, read_only)| *read_only)
                .collect();
            if !rights.is_empty() {
                mounts.push(Mount {
                    at: share.folder.clone(),
                    disk: root.join(SHARED).join(&share.folder),
                    writable: rights.contains(&false),
                    owner: share.with[0].0.clone(),
                });
            }
        }
        mounts
    }

    /// Every folder that must be there on the disk.
    pub(crate) fn folders(&self, root: &std::path::Path) -> Vec<PathBuf> {
        let users = self.users.iter().map(|user| root.join(&user.name));
        let shares = self
            .shares
            .iter()
            .map(|share| root.join(SHARED).join(&share.folder));
        users.chain(shares).collect()
    }

    fn is_or_holds(&self, who: &str, user: &str) -> bool {
        who == user
            || self
                .groups
                .iter()
                .any(|group| group.name == who && group.members.iter().any(|name| name == user))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_best_right_of_a_user_counts() {
        let users = ["ada", "bela", "cleo"].map(|name| User::new(name, "x").unwrap());
        let people = |share: &str| {
            let group = vec!["choir=ada,bela".parse().unwrap()];
            People::new(users.to_vec(), group, vec![share.parse().unwrap()], false)
        };
        let season = people("Season=cleo,choir:read,bela").unwrap();
        let right = |user: &str| {
            let mounts = season.mounts("/data".as_ref(), user);
            let mount = mounts
                .into_iter()
                .find(|mount| mount.at == "Season")
                .unwrap();
            assert_eq!(mount.owner, "cleo");
            mount.writable
        };
        assert!(right("cleo") && right("bela") && !right("ada"));
        assert_eq!(
            people("Season=dora").unwrap_err(),
            PeopleError::Nobody("dora".into())
        );
        for wrong in ["Season", "=ada", "a/b=ada", ".x=ada", "Season=ada,"] {
            assert_eq!(wrong.parse::<Share>(), Err(PeopleError::Share), "{wrong}");
        }
    }

    #[test]
    fn a_user_is_a_name_and_a_password() {
        assert!("librarian:se:cret".parse::<User>().is_ok());
        for wrong in ["no-password", "../up:x", ":x", ".dot:x"] {
            assert!(wrong.parse::<User>().is_err(), "{wrong}");
        }
    }
}
