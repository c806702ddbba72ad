//! `move`: files and folders to another place. Within an account or a disk it is one step; otherwise a copy, and once
//! both sides hold the same, the removal of what was copied.

use clap::Args;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::place::Place;
use katabatic_core::words;
use katabatic_engine::hand::{self, Wish};
use katabatic_engine::pass::Progress;
use katabatic_engine::{Class, Error};
use katabatic_ledger::spare_rows::Spare;
use katabatic_sides::net::rate::Limits;
use serde_json::json;

use super::{by_hand, copy};
use crate::app::App;
use crate::draw::{json, line, progress, shown_text};

/// `move`.
#[derive(Args, Debug)]
pub struct MoveArgs {
    /// What to move: a local path, or @ACCOUNT/PATH
    pub from: String,
    /// Where to; a closing slash means into that folder, under its own name
    pub to: String,
    /// What has the name goes to the spares
    #[arg(long)]
    pub replace: bool,
}

pub fn move_place(app: &App, typed: &MoveArgs) -> Result<ExitCode, Error> {
    let from = by_hand::place(app, &typed.from)?;
    let to = by_hand::target(app, &typed.to, &from)?;
    let drawn = Arc::new(Progress::default());
    let hand = by_hand::hand(app, &drawn, Limits::default());
    let touched = [hand.touched(&from), hand.touched(&to)].concat();
    let one_step = match (&from, &to) {
        (Place::Local(_), Place::Local(_)) => true,
        (Place::Far { account, .. }, Place::Far { account: other, .. }) => account == other,
        _ => false,
    };
    let mut spare: Option<Spare> = None;
    if one_step {
        spare = app.run(hand::rename(&hand, &from, &to, typed.replace))?;
    } else {
        let wish = Wish {
            replace: typed.replace,
        };
        let copied = app.run(progress::during(
            app.style,
            "move",
            Arc::clone(&drawn),
            hand::copy(&hand, &from, &to, wish),
        ))?;
        let whole = copy::code_of(&copied) == 0 && copied.left_out == 0;
        if !whole
            || (copied.source.files, copied.source.bytes)
                != (copied.target.files, copied.target.bytes)
        {
            return Err(Error::new(
                Class::NeedsPerson,
                format!("moving {} to {}", typed.from, typed.to),
                format!(
                    "not all of it was copied: {} of {} there",
                    words::grouped(copied.target.files),
                    words::count(copied.source.files, "file is", "files are")
                ),
                format!(
                    "Nothing was removed. See why: katabatic runs {}, then move it again.",
                    copied.run
                ),
            ));
        }
        app.run(hand::remove_copied(&hand, &from, &copied))?;
    }
    if app.common.json {
        json::print(&json!({
            "from": typed.from,
            "to": typed.to,
            "one_step": one_step,
            "replaced": spare.is_some(),
            "lanes": by_hand::lanes_json(&touched),
        }));
        return Ok(ExitCode::SUCCESS);
    }
    line(format!(
        "Moved {} to {}",
        shown_text(&typed.from),
        shown_text(&typed.to)
    ));
    if !one_step {
        line(
            "  It was copied, both sides were counted, and what it was copied from lies in the spares",
        );
    }
    if spare.is_some() {
        line("  What had the name lies in the spares: katabatic spares list");
    }
    by_hand::say_lanes(app.style, &touched, by_hand::Done::Moved);
    Ok(ExitCode::SUCCESS)
}
