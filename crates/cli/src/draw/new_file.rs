//! Files that a command makes where it is told to: never over one that is there, and whole or not at all.

use std::fs;
use std::io::Write as _;
use std::path::Path;

use katabatic_engine::{Class, Error};

/// How a name ends, where it ends in one of these.
pub fn kind_of<'p>(to: &'p Path, kinds: &[&str]) -> Option<&'p str> {
    to.extension()?.to_str().filter(|kind| kinds.contains(kind))
}

/// Makes sure, before any work is done, that a file of one of these kinds can be made there.
pub fn check(to: &Path, kinds: &[&str]) -> Result<(), Error> {
    let what = || format!("writing {}", to.display());
    if kind_of(to, kinds).is_none() {
        let mut ends: Vec<String> = kinds.iter().map(|kind| format!(".{kind}")).collect();
        let last = ends.pop().unwrap_or_default();
        let ends = match ends.is_empty() {
            true => last,
            false => format!("{} or {last}", ends.join(", ")),
        };
        return Err(Error::usage(
            what(),
            "the name does not say what kind of file it is to be",
            format!("End it in {ends}."),
        ));
    }
    check_free(to)
}

/// Makes sure that nothing has the name yet.
pub fn check_free(to: &Path) -> Result<(), Error> {
    match to.exists() {
        true => Err(Error::usage(
            format!("writing {}", to.display()),
            "a file of that name is there already",
            "Name one that is not there yet.",
        )),
        false => Ok(()),
    }
}

/// Makes it. Somebody may have made a file of that name meanwhile: that one stays.
pub fn write(to: &Path, text: &str, besides: &str) -> Result<(), Error> {
    let written = fs::File::create_new(to).and_then(|mut file| {
        let whole = file.write_all(text.as_bytes());
        if whole.is_err() {
            // It is ours, and half a page would be taken for a whole one.
            let _ = fs::remove_file(to);
        }
        whole
    });
    written.map_err(|why| {
        Error::new(
            Class::Failed,
            format!("writing {}", to.display()),
            why.to_string(),
            format!("Name a place where you may write and nothing is yet. {besides}"),
        )
    })
}
