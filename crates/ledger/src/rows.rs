//! The rows of a lane: what was agreed at each path, and what the last pass saw that is not settled.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::ffi::OsString;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::PathBuf;

use katabatic_core::{
    Agreement, Base, Digest, EditTime, Entry, Kind, OddKind, PerSide, RelPath, Side, Stamp, Tally,
    Unknown, View,
};
use rusqlite::types::Type;
use rusqlite::{Connection, OptionalExtension, Row, params};

use super::LaneKey;
use super::facts::{Fact, Stored};
use katabatic_core::known_root::KnownRoot;
use katabatic_core::place::Place;

/// A row as it stands in the ledger.
#[derive(Clone, Debug)]
pub struct LedgerRow {
    /// The path.
    pub path: RelPath,
    /// What was agreed.
    pub base: Option<Base>,
    /// When the agreed version was edited.
    pub edited: Option<EditTime>,
    /// What the last pass saw near, where that is not what was agreed.
    pub near_seen: Option<View>,
    /// The same, far.
    pub far_seen: Option<View>,
    /// The state and the reason, where the path is not settled.
    pub open: Option<(Agreement, String)>,
    /// Whether the far content is only believed to be the agreed one.
    pub unproven: bool,
    /// Whether the content here came from the far side, and was never changed here since.
    pub came_down: bool,
}

impl LedgerRow {
    /// What one side showed last.
    #[must_use]
    pub fn last_seen(&self, side: Side) -> View {
        let seen = match side {
            Side::Near => &self.near_seen,
            Side::Far => &self.far_seen,
        };
        if let Some(view) = seen {
            return view.clone();
        }
        match &self.base {
            Some(base) if base.away != Some(side) => View::Present(Entry {
                kind: base.kind,
                content: base.content,
                edited: self.edited,
                ..Entry::file(base.size, base.stamps[side].clone())
            }),
            _ => View::Absent,
        }
    }
}

/// What is recorded when both sides agree.
#[derive(Clone, Debug)]
pub struct Agreed {
    /// The path.
    pub path: RelPath,
    /// What both sides hold.
    pub base: Base,
    /// When it was edited, where that is known.
    pub edited: Option<EditTime>,
    /// What finds the near file again after a move: its file handle.
    pub near_handle: Option<String>,
    /// What finds the far file again after a move, where the side gives anything.
    pub far_handle: Option<String>,
    /// Whether the far content is only believed to be the agreed one.
    pub unproven: bool,
    /// Where the content here is from.
    pub origin: Origin,
}

/// Where the content here is from, when it is agreed on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Origin {
    /// It came from the far side just now.
    There,
    /// It was made or changed here, or nobody knows.
    Here,
    /// From wherever it was before, if it is the same content still.
    AsBefore,
}

/// The number of the lane of this id, which is given one where it has none.
pub fn ensure_lane(connection: &Connection, id: &str) -> rusqlite::Result<()> {
    connection
        .execute("INSERT OR IGNORE INTO lane (id) VALUES (?1)", [id])
        .map(drop)
}

/// What the ledger knows of a lane as a whole.
#[derive(Clone, Debug)]
pub struct LaneRow {
    /// Its number.
    pub key: LaneKey,
    /// The number of its last pass.
    pub pass: u64,
    /// When that pass looked.
    pub seen_at: Option<EditTime>,
    /// How the near root was recognised.
    pub near_root: Option<KnownRoot>,
    /// While the near folder is on its way to another disk.
    pub moving: Option<Moving>,
    /// Whether the tool's own folder for this lane was made at the far root.
    pub far_marked: bool,
    /// How the far root was recognised, where it is a folder of this computer.
    pub far_root: Option<KnownRoot>,
    /// The terms under which the rows were agreed on.
    pub terms: Option<String>,
    /// What was left out when the token was taken.
    pub selection: Option<String>,
    /// What stands for the far side as these rows have it.
    pub token: Option<String>,
    /// When the far side was last listed whole.
    pub listed_at: Option<EditTime>,
    /// The number that was noted at the near root last; it only ever grows.
    pub noted: u64,
    /// How the last pass ended, where that was before it carried anything.
    pub failed: Option<FailedPass>,
}

impl LaneRow {
    /// How the near root is recognised, where it is `place`. Of a lane that was killed right when it had its new place, the
    /// copy that was made there counts, and nothing else.
    #[must_use]
    pub fn near_root_at(&self, place: &Place) -> Option<&KnownRoot> {
        match (&self.moving, place) {
            (Some(moving), Place::Local(at)) if moving.to == *at => Some(&moving.root),
            _ => self.near_root.as_ref(),
        }
    }
}

/// A near folder on its way: it was copied whole, and the config may name its new place already.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Moving {
    /// Where to.
    pub to: PathBuf,
    /// How the copy there is recognised.
    pub root: KnownRoot,
}

/// A pass that ended before it carried anything.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FailedPass {
    /// When.
    pub at: EditTime,
    /// What failed, and why.
    pub why: String,
    /// What to do about it.
    pub next: String,
    /// The side that was not there, if that was it.
    pub away: Option<Side>,
}

fn root_in(row: &Row<'_>, column: usize) -> rusqlite::Result<Option<KnownRoot>> {
    let root: Option<Fact<KnownRoot>> = row.get(column)?;
    Ok(root.map(|Fact(root)| root))
}

/// The lane of this id, where the ledger knows it.
///
/// # Errors
/// As SQLite says.
pub fn lane_of(connection: &Connection, id: &str) -> rusqlite::Result<Option<LaneRow>> {
    let read = |row: &Row<'_>| {
        Ok(LaneRow {
            key: LaneKey(row.get(0)?),
            pass: row.get(1)?,
            seen_at: row.get::<_, Option<i64>>(2)?.map(EditTime),
            near_root: root_in(row, 3)?,
            moving: match (row.get::<_, Option<Vec<u8>>>(14)?, root_in(row, 15)?) {
                (Some(to), Some(root)) => Some(Moving {
                    to: OsString::from_vec(to).into(),
                    root,
                }),
                _ => None,
            },
            far_marked: row.get(4)?,
            far_root: root_in(row, 7)?,
            terms: row.get(8)?,
            selection: row.get(9)?,
            token: row.get(5)?,
            listed_at: row.get::<_, Option<i64>>(6)?.map(EditTime),
            noted: row.get(10)?,
            failed: match row.get(11)? {
                None => None,
                Some(at) => Some(FailedPass {
                    at: EditTime(at),
                    why: row.get(12)?,
                    next: row.get(13)?,
                    away: row.get::<_, Option<u8>>(16)?.map(side_of),
                }),
            },
        })
    };
    let sql = "SELECT number, pass, seen_at, near_root, far_marked, token, listed_at, far_root, terms, selection,
                      noted, failed_at, failed_why, failed_next, moving_to, moving_root, failed_away
               FROM lane WHERE id = ?1";
    connection
        .prepare_cached(sql)?
        .query_row([id], read)
        .optional()
}

/// Remembers what was noted at the near root.
pub fn set_noted(connection: &Connection, lane: LaneKey, number: u64) -> rusqlite::Result<()> {
    connection
        .execute(
            "UPDATE lane SET noted = ?2 WHERE number = ?1",
            params![lane.0, number],
        )
        .map(drop)
}

/// Remembers how the last pass ended, where that was before it carried anything.
pub fn set_failed(
    connection: &Connection,
    lane: LaneKey,
    failed: Option<&FailedPass>,
) -> rusqlite::Result<()> {
    connection
        .execute(
            "UPDATE lane SET failed_at = ?2, failed_why = ?3, failed_next = ?4, failed_away = ?5
             WHERE number = ?1 AND (?2 IS NOT NULL OR failed_at IS NOT NULL)",
            params![
                lane.0,
                failed.map(|failed| failed.at.0),
                failed.map(|failed| &failed.why),
                failed.map(|failed| &failed.next),
                failed.and_then(|failed| failed.away).map(side_code)
            ],
        )
        .map(drop)
}

/// Remembers how the near root is recognised, wherever it was on its way to.
pub fn set_near_root(
    connection: &Connection,
    lane: LaneKey,
    root: &KnownRoot,
) -> rusqlite::Result<()> {
    connection
        .execute(
            "UPDATE lane SET near_root = ?2, moving_to = NULL, moving_root = NULL WHERE number = ?1",
            params![lane.0, Fact(root)],
        )
        .map(drop)
}

/// Remembers where the near folder was copied to, before the config names that place; or that it goes nowhere.
pub fn set_moving(
    connection: &Connection,
    lane: LaneKey,
    moving: Option<&Moving>,
) -> rusqlite::Result<()> {
    connection
        .execute(
            "UPDATE lane SET moving_to = ?2, moving_root = ?3 WHERE number = ?1",
            params![
                lane.0,
                moving.map(|moving| moving.to.as_os_str().as_bytes()),
                moving.map(|moving| Fact(&moving.root))
            ],
        )
        .map(drop)
}

/// The same version, with another stamp, and what finds the file by it.
pub fn set_near_stamp(
    connection: &Connection,
    lane: LaneKey,
    path: &RelPath,
    stamp: &Stamp,
    handle: Option<String>,
) -> rusqlite::Result<()> {
    connection
        .prepare_cached(
            "UPDATE row SET near_stamp = ?3, near_doubt = ?4, near_stub = ?5, near_handle = ?6
             WHERE lane = ?1 AND key = ?2",
        )?
        .execute(params![
            lane.0,
            path.key(),
            stamp.undoubted().stored(),
            stamp.is_doubted(),
            stamp.is_stub(),
            handle
        ])
        .map(drop)
}

/// Notes that the far root has its mark, and by what it is known where it is a folder of this computer.
pub fn set_far_marked(
    connection: &Connection,
    lane: LaneKey,
    root: Option<&KnownRoot>,
) -> rusqlite::Result<()> {
    connection
        .execute(
            "UPDATE lane SET far_marked = 1, far_root = ?2 WHERE number = ?1",
            params![lane.0, root.map(Fact)],
        )
        .map(drop)
}

/// Notes the terms that the rows are agreed on from now on, and what is left out.
pub fn set_terms(
    connection: &Connection,
    lane: LaneKey,
    terms: &str,
    selection: &str,
) -> rusqlite::Result<()> {
    connection
        .execute(
            "UPDATE lane SET terms = ?2, selection = ?3 WHERE number = ?1",
            params![lane.0, terms, selection],
        )
        .map(drop)
}

/// Files that both sides agree on and of which the last pass left nothing open, and their bytes.
pub fn agreed_files(connection: &Connection, lane: LaneKey) -> rusqlite::Result<(u64, u64)> {
    connection.query_row(
        "SELECT COUNT(*), COALESCE(SUM(size), 0) FROM row WHERE lane = ?1 AND kind = 1 AND away IS NULL
                AND open_pass IS NULL",
        [lane.0],
        |row| Ok((row.get(0)?, row.get(1)?)),
    )
}

/// Whether the last pass left anything of a lane open, below its top, but for what is left out.
pub fn any_open(connection: &Connection, lane: LaneKey) -> rusqlite::Result<bool> {
    connection.query_row(
        "SELECT EXISTS (SELECT 1 FROM row WHERE lane = ?1 AND open_pass IS NOT NULL AND length(key) > 0 AND state <> ?2)",
        params![lane.0, Fact(Agreement::LeftOut)],
        |row| row.get(0),
    )
}

/// Files of a lane that are stubs here, and the bytes that they show.
pub fn stubs(connection: &Connection, lane: LaneKey) -> rusqlite::Result<(u64, u64)> {
    connection.query_row(
        "SELECT COUNT(*), COALESCE(SUM(size), 0) FROM row WHERE lane = ?1 AND near_stub",
        [lane.0],
        |row| Ok((row.get(0)?, row.get(1)?)),
    )
}

/// What finds the stubs of a lane: their handles.
pub fn stub_handles(connection: &Connection, lane: LaneKey) -> rusqlite::Result<HashSet<String>> {
    connection
        .prepare(
            "SELECT near_handle FROM row WHERE lane = ?1 AND near_stub AND near_handle IS NOT NULL",
        )?
        .query_map([lane.0], |row| row.get(0))?
        .collect()
}

/// The stub that a handle finds on this computer, with its lane's number and id; several where lanes lie on several disks.
pub fn stubs_of_handle(
    connection: &Connection,
    handle: &str,
) -> rusqlite::Result<Vec<(LaneKey, String, RelPath)>> {
    connection
        .prepare_cached(
            "SELECT row.lane, lane.id, row.key FROM row JOIN lane ON lane.number = row.lane
             WHERE row.near_handle = ?1 AND row.near_stub",
        )?
        .query_map([handle], |row| {
            Ok((LaneKey(row.get(0)?), row.get(1)?, path_of(row, 2)?))
        })?
        .collect()
}

/// The content of a stub is here now: as agreed, unless something else was agreed on since; whether it was recorded.
pub fn fill_stub(
    connection: &Connection,
    lane: LaneKey,
    path: &RelPath,
    stub: &Stamp,
    filled: &Base,
) -> rusqlite::Result<bool> {
    let sql = "UPDATE row SET near_stamp = ?4, near_doubt = ?8, near_stub = ?9, far_stamp = ?5, far_doubt = ?10,
                   content = ?6, size = ?7, came_down = 1, unproven = 0
               WHERE lane = ?1 AND key = ?2 AND near_stamp = ?3 AND near_doubt = ?11";
    let changed = connection.prepare_cached(sql)?.execute(params![
        lane.0,
        path.key(),
        stub.undoubted().stored(),
        filled.stamps.near.undoubted().stored(),
        filled.stamps.far.undoubted().stored(),
        filled.content.map(|digest| digest.0.to_vec()),
        filled.size,
        filled.stamps.near.is_doubted(),
        filled.stamps.near.is_stub(),
        filled.stamps.far.is_doubted(),
        stub.is_doubted(),
    ])?;
    Ok(changed == 1)
}

/// Stubs of which the content is only believed to be there, and the bytes that they show.
pub fn believed_stubs(connection: &Connection, lane: LaneKey) -> rusqlite::Result<Tally> {
    connection.query_row(
        "SELECT COUNT(*), COALESCE(SUM(size), 0) FROM row
         WHERE lane = ?1 AND unproven AND near_stub",
        [lane.0],
        |row| {
            Ok(Tally {
                files: row.get(0)?,
                bytes: row.get(1)?,
            })
        },
    )
}

/// Folders of all lanes that both sides hold.
pub fn folders(connection: &Connection) -> rusqlite::Result<u64> {
    connection.query_row("SELECT COUNT(*) FROM row WHERE kind = 2", [], |row| {
        row.get(0)
    })
}

/// What was left out when both sides were last listed whole: by what, files, bytes.
///
/// # Errors
/// As SQLite says.
pub fn left_out(connection: &Connection, lane: LaneKey) -> rusqlite::Result<Vec<(String, Tally)>> {
    let mut statement = connection
        .prepare_cached("SELECT by, files, bytes FROM left_out WHERE lane = ?1 ORDER BY by")?;
    let read = |row: &Row<'_>| {
        let tally = Tally {
            files: row.get(1)?,
            bytes: row.get(2)?,
        };
        Ok((row.get(0)?, tally))
    };
    statement.query_map([lane.0], read)?.collect()
}

/// Notes what a lane leaves out, by the rule or the folder, in place of what was noted before.
pub fn set_left_out(
    connection: &Connection,
    lane: LaneKey,
    left_out: &BTreeMap<String, Tally>,
) -> rusqlite::Result<()> {
    connection.execute("DELETE FROM left_out WHERE lane = ?1", [lane.0])?;
    for (by, tally) in left_out {
        connection
            .prepare_cached(
                "INSERT INTO left_out (lane, by, files, bytes) VALUES (?1, ?2, ?3, ?4)",
            )?
            .execute(params![lane.0, by, tally.files, tally.bytes])?;
    }
    Ok(())
}

/// Keeps what stands for the far side as the rows have it now; `listed_at` where all of it was listed just now.
pub fn set_token(
    connection: &Connection,
    lane: LaneKey,
    token: Option<&str>,
    listed_at: Option<EditTime>,
) -> rusqlite::Result<()> {
    connection
        .execute(
            "UPDATE lane SET token = ?2, listed_at = COALESCE(?3, listed_at) WHERE number = ?1",
            params![lane.0, token, listed_at.map(|at| at.0)],
        )
        .map(drop)
}

/// Notes in whose room the spares of a lane lie, and where its two sides are: what finds them once it is not here any more.
pub fn leave_spares(
    connection: &Connection,
    id: &str,
    (near, far): (&str, &str),
) -> rusqlite::Result<()> {
    let sql = "UPDATE spare SET lane_id = ?1, place = COALESCE(place, CASE side WHEN 1 THEN ?2 ELSE ?3 END)
         WHERE lane_id IS NULL AND lane = (SELECT number FROM lane WHERE id = ?1)";
    connection.execute(sql, [id, near, far]).map(drop)
}

/// What a lane did and keeps goes by its new name.
pub fn rename_lane(
    connection: &Connection,
    id: &str,
    from: &str,
    to: &str,
) -> rusqlite::Result<()> {
    if let Some(lane) = lane_of(connection, id)? {
        // What a lane of before left under the same name stays under it.
        for table in ["run", "spare"] {
            let sql =
                format!("UPDATE {table} SET lane_name = ?3 WHERE lane = ?1 AND lane_name = ?2");
            connection.execute(&sql, params![lane.key.0, from, to])?;
        }
    }
    connection.execute(
        "UPDATE OR REPLACE pause SET lane_name = ?2 WHERE lane_name = ?1",
        params![from, to],
    )?;
    Ok(())
}

/// Forgets a lane whole, but for its runs and spares.
pub fn forget_lane(connection: &Connection, id: &str) -> rusqlite::Result<()> {
    for sql in [
        "DELETE FROM row WHERE lane = (SELECT number FROM lane WHERE id = ?1)",
        "DELETE FROM intent WHERE lane = (SELECT number FROM lane WHERE id = ?1)",
        "DELETE FROM partial WHERE lane = (SELECT number FROM lane WHERE id = ?1)",
        "DELETE FROM blocks WHERE lane = (SELECT number FROM lane WHERE id = ?1)",
        "UPDATE lane SET pass = 0, seen_at = NULL, near_root = NULL, moving_to = NULL, moving_root = NULL,
                far_marked = 0, far_root = NULL, token = NULL, listed_at = NULL WHERE id = ?1",
    ] {
        connection.execute(sql, [id])?;
    }
    Ok(())
}

/// Forgets a lane that nothing was ever carried in.
pub fn drop_lane(connection: &Connection, id: &str) -> rusqlite::Result<()> {
    connection
        .execute("DELETE FROM lane WHERE id = ?1", [id])
        .map(drop)
}

/// Forgets what was agreed with a far side, and remembers where the spares lie that stay there.
pub fn untie_far(connection: &Connection, id: &str, place: &str) -> rusqlite::Result<()> {
    for sql in [
        "DELETE FROM row WHERE lane = (SELECT number FROM lane WHERE id = ?1)",
        "DELETE FROM partial WHERE lane = (SELECT number FROM lane WHERE id = ?1)",
        "DELETE FROM blocks WHERE lane = (SELECT number FROM lane WHERE id = ?1)",
        "UPDATE lane SET pass = 0, seen_at = NULL, far_marked = 0, far_root = NULL, token = NULL, listed_at = NULL WHERE id = ?1",
    ] {
        connection.execute(sql, [id])?;
    }
    connection
        .execute(
            "UPDATE spare SET place = ?2
             WHERE side = 2 AND place IS NULL AND lane = (SELECT number FROM lane WHERE id = ?1)",
            [id, place],
        )
        .map(drop)
}

/// Forgets what was agreed, with both roots still known: the next pass is a first pass between the same places.
pub fn forget_agreed(connection: &Connection, id: &str) -> rusqlite::Result<()> {
    for sql in [
        "DELETE FROM row WHERE lane = (SELECT number FROM lane WHERE id = ?1)",
        "DELETE FROM blocks WHERE lane = (SELECT number FROM lane WHERE id = ?1)",
        "UPDATE lane SET pass = 0, seen_at = NULL, token = NULL, listed_at = NULL WHERE id = ?1",
    ] {
        connection.execute(sql, [id])?;
    }
    Ok(())
}

/// Forgets what was agreed on in every lane, with the roots on this computer still known. Those in accounts are known by
/// this computer's own folder there, which has another name from now on.
pub fn forget_computer(connection: &Connection) -> rusqlite::Result<()> {
    connection.execute_batch(
        "DELETE FROM row; DELETE FROM blocks; DELETE FROM partial;
         UPDATE lane SET pass = 0, seen_at = NULL, token = NULL, listed_at = NULL;
         UPDATE lane SET far_marked = 0 WHERE far_root IS NULL;",
    )?;
    let roots: Vec<(i64, Option<KnownRoot>)> = connection
        .prepare("SELECT number, near_root FROM lane")?
        .query_map([], |row| Ok((row.get(0)?, root_in(row, 1)?)))?
        .collect::<Result<_, _>>()?;
    for (number, root) in roots {
        if matches!(root, Some(KnownRoot::Address(_))) {
            connection.execute(
                "UPDATE lane SET near_root = NULL WHERE number = ?1",
                [number],
            )?;
        }
    }
    Ok(())
}

/// Forgets what was agreed on in a folder of a lane.
pub fn forget_within(connection: &Connection, id: &str, folder: &RelPath) -> rusqlite::Result<()> {
    let mut high = folder.key();
    high.push(1);
    for table in ["row", "blocks"] {
        let sql = format!(
            "DELETE FROM {table} WHERE lane = (SELECT number FROM lane WHERE id = ?1) AND key >= ?2 AND key < ?3"
        );
        connection.execute(&sql, params![id, folder.key(), high])?;
    }
    Ok(())
}

/// The next pass lists the far side whole.
pub fn forget_token(connection: &Connection, id: &str) -> rusqlite::Result<()> {
    connection
        .execute("UPDATE lane SET token = NULL WHERE id = ?1", [id])
        .map(drop)
}

/// Records what both sides agree on at a path; what was open there is not any more.
///
/// # Errors
/// As SQLite says.
pub fn agree(connection: &Connection, lane: LaneKey, agreed: &Agreed) -> rusqlite::Result<()> {
    let base = &agreed.base;
    let sql = "INSERT INTO row (lane, key, kind, size, content, near_stamp, far_stamp, near_listed, far_listed, away,
                                edited, near_handle, unproven, far_handle, came_down, near_doubt, near_stub, far_doubt)
               VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, COALESCE(?15, 0), ?16, ?17, ?18)
               ON CONFLICT (lane, key) DO UPDATE SET
                   came_down = COALESCE(?15, CASE WHEN content IS NOT NULL AND content = ?5 THEN came_down ELSE 0 END),
                   kind = ?3, size = ?4, content = ?5, near_stamp = ?6, far_stamp = ?7, near_listed = ?8,
                   far_listed = ?9, away = ?10, edited = ?11, unproven = ?13,
                   near_doubt = ?16, near_stub = ?17, far_doubt = ?18,
                   -- What is told by the changes alone names no handle of what did not change.
                   near_handle = COALESCE(?12, CASE WHEN near_stamp = ?6 THEN near_handle END),
                   far_handle = COALESCE(?14, CASE WHEN far_stamp = ?7 THEN far_handle END),
                   near_seen_kind = NULL, near_seen_size = NULL, near_seen_stamp = NULL, near_seen_edited = NULL,
                   far_seen_kind = NULL, far_seen_size = NULL, far_seen_stamp = NULL, far_seen_edited = NULL,
                   far_seen_received = NULL, open_pass = NULL, state = NULL, reason = NULL";
    connection.prepare_cached(sql)?.execute(params![
        lane.0,
        agreed.path.key(),
        kind_code(base.kind),
        base.size,
        base.content.map(|digest| digest.0.to_vec()),
        base.stamps.near.undoubted().stored(),
        base.stamps.far.undoubted().stored(),
        base.listed.near,
        base.listed.far,
        base.away.map(side_code),
        agreed.edited.map(|at| at.0),
        agreed.near_handle,
        agreed.unproven,
        agreed.far_handle,
        match agreed.origin {
            Origin::There => Some(true),
            Origin::Here => Some(false),
            Origin::AsBefore => None,
        },
        base.stamps.near.is_doubted(),
        base.stamps.near.is_stub(),
        base.stamps.far.is_doubted(),
    ])?;
    Ok(())
}

/// Forgets what is known of a path.
pub fn forget(connection: &Connection, lane: LaneKey, path: &RelPath) -> rusqlite::Result<()> {
    for sql in [
        "DELETE FROM row WHERE lane = ?1 AND key = ?2",
        "DELETE FROM blocks WHERE lane = ?1 AND key = ?2",
    ] {
        connection
            .prepare_cached(sql)?
            .execute(params![lane.0, path.key()])?;
    }
    Ok(())
}

/// Forgets a path and all below it.
pub fn forget_all(connection: &Connection, lane: LaneKey, path: &RelPath) -> rusqlite::Result<()> {
    for below in keys_within(connection, lane, path)? {
        forget(connection, lane, &below)?;
    }
    Ok(())
}

/// What finds the file again that was agreed on at a path, on one side.
pub fn handle(
    connection: &Connection,
    lane: LaneKey,
    path: &RelPath,
    side: Side,
) -> rusqlite::Result<Option<String>> {
    let sql = match side {
        Side::Near => "SELECT near_handle FROM row WHERE lane = ?1 AND key = ?2",
        Side::Far => "SELECT far_handle FROM row WHERE lane = ?1 AND key = ?2",
    };
    let handle = connection
        .prepare_cached(sql)?
        .query_row(params![lane.0, path.key()], |row| row.get(0))
        .optional()?;
    Ok(handle.flatten())
}

fn keys_within(
    connection: &Connection,
    lane: LaneKey,
    path: &RelPath,
) -> rusqlite::Result<Vec<RelPath>> {
    let mut high = path.key();
    high.push(1);
    connection
        .prepare_cached("SELECT key FROM row WHERE lane = ?1 AND key >= ?2 AND key < ?3")?
        .query_map(params![lane.0, path.key(), high], |row| path_of(row, 0))?
        .collect()
}

/// What is known under one name is known under another, with all below it. On `moved_on`, nobody has listed the new
/// names yet.
pub fn rename(
    connection: &Connection,
    lane: LaneKey,
    from: &RelPath,
    to: &RelPath,
    moved_on: Side,
) -> rusqlite::Result<()> {
    for old in keys_within(connection, lane, from)? {
        let Some(new) = old.rebased(from, to) else {
            continue;
        };
        let far_listed = moved_on == Side::Near;
        connection
            .prepare_cached(
                "UPDATE OR REPLACE row SET key = ?3, far_listed = MIN(far_listed, ?4)
                 WHERE lane = ?1 AND key = ?2",
            )?
            .execute(params![lane.0, old.key(), new.key(), far_listed])?;
        move_blocks(connection, lane, &old, &new)?;
    }
    Ok(())
}

/// The hashes of a large file's blocks go with it.
pub fn move_blocks(
    connection: &Connection,
    lane: LaneKey,
    from: &RelPath,
    to: &RelPath,
) -> rusqlite::Result<()> {
    connection
        .prepare_cached("UPDATE OR REPLACE blocks SET key = ?3 WHERE lane = ?1 AND key = ?2")?
        .execute(params![lane.0, from.key(), to.key()])
        .map(drop)
}

/// Notes that the far side does list a name after all.
pub fn mark_listed(connection: &Connection, lane: LaneKey, path: &RelPath) -> rusqlite::Result<()> {
    let sql = "UPDATE row SET far_listed = 1 WHERE lane = ?1 AND key = ?2 AND far_listed = 0";
    connection
        .prepare_cached(sql)?
        .execute(params![lane.0, path.key()])?;
    Ok(())
}

/// What a pass found at a path that is not settled.
#[derive(Clone, Debug)]
pub struct Open {
    /// The path.
    pub path: RelPath,
    /// What the near side showed.
    pub near: View,
    /// What the far side showed.
    pub far: View,
    /// The state.
    pub state: Agreement,
    /// The reason.
    pub reason: String,
}

/// Notes what a pass found at a path that is not settled.
pub fn note_open(
    connection: &Connection,
    lane: LaneKey,
    pass: u64,
    open: &Open,
) -> rusqlite::Result<()> {
    let sql = "INSERT INTO row (lane, key, open_pass, state, reason,
                                near_seen_kind, near_seen_size, near_seen_stamp, near_seen_edited,
                                far_seen_kind, far_seen_size, far_seen_stamp, far_seen_edited, far_seen_received)
               VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14)
               ON CONFLICT (lane, key) DO UPDATE SET open_pass = ?3, state = ?4, reason = ?5,
                   near_seen_kind = ?6, near_seen_size = ?7, near_seen_stamp = ?8, near_seen_edited = ?9,
                   far_seen_kind = ?10, far_seen_size = ?11, far_seen_stamp = ?12, far_seen_edited = ?13,
                   far_seen_received = ?14";
    let (near, far) = (open.near.entry(), open.far.entry());
    connection.prepare_cached(sql)?.execute(params![
        lane.0,
        open.path.key(),
        pass,
        Fact(open.state),
        open.reason,
        view_code(&open.near),
        near.map(|entry| entry.size),
        near.map(|entry| entry.stamp.stored()),
        near.and_then(|entry| entry.edited).map(|at| at.0),
        view_code(&open.far),
        far.map(|entry| entry.size),
        far.map(|entry| entry.stamp.stored()),
        far.and_then(|entry| entry.edited).map(|at| at.0),
        far.and_then(|entry| entry.received).map(|at| at.0),
    ])?;
    Ok(())
}

/// Closes a pass: what it did not find open (within `scope`) is settled now. `seen_at` is when it looked at the whole
/// lane; a pass over a part of it leaves the time as it is.
pub fn close_pass(
    connection: &Connection,
    lane: LaneKey,
    pass: u64,
    seen_at: Option<EditTime>,
    scope: &[RelPath],
) -> rusqlite::Result<()> {
    for path in scope {
        let mut below = path.key();
        below.push(1);
        let (low, high, all) = (path.key(), below, path.is_root());
        // Keys of a path and of all below it lie between the key and the key with a byte above NUL behind it.
        let within = "lane = ?1 AND open_pass < ?2 AND (?3 OR (key >= ?4 AND key < ?5))";
        let bounds = params![lane.0, pass, all, low, high];
        connection.execute(
            &format!("DELETE FROM row WHERE kind IS NULL AND {within}"),
            bounds,
        )?;
        let clear = "UPDATE row SET open_pass = NULL, state = NULL, reason = NULL,
                       near_seen_kind = NULL, near_seen_size = NULL, near_seen_stamp = NULL, near_seen_edited = NULL,
                       far_seen_kind = NULL, far_seen_size = NULL, far_seen_stamp = NULL, far_seen_edited = NULL,
                       far_seen_received = NULL WHERE";
        connection.execute(&format!("{clear} {within}"), bounds)?;
    }
    connection
        .execute(
            "UPDATE lane SET pass = ?2, seen_at = COALESCE(?3, seen_at) WHERE number = ?1",
            params![lane.0, pass, seen_at.map(|at| at.0)],
        )
        .map(drop)
}

/// What a row tells of the agreed version; [`COLUMNS`] begins with the same.
const BASE_COLUMNS: &str = "key, kind, size, content, near_stamp, far_stamp, near_listed, far_listed, away, near_doubt, far_doubt";

const COLUMNS: &str = "key, kind, size, content, near_stamp, far_stamp, near_listed, far_listed, away, near_doubt, far_doubt,
    edited,
    near_seen_kind, near_seen_size, near_seen_stamp, near_seen_edited,
    far_seen_kind, far_seen_size, far_seen_stamp, far_seen_edited, far_seen_received, state, reason, unproven,
    came_down";

/// Goes through all rows of a lane, or of a folder of it, in tree order, until `each` says no more. What was found out
/// about the top itself has a row of its own, which is not among them.
pub fn each_row(
    connection: &Connection,
    lane: LaneKey,
    within: &RelPath,
    mut each: impl FnMut(LedgerRow) -> bool,
) -> rusqlite::Result<()> {
    // Two plain conditions, each of which goes straight to its rows: one file of a large lane costs no look at the others.
    let which = match within.is_root() {
        true => "length(key) > 0",
        false => "key >= ?2 AND key < ?3",
    };
    let sql = format!("SELECT {COLUMNS} FROM row WHERE lane = ?1 AND {which} ORDER BY key");
    let mut statement = connection.prepare_cached(&sql)?;
    let mut high = within.key();
    high.push(1);
    let mut rows = match within.is_root() {
        true => statement.query([lane.0])?,
        false => statement.query(params![lane.0, within.key(), high])?,
    };
    while let Some(row) = rows.next()? {
        if !each(read_row(row)?) {
            break;
        }
    }
    Ok(())
}

/// What was agreed on at a path.
pub struct Known {
    /// The path.
    pub path: RelPath,
    /// What was agreed, if anything.
    pub base: Option<Base>,
    /// What finds it again, on each side that was asked for.
    pub handles: Vec<(Side, String)>,
    /// Whether the path is open: whether it waits for something. What is left out does not.
    pub is_open: bool,
}

/// As [`each_row`] for a whole lane, with only what was agreed and what finds it again on these sides: half the work.
pub fn each_known(
    connection: &Connection,
    lane: LaneKey,
    handles_on: &[Side],
    mut each: impl FnMut(Known) -> bool,
) -> rusqlite::Result<()> {
    let sql = format!(
        "SELECT {BASE_COLUMNS}, state IS NOT NULL AND state <> ?2, near_handle, far_handle
         FROM row WHERE lane = ?1 AND length(key) > 0 ORDER BY key"
    );
    let mut statement = connection.prepare_cached(&sql)?;
    let mut rows = statement.query(params![lane.0, Fact(Agreement::LeftOut)])?;
    while let Some(row) = rows.next()? {
        let mut handles = Vec::new();
        for side in handles_on {
            let column = match side {
                Side::Near => 12,
                Side::Far => 13,
            };
            if let Some(handle) = row.get(column)? {
                handles.push((*side, handle));
            }
        }
        let known = Known {
            path: path_of(row, 0)?,
            base: base_of(row)?,
            handles,
            is_open: row.get(11)?,
        };
        if !each(known) {
            break;
        }
    }
    Ok(())
}

/// Far stamps that more than one file of the ledger has, of whatever lane; without their doubts.
pub fn shared_far_stamps(connection: &Connection) -> rusqlite::Result<BTreeSet<Stamp>> {
    let sql = "SELECT far_stamp FROM row
               WHERE kind = ?1 AND far_stamp <> ?2 GROUP BY far_stamp HAVING count(*) > 1";
    connection
        .prepare_cached(sql)?
        .query_map(
            params![kind_code(Kind::File), Stamp::new("").stored()],
            |row| row.get(0).map(|Stored(stamp)| stamp),
        )?
        .collect()
}

/// Doubts every row that has this far stamp, of whatever lane: it is read before it counts as settled again. Of a stub
/// nothing is here to be read against; which content it stands for is not known any more.
pub fn doubt_far_stamp(connection: &Connection, stamp: &Stamp) -> rusqlite::Result<()> {
    let sql = "UPDATE row SET
                   content = CASE WHEN near_stub THEN NULL ELSE content END,
                   far_doubt = CASE WHEN near_stub THEN far_doubt ELSE 1 END
               WHERE far_stamp = ?1 AND NOT far_doubt AND kind = ?2";
    connection
        .prepare_cached(sql)?
        .execute(params![stamp.undoubted().stored(), kind_code(Kind::File)])
        .map(drop)
}

/// The paths that a pass left in this state.
pub fn in_state(
    connection: &Connection,
    lane: LaneKey,
    state: Agreement,
) -> rusqlite::Result<Vec<RelPath>> {
    connection
        .prepare_cached(
            "SELECT key FROM row WHERE lane = ?1 AND open_pass IS NOT NULL AND state = ?2 AND length(key) > 0",
        )?
        .query_map(params![lane.0, Fact(state)], |row| path_of(row, 0))?
        .collect()
}

/// The paths of which the last pass could not tell what a side shows.
pub fn unknown_on(
    connection: &Connection,
    lane: LaneKey,
    side: Side,
) -> rusqlite::Result<Vec<RelPath>> {
    let column = match side {
        Side::Near => "near_seen_kind",
        Side::Far => "far_seen_kind",
    };
    let sql = format!(
        "SELECT key FROM row WHERE lane = ?1 AND open_pass IS NOT NULL AND {column} = {UNKNOWN} AND length(key) > 0"
    );
    connection
        .prepare_cached(&sql)?
        .query_map([lane.0], |row| path_of(row, 0))?
        .collect()
}

/// What the last passes of a lane found open at each path that a person has to do something about: the path, the state, the
/// reason; at most so many.
///
/// # Errors
/// As SQLite says.
pub fn open_for_people(
    connection: &Connection,
    lane: &str,
    most: usize,
) -> rusqlite::Result<Vec<(RelPath, Agreement, String)>> {
    let sql = "SELECT row.key, COALESCE(row.reason, '') FROM row JOIN lane ON lane.number = row.lane
               WHERE lane.id = ?1 AND row.open_pass IS NOT NULL AND length(row.key) > 0 AND row.state = ?3
               ORDER BY row.key LIMIT ?2";
    let mut statement = connection.prepare_cached(sql)?;
    let mut open = Vec::new();
    for state in [
        Agreement::Asking(Side::Near),
        Agreement::Asking(Side::Far),
        Agreement::Conflict,
        Agreement::Stuck,
    ] {
        let more = most.saturating_sub(open.len()) as u64;
        let found = statement.query_map(params![lane, more, Fact(state)], |row| {
            Ok((path_of(row, 0)?, state, row.get(1)?))
        })?;
        open.extend(found.collect::<rusqlite::Result<Vec<_>>>()?);
    }
    Ok(open)
}

/// The row of one path.
pub fn row(
    connection: &Connection,
    lane: LaneKey,
    path: &RelPath,
) -> rusqlite::Result<Option<LedgerRow>> {
    let sql = format!("SELECT {COLUMNS} FROM row WHERE lane = ?1 AND key = ?2");
    connection
        .prepare_cached(&sql)?
        .query_row(params![lane.0, path.key()], read_row)
        .optional()
}

pub(super) fn path_of(row: &Row<'_>, column: usize) -> rusqlite::Result<RelPath> {
    let key = row.get_ref(column)?.as_blob()?;
    RelPath::from_key(key)
        .map_err(|why| rusqlite::Error::FromSqlConversionFailure(column, Type::Blob, Box::new(why)))
}

fn stamp_of(row: &Row<'_>, column: usize) -> rusqlite::Result<Stamp> {
    let stamp: Option<Stored> = row.get(column)?;
    Ok(stamp.map_or_else(|| Stamp::new(""), |Stored(stamp)| stamp))
}

/// A stamp of what was agreed on; its doubt stands in a column of its own, so that the same stamp is the same text.
fn agreed_stamp(row: &Row<'_>, column: usize, doubt: usize) -> rusqlite::Result<Stamp> {
    let stamp = stamp_of(row, column)?;
    Ok(match row.get(doubt)? {
        true => stamp.doubted(),
        false => stamp,
    })
}

fn base_of(row: &Row<'_>) -> rusqlite::Result<Option<Base>> {
    let Some(code) = row.get::<_, Option<u8>>(1)? else {
        return Ok(None);
    };
    Ok(Some(Base {
        kind: kind_of(code),
        size: row.get(2)?,
        content: row
            .get_ref(3)?
            .as_blob_or_null()?
            .and_then(Digest::from_slice),
        stamps: PerSide {
            near: agreed_stamp(row, 4, 9)?,
            far: agreed_stamp(row, 5, 10)?,
        },
        listed: PerSide {
            near: row.get(6)?,
            far: row.get(7)?,
        },
        away: row.get::<_, Option<u8>>(8)?.map(side_of),
    }))
}

fn read_row(row: &Row<'_>) -> rusqlite::Result<LedgerRow> {
    let time = |column| Ok::<_, rusqlite::Error>(row.get::<_, Option<i64>>(column)?.map(EditTime));
    let reason: Option<String> = row.get(22)?;
    let seen = |first: usize, received: Option<EditTime>| -> rusqlite::Result<Option<View>> {
        let Some(code) = row.get::<_, Option<u8>>(first)? else {
            return Ok(None);
        };
        Ok(Some(match code {
            0 => View::Absent,
            UNKNOWN => View::Unknown(Unknown::NotListed("as the last pass found".into())),
            code => View::Present(Entry {
                kind: kind_of(code),
                edited: time(first + 3)?,
                received,
                ..Entry::file(
                    row.get::<_, Option<u64>>(first + 1)?.unwrap_or(0),
                    stamp_of(row, first + 2)?,
                )
            }),
        }))
    };
    let (near_seen, far_seen) = (seen(12, None)?, seen(16, time(20)?)?);
    let state: Option<Fact<Agreement>> = row.get(21)?;
    Ok(LedgerRow {
        path: path_of(row, 0)?,
        base: base_of(row)?,
        edited: time(11)?,
        near_seen,
        far_seen,
        open: state.map(|Fact(state)| state).zip(reason),
        unproven: row.get(23)?,
        came_down: row.get(24)?,
    })
}

fn kind_code(kind: Kind) -> u8 {
    match kind {
        Kind::File => 1,
        Kind::Folder => 2,
        Kind::Odd(_) => 3,
    }
}

fn kind_of(code: u8) -> Kind {
    match code {
        2 => Kind::Folder,
        3 => Kind::Odd(OddKind::Own),
        _ => Kind::File,
    }
}

/// What stands for a side that could not be told.
const UNKNOWN: u8 = 9;

fn view_code(view: &View) -> u8 {
    match view {
        View::Absent => 0,
        View::Unknown(_) => UNKNOWN,
        View::Present(entry) => kind_code(entry.kind),
    }
}

pub(crate) fn side_code(side: Side) -> u8 {
    match side {
        Side::Near => 1,
        Side::Far => 2,
    }
}

pub(crate) fn side_of(code: u8) -> Side {
    if code == 1 { Side::Near } else { Side::Far }
}
