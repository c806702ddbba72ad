//! `copy`: files and folders between any two places.

use crate::limits::LimitsArgs;
use clap::Args;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::words;
use katabatic_engine::hand::{self, Copied, Count, Wish};
use katabatic_engine::pass::Progress;
use katabatic_engine::{Class, Error};
use katabatic_sides::net::rate::Limits;
use serde_json::{Value, json};

use super::by_hand::{self, Done};
use crate::app::App;
use crate::draw::{json, line, progress, shown_text};
use crate::exit;

/// `copy`.
#[derive(Args, Debug)]
pub struct CopyArgs {
    /// What to copy: a local path, or @ACCOUNT/PATH
    pub from: String,
    /// Where to; a closing slash means into that folder, under its own name
    pub to: String,
    /// What has the name goes to the spares
    #[arg(long)]
    pub replace: bool,
    /// How much may go over the line in a second.
    #[command(flatten)]
    pub limits: LimitsArgs,
}

/// As many files that could not be copied are named at the most; the run has all of them.
const NAMED: usize = 20;

pub fn copy(app: &App, typed: &CopyArgs) -> Result<ExitCode, Error> {
    let from = by_hand::place(app, &typed.from)?;
    let to = by_hand::target(app, &typed.to, &from)?;
    let drawn = Arc::new(Progress::default());
    let hand = by_hand::hand(app, &drawn, typed.limits.over(&Limits::default())?);
    let wish = Wish {
        replace: typed.replace,
    };
    let copied = app.run(progress::during(
        app.style,
        "copy",
        Arc::clone(&drawn),
        hand::copy(&hand, &from, &to, wish),
    ))?;
    let touched = hand.touched(&to);
    if app.common.json {
        let mut answer = as_json(&copied);
        answer["lanes"] = by_hand::lanes_json(&touched);
        json::print(&answer);
    } else {
        say((&hand::written(&from), &hand::written(&to)), &copied);
        by_hand::say_lanes(app.style, &touched, Done::Brought);
    }
    Ok(ExitCode::from(code_of(&copied)))
}

/// How a copy ended, as an exit code.
pub fn code_of(copied: &Copied) -> u8 {
    if copied.stopped {
        exit::number(Class::Stopped)
    } else if copied.failed.is_empty() {
        0
    } else {
        exit::NEEDS_A_PERSON
    }
}

fn counted(count: &Count) -> String {
    format!(
        "{}, {}",
        words::count(count.files, "file", "files"),
        words::bytes(count.bytes)
    )
}

fn say((from, to): (&str, &str), copied: &Copied) {
    let went_on = if copied.went_on {
        " (gone on with)"
    } else {
        ""
    };
    line(format!(
        "Copy, run {}{went_on}: {}, {} copied",
        copied.run,
        words::count(copied.copied.0, "file", "files"),
        words::bytes(copied.copied.1)
    ));
    if copied.skipped > 0 {
        line(format!(
            "  {} there already, equal in size and edit time",
            words::count(copied.skipped, "file was", "files were")
        ));
    }
    let width = from.chars().count().max(to.chars().count());
    for (place, count) in [(from, &copied.source), (to, &copied.target)] {
        line(format!(
            "  {:<width$}  {}",
            shown_text(place),
            counted(count)
        ));
    }
    if copied.left_out > 0 {
        line(format!(
            "  {} neither a file nor a folder, and not copied",
            words::count(copied.left_out, "thing is", "things are")
        ));
    }
    if copied.stopped {
        line("  Stopped in order. The same copy again goes on where it was.");
    }
    for (path, why) in copied.failed.iter().take(NAMED) {
        line(format!(
            "  not copied: {}: {}",
            shown_text(path),
            shown_text(why)
        ));
    }
    if copied.failed.len() > NAMED {
        line(format!("  and {} more", copied.failed.len() - NAMED));
    }
    if !copied.failed.is_empty() {
        line(format!(
            "  Next: the same copy again once the reason is gone; all of it: katabatic runs {}",
            copied.run
        ));
    }
}

fn as_json(copied: &Copied) -> Value {
    let count = |count: &Count| json!({"files": count.files, "folders": count.folders, "bytes": count.bytes});
    let failed = copied
        .failed
        .iter()
        .map(|(path, why)| json!({"path": path, "reason": why}));
    json!({
        "run": copied.run,
        "went_on": copied.went_on,
        "copied": {"files": copied.copied.0, "bytes": copied.copied.1},
        "skipped": copied.skipped,
        "left_out": copied.left_out,
        "failed": failed.collect::<Vec<_>>(),
        "from": count(&copied.source),
        "to": count(&copied.target),
        "stopped": copied.stopped,
    })
}
