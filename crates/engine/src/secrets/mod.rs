//! Passwords and tokens, kept apart from everything else, in one of three ways.
//!
//! The desktop's keyring is best where one answers; a file that only its owner may read works with nobody signed in;
//! an encrypted file needs its passphrase once per sign-in of the person. Which one an account uses stands in the
//! config, the secret itself never does.

mod file;
mod keyring;
mod passphrase;

use crate::home::Home;
use crate::{Class, Error};
pub use katabatic_sides::secret::{Keeping, Secret};

fn failed(what: String, why: impl std::fmt::Display, next: &str) -> Error {
    Error::failed(what, why, next)
}

/// Where secrets are best kept here: in the keyring where one answers and is open, else in a file.
#[must_use]
pub fn best() -> Keeping {
    if keyring::answers() {
        Keeping::Keyring
    } else {
        Keeping::File
    }
}

/// Keeps the secret of an account.
///
/// # Errors
/// Where it cannot be kept in this way.
pub fn keep(home: &Home, account: &str, keeping: Keeping, secret: &Secret) -> Result<(), Error> {
    let what = || format!("keeping the secret of @{account}");
    match keeping {
        Keeping::File => file::keep(home, account, secret)
            .map_err(|why| failed(what(), why, "Look at the rights of the tool's own folder.")),
        Keeping::Keyring => keyring::keep(home, account, secret).map_err(|why| {
            failed(
                what(),
                why,
                "Unlock the keyring, or choose another way: --secrets file.",
            )
        }),
        Keeping::Passphrase => passphrase::keep(home, account, secret),
    }
}

/// The secret of an account.
///
/// # Errors
/// [`Class::Refused`] where there is none, since then nobody can sign in.
pub fn recall(home: &Home, account: &str, keeping: Keeping) -> Result<Secret, Error> {
    let refused = |why: String| {
        Error::new(
            Class::Refused,
            format!("signing in to @{account}"),
            why,
            format!(
                "Sign in again: katabatic account sign-in {account}. Lanes and files stay as they are."
            ),
        )
    };
    match keeping {
        Keeping::File => file::recall(home, account).map_err(|why| {
            refused(format!(
                "its secret could not be read from its file ({why})"
            ))
        }),
        Keeping::Keyring => keyring::recall(home, account).map_err(|why| {
            refused(format!(
                "its secret could not be had from the keyring: {why}"
            ))
        }),
        Keeping::Passphrase => passphrase::recall(home, account)?
            .ok_or_else(|| refused("its encrypted secret is not there".into())),
    }
}

/// Forgets the secret of an account; one that is not there is forgotten already.
///
/// # Errors
/// Where it cannot be removed.
pub fn forget(home: &Home, account: &str, keeping: Keeping) -> Result<(), Error> {
    let what = || format!("forgetting the secret of @{account}");
    match keeping {
        Keeping::File => file::forget(home, account)
            .map_err(|why| failed(what(), why, "Remove the file by hand.")),
        Keeping::Keyring => keyring::forget(home, account)
            .map_err(|why| failed(what(), why, "Remove it in the keyring's own program.")),
        Keeping::Passphrase => passphrase::forget(home, account)
            .map_err(|why| failed(what(), why, "Remove the file by hand.")),
    }
}
