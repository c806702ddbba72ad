//! A secret in a file that only its owner may read.

use std::fs;
use std::io;
use std::path::PathBuf;

use crate::home::Home;
use katabatic_sides::private_files::write_private;
use katabatic_sides::secret::Secret;

fn file(home: &Home, account: &str) -> PathBuf {
    home.secrets().join(account)
}

pub(super) fn keep(home: &Home, account: &str, secret: &Secret) -> io::Result<()> {
    write_private(&file(home, account), secret.reveal().as_bytes())
}

pub(super) fn recall(home: &Home, account: &str) -> io::Result<Secret> {
    let file = file(home, account);
    katabatic_sides::private_files::check_private(&file)?;
    fs::read_to_string(file).map(Secret::new)
}

pub(super) fn forget(home: &Home, account: &str) -> io::Result<()> {
    remove(&file(home, account))
}

/// Removes a file; one that is not there is removed already.
pub(super) fn remove(file: &std::path::Path) -> io::Result<()> {
    match fs::remove_file(file) {
        Err(why) if why.kind() != io::ErrorKind::NotFound => Err(why),
        _ => Ok(()),
    }
}
