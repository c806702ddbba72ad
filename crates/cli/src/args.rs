//! What can be typed: the commands, each with its arguments beside it.

use clap::{Parser, Subcommand};

use crate::commands::account::AccountCommand;
use crate::commands::agent::AgentCommand;
use crate::commands::audit::AuditArgs;
use crate::commands::choose::ChooseArgs;
use crate::commands::conflicts::ConflictsArgs;
use crate::commands::copy::CopyArgs;
use crate::commands::cover::CoverArgs;
use crate::commands::demo::DemoArgs;
use crate::commands::fetch::FetchArgs;
use crate::commands::hold::HoldArgs;
use crate::commands::lane::LaneCommand;
use crate::commands::list::ListArgs;
use crate::commands::make_folder::MakeFolderArgs;
use crate::commands::move_place::MoveArgs;
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
use crate::limits::LimitsArgs;

/// Ties a person's folders to a cloud account and keeps them in step.
#[derive(Debug, Parser)]
#[command(
    name = "katabatic",
    version,
    max_term_width = 100,
    disable_help_subcommand = true
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
    /// Lanes: add, list, show, change, remove
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
    Limits(LimitsArgs),
    /// Programs that open stubs: what comes for them, which are kept out, how much one gets at once
    Openings(OpeningsArgs),
    /// The standard folders: how large they are, what covers them, and lanes for them
    Cover(CoverArgs),
    /// Choose which folders of the far side come here, by size
    Choose(ChooseArgs),
    /// Show what a pass would do; nothing is changed
    Plan(PlanArgs),
    /// Run a pass: scan, plan, carry, record
    Sync(SyncArgs),
    /// Bring content here, of what is only a stub
    Fetch(FetchArgs),
    /// Free room without removing anything: drop content here to stubs, once it is proven to be there
    Shed(ShedArgs),
    /// Keep files and folders here for good, whatever else is dropped; or list what is kept
    Hold(HoldArgs),
    /// Show what lies on this disk, and what could go; or free so much of it
    Room(RoomArgs),
    /// Show where files stand, and why
    Status(StatusArgs),
    /// Tell the whole story of one file or folder, there or not
    Why(WhyArgs),
    /// Prove that both sides hold the same: read them and compare byte for byte
    Audit(AuditArgs),
    /// Look for what usually goes wrong: this computer, each account, each lane
    Doctor,
    /// Write one page for the ticket: status, doctor, the last runs, the settings, with plots
    Report(ReportArgs),
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
    /// Show what a folder holds, here or in an account
    List(ListArgs),
    /// Show which folders are large, here or in an account
    Sizes(SizesArgs),
    /// Make a folder, here or in an account
    MakeFolder(MakeFolderArgs),
    /// Copy a file or a folder, between any two places
    Copy(CopyArgs),
    /// Move a file or a folder to another place
    Move(MoveArgs),
    /// Remove a file or a folder into the spares
    Remove(RemoveArgs),
    /// As root: let stubs open themselves, for the agents of all people on this computer; until it is ended
    Opener(OpenerArgs),
    /// The simulated cloud, for trying things out
    #[command(subcommand)]
    Standin(StandinCommand),
}
