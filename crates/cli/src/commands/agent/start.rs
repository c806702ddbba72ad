//! `agent start`, `agent stop`: through systemd where a unit is installed, otherwise as a process of its own.

use crate::common::Common;
use std::process::{Command, ExitCode, Stdio};
use std::time::{Duration, Instant};

use katabatic_agent::{self as agent, Ask};
use katabatic_engine::{Class, Error};
use rustix::process::geteuid;
use serde_json::json;

use super::asked;
use super::install::{installed, person};
use crate::app::App;
use crate::draw::{json, line};
use crate::log;

/// Whoever starts or ends it waits for so long.
const PATIENCE: Duration = Duration::from_secs(20);

pub fn start(app: &App) -> Result<ExitCode, Error> {
    if app.run(agent::ask(&app.home, &Ask::Status))?.is_some() {
        said(&app.common, "It runs already: katabatic agent status");
        return Ok(ExitCode::SUCCESS);
    }
    match installed(app) {
        Some(unit) if unit.system && !geteuid().is_root() => {
            return Err(Error::new(
                Class::Failed,
                "starting the agent",
                "it is one of the system's services",
                format!("As root: katabatic --for {} agent start", person()),
            ));
        }
        Some(unit) => unit.tell(&["start"])?,
        None => by_ourselves(app)?,
    }
    until(app, true)?;
    said(&app.common, "It runs. What it does: katabatic agent status");
    Ok(ExitCode::SUCCESS)
}

pub fn stop(app: &App) -> Result<ExitCode, Error> {
    match installed(app) {
        // Who ends in order is not started again; and only root may tell the system's services.
        Some(unit) if !unit.system || geteuid().is_root() => unit.tell(&["stop"])?,
        _ => drop(asked(app, &Ask::Stop)?),
    }
    until(app, false)?;
    said(
        &app.common,
        "It has ended. Lanes are synced by hand alone now.",
    );
    Ok(ExitCode::SUCCESS)
}

pub(super) fn said(common: &Common, text: &str) {
    match common.json {
        true => json::print(&json!({"said": text})),
        false => line(text),
    }
}

/// A process in a session of its own, so that closing this terminal does not end it.
fn by_ourselves(app: &App) -> Result<(), Error> {
    let failed = |why: std::io::Error| {
        Error::failed(
            "starting the agent",
            why,
            "Run it here instead: katabatic agent run",
        )
    };
    let mut command = Command::new(std::env::current_exe().map_err(failed)?);
    if let Some(home) = &app.common.home {
        command
            .arg("--home")
            .arg(std::path::absolute(home).map_err(failed)?);
    }
    command.arg("--log").arg(log::of_agent(app.home.state()));
    for _ in 0..app.common.verbose {
        command.arg("--verbose");
    }
    command
        .args(["agent", "run"])
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .current_dir("/");
    katabatic_child::alone(&mut command);
    command.spawn().map(drop).map_err(failed)
}

fn until(app: &App, runs: bool) -> Result<(), Error> {
    let begun = Instant::now();
    while app.run(agent::ask(&app.home, &Ask::Status))?.is_some() != runs {
        if begun.elapsed() > PATIENCE {
            return Err(Error::new(
                Class::Failed,
                if runs {
                    "starting the agent"
                } else {
                    "ending the agent"
                },
                format!("it took longer than {} s", PATIENCE.as_secs()),
                "See why: katabatic agent run, in this terminal",
            ));
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    Ok(())
}
