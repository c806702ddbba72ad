//! `account list` and `account show`.

use katabatic_core::{EditTime, words};
use katabatic_engine::Error;
use katabatic_engine::config::AccountConfig;
use katabatic_ledger::account_rows::{self, AccountRow};
use katabatic_sides::net::Trust;
use katabatic_sides::net::rate::Limits;
use serde_json::{Value, json};

use super::{described, lanes_of, shown, signs_in};
use crate::app::App;
use crate::draw::table::Rows;
use crate::draw::{field, json, line, shown_text, time};
use crate::limits;

fn known(app: &App, account: &AccountConfig) -> Result<AccountRow, Error> {
    app.ledger
        .read(|connection| account_rows::account(connection, &account.name))
}

fn as_json(app: &App, account: &AccountConfig) -> Result<Value, Error> {
    let row = known(app, account)?;
    let mut described = described(account);
    described["lanes"] = json!(lanes_of(app, &account.name));
    described["reached"] = json::time(row.reached_at);
    described["used"] = json!(row.used);
    described["free"] = json!(row.free);
    described["space_counted"] = json::time(row.space_at);
    described["error"] = match &row.error {
        Some((at, why)) => json!({"at": json::time(Some(*at)), "why": why}),
        None => Value::Null,
    };
    Ok(described)
}

fn reached(at: Option<EditTime>) -> String {
    at.map_or_else(|| "never".to_owned(), time::time)
}

/// Used and free bytes, and when they were counted, where that was not when it was reached last.
fn space(row: &AccountRow) -> String {
    let space = match (row.used, row.free) {
        (None, None) => return "not told".to_owned(),
        (used, free) => shown::space(used, free),
    };
    match row.space_at {
        Some(at) if row.reached_at != Some(at) => format!("{space} at {}", time::time(at)),
        _ => space,
    }
}

/// What makes an account unusual, which every listing says.
fn notes(account: &AccountConfig) -> Vec<&'static str> {
    let mut notes = Vec::new();
    if account.plain_http {
        notes.push("plain http: readable on the way");
    }
    if account.read_only {
        notes.push("read-only");
    }
    notes
}

pub fn list(app: &App) -> Result<(), Error> {
    if app.common.json {
        let accounts: Vec<Value> = app
            .config
            .accounts
            .iter()
            .map(|account| as_json(app, account))
            .collect::<Result<_, _>>()?;
        json::print(&json!({"accounts": accounts}));
        return Ok(());
    }
    if app.config.accounts.is_empty() {
        line(
            "There are no accounts yet. Add one: katabatic account add NAME --address URL --user USER",
        );
        return Ok(());
    }
    let mut rows = Rows::new(
        app.style,
        &[
            "account", "signs in", "address", "lanes", "used", "free", "reached",
        ],
    );
    let mut below = Vec::new();
    for account in &app.config.accounts {
        let row = known(app, account)?;
        let lanes = lanes_of(app, &account.name);
        let lanes = match lanes.len() {
            0 => "none".to_owned(),
            1 => lanes.concat(),
            many => words::grouped(many as u64),
        };
        rows.add(vec![
            format!("@{}", account.name),
            shown_text(&account.user),
            account.address.clone(),
            lanes,
            row.used.map_or_else(String::new, words::bytes),
            row.free.map_or_else(|| "not told".to_owned(), words::bytes),
            reached(row.reached_at),
        ]);
        for note in notes(account) {
            below.push(format!("@{}: {note}", account.name));
        }
        if let Some((at, why)) = &row.error {
            below.push(format!("@{}: {} {}", account.name, time::time(*at), why));
        }
    }
    for column in [0, 6] {
        rows.whole(column);
    }
    for column in [1, 2, 3] {
        rows.paths(column);
    }
    for column in [4, 5] {
        rows.numbers(column);
    }
    rows.print(0);
    for text in below {
        field(app.style, "", &text);
    }
    Ok(())
}

pub fn show(app: &App, name: &str) -> Result<(), Error> {
    let account = app.config.account(name)?;
    if app.common.json {
        json::print(&json!({"account": as_json(app, account)?}));
        return Ok(());
    }
    let row = known(app, account)?;
    let say = |name: &str, text: &str| field(app.style, name, text);
    line(format!("account @{}", account.name));
    say("address", &account.address);
    say("signs in", &signs_in(account));
    match &account.principal {
        Some(principal) => say("account", &principal.to_string()),
        None => say("account", "the server does not say whose it is"),
    }
    say("secret", &format!("kept {}", account.keeping.describe()));
    let by_known_hosts = account.is_sftp() && account.trust == Trust::System;
    say(
        "trust",
        &match by_known_hosts {
            true => "host keys that known_hosts has".into(),
            false => account.trust.describe(),
        },
    );
    if !account.is_sftp() {
        let proxy = account.proxy.text();
        say(
            "proxy",
            &proxy.unwrap_or_else(|| "what the environment says".into()),
        );
    }
    let patience = account.line().patience.as_secs();
    say(
        "patience",
        &format!("{patience} s without a sign of life count as not answering"),
    );
    if account.limits != Limits::default() {
        say("limits", &limits::words(&account.limits));
    }
    for note in notes(account) {
        say("note", note);
    }
    say("space", &space(&row));
    say("reached", &reached(row.reached_at));
    if let Some((at, why)) = &row.error {
        say("last error", &format!("{}: {why}", time::time(*at)));
    }
    let findings = app
        .ledger
        .read(|connection| account_rows::findings(connection, &account.name))?;
    match &findings {
        Some((at, found)) => {
            let unguarded = found
                .table()
                .iter()
                .filter(|finding| finding.unguarded)
                .count();
            let unguarded = match unguarded {
                0 => "nothing unguarded".to_owned(),
                count => katabatic_core::words::count(
                    count as u64,
                    "thing unguarded",
                    "things unguarded",
                ),
            };
            say(
                "server can",
                &format!(
                    "found out {}, {unguarded}; the table: katabatic account test {}",
                    time::time(*at),
                    account.name
                ),
            );
        }
        None => say(
            "server can",
            &format!(
                "not found out (or its software changed since), so the worst is believed: katabatic account test {}",
                account.name
            ),
        ),
    }
    let lanes = lanes_of(app, &account.name);
    let lanes = if lanes.is_empty() {
        "none".into()
    } else {
        lanes.join(", ")
    };
    say("lanes", &lanes);
    Ok(())
}
