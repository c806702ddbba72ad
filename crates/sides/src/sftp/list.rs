//! What a folder of an account holds, and what each thing there is.

use std::sync::Arc;

use async_trait::async_trait;
use katabatic_core::{EditTime, Entry, Kind, OddKind, RelPath, Stamp, StampKind};

use super::Inner;
use super::far_path::Path;
use super::wire::Attributes;
use crate::walk::{Folder, Lister};
use crate::{SideError, Unusable};

/// No file is larger than this pebibyte; what claims to be would only spoil every sum that it is in.
const LARGEST: u64 = 1 << 50;

/// In nanoseconds.
pub(super) const SECOND: i64 = 1_000_000_000;

/// What is known of something there, as an entry. A file's version is its length and the second of its last change: the
/// protocol tells no more (draft-ietf-secsh-filexfer-02 §5).
pub(super) fn entry(attributes: &Attributes) -> Entry {
    if attributes.is_folder() {
        return Entry::folder();
    }
    let size = attributes.size.filter(|size| *size <= LARGEST);
    match (attributes.is_file(), size, attributes.times) {
        (true, Some(size), Some((_, changed))) => {
            let changed_at = EditTime(i64::from(changed) * SECOND);
            let stamp = Stamp::of(StampKind::Date, &format!("{changed} {size}"));
            Entry {
                edited: Some(changed_at),
                received: Some(changed_at),
                ..Entry::file(size, stamp)
            }
        }
        // A server that does not tell what a version is known by does not give one.
        (true, ..) => Entry::of_kind(Kind::Odd(OddKind::Own)),
        (false, ..) => Entry::of_kind(Kind::Odd(attributes.odd_kind())),
    }
}

pub(super) async fn look(inner: &Inner, path: &Path) -> Result<Option<Entry>, SideError> {
    Ok(inner.client.look(path).await?.map(|found| entry(&found)))
}

/// What a folder holds.
pub(super) async fn members(inner: &Inner, folder: &RelPath) -> Result<Folder, SideError> {
    let mut found = Folder::default();
    for name in inner.client.names(&Path::account(folder)).await? {
        match std::str::from_utf8(&name.name) {
            Ok(text) => found.names.push((text.to_owned(), entry(&name.attributes))),
            Err(_) => found.unusable.push(Unusable {
                shown: format!("{folder}/{}", name.name.escape_ascii()),
                why: "its name is not valid UTF-8; renamed, it is carried (katabatic names)".into(),
            }),
        }
    }
    let entries = found.names.iter().map(|(_, entry)| entry);
    inner.ask_clock_for(entries).await;
    Ok(found)
}

pub(super) struct FarLister(pub(super) Arc<Inner>);

#[async_trait]
impl Lister for FarLister {
    async fn list(&self, folder: &RelPath) -> Result<Folder, SideError> {
        members(&self.0, &self.0.far(folder)).await
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_version_is_length_and_second_and_what_tells_less_is_left_out() {
        let file = Attributes {
            size: Some(12),
            owner: None,
            mode: Some(0o100_644),
            times: Some((1, 1_796_000_000)),
        };
        let seen = entry(&file);
        assert_eq!(seen.stamp.as_str(), "1796000000 12");
        assert_eq!(seen.edited, Some(EditTime(1_796_000_000 * SECOND)));
        for other in [
            Attributes {
                mode: Some(0o120_777),
                ..file
            },
            Attributes {
                times: None,
                ..file
            },
            Attributes::default(),
        ] {
            assert!(matches!(entry(&other).kind, Kind::Odd(_)), "{other:?}");
        }
    }
}
