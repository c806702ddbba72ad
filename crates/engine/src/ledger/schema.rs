//! The tables, and how an older ledger becomes a newer one.

use rusqlite::Connection;

/// Each entry takes the ledger from its index to the next version; none of them is ever changed once it was used.
const MIGRATIONS: [&str; 12] = [
    "
    CREATE TABLE lane (
        number      INTEGER PRIMARY KEY,
        id          TEXT NOT NULL UNIQUE,
        -- The number of the last pass; what it saw, it saw at seen_at (nanoseconds since 1970).
        pass        INTEGER NOT NULL DEFAULT 0,
        seen_at     INTEGER,
        -- How the near root was recognised.
        near_root   TEXT,
        -- Whether the tool's own folder for this lane was made at the far root.
        far_marked  INTEGER NOT NULL DEFAULT 0,
        -- The far side's change token, kept with the rows that came with it.
        token       TEXT
    );
    CREATE TABLE row (
        lane        INTEGER NOT NULL,
        -- The path with NUL for the slash, so that the order of bytes is tree order.
        key         BLOB NOT NULL,
        -- What was agreed: 1 file, 2 folder; NULL where nothing was agreed yet.
        kind        INTEGER,
        size        INTEGER,
        content     BLOB,
        near_stamp  TEXT,
        far_stamp   TEXT,
        near_listed INTEGER NOT NULL DEFAULT 0,
        far_listed  INTEGER NOT NULL DEFAULT 0,
        -- The name on a side where it is not the one in the key.
        near_name   TEXT,
        far_name    TEXT,
        near_handle TEXT,
        edited      INTEGER,
        -- The side whose removal is remembered and not carried: 1 near, 2 far.
        away        INTEGER,
        -- What the last pass saw where that is not what was agreed: 0 absent, 1 file, 2 folder, 3 odd, 9 unknown.
        near_seen_kind   INTEGER,
        near_seen_size   INTEGER,
        near_seen_stamp  TEXT,
        near_seen_edited INTEGER,
        far_seen_kind    INTEGER,
        far_seen_size    INTEGER,
        far_seen_stamp   TEXT,
        far_seen_edited  INTEGER,
        far_seen_received INTEGER,
        -- Where the path is not settled: the pass that found it so, the state's word and the reason.
        open_pass   INTEGER,
        state       TEXT,
        reason      TEXT,
        PRIMARY KEY (lane, key)
    ) WITHOUT ROWID;
    CREATE INDEX row_open ON row (lane, open_pass) WHERE open_pass IS NOT NULL;
    CREATE TABLE intent (
        number      INTEGER PRIMARY KEY AUTOINCREMENT,
        lane        INTEGER NOT NULL,
        key         BLOB NOT NULL,
        text        TEXT NOT NULL
    );
    CREATE TABLE spare (
        number      INTEGER PRIMARY KEY AUTOINCREMENT,
        lane        INTEGER NOT NULL,
        lane_name   TEXT NOT NULL,
        side        INTEGER NOT NULL,
        key         BLOB NOT NULL,
        slot        TEXT NOT NULL,
        folder      INTEGER NOT NULL,
        size        INTEGER NOT NULL,
        content     BLOB,
        edited      INTEGER,
        taken_at    INTEGER NOT NULL,
        run         INTEGER,
        why         TEXT NOT NULL,
        -- Whether a later pass has read it again, for what a writer with an old descriptor did to it.
        read_again  INTEGER NOT NULL DEFAULT 0
    );
    CREATE TABLE run (
        number      INTEGER PRIMARY KEY AUTOINCREMENT,
        lane        INTEGER NOT NULL,
        lane_name   TEXT NOT NULL,
        command     TEXT NOT NULL,
        began       INTEGER NOT NULL,
        ended       INTEGER,
        outcome     TEXT,
        files_up    INTEGER NOT NULL DEFAULT 0,
        bytes_up    INTEGER NOT NULL DEFAULT 0,
        files_down  INTEGER NOT NULL DEFAULT 0,
        bytes_down  INTEGER NOT NULL DEFAULT 0,
        removed     INTEGER NOT NULL DEFAULT 0,
        replaced    INTEGER NOT NULL DEFAULT 0,
        conflicts   INTEGER NOT NULL DEFAULT 0,
        stuck       INTEGER NOT NULL DEFAULT 0
    );
    CREATE INDEX run_lane ON run (lane, began);
    CREATE TABLE run_item (
        run         INTEGER NOT NULL,
        number      INTEGER NOT NULL,
        path        TEXT NOT NULL,
        action      TEXT NOT NULL,
        bytes       INTEGER NOT NULL,
        result      TEXT NOT NULL,
        PRIMARY KEY (run, number)
    ) WITHOUT ROWID;
",
    "
    CREATE TABLE account (
        name        TEXT PRIMARY KEY,
        reached_at  INTEGER,
        used        INTEGER,
        free        INTEGER,
        -- When the bytes were counted, which only signing in and testing do.
        space_at    INTEGER,
        error_at    INTEGER,
        error       TEXT,
        -- What the probe found out about the server, as JSON, and when.
        findings    TEXT,
        probed_at   INTEGER
    ) WITHOUT ROWID;
    -- Where a far spare lies, since its lane was tied to another far folder; NULL: at the lane's own.
    ALTER TABLE spare ADD COLUMN place TEXT;
",
    "
    -- How far a large file was staged: of which version (the other side's stamp), where, and the BLAKE3 of what came.
    CREATE TABLE partial (
        lane        INTEGER NOT NULL,
        key         BLOB NOT NULL,
        side        INTEGER NOT NULL,
        source      TEXT NOT NULL,
        size        INTEGER NOT NULL,
        slot        TEXT NOT NULL,
        done        INTEGER NOT NULL,
        prefix      BLOB NOT NULL,
        noted_at    INTEGER NOT NULL,
        PRIMARY KEY (lane, key, side)
    ) WITHOUT ROWID;
    -- The BLAKE3 of each block of the agreed version of a large file; they count only with that content.
    CREATE TABLE blocks (
        lane        INTEGER NOT NULL,
        key         BLOB NOT NULL,
        content     BLOB NOT NULL,
        hashes      BLOB NOT NULL,
        PRIMARY KEY (lane, key)
    );
    -- Whether the far content of a row is only believed to be what was agreed.
    ALTER TABLE row ADD COLUMN unproven INTEGER NOT NULL DEFAULT 0;
    -- When the far side was last listed whole, beside the token that tells what changed since.
    ALTER TABLE lane ADD COLUMN listed_at INTEGER;
",
    "
    -- How the far root was recognised, where it is a folder of this computer.
    ALTER TABLE lane ADD COLUMN far_root TEXT;
    -- The terms under which the rows were agreed on, and what was left out when the token was taken.
    ALTER TABLE lane ADD COLUMN terms TEXT;
    ALTER TABLE lane ADD COLUMN selection TEXT;
    ALTER TABLE run ADD COLUMN drift INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE run ADD COLUMN asking INTEGER NOT NULL DEFAULT 0;
    -- What a rule or a skipped folder left out when both sides were last listed whole.
    CREATE TABLE left_out (
        lane        INTEGER NOT NULL,
        -- What a person calls it: the rule as it was written, or the folder.
        by          TEXT NOT NULL,
        files       INTEGER NOT NULL,
        bytes       INTEGER NOT NULL,
        PRIMARY KEY (lane, by)
    ) WITHOUT ROWID;
",
    "
    -- What finds the far file again after a move, where the side gives anything.
    ALTER TABLE row ADD COLUMN far_handle TEXT;
    ALTER TABLE run ADD COLUMN moved INTEGER NOT NULL DEFAULT 0;
",
    "
    -- Files whose copy here went because the lane does not take them any more.
    ALTER TABLE run ADD COLUMN dropped INTEGER NOT NULL DEFAULT 0;
    -- The number noted at the near root with the last pass: a root that has another one, or a ledger, is an older one.
    ALTER TABLE lane ADD COLUMN noted INTEGER NOT NULL DEFAULT 0;
",
    "
    -- What the agent leaves alone, all lanes under the empty name; until when, or until somebody ends it.
    CREATE TABLE pause (
        lane_name   TEXT PRIMARY KEY,
        until       INTEGER
    ) WITHOUT ROWID;
",
    "
    -- When a run was done with this path.
    ALTER TABLE run_item ADD COLUMN at INTEGER;
    -- What happened to one path is asked for among all the items of all runs.
    CREATE INDEX run_item_path ON run_item (path);
",
    "
    -- Files that came as stubs, and files whose content was dropped here for one; a row whose near stamp begins with
    -- 'stub:' is that of a stub.
    ALTER TABLE run ADD COLUMN stubs INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE run ADD COLUMN shed INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE run ADD COLUMN bytes_shed INTEGER NOT NULL DEFAULT 0;
    -- A stub that is opened is known by its inode alone.
    CREATE INDEX row_stub ON row (near_handle) WHERE near_stamp GLOB 'stub:*';
",
    "
    -- When the last pass ended before it carried anything, why, and what to do; nothing once one went on from there.
    ALTER TABLE lane ADD COLUMN failed_at INTEGER;
    ALTER TABLE lane ADD COLUMN failed_why TEXT;
    ALTER TABLE lane ADD COLUMN failed_next TEXT;
    -- Why a run was to do something with this path.
    ALTER TABLE run_item ADD COLUMN reason TEXT NOT NULL DEFAULT '';
",
    "
    -- Whether the content here came from the far side, and was never changed here since.
    ALTER TABLE row ADD COLUMN came_down INTEGER NOT NULL DEFAULT 0;
    -- The side's stamp of a spare when it was taken out.
    ALTER TABLE spare ADD COLUMN stamp TEXT;
    -- Under which id of a lane it lies, and in which folder, once that lane is not the one of this number any more.
    ALTER TABLE spare ADD COLUMN lane_id TEXT;
    -- When the shelves of a lane were last compared with the list.
    ALTER TABLE lane ADD COLUMN shelves_at INTEGER;
    -- Empty folders on a far shelf, which may keep a name from a late request, by when they were first seen.
    CREATE TABLE empty_slot (
        lane        INTEGER NOT NULL,
        side        INTEGER NOT NULL,
        slot        TEXT NOT NULL,
        seen_at     INTEGER NOT NULL,
        PRIMARY KEY (lane, side, slot)
    ) WITHOUT ROWID;
",
    "
    -- While the near folder is on its way to another disk: where to, and how its copy there is recognised.
    ALTER TABLE lane ADD COLUMN moving_to BLOB;
    ALTER TABLE lane ADD COLUMN moving_root TEXT;
"];

/// No version of the tool will ever have a form of this number: the number itself is damaged.
const NO_VERSION: usize = 100_000;

pub(super) fn migrate(connection: &mut Connection) -> Result<(), Box<dyn std::error::Error>> {
    let form: usize = connection.pragma_query_value(None, "user_version", |row| row.get(0))?;
    if form == MIGRATIONS.len() {
        // Nothing is written then: a look works on a disk that is full, too.
        connection.pragma_update(None, "synchronous", "FULL")?;
        return Ok(());
    }
    connection.pragma_update(None, "journal_mode", "WAL")?;
    connection.pragma_update(None, "synchronous", "FULL")?;
    // Two programs may start at once on a new home; one of them migrates, the other finds it done.
    let transaction =
        connection.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
    let version: usize = transaction.pragma_query_value(None, "user_version", |row| row.get(0))?;
    if version > NO_VERSION {
        return Err(Box::new(rusqlite::Error::IntegralValueOutOfRange(
            0,
            i64::try_from(version).unwrap_or(i64::MAX),
        )));
    }
    if version > MIGRATIONS.len() {
        return Err(format!(
            "it was written by a newer version of the tool (its form is {version}, this program knows {})",
            MIGRATIONS.len()
        )
        .into());
    }
    for migration in &MIGRATIONS[version..] {
        transaction.execute_batch(migration)?;
    }
    transaction.pragma_update(None, "user_version", MIGRATIONS.len())?;
    Ok(transaction.commit()?)
}
