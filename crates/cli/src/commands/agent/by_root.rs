//! What only root can do about somebody's agent: write its unit among the system's, start it and stop it.
//!
//! `--for USER` gives root's rights up before anything is read, and what is left may not touch those units. So the part
//! that knows the person's accounts is done as that person, by this program again, and root only writes what it says.

use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::process::{Command, ExitCode, Stdio};

use katabatic_engine::Error;
use rustix::process::geteuid;

use super::install::{of_system, runs_home_of, take_away, write};
use super::start::said;
use crate::args::{Agent, AgentInstall, Common};
use crate::unit::UNITS;

/// Where systemd-analyze may put things while it checks a unit.
const FOLDER: &str = "/run";

/// Does what root has to do for this person; nothing where it is the person's own to do.
pub fn by_root(common: &Common, person: &str, typed: &Agent) -> Option<Result<ExitCode, Error>> {
    if !geteuid().is_root() || person.contains('/') {
        return None;
    }
    // As for everything else that is done for somebody, root's own environment does not count.
    let common = &Common {
        home: common.home.clone().filter(|_| home_was_typed()),
        ..common.clone()
    };
    let units = match typed {
        Agent::Install(typed) => &typed.units,
        _ => Path::new(UNITS),
    };
    let unit = of_system(person, units);
    match typed {
        Agent::Install(AgentInstall {
            system: true,
            off: true,
            ..
        }) => Some(take_away(&unit, common)),
        Agent::Install(AgentInstall {
            system: true,
            print: false,
            ..
        }) => {
            let text = match as_the_person(common, person) {
                Ok(Ok(text)) => text,
                Ok(Err(code)) => return Some(Ok(code)),
                Err(error) => return Some(Err(error)),
            };
            Some(write(&unit, &text, Path::new(FOLDER), common, person))
        }
        Agent::Start if runs_home_of(&unit, common) => Some(unit.tell(&["start"]).map(|()| {
            said(
                common,
                &format!("It runs. What it does: katabatic --for {person} agent status"),
            );
            ExitCode::SUCCESS
        })),
        Agent::Stop if runs_home_of(&unit, common) => Some(unit.tell(&["stop"]).map(|()| {
            said(common, "It has ended. Lanes are synced by hand alone now.");
            ExitCode::SUCCESS
        })),
        _ => None,
    }
}

fn home_was_typed() -> bool {
    std::env::args_os().any(|typed| typed.as_bytes().starts_with(b"--home"))
}

/// The text of the unit, from the person's own settings; or how that ended, which has been said.
fn as_the_person(common: &Common, person: &str) -> Result<Result<String, ExitCode>, Error> {
    let failed = |why: std::io::Error| {
        Error::failed(
            format!("asking for the unit of {person}"),
            why,
            "See what it would be: katabatic agent install --system --print",
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
    let told = command
        .args(["agent", "install", "--system", "--print"])
        .stdin(Stdio::null())
        .stderr(Stdio::inherit())
        .output()
        .map_err(failed)?;
    Ok(match told.status.success() {
        true => Ok(String::from_utf8_lossy(&told.stdout).into_owned()),
        false => {
            let code = told.status.code().and_then(|code| u8::try_from(code).ok());
            Err(ExitCode::from(code.unwrap_or(1)))
        }
    })
}
