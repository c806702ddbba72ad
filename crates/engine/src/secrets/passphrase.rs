//! A secret in an encrypted file (age-encryption.org/v1).
//!
//! The passphrase protects one key (scrypt), and each secret is encrypted to that key. So a token can be renewed
//! without asking anybody, and the passphrase is asked for once per sign-in of the person: the opened key lies in the
//! run-time folder of the session, in memory, and goes with it.

use std::fs;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::PathBuf;
use std::sync::PoisonError;

use age::secrecy::{ExposeSecret, SecretString};
use age::x25519::{Identity, Recipient};

use super::file::remove;
use crate::home::Home;
use crate::{Class, Error};
use katabatic_sides::private_files::check_private;
use katabatic_sides::private_files::private_folder;
use katabatic_sides::private_files::write_private;
use katabatic_sides::secret::Secret;

/// Account names never begin with a dot.
fn key_file(home: &Home) -> PathBuf {
    home.secrets().join(".key.age")
}

fn recipient_file(home: &Home) -> PathBuf {
    home.secrets().join(".key.public")
}

fn secret_file(home: &Home, account: &str) -> PathBuf {
    home.secrets().join(format!("{account}.age"))
}

/// Where the opened key lies until the person signs out; none where the system gives no folder for that.
fn opened_file(home: &Home) -> Option<PathBuf> {
    let folder = PathBuf::from(std::env::var_os("XDG_RUNTIME_DIR")?);
    let meta = folder.metadata().ok()?;
    let mine = meta.uid() == rustix::process::geteuid().as_raw() && meta.mode() & 0o077 == 0;
    let home = blake3::hash(home.state().as_os_str().as_encoded_bytes()).to_hex();
    mine.then(|| {
        folder
            .join("katabatic")
            .join(format!("{}.key", &home[..16]))
    })
}

fn failed(what: &str, why: impl std::fmt::Display) -> Error {
    Error::failed(what, why, "Look at the rights of the tool's own folder.")
}

pub(super) fn keep(home: &Home, account: &str, secret: &Secret) -> Result<(), Error> {
    let what = "encrypting the secret";
    let recipient = match fs::read_to_string(recipient_file(home)) {
        Ok(text) => text
            .trim()
            .parse::<Recipient>()
            .map_err(|why| failed(what, why))?,
        Err(why) if why.kind() == io::ErrorKind::NotFound => make_key(home)?,
        Err(why) => return Err(failed(what, why)),
    };
    let encrypted =
        age::encrypt(&recipient, secret.reveal().as_bytes()).map_err(|why| failed(what, why))?;
    write_private(&secret_file(home, account), &encrypted).map_err(|why| failed(what, why))
}

fn make_key(home: &Home) -> Result<Recipient, Error> {
    let what = "making the key of the secrets";
    let passphrase = SecretString::from(home.ask_passphrase(true)?.reveal().to_owned());
    let identity = Identity::generate();
    let text = identity.to_string();
    let locked = age::encrypt(
        &age::scrypt::Recipient::new(passphrase),
        text.expose_secret().as_bytes(),
    )
    .map_err(|why| failed(what, why))?;
    let recipient = identity.to_public();
    write_private(&key_file(home), &locked)
        .and_then(|()| write_private(&recipient_file(home), recipient.to_string().as_bytes()))
        .map_err(|why| failed(what, why))?;
    remember(home, text.expose_secret());
    Ok(recipient)
}

/// Only a convenience: where it cannot be kept for other programs, the passphrase is asked for again.
fn remember(home: &Home, key: &str) {
    *home
        .opened_key
        .lock()
        .unwrap_or_else(PoisonError::into_inner) = Some(Secret::new(key.to_owned()));
    if let Some(file) = opened_file(home)
        && let Some(folder) = file.parent()
        && private_folder(folder).is_ok()
    {
        let _ = write_private(&file, key.as_bytes());
    }
}

fn opened(home: &Home) -> Option<Identity> {
    let known = home
        .opened_key
        .lock()
        .unwrap_or_else(PoisonError::into_inner)
        .clone();
    if let Some(key) = known {
        return key.reveal().trim().parse().ok();
    }
    let file = opened_file(home)?;
    check_private(&file).ok()?;
    Secret::new(fs::read_to_string(file).ok()?)
        .reveal()
        .trim()
        .parse()
        .ok()
}

pub(super) fn recall(home: &Home, account: &str) -> Result<Option<Secret>, Error> {
    let what = format!("opening the secret of @{account}");
    let encrypted = match fs::read(secret_file(home, account)) {
        Ok(encrypted) => encrypted,
        Err(why) if why.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(why) => return Err(failed(&what, why)),
    };
    let read = |identity: &Identity| {
        let bytes = age::decrypt(identity, &encrypted).ok()?;
        String::from_utf8(bytes).ok().map(Secret::new)
    };
    if let Some(secret) = opened(home).and_then(|identity| read(&identity)) {
        return Ok(Some(secret));
    }
    let identity = unlock(home, &what)?;
    read(&identity).map(Some).ok_or_else(|| {
        failed(
            &what,
            "it was encrypted to another key than the one that is here",
        )
    })
}

fn unlock(home: &Home, what: &str) -> Result<Identity, Error> {
    let locked = fs::read(key_file(home)).map_err(|why| failed(what, why))?;
    let passphrase = SecretString::from(home.ask_passphrase(false)?.reveal().to_owned());
    let bytes = age::decrypt(&age::scrypt::Identity::new(passphrase), &locked).map_err(|_| {
        Error::new(
            Class::Refused,
            what,
            "the passphrase is not right",
            "Try again. If nobody knows it any more, sign in again with another store: katabatic account sign-in NAME --secrets file.",
        )
    })?;
    let text = Secret::new(String::from_utf8(bytes).unwrap_or_default());
    remember(home, text.reveal());
    text.reveal()
        .trim()
        .parse()
        .map_err(|why: &str| failed(what, why))
}

pub(super) fn forget(home: &Home, account: &str) -> io::Result<()> {
    remove(&secret_file(home, account))
}
