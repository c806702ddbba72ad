//! `remove`: a file or a folder goes into the spares, here or in an account.

use clap::Args;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::words;
use katabatic_engine::Error;
use katabatic_engine::hand;
use katabatic_engine::pass::Progress;
use katabatic_sides::net::rate::Limits;
use serde_json::json;

use super::by_hand::{self, Done};
use crate::app::App;
use crate::draw::{json, line, progress, shown_text};

/// `remove`.
#[derive(Args, Debug)]
pub struct RemoveArgs {
    /// What to remove: a local path, or @ACCOUNT/PATH
    #[arg(value_name = "PLACE", required = true)]
    pub places: Vec<String>,
    /// The number of files in the folder that is to go
    #[arg(long, value_name = "N")]
    pub holding: Option<u64>,
}

pub fn remove(app: &App, typed: &RemoveArgs) -> Result<ExitCode, Error> {
    if typed.places.len() > 1 && typed.holding.is_some() {
        return Err(Error::usage(
            "remove",
            "--holding is about one folder, and more than one place is named",
            "Remove the folder by itself.",
        ));
    }
    let drawn = Arc::new(Progress::default());
    let hand = by_hand::hand(app, &drawn, Limits::default());
    let mut removed = Vec::new();
    for typed_place in &typed.places {
        let place = by_hand::place(app, typed_place)?;
        let done = app.run(progress::during(
            app.style,
            "remove",
            Arc::clone(&drawn),
            hand::remove(&hand, &place, typed.holding),
        ))?;
        let touched = hand.touched(&place);
        let number = done.number(&app.ledger)?;
        if app.common.json {
            removed.push(json!({
                "place": typed_place,
                "files": done.inside.files,
                "bytes": done.inside.bytes.max(done.spare.size),
                "folder": done.spare.folder,
                "spare": number,
                "lanes": by_hand::lanes_json(&touched),
            }));
            continue;
        }
        let what = if done.spare.folder {
            format!(
                "the folder {} with {} in it ({})",
                shown_text(typed_place),
                words::count(done.inside.files, "file", "files"),
                words::bytes(done.inside.bytes)
            )
        } else {
            format!(
                "{} ({})",
                shown_text(typed_place),
                words::bytes(done.spare.size)
            )
        };
        line(format!("Removed {what}"));
        by_hand::say_lanes(app.style, &touched, Done::Removed);
        line("  It lies in the spares, and takes the same room there.");
        line(format!(
            "  To bring it back: katabatic spares restore {number}"
        ));
    }
    if app.common.json {
        json::print(&json!({"removed": removed}));
    }
    Ok(ExitCode::SUCCESS)
}
