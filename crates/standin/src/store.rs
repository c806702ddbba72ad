//! The files on disk: what a request's path means, version tags, and properties of the users' own.
//!
//! A version tag is made of a number this server gives to each version it writes (kept in an extended attribute, so
//! that it survives a restart and a `MOVE`) and of what the file system says, so that an edit by hand in the folder
//! gives a new tag too.

use std::fs::{self, Metadata};
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{SystemTime, UNIX_EPOCH};

use percent_encoding::percent_decode_str;
use rustix::fs::XattrFlags;

use crate::device_grant::random_text;
use crate::digests::Digests;
use crate::faults::{Mishap, Tags};
use crate::people::Mount;

const VERSION: &str = "user.standin.version";
const PROPERTIES: &str = "user.standin.properties";
const RESOURCE_ID: &str = "user.standin.id";

/// The folder of the server's own, in which no user's files lie.
const OWN: &str = ".standin";

pub(crate) struct Store {
    root: PathBuf,
    /// What the files hold.
    pub(crate) digests: Arc<Digests>,
    versions: AtomicU64,
    uploads: AtomicU64,
}

/// A property set by a client: its namespace, name and value, as XML that stands on its own.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Property {
    pub(crate) namespace: String,
    pub(crate) name: String,
    pub(crate) xml: String,
}

/// What a request's path means.
pub(crate) struct Place {
    /// The path from the user's root, unescaped, without slashes at its ends.
    pub(crate) path: String,
    pub(crate) disk: PathBuf,
    pub(crate) mount: Mount,
}

impl Store {
    pub(crate) fn new(root: &Path) -> io::Result<Store> {
        fs::create_dir_all(root.join(OWN).join("incoming"))?;
        fs::create_dir_all(root.join(OWN).join("top"))?;
        // Nanoseconds since 1970 keep the numbers of this run above those of every earlier one.
        let now = SystemTime::now()
            .duration_since(UNIX_EPOCH)
            .map_or(1, |since| since.as_nanos() as u64);
        Ok(Store {
            root: root.canonicalize()?,
            digests: Arc::default(),
            versions: AtomicU64::new(now),
            uploads: AtomicU64::new(now),
        })
    }

    pub(crate) fn root(&self) -> &Path {
        &self.root
    }

    /// A file of the server's own.
    pub(crate) fn own(&self, name: &str) -> PathBuf {
        self.root.join(OWN).join(name)
    }

    /// A name for a body that is still arriving.
    pub(crate) fn incoming(&self) -> PathBuf {
        let number = self.uploads.fetch_add(1, Ordering::Relaxed);
        self.own("incoming").join(number.to_string())
    }

    /// Marks a file as a version of its own.
    pub(crate) fn stamp(&self, path: &Path) -> io::Result<()> {
        let version = self.versions.fetch_add(1, Ordering::Relaxed).to_string();
        set(path, VERSION, version.as_bytes())
    }

    /// The place on disk that a request's path means; none where it would leave the user's tree, or lies in what is
    /// the server's own.
    pub(crate) fn resolve(
        &self,
        mounts: &[Mount],
        request_path: &str,
        tells_case: bool,
    ) -> Option<Place> {
        let mut parts = Vec::new();
        for part in request_path.split('/').filter(|part| !part.is_empty()) {
            let name = percent_decode_str(part).decode_utf8().ok()?.into_owned();
            if name == "." || name == ".." || name.contains(['/', '\0']) {
                return None;
            }
            parts.push(name);
        }
        let first = parts.first().map_or("", String::as_str);
        if [OWN, ".well-known"].contains(&first) {
            return None;
        }
        let mount = mounts
            .iter()
            .find(|mount| !mount.at.is_empty() && mount.at == first)
            .or_else(|| mounts.iter().find(|mount| mount.at.is_empty()))?;
        let below = usize::from(!mount.at.is_empty());
        let mut disk = mount.disk.clone();
        for name in &parts[below..] {
            let other = (!tells_case)
                .then(|| in_another_case(&disk, name))
                .flatten();
            disk.push(other.as_ref().unwrap_or(name));
            // A link made by hand in the folder must not open the rest of the disk.
            if disk.symlink_metadata().is_ok_and(|meta| meta.is_symlink()) {
                return None;
            }
        }
        Some(Place {
            path: parts.join("/"),
            disk,
            mount: mount.clone(),
        })
    }
}

/// The name that something of this name has in another case, where nothing has the name itself.
fn in_another_case(folder: &Path, name: &str) -> Option<String> {
    if folder.join(name).symlink_metadata().is_ok() {
        return None;
    }
    fs::read_dir(folder)
        .ok()?
        .filter_map(|entry| entry.ok()?.file_name().into_string().ok())
        .find(|other| other.to_lowercase() == name.to_lowercase())
}

/// The tag that a client is shown, without quotes, and whether it is weak; none where a fault keeps it back.
pub(crate) fn shown_tag(path: &Path, meta: &Metadata, mishap: &Mishap) -> Option<(String, bool)> {
    match mishap.tags {
        None => Some((tag(path, meta), false)),
        Some(Tags::Missing) => None,
        Some(Tags::Restless) => Some((random_text(), false)),
        // The counter starts at a time, which is not to be read from it.
        Some(Tags::Counted) => {
            let opaque = version_of(path).wrapping_mul(0x9e37_79b9_7f4a_7c15);
            Some((format!("{opaque:016x}"), false))
        }
        Some(Tags::Clock) => {
            let (modified, size) = (modified_nanos(meta), meta.size());
            Some((format!("{modified:x}-{size:x}"), false))
        }
        Some(Tags::Coarse) => Some((format!("{:x}-{:x}", meta.mtime(), meta.size()), false)),
        Some(Tags::Late) => {
            let age = SystemTime::now().duration_since(meta.modified().ok()?);
            let fresh = age.map_or(true, |age| age.as_secs() < 1);
            Some((tag(path, meta), fresh))
        }
    }
}

/// A tag as it stands in a header or a property.
pub(crate) fn quoted(tag: &(String, bool)) -> String {
    format!("{}\"{}\"", if tag.1 { "W/" } else { "" }, tag.0)
}

/// What a resource is known by wherever it is moved to (RFC 5842 §3.1); made when it is first asked for.
pub(crate) fn resource_id(path: &Path) -> String {
    let known = get(path, RESOURCE_ID).and_then(|id| String::from_utf8(id).ok());
    known.unwrap_or_else(|| {
        let id = new_uuid();
        // On a disk that keeps none, every answer is a new one, which no client can mistake for an old one.
        let _ = set(path, RESOURCE_ID, id.as_bytes());
        id
    })
}

/// A random UUID as a URN (RFC 9562 §5.4).
pub(crate) fn new_uuid() -> String {
    let hex = random_text();
    format!(
        "urn:uuid:{}-{}-4{}-a{}-{}",
        &hex[..8],
        &hex[8..12],
        &hex[13..16],
        &hex[17..20],
        &hex[20..32]
    )
}

/// A new version takes over what belongs to the resource and not to its content: properties and the id.
pub(crate) fn take_over(from: &Path, to: &Path) -> io::Result<()> {
    let properties = properties(from);
    if !properties.is_empty() {
        set_properties(to, &properties)?;
    }
    match get(from, RESOURCE_ID) {
        Some(id) => set(to, RESOURCE_ID, &id),
        None => Ok(()),
    }
}

/// The number of a version.
fn version_of(path: &Path) -> u64 {
    get(path, VERSION)
        .and_then(|text| String::from_utf8(text).ok()?.parse::<u64>().ok())
        .unwrap_or(0)
}

/// The version tag of a file, without quotes.
pub(crate) fn tag(path: &Path, meta: &Metadata) -> String {
    let version = version_of(path);
    format!("{version:x}-{:x}-{:x}", modified_nanos(meta), meta.size())
}

fn modified_nanos(meta: &Metadata) -> i64 {
    meta.mtime()
        .wrapping_mul(1_000_000_000)
        .wrapping_add(meta.mtime_nsec())
}

pub(crate) fn properties(path: &Path) -> Vec<Property> {
    let Some(text) = get(path, PROPERTIES).and_then(|bytes| String::from_utf8(bytes).ok()) else {
        return Vec::new();
    };
    let property = |line: &str| {
        let mut parts = line.split('\u{1f}').map(str::to_owned);
        Some(Property {
            namespace: parts.next()?,
            name: parts.next()?,
            xml: parts.next()?,
        })
    };
    text.split('\u{1e}').filter_map(property).collect()
}

pub(crate) fn set_properties(path: &Path, properties: &[Property]) -> io::Result<()> {
    let line = |property: &Property| {
        [&*property.namespace, &*property.name, &*property.xml].join("\u{1f}")
    };
    let text = properties
        .iter()
        .map(line)
        .collect::<Vec<_>>()
        .join("\u{1e}");
    set(path, PROPERTIES, text.as_bytes())
}

fn get(path: &Path, name: &str) -> Option<Vec<u8>> {
    let mut value = vec![0; 4096];
    let length = rustix::fs::lgetxattr(path, name, value.as_mut_slice()).ok()?;
    value.truncate(length);
    Some(value)
}

fn set(path: &Path, name: &str, value: &[u8]) -> io::Result<()> {
    Ok(rustix::fs::lsetxattr(
        path,
        name,
        value,
        XattrFlags::empty(),
    )?)
}

/// Copies a file or a whole folder, each file as a version of its own.
pub(crate) fn copy_tree(store: &Store, from: &Path, to: &Path, deep: bool) -> io::Result<()> {
    if !from.symlink_metadata()?.is_dir() {
        fs::copy(from, to)?;
        set_properties(to, &properties(from))?;
        return store.stamp(to);
    }
    fs::create_dir(to)?;
    if deep {
        for entry in fs::read_dir(from)? {
            let entry = entry?;
            copy_tree(store, &entry.path(), &to.join(entry.file_name()), deep)?;
        }
    }
    Ok(())
}

/// A thing in a folder, where there is one.
pub(crate) fn one_in(folder: &Path) -> Option<std::ffi::OsString> {
    let mut names: Vec<_> = fs::read_dir(folder)
        .ok()?
        .filter_map(|entry| Some(entry.ok()?.file_name()))
        .collect();
    names.sort();
    names.into_iter().next()
}

/// Removes what is in a folder but for one thing.
pub(crate) fn remove_all_but(folder: &Path, kept: &std::ffi::OsStr) -> io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        if entry.file_name() != kept {
            remove_tree(&entry.path())?;
        }
    }
    Ok(())
}

/// Moves what is in a folder but for one thing into another one.
pub(crate) fn move_all_but(from: &Path, to: &Path, kept: &std::ffi::OsStr) -> io::Result<()> {
    fs::create_dir(to)?;
    for entry in fs::read_dir(from)? {
        let entry = entry?;
        if entry.file_name() != kept {
            fs::rename(entry.path(), to.join(entry.file_name()))?;
        }
    }
    Ok(())
}

pub(crate) fn remove_tree(path: &Path) -> io::Result<()> {
    if path.symlink_metadata()?.is_dir() {
        fs::remove_dir_all(path)
    } else {
        fs::remove_file(path)
    }
}
