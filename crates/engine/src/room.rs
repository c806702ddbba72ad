//! The room that a lane takes on this computer's disk: what lies here, for how long nobody has used it, and what could be
//! dropped to stubs.

use std::collections::{BTreeMap, BTreeSet};
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::sync::Arc;

use katabatic_core::room::{Lying, least_used};
use katabatic_core::{EditTime, Kind, RelPath, Side, Step, Tally};

use crate::Error;
use crate::choose::entries;
use crate::pass::{Pass, Report, WantedContents, Wish};
use crate::standing;

/// Every stub in the folder here, whether the lane carries it or a rule or the choice leaves it out; in tree order.
///
/// # Errors
/// Where the near side is not there, or a folder of it cannot be listed: half a list would be taken for the whole.
pub async fn stubs(pass: &Pass) -> Result<Vec<RelPath>, Error> {
    let entries = entries(pass, Side::Near).await?;
    let stubs = entries.into_iter().filter(|(_, entry)| entry.is_stub());
    Ok(stubs.map(|(path, _)| path).collect())
}

/// What a folder takes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Takes {
    /// What it shows.
    pub shown: Tally,
    /// What of it lies here.
    pub here: Tally,
    /// What of that could be dropped.
    pub can_go: Tally,
    /// When anything that lies here was used last.
    pub used: Option<EditTime>,
}

impl Takes {
    fn add(&mut self, file: &Seen) {
        add(&mut self.shown, file.bytes);
        let Some(used) = file.used else { return };
        add(&mut self.here, file.bytes);
        self.used = self.used.max(Some(used));
        if file.can_go {
            add(&mut self.can_go, file.bytes);
        }
    }
}

fn add(tally: &mut Tally, bytes: u64) {
    tally.files += 1;
    tally.bytes = tally.bytes.saturating_add(bytes);
}

/// What a lane takes.
#[derive(Clone, Debug, Default)]
pub struct Room {
    /// By the folders at its top; what lies in none has no name.
    pub folders: BTreeMap<String, Takes>,
    /// All together.
    pub total: Takes,
    /// Bytes that are free on its disk, where that can be told.
    pub free: Option<u64>,
    /// Bytes that have to go for its budget.
    pub over: u64,
    /// What could be dropped.
    pub can_go: Vec<Lying>,
}

/// A file of the near side.
struct Seen {
    path: RelPath,
    bytes: u64,
    /// When it was used last; none where its content is not here.
    used: Option<EditTime>,
    can_go: bool,
}

/// Looks at what a lane takes.
///
/// # Errors
/// Where its folder is not there, or the ledger cannot be read.
pub async fn look(pass: &Pass) -> Result<Room, Error> {
    let contents = &pass.lane.config.contents;
    let root = pass.lane.config.near.local().map(Path::to_owned);
    let mut files = Vec::new();
    let mut see = |step: &Step, settled: bool| {
        let Some(near) = step
            .entry(Side::Near)
            .filter(|near| near.kind == Kind::File)
        else {
            return;
        };
        let path = step.path();
        let used = (!near.is_stub()).then(|| last_used(root.as_deref(), path));
        files.push(Seen {
            path: path.clone(),
            bytes: near.size,
            can_go: settled && used.is_some() && near.size > 0 && contents.held_by(path).is_none(),
            used,
        });
    };
    let told = &mut |step: &Step| see(step, true);
    let standing =
        standing::look_telling(pass, &RelPath::root(), &|_| String::new(), false, told).await?;
    for one in &standing.standings {
        see(&one.step, false);
    }
    let mut room = Room {
        free: pass.store(Side::Near).free().await,
        ..Room::default()
    };
    for file in files {
        let text = file.path.as_str();
        let top = text.split_once('/').map_or("", |(top, _)| top);
        room.folders.entry(top.to_owned()).or_default().add(&file);
        room.total.add(&file);
        if let (true, Some(used)) = (file.can_go, file.used) {
            room.can_go.push(Lying {
                path: file.path,
                bytes: file.bytes,
                used,
            });
        }
    }
    room.over = contents.budget.over(room.total.here.bytes, room.free);
    Ok(room)
}

/// When a file was read or written last, as far as the disk keeps that.
fn last_used(root: Option<&Path>, path: &RelPath) -> EditTime {
    let meta = root.and_then(|root| root.join(path.as_str()).symlink_metadata().ok());
    let nanos =
        |seconds: i64, rest: i64| seconds.saturating_mul(1_000_000_000).saturating_add(rest);
    let used = meta.map_or(i64::MAX, |meta| {
        let read = nanos(meta.atime(), meta.atime_nsec());
        read.max(nanos(meta.mtime(), meta.mtime_nsec()))
    });
    EditTime(used)
}

/// Drops the content of just these files, as far as the far side is proven to have it.
///
/// # Errors
/// As a pass.
pub async fn shed(pass: &Pass, files: &[Lying]) -> Result<Report, Error> {
    let only: BTreeSet<RelPath> = files.iter().map(|file| file.path.clone()).collect();
    let wish = Wish {
        contents: Some(WantedContents::Away),
        only: Some(Arc::new(only)),
        ..Wish::default()
    };
    pass.sync(&wish).await
}

/// Keeps a lane within its budget; what was shed for it, where anything had to be.
///
/// # Errors
/// As [`look`], and as a pass.
pub async fn keep(pass: &Pass) -> Result<Option<Report>, Error> {
    if !pass.lane.config.contents.budget.is_set() {
        return Ok(None);
    }
    let room = look(pass).await?;
    let goes = least_used(room.can_go, room.over);
    if goes.is_empty() {
        return Ok(None);
    }
    shed(pass, &goes).await.map(Some)
}
