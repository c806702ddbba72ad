//! `agent install`: a systemd unit, so that the agent runs from the start of the computer on, whoever is signed in.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};

use katabatic_engine::secrets::Keeping;
use katabatic_engine::{Class, Error};
use serde_json::json;

use crate::app::App;
use crate::args::AgentInstall;
use crate::draw::{json, line};

const NAME: &str = "katabatic-agent";

/// A unit, of the person's own manager or of the system's.
pub struct Unit {
    file: PathBuf,
    system: bool,
}

impl Unit {
    fn of_person() -> Option<Unit> {
        let config = std::env::var_os("XDG_CONFIG_HOME")
            .map(PathBuf::from)
            .filter(|path| path.is_absolute());
        let config =
            config.or_else(|| Some(PathBuf::from(std::env::var_os("HOME")?).join(".config")))?;
        Some(Unit {
            file: config.join(format!("systemd/user/{NAME}.service")),
            system: false,
        })
    }

    fn of_system() -> Unit {
        Unit {
            file: format!("/etc/systemd/system/{NAME}-{}.service", person()).into(),
            system: true,
        }
    }

    /// The unit that runs this home, where one is installed and systemd runs.
    pub fn installed(app: &App) -> Option<Unit> {
        let runs = Path::new("/run/systemd/system").is_dir();
        let units = [Unit::of_person(), Some(Unit::of_system())];
        let mut units = units.into_iter().flatten();
        let ours = |unit: &Unit| {
            fs::read_to_string(&unit.file).is_ok_and(|text| text.contains(&exec_line(app)))
        };
        runs.then(|| units.find(ours)).flatten()
    }

    fn name(&self) -> String {
        self.file
            .file_name()
            .map_or_else(String::new, |name| name.to_string_lossy().into_owned())
    }

    fn systemctl(&self) -> Command {
        let mut command = Command::new("systemctl");
        if !self.system {
            command.arg("--user");
        }
        command
    }

    /// Tells systemd to do something with it.
    pub fn tell(&self, what: &str) -> Result<(), Error> {
        let mut command = self.systemctl();
        let told = command.arg(what).arg(self.name()).output();
        done(told, &format!("systemctl {what} {}", self.name()))
    }
}

fn done(output: std::io::Result<std::process::Output>, what: &str) -> Result<(), Error> {
    let failed = |why: String| {
        Error::new(
            Class::Failed,
            what,
            why,
            "Without systemd it runs in a terminal, or from any other place that starts programs: katabatic agent run",
        )
    };
    let output = output.map_err(|why| failed(why.to_string()))?;
    if output.status.success() {
        return Ok(());
    }
    let said = String::from_utf8_lossy(&output.stderr).trim().to_owned();
    Err(failed(if said.is_empty() {
        output.status.to_string()
    } else {
        said
    }))
}

fn person() -> String {
    let uid = rustix::process::getuid();
    nix::unistd::User::from_uid(nix::unistd::Uid::from_raw(uid.as_raw()))
        .ok()
        .flatten()
        .map_or_else(|| uid.as_raw().to_string(), |user| user.name)
}

/// An argument in a unit: nothing in it is a specifier, a variable or the end of the argument (systemd.service(5)).
fn quoted(text: &str) -> String {
    let escaped = text
        .replace('\\', "\\\\")
        .replace('"', "\\\"")
        .replace('%', "%%")
        .replace('$', "$$");
    format!("\"{escaped}\"")
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
        true => Unit::of_system(),
        false => Unit::of_person().ok_or_else(|| {
            Error::usage(
                "installing the agent",
                "HOME is not set",
                "Say whose it is: --for USER",
            )
        })?,
    };
    if typed.off {
        return remove(app, &unit);
    }
    check_secrets(app, typed.system)?;
    let failed = |why: std::io::Error| {
        Error::failed(
            format!("writing {}", unit.file.display()),
            why,
            "With --system this is for root; without, for the person.",
        )
    };
    if let Some(folder) = unit.file.parent() {
        fs::create_dir_all(folder).map_err(failed)?;
    }
    fs::write(&unit.file, text(app, typed.system)).map_err(failed)?;
    let verified = verify(app, &unit)?;
    let runs = Path::new("/run/systemd/system").is_dir();
    if runs {
        let told = unit.systemctl().arg("daemon-reload").output();
        done(told, "systemctl daemon-reload")?;
        unit.tell("enable")?;
    }
    if app.common.json {
        json::print(
            &json!({"unit": unit.file.display().to_string(), "verified": verified, "enabled": runs}),
        );
        return Ok(ExitCode::SUCCESS);
    }
    line(format!("Written: {}", unit.file.display()));
    line(match verified {
        true => "  systemd has checked it.",
        false => "  It was not checked: systemd-analyze is not here.",
    });
    match runs {
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

fn remove(app: &App, unit: &Unit) -> Result<ExitCode, Error> {
    if Path::new("/run/systemd/system").is_dir() && unit.file.exists() {
        let told = unit
            .systemctl()
            .args(["disable", "--now", &unit.name()])
            .output();
        done(told, "systemctl disable --now")?;
    }
    match fs::remove_file(&unit.file) {
        Err(why) if why.kind() != std::io::ErrorKind::NotFound => {
            return Err(Error::failed(
                format!("removing {}", unit.file.display()),
                why,
                "Look at the folder's rights.",
            ));
        }
        _ => {}
    }
    match app.common.json {
        true => json::print(&json!({"removed": unit.file.display().to_string()})),
        false => line("The agent does not start by itself any more."),
    }
    Ok(ExitCode::SUCCESS)
}

/// Lets systemd read it; whether it could be asked.
fn verify(app: &App, unit: &Unit) -> Result<bool, Error> {
    let mut command = Command::new("systemd-analyze");
    command.arg("verify");
    if !unit.system {
        command.arg("--user");
    }
    // Who came by root's way has none, and without one nothing is checked.
    if std::env::var_os("XDG_RUNTIME_DIR").is_none() {
        command.env("XDG_RUNTIME_DIR", app.home.state());
    }
    match command.arg(&unit.file).output() {
        Err(why) if why.kind() == std::io::ErrorKind::NotFound => Ok(false),
        told => done(told, &format!("checking {}", unit.file.display())).map(|()| true),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_in_a_path_is_read_as_something_else() {
        assert_eq!(
            quoted("/a b/50%/$HOME/\"x\"\\"),
            "\"/a b/50%%/$$HOME/\\\"x\\\"\\\\\""
        );
    }
}
