//! `lane sweep`: removes what the rules of a lane leave out from both sides, into the spares.

use clap::Args;
use std::collections::BTreeMap;
use std::io::IsTerminal;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::words;
use katabatic_engine::config::LaneConfig;
use katabatic_engine::pass::Progress;
use katabatic_engine::sweep::{self, OnSide};
use katabatic_engine::{Class, Error};
use serde_json::{Value, json};

use crate::app::App;
use crate::commands::account::confirmed;
use crate::draw::table::Rows;
use crate::draw::{json, line, shown};
use crate::exit;

/// `lane sweep`.
#[derive(Args, Debug)]
pub struct LaneSweepArgs {
    /// The lane
    #[arg(value_name = "LANE")]
    pub name: String,
    /// Only what these rules of the lane leave out
    #[arg(value_name = "RULE")]
    pub rules: Vec<String>,
    /// Only show it
    #[arg(long)]
    pub preview: bool,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

/// As many files are named.
const NAMED: usize = 12;

pub fn sweep(app: &App, typed: &LaneSweepArgs) -> Result<ExitCode, Error> {
    let lane = app.config.lane(&typed.name)?.clone();
    let pass = app.run(app.pass(&lane, Arc::new(Progress::default())))?;
    let found = app.run(sweep::caught(&pass, &typed.rules))?;
    let files: u64 = found.iter().map(|on| on.files.len() as u64).sum();
    if !app.common.json {
        say(app, &lane, &found, files);
    }
    let asks = app.style.terminal && std::io::stdin().is_terminal();
    let only_shown = typed.preview || !(typed.yes || asks);
    if files == 0 || only_shown {
        if app.common.json {
            json::print(&json!({"lane": lane.name, "caught": caught_json(&found)}));
        } else if files > 0 {
            line(format!(
                "Nothing was removed. To remove these: katabatic lane sweep {} --yes",
                lane.name
            ));
        }
        return Ok(exit::only_shown(files > 0 && !typed.preview));
    }
    if !confirmed(
        app,
        typed.yes,
        "Remove these from both sides, into the spares?",
    )? {
        return Err(Error::new(
            Class::Failed,
            format!("removing what rules leave out of lane {}", lane.name),
            "they are not to be removed, as was said",
            "Nothing was changed.",
        ));
    }
    let swept = app.run(sweep::sweep(&pass, &found))?;
    if app.common.json {
        json::print(&json!({
            "lane": lane.name,
            "caught": caught_json(&found),
            "removed": {"files": swept.files.0, "bytes": swept.files.1, "run": swept.run},
            "stayed": swept.stayed.iter().map(|(path, why)| json!({"path": path.as_str(), "why": why})).collect::<Vec<_>>(),
        }));
    } else {
        line(format!(
            "Removed {}, {}. Each can be brought back: katabatic spares list {}",
            words::count(swept.files.0, "file", "files"),
            words::bytes(swept.files.1),
            lane.name
        ));
        for (path, why) in &swept.stayed {
            line(format!("  {} stays: {why}", shown(path)));
        }
    }
    Ok(ExitCode::from(match swept.stayed.is_empty() {
        true => 0,
        false => exit::NEEDS_A_PERSON,
    }))
}

fn say(app: &App, lane: &LaneConfig, found: &[OnSide; 2], files: u64) {
    let (sides, lane) = (lane.side_names(), &lane.name);
    if files == 0 {
        line(format!(
            "Nothing that the rules of the lane {lane} leave out is on either side."
        ));
        return;
    }
    line(format!("What the rules of the lane {lane} leave out:"));
    let mut sums: BTreeMap<(&str, &'static str), (u64, u64)> = BTreeMap::new();
    for on in found {
        for (_, entry, by) in &on.files {
            let sum = sums.entry((by, sides.at(on.side))).or_default();
            sum.0 += 1;
            sum.1 = sum.1.saturating_add(entry.size);
        }
    }
    let mut rows = Rows::new(app.style, &["rule", "where", "files", "size"]);
    for ((by, at), (files, bytes)) in sums {
        rows.add(vec![
            by.to_owned(),
            at.to_owned(),
            words::grouped(files),
            words::bytes(bytes),
        ]);
    }
    rows.numbers(2);
    rows.numbers(3);
    rows.print(2);
    line("");
    let named = found
        .iter()
        .flat_map(|on| on.files.iter().map(|(path, ..)| (on.side, path)));
    for (side, path) in named.take(NAMED) {
        line(format!("  {:<9}  {}", sides.label(side), shown(path)));
    }
    if files > NAMED as u64 {
        line(format!(
            "  and {} more",
            words::grouped(files - NAMED as u64)
        ));
    }
    for on in found
        .iter()
        .filter(|on| on.read_only && !on.files.is_empty())
    {
        line(format!(
            "Nothing can be removed {}: it may only be read.",
            sides.at(on.side)
        ));
    }
}

fn caught_json(found: &[OnSide; 2]) -> Value {
    let one = |on: &OnSide| {
        json!({
            "side": on.side.name(),
            "bytes": on.bytes(),
            "read_only": on.read_only,
            "files": on.files.iter().map(|(path, entry, by)| {
                json!({"path": path.as_str(), "size": entry.size, "rule": by})
            }).collect::<Vec<_>>(),
        })
    };
    found.iter().map(one).collect()
}
