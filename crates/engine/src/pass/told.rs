//! A side told by the ledger and by what changed since, instead of by listing everything.
//!
//! What did not change is as the ledger saw it last; what changed takes its place, both in tree order.

use std::sync::Arc;

use katabatic_core::{Entry, Kind, Listing, RelPath, Side, View};
use tokio::sync::mpsc;

use katabatic_ledger::LaneKey;
use katabatic_ledger::Ledger;
use katabatic_ledger::rows::{self, LedgerRow};
use katabatic_sides::{Changes, Found, SideError, SideStore};

/// Sends a side as the ledger saw it last, with what changed.
pub(super) async fn tell(
    store: Arc<dyn SideStore>,
    side: Side,
    ledger: Ledger,
    lane: LaneKey,
    changes: Changes,
    found: mpsc::Sender<Found>,
) -> Result<(), SideError> {
    let (unclear, mut to_look_at) = mpsc::channel::<RelPath>(64);
    let (answers, looked) = std::sync::mpsc::channel::<Result<Option<Entry>, SideError>>();
    let looking = tokio::spawn(async move {
        while let Some(path) = to_look_at.recv().await {
            if answers.send(store.look(&path).await).is_err() {
                break;
            }
        }
    });
    let telling = tokio::task::spawn_blocking(move || {
        let look = |path: &RelPath| {
            unclear
                .blocking_send(path.clone())
                .map_err(|_| SideError::Stopped)?;
            looked.recv().map_err(|_| SideError::Stopped)?
        };
        let mut teller = Teller {
            side,
            found: &found,
            look: &look,
            changed: changes.changed.clone().into_iter().peekable(),
            changes: &changes,
            failed: None,
        };
        teller.send(Found::Root(Listing::Complete));
        let read = ledger.read(|connection| {
            rows::each_row(connection, lane, &RelPath::root(), |row| teller.row(&row))
        });
        teller.finish();
        match (teller.failed, read) {
            (Some(error), _) => Err(error),
            (None, Err(error)) => Err(SideError::Failed(error.to_string())),
            (None, Ok(())) => Ok(()),
        }
    });
    let told = telling
        .await
        .unwrap_or_else(|error| Err(SideError::Failed(format!("it broke off: {error}"))));
    looking.abort();
    told
}

type Look<'l> = dyn Fn(&RelPath) -> Result<Option<Entry>, SideError> + 'l;

/// Merges the rows with the changes, both in tree order.
struct Teller<'t> {
    side: Side,
    found: &'t mpsc::Sender<Found>,
    look: &'t Look<'t>,
    changed: std::iter::Peekable<std::collections::btree_map::IntoIter<RelPath, Option<Entry>>>,
    changes: &'t Changes,
    failed: Option<SideError>,
}

impl Teller<'_> {
    fn send(&mut self, found: Found) {
        if self.found.blocking_send(found).is_err() {
            self.failed.get_or_insert(SideError::Stopped);
        }
    }

    /// Sends the changes that come before a path; all of them where there is none.
    fn changes_before(&mut self, path: Option<&RelPath>) {
        while let Some((changed, entry)) = self
            .changed
            .next_if(|(changed, _)| path.is_none_or(|path| changed < path))
        {
            if let Some(entry) = entry {
                self.send(Found::Entry(changed, entry));
            }
        }
    }

    /// Takes the next row; whether more are wanted.
    fn row(&mut self, row: &LedgerRow) -> bool {
        self.changes_before(Some(&row.path));
        if !self.replaced(&row.path) {
            match shown(row, self.side) {
                View::Absent => {}
                View::Present(entry) => self.send(Found::Entry(row.path.clone(), entry)),
                View::Unknown(_) => match (self.look)(&row.path) {
                    Ok(Some(entry)) => self.send(Found::Entry(row.path.clone(), entry)),
                    Ok(None) => {}
                    Err(error) => self.failed = Some(error),
                },
            }
        }
        self.failed.is_none()
    }

    /// Whether the changes say themselves what is at a path.
    fn replaced(&self, path: &RelPath) -> bool {
        if self.changes.changed.contains_key(path) {
            return true;
        }
        let mut above = path.parent();
        while let Some(folder) = above {
            let gone = match self.changes.changed.get(&folder) {
                Some(None) => true,
                // A file where a folder was leaves nothing of it.
                Some(Some(entry)) => entry.kind != Kind::Folder,
                None => false,
            };
            if gone || self.changes.folders.contains(&folder) {
                return true;
            }
            above = folder.parent();
        }
        false
    }

    fn finish(&mut self) {
        self.changes_before(None);
    }
}

/// What a side showed last. A stamp in doubt is shown as it came, so that the content is read again; a name that
/// was never listed is not shown, so that it is looked at by itself, as after a listing.
fn shown(row: &LedgerRow, side: Side) -> View {
    let (listed, seen) = match side {
        Side::Near => (
            row.base.as_ref().map(|base| base.listed.near),
            &row.near_seen,
        ),
        Side::Far => (row.base.as_ref().map(|base| base.listed.far), &row.far_seen),
    };
    if listed == Some(false) && seen.is_none() {
        return View::Absent;
    }
    last_seen(row, side)
}

/// What a side showed last, without what the ledger alone knows of it.
pub(super) fn last_seen(row: &LedgerRow, side: Side) -> View {
    match row.last_seen(side) {
        View::Present(entry) => View::Present(Entry {
            stamp: entry.stamp.undoubted(),
            // What the ledger knows of the content was not seen now.
            content: None,
            ..entry
        }),
        other => other,
    }
}

#[cfg(test)]
mod tests {
    use std::cell::RefCell;
    use std::collections::BTreeMap;

    use katabatic_core::{Base, PerSide, Stamp, Unknown};

    use super::*;

    fn path(text: &str) -> RelPath {
        RelPath::parse(text).unwrap()
    }

    fn row(at: &str, kind: Kind) -> LedgerRow {
        LedgerRow {
            path: path(at),
            base: Some(Base {
                kind,
                size: 1,
                content: None,
                stamps: PerSide {
                    near: Stamp::new("near"),
                    far: Stamp::new("old").doubted(),
                },
                listed: PerSide {
                    near: true,
                    far: true,
                },
                away: None,
            }),
            edited: None,
            near_seen: None,
            far_seen: None,
            open: None,
            unproven: false,
            came_down: false,
        }
    }

    fn told(rows: &[LedgerRow], changes: &Changes) -> Vec<(String, String)> {
        let (found, mut inbox) = mpsc::channel(100);
        let looked = RefCell::new(Vec::new());
        let look = |path: &RelPath| {
            looked.borrow_mut().push(path.clone());
            Ok(Some(Entry::file(1, Stamp::new("looked"))))
        };
        let mut teller = Teller {
            side: Side::Far,
            found: &found,
            look: &look,
            changed: changes.changed.clone().into_iter().peekable(),
            changes,
            failed: None,
        };
        for row in rows {
            assert!(teller.row(row));
        }
        teller.finish();
        drop(found);
        let mut all = Vec::new();
        while let Ok(found) = inbox.try_recv() {
            let Found::Entry(path, entry) = found else {
                continue;
            };
            all.push((path.to_string(), entry.stamp.as_str().to_owned()));
            assert!(!entry.stamp.is_doubted(), "{path}");
        }
        all
    }

    #[test]
    fn what_changed_takes_the_place_of_what_was_seen_last_in_tree_order() {
        let file = |stamp: &str| Some(Entry::file(1, Stamp::new(stamp)));
        let mut hidden = row("hidden", Kind::File);
        if let Some(base) = &mut hidden.base {
            base.listed.far = false;
        }
        let mut unclear = row("unclear", Kind::File);
        unclear.far_seen = Some(View::Unknown(Unknown::NeverListed));
        let rows = [
            row("changed", Kind::File),
            row("gone", Kind::Folder),
            row("gone/inside", Kind::File),
            hidden,
            row("now a file", Kind::Folder),
            row("now a file/inside", Kind::File),
            row("relisted", Kind::Folder),
            row("relisted/old", Kind::File),
            row("same", Kind::File),
            unclear,
        ];
        let changes = Changes {
            changed: BTreeMap::from([
                (path("a new one"), file("new")),
                (path("changed"), file("new")),
                (path("gone"), None),
                (path("never known"), None),
                (path("now a file"), file("new")),
                (path("relisted"), Some(Entry::folder())),
                (path("relisted/new"), file("new")),
                (path("z"), file("new")),
            ]),
            folders: [path("relisted")].into(),
            token: "t".into(),
        };
        let seen = told(&rows, &changes);
        let seen: Vec<(&str, &str)> = seen.iter().map(|(a, b)| (&a[..], &b[..])).collect();
        assert_eq!(
            seen,
            [
                ("a new one", "new"),
                ("changed", "new"),
                ("now a file", "new"),
                ("relisted", ""),
                ("relisted/new", "new"),
                ("same", "old"),
                ("unclear", "looked"),
                ("z", "new"),
            ]
        );
    }
}
