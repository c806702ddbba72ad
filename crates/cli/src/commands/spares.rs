//! `spares list | restore | prune`: what passes removed or replaced.

use crate::commands::prune::SparesPruneArgs;
use crate::typed_choice::choice;
use clap::Args;
use clap::Subcommand;
use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::place::Place;
use katabatic_core::{Side, SideNames, words};
use katabatic_engine::desktop_trash::{self, Trashed};
use katabatic_engine::hand::BY_HAND;
use katabatic_engine::pass::Progress;
use katabatic_engine::{Error, spares as engine};
use katabatic_ledger::spare_rows::{self, Spare};
use katabatic_sides::net::rate::Limits;
use serde_json::{Value, json};

use super::by_hand;
use crate::about;
use crate::app::App;
use crate::draw::listing::Item;
use crate::draw::{json, line, listing, shown, shown_text, time};

/// `spares …`.
#[derive(Debug, Subcommand)]
pub enum SparesCommand {
    /// List what lies in the spares
    List(SparesListArgs),
    /// Bring a version back
    Restore(SparesRestoreArgs),
    /// Give up what is old, or named by its number, for good
    Prune(SparesPruneArgs),
}

/// `spares list`.
#[derive(Args, Debug)]
pub struct SparesListArgs {
    /// The lane; all lanes where none is named
    pub lane: Option<String>,
    /// Only what was at this path of a lane, or in this folder of one
    #[arg(long, value_name = "PATH")]
    pub within: Option<String>,
    /// Only of this day
    #[arg(long, value_name = "YYYY-MM-DD")]
    pub day: Option<String>,
    /// Only what this run removed or replaced
    #[arg(long, value_name = "RUN")]
    pub run: Option<i64>,
}

/// `spares restore`.
#[derive(Args, Debug)]
pub struct SparesRestoreArgs {
    /// The number in the list
    pub number: i64,
    /// Copy it to this new file instead of to where it was
    #[arg(long, value_name = "FILE")]
    pub to: Option<PathBuf>,
    /// Bring it back on this side, instead of here
    #[arg(long, value_parser = choice::<Side>(), conflicts_with = "to", default_value = "near")]
    pub on: Side,
}

pub fn spares(app: &App, spares: &SparesCommand) -> Result<ExitCode, Error> {
    match spares {
        SparesCommand::List(typed) => list(app, typed)?,
        SparesCommand::Restore(typed) => restore(app, typed)?,
        SparesCommand::Prune(typed) => return super::prune::prune(app, typed),
    }
    Ok(ExitCode::SUCCESS)
}

/// One in a list: its number, lane, path, size, why it is there and since when.
pub fn spare_item(app: &App, number: usize, spare: &Spare) -> Item {
    let sides = match app.config.lane(&spare.lane_name) {
        Ok(lane) => lane.side_names(),
        // By hand, the far side is always one of an account.
        Err(_) if spare.lane_name == BY_HAND => SideNames::ComputerAndCloud,
        // Of a lane that is gone, nothing says any more what its sides were.
        Err(_) => SideNames::NearAndFar,
    };
    Item {
        lead: format!("{:>number$}  {}", spare.number, spare.lane_name).into(),
        name: {
            let place = spare.place.as_deref().unwrap_or_default();
            let place = match (engine::is_of_no_lane(spare), place.ends_with('/')) {
                (true, false) => format!("{place}/"),
                (true, true) => place.to_owned(),
                (false, _) => String::new(),
            };
            let folder = if spare.folder { "/" } else { "" };
            format!("{}{}{folder}", shown_text(&place), shown(&spare.path))
        },
        size: words::bytes(spare.size),
        reason: format!(
            "{} {}, kept {}{}",
            words::spare_cause_told(&spare.cause, sides),
            time::time(spare.taken_at),
            sides.at(spare.side),
            spare
                .edited
                .map_or_else(String::new, |at| format!(", edited {}", time::time(at)))
        ),
    }
}

/// The widest number of a list.
pub fn number_width(spares: &[Spare]) -> usize {
    let widths = spares.iter().map(|spare| spare.number.to_string().len());
    widths.max().unwrap_or(1)
}

fn list(app: &App, typed: &SparesListArgs) -> Result<(), Error> {
    let all = app
        .ledger
        .read(|connection| spare_rows::all(connection, typed.lane.as_deref()))?;
    // A lane that was taken away may have left some.
    if let (Some(name), true) = (&typed.lane, all.is_empty()) {
        app.config.lane(name)?;
    }
    let all = filtered(app, typed, all)?;
    let trashed = trashed(app, typed)?;
    if app.common.json {
        json::print(&json!({
            "spares": all.iter().map(spare_json).collect::<Vec<_>>(),
            "trash": trashed.iter().map(trashed_json).collect::<Vec<_>>(),
        }));
        return Ok(());
    }
    say_spares(app, typed, &all);
    say_trashed(app, &trashed);
    Ok(())
}

fn say_spares(app: &App, typed: &SparesListArgs, all: &[Spare]) {
    if all.is_empty() {
        line(
            match typed.within.is_some() || typed.day.is_some() || typed.run.is_some() {
                true => "Nothing in the spares is like that.",
                false => "The spares are empty: no pass removed or replaced anything yet.",
            },
        );
        return;
    }
    let number = number_width(all);
    let item = |spare: &Spare| spare_item(app, number, spare);
    listing::print(app.style, 0, &all.iter().map(item).collect::<Vec<_>>());
    let bytes = all.iter().map(|spare| spare.size).sum();
    line(format!(
        "{}, {}. To bring one back: katabatic spares restore NUMBER",
        words::count(all.len() as u64, "version", "versions"),
        words::bytes(bytes)
    ));
    line("To give up what is old: katabatic spares prune");
}

/// What people themselves put into the desktop's trash, of the same lane, path and day.
fn trashed(app: &App, typed: &SparesListArgs) -> Result<Vec<Trashed>, Error> {
    if typed.run.is_some() {
        return Ok(Vec::new());
    }
    let within = typed
        .within
        .as_deref()
        .map(|text| about::path(&app.config, text))
        .transpose()?;
    let wanted = |trashed: &Trashed| {
        typed.lane.as_ref().is_none_or(|lane| trashed.lane == *lane)
            && typed
                .day
                .as_ref()
                .is_none_or(|day| trashed.when.starts_with(day.as_str()))
            && within.as_ref().is_none_or(|(lane, path)| {
                trashed.lane == lane.name
                    && (trashed.path.is_within(path) || path.is_within(&trashed.path))
            })
    };
    let all = desktop_trash::look(&app.config.lanes);
    Ok(all.into_iter().filter(wanted).collect())
}

/// As many are named.
const NAMED: usize = 20;

fn say_trashed(app: &App, trashed: &[Trashed]) {
    if trashed.is_empty() {
        return;
    }
    line("");
    line("In the desktop's trash, put there by somebody and not by a pass:");
    let item = |trashed: &Trashed| Item {
        lead: trashed.lane.clone().into(),
        name: format!(
            "{}{}",
            shown(&trashed.path),
            if trashed.folder { "/" } else { "" }
        ),
        size: match trashed.folder {
            true => String::new(),
            false => words::bytes(trashed.size),
        },
        reason: match trashed.when.as_str() {
            "" => "since an unknown time".to_owned(),
            when => format!("since {}", when.replace('T', " ")),
        },
    };
    let items: Vec<Item> = trashed.iter().take(NAMED).map(item).collect();
    listing::print(app.style, 2, &items);
    if trashed.len() > NAMED {
        let more = (trashed.len() - NAMED) as u64;
        line(format!("  and {} more", words::grouped(more)));
    }
    line("To bring one back, use the file manager; no pass needs to fetch it.");
}

fn trashed_json(trashed: &Trashed) -> Value {
    json!({
        "lane": trashed.lane,
        "path": trashed.path.as_str(),
        "when": trashed.when,
        "lies": trashed.lies.display().to_string(),
        "folder": trashed.folder,
        "size": trashed.size,
    })
}

/// Those of a path, a day or a run, where such were named.
fn filtered(app: &App, typed: &SparesListArgs, all: Vec<Spare>) -> Result<Vec<Spare>, Error> {
    let day = typed.day.as_deref().map(time::read_day).transpose()?;
    let within = typed
        .within
        .as_deref()
        .map(|text| about::path(&app.config, text))
        .transpose()?;
    let wanted = |spare: &Spare| {
        day.as_ref()
            .is_none_or(|day| time::day(spare.taken_at) == *day)
            && typed.run.is_none_or(|run| spare.run == Some(run))
            && within.as_ref().is_none_or(|(lane, path)| {
                spare.lane_name == lane.name
                    && (spare.path.is_within(path) || path.is_within(&spare.path))
            })
    };
    Ok(all.into_iter().filter(wanted).collect())
}

fn restore(app: &App, typed: &SparesRestoreArgs) -> Result<(), Error> {
    let spare = engine::find(&app.ledger, typed.number)?;
    if engine::is_of_no_lane(&spare) {
        return restore_by_hand(app, typed, &spare);
    }
    let lane = app.config.lane(&spare.lane_name)?.clone();
    let elsewhere = engine::elsewhere(&app.home, &app.config, &spare, &app.stop)?;
    let to = app.run(async {
        let pass = app.pass(&lane, Arc::new(Progress::default())).await?;
        match &typed.to {
            Some(to) => engine::copy_to(&pass, &spare, elsewhere.as_ref(), to)
                .await
                .map(|()| Place::Local(to.clone())),
            None => engine::restore(&pass, &spare, typed.on, elsewhere.as_ref()).await,
        }
    })?;
    if app.common.json {
        json::print(&json!({"spare": spare_json(&spare), "restored_to": to.to_string()}));
        return Ok(());
    }
    line(format!(
        "Restored {} ({}) to {}",
        shown(&spare.path),
        words::bytes(spare.size),
        to
    ));
    if typed.to.is_none() {
        line(format!(
            "  The next sync carries it on: katabatic sync {}",
            lane.name
        ));
    }
    Ok(())
}

fn restore_by_hand(app: &App, typed: &SparesRestoreArgs, spare: &Spare) -> Result<(), Error> {
    let hand = by_hand::hand(app, &Arc::new(Progress::default()), Limits::default());
    let to = match &typed.to {
        Some(_) if spare.folder => {
            return Err(Error::usage(
                format!("restoring the spare {}", spare.number),
                "it is a whole folder, and goes back to where it was",
                "Restore it without --to, then move it.",
            ));
        }
        Some(to) => {
            app.run(engine::copy_to_by_hand(&hand, spare, to))?;
            to.display().to_string()
        }
        None => app.run(engine::restore_by_hand(&hand, spare))?,
    };
    if app.common.json {
        json::print(&json!({"spare": spare_json(spare), "restored_to": to}));
        return Ok(());
    }
    line(format!(
        "Restored {} to {}",
        shown(&spare.path),
        shown_text(&to)
    ));
    Ok(())
}

pub fn spare_json(spare: &Spare) -> Value {
    json!({
        "number": spare.number,
        "lane": spare.lane_name,
        "side": spare.side.name(),
        "path": spare.path.as_str(),
        "folder": spare.folder,
        "size": spare.size,
        "edited": json::time(spare.edited),
        "taken": json::time(Some(spare.taken_at)),
        "run": spare.run,
        "why": words::spare_cause(&spare.cause),
        "place": spare.place,
    })
}
