//! What changed in a far folder since a token (RFC 6578), so that a pass need not list everything again.
//!
//! A token is taken *before* the listing it belongs to: what changes meanwhile is told again next time, and nothing
//! slips between the two. A folder that is named as new is listed by itself, whatever else the server names: some name
//! the folder alone.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use katabatic_core::{Entry, Kind, Listing, RelPath};
use tokio::sync::mpsc;

use super::list::{FarLister, ask, propfind};
use super::multistatus::Resource;
use super::{Inner, LISTINGS};
use crate::{Changes, Found, SideError, is_own, walk};

/// A server that tells its changes in parts is asked so often for the next one.
const PARTS: usize = 1_000;

/// What stands for how the root is now.
pub(super) async fn token(inner: &Inner) -> Result<Option<String>, SideError> {
    let asked = inner.wanted("<sync-token/>");
    let (resources, _) = propfind(&inner.client, &inner.root, true, "0", &asked).await?;
    let about = |resource: &Resource| {
        (inner.client.path_of(&resource.href).as_ref() == Some(&inner.root))
            .then(|| resource.sync_token.clone())
    };
    Ok(resources.iter().find_map(about).flatten())
}

/// What changed since; none where the server does not know the token any more, or tells nothing that can be used.
pub(super) async fn since(inner: &Arc<Inner>, token: &str) -> Result<Option<Changes>, SideError> {
    let mut told = Told::default();
    let mut token = token.to_owned();
    for _ in 0..PARTS {
        let body = body(inner, &token);
        let mut more = false;
        let mut odd = false;
        let answer = ask(
            &inner.client,
            ("REPORT", &inner.root, true),
            "0",
            &body,
            &mut |resource| {
                match told.take(inner, resource) {
                    Taken::Fine => {}
                    Taken::More => more = true,
                    Taken::Odd => odd = true,
                }
                Ok(())
            },
        )
        .await;
        let next = match answer {
            Ok((Some(next), _)) if !odd => next,
            Err(error) if error.ends_the_pass() => return Err(error),
            Err(error) => {
                tracing::debug!("the changes since the last pass are not told: {error}");
                return Ok(None);
            }
            Ok(_) => return Ok(None),
        };
        if !more {
            return told.finish(inner, next).await;
        }
        if next == token {
            return Ok(None);
        }
        token = next;
    }
    Ok(None)
}

fn body(inner: &Inner, token: &str) -> String {
    let properties = inner.wanted("");
    let properties = properties
        .split_once("<prop>")
        .and_then(|(_, rest)| rest.split_once("</prop>"))
        .map_or("", |(properties, _)| properties);
    format!(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?><sync-collection xmlns=\"DAV:\"><sync-token>{}</sync-token>\
         <sync-level>infinite</sync-level><prop>{properties}</prop></sync-collection>",
        quick_xml::escape::escape(token)
    )
}

#[derive(Default)]
struct Told {
    changed: BTreeMap<RelPath, Option<Entry>>,
}

enum Taken {
    Fine,
    /// There is more to be told (RFC 6578 §3.6).
    More,
    /// Nothing that can be relied on.
    Odd,
}

impl Told {
    fn take(&mut self, inner: &Inner, resource: Resource) -> Taken {
        let Some(at) = inner.client.path_of(&resource.href) else {
            // A name that no path can be made of: only a whole listing shows it as left out.
            return Taken::Odd;
        };
        if at == inner.root {
            return match resource.status {
                Some(507) => Taken::More,
                _ => Taken::Fine,
            };
        }
        let Some(path) = below(&inner.root, &at) else {
            return Taken::Odd;
        };
        if path.parts().any(is_own) {
            return Taken::Fine;
        }
        match (resource.status, inner.entry(&resource)) {
            (Some(404), _) => {
                self.changed.insert(path, None);
                Taken::Fine
            }
            (None | Some(200..=299), Some(entry)) => {
                self.changed.insert(path, Some(entry));
                Taken::Fine
            }
            _ => Taken::Odd,
        }
    }

    async fn finish(
        mut self,
        inner: &Arc<Inner>,
        token: String,
    ) -> Result<Option<Changes>, SideError> {
        let mut folders = BTreeSet::new();
        let named: Vec<RelPath> = self
            .changed
            .iter()
            .filter(|(_, entry)| {
                entry
                    .as_ref()
                    .is_some_and(|entry| entry.kind == Kind::Folder)
            })
            .map(|(path, _)| path.clone())
            .collect();
        for folder in named {
            if folders
                .iter()
                .any(|known: &RelPath| folder.is_within(known))
            {
                continue;
            }
            let Some(members) = all_below(inner, &folder).await? else {
                return Ok(None);
            };
            self.changed
                .retain(|path, _| *path == folder || !path.is_within(&folder));
            for (path, entry) in members {
                self.changed.insert(path, Some(entry));
            }
            folders.insert(folder);
        }
        Ok(Some(Changes {
            changed: self.changed,
            folders,
            token,
        }))
    }
}

/// A path of the account as one of the lane.
pub(super) fn below(root: &RelPath, at: &RelPath) -> Option<RelPath> {
    if root.is_root() {
        return Some(at.clone());
    }
    let rest = at.as_str().strip_prefix(root.as_str())?.strip_prefix('/')?;
    RelPath::parse(rest).ok()
}

/// All that is below a folder; none where it cannot be told whole.
async fn all_below(
    inner: &Arc<Inner>,
    folder: &RelPath,
) -> Result<Option<Vec<(RelPath, Entry)>>, SideError> {
    let (found, mut inbox) = mpsc::channel(1024);
    let lister = Arc::new(FarLister(Arc::clone(inner)));
    let walking = tokio::spawn(walk::walk(lister, LISTINGS, folder.clone(), found));
    let (mut members, mut whole) = (Vec::new(), true);
    while let Some(found) = inbox.recv().await {
        match found {
            Found::Entry(path, entry) => {
                whole &= entry.listing == Listing::Complete;
                members.push((path, entry));
            }
            Found::Root(listing) => whole &= listing == Listing::Complete,
            Found::Unusable(_) => whole = false,
            Found::Own(_) => {}
        }
    }
    match walking.await {
        Ok(Ok(())) => Ok(whole.then_some(members)),
        Ok(Err(error)) if error.ends_the_pass() => Err(error),
        _ => Ok(None),
    }
}
