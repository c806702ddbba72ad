//! The digest of what a side holds, by reading it.

use futures_util::StreamExt;
use katabatic_core::{Digest, Entry, RelPath};

use super::{Reads, SideError, Source};

/// The digest of a version, by reading it.
pub async fn digest(store: &dyn Reads, path: &RelPath, seen: &Entry) -> Result<Digest, SideError> {
    digest_of(store.read(path, seen).await?).await
}

/// The digest of what a source gives.
pub async fn digest_of(mut source: Source) -> Result<Digest, SideError> {
    let mut hasher = blake3::Hasher::new();
    while let Some(chunk) = source.content.next().await {
        hasher.update(&chunk?);
    }
    Ok(Digest(*hasher.finalize().as_bytes()))
}
