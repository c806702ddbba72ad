//! The far side of a pass, told by what changed since the last one instead of by listing everything.
//!
//! What did not change is as the ledger saw it last. That holds only where token and rows speak of the same moment: a
//! file that came after the token and went again is no change to the server, though the ledger knows it. So the ledger itself
//! drops the token with the first row that comes or goes (a trigger, in the same commit), and a pass keeps a new one only once it
//! has ended and the server has told exactly the changes that the pass itself made. It holds also only for as long as the server is right; so once a day everything is
//! listed all the same, and a removal that comes from here is looked at directly before it is carried, as any other.

use std::collections::BTreeSet;

use katabatic_core::{Kind, RelPath, Side, View};
use tokio::sync::mpsc;

use super::{Pass, Wish, heard, told};
use katabatic_ledger::rows;
use katabatic_sides::{Found, SideError};

/// Everything is listed at least so often.
const LISTED_EVERY: i64 = 24 * 3600 * 1_000_000_000;

/// More changes of our own than this are not told back to us; the next pass lists everything instead.
const TOLD_BACK: usize = 1_000;

/// What a far scan leaves for the next pass, to be kept with what this one finds.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Token {
    /// What stands for how things were when the scan began.
    pub(crate) text: String,
    /// Whether everything was listed.
    pub(crate) listed: bool,
}

/// Scans the far side in a task of its own.
pub(super) fn begin(
    pass: &Pass,
    found: mpsc::Sender<Found>,
    wish: &Wish,
) -> tokio::task::JoinHandle<Result<Option<Token>, SideError>> {
    let store = pass.store(Side::Far);
    let (ledger, lane) = (pass.ledger.clone(), pass.lane.row.key);
    let now = pass.clock.now();
    let recently = pass.lane.row.listed_at.is_some_and(|at| {
        // A clock that was set back proves nothing.
        at <= now && now.0.saturating_sub(at.0) < LISTED_EVERY
    });
    // What was left out then is in no row: with another selection only a whole listing shows it.
    let selection = pass.lane.config.selection_text();
    let as_then = pass.lane.row.selection.as_ref() == Some(&selection);
    let token = pass.lane.row.token.clone().filter(|_| recently && as_then);
    let heard = wish.heard.far.clone();
    tokio::spawn(async move {
        if let Some(heard) = heard
            && let Some(changes) = heard::changes(&*store, Side::Far, &ledger, lane, &heard).await?
        {
            told::tell(store, Side::Far, ledger, lane, changes, found).await?;
            return Ok(None);
        }
        if let Some(token) = token
            && let Some(changes) = store.changes_since(&token).await?
        {
            let text = changes.token.clone();
            told::tell(store, Side::Far, ledger, lane, changes, found).await?;
            return Ok(Some(Token {
                text,
                listed: false,
            }));
        }
        let token = match store.token().await {
            Ok(token) => token,
            Err(error) if error.ends_the_pass() => return Err(error),
            Err(error) => {
                tracing::debug!("there is no change token: {error}");
                None
            }
        };
        store.scan(found).await?;
        Ok(token.map(|text| Token { text, listed: true }))
    })
}

/// A token that stands for the far side as the ledger has it now, after what the pass itself did there; none where
/// somebody else was there meanwhile.
pub(super) async fn after(pass: &Pass, token: &Token, ours: &BTreeSet<RelPath>) -> Option<String> {
    // What came while everything was listed is in the listing and not in the token, which would never tell that it went.
    if ours.is_empty() && !token.listed {
        return Some(token.text.clone());
    }
    if ours.len() > TOLD_BACK {
        return None;
    }
    let changes = match pass.store(Side::Far).changes_since(&token.text).await {
        Ok(changes) => changes?,
        Err(why) => {
            tracing::debug!("the pass's own changes are not told back: {why}");
            return None;
        }
    };
    let lane = pass.lane.row.key;
    let as_known = pass.ledger.read(|connection| {
        for (path, entry) in &changes.changed {
            let row = rows::row(connection, lane, path)?;
            let known = row.map_or(View::Absent, |row| told::last_seen(&row, Side::Far));
            let same = match (&known, entry) {
                (View::Absent, None) => true,
                (View::Present(known), Some(entry)) => {
                    known.kind == entry.kind
                        && (known.kind == Kind::Folder || known.stamp == entry.stamp)
                }
                _ => false,
            };
            if !same {
                return Ok(false);
            }
        }
        // Of a folder that came, all that is in it is told: what is known to be in it and is not told went meanwhile.
        for folder in &changes.folders {
            let mut all_told = true;
            rows::each_row(connection, lane, folder, |row| {
                let is_known = told::last_seen(&row, Side::Far) != View::Absent;
                all_told = !is_known || changes.changed.contains_key(&row.path);
                all_told
            })?;
            if !all_told {
                return Ok(false);
            }
        }
        Ok(true)
    });
    let told = ours.iter().all(|path| changes.changed.contains_key(path));
    (told && as_known.unwrap_or(false)).then_some(changes.token)
}
