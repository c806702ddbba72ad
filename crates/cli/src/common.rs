//! What every command takes, and what several do.

use std::path::PathBuf;

use clap::Args;

/// A name of an account or a lane.
#[derive(Args, Debug)]
pub struct Named {
    /// Its name
    pub name: String,
}

/// Options that every command has.
#[derive(Args, Clone, Debug)]
pub struct Common {
    /// Keep config, ledger and secrets under this folder
    #[arg(long, global = true, value_name = "DIR", env = "KATABATIC_HOME")]
    pub home: Option<PathBuf>,
    /// Be this user, with their folders and rights (for root)
    #[arg(long = "for", global = true, value_name = "USER")]
    pub for_user: Option<String>,
    /// Answer in JSON (docs/formats.md)
    #[arg(long, global = true)]
    pub json: bool,
    /// Words only: no marks, no colour
    #[arg(long, global = true)]
    pub plain: bool,
    /// Say only what needs a person
    #[arg(long, short, global = true)]
    pub quiet: bool,
    /// Say more on standard error; twice for every request
    #[arg(long, short, global = true, action = clap::ArgAction::Count)]
    pub verbose: u8,
}
