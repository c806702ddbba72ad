//! `man`: manual pages, made from the same text as `--help`.

use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Args, Command};
use clap_mangen::Man;
use katabatic_engine::Error;

use crate::common::Common;
use crate::draw::line;
use crate::output;

/// `man`.
#[derive(Args, Debug)]
pub struct ManArgs {
    /// Write a page for each command into this folder, such as ~/.local/share/man/man1
    #[arg(long, value_name = "DIR")]
    pub into: Option<PathBuf>,
}

/// `command` is all that can be typed.
pub fn man(common: &Common, typed: &ManArgs, command: Command) -> Result<ExitCode, Error> {
    let failed = |why: std::io::Error| {
        let what = match &typed.into {
            Some(into) => format!("the manual pages in {}", into.display()),
            None => "the manual page".to_owned(),
        };
        Error::failed(
            what,
            why.to_string(),
            "Name a folder that is there: --into DIR",
        )
    };
    let command = command.disable_help_subcommand(true);
    let Some(into) = &typed.into else {
        let mut page = Vec::new();
        Man::new(command).render(&mut page).map_err(failed)?;
        output::write(&page);
        return Ok(ExitCode::SUCCESS);
    };
    clap_mangen::generate_to(command, into).map_err(failed)?;
    if !common.quiet {
        line(format!(
            "Written into {}. To read it: man katabatic",
            into.display()
        ));
    }
    Ok(ExitCode::SUCCESS)
}
