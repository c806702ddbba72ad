//! Basic sign-in (RFC 7617).

use std::str::FromStr;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;

/// Somebody with an account on the stand-in.
#[derive(Clone, PartialEq, Eq)]
pub struct User {
    /// The name; also the name of the folder with their files.
    pub name: String,
    pub(crate) password: String,
}

impl std::fmt::Debug for User {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(out, "User({})", self.name)
    }
}

/// A user that was not given as `NAME:PASSWORD`.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error(
    "a user is given as NAME:PASSWORD, with a name of letters, digits, `-`, `_` or `.` that does not begin with a dot"
)]
pub struct UserError;

impl User {
    /// A user of this name and password.
    ///
    /// # Errors
    /// [`UserError`] where the name could not be a folder's.
    pub fn new(name: &str, password: &str) -> Result<User, UserError> {
        let fine = |c: char| c.is_alphanumeric() || "-_.".contains(c);
        if name.is_empty() || name.starts_with('.') || !name.chars().all(fine) {
            return Err(UserError);
        }
        Ok(User {
            name: name.to_owned(),
            password: password.to_owned(),
        })
    }
}

impl FromStr for User {
    type Err = UserError;

    fn from_str(text: &str) -> Result<User, UserError> {
        let (name, password) = text.split_once(':').ok_or(UserError)?;
        User::new(name, password)
    }
}

/// The user whose name and password an `Authorization` header holds.
pub(crate) fn signed_in<'u>(users: &'u [User], header: Option<&str>) -> Option<&'u User> {
    let (scheme, sent) = header?.split_once(' ')?;
    if !scheme.eq_ignore_ascii_case("basic") {
        return None;
    }
    let sent = String::from_utf8(STANDARD.decode(sent.trim()).ok()?).ok()?;
    let (name, password) = sent.split_once(':')?;
    users
        .iter()
        .find(|user| user.name == name && user.password == password)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_right_password_signs_in() {
        let users = vec![User::new("librarian", "se:cret").unwrap()];
        let header = |text: &str| format!("basic {}", STANDARD.encode(text));
        assert!(signed_in(&users, Some(&header("librarian:se:cret"))).is_some());
        assert!(signed_in(&users, Some(&header("librarian:secret"))).is_none());
        assert!(signed_in(&users, Some("Bearer x")).is_none());
        assert!(signed_in(&users, None).is_none());
        assert!("no-password".parse::<User>().is_err());
        assert!("../up:x".parse::<User>().is_err());
    }
}
