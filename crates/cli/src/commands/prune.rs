//! `spares prune`: gives up what has lain in the spares for long enough, shown first.

use clap::Args;
use std::collections::BTreeMap;
use std::io::IsTerminal;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::rules::read_bytes;
use katabatic_core::words;
use katabatic_engine::pass::Progress;
use katabatic_engine::prune::{self, Choice, GaveUp, Limits};
use katabatic_engine::{Class, Error, spares as engine};
use katabatic_ledger::spare_rows::Spare;
use katabatic_sides::net::rate::Limits as Pace;
use serde_json::json;

use super::account::confirmed;
use super::by_hand;
use super::spares::{number_width, spare_item, spare_json};
use crate::app::App;
use crate::draw::listing::Item;
use crate::draw::{json, line, listing};
use crate::exit;
use crate::lasting::{Unit, lasting};

/// `spares prune`.
#[derive(Args, Debug)]
pub struct SparesPruneArgs {
    /// The lane; all lanes where none is named
    pub lane: Option<String>,
    /// What has lain there for so long, in whole days
    #[arg(long, value_name = "TIME", default_value = "30d", value_parser = lasting(Unit::Days, 1..=36_500))]
    pub older_than: u64,
    /// And the oldest until so much is left: 2GB; never what is younger than seven days
    #[arg(long, value_name = "SIZE")]
    pub keep_below: Option<String>,
    /// Just these numbers, whatever their age
    #[arg(long, value_name = "N", conflicts_with_all = ["lane", "keep_below"])]
    pub number: Vec<i64>,
    /// Do it without asking
    #[arg(long)]
    pub yes: bool,
}

/// As many are named.
const NAMED: usize = 20;

pub fn prune(app: &App, typed: &SparesPruneArgs) -> Result<ExitCode, Error> {
    let mut choice = chosen(app, typed)?;
    let here = |spare: &Spare| {
        let lane_is_here = app
            .config
            .lanes
            .iter()
            .any(|lane| lane.name == spare.lane_name);
        engine::is_of_no_lane(spare) || (lane_is_here && spare.place.is_none())
    };
    let (go, away): (Vec<Spare>, Vec<Spare>) = choice.go.into_iter().partition(here);
    choice.go = go;
    let why = "its lane was taken away long ago, or is tied to another folder now";
    choice
        .stay
        .extend(away.into_iter().map(|spare| (spare, why.to_owned())));
    let bytes: u64 = choice.go.iter().map(|spare| spare.size).sum();
    if !app.common.json {
        say(app, &choice, bytes);
    }
    let asks = app.style.terminal && std::io::stdin().is_terminal();
    if choice.go.is_empty() || !(typed.yes || asks) {
        if app.common.json {
            json::print(&prune_json(&choice, &GaveUp::default()));
        } else if !choice.go.is_empty() {
            line("Nothing was given up. To do it: the same with --yes");
        }
        return Ok(exit::only_shown(!choice.go.is_empty()));
    }
    let question = format!(
        "Give up {}, {}, for good?",
        words::count(choice.go.len() as u64, "version", "versions"),
        words::bytes(bytes)
    );
    if !confirmed(app, typed.yes, &question)? {
        return Err(Error::new(
            Class::Failed,
            "giving up spares",
            "they are to be kept, as was said",
            "Nothing was changed.",
        ));
    }
    let done = give_up(app, &choice.go)?;
    if app.common.json {
        json::print(&prune_json(&choice, &done));
    } else {
        for (spare, why) in &done.stayed {
            line(format!("  {} stays: {why}", spare.number));
        }
        line(format!(
            "Gave up {}, {}.",
            words::count(done.versions, "version", "versions"),
            words::bytes(done.bytes)
        ));
    }
    Ok(ExitCode::SUCCESS)
}

fn chosen(app: &App, typed: &SparesPruneArgs) -> Result<Choice, Error> {
    if !typed.number.is_empty() {
        let named = typed
            .number
            .iter()
            .map(|number| engine::find(&app.ledger, *number));
        return Ok(Choice {
            go: named.collect::<Result<_, _>>()?,
            ..Choice::default()
        });
    }
    if let Some(name) = &typed.lane {
        app.config.lane(name)?;
    }
    let keep_bytes = match &typed.keep_below {
        None => None,
        Some(text) => Some(read_bytes(text).ok_or_else(|| {
            Error::usage(
                format!("the size {text}"),
                "it is not one",
                "Write it as 2GB, 500MB or 1200.",
            )
        })?),
    };
    let limits = Limits {
        older_than_days: typed.older_than.cast_signed(),
        keep_bytes,
        lane: typed.lane.clone(),
    };
    prune::choose(&app.ledger, app.now(), &limits)
}

fn give_up(app: &App, go: &[Spare]) -> Result<GaveUp, Error> {
    let mut by_lane: BTreeMap<Option<&str>, Vec<Spare>> = BTreeMap::new();
    for spare in go {
        let lane = (!engine::is_of_no_lane(spare)).then_some(spare.lane_name.as_str());
        by_lane.entry(lane).or_default().push(spare.clone());
    }
    let mut sum = GaveUp::default();
    for (lane, spares) in by_lane {
        let more = match lane {
            None => {
                let hand = by_hand::hand(app, &Arc::new(Progress::default()), Pace::default());
                app.run(prune::give_up_by_hand(&hand, &spares))?
            }
            Some(name) => {
                let lane = app.config.lane(name)?.clone();
                app.run(async {
                    let pass = app.pass(&lane, Arc::new(Progress::default())).await?;
                    prune::give_up(&pass, &spares).await
                })?
            }
        };
        sum.versions += more.versions;
        sum.bytes += more.bytes;
        sum.stayed.extend(more.stayed);
    }
    Ok(sum)
}

fn say(app: &App, choice: &Choice, bytes: u64) {
    if choice.go.is_empty() {
        line("Nothing in the spares is old enough to be given up.");
    } else {
        let number = number_width(&choice.go);
        let items: Vec<Item> = choice
            .go
            .iter()
            .take(NAMED)
            .map(|spare| spare_item(app, number, spare))
            .collect();
        listing::print(app.style, 0, &items);
        let more = choice.go.len().saturating_sub(NAMED);
        if more > 0 {
            line(format!("and {} more", words::grouped(more as u64)));
        }
        line(format!(
            "To be given up: {}, {}",
            words::count(choice.go.len() as u64, "version", "versions"),
            words::bytes(bytes)
        ));
    }
    for (spare, why) in &choice.stay {
        line(format!("  {} stays: {why}", spare.number));
    }
}

fn prune_json(choice: &Choice, done: &GaveUp) -> serde_json::Value {
    json!({
        "go": choice.go.iter().map(spare_json).collect::<Vec<_>>(),
        "stay": choice.stay.iter().chain(&done.stayed).map(|(spare, why)| json!({"number": spare.number, "why": why})).collect::<Vec<_>>(),
        "given_up": {"versions": done.versions, "bytes": done.bytes},
    })
}
