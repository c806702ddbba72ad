//! The digests of what the files on disk hold now.
//!
//! A digest that was noted when a file came in says nothing of what somebody put in its place on the disk since. So one is
//! remembered only for as long as the file is the very one that was read: its inode, its size and both its times, of which
//! nobody can set the change time.

use std::collections::HashMap;
use std::fs::{File, Metadata};
use std::io::{self, Read};
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::sync::{Mutex, PoisonError};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use ring::digest::{Context, SHA256};

/// So many are remembered.
const MOST: usize = 200_000;

/// The very file, as it was when it was read.
type Identity = [i64; 7];

#[derive(Default)]
pub(crate) struct Digests(Mutex<HashMap<Identity, Vec<u8>>>);

fn identity(meta: &Metadata) -> Identity {
    [
        meta.dev().cast_signed(),
        meta.ino().cast_signed(),
        meta.size().cast_signed(),
        meta.mtime(),
        meta.mtime_nsec(),
        meta.ctime(),
        meta.ctime_nsec(),
    ]
}

impl Digests {
    /// The SHA-256 of what a file holds now.
    pub(crate) fn of(&self, path: &Path) -> io::Result<Vec<u8>> {
        let mut file = File::open(path)?;
        let before = identity(&file.metadata()?);
        let known = self.known(&before);
        if let Some(known) = known {
            return Ok(known);
        }
        let mut sha256 = Context::new(&SHA256);
        let mut buffer = vec![0; 64 * 1024];
        loop {
            match file.read(&mut buffer)? {
                0 => break,
                length => sha256.update(&buffer[..length]),
            }
        }
        let digest = sha256.finish().as_ref().to_vec();
        // A change in the same tick of the clock as the last one leaves no trace: such a file is read again.
        let meta = file.metadata()?;
        if identity(&meta) == before && !is_young(&meta) {
            self.remember(before, digest.clone());
        }
        Ok(digest)
    }

    fn known(&self, identity: &Identity) -> Option<Vec<u8>> {
        let known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        known.get(identity).cloned()
    }

    fn remember(&self, identity: Identity, digest: Vec<u8>) {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if known.len() >= MOST {
            known.clear();
        }
        known.insert(identity, digest);
    }
}

fn is_young(meta: &Metadata) -> bool {
    let changed = std::time::Duration::new(
        u64::try_from(meta.ctime()).unwrap_or_default(),
        u32::try_from(meta.ctime_nsec()).unwrap_or_default(),
    );
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    now.map_or(true, |now| now.saturating_sub(changed).as_millis() < 100)
}

/// As a structured field (RFC 9530 §3).
pub(crate) fn field(digest: &[u8]) -> String {
    format!("sha-256=:{}:", STANDARD.encode(digest))
}
