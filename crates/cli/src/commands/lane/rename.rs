//! `lane rename`: another name; nothing else changes.

use clap::Args;
use katabatic_engine::{Error, lanes};
use serde_json::json;

use crate::app::App;
use crate::draw::{json, line};

/// `lane rename`.
#[derive(Args, Debug)]
pub struct LaneRenameArgs {
    /// The lane
    #[arg(value_name = "LANE")]
    pub name: String,
    /// The name it gets
    pub to: String,
}

pub fn rename(app: &App, typed: &LaneRenameArgs) -> Result<(), Error> {
    let from = &app.config.lane(&typed.name)?.name;
    let to = &typed.to;
    if from == to {
        if app.common.json {
            json::print(&json!({"renamed": from, "to": to, "so_already": true}));
        } else {
            line(format!("It is called {from} already; nothing was changed."));
        }
        return Ok(());
    }
    let mut config = app.config.clone();
    let renaming = lanes::rename(&app.home, &mut config, &app.ledger, from, to);
    app.run(renaming)?;
    if app.common.json {
        json::print(&json!({"renamed": from, "to": to}));
        return Ok(());
    }
    line(format!(
        "The lane {from} is now called {to}. Its runs, its spares and its pause follow; no file was touched."
    ));
    Ok(())
}
