//! `limits`: how much may go over the line in a second, for all lanes together.

use crate::limits::LimitsArgs;
use clap::Args;
use std::process::ExitCode;

use katabatic_engine::Error;
use serde_json::json;

use crate::app::App;
use crate::draw::{json, line};
use crate::limits::words;

/// `limits`.
#[derive(Args, Clone, Debug, Default, PartialEq)]
pub struct LimitsOfAllArgs {
    /// Send no more than this in a second: 2MB/s, 16Mbit/s, or by the time of the day: 'weekdays 08:00-18:00 500kB/s; 5MB/s'
    #[arg(long, value_name = "RATE|none", alias = "limit-up")]
    pub up: Option<String>,
    /// Receive no more than this in a second
    #[arg(long, value_name = "RATE|none", alias = "limit-down")]
    pub down: Option<String>,
}

pub fn limits(app: &App, typed: &LimitsOfAllArgs) -> Result<ExitCode, Error> {
    let typed = LimitsArgs {
        limit_up: typed.up.clone(),
        limit_down: typed.down.clone(),
    };
    let mut config = app.config.clone();
    let limits = typed.over(&config.limits)?;
    let changed = limits != config.limits;
    if changed {
        config.set_limits(limits.clone())?;
    }
    if app.common.json {
        let text = |rates: &Option<_>| rates.as_ref().map(ToString::to_string);
        json::print(&json!({"limit_up": text(&limits.up), "limit_down": text(&limits.down)}));
        return Ok(ExitCode::SUCCESS);
    }
    let now = if changed { " now" } else { "" };
    line(match words(&limits) {
        words if words.is_empty() => format!("All lanes together have no limit{now}."),
        words => format!("All lanes together take at most {words}{now}."),
    });
    if changed {
        line("An agent that runs keeps to it at once; a pass that runs by hand ends as it began.");
    }
    line("Of one lane: katabatic lane change LANE --limit-up RATE --limit-down RATE");
    Ok(ExitCode::SUCCESS)
}
