//! When each account was last reached, and how full it was; what stands in the config is not repeated here.

use katabatic_core::EditTime;
use rusqlite::{Connection, OptionalExtension, params};

use katabatic_core::findings::Findings;

/// What the ledger knows of an account.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AccountRow {
    /// When it was reached last.
    pub reached_at: Option<EditTime>,
    /// Bytes used when they were counted last, where the server says so.
    pub used: Option<u64>,
    /// Bytes free then.
    pub free: Option<u64>,
    /// When they were counted.
    pub space_at: Option<EditTime>,
    /// The last error since then, and when.
    pub error: Option<(EditTime, String)>,
}

/// What is known of an account; nothing where it was never reached.
///
/// # Errors
/// As the database says.
pub fn account(connection: &Connection, name: &str) -> rusqlite::Result<AccountRow> {
    let sql =
        "SELECT reached_at, used, free, error_at, error, space_at FROM account WHERE name = ?1";
    let found = connection
        .query_row(sql, [name], |row| {
            let error: Option<String> = row.get(4)?;
            let at: Option<i64> = row.get(3)?;
            Ok(AccountRow {
                reached_at: row.get::<_, Option<i64>>(0)?.map(EditTime),
                used: row.get(1)?,
                free: row.get(2)?,
                space_at: row.get::<_, Option<i64>>(5)?.map(EditTime),
                error: at.map(EditTime).zip(error),
            })
        })
        .optional()?;
    Ok(found.unwrap_or_default())
}

/// It was reached; without a count of bytes the last one stays.
pub fn reached(
    connection: &Connection,
    name: &str,
    at: EditTime,
    space: Option<(Option<u64>, Option<u64>)>,
) -> rusqlite::Result<()> {
    connection.execute(
        "INSERT INTO account (name, reached_at) VALUES (?1, ?2)
         ON CONFLICT (name) DO UPDATE SET reached_at = ?2, error_at = NULL, error = NULL",
        params![name, at.0],
    )?;
    if let Some((used, free)) = space {
        connection.execute(
            "UPDATE account SET used = ?2, free = ?3, space_at = ?4 WHERE name = ?1",
            params![name, used, free, at.0],
        )?;
    }
    Ok(())
}

/// It was not reached, or refused.
pub fn failed(
    connection: &Connection,
    name: &str,
    at: EditTime,
    why: &str,
) -> rusqlite::Result<()> {
    connection
        .execute(
            "INSERT INTO account (name, error_at, error) VALUES (?1, ?2, ?3)
             ON CONFLICT (name) DO UPDATE SET error_at = ?2, error = ?3",
            params![name, at.0, why],
        )
        .map(drop)
}

/// What is known of an account is known under its new name.
pub fn rename(connection: &Connection, from: &str, to: &str) -> rusqlite::Result<()> {
    connection.execute("DELETE FROM account WHERE name = ?1", [to])?;
    connection.execute("UPDATE account SET name = ?2 WHERE name = ?1", [from, to])?;
    // Where spares lie is written with the account's name.
    let place = "UPDATE spare SET place = '@' || ?2 || SUBSTR(place, LENGTH(?1) + 2)
                 WHERE place = '@' || ?1 OR SUBSTR(place, 1, LENGTH(?1) + 2) = '@' || ?1 || '/'";
    connection.execute(place, [from, to]).map(drop)
}

/// Nothing is known of an account any more.
pub fn forget(connection: &Connection, name: &str) -> rusqlite::Result<()> {
    connection
        .execute("DELETE FROM account WHERE name = ?1", [name])
        .map(drop)
}

/// What the probe found out about the account's server, and when; nothing where it was never probed.
///
/// # Errors
/// As the database says.
pub fn findings(
    connection: &Connection,
    name: &str,
) -> rusqlite::Result<Option<(EditTime, Findings)>> {
    let sql = "SELECT probed_at, findings FROM account WHERE name = ?1 AND findings IS NOT NULL";
    let found: Option<(i64, String)> = connection
        .query_row(sql, [name], |row| Ok((row.get(0)?, row.get(1)?)))
        .optional()?;
    // What an older version of the tool kept in another form is as good as nothing: it is found out again.
    Ok(found.and_then(|(at, text)| Some((EditTime(at), serde_json::from_str(&text).ok()?))))
}

/// Whether the account's server took names that begin with a dot when it was first tested; it did where nobody has tried.
///
/// # Errors
/// As the database says.
pub fn takes_dots(connection: &Connection, name: &str) -> rusqlite::Result<bool> {
    let sql = "SELECT takes_dots FROM account WHERE name = ?1";
    let took: Option<Option<bool>> = connection
        .query_row(sql, [name], |row| row.get(0))
        .optional()?;
    Ok(took.flatten().unwrap_or(true))
}

/// Keeps what the probe found out, or forgets it.
///
/// # Errors
/// As the database says.
pub fn set_findings(
    connection: &Connection,
    name: &str,
    at: EditTime,
    findings: Option<&Findings>,
) -> rusqlite::Result<()> {
    let text = findings.and_then(|findings| serde_json::to_string(findings).ok());
    let takes_dots = findings.and_then(|findings| findings.takes_dots);
    connection
        .execute(
            "INSERT INTO account (name, findings, probed_at, takes_dots) VALUES (?1, ?2, ?3, ?4)
             ON CONFLICT (name) DO UPDATE SET findings = ?2, probed_at = ?3,
                                              takes_dots = COALESCE(takes_dots, ?4)",
            params![name, text, at.0, takes_dots],
        )
        .map(drop)
}
