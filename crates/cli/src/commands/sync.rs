//! `sync`: runs a pass of each lane.

use crate::limits::LimitsArgs;
use crate::typed_choice::choice;
use clap::Args;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::{Direction, Drift, Side, Terms, words};
use katabatic_engine::config::LaneConfig;
use katabatic_engine::failed_pass;
use katabatic_engine::pass::{Ending, Outcome, Progress, Report, Wish};
use katabatic_engine::{Class, Error};
use katabatic_ledger::rows;
use serde_json::{Value, json};

use crate::about::{About, understand};
use crate::app::App;
use crate::draw::listing::Item;
use crate::draw::table::Rows;
use crate::draw::{self, error, json, line, listing, progress, shown, time};
use crate::{exit, proof_words};

/// `sync`.
#[derive(Args, Debug)]
pub struct SyncArgs {
    /// Lanes, or files and folders in them; all lanes where none is named
    #[arg(value_name = "LANE|PATH")]
    pub about: Vec<String>,
    /// Carry exactly the plan of this id, or nothing
    #[arg(long, value_name = "ID")]
    pub exactly: Option<String>,
    /// Release the brake for this number of removals and replacements
    #[arg(long, value_name = "N")]
    pub release_brake: Option<u64>,
    /// One-way: put right from the source whatever changed on the receiving side
    #[arg(long)]
    pub restore_drift: bool,
    /// A first pass in which one side leads: what only the other has, or has otherwise, goes to the spares
    #[arg(long, value_parser = choice::<Side>())]
    pub lead: Option<Side>,
    /// For this pass only.
    #[command(flatten)]
    pub limits: LimitsArgs,
}

/// As many paths that need somebody are named at the most; `status` has all of them.
const NAMED: usize = 20;

pub fn sync(app: &App, typed: &crate::commands::sync::SyncArgs) -> Result<ExitCode, Error> {
    let mut about = understand(&app.config, &typed.about)?;
    if typed.about.is_empty() {
        about.retain(|about| !about.lane.by_name_only);
    }
    if about.len() > 1
        && (typed.exactly.is_some() || typed.release_brake.is_some() || typed.lead.is_some())
    {
        return Err(Error::usage(
            "sync",
            "--exactly, --release-brake and --lead are about one lane, and more than one is meant",
            "Name the lane: katabatic sync LANE …",
        ));
    }
    let (mut code, mut answers) = (0, Vec::new());
    for About { mut lane, paths } in about {
        lane.limits = typed.limits.over(&lane.limits)?;
        let wish = Wish {
            scope: paths,
            exactly: typed.exactly.clone(),
            release_brake: typed.release_brake,
            terms: leading(app, &lane, typed.lead)?.or(restoring(&lane, typed.restore_drift)?),
            ..Wish::default()
        };
        let (drawn, began) = (Arc::new(Progress::default()), app.now());
        let result = app.run(async {
            let pass = app.pass(&lane, Arc::clone(&drawn)).await?;
            progress::during(app.style, &lane.name, drawn, pass.sync(&wish)).await
        });
        if let Err(error) = &result
            && typed.exactly.is_none()
        {
            failed_pass::remember(&app.ledger, &lane, (began, app.now()), error);
        }
        match result {
            Ok(report) => {
                code = exit::worse(code, code_of(&report));
                if app.common.json {
                    answers.push(report_json(&lane.name, &report));
                } else {
                    say(app, &lane.name, &report);
                }
            }
            Err(failed) if app.common.json => {
                code = exit::worse(code, exit::number(failed.class));
                answers.push(json!({"lane": lane.name, "error": {
                    "what": failed.what, "why": failed.why, "next": failed.next, "exit": exit::number(failed.class)
                }}));
            }
            // One lane that cannot run does not keep the others waiting.
            Err(failed) => {
                code = exit::worse(code, exit::number(failed.class));
                error::error(&failed, false);
            }
        }
        if app.stop.asked() {
            code = exit::number(Class::Stopped);
            break;
        }
    }
    if app.common.json {
        json::print(&json!({"lanes": answers}));
    }
    Ok(ExitCode::from(code))
}

/// Terms for this pass alone, where drift is to be put right.
fn restoring(lane: &LaneConfig, restore: bool) -> Result<Option<Terms>, Error> {
    if !restore {
        return Ok(None);
    }
    if lane.terms.direction == Direction::TwoWay {
        return Err(Error::usage(
            "sync --restore-drift",
            format!(
                "the lane {} carries both ways: nothing in it is drift",
                lane.name
            ),
            "Name a lane that carries one way.",
        ));
    }
    Ok(Some(Terms {
        drift: Drift::Restore,
        ..lane.terms
    }))
}

/// Terms for a first pass in which one side leads.
pub fn leading(app: &App, lane: &LaneConfig, lead: Option<Side>) -> Result<Option<Terms>, Error> {
    let Some(lead) = lead else {
        return Ok(None);
    };
    let what = format!("letting one side of the lane {} lead", lane.name);
    if lane.terms.direction != Direction::TwoWay {
        return Err(Error::usage(
            what,
            format!(
                "it carries {} only, so its source leads already",
                lane.terms.direction.word()
            ),
            "Leave --lead out.",
        ));
    }
    let row = app
        .ledger
        .read(|connection| rows::lane_of(connection, &lane.id))?;
    if row.is_some_and(|row| row.pass > 0) {
        return Err(Error::usage(
            what,
            "that is for its first pass, and there were passes already",
            format!(
                "See what differs: katabatic plan {}, and settle it with katabatic settle",
                lane.name
            ),
        ));
    }
    Ok(Some(Terms {
        lead: Some(lead),
        ..lane.terms
    }))
}

pub fn code_of(report: &Report) -> u8 {
    match report {
        Report { stopped: true, .. } => exit::number(Class::Stopped),
        // Whoever asks by hand is not told that all is settled while something is not.
        report if report.needs_a_person() || report.being_written > 0 => exit::NEEDS_A_PERSON,
        _ => 0,
    }
}

/// What a pass did, in a few lines.
pub fn say(app: &App, name: &str, report: &Report) {
    let counts = &report.counts;
    let files = |count: u64| words::count(count, "file", "files");
    let far = report.sides.at(Side::Far);
    let mut did = Rows::bare(app.style, 2);
    let mut say = |count: u64, what: &str, how: String| {
        if count > 0 {
            did.add(vec![what.to_owned(), how]);
        }
    };
    say(
        counts.files_up,
        "carried up",
        format!(
            "{}, {}",
            files(counts.files_up),
            words::bytes(counts.bytes_up)
        ),
    );
    say(
        counts.files_down,
        "carried down",
        format!(
            "{}, {}",
            files(counts.files_down),
            words::bytes(counts.bytes_down)
        ),
    );
    say(
        counts.replaced,
        "replaced",
        format!(
            "{} of these; the old versions are in the spares",
            words::grouped(counts.replaced)
        ),
    );
    say(
        counts.moved,
        "moved",
        format!("{} to new names, no content carried", files(counts.moved)),
    );
    say(
        counts.stubs,
        "made stubs",
        format!(
            "{}: name, size and date; the content stays {far}",
            files(counts.stubs)
        ),
    );
    say(
        counts.shed,
        "shed",
        format!(
            "{}, {} free again; the content is {far}, nothing was removed",
            files(counts.shed),
            words::bytes(counts.bytes_shed)
        ),
    );
    say(
        report.believed,
        "believed",
        proof_words::believed(report.believed),
    );
    say(
        report.held_open,
        "kept",
        proof_words::held_open(report.held_open),
    );
    say(
        counts.dropped,
        "dropped",
        format!(
            "{}: moved {far} to where it is not taken, nothing removed",
            files(counts.dropped)
        ),
    );
    say(
        counts.removed,
        "removed",
        format!("{}, into the spares", files(counts.removed)),
    );
    let waiting = report
        .outcomes
        .iter()
        .filter(|outcome| matches!(outcome.ending, Ending::Waiting | Ending::BeingWritten))
        .count() as u64;
    if !app.common.quiet || report.needs_a_person() || report.stopped {
        let nothing = match did.is_empty() {
            true if report.needs_a_person() || report.being_written > 0 || report.stopped => {
                ", nothing carried"
            }
            true => ", nothing to carry",
            false => "",
        };
        let run = report
            .run
            .map_or_else(String::new, |run| format!(", run {run}"));
        line(format!(
            "Lane {name}{run}: {} settled{nothing}",
            files(report.settled)
        ));
        did.print(2);
    }
    if report.stopped {
        line(format!(
            "  Stopped in order; {} set down for the next sync",
            words::count(waiting, "step was", "steps were")
        ));
    }
    if report.left_out > 0 && !app.common.quiet {
        let left_out = words::count(report.left_out, "thing was", "things were");
        line(format!(
            "  {left_out} left out, see katabatic status {name}"
        ));
    }
    if report.closed_stubs > 0 {
        draw::sentence(
            app.style,
            2,
            &format!(
                "{} had been given rights by somebody, and read as zeros: the rights were taken again. To have the content: katabatic fetch PATH",
                words::count(report.closed_stubs, "stub", "stubs")
            ),
        );
    }
    needing(app, name, report);
    say_being_written(app, report);
}

/// What goes by itself once nobody writes to it any more.
fn say_being_written(app: &App, report: &Report) {
    let written = |outcome: &&Outcome| outcome.ending == Ending::BeingWritten;
    let items: Vec<Item> = report
        .outcomes
        .iter()
        .filter(written)
        .take(NAMED)
        .map(|outcome| Item {
            lead: app.style.state_cell(outcome.agreement()),
            name: shown(outcome.step.path()),
            size: String::new(),
            reason: outcome.why(&time::telling(report.sides)),
        })
        .collect();
    listing::print(app.style, 2, &items);
    if report.being_written > 0 {
        line(format!(
            "  Next: {} carried by the next sync that finds nobody writing to {}; the agent sees to that by itself",
            words::count(report.being_written, "file is", "files are"),
            if report.being_written == 1 {
                "it"
            } else {
                "them"
            },
        ));
    }
}

pub fn needing(app: &App, name: &str, report: &Report) {
    let needing: Vec<&Outcome> = report
        .outcomes
        .iter()
        .filter(|outcome| outcome.agreement().needs_a_person())
        .collect();
    let item = |outcome: &&Outcome| Item {
        lead: app.style.state_cell(outcome.agreement()),
        name: shown(outcome.step.path()),
        size: String::new(),
        reason: outcome.why(&time::telling(report.sides)),
    };
    let items: Vec<Item> = needing.iter().take(NAMED).map(item).collect();
    listing::print(app.style, 2, &items);
    if needing.len() > NAMED {
        line(format!(
            "  and {} more: katabatic status {name}",
            needing.len() - NAMED
        ));
    }
    if report.counts.conflicts > 0 {
        super::status::next_for_conflicts(name);
    }
    let source = app
        .config
        .lane(name)
        .ok()
        .and_then(|lane| lane.terms.direction.source());
    if let (true, Some(source)) = (report.counts.kept_back > 0, source) {
        draw::sentence(
            app.style,
            2,
            &super::status::settle_what_is_kept_back(name, source, report.sides),
        );
    }
    let left = report.counts.drift - report.counts.kept_back;
    if let (true, Some(source)) = (left > 0, source) {
        let receiver = source.other();
        line(format!(
            "  {} changed {} by somebody else and left so. To put it right: katabatic settle PATH --keep {}",
            words::count(left, "path", "paths"),
            report.sides.at(receiver),
            source.name()
        ));
    }
    if report.counts.asking > 0 {
        line(
            "  Next: katabatic settle PATH --keep near or far: the side where it is gone says yes, the other one no",
        );
    }
    if report.counts.stuck > 0 {
        line(format!(
            "  Next: sync again once the reason is gone; katabatic status {name} has them all"
        ));
    }
}

/// What a pass did, for programs.
pub fn report_json(lane: &str, report: &Report) -> Value {
    let outcome = |outcome: &Outcome| {
        let size = [Side::Near, Side::Far]
            .into_iter()
            .find_map(|side| outcome.step.entry(side))
            .map(|entry| entry.size);
        json!({
            "path": outcome.step.path().as_str(),
            "action": words::action(&outcome.step.decision),
            "state": outcome.agreement().word(),
            "done": outcome.ending == Ending::Done,
            "reason": outcome.why(&time::telling(report.sides)),
            "size": size,
        })
    };
    let counts = &report.counts;
    json!({
        "lane": lane,
        "run": report.run,
        "up": {"files": counts.files_up, "bytes": counts.bytes_up},
        "down": {"files": counts.files_down, "bytes": counts.bytes_down},
        "moved": counts.moved,
        "dropped": counts.dropped,
        "stubs": counts.stubs,
        "shed": {"files": counts.shed, "bytes": counts.bytes_shed},
        "believed": report.believed,
        "kept_open": report.held_open,
        "kept_as_spares": report.kept_as_spares.iter().map(|(path, why)| json!({"path": path.as_str(), "why": why})).collect::<Vec<_>>(),
        "removed": counts.removed,
        "replaced": counts.replaced,
        "conflicts": counts.conflicts,
        "stuck": counts.stuck,
        "drift": counts.drift,
        "kept_back": counts.kept_back,
        "asking": counts.asking,
        "being_written": report.being_written,
        "closed_stubs": report.closed_stubs,
        "settled": report.settled,
        "left_out": report.left_out,
        "stopped": report.stopped,
        "steps": report.outcomes.iter().map(outcome).collect::<Vec<_>>(),
    })
}
