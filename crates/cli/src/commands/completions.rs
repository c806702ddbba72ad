//! `completions`: what a shell needs to complete commands, lanes, accounts and paths while they are typed.

use std::ffi::OsStr;
use std::process::ExitCode;

use clap::{Args, ValueEnum};
use clap_complete::engine::{
    ArgValueCompleter, CompletionCandidate, PathCompleter, ValueCompleter,
};
use clap_complete::env::{CompleteEnv, Shells};
use katabatic_engine::config::Config;
use katabatic_engine::{Error, Home};

use crate::output;

/// The shell asks by this variable what could come next.
const VARIABLE: &str = "KATABATIC_COMPLETE";

/// `completions`.
#[derive(Args, Debug)]
pub struct CompletionsArgs {
    /// The shell that is to read it
    #[arg(value_enum)]
    pub shell: Shell,
}

/// A shell that can complete.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Shell {
    /// Add to ~/.bashrc: source <(katabatic completions bash)
    Bash,
    /// Add to ~/.zshrc, below compinit: source <(katabatic completions zsh)
    Zsh,
    /// Write it to ~/.config/fish/completions/katabatic.fish
    Fish,
    /// Add to ~/.config/elvish/rc.elv: eval (katabatic completions elvish | slurp)
    Elvish,
    /// Add to $PROFILE: katabatic completions powershell | Out-String | Invoke-Expression
    Powershell,
}

impl Shell {
    fn name(self) -> &'static str {
        match self {
            Shell::Bash => "bash",
            Shell::Zsh => "zsh",
            Shell::Fish => "fish",
            Shell::Elvish => "elvish",
            Shell::Powershell => "powershell",
        }
    }
}

pub fn completions(typed: &CompletionsArgs) -> Result<ExitCode, Error> {
    let mut text = Vec::new();
    let written = match Shells::builtins().completer(typed.shell.name()) {
        Some(shell) => {
            shell.write_registration(VARIABLE, "katabatic", "katabatic", "katabatic", &mut text)
        }
        None => Ok(()),
    };
    written.map_err(|why| {
        Error::failed(
            format!("what {} completes by", typed.shell.name()),
            why.to_string(),
            "Try another shell: katabatic completions --help",
        )
    })?;
    output::write(&text);
    Ok(ExitCode::SUCCESS)
}

/// Where a shell asks what could come next, that is all that is done.
pub fn complete_where_asked(command: fn() -> clap::Command) {
    CompleteEnv::with_factory(|| completing(command()))
        .var(VARIABLE)
        .complete();
}

/// Each argument completes what its value is called after.
fn completing(command: clap::Command) -> clap::Command {
    let names: Vec<String> = command
        .get_subcommands()
        .map(|sub| sub.get_name().to_owned())
        .collect();
    let mut command = command.mut_args(|arg| {
        let value = arg.get_value_names().and_then(<[_]>::first);
        let value = value.map(ToString::to_string).unwrap_or_default();
        match Kinds::of(&value) {
            Some(kinds) => arg.add(ArgValueCompleter::new(kinds)),
            None => arg,
        }
    });
    for name in names {
        command = command.mut_subcommand(name, completing);
    }
    command
}

/// What a value can be.
#[derive(Clone, Copy)]
struct Kinds {
    lanes: bool,
    accounts: bool,
    places: bool,
}

impl Kinds {
    /// By the name that its value goes by in what `--help` says.
    fn of(value: &str) -> Option<Kinds> {
        let any = |names: &[&str]| value.split('|').any(|part| names.contains(&part));
        let kinds = Kinds {
            lanes: any(&["LANE"]),
            accounts: any(&["ACCOUNT", "@ACCOUNT"]),
            places: any(&["PATH", "PLACE", "DIR", "FILE", "FOLDER", "@ACCOUNT/FOLDER"]),
        };
        (kinds.lanes || kinds.accounts || kinds.places).then_some(kinds)
    }
}

impl ValueCompleter for Kinds {
    fn complete(&self, current: &OsStr) -> Vec<CompletionCandidate> {
        let begun = current.to_string_lossy();
        let mut found = Vec::new();
        if let Some(config) = config() {
            let mut add = |value: String, help: String| {
                if value.starts_with(&*begun) {
                    let candidate = CompletionCandidate::new(value);
                    found.push(candidate.help((!help.is_empty()).then(|| help.into())));
                }
            };
            for lane in config.lanes.iter().filter(|_| self.lanes) {
                add(
                    lane.name.clone(),
                    format!("{} and {}", lane.near, lane.far_place()),
                );
            }
            for account in &config.accounts {
                if self.accounts {
                    add(account.name.clone(), account.address.clone());
                }
                if self.places {
                    add(format!("@{}/", account.name), account.address.clone());
                }
            }
        }
        if self.places {
            found.extend(PathCompleter::any().complete(current));
        }
        found
    }
}

/// The config, where it can be read: completing says nothing of what is wrong with it.
fn config() -> Option<Config> {
    let home = match std::env::var_os("KATABATIC_HOME") {
        Some(dir) => Home::under(dir.as_ref()),
        None => Home::of_person(),
    };
    Config::read(&home.ok()?).ok()
}
