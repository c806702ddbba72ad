//! `opener`: the privileged part that makes programs wait while the content of a stub comes, and its systemd unit.

use crate::common::Common;
use clap::Args;
use clap::Subcommand;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use katabatic_engine::Error;
use katabatic_opener::{DEFAULT_SOCKET, Kept, Opener};
use serde_json::json;

use crate::draw::{json, line, say};
use crate::unit::{UNITS, Unit, quoted, systemd_runs};

/// `opener`.
#[derive(Args, Debug)]
#[command(args_conflicts_with_subcommands = true)]
pub struct OpenerArgs {
    #[command(subcommand)]
    pub does: Option<OpenerDoes>,
    /// Where agents find it
    #[arg(long, value_name = "SOCKET", default_value = katabatic_opener::DEFAULT_SOCKET)]
    pub socket: PathBuf,
}

/// What else than to run.
#[derive(Subcommand, Debug)]
pub enum OpenerDoes {
    /// Let it start with the computer, by systemd; for root
    Install(OpenerInstallArgs),
}

/// `opener install`.
#[derive(Args, Debug)]
pub struct OpenerInstallArgs {
    /// Stop it, and let it start no more
    #[arg(long)]
    pub off: bool,
    /// Where the system's units lie
    #[arg(long, value_name = "FOLDER", default_value = crate::unit::UNITS)]
    pub units: PathBuf,
}

pub fn opener(common: &Common, typed: &OpenerArgs) -> Result<ExitCode, Error> {
    if let Some(OpenerDoes::Install(install)) = &typed.does {
        return self::install(common, install);
    }
    let opener = Opener::begin(&typed.socket).map_err(not_begun)?;
    say(format!(
        "katabatic: The opener listens at {}",
        typed.socket.display()
    ));
    if opener.kept() == Kept::ByNobody {
        say(
            "katabatic: No service manager keeps its marks: if it is killed (kill -9), programs that open stubs read zeros until the agents notice. Ended with SIGTERM, it leaves no such window.",
        );
    }
    let waited = opener.wait();
    say("katabatic: Ending: the stubs of everybody lose their rights first.");
    opener.end();
    waited.map_err(|why| {
        Error::failed(
            "letting stubs open themselves",
            why,
            "Start it again: katabatic opener",
        )
    })?;
    Ok(ExitCode::SUCCESS)
}

fn not_begun(why: katabatic_opener::Error) -> Error {
    let cause = std::error::Error::source(&why).map(ToString::to_string);
    Error::failed(
        why.to_string(),
        cause.unwrap_or_default(),
        "Run it as root, on Linux 6.14 or later, with its socket in a folder where only root may write; see docs/guide.md.",
    )
}

const FILE: &str = "katabatic-opener.service";

/// The folders of people, which the unit does not see.
const HOMES: [&str; 3] = ["/home", "/root", "/run/user"];

fn program() -> Result<PathBuf, Error> {
    std::env::current_exe()
        .and_then(|program| program.canonicalize())
        .map_err(|why| Error::failed("finding this program", why, "Start it by its whole path."))
}

/// Whoever may write the program that root starts, or a folder on the way to it, is root.
fn is_roots_alone(program: &Path) -> Result<(), Error> {
    for at in program.ancestors() {
        let seen = std::fs::metadata(at).map_err(|why| {
            Error::failed(
                format!("looking at {}", at.display()),
                why,
                "Start it by its whole path.",
            )
        })?;
        if seen.uid() != 0 || seen.mode() & 0o022 != 0 {
            return Err(Error::usage(
                "installing the opener",
                format!(
                    "others than root may write {}, and whoever may would be root",
                    at.display()
                ),
                "Put the program where only root may write, as /usr/local/bin, and install it from there.",
            ));
        }
    }
    Ok(())
}

fn text(program: &Path) -> String {
    let homes = match HOMES.iter().any(|home| program.starts_with(home)) {
        true => "read-only",
        false => "yes",
    };
    format!(
        "[Unit]\n\
         Description=Katabatic: lets stubs open themselves\n\
         \n\
         [Service]\n\
         Type=notify\n\
         NotifyAccess=main\n\
         ExecStart={program} opener\n\
         RuntimeDirectory=katabatic\n\
         RuntimeDirectoryPreserve=restart\n\
         # The marks outlive the process: whoever opens a stub meanwhile waits for the next one.\n\
         FileDescriptorStoreMax=1\n\
         Restart=on-failure\n\
         RestartSec=100ms\n\
         TimeoutStopSec=20\n\
         OOMScoreAdjust=-900\n\
         LimitNOFILE=524288\n\
         LimitCORE=0\n\
         # fanotify asks for the first; marking a file that only its owner may read, for the second.\n\
         CapabilityBoundingSet=CAP_SYS_ADMIN CAP_DAC_READ_SEARCH\n\
         NoNewPrivileges=yes\n\
         PrivateNetwork=yes\n\
         RestrictAddressFamilies=AF_UNIX\n\
         IPAddressDeny=any\n\
         ProtectSystem=strict\n\
         ProtectHome={homes}\n\
         PrivateTmp=yes\n\
         PrivateDevices=yes\n\
         DevicePolicy=closed\n\
         ProtectClock=yes\n\
         ProtectControlGroups=yes\n\
         ProtectHostname=yes\n\
         ProtectKernelLogs=yes\n\
         ProtectKernelModules=yes\n\
         ProtectKernelTunables=yes\n\
         LockPersonality=yes\n\
         MemoryDenyWriteExecute=yes\n\
         RestrictNamespaces=yes\n\
         RestrictRealtime=yes\n\
         RestrictSUIDSGID=yes\n\
         RemoveIPC=yes\n\
         KeyringMode=private\n\
         UMask=0077\n\
         SystemCallArchitectures=native\n\
         SystemCallFilter=@system-service\n\
         SystemCallFilter=~@privileged @resources\n\
         SystemCallFilter=fanotify_init fanotify_mark pidfd_getfd setrlimit prlimit64\n\
         \n\
         [Install]\n\
         WantedBy=multi-user.target\n",
        program = quoted(&program.display().to_string())
    )
}

fn install(common: &Common, typed: &OpenerInstallArgs) -> Result<ExitCode, Error> {
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
    let program = program()?;
    if unit.is_read {
        is_roots_alone(&program)?;
    }
    let installed = unit.install(&text(&program), &typed.units)?;
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
