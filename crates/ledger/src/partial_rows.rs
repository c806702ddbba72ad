//! How far large files were staged, so that a pass that was cut goes on there.

use katabatic_core::{Digest, EditTime, RelPath, Side, Stamp};
use rusqlite::{Connection, OptionalExtension, params};

use super::LaneKey;
use super::rows::side_code;
use katabatic_core::partial::Partial;

/// What has waited for longer than this is not worth its room.
const KEPT_FOR: i64 = 7 * 24 * 3600 * 1_000_000_000;

/// Which version goes where.
#[derive(Clone, Debug)]
pub struct Transfer {
    /// The lane.
    pub lane: LaneKey,
    /// The path in it.
    pub path: RelPath,
    /// The side it is staged on.
    pub to: Side,
    /// The version, as the other side sees it.
    pub source: Stamp,
    /// Its length.
    pub size: u64,
}

/// How far this very version came.
pub fn known(connection: &Connection, transfer: &Transfer) -> rusqlite::Result<Option<Partial>> {
    let sql = "SELECT slot, done, prefix FROM partial
               WHERE lane = ?1 AND key = ?2 AND side = ?3 AND source = ?4 AND size = ?5";
    let read = |row: &rusqlite::Row<'_>| {
        let prefix: Vec<u8> = row.get(2)?;
        let (slot, done) = (row.get(0)?, row.get(1)?);
        Ok(Digest::from_slice(&prefix).map(|prefix| Partial { slot, done, prefix }))
    };
    let found = connection.prepare_cached(sql)?.query_row(
        params![
            transfer.lane.0,
            transfer.path.key(),
            side_code(transfer.to),
            transfer.source.stored(),
            transfer.size,
        ],
        read,
    );
    Ok(found.optional()?.flatten())
}

/// Keeps how far it came; none forgets it.
pub fn note(
    connection: &Connection,
    transfer: &Transfer,
    partial: Option<&Partial>,
    now: EditTime,
) -> rusqlite::Result<()> {
    let (lane, key, side) = (transfer.lane.0, transfer.path.key(), side_code(transfer.to));
    let Some(partial) = partial else {
        return connection
            .prepare_cached("DELETE FROM partial WHERE lane = ?1 AND key = ?2 AND side = ?3")?
            .execute(params![lane, key, side])
            .map(drop);
    };
    let sql = "INSERT OR REPLACE INTO partial (lane, key, side, source, size, slot, done, prefix, noted_at)
               VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)";
    connection
        .prepare_cached(sql)?
        .execute(params![
            lane,
            key,
            side,
            transfer.source.stored(),
            transfer.size,
            partial.slot,
            partial.done,
            partial.prefix.0.to_vec(),
            now.0,
        ])
        .map(drop)
}

/// The names in a side's staging that are still wanted; what is too old is forgotten first.
pub fn wanted(
    connection: &Connection,
    lane: LaneKey,
    side: Side,
    now: EditTime,
) -> rusqlite::Result<Vec<String>> {
    connection.execute(
        "DELETE FROM partial WHERE lane = ?1 AND noted_at < ?2",
        params![lane.0, now.0.saturating_sub(KEPT_FOR)],
    )?;
    let mut statement =
        connection.prepare_cached("SELECT slot FROM partial WHERE lane = ?1 AND side = ?2")?;
    let slots = statement.query_map(params![lane.0, side_code(side)], |row| row.get(0))?;
    slots.collect()
}
