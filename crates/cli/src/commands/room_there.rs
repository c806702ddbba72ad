//! `room @ACCOUNT`: what takes the room there, and what each step would free.

use std::process::ExitCode;

use katabatic_core::words;
use katabatic_engine::Error;
use katabatic_engine::room_there::{self, KeptThere, RoomThere};
use serde_json::json;

use crate::app::App;
use crate::draw::table::Rows;
use crate::draw::{json, line, sentence, shown_text};
use crate::exit;

/// As many folders are named.
const NAMED: usize = 12;

pub fn room(app: &App, account: &str) -> Result<ExitCode, Error> {
    let account = app.config.account(account)?.name.clone();
    let there = app.run(room_there::look(
        &app.home,
        &app.config,
        &app.ledger,
        &account,
        app.now(),
        &app.stop,
    ))?;
    if app.common.json {
        json::print(&as_json(&account, &there));
    } else {
        show(app, &account, &there);
    }
    // A sum with a hole in it is none that a script may go by.
    Ok(ExitCode::from(match there.unknown.is_empty() {
        true => 0,
        false => exit::NEEDS_A_PERSON,
    }))
}

fn show(app: &App, account: &str, there: &RoomThere) {
    let bytes =
        |many: Option<u64>| many.map_or_else(|| "the server does not say".into(), words::bytes);
    line(format!(
        "@{account}: used {}, free {}",
        bytes(there.used),
        bytes(there.free)
    ));
    let mut rows = Rows::new(app.style, &["what", "files", "size"]);
    let mut folders: Vec<_> = there.folders.folders.iter().collect();
    folders.sort_by_key(|(_, inside)| std::cmp::Reverse(inside.bytes));
    let mut add = |what: String, files: u64, bytes: u64| {
        rows.add(vec![what, words::grouped(files), words::bytes(bytes)]);
    };
    let (mut files, mut in_folders) = (there.folders.files, there.folders.bytes);
    for (number, (name, inside)) in folders.iter().enumerate() {
        files -= inside.files.min(files);
        in_folders -= inside.bytes.min(in_folders);
        if number < NAMED {
            add(format!("{}/", shown_text(name)), inside.files, inside.bytes);
        }
    }
    let rest = folders.iter().skip(NAMED);
    let (more, more_files, more_bytes) =
        rest.fold((0, 0, 0), |(count, files, bytes), (_, inside)| {
            (count + 1, files + inside.files, bytes + inside.bytes)
        });
    if more > 0 {
        let what = words::count(more, "folder more", "folders more");
        add(what, more_files, more_bytes);
    }
    if files > 0 {
        add("(in no folder)".into(), files, in_folders);
    }
    for kept in there.kept.iter().filter(|kept| kept.files > 0) {
        add(kept_words(kept), kept.files, kept.bytes);
    }
    rows.numbers(1);
    rows.numbers(2);
    rows.print(2);
    if let Some(unseen) = there.unseen().filter(|unseen| *unseen > 0) {
        sentence(
            app.style,
            2,
            &format!(
                "{} more are used by what is not seen in it: the server's own bin or older versions, or other people's files",
                words::bytes(unseen)
            ),
        );
    }
    for unknown in &there.unknown {
        sentence(app.style, 2, &format!("Not counted: {unknown}"));
    }
    line("What would make room in it:");
    for step in steps(account, there) {
        sentence(app.style, 2, &step);
    }
}

fn kept_words(kept: &KeptThere) -> String {
    let whose = match kept.ours {
        true => "this computer".to_owned(),
        false => shown_text(&kept.computer),
    };
    format!("spares of {whose}, lane {}", kept.lane)
}

/// What can be done, and what each frees; the cheapest first.
fn steps(account: &str, there: &RoomThere) -> Vec<String> {
    let mut steps = Vec::new();
    for kept in there.kept.iter().filter(|kept| kept.bytes > 0) {
        let lane = &kept.lane;
        let bytes = words::bytes(kept.bytes);
        steps.push(match (kept.ours, kept.old) {
            (true, 0) => format!(
                "up to {bytes}, for good: katabatic spares prune {lane} --older-than 7d --yes (what passes replaced or removed; none of it is older than 30 days)"
            ),
            (true, old) => format!(
                "{} of {bytes}, for good: katabatic spares prune {lane} --yes (what passes replaced or removed more than 30 days ago)",
                words::bytes(old)
            ),
            (false, _) => format!(
                "up to {bytes}, for good: on the computer {}, katabatic spares prune",
                shown_text(&kept.computer)
            ),
        });
    }
    steps.push(format!(
        "files that go by katabatic remove @{account}/…, or by a pass, go into the spares first, in the same account: they free nothing until those are pruned"
    ));
    if there.unseen().is_some_and(|unseen| unseen > 0) {
        steps.push(
            "what lies in the server's own bin or in older versions is given up on its web pages"
                .into(),
        );
    }
    steps
}

fn as_json(account: &str, there: &RoomThere) -> serde_json::Value {
    let folders: serde_json::Map<String, serde_json::Value> = there
        .folders
        .folders
        .iter()
        .map(|(name, inside)| {
            let told = json!({"files": inside.files, "bytes": inside.bytes});
            (name.clone(), told)
        })
        .collect();
    let kept: Vec<_> = there
        .kept
        .iter()
        .map(|kept| {
            json!({
                "place": kept.place,
                "lane": kept.lane,
                "computer": kept.computer,
                "ours": kept.ours,
                "files": kept.files,
                "bytes": kept.bytes,
                "old": kept.old,
            })
        })
        .collect();
    json!({
        "account": account,
        "used": there.used,
        "free": there.free,
        "files": there.folders.files,
        "bytes": there.folders.bytes,
        "folders": folders,
        "kept": kept,
        "unseen": there.unseen(),
        "unknown": there.unknown,
        "steps": steps(account, there),
    })
}
