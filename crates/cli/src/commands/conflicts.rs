//! `conflicts`: both versions of every conflict, side by side.

use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::Entry;
use katabatic_core::words::typed;
use katabatic_engine::Error;
use katabatic_engine::config::LaneConfig;
use katabatic_engine::pass::Progress;
use katabatic_engine::settle::{self, Conflict};
use serde_json::{Value, json};

use super::status::entry_words;
use crate::about::understand;
use crate::app::App;
use crate::draw::table::Rows;
use crate::draw::{json, line, shown, shown_text, time};
use crate::{args, exit};

pub fn conflicts(app: &App, wanted: &args::Conflicts) -> Result<ExitCode, Error> {
    let lanes: Vec<LaneConfig> = match &wanted.lane {
        Some(name) => vec![app.config.lane(name)?.clone()],
        None => understand(&app.config, &[])?
            .into_iter()
            .map(|about| about.lane)
            .collect(),
    };
    let mut answers: Vec<Value> = Vec::new();
    let mut found = 0;
    for lane in lanes {
        let conflicts = app.run(async {
            let pass = app.pass(&lane, Arc::new(Progress::default())).await?;
            let mut conflicts = Vec::new();
            for row in settle::open_conflicts(&pass)? {
                conflicts.push(settle::show(&pass, &row).await?);
            }
            Ok::<_, Error>(conflicts)
        })?;
        found += conflicts.len();
        for conflict in &conflicts {
            if app.common.json {
                answers.push(conflict_json(&lane, conflict));
            } else {
                say(app, &lane, conflict);
            }
        }
    }
    if app.common.json {
        json::print(&json!({"conflicts": answers}));
    } else if found == 0 {
        line("No conflicts were found by the last pass.");
    }
    Ok(ExitCode::from(if found > 0 {
        exit::NEEDS_A_PERSON
    } else {
        0
    }))
}

fn say(app: &App, lane: &LaneConfig, conflict: &Conflict) {
    let seen = conflict
        .seen_at
        .map_or_else(String::new, |at| format!(", found {}", time::exact(at)));
    line(format!(
        "Conflict: {} in lane {}{seen}",
        shown(&conflict.path),
        lane.name
    ));
    let words = |entry: &Option<Entry>| {
        entry
            .as_ref()
            .map_or_else(|| "nothing there now".to_owned(), entry_words)
    };
    let mut rows = Rows::bare(app.style, 3);
    let text = |pick: fn(&(usize, String, String)) -> &String| {
        conflict
            .difference
            .as_ref()
            .map_or_else(String::new, |difference| {
                format!(
                    "line {}: {}",
                    difference.0,
                    shortened(&shown_text(pick(difference)))
                )
            })
    };
    rows.add(vec![
        "near".into(),
        words(&conflict.near),
        text(|(_, near, _)| near),
    ]);
    rows.add(vec![
        "far".into(),
        words(&conflict.far),
        text(|(.., far)| far),
    ]);
    rows.print(2);
    let path = lane.near.join(&conflict.path);
    line(format!(
        "  Next: katabatic settle {} --keep near|far|both|newest",
        typed(&path.to_string())
    ));
}

fn shortened(text: &str) -> String {
    if text.chars().count() <= 60 {
        text.to_owned()
    } else {
        text.chars().take(59).chain(['…']).collect()
    }
}

fn conflict_json(lane: &LaneConfig, conflict: &Conflict) -> Value {
    json!({
        "lane": lane.name,
        "path": conflict.path.as_str(),
        "near": json::entry(conflict.near.as_ref()),
        "far": json::entry(conflict.far.as_ref()),
        "found": json::time(conflict.seen_at),
        "first_difference": conflict.difference.as_ref().map(|(number, near, far)| {
            json!({"line": number, "near": near, "far": far})
        }),
    })
}
