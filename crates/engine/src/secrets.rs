//! Passwords, kept apart from everything else, in files that only their owner may read.

use std::fs;
use std::path::PathBuf;

use crate::home::{Home, write_private};
use crate::{Class, Error};

/// A password that never shows itself, not even in a panic.
#[derive(Clone, PartialEq, Eq)]
pub struct Secret(String);

impl Secret {
    /// Keeps this text.
    #[must_use]
    pub fn new(text: String) -> Secret {
        Secret(text)
    }

    /// The text, for the one place that sends it.
    pub(crate) fn reveal(&self) -> &str {
        &self.0
    }
}

impl std::fmt::Debug for Secret {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.write_str("Secret(…)")
    }
}

fn file(home: &Home, account: &str) -> PathBuf {
    home.secrets().join(account)
}

/// Keeps the password of an account.
///
/// # Errors
/// Where the file cannot be written.
pub fn keep(home: &Home, account: &str, secret: &Secret) -> Result<(), Error> {
    write_private(&file(home, account), secret.0.as_bytes()).map_err(|why| {
        Error::failed(
            format!("keeping the password of @{account}"),
            why,
            "Look at the rights of the tool's own folder.",
        )
    })
}

/// The password of an account.
///
/// # Errors
/// [`Class::Refused`] where there is none, since then nobody can sign in.
pub fn recall(home: &Home, account: &str) -> Result<Secret, Error> {
    fs::read_to_string(file(home, account)).map(Secret).map_err(|why| {
        Error::new(
            Class::Refused,
            format!("signing in to @{account}"),
            format!("its password could not be read ({why})"),
            format!("Add it again: katabatic account remove {account}, then account add; lanes keep their files."),
        )
    })
}

/// Forgets the password of an account; one that is not there is forgotten already.
///
/// # Errors
/// Where the file cannot be removed.
pub fn forget(home: &Home, account: &str) -> Result<(), Error> {
    match fs::remove_file(file(home, account)) {
        Err(why) if why.kind() != std::io::ErrorKind::NotFound => Err(Error::failed(
            format!("forgetting the password of @{account}"),
            why,
            "Remove the file by hand.",
        )),
        _ => Ok(()),
    }
}
