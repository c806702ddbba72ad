//! The tables, and how an older ledger becomes a newer one.

use rusqlite::Connection;

use super::older_forms;

/// Each entry takes the ledger from its index to the next version; none of them is ever changed once it was used.
const MIGRATIONS: [&str; 15] = [
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
    -- The side that was not there, where the last pass failed for that.
    ALTER TABLE lane ADD COLUMN failed_away INTEGER;
    -- Facts in place of sentences; what stands in these columns is translated right after this.
    ALTER TABLE spare RENAME COLUMN why TO cause;
    ALTER TABLE run_item RENAME COLUMN action TO deed;
    ALTER TABLE run_item RENAME COLUMN result TO remark;
    ALTER TABLE run_item ADD COLUMN ending TEXT NOT NULL DEFAULT '';
    -- Whether a stamp that was agreed on is in doubt, and whether the near one is that of a stub; the text says neither.
    ALTER TABLE row ADD COLUMN near_doubt INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE row ADD COLUMN near_stub INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE row ADD COLUMN far_doubt INTEGER NOT NULL DEFAULT 0;
    DROP INDEX row_stub;
    CREATE INDEX row_stub ON row (near_handle) WHERE near_stub;
",
    "
    -- A token tells what changed since it was taken. A row that comes, goes, or says another thing of the far side is newer
    -- than the token: what becomes of it there may be no change to the server at all. So none stands beside such a row,
    -- but the one that a pass writes after all its rows. A new version of a known path that came from there is harmless:
    -- whatever becomes of it later is told.
    CREATE TRIGGER row_came AFTER INSERT ON row BEGIN
        UPDATE lane SET token = NULL WHERE number = NEW.lane AND token IS NOT NULL;
    END;
    CREATE TRIGGER row_went AFTER DELETE ON row BEGIN
        UPDATE lane SET token = NULL WHERE number = OLD.lane AND token IS NOT NULL;
    END;
    CREATE TRIGGER row_changed AFTER UPDATE ON row
        WHEN OLD.key IS NOT NEW.key OR OLD.kind IS NOT NEW.kind OR OLD.away IS NOT NEW.away
             OR OLD.far_seen_kind IS NOT NEW.far_seen_kind
             OR (OLD.far_stamp IS NOT NEW.far_stamp AND NOT NEW.came_down)
    BEGIN
        UPDATE lane SET token = NULL WHERE number = NEW.lane AND token IS NOT NULL;
    END;
",
    "
    -- What a run was asked for is a fact, too: the column is translated right after this.
    -- Whether the server took names that begin with a dot when it was first tested: what is kept there lies by that, so it
    -- stays as it was found.
    -- Of the accounts that are there, what is kept lies by a name with a dot.
    ALTER TABLE account ADD COLUMN takes_dots INTEGER;
    UPDATE account SET takes_dots = 1;
", "
    ALTER TABLE run ADD COLUMN kept_back INTEGER NOT NULL DEFAULT 0;
    -- The process that began it.
    ALTER TABLE run ADD COLUMN process TEXT;
    -- Files of which no version could be read, since they were written all the time.
    CREATE TABLE being_written (
        lane  INTEGER NOT NULL,
        key   BLOB NOT NULL,
        since INTEGER NOT NULL,
        last  INTEGER NOT NULL,
        PRIMARY KEY (lane, key)
    ) WITHOUT ROWID;
"];

/// The form from which on facts stand in the ledger as facts.
pub(super) const FACTS: usize = 12;

/// The form from which on what a run was asked for stands there as a fact.
pub(super) const COMMANDS: usize = 14;

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
    for (at, migration) in MIGRATIONS.iter().enumerate().skip(version) {
        transaction.execute_batch(migration)?;
        if at + 1 == FACTS {
            older_forms::translate(&transaction)?;
        }
        if at + 1 == COMMANDS {
            older_forms::run_commands(&transaction)?;
        }
    }
    transaction.pragma_update(None, "user_version", MIGRATIONS.len())?;
    Ok(transaction.commit()?)
}

#[cfg(test)]
mod tests {
    use katabatic_core::{
        Agreement, Deed, DroppedFor, ItemEnding, ItemOutcome, RelPath, RunCommand, RunOutcome,
        Side, SpareCause, Stamp, StampKind,
    };

    use super::*;
    use crate::{LaneKey, intents, rows, runs, spare_rows};

    /// A ledger as the tool wrote it before facts stood in it as facts.
    const OLDER: &str = r#"
        INSERT INTO lane (number, id) VALUES (1, 'a');
        INSERT INTO spare (lane, lane_name, side, key, slot, folder, size, taken_at, why) VALUES
            (1, 'scores', 1, x'612e747874', 's1', 0, 5, 9, 'dropped: its content stays there'),
            (1, 'scores', 2, x'622e747874', 's2', 0, 5, 9, 'removed by hand: the rule *.tmp leaves it out'),
            (1, 'scores', 2, x'632e747874', 's3', 0, 5, 9, 'in words that nobody knows');
        INSERT INTO run (lane, lane_name, command, began, ended, outcome) VALUES
            (1, 'scores', 'sync', 1, 2, 'all settled'),
            (1, 'scores', 'undo', 3, 4, 'took back 1,200 files'),
            (1, 'scores', 'copy @office/A to B', 5, NULL, NULL),
            (1, 'scores', 'sync', 6, 7, 'account office: the network is not there');
        INSERT INTO run_item (run, number, path, action, bytes, result) VALUES
            (1, 1, 'a.txt', 'carry up', 5, 'done'),
            (1, 2, 'Old', 'remove folder there', 0, 'stuck: it is not empty: 3 files'),
            (1, 3, 'b.txt', 'found', 0, 'asks to remove here: removed there');
        INSERT INTO row (lane, key, kind, size, near_stamp, far_stamp) VALUES
            (1, x'63', 1, 5, 'stub:5:1.2:-:77', '?an "odd" tag'),
            (1, x'64', 1, 5, '5:1.2:3.4:78', 'date Sun, 06 Nov 1994 08:49:37 GMT 5'),
            (1, x'65', 2, 0, '', '');
        INSERT INTO row (lane, key, open_pass, state, reason) VALUES (1, x'622e747874', 4, 'asks to remove here', 'because');
        INSERT INTO intent (lane, key, text) VALUES (1, x'612e747874',
            '{"on_near":true,"spare":"s1","old":null,"staged":null,"new":null,"source":null,"source_listed":false,"why":"replaced by the version from there"}');
    "#;

    #[test]
    fn an_older_ledger_is_read_as_what_it_meant() {
        let mut connection = Connection::open_in_memory().unwrap();
        for migration in &MIGRATIONS[..FACTS - 1] {
            connection.execute_batch(migration).unwrap();
        }
        connection.execute_batch(OLDER).unwrap();
        connection
            .pragma_update(None, "user_version", FACTS - 1)
            .unwrap();
        migrate(&mut connection).unwrap();

        let spares = spare_rows::all(&connection, None).unwrap();
        let causes: Vec<SpareCause> = spares.into_iter().rev().map(|spare| spare.cause).collect();
        assert_eq!(
            causes,
            [
                SpareCause::Dropped(DroppedFor::Stub),
                SpareCause::SweptBy("*.tmp".into()),
                SpareCause::Told("in words that nobody knows".into()),
            ]
        );
        let runs = runs::last(&connection, None, 9).unwrap();
        let commands: Vec<RunCommand> = runs.iter().rev().map(|run| run.command.clone()).collect();
        assert_eq!(
            commands,
            [
                RunCommand::Sync,
                RunCommand::Undo,
                RunCommand::Words("copy @office/A to B".into()),
                RunCommand::Sync,
            ]
        );
        let outcomes: Vec<Option<RunOutcome>> =
            runs.into_iter().rev().map(|run| run.outcome).collect();
        let failed = "account office: the network is not there";
        assert_eq!(
            outcomes,
            [
                Some(RunOutcome::AllSettled),
                Some(RunOutcome::TookBack(1_200)),
                None,
                Some(RunOutcome::Failed(failed.into())),
            ]
        );
        let items = runs::items(&connection, 1).unwrap();
        let items: Vec<(Deed, ItemOutcome)> = items
            .into_iter()
            .map(|item| (item.deed, item.outcome))
            .collect();
        assert_eq!(
            items,
            [
                (Deed::Carry(Side::Far), ItemOutcome::DONE),
                (
                    Deed::RemoveFolder(Side::Far),
                    ItemOutcome::with(ItemEnding::Stuck, "it is not empty: 3 files")
                ),
                (
                    Deed::Find,
                    ItemOutcome::with(ItemEnding::Asks(Side::Near), "removed there")
                ),
            ]
        );
        let path = RelPath::parse("b.txt").unwrap();
        let row = rows::row(&connection, LaneKey(1), &path).unwrap().unwrap();
        assert_eq!(
            row.open,
            Some((Agreement::Asking(Side::Near), "because".into()))
        );
        let mut stamps = Vec::new();
        rows::each_row(&connection, LaneKey(1), &RelPath::root(), |row| {
            stamps.extend(row.base.map(|base| (base.stamps.near, base.stamps.far)));
            true
        })
        .unwrap();
        let date = "Sun, 06 Nov 1994 08:49:37 GMT 5";
        assert_eq!(
            stamps,
            [
                (
                    Stamp::of(StampKind::Stub, "5:1.2:-:77"),
                    Stamp::new("an \"odd\" tag").doubted()
                ),
                (Stamp::new("5:1.2:3.4:78"), Stamp::of(StampKind::Date, date)),
                (Stamp::new(""), Stamp::new("")),
            ]
        );
        assert_eq!(rows::stubs(&connection, LaneKey(1)).unwrap(), (1, 5));
        let intents = intents::all_unfinished(&connection).unwrap();
        assert_eq!(intents[0].cause, Some(SpareCause::ReplacedFrom(Side::Far)));
    }
}
