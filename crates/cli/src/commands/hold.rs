//! `hold`: keeps files and folders here for good, and what comes to be in them.

use clap::Args;
use std::process::ExitCode;

use katabatic_core::contents::NotLetGo;
use katabatic_engine::Error;
use katabatic_engine::pass::WantedContents;
use serde_json::json;

use crate::about::{self, About};
use crate::app::App;
use crate::commands::contents::carry;
use crate::draw::{json, line, shown};

/// `hold`.
#[derive(Args, Debug)]
pub struct HoldArgs {
    /// Files and folders in lanes; what is kept, where none is named
    #[arg(value_name = "PATH")]
    pub paths: Vec<String>,
    /// Keep them no longer; their content stays until somebody sheds it
    #[arg(long, requires = "paths")]
    pub off: bool,
}

pub fn hold(app: &App, typed: &HoldArgs) -> Result<ExitCode, Error> {
    if typed.paths.is_empty() {
        list(app);
        return Ok(ExitCode::SUCCESS);
    }
    let mut meant: Vec<About> = Vec::new();
    for text in &typed.paths {
        let (lane, path) = about::path(&app.config, text)?;
        match meant.iter_mut().find(|known| known.lane.name == lane.name) {
            Some(known) => known.paths.push(path),
            None => meant.push(About {
                lane,
                paths: vec![path],
            }),
        }
    }
    for About { lane, paths } in &mut meant {
        for path in paths.iter() {
            match typed.off {
                false => {
                    lane.contents.hold(path.clone());
                }
                true => lane.contents.let_go(path).map_err(|why| {
                    let (why, next) = match why {
                        NotLetGo::NotHeld => (
                            "it is not held".to_owned(),
                            "See what is: katabatic hold".to_owned(),
                        ),
                        NotLetGo::Within(around) => (
                            format!("it is held because {around} is"),
                            "Let that go; then hold what is to stay.".to_owned(),
                        ),
                    };
                    Error::usage(format!("letting go {path}"), why, next)
                })?,
            }
        }
        app.config.clone().change_lane(lane.clone())?;
    }
    if !typed.off {
        let code = carry(app, meant.clone(), &[], WantedContents::Here, false)?;
        if !app.common.json {
            line(
                "What you named stays on this computer from now on, and so does what comes to be in it.",
            );
        }
        return Ok(code);
    }
    if app.common.json {
        json::print(&json!({"let_go": typed.paths}));
        return Ok(ExitCode::SUCCESS);
    }
    line("It is not held any more. Its content stays until somebody sheds it: katabatic shed PATH");
    Ok(ExitCode::SUCCESS)
}

fn list(app: &App) {
    let held: Vec<_> = app
        .config
        .lanes
        .iter()
        .flat_map(|lane| lane.contents.held().map(move |path| (lane, path)))
        .collect();
    if app.common.json {
        let held: Vec<_> = held
            .iter()
            .map(|(lane, path)| json!({"lane": lane.name, "path": path.as_str()}))
            .collect();
        json::print(&json!({"held": held}));
        return;
    }
    if held.is_empty() {
        line(
            "Nothing is held. To keep a file or a folder on this computer for good: katabatic hold PATH",
        );
    }
    for (lane, path) in held {
        line(format!("{}: {}", lane.name, shown(path)));
    }
}
