//! The block hashes of the last agreed version of each large file, so that a small change costs little to carry.

use katabatic_core::blocks::Blocks;
use katabatic_core::{Digest, RelPath};
use rusqlite::{Connection, OptionalExtension, params};

use super::LaneKey;

/// Keeps the blocks of the version with this content.
pub fn keep(
    connection: &Connection,
    lane: LaneKey,
    path: &RelPath,
    content: &Digest,
    blocks: &Blocks,
) -> rusqlite::Result<()> {
    connection
        .prepare_cached(
            "INSERT OR REPLACE INTO blocks (lane, key, content, hashes) VALUES (?1, ?2, ?3, ?4)",
        )?
        .execute(params![
            lane.0,
            path.key(),
            content.0.to_vec(),
            blocks.to_bytes()
        ])
        .map(drop)
}

/// The blocks of the version with this content, where they are known.
pub fn of(
    connection: &Connection,
    lane: LaneKey,
    path: &RelPath,
    content: &Digest,
) -> rusqlite::Result<Option<Blocks>> {
    let sql = "SELECT hashes FROM blocks WHERE lane = ?1 AND key = ?2 AND content = ?3";
    let hashes: Option<Vec<u8>> = connection
        .prepare_cached(sql)?
        .query_row(params![lane.0, path.key(), content.0.to_vec()], |row| {
            row.get(0)
        })
        .optional()?;
    Ok(hashes.and_then(|hashes| Blocks::from_bytes(&hashes)))
}
