//! `fetch`: brings the content of stubs here.

use std::process::ExitCode;

use katabatic_engine::Error;
use katabatic_engine::pass::WantedContents;

use crate::about::understand;
use crate::app::App;
use crate::args;
use crate::contents::carry;

pub fn fetch(app: &App, typed: &args::Fetch) -> Result<ExitCode, Error> {
    let about = understand(&app.config, &typed.about)?;
    carry(app, about, &typed.only, WantedContents::Here, typed.preview)
}
