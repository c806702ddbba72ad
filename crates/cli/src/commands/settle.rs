//! `settle`: does what a person decided about a conflict, and says where the other version is kept.

use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::{Side, words};
use katabatic_engine::Error;
use katabatic_engine::pass::Progress;
use katabatic_engine::settle::{self, Keep, Settled};
use serde_json::{Value, json};

use crate::about;
use crate::app::App;
use crate::args::{self, KeepTyped};
use crate::draw::{json, line, shown, time};
use crate::exit;

pub fn settle(app: &App, typed: &args::Settle) -> Result<ExitCode, Error> {
    let (keep, will) = match typed.keep {
        KeepTyped::Near => (
            Keep::Side(Side::Near),
            "keep the version from here, and carry it up",
        ),
        KeepTyped::Far => (
            Keep::Side(Side::Far),
            "keep the version from there, and carry it down",
        ),
        KeepTyped::Both => (
            Keep::Both,
            "keep both: the one from there under a dated name beside the one from here",
        ),
        KeepTyped::Newest => (Keep::Newest, "keep the version that was edited last"),
    };
    let (mut code, mut answers) = (0, Vec::new());
    for text in &typed.paths {
        let (lane, path) = about::path(&app.config, text)?;
        if !app.common.json && !app.common.quiet {
            line(format!("{} in lane {}: {will}", shown(&path), lane.name));
        }
        let settled = app.run(async {
            let pass = app.pass(&lane, Arc::new(Progress::default())).await?;
            settle::settle(&pass, &path, keep, &time::time).await
        })?;
        if settled.report.needs_a_person() {
            code = exit::NEEDS_A_PERSON;
        }
        if app.common.json {
            answers.push(settled_json(&lane.name, path.as_str(), &settled));
        } else {
            say(app, &settled);
        }
    }
    if app.common.json {
        json::print(&json!({"settled": answers}));
    }
    Ok(ExitCode::from(code))
}

fn say(app: &App, settled: &Settled) {
    for done in &settled.done {
        line(format!("  {done}"));
    }
    for spare in &settled.spares {
        line(format!(
            "  spare {}: the version from {} ({}); to get it back: katabatic spares restore {}",
            spare.number,
            spare.side.here_or_there(),
            words::bytes(spare.size),
            spare.number
        ));
    }
    for outcome in settled
        .report
        .outcomes
        .iter()
        .filter(|outcome| outcome.agreement().needs_a_person())
    {
        line(format!(
            "  {}  {}  {}",
            app.style.state(outcome.agreement()),
            shown(outcome.step.path()),
            outcome.why(&time::time)
        ));
    }
    if !settled.report.needs_a_person() {
        line("  settled: both sides hold the same now");
    }
}

fn settled_json(lane: &str, path: &str, settled: &Settled) -> Value {
    let spares: Vec<Value> = settled
        .spares
        .iter()
        .map(|spare| json!({"number": spare.number, "side": spare.side.name(), "size": spare.size}))
        .collect();
    json!({
        "lane": lane,
        "path": path,
        "done": settled.done,
        "spares": spares,
        "settled": !settled.report.needs_a_person(),
    })
}
