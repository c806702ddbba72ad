//! `agent install`: a systemd unit, so that the agent runs from the start of the computer on, whoever is signed in.

use crate::common::Common;
use clap::Args;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use katabatic_engine::{Class, Error};
use katabatic_sides::secret::Keeping;
use serde_json::json;

use crate::app::App;
use crate::draw::{json, line};
use crate::output;
use crate::unit::{UNITS, Unit, quoted, systemd_runs};

/// `agent install`.
#[derive(Args, Debug)]
pub struct AgentInstallArgs {
    /// As a service of the system, for root to install
    #[arg(long, conflicts_with = "user")]
    pub system: bool,
    /// As a service of this person; so where nothing is said
    #[arg(long)]
    pub user: bool,
    /// Take it away again
    #[arg(long)]
    pub off: bool,
    /// Only write the unit to standard output, and install nothing
    #[arg(long, conflicts_with = "off")]
    pub print: bool,
    /// Where the system's units lie
    #[arg(long, value_name = "FOLDER", default_value = crate::unit::UNITS)]
    pub units: PathBuf,
}

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
        is_read: systemd_runs() && manager_runs(),
        without: WITHOUT,
    })
}

/// Whether systemd runs for this person, too: they are signed in, or may have services without that.
fn manager_runs() -> bool {
    std::env::var_os("XDG_RUNTIME_DIR")
        .is_some_and(|folder| Path::new(&folder).join("systemd/private").exists())
}

/// The unit of a person among the system's.
pub(super) fn of_system(person: &str, units: &Path) -> Unit {
    Unit {
        file: units.join(format!("{NAME}-{person}.service")),
        system: true,
        is_read: systemd_runs() && units == Path::new(UNITS),
        without: WITHOUT,
    }
}

/// The unit that runs this home, where one is installed and systemd runs.
pub fn installed(app: &App) -> Option<Unit> {
    let units = [of_person(), Some(of_system(&person(), Path::new(UNITS)))];
    let mut units = units.into_iter().flatten();
    units.find(|unit| runs_home_of(unit, &app.common))
}

/// Whether a unit that systemd reads runs this home.
pub(super) fn runs_home_of(unit: &Unit, common: &Common) -> bool {
    let is_ours = |text: String| text.contains(&exec_line(common));
    unit.is_read && fs::read_to_string(&unit.file).is_ok_and(is_ours)
}

pub(super) fn person() -> String {
    let uid = rustix::process::getuid();
    nix::unistd::User::from_uid(nix::unistd::Uid::from_raw(uid.as_raw()))
        .ok()
        .flatten()
        .map_or_else(|| uid.as_raw().to_string(), |user| user.name)
}

fn exec_line(common: &Common) -> String {
    let program = std::env::current_exe().unwrap_or_else(|_| NAME.into());
    let home = common.home.as_ref().map_or_else(String::new, |home| {
        let home = std::path::absolute(home).unwrap_or_else(|_| home.clone());
        format!(" --home {}", quoted(&home.display().to_string()))
    });
    format!(
        "ExecStart={}{home} agent run\n",
        quoted(&program.display().to_string())
    )
}

/// The text of the unit; of one of the system's, with the person whose it is.
pub(super) fn text(common: &Common, whose: Option<&str>) -> String {
    let exec = exec_line(common);
    let (whose, wanted) = match whose {
        Some(person) => (
            format!(
                "User={}\nProtectSystem=full\nProtectKernelModules=yes\nProtectKernelTunables=yes\nProtectControlGroups=yes\nProtectHostname=yes\nProtectClock=yes\n",
                person
            ),
            "multi-user.target",
        ),
        None => (String::new(), "default.target"),
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
         SystemCallArchitectures=native\n\
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

pub fn install(app: &App, typed: &AgentInstallArgs) -> Result<ExitCode, Error> {
    let unit = match typed.system {
        true => of_system(&person(), &typed.units),
        false => of_person().ok_or_else(|| {
            Error::usage(
                "installing the agent",
                "HOME is not set",
                "Say whose it is: --for USER",
            )
        })?,
    };
    if typed.system && !typed.print && !rustix::process::geteuid().is_root() {
        return Err(Error::usage(
            "agent install --system",
            "the system's services are root's",
            format!(
                "As root: katabatic --for {} agent install --system{}",
                person(),
                if typed.off { " --off" } else { "" }
            ),
        ));
    }
    if typed.off {
        return take_away(&unit, &app.common);
    }
    check_secrets(app, typed.system)?;
    let person = person();
    let text = text(&app.common, typed.system.then_some(&person));
    if typed.print {
        output::write(text.as_bytes());
        return Ok(ExitCode::SUCCESS);
    }
    write(&unit, &text, app.home.state(), &app.common, &person)
}

pub(super) fn take_away(unit: &Unit, common: &Common) -> Result<ExitCode, Error> {
    unit.remove()?;
    match common.json {
        true => json::print(&json!({"removed": unit.file.display().to_string()})),
        false => line("The agent does not start by itself any more."),
    }
    Ok(ExitCode::SUCCESS)
}

/// Writes the unit of a person, and says what that means.
pub(super) fn write(
    unit: &Unit,
    text: &str,
    folder: &Path,
    common: &Common,
    person: &str,
) -> Result<ExitCode, Error> {
    let installed = unit.install(text, folder)?;
    if !unit.say(&installed, common.json) {
        return Ok(ExitCode::SUCCESS);
    }
    let linger = format!("loginctl enable-linger {person}");
    match (installed.enabled, unit.system) {
        (true, true) => line(format!(
            "  It starts with the computer, or now, as root: katabatic --for {person} agent start"
        )),
        (true, false) => {
            line("  It starts with the computer, or now: katabatic agent start");
            line(format!("  To run with nobody signed in: {linger}"));
        }
        (false, false) if systemd_runs() => line(format!(
            "  systemd does not run for {person} now, who is not signed in. As root: {linger}, then the same again"
        )),
        (false, _) => {
            line("  systemd does not run here now; once it does: systemctl enable --now");
        }
    }
    if unit.system {
        // Root installs it, and root makes the backups.
        line(
            "  Mind: of a file whose content is only in the cloud (a stub), programs that run as root read zeros. Stubs ask backups to",
        );
        line(
            "  leave them out (no-dump attribute, user.xdg.robots.backup; katabatic room --exclude-list); with an opener, root waits for the content.",
        );
    }
    Ok(ExitCode::SUCCESS)
}
