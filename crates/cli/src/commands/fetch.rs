//! `fetch`: brings the content of stubs here.

use clap::Args;
use std::process::ExitCode;

use katabatic_engine::Error;
use katabatic_engine::pass::WantedContents;

use crate::about::understand;
use crate::app::App;
use crate::commands::contents::carry;

/// `fetch`.
#[derive(Args, Debug)]
pub struct FetchArgs {
    /// Files and folders in lanes, or whole lanes
    #[arg(value_name = "LANE|PATH", required = true)]
    pub about: Vec<String>,
    /// Of these only what a rule catches: '*.pdf', 'Past seasons/**', ':larger 100MB', ':smaller 1MB'; of several, any
    #[arg(long, value_name = "RULE")]
    pub only: Vec<String>,
    /// Only say what would come, and how much
    #[arg(long)]
    pub preview: bool,
}

pub fn fetch(app: &App, typed: &FetchArgs) -> Result<ExitCode, Error> {
    let about = understand(&app.config, &typed.about)?;
    carry(app, about, &typed.only, WantedContents::Here, typed.preview)
}
