//! What the agent was told to leave alone for a while; kept here so that a restart does not forget it.

use std::collections::BTreeMap;

use katabatic_core::EditTime;
use rusqlite::{Connection, params};

/// Until when; none where nobody said.
pub type Until = Option<EditTime>;

/// Pauses a lane, or with an empty name all of them.
pub fn set(connection: &Connection, lane: &str, until: Until) -> rusqlite::Result<()> {
    connection
        .execute(
            "INSERT OR REPLACE INTO pause (lane_name, until) VALUES (?1, ?2)",
            params![lane, until.map(|until| until.0)],
        )
        .map(drop)
}

/// Ends the pause of a lane, or with an empty name every pause.
pub fn end(connection: &Connection, lane: &str) -> rusqlite::Result<()> {
    connection
        .execute(
            "DELETE FROM pause WHERE ?1 = '' OR lane_name = ?1",
            params![lane],
        )
        .map(drop)
}

/// All pauses, by the lane's name; of all lanes under the empty one.
pub fn all(connection: &Connection) -> rusqlite::Result<BTreeMap<String, Until>> {
    connection
        .prepare("SELECT lane_name, until FROM pause")?
        .query_map([], |row| {
            Ok((row.get(0)?, row.get::<_, Option<i64>>(1)?.map(EditTime)))
        })?
        .collect()
}
