//! Files and folders that are their owner's alone, and names that nobody guesses.

use std::fs;
use std::io::Write;
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt};
use std::path::Path;

use katabatic_core::Error;

/// Random hexadecimal digits, two a byte.
///
/// # Errors
/// Where the system has no randomness to give.
pub fn random_hex(bytes: usize) -> Result<String, Error> {
    let mut buffer = vec![0u8; bytes];
    getrandom::fill(&mut buffer).map_err(|why| {
        Error::failed(
            "making a unique name",
            why,
            "Try again; the system gave no random bytes.",
        )
    })?;
    Ok(buffer.iter().map(|byte| format!("{byte:02x}")).collect())
}

/// Makes a folder that only its owner may enter.
///
/// # Errors
/// Where it cannot be made.
pub fn private_folder(dir: &Path) -> Result<(), Error> {
    fs::DirBuilder::new()
        .recursive(true)
        .mode(0o700)
        .create(dir)
        .map_err(|why| {
            Error::failed(
                format!("making the folder {}", dir.display()),
                why,
                "Choose another with --home DIR.",
            )
        })
}

/// Makes sure that nobody else can write a file or a folder of ours; one that is not there yet is fine.
///
/// # Errors
/// Says who could, and how to put it right.
pub fn check_ours(path: &Path) -> Result<(), Error> {
    let Ok(meta) = fs::metadata(path) else {
        return Ok(());
    };
    let refused = |why: String, next: String| {
        Err(Error::failed(
            format!("using {}", path.display()),
            why,
            next,
        ))
    };
    let us = rustix::process::geteuid().as_raw();
    if meta.uid() != us {
        return refused(
            format!("it belongs to another user (number {}), who could change what this program does", meta.uid()),
            "Run the program as that user (root: --for USER), or name a folder of your own with --home DIR.".into(),
        );
    }
    if meta.mode() & 0o022 != 0 {
        return refused(
            format!(
                "others can write it (its mode is {:o}), and could change what this program does",
                meta.mode() & 0o777
            ),
            format!(
                "Look at what it holds, then take that right away: chmod go-w {}",
                katabatic_core::words::typed(&path.to_string_lossy())
            ),
        );
    }
    Ok(())
}

/// Makes sure that a secret's file is nobody else's to read or to write.
///
/// # Errors
/// Says so where it is.
pub fn check_private(path: &Path) -> std::io::Result<()> {
    let meta = fs::metadata(path)?;
    let us = rustix::process::geteuid().as_raw();
    if meta.uid() == us && meta.mode() & 0o077 == 0 {
        return Ok(());
    }
    Err(std::io::Error::new(
        std::io::ErrorKind::PermissionDenied,
        format!(
            "others can read or write {} (its mode is {:o}); take that right away: chmod go-rwx, and change the password",
            path.display(),
            meta.mode() & 0o777
        ),
    ))
}

/// Writes a file that only its owner may read, whole or not at all.
///
/// # Errors
/// As the file system says.
pub fn write_private(path: &Path, content: &[u8]) -> std::io::Result<()> {
    let beside = path.with_extension(format!("new-{}", std::process::id()));
    let mut file = fs::OpenOptions::new()
        .write(true)
        .create(true)
        .truncate(true)
        .mode(0o600)
        .open(&beside)?;
    file.write_all(content)?;
    file.sync_all()?;
    fs::rename(&beside, path)?;
    fs::File::open(path.parent().unwrap_or(Path::new("/")))?.sync_all()
}
