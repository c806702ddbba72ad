//! What passes did: one run a pass, one item a file.

use std::collections::BTreeMap;

use katabatic_core::{
    Deed, EditTime, ItemEnding, ItemOutcome, RunClass, RunCommand, RunOutcome, Toll,
};
use rusqlite::{Connection, OptionalExtension, Row, params};

use super::LaneKey;
use super::facts::Fact;
use super::process;
use super::rows::Open;

/// What a run did, in numbers.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Counts {
    /// Files carried up.
    pub files_up: u64,
    /// Their bytes.
    pub bytes_up: u64,
    /// Files carried down.
    pub files_down: u64,
    /// Their bytes.
    pub bytes_down: u64,
    /// Files that got another name on either side.
    pub moved: u64,
    /// Files whose copy here went, because the lane does not take them any more.
    pub dropped: u64,
    /// Files that came as stubs.
    pub stubs: u64,
    /// Files whose content was dropped here for a stub.
    pub shed: u64,
    /// Their bytes.
    pub bytes_shed: u64,
    /// Files removed on either side.
    pub removed: u64,
    /// Files replaced on either side.
    pub replaced: u64,
    /// Files in conflict afterwards.
    pub conflicts: u64,
    /// Files stuck afterwards.
    pub stuck: u64,
    /// Files that changed or went on the receiving side of a one-way lane by themselves.
    pub drift: u64,
    /// Those of them because of which a version of the source is not there.
    pub kept_back: u64,
    /// Files whose removal waits for a yes afterwards.
    pub asking: u64,
}

impl Counts {
    /// Whether nothing of it needs a person.
    #[must_use]
    pub fn need_nobody(&self) -> bool {
        self.conflicts + self.stuck + self.kept_back + self.asking == 0
    }
}

/// A run.
#[derive(Clone, Debug)]
pub struct Run {
    /// Its number, over all lanes.
    pub number: i64,
    /// The lane's name at the time.
    pub lane: String,
    /// What was asked for.
    pub command: RunCommand,
    /// When it began.
    pub began: EditTime,
    /// When it ended; none for one that runs still or was cut off.
    pub ended: Option<EditTime>,
    /// How it ended; none for one that runs still or was cut off.
    pub outcome: Option<RunOutcome>,
    /// Whether it runs still: the process that began it does, and has begun no other one in the lane since.
    pub runs_still: bool,
    /// What it did.
    pub counts: Counts,
}

impl Run {
    /// How it ended, as people ask for it.
    #[must_use]
    pub fn class(&self) -> RunClass {
        match &self.outcome {
            None if self.runs_still => RunClass::Running,
            None => RunClass::CutOff,
            Some(_) if !self.counts.need_nobody() => RunClass::NeedsPerson,
            Some(outcome) => outcome.class(),
        }
    }
}

impl Run {
    /// Whether a pass over the whole lane that looked at this time completed what the run had left: one that finds nothing more
    /// to carry is no run of its own.
    #[must_use]
    pub fn is_completed_by(&self, pass_seen: Option<EditTime>) -> bool {
        pass_seen > Some(self.ended.unwrap_or(self.began))
    }
}

/// What a run did with one file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RunItem {
    /// The path.
    pub path: String,
    /// What was to be done.
    pub deed: Deed,
    /// Why; empty where somebody asked for just this, and for what an older version of the tool noted.
    pub reason: String,
    /// The bytes carried.
    pub bytes: u64,
    /// How it ended.
    pub outcome: ItemOutcome,
    /// When; none for what an older version of the tool noted.
    pub at: Option<EditTime>,
}

/// Begins a run; the number it gets.
pub fn begin(
    connection: &Connection,
    lane: LaneKey,
    lane_name: &str,
    command: &RunCommand,
    began: EditTime,
) -> rusqlite::Result<i64> {
    connection.execute(
        "INSERT INTO run (lane, lane_name, command, began, process) VALUES (?1, ?2, ?3, ?4, ?5)",
        params![
            lane.0,
            lane_name,
            Fact(command),
            began.0,
            process::this_one()
        ],
    )?;
    Ok(connection.last_insert_rowid())
}

/// Notes what a run did with a path.
pub fn add_item(connection: &Connection, run: i64, item: &RunItem) -> rusqlite::Result<()> {
    let sql = "INSERT INTO run_item (run, number, path, deed, bytes, ending, remark, at, reason)
               VALUES (?1, (SELECT COALESCE(MAX(number), 0) + 1 FROM run_item WHERE run = ?1),
                       ?2, ?3, ?4, ?5, ?6, ?7, ?8)";
    connection.prepare_cached(sql)?.execute(params![
        run,
        item.path,
        Fact(&item.deed),
        item.bytes,
        Fact(item.outcome.ending),
        item.outcome.remark,
        item.at.map(|at| at.0),
        item.reason
    ])?;
    Ok(())
}

/// Notes what a run found at a path and left there, where the run before it did not leave it the same way, and the run
/// has noted nothing of the path yet; what waits or is left out is no news. To be called before the row itself is changed.
pub fn add_found(
    connection: &Connection,
    lane: LaneKey,
    run: i64,
    open: &Open,
    at: EditTime,
) -> rusqlite::Result<()> {
    let Some(ending) = open.state.ending() else {
        return Ok(());
    };
    let known = "SELECT EXISTS (SELECT 1 FROM row WHERE lane = ?1 AND key = ?2 AND open_pass IS NOT NULL AND state = ?3)
                     OR EXISTS (SELECT 1 FROM run_item WHERE path = ?4 AND run = ?5)";
    let path = open.path.to_string();
    let known: bool = connection.prepare_cached(known)?.query_row(
        params![lane.0, open.path.key(), Fact(open.state), path, run],
        |row| row.get(0),
    )?;
    if known {
        return Ok(());
    }
    let item = RunItem {
        path,
        deed: Deed::Find,
        reason: String::new(),
        bytes: 0,
        outcome: ItemOutcome::with(ending, &*open.reason),
        at: Some(at),
    };
    add_item(connection, run, &item)
}

/// Adds to what a run removed and replaced.
pub fn count_toll(connection: &Connection, run: i64, toll: Toll) -> rusqlite::Result<()> {
    connection
        .prepare_cached(
            "UPDATE run SET removed = removed + ?2, replaced = replaced + ?3 WHERE number = ?1",
        )?
        .execute(params![run, toll.removed, toll.replaced])
        .map(drop)
}

/// Ends a run.
pub fn end(
    connection: &Connection,
    run: i64,
    ended: EditTime,
    outcome: &RunOutcome,
    counts: &Counts,
) -> rusqlite::Result<()> {
    connection
        .execute(
            "UPDATE run SET ended = ?2, outcome = ?3, files_up = ?4, bytes_up = ?5, files_down = ?6, bytes_down = ?7,
                            conflicts = ?8, stuck = ?9, drift = ?10, asking = ?11, moved = ?12, dropped = ?13,
                            stubs = ?14, shed = ?15, bytes_shed = ?16, kept_back = ?17
             WHERE number = ?1",
            params![
                run,
                ended.0,
                Fact(outcome),
                counts.files_up,
                counts.bytes_up,
                counts.files_down,
                counts.bytes_down,
                counts.conflicts,
                counts.stuck,
                counts.drift,
                counts.asking,
                counts.moved,
                counts.dropped,
                counts.stubs,
                counts.shed,
                counts.bytes_shed,
                counts.kept_back
            ],
        )
        .map(drop)
}

/// Ends a run that has not been ended yet, without a word on what it did.
pub fn end_open(
    connection: &Connection,
    run: i64,
    ended: EditTime,
    outcome: &RunOutcome,
) -> rusqlite::Result<()> {
    connection
        .execute(
            "UPDATE run SET ended = ?2, outcome = ?3 WHERE number = ?1 AND ended IS NULL",
            params![run, ended.0, Fact(outcome)],
        )
        .map(drop)
}

/// What the passes of a lane removed and replaced since `since`.
pub fn toll_since(
    connection: &Connection,
    lane: LaneKey,
    since: EditTime,
) -> rusqlite::Result<Toll> {
    let sql = "SELECT COALESCE(SUM(removed), 0), COALESCE(SUM(replaced), 0) FROM run
               WHERE lane = ?1 AND began >= ?2 AND command IN (?3, ?4, ?5)";
    let [sync, fetch, shed] = [RunCommand::Sync, RunCommand::Fetch, RunCommand::Shed].map(Fact);
    let passes = params![lane.0, since.0, sync, fetch, shed];
    connection.query_row(sql, passes, |row| {
        Ok(Toll {
            removed: row.get(0)?,
            replaced: row.get(1)?,
        })
    })
}

const RUN_COLUMNS: &str = "run.number, run.lane_name, run.command, run.began, run.ended, run.outcome,
    run.files_up, run.bytes_up, run.files_down, run.bytes_down, run.removed, run.replaced, run.conflicts, run.stuck,
    run.drift, run.asking, run.moved, run.dropped, run.stubs, run.shed, run.bytes_shed,
    run.kept_back,
    CASE WHEN run.outcome IS NULL AND run.number = (SELECT MAX(number) FROM run AS all_of WHERE all_of.lane = run.lane)
         THEN run.process END";

/// So many columns that is.
const RUN_WIDTH: usize = 23;

fn read(row: &Row<'_>) -> rusqlite::Result<Run> {
    Ok(Run {
        number: row.get(0)?,
        lane: row.get(1)?,
        command: row.get::<_, Fact<RunCommand>>(2)?.0,
        began: EditTime(row.get(3)?),
        ended: row.get::<_, Option<i64>>(4)?.map(EditTime),
        outcome: outcome_in(row, 5)?,
        runs_still: row
            .get::<_, Option<String>>(22)?
            .is_some_and(|noted| process::runs_still(&noted)),
        counts: Counts {
            files_up: row.get(6)?,
            bytes_up: row.get(7)?,
            files_down: row.get(8)?,
            bytes_down: row.get(9)?,
            removed: row.get(10)?,
            replaced: row.get(11)?,
            conflicts: row.get(12)?,
            stuck: row.get(13)?,
            drift: row.get(14)?,
            asking: row.get(15)?,
            moved: row.get(16)?,
            dropped: row.get(17)?,
            stubs: row.get(18)?,
            shed: row.get(19)?,
            bytes_shed: row.get(20)?,
            kept_back: row.get(21)?,
        },
    })
}

fn outcome_in(row: &Row<'_>, column: usize) -> rusqlite::Result<Option<RunOutcome>> {
    let outcome: Option<Fact<RunOutcome>> = row.get(column)?;
    Ok(outcome.map(|Fact(outcome)| outcome))
}

const ITEM_COLUMNS: &str =
    "item.path, item.deed, item.bytes, item.ending, item.remark, item.at, item.reason";

fn read_item(row: &Row<'_>, from: usize) -> rusqlite::Result<RunItem> {
    let Fact(deed) = row.get(from + 1)?;
    let Fact(ending) = row.get(from + 3)?;
    Ok(RunItem {
        path: row.get(from)?,
        deed,
        bytes: row.get(from + 2)?,
        outcome: ItemOutcome {
            ending,
            remark: row.get(from + 4)?,
        },
        at: row.get::<_, Option<i64>>(from + 5)?.map(EditTime),
        reason: row.get(from + 6)?,
    })
}

/// The last runs, the newest first; of one lane where a name is given.
///
/// # Errors
/// As SQLite says.
pub fn last(connection: &Connection, lane: Option<&str>, most: u32) -> rusqlite::Result<Vec<Run>> {
    let sql = format!(
        "SELECT {RUN_COLUMNS} FROM run WHERE ?1 IS NULL OR lane_name = ?1 ORDER BY number DESC LIMIT ?2"
    );
    connection
        .prepare(&sql)?
        .query_map(params![lane, most], read)?
        .collect()
}

/// Runs before a time that nothing needs any more: their versions are not in the spares, and they are neither the first
/// nor the last of a lane.
const NEEDED_NO_MORE: &str = "began < ?1
    AND number NOT IN (SELECT run FROM spare WHERE run IS NOT NULL)
    AND number NOT IN (SELECT MIN(number) FROM run GROUP BY lane_name)
    AND number NOT IN (SELECT MAX(number) FROM run GROUP BY lane_name)";

/// How many runs began before a time and can be forgotten.
pub fn count_before(connection: &Connection, before: EditTime) -> rusqlite::Result<u64> {
    let sql = format!("SELECT COUNT(*) FROM run WHERE {NEEDED_NO_MORE}");
    connection.query_row(&sql, [before.0], |row| row.get(0))
}

/// What the run of this number was for, where it is remembered.
///
/// # Errors
/// As SQLite says.
pub fn command_of(connection: &Connection, run: i64) -> rusqlite::Result<Option<RunCommand>> {
    let sql = "SELECT command FROM run WHERE number = ?1";
    let command = connection
        .prepare_cached(sql)?
        .query_row([run], |row| row.get(0))
        .optional()?;
    Ok(command.map(|Fact(command)| command))
}

/// Forgets them.
pub fn forget_before(connection: &Connection, before: EditTime) -> rusqlite::Result<()> {
    let items = format!(
        "DELETE FROM run_item WHERE run IN (SELECT number FROM run WHERE {NEEDED_NO_MORE})"
    );
    connection.execute(&items, [before.0])?;
    let runs = format!("DELETE FROM run WHERE {NEEDED_NO_MORE}");
    connection.execute(&runs, [before.0]).map(drop)
}

/// Whether a run began between two times.
pub fn any_between(
    connection: &Connection,
    from: EditTime,
    to: EditTime,
) -> rusqlite::Result<bool> {
    let sql = "SELECT EXISTS (SELECT 1 FROM run WHERE began BETWEEN ?1 AND ?2)";
    connection.query_row(sql, [from.0, to.0], |row| row.get(0))
}

/// The runs since a time, the oldest first; of one lane where a name is given.
///
/// # Errors
/// As SQLite says.
pub fn since(
    connection: &Connection,
    lane: Option<&str>,
    since: EditTime,
) -> rusqlite::Result<Vec<Run>> {
    let sql = format!(
        "SELECT {RUN_COLUMNS} FROM run WHERE began >= ?2 AND (?1 IS NULL OR lane_name = ?1) ORDER BY number"
    );
    connection
        .prepare(&sql)?
        .query_map(params![lane, since.0], read)?
        .collect()
}

/// When a lane was settled last: at the end of the last pass that left nothing open; none where none did.
pub fn last_settled(
    connection: &Connection,
    lane: LaneKey,
    name: &str,
) -> rusqlite::Result<Option<EditTime>> {
    let open: bool = connection.query_row(
        "SELECT EXISTS (SELECT 1 FROM row WHERE lane = ?1 AND open_pass IS NOT NULL)",
        [lane.0],
        |row| row.get(0),
    )?;
    let sql = match open {
        // The last pass found nothing to do, and wrote nothing about it.
        false => {
            "SELECT MAX(seen_at) FROM lane WHERE number = ?1 AND ?2 IS NOT NULL AND ?3 IS NOT NULL"
        }
        true => "SELECT MAX(ended) FROM run WHERE lane = ?1 AND lane_name = ?2 AND outcome = ?3",
    };
    let settled = Fact(RunOutcome::AllSettled);
    let at = params![lane.0, name, settled];
    let at: Option<i64> = connection.query_row(sql, at, |row| row.get(0))?;
    Ok(at.map(EditTime))
}

/// The last pass over a lane.
pub fn last_pass(connection: &Connection, lane: LaneKey) -> rusqlite::Result<Option<Run>> {
    let sql = format!(
        "SELECT {RUN_COLUMNS} FROM run WHERE lane = ?1 AND command = ?2 ORDER BY number DESC LIMIT 1"
    );
    connection
        .prepare_cached(&sql)?
        .query_row(params![lane.0, Fact(RunCommand::Sync)], read)
        .optional()
}

/// When the first run of a lane began.
pub fn first(connection: &Connection, lane: &str) -> rusqlite::Result<Option<EditTime>> {
    let sql = "SELECT MIN(began) FROM run WHERE lane_name = ?1";
    let began: Option<i64> = connection.query_row(sql, [lane], |row| row.get(0))?;
    Ok(began.map(EditTime))
}

/// How the last run of a command ended; the inner one is none where it never came to its end.
pub fn last_of(
    connection: &Connection,
    command: &RunCommand,
) -> rusqlite::Result<Option<Option<RunOutcome>>> {
    connection
        .query_row(
            "SELECT outcome FROM run WHERE command = ?1 ORDER BY number DESC LIMIT 1",
            [Fact(command)],
            |row| outcome_in(row, 0),
        )
        .optional()
}

/// The numbers of the runs of a command.
pub fn of_command(connection: &Connection, command: &RunCommand) -> rusqlite::Result<Vec<i64>> {
    connection
        .prepare("SELECT number FROM run WHERE command = ?1")?
        .query_map([Fact(command)], |row| row.get(0))?
        .collect()
}

/// The run of this number.
///
/// # Errors
/// As SQLite says.
pub fn run(connection: &Connection, number: i64) -> rusqlite::Result<Option<Run>> {
    connection
        .query_row(
            &format!("SELECT {RUN_COLUMNS} FROM run WHERE number = ?1"),
            [number],
            read,
        )
        .optional()
}

/// The last things that passes of a lane did to exactly this path, the newest first.
///
/// # Errors
/// As SQLite says.
pub fn of_path(
    connection: &Connection,
    lane: LaneKey,
    path: &str,
    most: usize,
) -> rusqlite::Result<Vec<(Run, RunItem)>> {
    let sql = format!(
        "SELECT {RUN_COLUMNS}, {ITEM_COLUMNS}
         FROM run_item AS item JOIN run ON run.number = item.run
         WHERE item.path = ?2 AND run.lane = ?1 ORDER BY item.run DESC, item.number DESC LIMIT ?3"
    );
    let read = |row: &Row<'_>| Ok((self::read(row)?, read_item(row, RUN_WIDTH)?));
    connection
        .prepare_cached(&sql)?
        .query_map(params![lane.0, path, most], read)?
        .collect()
}

/// What later runs of the same lane did, by path: the last such run, and what it was.
pub fn done_since(
    connection: &Connection,
    lane: LaneKey,
    number: i64,
) -> rusqlite::Result<BTreeMap<String, (i64, Deed)>> {
    let sql = "SELECT item.path, item.run, item.deed FROM run_item AS item JOIN run ON run.number = item.run
               WHERE item.run > ?2 AND run.lane = ?1 AND item.ending = ?3 ORDER BY item.run, item.number";
    connection
        .prepare(sql)?
        .query_map(params![lane.0, number, Fact(ItemEnding::Done)], |row| {
            let Fact(deed) = row.get(2)?;
            Ok((row.get(0)?, (row.get(1)?, deed)))
        })?
        .collect()
}

/// The last things that were done or found by any run, the newest first, each with its lane's name.
///
/// # Errors
/// As SQLite says.
pub fn last_items(
    connection: &Connection,
    most: usize,
) -> rusqlite::Result<Vec<(String, RunItem)>> {
    let sql = format!(
        "SELECT run.lane_name, {ITEM_COLUMNS} FROM run_item AS item JOIN run ON run.number = item.run
         ORDER BY item.run DESC, item.number DESC LIMIT ?1"
    );
    let mut items: Vec<(String, RunItem)> = connection
        .prepare_cached(&sql)?
        .query_map([most as u64], |row| Ok((row.get(0)?, read_item(row, 1)?)))?
        .collect::<Result<_, _>>()?;
    // Of two lanes, the run that began later may have done something earlier.
    items.sort_by_key(|(_, item)| std::cmp::Reverse(item.at));
    Ok(items)
}

/// What a run did, file by file.
///
/// # Errors
/// As SQLite says.
pub fn items(connection: &Connection, number: i64) -> rusqlite::Result<Vec<RunItem>> {
    let sql = format!("SELECT {ITEM_COLUMNS} FROM run_item AS item WHERE run = ?1 ORDER BY number");
    connection
        .prepare(&sql)?
        .query_map([number], |row| read_item(row, 0))?
        .collect()
}
