//! What can be typed: the commands, each with its arguments beside it.

use clap::{CommandFactory, Parser, Subcommand};

use crate::examples;

use crate::commands::account::AccountCommand;
use crate::commands::agent::AgentCommand;
use crate::commands::audit::AuditArgs;
use crate::commands::choose::ChooseArgs;
use crate::commands::completions::CompletionsArgs;
use crate::commands::conflicts::ConflictsArgs;
use crate::commands::copy::CopyArgs;
use crate::commands::cover::CoverArgs;
use crate::commands::demo::DemoArgs;
use crate::commands::fetch::FetchArgs;
use crate::commands::find::FindArgs;
use crate::commands::hand_over::HandOverArgs;
use crate::commands::hold::HoldArgs;
use crate::commands::lane::LaneCommand;
use crate::commands::limits::LimitsOfAllArgs;
use crate::commands::list::ListArgs;
use crate::commands::make_folder::MakeFolderArgs;
use crate::commands::man::ManArgs;
use crate::commands::move_place::MoveArgs;
use crate::commands::names::NamesArgs;
use crate::commands::opener::OpenerArgs;
use crate::commands::openings::OpeningsArgs;
use crate::commands::plan::PlanArgs;
use crate::commands::recover::RecoverArgs;
use crate::commands::remove_place::RemoveArgs;
use crate::commands::report::ReportArgs;
use crate::commands::room::RoomArgs;
use crate::commands::runs::RunsArgs;
use crate::commands::settle::SettleArgs;
use crate::commands::shed::ShedArgs;
use crate::commands::sizes::SizesArgs;
use crate::commands::spares::SparesCommand;
use crate::commands::standin::StandinCommand;
use crate::commands::status::StatusArgs;
use crate::commands::sync::SyncArgs;
use crate::commands::tell::TellArgs;
use crate::commands::undo::UndoArgs;
use crate::commands::why::WhyArgs;
use crate::common::Common;
use crate::draw::wrapped;

/// Ties a person's folders to a cloud account and keeps them in step.
#[derive(Debug, Parser)]
#[command(
    name = "katabatic",
    version,
    max_term_width = 100,
    help_template = "{about-with-newline}\n{usage-heading} {usage}\n\n{before-help}Options:\n{options}{after-help}"
)]
#[command(after_help = "\
Exit codes: 0 all settled; 1 failed; 2 wrong use; 3 finished, but something needs a person; 4 the brake
stopped it; 5 the account refused; 6 a side is not there; 130 stopped by Ctrl-C.")]
pub struct Typed {
    /// What to do.
    #[command(subcommand)]
    pub command: Command,
    /// Options that every command has.
    #[command(flatten)]
    pub common: Common,
}

/// The commands.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Run a full example on sample data, by itself
    Demo(DemoArgs),
    /// Accounts: add, list, show, test, sign-in, rename, remove
    #[command(subcommand)]
    Account(AccountCommand),
    /// Lanes: add, list, show, change, sweep, relocate, rename, remove
    #[command(subcommand)]
    Lane(LaneCommand),
    /// Lanes that run by themselves: run, start, stop, status, pause, resume, install
    #[command(subcommand)]
    Agent(AgentCommand),
    /// Look on, live: what each lane does, what moves now, what needs a person
    Watch,
    /// Whom the agent tells what happened, and how: show or set it
    Tell(TellArgs),
    /// How much may go over the line in a second, all lanes together: show or set it
    Limits(LimitsOfAllArgs),
    /// Programs that open stubs: what comes for them, and which are kept out
    Openings(OpeningsArgs),
    /// The standard folders: how large they are, what covers them, and lanes for them
    Cover(CoverArgs),
    /// Choose which folders of the far side come to this computer, by size
    Choose(ChooseArgs),
    /// Show what a pass would do; nothing is changed
    Plan(PlanArgs),
    /// Run a pass: scan, plan, carry, record
    Sync(SyncArgs),
    /// Bring content to this computer, of what is only a stub
    Fetch(FetchArgs),
    /// Free room and remove nothing: content that the other side is proven to have becomes a stub
    Shed(ShedArgs),
    /// Keep files and folders on this computer for good, whatever else is dropped; or list what is kept
    Hold(HoldArgs),
    /// Show what lies on this disk, and what could be freed; or free so much of it
    Room(RoomArgs),
    /// Show where files stand, and why
    Status(StatusArgs),
    /// Find files and folders in all lanes, on both sides, by name, size, date and state
    Find(FindArgs),
    /// Tell the whole story of one file or folder, there or not
    Why(WhyArgs),
    /// Show names that the other side does not take, with names that would do, and rename them on this computer
    Names(NamesArgs),
    /// Prove that both sides hold the same: read them and compare byte for byte
    Audit(AuditArgs),
    /// Look for what usually goes wrong: this computer, each account, each lane
    Doctor,
    /// Write one page for the ticket: status, doctor, the last runs, the settings
    Report(ReportArgs),
    /// May this computer be wiped or given away? Both sides are read, and one answer given
    HandOver(HandOverArgs),
    /// Show both versions of every conflict
    Conflicts(ConflictsArgs),
    /// Settle conflicts
    Settle(SettleArgs),
    /// Show what passes did
    Runs(RunsArgs),
    /// Bring back what the far side of a lane holds, to its place or elsewhere
    Recover(RecoverArgs),
    /// Take back what a run removed or replaced, on both sides
    Undo(UndoArgs),
    /// What passes removed or replaced: list, restore, prune
    #[command(subcommand)]
    Spares(SparesCommand),
    /// Show what a folder holds, on this computer or in an account
    List(ListArgs),
    /// Show which folders are large, on this computer or in an account
    Sizes(SizesArgs),
    /// Make a folder, on this computer or in an account
    MakeFolder(MakeFolderArgs),
    /// Copy a file or a folder, between any two places
    Copy(CopyArgs),
    /// Move a file or a folder to another place
    Move(MoveArgs),
    /// Remove a file or a folder into the spares
    Remove(RemoveArgs),
    /// As root: let stubs open themselves, for everybody on this computer
    Opener(OpenerArgs),
    /// The simulated cloud, for trying things out
    #[command(subcommand)]
    Standin(StandinCommand),
    /// Write what completes commands, lanes, accounts and paths in a shell
    Completions(CompletionsArgs),
    /// Write the manual page, or one for each command into a folder
    Man(ManArgs),
}

/// The commands by the order of a technician's work.
const GROUPS: [(&str, &[&str]); 8] = [
    ("Set up", &["demo", "account", "lane", "cover", "choose"]),
    (
        "Look and carry",
        &[
            "plan", "sync", "status", "list", "find", "why", "watch", "audit",
        ],
    ),
    (
        "Settle and bring back",
        &[
            "conflicts",
            "settle",
            "names",
            "runs",
            "spares",
            "undo",
            "recover",
        ],
    ),
    (
        "Room on the disk",
        &["room", "fetch", "shed", "hold", "openings", "opener"],
    ),
    ("By itself", &["agent", "limits", "tell"]),
    (
        "By hand",
        &["sizes", "make-folder", "copy", "move", "remove"],
    ),
    (
        "When something is wrong, and at the end",
        &["doctor", "report", "hand-over"],
    ),
    ("Around it", &["standin", "completions", "man", "help"]),
];

/// Columns for what is said of a command: with its name beside it, 80 in all.
const ABOUT: usize = 65;

/// All that can be typed, with the commands in groups and examples beside them.
pub fn command() -> clap::Command {
    let command = examples::with_examples(Typed::command());
    let mut groups = String::new();
    for (heading, names) in GROUPS {
        groups.push_str(&format!("{heading}:\n"));
        for name in names {
            let about = command
                .find_subcommand(name)
                .and_then(clap::Command::get_about);
            let about = match (about, *name) {
                (Some(about), _) => about.to_string(),
                (None, _) => "Show this, or what a command takes".to_owned(),
            };
            // Left to the library, what does not fit would go on below the names.
            for (at, part) in wrapped(&about, ABOUT).iter().enumerate() {
                let name = if at == 0 { *name } else { "" };
                groups.push_str(&format!("  {name:<13}{part}\n"));
            }
        }
        groups.push('\n');
    }
    command.before_help(groups.trim_end().to_owned())
}

impl Command {
    /// Whether its lines are the answer to a question, which is told in any case; what only says that something was done,
    /// or that all is well, is nothing that a person has to read.
    pub fn shows_what_was_asked(&self) -> bool {
        match self {
            Command::Demo(_)
            | Command::Watch
            | Command::Plan(_)
            | Command::Why(_)
            | Command::Names(_)
            | Command::Conflicts(_)
            | Command::Find(_)
            | Command::HandOver(_)
            | Command::List(_)
            | Command::Sizes(_)
            | Command::Opener(_)
            | Command::Completions(_)
            | Command::Man(_)
            | Command::Standin(_) => true,
            Command::Account(account) => {
                matches!(account, AccountCommand::List | AccountCommand::Show(_))
            }
            Command::Lane(lane) => matches!(lane, LaneCommand::List | LaneCommand::Show(_)),
            Command::Agent(agent) => match agent {
                AgentCommand::Install(typed) => typed.print,
                AgentCommand::Run(_)
                | AgentCommand::Start
                | AgentCommand::Stop
                | AgentCommand::Status
                | AgentCommand::Pause(_)
                | AgentCommand::Resume(_)
                | AgentCommand::StopPass(_) => false,
            },
            Command::Spares(spares) => matches!(spares, SparesCommand::List(_)),
            Command::Tell(typed) => *typed == TellArgs::default(),
            Command::Limits(typed) => *typed == LimitsOfAllArgs::default(),
            Command::Openings(typed) => *typed == OpeningsArgs::default(),
            Command::Cover(typed) => {
                typed.folders.is_empty() && typed.off.is_empty() && typed.take_over.is_none()
            }
            Command::Choose(typed) => {
                typed.preview
                    || (typed.skip.is_empty()
                        && typed.take.is_empty()
                        && typed.only.is_empty()
                        && typed.new_folders.is_none())
            }
            Command::Hold(typed) => typed.paths.is_empty(),
            Command::Room(typed) => typed.free.is_none(),
            Command::Runs(typed) => typed.forget_older_than.is_none(),
            Command::Settle(typed) => typed.only_try,
            Command::Sync(_)
            | Command::Fetch(_)
            | Command::Shed(_)
            | Command::Status(_)
            | Command::Audit(_)
            | Command::Doctor
            | Command::Report(_)
            | Command::Recover(_)
            | Command::Undo(_)
            | Command::MakeFolder(_)
            | Command::Copy(_)
            | Command::Move(_)
            | Command::Remove(_) => false,
        }
    }

    /// Whether it only tells something, at once and without a question, so that a long answer can be read by pages.
    pub fn is_read_by_pages(&self) -> bool {
        match self {
            Command::Plan(_)
            | Command::Why(_)
            | Command::Conflicts(_)
            | Command::Find(_)
            | Command::List(_)
            | Command::Sizes(_)
            | Command::Status(_)
            | Command::Doctor => true,
            Command::Runs(typed) => typed.forget_older_than.is_none(),
            Command::Room(typed) => typed.free.is_none() && typed.exclude_list.is_none(),
            Command::Names(typed) => typed.preview,
            Command::Account(account) => {
                matches!(account, AccountCommand::List | AccountCommand::Show(_))
            }
            Command::Lane(lane) => matches!(lane, LaneCommand::List | LaneCommand::Show(_)),
            Command::Agent(agent) => matches!(agent, AgentCommand::Status),
            Command::Spares(spares) => matches!(spares, SparesCommand::List(_)),
            Command::Demo(_)
            | Command::Watch
            | Command::HandOver(_)
            | Command::Opener(_)
            | Command::Completions(_)
            | Command::Man(_)
            | Command::Standin(_)
            | Command::Tell(_)
            | Command::Limits(_)
            | Command::Openings(_)
            | Command::Cover(_)
            | Command::Choose(_)
            | Command::Hold(_)
            | Command::Settle(_)
            | Command::Sync(_)
            | Command::Fetch(_)
            | Command::Shed(_)
            | Command::Audit(_)
            | Command::Report(_)
            | Command::Recover(_)
            | Command::Undo(_)
            | Command::MakeFolder(_)
            | Command::Copy(_)
            | Command::Move(_)
            | Command::Remove(_) => false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_command_stands_in_one_group() {
        let mut grouped: Vec<&str> = GROUPS
            .iter()
            .flat_map(|(_, names)| *names)
            .copied()
            .collect();
        grouped.sort_unstable();
        let command = Typed::command();
        let mut all: Vec<&str> = command
            .get_subcommands()
            .map(clap::Command::get_name)
            .collect();
        all.push("help");
        all.sort_unstable();
        assert_eq!(grouped, all);
    }
}
