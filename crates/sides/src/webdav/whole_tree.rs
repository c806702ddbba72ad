//! A whole tree in one answer (`Depth: infinity`, RFC 4918 §9.1), where the server gives one.
//!
//! It comes in any order, so it is kept small, and sorted. Where it breaks off, is broken, or does not hang together
//! (a file in a folder that is not named), none of it is used: the folders are listed one by one instead, and then
//! only the one that cannot be listed is unknown.

use std::sync::atomic::Ordering;

use futures_util::{StreamExt, stream};
use katabatic_core::{Entry, Kind, Listing, RelPath, Unknown};
use tokio::sync::mpsc;

use super::changes::below;
use super::list::{ask, clock_ahead};
use super::{Inner, LISTINGS, list};
use crate::walk::Folder;
use crate::{Found, SideError, is_own};

/// Above this many names the folders are listed one by one, which needs no memory for all of them.
const MOST_NAMES: usize = 200_000;

pub(super) struct WholeTree {
    entries: Vec<(RelPath, Entry)>,
    /// Folders that hold one of the tool's own.
    own: Vec<RelPath>,
}

/// Lists the tree; none where that does not work here.
pub(super) async fn ask_for(inner: &Inner) -> Result<Option<WholeTree>, SideError> {
    let mut entries: Vec<(RelPath, Entry)> = Vec::new();
    let mut own = Vec::new();
    let mut root_is_there = false;
    let answer = ask(
        &inner.client,
        ("PROPFIND", &inner.root, true),
        "infinity",
        &inner.wanted(""),
        &mut |resource| {
            let fine = |code: u16| (200..300).contains(&code);
            let Some(at) = inner.client.path_of(&resource.href) else {
                return Err("a name is not valid UTF-8, or leads out of the folder".into());
            };
            if !resource.status.is_none_or(fine) {
                return Err(format!("the server gave no answer about {at}"));
            }
            if at == inner.root {
                root_is_there = resource.folder;
                return Ok(());
            }
            let path = below(&inner.root, &at).ok_or("a name lies outside of the folder")?;
            if is_own(path.name()) {
                own.extend(path.parent());
            }
            if path.parts().any(is_own) {
                return Ok(());
            }
            if entries.len() >= MOST_NAMES {
                return Err("it is too large for one answer".into());
            }
            let entry = inner
                .entry(&resource)
                .ok_or_else(|| format!("the server does not say how long {at} is"))?;
            entries.push((path, entry));
            Ok(())
        },
    )
    .await;
    match answer {
        Ok((_, headers)) => {
            if let Some(ahead) = clock_ahead(&headers) {
                inner.clock_ahead.store(ahead, Ordering::Relaxed);
            }
        }
        Err(error) if error.ends_the_pass() => return Err(error),
        Err(error) => {
            tracing::debug!("the whole tree is not told at once: {error}");
            return Ok(None);
        }
    }
    entries.sort_by(|(a, _), (b, _)| a.cmp(b));
    if !root_is_there || !hangs_together(&entries) {
        return Ok(None);
    }
    let whole = ask_empty_ones(inner, &mut entries).await?;
    Ok(whole.then_some(WholeTree { entries, own }))
}

/// A folder without members may be one that the server did not care to look into, or could not: each is listed by
/// itself. Whether none of them turned out to hold something after all.
async fn ask_empty_ones(
    inner: &Inner,
    entries: &mut [(RelPath, Entry)],
) -> Result<bool, SideError> {
    let empty: Vec<usize> = (0..entries.len())
        .filter(|&at| {
            entries[at].1.kind == Kind::Folder
                && entries
                    .get(at + 1)
                    .is_none_or(|(next, _)| !next.is_within(&entries[at].0))
        })
        .collect();
    let asked: Vec<(usize, Result<Folder, SideError>)> = stream::iter(empty)
        .map(|at| {
            let folder = inner.far(&entries[at].0);
            async move { (at, list::members(inner, &folder).await) }
        })
        .buffer_unordered(LISTINGS)
        .collect()
        .await;
    for (at, listed) in asked {
        let unknown = match listed {
            Ok(folder) if folder.names.is_empty() && folder.unusable.is_empty() => folder.cut_short,
            Ok(_) => return Ok(false),
            Err(error) if error.ends_the_pass() => return Err(error),
            Err(error) => Some(Unknown::NotListed(error.to_string())),
        };
        if let Some(why) = unknown {
            entries[at].1.listing = Listing::Incomplete(why);
        }
    }
    Ok(true)
}

/// Each name comes once, and lies in a folder that was named.
fn hangs_together(entries: &[(RelPath, Entry)]) -> bool {
    let mut open: Vec<&RelPath> = Vec::new();
    for pair in entries.windows(2) {
        if pair[0].0 == pair[1].0 {
            return false;
        }
    }
    entries.iter().all(|(path, entry)| {
        while open.last().is_some_and(|folder| !path.is_within(folder)) {
            open.pop();
        }
        let above = path.parent().unwrap_or_else(RelPath::root);
        let named = match open.last() {
            Some(folder) => **folder == above,
            None => above.is_root(),
        };
        if entry.kind == Kind::Folder {
            open.push(path);
        }
        named
    })
}

impl WholeTree {
    pub(super) async fn send(self, found: mpsc::Sender<Found>) -> Result<(), SideError> {
        let stopped = |_| SideError::Stopped;
        let root = Found::Root(Listing::Complete);
        found.send(root).await.map_err(stopped)?;
        for folder in self.own {
            found.send(Found::Own(folder)).await.map_err(stopped)?;
        }
        for (path, entry) in self.entries {
            found
                .send(Found::Entry(path, entry))
                .await
                .map_err(stopped)?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use katabatic_core::Stamp;

    use super::*;

    fn tree(names: &[&str]) -> Vec<(RelPath, Entry)> {
        names
            .iter()
            .map(|name| match name.strip_suffix('/') {
                Some(folder) => (RelPath::parse(folder).unwrap(), Entry::folder()),
                None => (
                    RelPath::parse(name).unwrap(),
                    Entry::file(1, Stamp::new("x")),
                ),
            })
            .collect()
    }

    #[test]
    fn an_answer_with_holes_is_not_used() {
        assert!(hangs_together(&tree(&["a/", "a/b/", "a/b/c", "a/d", "e"])));
        assert!(hangs_together(&[]));
        for names in [
            &["a/b"][..],
            &["a/", "a/b/c"],
            &["a", "a/b"],
            &["a", "a"],
            &["a/", "b", "a/c"],
        ] {
            assert!(!hangs_together(&tree(names)), "{names:?}");
        }
    }
}
