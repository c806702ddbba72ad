//! When the shelves of spares were compared with the list, and which empty folders were seen there.

use std::collections::HashSet;

use katabatic_core::{Digest, EditTime, RelPath, Side, Stamp};
use rusqlite::types::Type;
use rusqlite::{Connection, OptionalExtension, params};

use super::LaneKey;
use super::rows::side_code;

/// When the shelves of a lane were last compared.
pub fn looked_at(connection: &Connection, lane: LaneKey) -> rusqlite::Result<Option<EditTime>> {
    let sql = "SELECT shelves_at FROM lane WHERE number = ?1";
    let at: Option<Option<i64>> = connection
        .query_row(sql, [lane.0], |row| row.get(0))
        .optional()?;
    Ok(at.flatten().map(EditTime))
}

/// Notes when the shelves of a lane were compared with the list.
pub fn set_looked_at(connection: &Connection, lane: LaneKey, at: EditTime) -> rusqlite::Result<()> {
    connection
        .execute(
            "UPDATE lane SET shelves_at = ?2 WHERE number = ?1",
            params![lane.0, at.0],
        )
        .map(drop)
}

/// Notes the empty folders that were seen on a shelf now; of those that were not, nothing is known any more.
pub fn keep_only(
    connection: &Connection,
    (lane, side): (LaneKey, Side),
    seen: &HashSet<String>,
    now: EditTime,
) -> rusqlite::Result<()> {
    let sql = "SELECT slot FROM empty_slot WHERE lane = ?1 AND side = ?2";
    let known: Vec<String> = connection
        .prepare_cached(sql)?
        .query_map(params![lane.0, side_code(side)], |row| row.get(0))?
        .collect::<rusqlite::Result<_>>()?;
    for slot in known.iter().filter(|slot| !seen.contains(*slot)) {
        connection.execute(
            "DELETE FROM empty_slot WHERE lane = ?1 AND side = ?2 AND slot = ?3",
            params![lane.0, side_code(side), slot],
        )?;
    }
    for slot in seen {
        connection.execute(
            "INSERT OR IGNORE INTO empty_slot (lane, side, slot, seen_at) VALUES (?1, ?2, ?3, ?4)",
            params![lane.0, side_code(side), slot, now.0],
        )?;
    }
    Ok(())
}

/// When an empty folder was first seen.
pub fn first_seen(
    connection: &Connection,
    (lane, side): (LaneKey, Side),
    slot: &str,
) -> rusqlite::Result<Option<EditTime>> {
    let sql = "SELECT seen_at FROM empty_slot WHERE lane = ?1 AND side = ?2 AND slot = ?3";
    let at: Option<i64> = connection
        .query_row(sql, params![lane.0, side_code(side), slot], |row| {
            row.get(0)
        })
        .optional()?;
    Ok(at.map(EditTime))
}

/// A path of the lane where this very version is, or was agreed on to be.
pub fn path_of(
    connection: &Connection,
    lane: LaneKey,
    content: Option<Digest>,
    stamp: &Stamp,
) -> rusqlite::Result<Option<RelPath>> {
    let sql = "SELECT key FROM row WHERE lane = ?1 AND kind = 1
               AND ((?2 IS NOT NULL AND content = ?2) OR (?2 IS NULL AND far_stamp = ?3)) LIMIT 1";
    let content = content.map(|digest| digest.0.to_vec());
    let key: Option<Vec<u8>> = connection
        .query_row(
            sql,
            params![lane.0, content, stamp.undoubted().stored()],
            |row| row.get(0),
        )
        .optional()?;
    key.map(|key| {
        RelPath::from_key(&key)
            .map_err(|why| rusqlite::Error::FromSqlConversionFailure(0, Type::Blob, Box::new(why)))
    })
    .transpose()
}
