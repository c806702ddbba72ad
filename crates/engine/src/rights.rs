//! What may not be read or written in a folder of this computer, found before a pass stumbles on it.

use std::fs;
use std::path::{Path, PathBuf};

use rustix::fs::{Access, access};

use katabatic_sides::is_own;
use katabatic_sides::local::is_stub;

/// As many places are named.
const NAMED: usize = 3;

/// What the person this runs for may not do.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct Barred {
    /// Files and folders that cannot be read, in all.
    pub(crate) unread: u64,
    /// Folders in which nothing can be made, in all.
    pub(crate) unwritten: u64,
    /// Some of both.
    pub(crate) some: Vec<PathBuf>,
}

impl Barred {
    fn note(&mut self, path: &Path) {
        if self.some.len() < NAMED {
            self.some.push(path.to_owned());
        }
    }
}

/// Asks the system about everything in a folder; links are not followed. `writes` says whether a lane writes there.
pub(crate) fn look(root: &Path, writes: bool) -> Barred {
    let mut barred = Barred::default();
    let mut folders = vec![root.to_owned()];
    while let Some(folder) = folders.pop() {
        let Ok(entries) = fs::read_dir(&folder) else {
            barred.unread += 1;
            barred.note(&folder);
            continue;
        };
        if writes && access(&folder, Access::WRITE_OK | Access::EXEC_OK).is_err() {
            barred.unwritten += 1;
            barred.note(&folder);
        }
        for entry in entries.flatten() {
            let (path, name) = (entry.path(), entry.file_name());
            let Ok(kind) = entry.file_type() else {
                continue;
            };
            if name.to_str().is_some_and(is_own) {
                continue;
            }
            if kind.is_dir() {
                folders.push(path);
            } else if kind.is_file()
                && access(&path, Access::READ_OK).is_err()
                // Nobody is to read one of these.
                && !is_stub(&path).unwrap_or(false)
            {
                barred.unread += 1;
                barred.note(&path);
            }
        }
    }
    barred
}
