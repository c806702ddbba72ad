//! `lane add | list | show | change | sweep | relocate | rename | remove`.

mod add;
mod asked;
mod change;
mod list;
mod relocate;
mod remove;
mod rename;
mod show;
mod sweep;

use crate::commands::lane::asked::LaneAskedArgs;
use crate::commands::lane::change::LaneChangeArgs;
use crate::commands::lane::relocate::LaneRelocateArgs;
use crate::commands::lane::remove::LaneRemoveArgs;
use crate::commands::lane::rename::LaneRenameArgs;
use crate::commands::lane::sweep::LaneSweepArgs;
use crate::common::NamedLane;
use clap::Subcommand;
use std::process::ExitCode;

use katabatic_core::place::Place;
use katabatic_core::schedule::When;
use katabatic_core::{EditTime, Rule, words};
use katabatic_engine::Error;
use katabatic_engine::config::{LaneConfig, ProofBy};
use katabatic_engine::lanes::NextPass;
use katabatic_ledger::rows;
use katabatic_sides::Shortcomings;
use serde_json::{Value, json};

pub use show::room_words;

use super::plan::{forecast_words, totals_words};
use crate::app::App;
use crate::draw::{line, sentence};

/// `lane …`.
#[derive(Debug, Subcommand)]
pub enum LaneCommand {
    /// Tie two places; nothing is carried yet. On a terminal, without options, it asks
    Add(LaneAskedArgs),
    /// List all lanes
    List,
    /// Show one lane
    Show(NamedLane),
    /// Change any setting of a lane; what the next pass would do is shown first
    Change(LaneChangeArgs),
    /// Remove what the lane's rules leave out, from both sides, into the spares; shown first
    Sweep(LaneSweepArgs),
    /// Move the near folder to another disk, or follow a folder that was moved
    Relocate(LaneRelocateArgs),
    /// Give a lane another name; its runs and spares follow
    Rename(LaneRenameArgs),
    /// Take a lane away; every file stays on both sides
    Remove(LaneRemoveArgs),
}

pub fn lane(app: &App, lane: &LaneCommand) -> Result<ExitCode, Error> {
    match lane {
        LaneCommand::Add(typed) => add::add(app, typed)?,
        LaneCommand::List => list::list(app)?,
        LaneCommand::Show(named) => show::show(app, &named.name)?,
        LaneCommand::Change(typed) => change::change(app, typed)?,
        LaneCommand::Relocate(typed) => return relocate::relocate(app, typed),
        LaneCommand::Sweep(typed) => return sweep::sweep(app, typed),
        LaneCommand::Rename(typed) => rename::rename(app, typed)?,
        LaneCommand::Remove(typed) => remove::remove(app, typed)?,
    }
    Ok(ExitCode::SUCCESS)
}

/// What the disks of a lane lack.
fn lacks_json(lacks: &[Shortcomings]) -> Value {
    let one = |lacks: &Shortcomings| json!({"place": lacks.place, "said": lacks.said});
    lacks.iter().map(one).collect()
}

/// A side as it was typed.
fn place(app: &App, typed: &str) -> Result<Place, Error> {
    Place::parse(typed, &app.config.account_names())
}

/// What the next pass would do, a line each.
pub fn say_next_pass(app: &App, next: &NextPass, lane: &LaneConfig) {
    let words = totals_words(&next.plan.totals(), next.plan.sides);
    let nothing = words.is_empty();
    for words in words {
        line(format!("  {words}"));
    }
    for words in forecast_words(app, lane, &next.plan) {
        sentence(app.style, 2, &words);
    }
    if next.first {
        line("  remove nothing: a first pass only adds what one side lacks");
    } else if nothing {
        line("  change nothing");
    }
    say_left_out(next);
    for warning in &next.unwise {
        line(format!("Mind: {warning}"));
    }
    if lane.proof == ProofBy::Tags {
        line(
            "Mind: version tags count as proof in this lane. What is dropped on a tag alone is only believed to be on the other side; status and sync say how much that is.",
        );
    }
    for lacks in &next.lacks {
        line(format!(
            "Mind: {} lacks some of what a usual disk has",
            lacks.place
        ));
        for said in &lacks.said {
            line(format!("  - {said}"));
        }
    }
    if next.far_read_only && lane.terms.direction.writes_to(katabatic_core::Side::Far) {
        line(format!(
            "Mind: {} may only be read. What changes on this side is never carried up; it stays, marked as stuck.",
            lane.far_place()
        ));
    }
}

fn say_left_out(next: &NextPass) {
    for (by, tally) in &next.plan.left_out {
        line(format!(
            "  leave out {} by {by}, {}",
            words::count(tally.files, "file", "files"),
            words::bytes(tally.bytes)
        ));
    }
}

/// When the agent runs a lane, in words.
fn run_words(lane: &LaneConfig) -> String {
    let when: Vec<String> = lane.when.iter().map(ToString::to_string).collect();
    let quiet = match lane.when.contains(&When::OnChange) {
        true => format!(", once it was quiet for {} s", lane.quiet.as_secs()),
        false => String::new(),
    };
    let only_on: Vec<String> = lane.only_on.iter().map(ToString::to_string).collect();
    let only_on = match only_on.is_empty() {
        true => String::new(),
        false => format!(", only on {}", only_on.join(", ")),
    };
    let told = lane.tell_unsettled_hours.map_or_else(String::new, |hours| {
        format!("; somebody is told after {hours} h in which it has not settled")
    });
    format!("{}{quiet}{only_on}{told}", when.join(", "))
}

/// A lane as JSON has it.
fn described(lane: &LaneConfig) -> Value {
    let choice = &lane.selection.choice;
    let rules: Vec<&str> = lane.selection.rules.iter().map(Rule::text).collect();
    let folders_where = |wanted: bool| {
        let folders = lane.contents.folders();
        let named = folders.filter(|(_, stubs)| *stubs == wanted);
        named.map(|(folder, _)| folder.as_str()).collect::<Vec<_>>()
    };
    json!({
        "name": lane.name,
        "near": lane.near.to_string(),
        "far": lane.far_place(),
        "direction": lane.terms.direction.word(),
        "removals": lane.terms.removals.word(),
        "drift": lane.terms.drift.word(),
        "updates": lane.terms.updates.word(),
        "skip": choice.skipped().map(|folder| folder.as_str()).collect::<Vec<_>>(),
        "take": choice.taken().map(|folder| folder.as_str()).collect::<Vec<_>>(),
        "new_folders": choice.new_folders.word(),
        "leave_out": rules,
        "names": if lane.portable_names { "portable" } else { "any" },
        "by_name_only": lane.by_name_only,
        "when": lane.when.iter().map(ToString::to_string).collect::<Vec<_>>(),
        "contents": if lane.contents.comes_as_stubs() { "stubs" } else { "all" },
        "stubs_in": folders_where(true),
        "all_in": folders_where(false),
        "max_local": lane.contents.budget.max_local,
        "leave_free": lane.contents.budget.leave_free,
        "hold": lane.contents.held().map(|path| path.as_str()).collect::<Vec<_>>(),
        "transfers": lane.transfers,
        "proof": lane.proof.word(),
        "quiet_seconds": lane.quiet.as_secs(),
        "only_on": lane.only_on.iter().map(ToString::to_string).collect::<Vec<_>>(),
        "tell_unsettled_hours": lane.tell_unsettled_hours,
        "brake": {
            "percent": lane.brake.percent,
            "always_fine": lane.brake.always_fine,
            "never_fine": lane.brake.never_fine,
        },
        "limit_up": lane.limits.up.as_ref().map(ToString::to_string),
        "limit_down": lane.limits.down.as_ref().map(ToString::to_string),
    })
}

fn last_pass(app: &App, lane: &LaneConfig) -> Result<(u64, Option<EditTime>), Error> {
    let row = app
        .ledger
        .read(|connection| rows::lane_of(connection, &lane.id))?;
    Ok(row.map_or((0, None), |row| (row.pass, row.seen_at)))
}
