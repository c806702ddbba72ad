//! `lane show`: what a lane is and does, and what it leaves out.

use std::collections::BTreeMap;

use katabatic_core::room::Budget;
use katabatic_core::{Direction, NewFolders, RelPath, Rule, Side, Tally, words};
use katabatic_engine::Error;
use katabatic_engine::config::{LaneConfig, ProofBy};
use katabatic_engine::lanes;
use katabatic_ledger::rows;
use katabatic_sides::effort::IN_FLIGHT;
use katabatic_sides::net::rate::Limits;
use serde_json::{Value, json};

use super::{described, last_pass, run_words};
use crate::app::App;
use crate::draw::table::Rows;
use crate::draw::{field, json, line, time};
use crate::limits;

pub fn show(app: &App, name: &str) -> Result<(), Error> {
    let lane = app.config.lane(name)?;
    let (pass, seen) = last_pass(app, lane)?;
    let left_out = left_out(app, lane)?;
    if app.common.json {
        let mut described = described(lane);
        described["passes"] = json!(pass);
        described["last_pass"] = json::time(seen);
        let tally = |(by, tally): (&String, &Tally)| json!({"by": by, "files": tally.files, "bytes": tally.bytes});
        described["left_out"] = Value::Array(left_out.iter().map(tally).collect());
        json::print(&json!({"lane": described}));
        return Ok(());
    }
    line(format!("lane {}", lane.name));
    let fact = |what: &str, text: &str| field(app.style, what, text);
    let mut plain_http = false;
    for side in [Side::Near, Side::Far] {
        let place = lane.place(side);
        let whose = match place.account() {
            Some(account) => {
                let account = app.config.account(account)?;
                plain_http |= account.plain_http;
                format!("{place} ({} at {})", account.user, account.address)
            }
            None => place.to_string(),
        };
        fact(side.name(), &whose);
    }
    if plain_http {
        fact(
            "plain http",
            "everybody on the way can read the password and every file",
        );
    }
    if lane.account(Side::Near).is_some() {
        fact(
            "words",
            "between two accounts, \"here\" is the near side and \"there\" the far side",
        );
    }
    say_terms(app, lane);
    for lacks in app.run(lanes::shortcomings(&app.home, &app.ledger, lane, &app.stop)) {
        fact(
            "disk",
            &format!("{} lacks some of what a usual one has", lacks.place),
        );
        for said in &lacks.said {
            fact("", &format!("- {said}"));
        }
    }
    if lane.limits != Limits::default() {
        fact("limits", &limits::words(&lane.limits));
    }
    if lane.contents.comes_as_stubs() {
        fact(
            "contents",
            "new files come as stubs: name, size and date; the content with katabatic fetch",
        );
    }
    for (folder, stubs) in lane.contents.folders() {
        let how = match stubs {
            true => "new files of the far side come as stubs",
            false => "new files of the far side come with their content",
        };
        fact("", &format!("{folder}: {how}"));
    }
    let budget = room_words(&lane.contents.budget);
    if !budget.is_empty() {
        fact("room", &budget);
    }
    let held: Vec<String> = lane.contents.held().map(ToString::to_string).collect();
    if !held.is_empty() {
        fact("held", &held.join(", "));
    }
    if lane.proof == ProofBy::Tags {
        fact(
            "proof",
            "version tags: what is shed or dropped is believed to be on the other side, and not proven",
        );
    }
    if lane.transfers != IN_FLIGHT {
        let transfers = words::count(lane.transfers as u64, "file", "files");
        fact("transfers", &format!("{transfers} at a time"));
    }
    fact(
        "by itself",
        &format!("by the agent, where one runs: {}", run_words(lane)),
    );
    if lane.by_name_only {
        fact(
            "by name",
            &format!("synced only when it is named: katabatic sync {}", lane.name),
        );
    }
    match seen {
        Some(at) => fact("last pass", &format!("number {pass}, {}", time::exact(at))),
        None => fact("last pass", "never"),
    }
    say_left_out(app, lane, &left_out);
    line(format!(
        "See where its files stand: katabatic status {}",
        lane.name
    ));
    Ok(())
}

/// How much room a lane may take, in words; empty where it may take all there is.
pub fn room_words(budget: &Budget) -> String {
    let mut parts = Vec::new();
    if let Some(most) = budget.max_local {
        parts.push(format!("at most {} on this computer", words::bytes(most)));
    }
    if let Some(least) = budget.leave_free {
        parts.push(format!("{} of the disk stay free", words::bytes(least)));
    }
    if parts.is_empty() {
        return String::new();
    }
    format!(
        "{}: the agent sheds what was not used for longest",
        parts.join(", ")
    )
}

fn say_terms(app: &App, lane: &LaneConfig) {
    let fact = |what: &str, text: &str| field(app.style, what, text);
    let terms = lane.terms;
    let one_way = terms.direction != Direction::TwoWay;
    fact(
        "direction",
        &format!(
            "{}: {}",
            terms.direction.word(),
            terms.direction.meaning(lane.side_names())
        ),
    );
    fact("removals", terms.removals.meaning());
    if one_way {
        fact("drift", terms.drift.meaning());
        fact(
            "updates",
            &format!("new versions {}", terms.updates.meaning()),
        );
    }
    fact(
        "conflicts",
        "neither side is touched until somebody settles them",
    );
    if lane.portable_names {
        fact(
            "names",
            "portable: a name that not every system can hold waits, with one that would do",
        );
    }
    let brake = lane.brake;
    fact(
        "brake",
        &format!(
            "stops a pass that would remove or replace more than {} % of the files in a day (up to {} are always fine, more than {} never)",
            brake.percent, brake.always_fine, brake.never_fine
        ),
    );
}

fn left_out(app: &App, lane: &LaneConfig) -> Result<BTreeMap<String, Tally>, Error> {
    let found = app
        .ledger
        .read(|connection| match rows::lane_of(connection, &lane.id)? {
            Some(row) => rows::left_out(connection, row.key),
            None => Ok(Vec::new()),
        })?;
    Ok(found.into_iter().collect())
}

fn say_left_out(app: &App, lane: &LaneConfig, left_out: &BTreeMap<String, Tally>) {
    let choice = &lane.selection.choice;
    if lane.selection == Default::default() {
        return field(app.style, "left out", "nothing by rule or choice");
    }
    let count = |by: &str| match left_out.get(by) {
        Some(tally) => format!(
            "{}, {}",
            words::count(tally.files, "file", "files"),
            words::bytes(tally.bytes)
        ),
        None => "nothing so far".into(),
    };
    line("  left out, as last listed");
    let mut rows = Rows::bare(app.style, 3);
    for folder in choice.skipped() {
        let name = format!("/{folder}/");
        let counted = count(&name);
        rows.add(vec![name, "a folder that is not taken".into(), counted]);
    }
    let new = left_out.keys().filter(|name| {
        choice.new_folders == NewFolders::Skip
            && !choice
                .skipped()
                .any(|folder| format!("/{folder}/") == **name)
            && !lane.selection.rules.iter().any(|rule| rule.text() == *name)
    });
    for name in new {
        rows.add(vec![
            name.clone(),
            "a new folder of the far side, not taken by itself".into(),
            count(name),
        ]);
    }
    let (caught, idle): (Vec<&Rule>, Vec<&Rule>) = lane
        .selection
        .rules
        .iter()
        .partition(|rule| left_out.contains_key(rule.text()));
    for rule in &caught {
        rows.add(vec![
            rule.text().to_owned(),
            rule.meaning(),
            count(rule.text()),
        ]);
    }
    rows.print(4);
    if !idle.is_empty() {
        let idle: Vec<&str> = idle.into_iter().map(Rule::text).collect();
        let text = format!("{} (nothing so far)", idle.join("  "));
        field(app.style, "more rules", &text);
    }
    let takes: Vec<&str> = choice.taken().map(RelPath::as_str).collect();
    if !takes.is_empty() {
        field(app.style, "taken", &takes.join(", "));
    }
    if let Some(rule) = caught.first() {
        line(format!(
            "To have one carried again: katabatic lane change {} --let-in {}",
            lane.name,
            words::typed(rule.text())
        ));
        line(format!(
            "To remove what rules leave out from both sides, into the spares: katabatic lane sweep {}",
            lane.name
        ));
    }
}
