//! `shed`: drops content here to stubs, once it is proven that the far side has it.

use std::process::ExitCode;

use katabatic_engine::Error;
use katabatic_engine::pass::WantedContents;

use crate::about::understand;
use crate::app::App;
use crate::args;
use crate::contents::carry;

pub fn shed(app: &App, typed: &args::Shed) -> Result<ExitCode, Error> {
    let about = understand(&app.config, &typed.about)?;
    carry(app, about, &typed.only, WantedContents::Away, typed.preview)
}
