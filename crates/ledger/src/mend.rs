//! A ledger that cannot be read any more: it is set aside, and a new one takes its place.
//!
//! What both sides agreed on is only a memory of them. Without it the next pass is a first pass, which compares and
//! removes nothing. What must not be lost sight of are the spares, the changes that were cut off in the middle, and how
//! the roots are recognised: of those, every row that can still be read is taken over.

use std::fs;
use std::path::{Path, PathBuf};

use katabatic_core::SpareCause;
use rusqlite::{Connection, ErrorCode, params};

use super::facts::Fact;
use super::{intents, older_forms, rows, runs, schema, spare_rows};

/// What is taken over; each numbers its rows.
const KEPT: [&str; 4] = ["lane", "spare", "intent", "run"];

/// Whether an error says that the file itself is damaged.
pub(super) fn is_damage(why: &rusqlite::Error) -> bool {
    match why {
        rusqlite::Error::SqliteFailure(error, said) => {
            matches!(
                error.code,
                ErrorCode::DatabaseCorrupt | ErrorCode::NotADatabase
            ) || said.as_ref().is_some_and(|said| is_told(said))
        }
        rusqlite::Error::SqlInputError { msg, .. } => is_told(msg),
        // Nothing of ours ever wrote such a value.
        rusqlite::Error::InvalidColumnType(..)
        | rusqlite::Error::FromSqlConversionFailure(..)
        | rusqlite::Error::IntegralValueOutOfRange(..)
        | rusqlite::Error::Utf8Error(..) => true,
        _ => false,
    }
}

/// Damage to the first page is told like a mistake in a query, and ours have none of these.
fn is_told(said: &str) -> bool {
    ["unsupported file format", "no such table", "no such column"]
        .iter()
        .any(|told| said.starts_with(told))
}

/// The file that says that a ledger was found to be damaged while it was in use.
fn note_file(ledger: &Path) -> PathBuf {
    ledger.with_extension("damaged")
}

/// Notes that the ledger is damaged: the next program that opens it sets it aside.
pub(super) fn note_damage(ledger: &Path) {
    if let Err(why) = fs::write(note_file(ledger), b"") {
        tracing::debug!("the damage could not be noted: {why}");
    }
}

/// Whether damage was noted.
pub(super) fn is_noted(ledger: &Path) -> bool {
    note_file(ledger).exists()
}

/// Sets a damaged ledger aside, with what SQLite keeps beside it; its new name.
pub(super) fn set_aside(ledger: &Path) -> std::io::Result<PathBuf> {
    let folder = ledger.parent().unwrap_or_else(|| Path::new("."));
    let name = ledger.file_name().unwrap_or_default().to_string_lossy();
    let stamp = jiff::Zoned::now().strftime("%Y-%m-%d %H.%M.%S").to_string();
    let aside = folder.join(format!("{name} [damaged {stamp}]"));
    for ending in ["-wal", "-shm", ""] {
        let with = |path: &Path| PathBuf::from(format!("{}{ending}", path.display()));
        match fs::rename(with(ledger), with(&aside)) {
            Ok(()) => {}
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            Err(error) => return Err(error),
        }
    }
    match fs::remove_file(note_file(ledger)) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error),
        _ => Ok(aside),
    }
}

/// Takes over what can still be read of a ledger that was set aside; how many spares that are.
pub(super) fn salvage(new: &Connection, aside: &Path) -> u64 {
    let attached = new.execute("ATTACH DATABASE ?1 AS old", [aside.to_string_lossy()]);
    if let Err(why) = attached {
        tracing::debug!("nothing of the damaged ledger can be read: {why}");
        return 0;
    }
    let mut spares = 0;
    for table in KEPT {
        let taken = take_over(new, table);
        if table == "spare" {
            spares = taken;
        }
    }
    let form: rusqlite::Result<usize> =
        new.pragma_query_value(Some("old"), "user_version", |row| row.get(0));
    if form.as_ref().is_ok_and(|&form| form < schema::FACTS)
        && let Err(why) = older_forms::translate(new)
    {
        tracing::debug!("what was told in words stays in them: {why}");
    }
    if form.is_ok_and(|form| form < schema::COMMANDS)
        && let Err(why) = older_forms::run_commands(new)
    {
        tracing::debug!("what runs were asked for stays in words: {why}");
    }
    let forget = "UPDATE lane SET pass = 0, seen_at = NULL, token = NULL, listed_at = NULL, terms = NULL, selection = NULL";
    for sql in [forget, "DETACH DATABASE old"] {
        if let Err(why) = new.execute(sql, []) {
            tracing::debug!("{sql}: {why}");
        }
    }
    spares - scrub(new).min(spares)
}

/// Takes out again what was taken over and cannot be read as what it should be: it would make the new ledger a damaged
/// one, and the one after it. How many spares that were.
fn scrub(new: &Connection) -> u64 {
    let numbers = |table: &str| -> Vec<i64> {
        let read = || {
            new.prepare(&format!("SELECT number FROM {table}"))?
                .query_map([], |row| row.get(0))?
                .collect::<rusqlite::Result<_>>()
        };
        read().unwrap_or_default()
    };
    let run = |sql: &str, number: i64| {
        if let Err(why) = new.execute(sql, [number]) {
            tracing::debug!("{sql}: {why}");
        }
    };
    for lane in numbers("lane") {
        let whole = || -> rusqlite::Result<bool> {
            let sql = "SELECT id FROM lane WHERE number = ?1";
            let id: String = new.query_row(sql, [lane], |row| row.get(0))?;
            rows::lane_of(new, &id).map(|found| found.is_some())
        };
        if matches!(whole(), Ok(true)) {
            continue;
        }
        // How the roots are recognised may be what is ruined; without it they are looked at as for the first time.
        run(
            "UPDATE lane SET near_root = NULL, moving_to = NULL, moving_root = NULL,
                 far_root = NULL, far_marked = 0, noted = 0 WHERE number = ?1",
            lane,
        );
        if !matches!(whole(), Ok(true)) {
            for table in ["spare", "intent", "run"] {
                run(&format!("DELETE FROM {table} WHERE lane = ?1"), lane);
            }
            run("DELETE FROM lane WHERE number = ?1", lane);
        }
    }
    for intent in numbers("intent") {
        if intents::read(new, intent).is_err() {
            run("DELETE FROM intent WHERE number = ?1", intent);
        }
    }
    for number in numbers("run") {
        if runs::run(new, number).is_err() {
            run("DELETE FROM run WHERE number = ?1", number);
        }
    }
    let mut gone = 0;
    for spare in numbers("spare") {
        if spare_rows::spare(new, spare).is_ok() {
            continue;
        }
        // Where it lies and where it was are what counts.
        let cause = Fact(SpareCause::Told("kept; the ledger was damaged".to_owned()));
        let lasting = "UPDATE spare SET cause = ?2, edited = NULL, run = NULL, place = NULL, content = NULL WHERE number = ?1";
        if let Err(why) = new.execute(lasting, params![spare, cause]) {
            tracing::debug!("{lasting}: {why}");
        }
        if spare_rows::spare(new, spare).is_err() {
            run("DELETE FROM spare WHERE number = ?1", spare);
            gone += 1;
        }
    }
    gone
}

/// Row by row, so that one that cannot be read costs no other; how many came.
fn take_over(new: &Connection, table: &str) -> u64 {
    let (to, from): (Vec<String>, Vec<String>) = match common_columns(new, table) {
        Ok(columns) if !columns.is_empty() => columns.into_iter().unzip(),
        _ => return 0,
    };
    let (to, from) = (to.join(", "), from.join(", "));
    let last: i64 = new
        .query_row(
            &format!("SELECT COALESCE(MAX(number), 0) FROM old.{table}"),
            [],
            |row| row.get(0),
        )
        .unwrap_or(MOST);
    // What belongs to a lane whose own row is gone would be taken for another lane's.
    let of_a_lane = match table {
        "lane" => "",
        _ => " AND lane IN (SELECT number FROM main.lane)",
    };
    let sql = format!(
        "INSERT OR IGNORE INTO main.{table} ({to}) SELECT {from} FROM old.{table} WHERE number = ?1{of_a_lane}"
    );
    let Ok(mut copy) = new.prepare(&sql) else {
        return 0;
    };
    // Damage may have made a number of any size.
    (1..=last.clamp(0, MOST))
        .filter(|number| matches!(copy.execute(params![number]), Ok(1)))
        .count() as u64
}

/// As many rows of one table are tried.
const MOST: i64 = 200_000;

/// A column, and what an older ledger called it.
const RENAMED: [(&str, &str); 1] = [("cause", "why")];

/// The columns that both ledgers have, as each calls them.
fn common_columns(new: &Connection, table: &str) -> rusqlite::Result<Vec<(String, String)>> {
    let columns = |schema: &str| -> rusqlite::Result<Vec<String>> {
        new.prepare(&format!("PRAGMA {schema}.table_info({table})"))?
            .query_map([], |row| row.get(1))?
            .collect()
    };
    let old = columns("old")?;
    let known = |column: String| {
        let before = RENAMED.iter().find(|(now, _)| *now == column);
        let before = before.map(|(_, before)| (*before).to_owned());
        let at_old = [Some(column.clone()), before].into_iter().flatten();
        let at_old = at_old.into_iter().find(|name| old.contains(name))?;
        Some((column, at_old))
    };
    Ok(columns("main")?.into_iter().filter_map(known).collect())
}
