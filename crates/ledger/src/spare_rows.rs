//! What lies in the spares, of all lanes and both sides.

use std::collections::HashSet;

use katabatic_core::{Digest, EditTime, RelPath, Side, SpareCause, Stamp};
use rusqlite::types::Type;
use rusqlite::{Connection, OptionalExtension, Row, params};

use super::LaneKey;
use super::facts::{Fact, Stored};
use super::rows::{side_code, side_of};

/// A version that a pass removed or replaced.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Spare {
    /// Its number, by which it is asked for.
    pub number: i64,
    /// The lane's number in the ledger.
    pub lane: LaneKey,
    /// The lane's name at the time.
    pub lane_name: String,
    /// The side it lies on.
    pub side: Side,
    /// Where it was.
    pub path: RelPath,
    /// Its name in the side's own room.
    pub slot: String,
    /// Whether it is a whole folder.
    pub folder: bool,
    /// Length in bytes.
    pub size: u64,
    /// The content, where it is known.
    pub content: Option<Digest>,
    /// When it was edited.
    pub edited: Option<EditTime>,
    /// When it was taken out.
    pub taken_at: EditTime,
    /// The run that did it.
    pub run: Option<i64>,
    /// Why.
    pub cause: SpareCause,
    /// The folder it lies in, where that is not the lane's own any more.
    pub place: Option<String>,
    /// The id of the lane in whose room there it lies, where that lane is not here any more.
    pub lane_id: Option<String>,
    /// The side's stamp of it when it was taken out, where that is known.
    pub stamp: Option<Stamp>,
}

/// Lists a spare.
pub fn add(connection: &Connection, spare: &Spare) -> rusqlite::Result<()> {
    let sql = "INSERT INTO spare (lane, lane_name, side, key, slot, size, content, edited, taken_at, run, cause, folder, place,
                                 lane_id, stamp)
               SELECT ?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15
               WHERE NOT EXISTS (SELECT 1 FROM spare WHERE lane = ?1 AND side = ?3 AND slot = ?5)";
    connection
        .prepare_cached(sql)?
        .execute(params![
            spare.lane.0,
            spare.lane_name,
            side_code(spare.side),
            spare.path.key(),
            spare.slot,
            spare.size,
            spare.content.map(|digest| digest.0.to_vec()),
            spare.edited.map(|at| at.0),
            spare.taken_at.0,
            spare.run,
            Fact(&spare.cause),
            spare.folder,
            spare.place,
            spare.lane_id,
            spare.stamp.as_ref().map(Stamp::stored),
        ])
        .map(drop)
}

/// The number of the spare with this name in a room.
pub fn number_of(connection: &Connection, lane: LaneKey, slot: &str) -> rusqlite::Result<i64> {
    connection.query_row(
        "SELECT number FROM spare WHERE lane = ?1 AND slot = ?2",
        params![lane.0, slot],
        |row| row.get(0),
    )
}

const COLUMNS: &str = "number, lane, lane_name, side, key, slot, size, content, edited, taken_at, run, cause, folder, place, lane_id, stamp";

fn read(row: &Row<'_>) -> rusqlite::Result<Spare> {
    let key: Vec<u8> = row.get(4)?;
    let path = RelPath::from_key(&key)
        .map_err(|why| rusqlite::Error::FromSqlConversionFailure(4, Type::Blob, Box::new(why)))?;
    let Fact(cause) = row.get(11)?;
    Ok(Spare {
        number: row.get(0)?,
        lane: LaneKey(row.get(1)?),
        lane_name: row.get(2)?,
        side: side_of(row.get(3)?),
        path,
        slot: row.get(5)?,
        size: row.get(6)?,
        content: row
            .get::<_, Option<Vec<u8>>>(7)?
            .and_then(|bytes| Digest::from_slice(&bytes)),
        edited: row.get::<_, Option<i64>>(8)?.map(EditTime),
        taken_at: EditTime(row.get(9)?),
        run: row.get(10)?,
        cause,
        folder: row.get(12)?,
        place: row.get(13)?,
        lane_id: row.get(14)?,
        stamp: row.get::<_, Option<Stored>>(15)?.map(|Stored(stamp)| stamp),
    })
}

/// All spares, the newest first; of one lane where a name is given.
///
/// # Errors
/// As SQLite says.
pub fn all(connection: &Connection, lane: Option<&str>) -> rusqlite::Result<Vec<Spare>> {
    let sql = format!(
        "SELECT {COLUMNS} FROM spare WHERE ?1 IS NULL OR lane_name = ?1 ORDER BY number DESC"
    );
    connection.prepare(&sql)?.query_map([lane], read)?.collect()
}

/// What a run put into the spares.
///
/// # Errors
/// As SQLite says.
pub fn of_run(connection: &Connection, run: i64) -> rusqlite::Result<Vec<Spare>> {
    let sql = format!("SELECT {COLUMNS} FROM spare WHERE run = ?1 ORDER BY number");
    connection.prepare(&sql)?.query_map([run], read)?.collect()
}

/// The names of all spares on one side of a lane.
pub fn slots(
    connection: &Connection,
    lane: LaneKey,
    side: Side,
) -> rusqlite::Result<HashSet<String>> {
    connection
        .prepare_cached("SELECT slot FROM spare WHERE lane = ?1 AND side = ?2")?
        .query_map(params![lane.0, side_code(side)], |row| row.get(0))?
        .collect()
}

/// The spares of exactly this path of a lane, the newest first.
///
/// # Errors
/// As SQLite says.
pub fn of_path(
    connection: &Connection,
    lane: LaneKey,
    path: &RelPath,
) -> rusqlite::Result<Vec<Spare>> {
    let sql =
        format!("SELECT {COLUMNS} FROM spare WHERE lane = ?1 AND key = ?2 ORDER BY number DESC");
    connection
        .prepare_cached(&sql)?
        .query_map(params![lane.0, path.key()], read)?
        .collect()
}

/// The spares of files on one side of a lane that no later pass has read again.
pub fn not_read_again(
    connection: &Connection,
    lane: LaneKey,
    side: Side,
) -> rusqlite::Result<Vec<Spare>> {
    let sql = format!(
        "SELECT {COLUMNS} FROM spare
         WHERE lane = ?1 AND side = ?2 AND read_again = 0 AND folder = 0 ORDER BY number"
    );
    connection
        .prepare(&sql)?
        .query_map(params![lane.0, side_code(side)], read)?
        .collect()
}

/// Notes that a spare was read again, for what a writer with an old descriptor did to it.
pub fn mark_read_again(connection: &Connection, number: i64) -> rusqlite::Result<()> {
    connection
        .execute(
            "UPDATE spare SET read_again = 1 WHERE number = ?1",
            [number],
        )
        .map(drop)
}

/// Notes what a spare holds that nobody had read before.
pub fn set_content(connection: &Connection, number: i64, content: Digest) -> rusqlite::Result<()> {
    connection
        .execute(
            "UPDATE spare SET content = ?2 WHERE number = ?1 AND content IS NULL",
            params![number, content.0.to_vec()],
        )
        .map(drop)
}

/// Gives a spare another reason.
pub fn set_cause(connection: &Connection, number: i64, cause: &SpareCause) -> rusqlite::Result<()> {
    connection
        .execute(
            "UPDATE spare SET cause = ?2 WHERE number = ?1",
            params![number, Fact(cause)],
        )
        .map(drop)
}

/// Takes a spare out of the list.
pub fn forget(connection: &Connection, number: i64) -> rusqlite::Result<()> {
    connection
        .execute("DELETE FROM spare WHERE number = ?1", [number])
        .map(drop)
}

/// The spare of this number.
///
/// # Errors
/// As SQLite says.
pub fn spare(connection: &Connection, number: i64) -> rusqlite::Result<Option<Spare>> {
    connection
        .query_row(
            &format!("SELECT {COLUMNS} FROM spare WHERE number = ?1"),
            [number],
            read,
        )
        .optional()
}
