//! `agent install`: a systemd unit, so that the agent runs from the start of the computer on, whoever is signed in.

use std::fs;
use std::path::PathBuf;
use std::process::ExitCode;

use katabatic_engine::secrets::Keeping;
use katabatic_engine::{Class, Error};
use serde_json::json;

use crate::app::App;
use crate::args::AgentInstall;
use crate::draw::{json, line};
use crate::unit::{Unit, quoted, systemd_runs};

const NAME: &str = "katabatic-agent";

const WITHOUT: &str = "Without systemd it runs in a terminal, or from any other place that starts programs: katabatic agent run";

fn of_person() -> Option<Unit> {
    let config = std::env::var_os("XDG_CONFIG_HOME")
        .map(PathBuf::from)
        .filter(|path| path.is_absolute());
    let config =
        config.or_else(|| Some(PathBuf::from(std::env::var_os("HOME")?).join(".config")))?;
    Some(Unit {
        file: config.join(format!("systemd/user/{NAME}.service")),
        system: false,
        is_read: systemd_runs(),
        without: WITHOUT,
    })
}

fn of_system() -> Unit {
    Unit {
        file: format!("/etc/systemd/system/{NAME}-{}.service", person()).into(),
        system: true,
        is_read: systemd_runs(),
        without: WITHOUT,
    }
}

/// The unit that runs this home, where one is installed and systemd runs.
pub fn installed(app: &App) -> Option<Unit> {
    let units = [of_person(), Some(of_system())];
    let mut units = units.into_iter().flatten();
    let ours = |unit: &Unit| {
        fs::read_to_string(&unit.file).is_ok_and(|text| text.contains(&exec_line(app)))
    };
    systemd_runs().then(|| units.find(ours)).flatten()
}

fn person() -> String {
    let uid = rustix::process::getuid();
    nix::unistd::User::from_uid(nix::unistd::Uid::from_raw(uid.as_raw()))
        .ok()
        .flatten()
        .map_or_else(|| uid.as_raw().to_string(), |user| user.name)
}

fn exec_line(app: &App) -> String {
    let program = std::env::current_exe().unwrap_or_else(|_| NAME.into());
    let home = app.common.home.as_ref().map_or_else(String::new, |home| {
        let home = std::path::absolute(home).unwrap_or_else(|_| home.clone());
        format!(" --home {}", quoted(&home.display().to_string()))
    });
    format!(
        "ExecStart={}{home} agent run\n",
        quoted(&program.display().to_string())
    )
}

fn text(app: &App, system: bool) -> String {
    let exec = exec_line(app);
    let (whose, wanted) = match system {
        true => (
            format!(
                "User={}\nProtectSystem=full\nProtectKernelModules=yes\nProtectKernelTunables=yes\nProtectControlGroups=yes\nProtectHostname=yes\nProtectClock=yes\n",
                person()
            ),
            "multi-user.target",
        ),
        false => (String::new(), "default.target"),
    };
    format!(
        "[Unit]\n\
         Description=Katabatic: keeps a person's folders in step with the cloud\n\
         Wants=network-online.target\n\
         After=network-online.target\n\
         \n\
         [Service]\n\
         Type=notify\n\
         {exec}\
         Restart=on-failure\n\
         RestartSec=10\n\
         WatchdogSec=120\n\
         TimeoutStopSec=20\n\
         Nice=10\n\
         IOSchedulingPriority=7\n\
         {whose}\
         NoNewPrivileges=yes\n\
         LockPersonality=yes\n\
         RestrictRealtime=yes\n\
         RestrictSUIDSGID=yes\n\
         SystemCallArchitectures=native\n\
         UMask=0077\n\
         \n\
         [Install]\n\
         WantedBy={wanted}\n"
    )
}

/// Nobody is there to type a passphrase or to open a keyring when the computer starts.
fn check_secrets(app: &App, system: bool) -> Result<(), Error> {
    for account in &app.config.accounts {
        let why = match account.keeping {
            Keeping::File => continue,
            Keeping::Keyring if !system => continue,
            Keeping::Keyring => "the desktop's keyring is open only while its owner is signed in",
            Keeping::Passphrase => {
                "its secret opens with a passphrase, and nobody is there to type it"
            }
        };
        return Err(Error::new(
            Class::NeedsPerson,
            format!("letting the agent sign in to @{} by itself", account.name),
            why,
            format!(
                "Keep that secret in a file that only its owner may read: katabatic account sign-in {} --secrets file",
                account.name
            ),
        ));
    }
    Ok(())
}

pub fn install(app: &App, typed: &AgentInstall) -> Result<ExitCode, Error> {
    let unit = match typed.system {
        true => of_system(),
        false => of_person().ok_or_else(|| {
            Error::usage(
                "installing the agent",
                "HOME is not set",
                "Say whose it is: --for USER",
            )
        })?,
    };
    if typed.off {
        unit.remove()?;
        match app.common.json {
            true => json::print(&json!({"removed": unit.file.display().to_string()})),
            false => line("The agent does not start by itself any more."),
        }
        return Ok(ExitCode::SUCCESS);
    }
    check_secrets(app, typed.system)?;
    let installed = unit.install(&text(app, typed.system), app.home.state())?;
    if !unit.say(&installed, app.common.json) {
        return Ok(ExitCode::SUCCESS);
    }
    match installed.enabled {
        true => {
            line("  It starts with the computer, or now: katabatic agent start");
            if !typed.system {
                line(format!(
                    "  To run with nobody signed in: loginctl enable-linger {}",
                    person()
                ));
            }
        }
        false => line("  systemd does not run here now; once it does: systemctl enable --now"),
    }
    Ok(ExitCode::SUCCESS)
}
