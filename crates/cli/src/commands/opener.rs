//! `opener`: the privileged part that makes programs wait while the content of a stub comes, and its systemd unit.

use std::path::Path;
use std::process::ExitCode;

use katabatic_engine::Error;
use katabatic_engine::opener::{DEFAULT_SOCKET, Opener};
use serde_json::json;
use tokio::signal::unix::{SignalKind, signal};

use crate::app;
use crate::args::{self, Common, OpenerInstall};
use crate::draw::{json, line};
use crate::unit::{UNITS, Unit, quoted, systemd_runs};

pub fn opener(common: &Common, typed: &args::Opener) -> Result<ExitCode, Error> {
    if let Some(args::OpenerDoes::Install(install)) = &typed.does {
        return self::install(common, install);
    }
    let opener = Opener::begin(&typed.socket)?;
    eprintln!(
        "katabatic: The opener listens at {}",
        typed.socket.display()
    );
    let failed = |why| Error::failed("listening for signals", why, "Try again.");
    app::runtime()?.block_on(async {
        let mut terminate = signal(SignalKind::terminate()).map_err(failed)?;
        tokio::select! {
            _ = terminate.recv() => {}
            _ = tokio::signal::ctrl_c() => {}
        }
        Ok(())
    })?;
    eprintln!("katabatic: Ending: the stubs of everybody lose their rights first.");
    opener.end();
    Ok(ExitCode::SUCCESS)
}

const FILE: &str = "katabatic-opener.service";

fn text() -> Result<String, Error> {
    let program = std::env::current_exe()
        .map_err(|why| Error::failed("finding this program", why, "Start it by its whole path."))?;
    Ok(format!(
        "[Unit]\n\
         Description=Katabatic: lets stubs open themselves\n\
         \n\
         [Service]\n\
         ExecStart={} opener\n\
         RuntimeDirectory=katabatic\n\
         RuntimeDirectoryPreserve=restart\n\
         Restart=on-failure\n\
         RestartSec=1\n\
         TimeoutStopSec=20\n\
         OOMScoreAdjust=-900\n\
         CapabilityBoundingSet=CAP_SYS_ADMIN CAP_DAC_OVERRIDE CAP_DAC_READ_SEARCH CAP_SYS_PTRACE\n\
         NoNewPrivileges=yes\n\
         PrivateNetwork=yes\n\
         LockPersonality=yes\n\
         RestrictRealtime=yes\n\
         RestrictSUIDSGID=yes\n\
         SystemCallArchitectures=native\n\
         \n\
         [Install]\n\
         WantedBy=multi-user.target\n",
        quoted(&program.display().to_string())
    ))
}

fn install(common: &Common, typed: &OpenerInstall) -> Result<ExitCode, Error> {
    let unit = Unit {
        file: typed.units.join(FILE),
        system: true,
        is_read: systemd_runs() && typed.units == Path::new(UNITS),
        without: "Without systemd, root runs it from any other place that starts programs: katabatic opener",
    };
    if typed.off {
        unit.remove()?;
        match common.json {
            true => json::print(&json!({"removed": unit.file.display().to_string()})),
            false => line(
                "Stubs do not open by themselves any more; programs are told \"permission denied\".",
            ),
        }
        return Ok(ExitCode::SUCCESS);
    }
    let installed = unit.install(&text()?, &typed.units)?;
    if installed.enabled {
        unit.tell(&["restart"])?;
    }
    if !unit.say(&installed, common.json) {
        return Ok(ExitCode::SUCCESS);
    }
    line(match installed.enabled {
        true => format!(
            "  It runs from now on, and listens at {DEFAULT_SOCKET}. Each person's agent finds it within seconds."
        ),
        false => {
            "  systemd does not run here now; until it does, as root: katabatic opener".to_owned()
        }
    });
    Ok(ExitCode::SUCCESS)
}
