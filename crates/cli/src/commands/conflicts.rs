//! `conflicts`: both versions of every conflict, side by side.

use clap::Args;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::words::{self, typed};
use katabatic_core::{Entry, Side};
use katabatic_engine::Error;
use katabatic_engine::config::LaneConfig;
use katabatic_engine::differ::{Difference, Pixels};
use katabatic_engine::pass::Progress;
use katabatic_engine::settle::{self, Conflict};
use serde_json::{Value, json};

use super::status::entry_words;
use crate::about::understand;
use crate::app::App;
use crate::draw::table::Rows;
use crate::draw::{json, line, shown, shown_text, time};
use crate::exit;
use crate::several::Several;

/// `conflicts`.
#[derive(Args, Debug)]
pub struct ConflictsArgs {
    /// The lane; all lanes where none is named
    pub lane: Option<String>,
}

pub fn conflicts(
    app: &App,
    wanted: &crate::commands::conflicts::ConflictsArgs,
) -> Result<ExitCode, Error> {
    let lanes: Vec<LaneConfig> = match &wanted.lane {
        Some(name) => vec![app.config.lane(name)?.clone()],
        None => understand(&app.config, &[])?
            .into_iter()
            .map(|about| about.lane)
            .collect(),
    };
    let mut answers: Vec<Value> = Vec::new();
    let mut found = 0;
    let mut several = Several::of(lanes.len());
    for lane in lanes {
        let conflicts = app.run(async {
            let pass = app.pass(&lane, Arc::new(Progress::default())).await?;
            let mut conflicts = Vec::new();
            for row in settle::open_conflicts(&pass)? {
                conflicts.push(settle::show(&pass, &row).await?);
            }
            Ok::<_, Error>(conflicts)
        });
        let Some(conflicts) = several.take(app, &lane, conflicts)? else {
            continue;
        };
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
        let mut answer = json!({"conflicts": answers});
        if !several.failed.is_empty() {
            answer["failed"] = json!(several.failed);
        }
        json::print(&answer);
    } else if found == 0 && several.code == 0 {
        line("No conflicts were found by the last pass.");
    }
    let needs = if found > 0 { exit::NEEDS_A_PERSON } else { 0 };
    Ok(ExitCode::from(exit::worse(several.code, needs)))
}

fn say(app: &App, lane: &LaneConfig, conflict: &Conflict) {
    describe(app, lane, conflict);
    let path = lane.near.join(&conflict.path);
    line(format!(
        "  Next: katabatic settle {} --keep near|far|both|newest",
        typed(&path.to_string())
    ));
}

/// Both versions of a conflict, and how they differ.
pub fn describe(app: &App, lane: &LaneConfig, conflict: &Conflict) {
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
    let about = |side: Side| {
        conflict
            .difference
            .as_ref()
            .map_or_else(String::new, |difference| beside(difference, side))
    };
    rows.add(vec![
        "near".into(),
        words(&conflict.near),
        about(Side::Near),
    ]);
    rows.add(vec!["far".into(), words(&conflict.far), about(Side::Far)]);
    rows.print(2);
    if let Some(difference) = &conflict.difference {
        say_difference(difference);
    }
}

/// As many lines of a diff are shown.
const LINES: usize = 24;

/// What stands beside one version: its line, or its size as a picture.
fn beside(difference: &Difference, side: Side) -> String {
    match (difference, side) {
        (Difference::Text { line, near, .. }, Side::Near) => {
            format!("line {line}: {}", shortened(&shown_text(near)))
        }
        (Difference::Text { line, far, .. }, Side::Far) => {
            format!("line {line}: {}", shortened(&shown_text(far)))
        }
        (Difference::Bytes { near_pixels, .. }, Side::Near) => pixels(*near_pixels),
        (Difference::Bytes { far_pixels, .. }, Side::Far) => pixels(*far_pixels),
    }
}

fn pixels(pixels: Option<Pixels>) -> String {
    pixels.map_or_else(String::new, |(width, height)| {
        format!("a picture of {width} x {height} pixels")
    })
}

fn say_difference(difference: &Difference) {
    match difference {
        Difference::Text { unified, .. } => {
            let lines: Vec<&str> = unified.lines().collect();
            for text in lines.iter().take(LINES) {
                line(format!("    {}", shown_text(text)));
            }
            let more = lines.len().saturating_sub(LINES);
            if more > 0 {
                line(format!(
                    "    and {}",
                    words::count(more as u64, "line more", "lines more")
                ));
            }
        }
        Difference::Bytes {
            first, same, of, ..
        } => line(format!(
            "    they differ from byte {} on; {:.1} % of {} are equal at the same place",
            words::grouped(*first),
            *same as f64 * 100.0 / (*of).max(1) as f64,
            words::bytes(*of)
        )),
    }
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
        "difference": conflict.difference.as_ref().map(difference_json),
    })
}

fn difference_json(difference: &Difference) -> Value {
    match difference {
        Difference::Text {
            line,
            near,
            far,
            unified,
        } => json!({"line": line, "near": near, "far": far, "unified": unified}),
        Difference::Bytes {
            first,
            same,
            of,
            near_pixels,
            far_pixels,
        } => json!({
            "first_byte": first,
            "same_bytes": same,
            "of_bytes": of,
            "near_pixels": near_pixels.map(|(width, height)| [width, height]),
            "far_pixels": far_pixels.map(|(width, height)| [width, height]),
        }),
    }
}
