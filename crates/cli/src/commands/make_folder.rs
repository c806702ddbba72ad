//! `make-folder`: a folder, here or in an account.

use clap::Args;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_engine::Error;
use katabatic_engine::hand;
use katabatic_engine::pass::Progress;
use katabatic_sides::net::rate::Limits;
use serde_json::json;

use super::by_hand::{self, Done};
use crate::app::App;
use crate::draw::{json, line, shown_text};

/// `make-folder`.
#[derive(Args, Debug)]
pub struct MakeFolderArgs {
    /// The folder: a local path, or @ACCOUNT/FOLDER
    #[arg(value_name = "PLACE")]
    pub place: String,
}

pub fn make_folder(app: &App, typed: &MakeFolderArgs) -> Result<ExitCode, Error> {
    let place = by_hand::place(app, &typed.place)?;
    let hand = by_hand::hand(app, &Arc::new(Progress::default()), Limits::default());
    let new = app.run(hand::make_folder(&hand, &place))?;
    let touched = hand.touched(&place);
    if app.common.json {
        json::print(
            &json!({"place": typed.place, "new": new, "lanes": by_hand::lanes_json(&touched)}),
        );
        return Ok(ExitCode::SUCCESS);
    }
    if new {
        line(format!("Made the folder {}", shown_text(&typed.place)));
        by_hand::say_lanes(app.style, &touched, Done::Made);
    } else {
        line(format!(
            "The folder {} is there already",
            shown_text(&typed.place)
        ));
    }
    Ok(ExitCode::SUCCESS)
}
