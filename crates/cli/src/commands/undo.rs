//! `undo RUN`: takes back what a run removed or replaced, shown first.

use clap::Args;
use std::io::IsTerminal;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::words;
use katabatic_engine::hand::BY_HAND;
use katabatic_engine::pass::Progress;
use katabatic_engine::undo::{self, Back, Offer, Undone};
use katabatic_engine::{Class, Error, spares as engine};
use katabatic_ledger::runs::Run;
use katabatic_ledger::spare_rows::{self, Spare};
use katabatic_sides::net::rate::Limits;
use serde_json::json;

use super::account::confirmed;
use super::by_hand;
use super::runs::find;
use super::spares::{number_width, spare_item, spare_json};
use crate::app::App;
use crate::draw::{json, line, listing, shown, shown_text, time};
use crate::exit;

/// `undo`.
#[derive(Args, Debug)]
pub struct UndoArgs {
    /// The number of the run, as `runs` lists it
    pub run: i64,
    /// Do it without asking
    #[arg(long)]
    pub yes: bool,
}

/// As many are named.
const NAMED: usize = 20;

pub fn undo(app: &App, typed: &UndoArgs) -> Result<ExitCode, Error> {
    let run = find(app, typed.run)?;
    if run.lane == BY_HAND {
        return undo_by_hand(app, typed, &run);
    }
    let lane = app.config.lane(&run.lane)?.clone();
    let pass = app.run(app.pass(&lane, Arc::new(Progress::default())))?;
    let offer = app.run(undo::look(&pass, &run))?;
    if !app.common.json {
        say_offer(&run, &offer);
    }
    let needs = |failed: bool| {
        ExitCode::from(if failed || !offer.left.is_empty() {
            exit::NEEDS_A_PERSON
        } else {
            0
        })
    };
    if offer.is_empty() || !(typed.yes || asks(app)) {
        if app.common.json {
            json::print(&answer(&run, &offer, None));
        } else if !offer.is_empty() {
            line("Nothing was taken back. To do it: the same with --yes");
        }
        return Ok(match offer.is_empty() {
            true => needs(false),
            false => exit::only_shown(true),
        });
    }
    may(app, typed, &run)?;
    let done = app.run(undo::take_back(&pass, &offer, &run))?;
    if app.common.json {
        json::print(&answer(&run, &offer, Some(&done)));
    } else {
        say_done(app, &run, &done);
    }
    let open = done.report.needs_a_person();
    Ok(needs(open || !done.failed.is_empty()))
}

fn asks(app: &App) -> bool {
    app.style.terminal && std::io::stdin().is_terminal()
}

fn may(app: &App, typed: &UndoArgs, run: &Run) -> Result<(), Error> {
    if confirmed(app, typed.yes, "Take them back?")? {
        return Ok(());
    }
    Err(Error::new(
        Class::Failed,
        format!("taking back what run {} did", run.number),
        "nothing is to be taken back, as was said",
        "Nothing was changed.",
    ))
}

fn heading(run: &Run) -> String {
    format!(
        "Run {} of {}: {}, {}",
        run.number,
        match run.lane.as_str() {
            BY_HAND => BY_HAND.to_owned(),
            lane => format!("lane {lane}"),
        },
        run.command,
        time::exact(run.began)
    )
}

fn say_offer(run: &Run, offer: &Offer) {
    line(heading(run));
    let [alone, over] = offer.totals();
    for ((count, bytes), over, what) in [
        (alone, false, "to be brought back"),
        (over, true, "to take the place of the newer version again"),
    ] {
        if count == 0 {
            continue;
        }
        line(format!(
            "  {what}: {}, {}",
            words::count(count, "file", "files"),
            words::bytes(bytes)
        ));
        let of: Vec<&Back> = offer
            .back
            .iter()
            .filter(|back| back.over.is_some() == over)
            .collect();
        for back in of.iter().take(NAMED) {
            line(format!("    {}", shown(&back.spare.path)));
        }
        if of.len() > NAMED {
            let more = (of.len() - NAMED) as u64;
            line(format!("    and {} more", words::grouped(more)));
        }
    }
    if !offer.folders.is_empty() {
        line(format!(
            "  to be made again: {}",
            words::count(offer.folders.len() as u64, "folder", "folders")
        ));
    }
    if offer.already > 0 {
        line(format!(
            "  as it was already: {}",
            words::count(offer.already, "file", "files")
        ));
    }
    if !offer.left.is_empty() {
        line(format!(
            "  left as it is: {}",
            words::count(offer.left.len() as u64, "file", "files")
        ));
        for (spare, why) in offer.left.iter().take(NAMED) {
            line(format!(
                "    {}: {}; to look at it: katabatic spares restore {} --to FILE",
                shown(&spare.path),
                shown_text(why),
                spare.number
            ));
        }
        if offer.left.len() > NAMED {
            let more = (offer.left.len() - NAMED) as u64;
            line(format!(
                "    and {} more: katabatic spares list --run {}",
                words::grouped(more),
                run.number
            ));
        }
    }
    if offer.is_empty() {
        line(match (offer.already > 0, offer.left.is_empty()) {
            (false, true) => {
                "Nothing that it removed or replaced is in the spares: there is nothing to take back."
            }
            _ => "There is nothing to take back.",
        });
    } else if over.0 > 0 {
        line("What makes way goes to the spares. What was moved is not moved back.");
    }
}

fn say_done(app: &App, run: &Run, done: &Undone) {
    line(format!(
        "Took back {} of run {} (run {}).",
        words::count(done.back, "file", "files"),
        run.number,
        done.run
    ));
    for (path, why) in &done.failed {
        line(format!(
            "  not taken back: {}: {}",
            shown(path),
            shown_text(why)
        ));
    }
    for outcome in &done.report.outcomes {
        if outcome.agreement().needs_a_person() {
            line(format!(
                "  {}  {}  {}",
                app.style.state(outcome.agreement()),
                shown(outcome.step.path()),
                outcome.why(&time::telling(done.report.sides))
            ));
        }
    }
    let open = done.report.needs_a_person();
    line(match open || !done.failed.is_empty() {
        false => "Both sides hold them now.".to_owned(),
        true => format!("What is left: katabatic status {}", run.lane),
    });
}

/// What was removed or replaced by hand belongs to no lane: each goes back to its place, or beside what is there now.
fn undo_by_hand(app: &App, typed: &UndoArgs, run: &Run) -> Result<ExitCode, Error> {
    let spares = app
        .ledger
        .read(|connection| spare_rows::of_run(connection, run.number))?;
    if !app.common.json {
        line(heading(run));
        let number = number_width(&spares);
        let items: Vec<_> = spares
            .iter()
            .map(|spare| spare_item(app, number, spare))
            .collect();
        listing::print(app.style, 2, &items);
    }
    let mut back: Vec<(&Spare, String)> = Vec::new();
    if spares.is_empty() {
        if !app.common.json {
            line("There is nothing to take back.");
        }
    } else if typed.yes || asks(app) {
        may(app, typed, run)?;
        let hand = by_hand::hand(app, &Arc::new(Progress::default()), Limits::default());
        for spare in &spares {
            let to = app.run(engine::restore_by_hand(&hand, spare))?;
            if !app.common.json {
                line(format!("Back: {}", shown_text(&to)));
            }
            back.push((spare, to));
        }
    } else if !app.common.json {
        line("Nothing was taken back. To do it: the same with --yes");
    }
    if app.common.json {
        let to = |(spare, to): &(&Spare, String)| json!({"spare": spare.number, "to": to});
        json::print(&json!({
            "run": run.number,
            "back": spares.iter().map(spare_json).collect::<Vec<_>>(),
            "done": back.iter().map(to).collect::<Vec<_>>(),
        }));
    }
    Ok(ExitCode::SUCCESS)
}

fn answer(run: &Run, offer: &Offer, done: Option<&Undone>) -> serde_json::Value {
    let back = |back: &Back| {
        let mut value = spare_json(&back.spare);
        value["replaces"] = json!(back.over.is_some());
        value
    };
    json!({
        "run": run.number,
        "lane": run.lane,
        "back": offer.back.iter().map(back).collect::<Vec<_>>(),
        "folders": offer.folders.iter().map(|path| path.as_str()).collect::<Vec<_>>(),
        "already": offer.already,
        "left": offer.left.iter().map(|(spare, why)| json!({"spare": spare.number, "path": spare.path.as_str(), "reason": why})).collect::<Vec<_>>(),
        "done": done.map(|done| json!({
            "run": done.run,
            "back": done.back,
            "failed": done.failed.iter().map(|(path, why)| json!({"path": path.as_str(), "reason": why})).collect::<Vec<_>>(),
            "needs_a_person": done.report.needs_a_person(),
        })),
    })
}
