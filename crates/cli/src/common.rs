//! What every command takes, and what several do.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

/// A lane that is named.
#[derive(Args, Debug)]
pub struct NamedLane {
    /// The lane
    #[arg(value_name = "LANE")]
    pub name: String,
}

/// An account that is named.
#[derive(Args, Debug)]
pub struct NamedAccount {
    /// The account
    #[arg(value_name = "ACCOUNT")]
    pub name: String,
}

/// How it is told how far a long work has come.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum HowFar {
    /// Drawn on a terminal, nothing in a pipe
    Auto,
    /// A line of JSON on standard error every half second
    Lines,
    /// Not at all
    None,
}

/// Whether colour and weight are given.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Colour {
    /// On a terminal that can, unless NO_COLOR is set
    Auto,
    /// Always
    Always,
    /// Never
    Never,
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
    /// Whether answers have colour and weight
    #[arg(long, global = true, value_enum, value_name = "WHEN", default_value_t = Colour::Auto, hide_default_value = true)]
    pub color: Colour,
    /// Write a long answer at once, and not a page at a time
    #[arg(long, global = true)]
    pub no_pager: bool,
    /// Say only what needs a person
    #[arg(long, short, global = true)]
    pub quiet: bool,
    /// Say more on standard error; twice for every request
    #[arg(long, short, global = true, action = clap::ArgAction::Count)]
    pub verbose: u8,
    /// How to tell how far a long work has come
    #[arg(long, global = true, value_enum, value_name = "HOW", default_value_t = HowFar::Auto, hide_default_value = true)]
    pub progress: HowFar,
    /// Write the log, warnings and what --verbose adds, into this file; it is begun anew once it is large
    #[arg(long, global = true, value_name = "FILE")]
    pub log: Option<PathBuf>,
}
