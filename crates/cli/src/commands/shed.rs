//! `shed`: drops content here to stubs, once it is proven that the far side has it.

use clap::Args;
use std::process::ExitCode;

use katabatic_engine::Error;
use katabatic_engine::pass::WantedContents;

use crate::about::understand;
use crate::app::App;
use crate::commands::contents::carry;

/// `shed`.
#[derive(Args, Debug)]
pub struct ShedArgs {
    /// Files and folders in lanes, or whole lanes
    #[arg(value_name = "LANE|PATH", required = true)]
    pub about: Vec<String>,
    /// Of these only what a rule catches: '*.pdf', 'Past seasons/**', ':larger 100MB', ':smaller 1MB'; of several, any
    #[arg(long, value_name = "RULE")]
    pub only: Vec<String>,
    /// Only say what would go, and how much room that frees
    #[arg(long)]
    pub preview: bool,
}

pub fn shed(app: &App, typed: &ShedArgs) -> Result<ExitCode, Error> {
    let about = understand(&app.config, &typed.about)?;
    carry(app, about, &typed.only, WantedContents::Away, typed.preview)
}
