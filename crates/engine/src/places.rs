//! Looking at places by hand: what a folder holds, and which folders are large. Nothing is changed, no lane is needed.

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::sync::Arc;

use katabatic_core::{EditTime, Entry, Kind, Listing, OddKind, RelPath, Stamp};
use tokio::sync::mpsc;

use crate::config::Config;
use crate::open::{account_client, address_of, known_server};
use crate::{Class, Error, Home};
use katabatic_core::place::Place;
use katabatic_core::place::far_place;
use katabatic_sides::account::AccountFolder;
use katabatic_sides::explain::explain;
use katabatic_sides::side_error::Away;
use katabatic_sides::stop::Stop;
use katabatic_sides::{Found, SideError, is_own};

/// One member of a folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Member {
    /// Its name.
    pub name: String,
    /// What it is.
    pub kind: Kind,
    /// Length in bytes; 0 for anything but files.
    pub size: u64,
    /// When it was edited, or else received, where that is known.
    pub at: Option<EditTime>,
}

/// What lies in a folder and everything below it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Sizes {
    /// Files in it, at any depth.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// The folders in it, by name.
    pub folders: BTreeMap<String, Sizes>,
    /// Folders, at any depth, that could not be listed whole, and why.
    pub unknown: Vec<String>,
}

impl Sizes {
    fn add(&mut self, path: &RelPath, entry: &Entry) {
        let mut at = self;
        let parts: Vec<&str> = path.parts().collect();
        let folders = if entry.kind == Kind::Folder {
            &parts[..]
        } else {
            &parts[..parts.len().saturating_sub(1)]
        };
        let (files, bytes) = match entry.kind {
            Kind::File => (1, entry.size),
            _ => (0, 0),
        };
        at.files += files;
        at.bytes = at.bytes.saturating_add(bytes);
        for part in folders {
            at = at.folders.entry((*part).to_owned()).or_default();
            at.files += files;
            at.bytes = at.bytes.saturating_add(bytes);
        }
    }
}

/// A folder of an account, behind nothing but its account.
fn far_side(
    home: &Home,
    config: &Config,
    account: &str,
    path: &RelPath,
    stop: &Stop,
) -> Result<Arc<dyn AccountFolder>, Error> {
    let account = config.account(account)?;
    let client = account_client(home, account, stop)?;
    // Names are shown as lanes read them.
    let known = known_server(&home.open_ledger()?, account)?;
    Ok(client.folder(path.clone(), ("none", "none"), &known))
}

fn far_failed(config: &Config, account: &str, path: &RelPath, error: &SideError) -> Error {
    let place = far_place(account, path);
    if matches!(error, SideError::Missing)
        || matches!(error, SideError::NotThere(said) if said.kind == Away::NoFolder)
    {
        return Error::new(
            Class::NotThere,
            format!("looking at {place}"),
            match error {
                SideError::NotThere(said) => said.why.clone(),
                _ => "nothing is there".to_owned(),
            },
            format!("See what there is above it: katabatic list @{account}"),
        );
    }
    match config.account(account).and_then(address_of) {
        Ok(address) => explain(account, &address, error),
        Err(other) => other,
    }
}

fn local_failed(path: &Path, error: &std::io::Error) -> Error {
    let class = match error.kind() {
        std::io::ErrorKind::NotFound | std::io::ErrorKind::NotADirectory => Class::NotThere,
        _ => Class::Failed,
    };
    Error::new(
        class,
        format!("looking at {}", path.display()),
        error.to_string(),
        "Name a folder that is there and may be read. Is the drive plugged in and mounted?",
    )
}

/// What a folder holds, in the order of names; the tool's own folder is left out.
///
/// # Errors
/// Where the folder cannot be listed whole.
pub async fn list(
    home: &Home,
    config: &Config,
    place: &Place,
    stop: &Stop,
) -> Result<Vec<Member>, Error> {
    let mut members = match place {
        Place::Local(path) => list_local(path).map_err(|error| local_failed(path, &error))?,
        Place::Far { account, path } => {
            let side = far_side(home, config, account, path, stop)?;
            let failed = |error| far_failed(config, account, path, &error);
            side.root().await.map_err(failed)?;
            let found = side.members_of(&RelPath::root()).await.map_err(failed)?;
            found
                .into_iter()
                .map(|(name, entry)| Member {
                    name,
                    kind: entry.kind,
                    size: entry.size,
                    at: entry.edited.or(entry.received),
                })
                .collect()
        }
    };
    members.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(members)
}

/// A name as it can be written: bytes that are no text as `\xff`.
fn written(name: &OsStr) -> String {
    match name.to_str() {
        Some(name) => name.to_owned(),
        None => name.as_bytes().escape_ascii().to_string(),
    }
}

fn kind_of(meta: &std::fs::Metadata) -> Kind {
    let kind = meta.file_type();
    if kind.is_dir() {
        Kind::Folder
    } else if kind.is_file() {
        Kind::File
    } else if kind.is_symlink() {
        Kind::Odd(OddKind::Link)
    } else {
        Kind::Odd(OddKind::Own)
    }
}

fn list_local(path: &Path) -> std::io::Result<Vec<Member>> {
    let mut members = Vec::new();
    for entry in std::fs::read_dir(path)? {
        let entry = entry?;
        let name = written(&entry.file_name());
        if is_own(&name) {
            continue;
        }
        // A link is a link here, whatever it leads to.
        let meta = entry.metadata()?;
        let modified = meta
            .mtime()
            .saturating_mul(1_000_000_000)
            .saturating_add(meta.mtime_nsec());
        let kind = kind_of(&meta);
        members.push(Member {
            name,
            kind,
            size: if kind == Kind::File { meta.len() } else { 0 },
            at: Some(EditTime(modified)),
        });
    }
    Ok(members)
}

/// How large the folders of a place are.
///
/// # Errors
/// Where the place is not there. A folder in it that cannot be listed whole is named in the answer instead.
pub async fn sizes(
    home: &Home,
    config: &Config,
    place: &Place,
    stop: &Stop,
) -> Result<Sizes, Error> {
    match place {
        Place::Local(path) => {
            let mut sizes = Sizes::default();
            let device = std::fs::metadata(path)
                .map_err(|error| local_failed(path, &error))?
                .dev();
            add_local(path, &RelPath::root(), device, &mut sizes)
                .map_err(|error| local_failed(path, &error))?;
            Ok(sizes)
        }
        Place::Far { account, path } => {
            let side = far_side(home, config, account, path, stop)?;
            let failed = |error| far_failed(config, account, path, &error);
            side.root().await.map_err(failed)?;
            let (found, mut inbox) = mpsc::channel(1024);
            let scanning = tokio::spawn(async move { side.scan(found).await });
            let mut sizes = Sizes::default();
            while let Some(found) = inbox.recv().await {
                match found {
                    Found::Entry(path, entry) => {
                        if let Listing::Incomplete(why) = &entry.listing {
                            sizes.unknown.push(format!("{path}: {why}"));
                        }
                        sizes.add(&path, &entry);
                    }
                    Found::Root(Listing::Incomplete(why)) => {
                        sizes.unknown.push(format!("the folder itself: {why}"));
                    }
                    Found::Root(_) | Found::Unusable(_) | Found::Own(_) => {}
                }
            }
            match scanning.await {
                Ok(Ok(())) => Ok(sizes),
                Ok(Err(error)) => Err(failed(error)),
                Err(error) => Err(failed(SideError::Failed(error.to_string()))),
            }
        }
    }
}

fn add_local(root: &Path, at: &RelPath, device: u64, sizes: &mut Sizes) -> std::io::Result<()> {
    for entry in std::fs::read_dir(root.join(at.as_str()))? {
        let entry = entry?;
        let name = written(&entry.file_name());
        let Ok(path) = at.join(&name) else {
            continue;
        };
        let meta = match entry.metadata() {
            Ok(meta) if !is_own(&name) => meta,
            _ => continue,
        };
        let kind = kind_of(&meta);
        sizes.add(
            &path,
            &Entry {
                kind,
                ..Entry::file(meta.len(), Stamp::new(""))
            },
        );
        if kind != Kind::Folder {
            continue;
        }
        if meta.dev() != device {
            sizes
                .unknown
                .push(format!("{path}: another file system is mounted there"));
        } else if let Err(why) = add_local(root, &path, device, sizes) {
            sizes.unknown.push(format!("{path}: {why}"));
        }
    }
    Ok(())
}
