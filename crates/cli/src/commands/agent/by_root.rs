//! What only root can do about somebody's agent: write its unit among the system's, start it and stop it.
//!
//! `--for USER` gives root's rights up before anything is read, and what is left may not touch those units. So the part
//! that knows the person's accounts is asked as that person, by this program again, and only whether it agrees counts:
//! what root writes is of root's own making, since whatever runs as that person could be made to say anything.

use crate::commands::agent::AgentCommand;
use crate::commands::agent::install::AgentInstallArgs;
use crate::common::Common;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::process::{Command, ExitCode, Stdio};

use katabatic_engine::Error;
use rustix::process::geteuid;

use super::install::{of_system, runs_home_of, take_away, text, write};
use super::start::said;
use crate::unit::UNITS;

/// Where systemd-analyze may put things while it checks a unit.
const FOLDER: &str = "/run";

/// Does what root has to do for this person; nothing where it is the person's own to do.
pub fn by_root(
    common: &Common,
    person: &str,
    typed: &AgentCommand,
) -> Option<Result<ExitCode, Error>> {
    if !geteuid().is_root() || person.contains('/') {
        return None;
    }
    // As for everything else that is done for somebody, root's own environment does not count.
    let common = &Common {
        home: common.home.clone().filter(|_| home_was_typed()),
        ..common.clone()
    };
    let units = match typed {
        AgentCommand::Install(typed) => &typed.units,
        _ => Path::new(UNITS),
    };
    let unit = of_system(person, units);
    match typed {
        AgentCommand::Install(AgentInstallArgs {
            system: true,
            off: true,
            ..
        }) => Some(take_away(&unit, common)),
        AgentCommand::Install(AgentInstallArgs {
            system: true,
            print: false,
            ..
        }) => {
            match refusal(common, person) {
                Ok(None) => {}
                Ok(Some(code)) => return Some(Ok(code)),
                Err(error) => return Some(Err(error)),
            }
            let text = text(common, Some(person));
            Some(write(&unit, &text, Path::new(FOLDER), common, person))
        }
        AgentCommand::Start if runs_home_of(&unit, common) => {
            Some(unit.tell(&["start"]).map(|()| {
                said(
                    common,
                    &format!("It runs. What it does: katabatic --for {person} agent status"),
                );
                ExitCode::SUCCESS
            }))
        }
        AgentCommand::Stop if runs_home_of(&unit, common) => Some(unit.tell(&["stop"]).map(|()| {
            said(common, "It has ended. Lanes are synced by hand alone now.");
            ExitCode::SUCCESS
        })),
        _ => None,
    }
}

fn home_was_typed() -> bool {
    std::env::args_os().any(|typed| typed.as_bytes().starts_with(b"--home"))
}

/// How it ended where the person's own settings speak against it, which has been said then.
fn refusal(common: &Common, person: &str) -> Result<Option<ExitCode>, Error> {
    let failed = |why: std::io::Error| {
        Error::failed(
            format!("asking {person}'s settings"),
            why,
            "See what the unit would be: katabatic agent install --system --print",
        )
    };
    let program = fs::read_link("/proc/self/exe").map_err(failed)?;
    let mut command = Command::new(program);
    command.args(["--for", person]);
    if let Some(home) = &common.home {
        command
            .arg("--home")
            .arg(std::path::absolute(home).map_err(failed)?);
    }
    if common.json {
        command.arg("--json");
    }
    let ended = command
        .args(["agent", "install", "--system", "--print"])
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .status()
        .map_err(failed)?;
    let code = ended.code().and_then(|code| u8::try_from(code).ok());
    Ok((!ended.success()).then(|| ExitCode::from(code.unwrap_or(1))))
}
