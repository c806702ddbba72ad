//! Whether what the system tells of is news, or what a pass has just written itself.

use std::path::{Path, PathBuf};

use katabatic_core::{Entry, Kind, RelPath, Side, View};

use katabatic_engine::Error;
use katabatic_engine::open::OpenLane;
use katabatic_engine::self_opening;
use katabatic_ledger::Ledger;
use katabatic_ledger::rows::{self, LedgerRow};

/// Of more paths than this it is not asked: a pass is cheaper.
const MOST: usize = 2_000;

/// Whether anything at these paths of one side differs from what both sides agreed on.
///
/// # Errors
/// Where the ledger cannot be read.
pub(super) async fn any(
    ledger: &Ledger,
    lane: &OpenLane,
    side: Side,
    paths: &[PathBuf],
) -> Result<bool, Error> {
    let Some(root) = lane
        .config
        .place(side)
        .local()
        .filter(|_| paths.len() <= MOST)
    else {
        return Ok(true);
    };
    for path in paths {
        let Some(path) = within(root, path) else {
            return Ok(true);
        };
        let key = lane.row.key;
        let row = ledger.read(|connection| rows::row(connection, key, &path))?;
        // What cannot be looked at now may be anything.
        let Ok(seen) = lane.store(side).look(&path).await else {
            return Ok(true);
        };
        if !is_known(row.as_ref(), side, seen.as_ref()) {
            return Ok(true);
        }
    }
    // One that somebody gave rights is closed at once, but where programs may open it.
    let served = (lane.home.as_ref()).is_some_and(self_opening::is_served);
    Ok(lane.store(side).saw_open_stubs() && !served)
}

fn is_known(row: Option<&LedgerRow>, side: Side, seen: Option<&Entry>) -> bool {
    match (row.and_then(|row| row.base.as_ref()), seen) {
        (Some(base), None) => base.away == Some(side),
        (Some(base), Some(seen)) => {
            let stamp = &base.stamps[side];
            let same = *stamp == seen.stamp || stamp.is_doubt_of(&seen.stamp);
            base.away.is_none() && base.kind == seen.kind && (seen.kind == Kind::Folder || same)
        }
        // A pass has seen it like this already, and noted why it stays so.
        (None, seen) => match (row.map(|row| row.last_seen(side)), seen) {
            (Some(View::Present(known)), Some(seen)) => known.stamp == seen.stamp,
            (None | Some(View::Absent), None) => true,
            _ => false,
        },
    }
}

/// The path in the lane; none where it cannot be one, and only a look at all of it tells.
pub(super) fn within(root: &Path, path: &Path) -> Option<RelPath> {
    let below = path.strip_prefix(root).ok()?.to_str()?;
    RelPath::parse(below).ok().filter(|path| !path.is_root())
}
