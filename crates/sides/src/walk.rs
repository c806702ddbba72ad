//! Lists a tree folder by folder, several at a time, and sends what it finds in tree order.
//!
//! Both sides walk in the same way: a listing answers for one folder, listings of the folders found in it are begun
//! at once (as many together as the side bears), and their results are sent when their turn comes.

use std::sync::Arc;

use async_trait::async_trait;
use katabatic_core::{Entry, Kind, Listing, RelPath, Unknown};
use tokio::sync::{Semaphore, mpsc};
use tokio::task::JoinHandle;

use super::{Found, SideError, Unusable, is_own};

/// What one folder holds.
#[derive(Debug, Default)]
pub(crate) struct Folder {
    pub(crate) names: Vec<(String, Entry)>,
    pub(crate) unusable: Vec<Unusable>,
    /// Set where the listing did not get to its end.
    pub(crate) cut_short: Option<Unknown>,
}

/// Lists one folder.
#[async_trait]
pub(crate) trait Lister: Send + Sync + 'static {
    async fn list(&self, folder: &RelPath) -> Result<Folder, SideError>;
}

type Pending = JoinHandle<Result<Folder, SideError>>;

fn begin<L: Lister>(lister: &Arc<L>, permits: &Arc<Semaphore>, folder: RelPath) -> Pending {
    let (lister, permits) = (Arc::clone(lister), Arc::clone(permits));
    tokio::spawn(async move {
        let _permit = permits.acquire().await.map_err(|_| SideError::Stopped)?;
        lister.list(&folder).await
    })
}

/// Walks the whole tree below a folder.
pub(crate) async fn walk<L: Lister>(
    lister: Arc<L>,
    at_a_time: usize,
    root: RelPath,
    found: mpsc::Sender<Found>,
) -> Result<(), SideError> {
    let permits = Arc::new(Semaphore::new(at_a_time));
    let pending = begin(&lister, &permits, root.clone());
    let listed = finish(pending, &root).await?;
    let walk = Walk {
        lister,
        permits,
        found,
    };
    walk.tell(Found::Root(listing(&listed))).await?;
    walk.send(root, listed).await
}

fn listing(folder: &Folder) -> Listing {
    folder
        .cut_short
        .clone()
        .map_or(Listing::Complete, Listing::Incomplete)
}

/// Waits for a listing. What ends the whole side is an error; anything else makes this folder unknown.
async fn finish(pending: Pending, folder: &RelPath) -> Result<Folder, SideError> {
    let result = pending
        .await
        .unwrap_or_else(|error| Err(SideError::Failed(format!("the listing broke off: {error}"))));
    match result {
        Err(error) if error.ends_the_pass() => Err(error),
        Err(error) => {
            tracing::debug!("{folder} could not be listed: {error}");
            let cut_short = Some(Unknown::NotListed(error.to_string()));
            Ok(Folder {
                cut_short,
                ..Folder::default()
            })
        }
        Ok(mut listed) => {
            listed
                .names
                .sort_by(|(a, _), (b, _)| a.as_bytes().cmp(b.as_bytes()));
            if let Some(pair) = listed.names.windows(2).find(|pair| pair[0].0 == pair[1].0) {
                let why = format!("the name {:?} was listed twice", pair[0].0);
                listed.cut_short = Some(Unknown::NotListed(why));
                listed.names.dedup_by(|(a, _), (b, _)| a == b);
            }
            Ok(listed)
        }
    }
}

struct Walk<L> {
    lister: Arc<L>,
    permits: Arc<Semaphore>,
    found: mpsc::Sender<Found>,
}

impl<L: Lister> Walk<L> {
    async fn send(&self, root: RelPath, listed: Folder) -> Result<(), SideError> {
        // A stack of folders instead of recursion: a tree may be deeper than a thread's stack.
        let mut stack = vec![self.opened(&root, listed).await?];
        while let Some(members) = stack.last_mut() {
            let Some((path, mut entry, pending)) = members.next() else {
                stack.pop();
                continue;
            };
            let inside = match pending {
                None => None,
                Some(pending) => {
                    let listed = finish(pending, &path).await?;
                    // A folder on another file system says so itself, in its entry.
                    if entry.listing == Listing::Complete {
                        entry.listing = listing(&listed);
                    }
                    Some(listed)
                }
            };
            self.tell(Found::Entry(path.clone(), entry)).await?;
            if let Some(listed) = inside {
                stack.push(self.opened(&path, listed).await?);
            }
        }
        Ok(())
    }

    async fn tell(&self, found: Found) -> Result<(), SideError> {
        self.found.send(found).await.map_err(|_| SideError::Stopped)
    }

    async fn opened(
        &self,
        folder: &RelPath,
        listed: Folder,
    ) -> Result<std::vec::IntoIter<(RelPath, Entry, Option<Pending>)>, SideError> {
        for unusable in listed.unusable {
            self.tell(Found::Unusable(unusable)).await?;
        }
        let mut members = Vec::with_capacity(listed.names.len());
        for (name, entry) in listed.names {
            if is_own(&name) {
                self.tell(Found::Own(folder.clone())).await?;
                continue;
            }
            match folder.join(&name) {
                Ok(path) => {
                    let deeper = entry.kind == Kind::Folder && entry.listing == Listing::Complete;
                    let pending = deeper.then(|| begin(&self.lister, &self.permits, path.clone()));
                    members.push((path, entry, pending));
                }
                Err(why) => {
                    let shown = format!("{folder}/{}", name.escape_debug());
                    self.tell(Found::Unusable(Unusable {
                        shown,
                        why: why.to_string(),
                    }))
                    .await?;
                }
            }
        }
        Ok(members.into_iter())
    }
}
