//! `report`: one page for the ticket: where all lanes stand, what is wrong, what ran, and how all is set.

use crate::draw::ticket_page::LaneNow;
use crate::draw::ticket_page::Report;
use clap::Args;
use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::RelPath;
use katabatic_engine::pass::Progress;
use katabatic_engine::standing::{self};
use katabatic_engine::{Error, space};
use katabatic_ledger::runs::{self};
use serde_json::json;

use super::doctor;
use super::status::places;
use crate::app::App;
use crate::draw::days::{self};
use crate::draw::{json, line, new_file, shown_text, ticket_page, time};
use crate::exit;
use crate::log;

/// `report`.
#[derive(Args, Debug)]
pub struct ReportArgs {
    /// The new file; it needs nothing else to be read or printed, and holds no secret
    #[arg(long, value_name = "FILE.html")]
    pub to: PathBuf,
    /// Put the end of the agent's log on the page, too
    #[arg(long)]
    pub with_log: bool,
}

/// So many lines of the log.
const LOG_LINES: usize = 300;

/// The last so many runs are listed.
const RUNS: u32 = 20;

/// The last so many weeks are drawn.
const WEEKS: u32 = 4;

pub fn report(app: &App, typed: &ReportArgs) -> Result<ExitCode, Error> {
    new_file::check(&typed.to, &["html"])?;
    let mut gathered = gather(app)?;
    if typed.with_log {
        gathered.log = Some(agents_log(app));
    }
    let needs = gathered.lanes.iter().any(|lane| match &lane.standing {
        Ok(standing) => standing.needs_a_person(),
        Err(_) => true,
    }) || gathered.checks.iter().any(|check| !check.fine);
    let page = ticket_page::page(&gathered);
    new_file::write(&typed.to, &page, "Nothing else was changed.")?;
    let to = typed.to.display().to_string();
    match app.common.json {
        true => json::print(&json!({"report": to, "needs_a_person": needs})),
        false => line(format!("Written: {}", shown_text(&to))),
    }
    Ok(ExitCode::from(if needs { exit::NEEDS_A_PERSON } else { 0 }))
}

/// The end of the agent's log, and where it lies.
fn agents_log(app: &App) -> (String, Vec<String>) {
    let file = log::of_agent(app.home.state());
    let lines = log::last_lines(&file, LOG_LINES);
    let file = file.display();
    let place = match lines.is_empty() {
        true => format!(
            "{file} holds nothing; of an agent that systemd runs, the journal has it: journalctl --user -t katabatic"
        ),
        false => format!("the end of {file}"),
    };
    (place, lines)
}

fn person() -> String {
    let named = ["USER", "LOGNAME"]
        .iter()
        .find_map(|name| std::env::var(name).ok().filter(|name| !name.is_empty()));
    let number = rustix::process::getuid().as_raw();
    named.unwrap_or_else(|| format!("the user of number {number}"))
}

fn gather(app: &App) -> Result<Report, Error> {
    let checks = app.run(doctor::about(app).look())?;
    let mut lanes = Vec::new();
    for lane in &app.config.lanes {
        let looked = app.run(async {
            let pass = app.pass(lane, Arc::new(Progress::default())).await?;
            standing::look(&pass, &RelPath::root(), &time::time).await
        });
        lanes.push(LaneNow {
            name: lane.name.clone(),
            places: places(app, lane),
            sides: lane.side_names(),
            standing: looked.map_err(|error| error.why),
            folders: space::by_folder(&app.ledger, &lane.id)?,
        });
    }
    let (last, recent) = app.ledger.read(|connection| {
        Ok((
            runs::last(connection, None, RUNS)?,
            runs::since(connection, None, days::begin(WEEKS))?,
        ))
    })?;
    Ok(Report {
        computer: app.home.computer()?,
        person: person(),
        lanes,
        checks,
        runs: last,
        days: days::of(&recent, WEEKS),
        config_file: app.home.config_file().display().to_string(),
        settings: app.config.without_comments(),
        log: None,
    })
}
