//! What changed in a folder of this computer, from what the system said, instead of from a walk over the whole tree.
//!
//! The system's word is where to look, and what is found there is looked at as in any scan. Of the rest, the last
//! picture counts: one that may be somewhat older than a walk would give. It is trusted no further than any picture that
//! has aged between scan and carrying. Whatever is replaced or removed is captured and compared with what was expected,
//! and what is otherwise stays. A word that was lost therefore costs time, until the next walk, and nothing else.

use std::collections::{BTreeMap, BTreeSet};

use katabatic_core::{Entry, Kind, Listing, RelPath, Side};

use crate::Error;
use katabatic_ledger::rows::{self, LedgerRow};
use katabatic_ledger::{LaneKey, Ledger};
use katabatic_sides::{Changes, SideError, SideStore, is_own};

/// Where more than this was touched, walking the whole tree is no dearer.
const MOST: usize = 50_000;

/// What is at these paths now, and below those that are folders the ledger does not know or that were touched
/// themselves; none where only a walk can tell.
pub(super) async fn changes(
    store: &dyn SideStore,
    side: Side,
    ledger: &Ledger,
    lane: LaneKey,
    heard: &BTreeSet<RelPath>,
) -> Result<Option<Changes>, SideError> {
    let failed = |error: Error| SideError::Failed(error.to_string());
    // What could not be told last time is looked at with the rest, before anything is told.
    let unknown = ledger
        .read(|connection| rows::unknown_on(connection, lane, side))
        .map_err(failed)?;
    let heard = heard.iter().cloned().chain(unknown).collect();
    let tops = tops(side, ledger, lane, &heard).map_err(failed)?;
    let mut changed = BTreeMap::new();
    let mut folders = BTreeSet::new();
    let mut shown = Shown::default();
    let mut todo: Vec<(RelPath, bool)> = tops.into_iter().map(|top| (top, true)).collect();
    while let Some((path, is_top)) = todo.pop() {
        let entry = match store.look(&path).await {
            Ok(entry) => entry,
            Err(error) if error.ends_the_pass() => return Err(error),
            // What cannot be looked at alone, a walk may tell the reason of.
            Err(_) => return Ok(None),
        };
        if !is_top && entry.is_none() {
            // It went, or is on its way elsewhere, while its folder was looked at: that proves no removal.
            return Ok(None);
        }
        if is_top && entry.is_some() && !shown.by_its_name(store, &path).await {
            // A disk that does not tell names apart by case answers to one that no listing shows.
            return Ok(None);
        }
        if let Some(Entry {
            kind: Kind::Folder,
            listing: Listing::Complete,
            ..
        }) = &entry
        {
            let Ok(names) = store.names(&path).await else {
                return Ok(None);
            };
            for name in names.iter().filter(|name| !is_own(name)) {
                let Ok(inside) = path.join(name) else {
                    return Ok(None);
                };
                todo.push((inside, false));
            }
            if is_top {
                folders.insert(path.clone());
            }
        }
        changed.insert(path, entry);
        if changed.len() > MOST {
            return Ok(None);
        }
    }
    Ok(Some(Changes {
        changed,
        folders,
        token: String::new(),
    }))
}

/// The names in folders, each listed once.
#[derive(Default)]
struct Shown(BTreeMap<RelPath, BTreeSet<String>>);

impl Shown {
    async fn by_its_name(&mut self, store: &dyn SideStore, path: &RelPath) -> bool {
        let folder = path.parent().unwrap_or_else(RelPath::root);
        if !self.0.contains_key(&folder) {
            let names = store.names(&folder).await.unwrap_or_default();
            self.0.insert(folder.clone(), names.into_iter().collect());
        }
        self.0[&folder].contains(path.name())
    }
}

/// The paths to look at, none of them within another: for one in a folder that the ledger does not know on this side,
/// that folder.
fn tops(
    side: Side,
    ledger: &Ledger,
    lane: LaneKey,
    heard: &BTreeSet<RelPath>,
) -> Result<BTreeSet<RelPath>, Error> {
    let mut tops: BTreeSet<RelPath> = BTreeSet::new();
    let mut seen: BTreeMap<RelPath, bool> = BTreeMap::new();
    for path in heard {
        let mut above: Vec<RelPath> = std::iter::successors(path.parent(), RelPath::parent)
            .filter(|folder| !folder.is_root())
            .collect();
        above.reverse();
        let mut top = path.clone();
        for folder in above {
            if !seen.contains_key(&folder) {
                let row = ledger.read(|connection| rows::row(connection, lane, &folder))?;
                seen.insert(folder.clone(), row.is_some_and(|row| is_folder(&row, side)));
            }
            if tops.contains(&folder) || !seen[&folder] {
                top = folder;
                break;
            }
        }
        tops.insert(top);
    }
    Ok(tops)
}

fn is_folder(row: &LedgerRow, side: Side) -> bool {
    row.last_seen(side).is_folder()
}
