//! Files that passes found being written, so that no version of them could be read, and since when.

use std::collections::BTreeMap;

use katabatic_core::{EditTime, RelPath};
use rusqlite::{Connection, params};

use super::LaneKey;
use super::rows::path_of;

/// A file that was not found so for longer than this was quiet in between. In nanoseconds.
const QUIET_AFTER: i64 = 3_600 * 1_000_000_000;

/// The files of a lane that were being written when a pass came by last, and since when no pass could read them.
pub fn all(
    connection: &Connection,
    lane: LaneKey,
) -> rusqlite::Result<BTreeMap<RelPath, EditTime>> {
    connection
        .prepare_cached("SELECT key, since FROM being_written WHERE lane = ?1")?
        .query_map([lane.0], |row| {
            Ok((path_of(row, 0)?, EditTime(row.get(1)?)))
        })?
        .collect()
}

/// Notes that a file is being written.
pub fn note(
    connection: &Connection,
    lane: LaneKey,
    path: &RelPath,
    now: EditTime,
) -> rusqlite::Result<()> {
    let sql = "INSERT INTO being_written (lane, key, since, last) VALUES (?1, ?2, ?3, ?3)
               ON CONFLICT (lane, key) DO UPDATE
               SET since = CASE WHEN ?3 - last > ?4 THEN ?3 ELSE since END, last = ?3";
    connection
        .prepare_cached(sql)?
        .execute(params![lane.0, path.key(), now.0, QUIET_AFTER])
        .map(drop)
}

/// Forgets it: a version of it could be read.
pub fn forget(connection: &Connection, lane: LaneKey, path: &RelPath) -> rusqlite::Result<()> {
    connection
        .prepare_cached("DELETE FROM being_written WHERE lane = ?1 AND key = ?2")?
        .execute(params![lane.0, path.key()])
        .map(drop)
}
