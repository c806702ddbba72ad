//! Which files programs have open just now: what is open may be written yet, whatever was read of it.

use std::collections::HashSet;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

/// A file as the system knows it: its device and its inode.
pub(crate) type Identity = (u64, u64);

/// Which file that is.
pub(crate) fn identity(meta: &fs::Metadata) -> Identity {
    (meta.dev(), meta.ino())
}

/// Every file that a program of this person has open or mapped.
pub(crate) fn open_files() -> HashSet<Identity> {
    let mut open = HashSet::new();
    let processes = fs::read_dir("/proc").into_iter().flatten().flatten();
    for process in processes.map(|entry| entry.path()) {
        let descriptors = fs::read_dir(process.join("fd"));
        for descriptor in descriptors.into_iter().flatten().flatten() {
            open.extend(fs::metadata(descriptor.path()).as_ref().map(identity));
        }
        // A mapping names its device differently from a look at the file on some file systems, so the path counts.
        let maps = fs::read_to_string(process.join("maps")).unwrap_or_default();
        let mapped = maps.lines().filter_map(|line| line.split_once(" /"));
        for path in mapped.map(|(_, path)| Path::new("/").join(path)) {
            open.extend(fs::metadata(path).as_ref().map(identity));
        }
    }
    open
}
