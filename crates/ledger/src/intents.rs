//! What is about to happen, noted before it does, so that a pass cut off at any instant can be finished or undone.

use katabatic_core::{Digest, EditTime, Entry, Kind, RelPath, Side, SpareCause, Stamp};
use rusqlite::{Connection, params};
use serde::{Deserialize, Serialize};

use super::LaneKey;

/// The version a plan saw at a path and that is expected to come out.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Version {
    /// Whether it is a whole folder.
    #[serde(default)]
    pub folder: bool,
    /// Length in bytes.
    pub size: u64,
    /// The side's stamp.
    pub stamp: Stamp,
    /// BLAKE3 in hexadecimal, where the content is known.
    pub content: Option<String>,
    /// Nanoseconds since 1970.
    pub edited: Option<i64>,
    /// When the side received it, where that is known; nanoseconds since 1970.
    #[serde(default)]
    pub received: Option<i64>,
    /// What finds the file again after a move, where the side gives anything with its listings.
    #[serde(default)]
    pub handle: Option<String>,
}

impl Version {
    /// A version of which nothing is known but that it is there.
    #[must_use]
    pub fn unknown(size: u64) -> Version {
        Version {
            folder: false,
            size,
            stamp: Stamp::new(""),
            content: None,
            edited: None,
            received: None,
            handle: None,
        }
    }

    /// The version of a file that was seen; `content` is what the ledger knows where the entry does not.
    #[must_use]
    pub fn of(entry: &Entry, content: Option<Digest>) -> Version {
        Version {
            folder: entry.kind == Kind::Folder,
            size: entry.size,
            stamp: entry.stamp.clone(),
            content: entry.content.or(content).map(|digest| digest.hex()),
            edited: entry.edited.map(|at| at.0),
            received: entry.received.map(|at| at.0),
            handle: entry.handle.as_deref().map(str::to_owned),
        }
    }

    /// The content, where it is known.
    #[must_use]
    pub fn digest(&self) -> Option<Digest> {
        let hex = self.content.as_deref()?;
        let bytes: Option<Vec<u8>> = (0..hex.len())
            .step_by(2)
            .map(|at| u8::from_str_radix(hex.get(at..at + 2)?, 16).ok())
            .collect();
        Digest::from_slice(&bytes?)
    }

    /// When it was edited, where that is known.
    #[must_use]
    pub fn edited(&self) -> Option<EditTime> {
        self.edited.map(EditTime)
    }

    /// As an entry of a side.
    #[must_use]
    pub fn entry(&self) -> Entry {
        let kind = if self.folder {
            Kind::Folder
        } else {
            Kind::File
        };
        Entry {
            kind,
            content: self.digest(),
            edited: self.edited(),
            received: self.received.map(EditTime),
            handle: self.handle.as_deref().map(Into::into),
            ..Entry::file(self.size, self.stamp.clone())
        }
    }
}

/// What is about to be done on one side at one path.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Intent {
    /// Whether the near side is changed.
    pub on_near: bool,
    /// Where the old version goes; none where there is none.
    pub spare: Option<String>,
    /// What that was called before, the first name first: a request that was not answered may name any of them.
    #[serde(default)]
    pub spare_before: Vec<String>,
    /// The version that is to come out.
    pub old: Option<Version>,
    /// Where the new version is staged; none for a removal.
    pub staged: Option<String>,
    /// What that was called before.
    #[serde(default)]
    pub staged_before: Vec<String>,
    /// The staged version, as this side sees it.
    pub new: Option<Version>,
    /// The same version, as the other side sees it.
    pub source: Option<Version>,
    /// Whether the content of the new version is only believed.
    #[serde(default)]
    pub unproven: bool,
    /// Whether the other side ever listed the name.
    pub source_listed: bool,
    /// For a move: the older name.
    #[serde(default)]
    pub moved_from: Option<String>,
    /// For the move of a folder: a file in it, and its version there, by which the folder is known again.
    #[serde(default)]
    pub member: Option<(String, Version)>,
    /// Whether what is to come out is a folder with nothing in it: strangers that came into it go back with it.
    #[serde(default)]
    pub expects_empty: bool,
    /// The folder that the path lies in, where that is in no lane.
    #[serde(default)]
    pub place: Option<String>,
    /// When it was noted, in nanoseconds since 1970.
    #[serde(default)]
    pub noted_at: Option<i64>,
    /// Whether what was agreed stays as it is: then the change is an edit of that side, and the next pass carries it.
    #[serde(default)]
    pub agreed_stays: bool,
    /// Why, for the spares; none where nothing comes out.
    pub cause: Option<SpareCause>,
}

impl Intent {
    /// Nothing yet, on a side.
    #[must_use]
    pub fn on(side: Side, cause: Option<SpareCause>) -> Intent {
        Intent {
            on_near: side == Side::Near,
            spare: None,
            spare_before: Vec::new(),
            old: None,
            staged: None,
            staged_before: Vec::new(),
            new: None,
            source: None,
            unproven: false,
            source_listed: false,
            moved_from: None,
            member: None,
            expects_empty: false,
            place: None,
            noted_at: None,
            agreed_stays: false,
            cause,
        }
    }

    /// The path that something is moved from, for a move.
    #[must_use]
    pub fn moved_from(&self) -> Option<RelPath> {
        RelPath::parse(self.moved_from.as_deref()?).ok()
    }

    /// Why what comes out lies among the spares. Where nothing was to come out, what is met there was nobody's wish.
    pub fn spare_cause(&self) -> SpareCause {
        self.cause.clone().unwrap_or(SpareCause::Met)
    }

    /// The side that is changed.
    #[must_use]
    pub fn side(&self) -> Side {
        if self.on_near { Side::Near } else { Side::Far }
    }
}

/// Notes what is about to be done at a path; the number it gets.
pub fn note(
    connection: &Connection,
    lane: LaneKey,
    path: &RelPath,
    intent: &Intent,
) -> rusqlite::Result<i64> {
    let text = serde_json::to_string(intent)
        .map_err(|why| rusqlite::Error::ToSqlConversionFailure(Box::new(why)))?;
    connection
        .prepare_cached("INSERT INTO intent (lane, key, text) VALUES (?1, ?2, ?3)")?
        .execute(params![lane.0, path.key(), text])?;
    Ok(connection.last_insert_rowid())
}

/// Notes what has become of an intent that stays open.
pub fn update(connection: &Connection, number: i64, intent: &Intent) -> rusqlite::Result<()> {
    let text = serde_json::to_string(intent)
        .map_err(|why| rusqlite::Error::ToSqlConversionFailure(Box::new(why)))?;
    connection
        .execute(
            "UPDATE intent SET text = ?2 WHERE number = ?1",
            params![number, text],
        )
        .map(drop)
}

/// It was done, or given up: nothing is left to be cleared up.
pub fn done(connection: &Connection, number: i64) -> rusqlite::Result<()> {
    connection
        .prepare_cached("DELETE FROM intent WHERE number = ?1")?
        .execute([number])
        .map(drop)
}

/// All intents of a lane that have no outcome yet, in the order they were noted.
pub fn unfinished(
    connection: &Connection,
    lane: LaneKey,
) -> rusqlite::Result<Vec<(i64, RelPath, Intent)>> {
    connection
        .prepare("SELECT number, key, text FROM intent WHERE lane = ?1 ORDER BY number")?
        .query_map([lane.0], of_row)?
        .collect()
}

/// All intents without an outcome, of every lane.
///
/// # Errors
/// As SQLite says.
pub fn all_unfinished(connection: &Connection) -> rusqlite::Result<Vec<Intent>> {
    connection
        .prepare("SELECT number, key, text FROM intent ORDER BY number")?
        .query_map([], |row| Ok(of_row(row)?.2))?
        .collect()
}

/// The intent of this number.
pub(super) fn read(
    connection: &Connection,
    number: i64,
) -> rusqlite::Result<(i64, RelPath, Intent)> {
    let sql = "SELECT number, key, text FROM intent WHERE number = ?1";
    connection.query_row(sql, [number], of_row)
}

fn of_row(row: &rusqlite::Row<'_>) -> rusqlite::Result<(i64, RelPath, Intent)> {
    let (key, text): (Vec<u8>, String) = (row.get(1)?, row.get(2)?);
    let wrong = |column, why| {
        rusqlite::Error::FromSqlConversionFailure(column, rusqlite::types::Type::Text, why)
    };
    let path = RelPath::from_key(&key).map_err(|why| wrong(1, Box::new(why)))?;
    let intent = serde_json::from_str(&text).map_err(|why| wrong(2, Box::new(why)))?;
    Ok((row.get(0)?, path, intent))
}
