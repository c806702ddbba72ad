//! What changed since a token (RFC 6578 §3), told by comparing with what was there when the token was given.
//!
//! Files come and go by hand too, so there is no journal to trust: each token stands for a whole picture of a folder.
//! Only the last few pictures of a folder are kept; a token whose picture is gone is refused, as the standard has it.

use std::collections::BTreeMap;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use crate::device_grant::random_text;
use crate::listing::Found;

/// So many pictures of a folder are kept.
const KEPT: usize = 4;

type Picture = BTreeMap<String, (bool, u64, i64, i64)>;

#[derive(Default)]
pub(crate) struct Changes {
    pictures: Mutex<BTreeMap<PathBuf, Vec<(String, Picture)>>>,
}

/// What changed, and the token that stands for how things are now.
pub(crate) struct Changed {
    pub(crate) changed: Vec<Found>,
    pub(crate) removed: Vec<String>,
    pub(crate) token: String,
}

impl Changes {
    /// Compares with the picture of `since`, or with an empty one; none where that token is not known.
    pub(crate) fn since(&self, folder: &Path, now: Vec<Found>, since: &str) -> Option<Changed> {
        let picture: Picture = now
            .iter()
            .map(|found| {
                let meta = &found.meta;
                // The change time moves with the content, the name and the extended attributes.
                let seen = (meta.is_dir(), meta.ino(), meta.ctime(), meta.ctime_nsec());
                (found.path.clone(), seen)
            })
            .collect();
        let mut pictures = self.pictures.lock().unwrap_or_else(PoisonError::into_inner);
        let kept = pictures.entry(folder.to_owned()).or_default();
        let empty = Picture::new();
        let before = match since {
            "" => &empty,
            token => &kept.iter().find(|(known, _)| known == token)?.1,
        };
        let removed = before
            .keys()
            .filter(|path| !picture.contains_key(*path))
            .cloned()
            .collect();
        let changed = now
            .into_iter()
            .filter(
                |found| match (before.get(&found.path), picture.get(&found.path)) {
                    // A folder is news only when it comes: what happens in it is told by its members.
                    (Some((true, ..)), Some((true, ..))) => false,
                    (before, now) => before != now,
                },
            )
            .collect();
        let same = kept.last().filter(|(_, last)| *last == picture);
        let token = match same {
            Some((token, _)) => token.clone(),
            None => {
                let token = format!("urn:standin:changes:{}", random_text());
                kept.push((token.clone(), picture));
                token
            }
        };
        if kept.len() > KEPT {
            kept.remove(0);
        }
        Some(Changed {
            changed,
            removed,
            token,
        })
    }
}
