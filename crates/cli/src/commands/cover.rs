//! `cover`: the standard folders, how large they are, and lanes for them.

use crate::setup::SetupArgs;
use clap::Args;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::{Direction, RelPath, words};
use katabatic_engine::config::{Config, LaneConfig};
use katabatic_engine::cover::{self, Covered, Stand, Wanted};
use katabatic_engine::pass::{Progress, Wish};
use katabatic_engine::{Error, lanes};
use serde_json::{Value, json};

use super::account::agreed;
use super::lane::say_next_pass;
use super::sync;
use crate::app::App;
use crate::draw::table::Rows;
use crate::draw::{at_home, json, line, progress, sentence, shown_text, time};
use crate::exit;
use crate::setup::folder_of;

/// `cover`.
#[derive(Args, Debug)]
pub struct CoverArgs {
    /// The standard folders to cover: desktop, documents, downloads, music, pictures, public, templates, videos
    pub folders: Vec<String>,
    /// The account that gets them
    #[arg(long, value_name = "NAME")]
    pub account: Option<String>,
    /// The folder there that holds the computers' folders
    #[arg(long, value_name = "FOLDER")]
    pub under: Option<String>,
    /// What this computer is called there; its host name otherwise
    #[arg(long = "as", value_name = "NAME")]
    pub name: Option<String>,
    /// Carry both ways, and not only up
    #[arg(long)]
    pub two_way: bool,
    /// Bring back what this other computer had covered, and cover it from here
    #[arg(long, value_name = "OLD-NAME", conflicts_with = "name")]
    pub take_over: Option<String>,
    /// End the cover of these; every file stays on both sides
    #[arg(long, value_name = "FOLDER", num_args = 1.., conflicts_with_all = ["folders", "take_over"])]
    pub off: Vec<String>,
    /// Begin without the rules for what desktops and office programs leave behind
    #[arg(long)]
    pub no_usual_rules: bool,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

pub fn cover(app: &App, typed: &CoverArgs) -> Result<ExitCode, Error> {
    if !typed.off.is_empty() {
        return off(app, &typed.off);
    }
    let folders = app.run(cover::look(&app.home, &app.config, &app.ledger, &app.stop))?;
    if typed.folders.is_empty() && typed.take_over.is_none() {
        return show(app, &folders, typed);
    }
    let wanted = wanted(app, typed)?;
    if typed.take_over.is_some() {
        return take_over(app, typed, &wanted, &folders);
    }
    let covered = |word: &String| {
        let folder = cover::of_word(&folders, word)?;
        Ok::<_, Error>(if let Stand::Covered { lane, .. } = &folder.stand {
            Some(lane.clone())
        } else {
            None
        })
    };
    let all: Vec<Option<String>> = typed
        .folders
        .iter()
        .map(covered)
        .collect::<Result<_, _>>()?;
    if let Some(lanes) = all.into_iter().collect::<Option<Vec<String>>>() {
        if app.common.json {
            json::print(&json!({"covered": [], "so_already": true}));
        } else {
            line(format!(
                "It is so already: covered by {}. How far: katabatic cover",
                lanes.join(", ")
            ));
        }
        return Ok(ExitCode::SUCCESS);
    }
    let lanes = app.run(cover::lanes_for(
        &app.home,
        &app.config,
        &wanted,
        &folders,
        &app.stop,
    ))?;
    if !app.common.json {
        for lane in &lanes {
            line(format!(
                "{}: {} {} {} ({}, removals {})",
                lane.name,
                lane.near,
                app.style.arrow(lane.terms.direction),
                lane.far_place(),
                lane.terms.direction.word(),
                lane.terms.removals.word()
            ));
        }
    }
    ask(app, typed.yes, "Cover them so?")?;
    let mut config = app.config.clone();
    let made = make(app, &mut config, lanes, typed.no_usual_rules)?;
    if app.common.json {
        json::print(&json!({"covered": made.iter().map(lane_json).collect::<Vec<_>>()}));
        return Ok(ExitCode::SUCCESS);
    }
    let names: Vec<&str> = made.iter().map(|lane| lane.name.as_str()).collect();
    line(format!(
        "The files stay where they are. To carry them: katabatic sync {}",
        names.join(" ")
    ));
    Ok(ExitCode::SUCCESS)
}

fn ask(app: &App, yes: bool, question: &str) -> Result<(), Error> {
    agreed(app, yes, "covering", question)
}

fn wanted(app: &App, typed: &CoverArgs) -> Result<Wanted, Error> {
    let account = match (&typed.account, app.config.accounts.as_slice()) {
        (Some(name), _) => app.config.account(name)?.name.clone(),
        (None, [only]) => only.name.clone(),
        (None, _) => {
            return Err(Error::usage(
                "covering folders",
                "it was not said into which account",
                format!(
                    "Say --account NAME; there are: {}",
                    app.config.account_names().join(", ")
                ),
            ));
        }
    };
    let computer = typed.take_over.clone().or_else(|| typed.name.clone());
    Ok(Wanted {
        words: typed.folders.clone(),
        account,
        under: typed
            .under
            .as_deref()
            .map_or_else(|| Ok(RelPath::root()), folder_of)?,
        computer: computer.unwrap_or_else(cover::computer_name),
        direction: if typed.two_way {
            Direction::TwoWay
        } else {
            Direction::Up
        },
    })
}

fn make(
    app: &App,
    config: &mut Config,
    lanes: Vec<LaneConfig>,
    no_usual_rules: bool,
) -> Result<Vec<LaneConfig>, Error> {
    let mut made = Vec::new();
    for lane in lanes {
        let lane = SetupArgs::default().over(lane, !no_usual_rules)?;
        let next = app.run(lanes::add(
            &app.home,
            config,
            &app.ledger,
            lane.clone(),
            true,
            &app.stop,
        ))?;
        if !app.common.json {
            line(format!(
                "Added the lane {}. Its first pass would:",
                lane.name
            ));
            say_next_pass(app, &next, &lane);
        }
        made.push(lane);
    }
    Ok(made)
}

/// Brings back what another computer had covered, and covers it from here.
fn take_over(
    app: &App,
    typed: &CoverArgs,
    wanted: &Wanted,
    folders: &[Covered],
) -> Result<ExitCode, Error> {
    let lanes = app.run(cover::lanes_to_take_over(
        &app.home,
        &app.config,
        wanted,
        folders,
        &app.stop,
    ))?;
    if !app.common.json {
        line(format!("Of {} there is:", wanted.computer));
        for lane in &lanes {
            line(format!("  {} for {}", lane.far_place(), lane.near));
        }
        line(
            "It would be brought to this computer, and covered from then on. What is on it already stays.",
        );
    }
    ask(app, typed.yes, "Take it over?")?;
    let mut config = app.config.clone();
    let made = make(app, &mut config, lanes, typed.no_usual_rules)?;
    let (mut code, mut answers) = (0, Vec::new());
    for lane in &made {
        let drawn = Arc::new(Progress::default());
        let report = app.run(async {
            let pass = app.pass(lane, Arc::clone(&drawn)).await?;
            progress::during(app.style, &lane.name, drawn, pass.sync(&Wish::default())).await
        })?;
        let all_here = !report.needs_a_person() && !report.stopped;
        if app.common.json {
            answers.push(json!({"lane": lane_json(lane), "pass": sync::report_json(&lane.name, &report), "covers": all_here}));
        } else {
            sync::say(app, &lane.name, &report);
        }
        if all_here {
            app.run(cover::covered_anew(
                &mut config,
                &app.ledger,
                &lane.name,
                wanted.direction,
            ))?;
            if !app.common.json {
                line(format!(
                    "  {} is on this computer, and covered from now on",
                    lane.near
                ));
            }
        } else {
            code = exit::NEEDS_A_PERSON;
            if !app.common.json {
                line(format!(
                    "  Not all of it is on this computer, so the lane {0} goes on bringing it down. Settle what is open and sync; then: katabatic lane change {0} --direction up",
                    lane.name
                ));
            }
        }
    }
    if app.common.json {
        json::print(&json!({"taken_over": answers}));
    }
    Ok(ExitCode::from(code))
}

fn off(app: &App, words: &[String]) -> Result<ExitCode, Error> {
    let folders = app.run(cover::look(&app.home, &app.config, &app.ledger, &app.stop))?;
    let mut config = app.config.clone();
    let mut ended = Vec::new();
    for word in words {
        let covered = cover::of_word(&folders, word)?;
        let Stand::Covered { lane, .. } = &covered.stand else {
            return Err(Error::usage(
                format!("ending the cover of {word}"),
                "nothing covers it",
                "See what is covered: katabatic cover",
            ));
        };
        let lane = config.lane(lane)?.clone();
        app.run(lanes::remove(
            &app.home,
            &mut config,
            &app.ledger,
            &lane.name,
        ))?;
        if !app.common.json {
            line(format!(
                "{word} is not covered any more. Every file stays, in {} and in {}.",
                lane.near,
                lane.far_place()
            ));
        }
        ended.push(lane.name);
    }
    if app.common.json {
        json::print(&json!({"ended": ended}));
    }
    Ok(ExitCode::SUCCESS)
}

fn show(app: &App, folders: &[Covered], typed: &CoverArgs) -> Result<ExitCode, Error> {
    let account = match &typed.account {
        Some(name) => Some(app.config.account(name)?),
        None => app.config.accounts.first(),
    };
    let free = match account {
        Some(account) => app
            .run(cover::free_there(
                &app.home,
                &app.config,
                &account.name,
                &app.stop,
            ))
            .ok()
            .flatten()
            .map(|free| (account.name.clone(), free)),
        None => None,
    };
    if app.common.json {
        json::print(&json!({
            "folders": folders.iter().map(folder_json).collect::<Vec<_>>(),
            "free": free.map(|(account, free)| json!({"account": account, "bytes": free})),
        }));
        return Ok(ExitCode::SUCCESS);
    }
    let mut rows = Rows::new(app.style, &["folder", "files", "size", "covered", "where"]);
    let (there, missing): (Vec<&Covered>, Vec<&Covered>) = folders
        .iter()
        .partition(|covered| covered.stand != Stand::Missing);
    for covered in there {
        let (files, size) = covered.sizes.as_ref().map_or_else(
            || (String::new(), String::new()),
            |sizes| (words::grouped(sizes.files), words::bytes(sizes.bytes)),
        );
        let here = covered.folder.here.as_ref();
        rows.add(vec![
            covered.folder.word.to_owned(),
            files,
            size,
            stand_words(covered),
            here.map_or_else(String::new, |here| at_home(here)),
        ]);
    }
    rows.numbers(1);
    rows.numbers(2);
    rows.whole(0);
    rows.paths(4);
    rows.print(0);
    if !missing.is_empty() {
        let words: Vec<&str> = missing.iter().map(|covered| covered.folder.word).collect();
        sentence(
            app.style,
            0,
            &format!("Not on this computer: {}", words.join(", ")),
        );
    }
    for covered in folders.iter().filter(|covered| !covered.largest.is_empty()) {
        let largest: Vec<String> = covered
            .largest
            .iter()
            .map(|(name, bytes)| format!("{} {}", shown_text(name), words::bytes(*bytes)))
            .collect();
        line(format!(
            "Largest in {}: {}",
            covered.folder.word,
            largest.join(", ")
        ));
    }
    if let Some((account, free)) = &free {
        line(format!("Free in @{account}: {}", words::bytes(*free)));
    }
    if folders.iter().any(|covered| covered.stand == Stand::Free) {
        line("To cover some: katabatic cover documents pictures --account NAME");
    }
    Ok(ExitCode::SUCCESS)
}

fn stand_words(covered: &Covered) -> String {
    match &covered.stand {
        Stand::None => "this person has none".into(),
        Stand::Missing => "the folder is not there".into(),
        Stand::Link(to) => format!("no: a link to {}", to.display()),
        Stand::InLane(lane) => format!("no, but the lane {lane} has it or a part of it"),
        Stand::Free => "no".into(),
        Stand::Covered {
            lane,
            since,
            agreed: (files, _),
        } => {
            let all = covered.sizes.as_ref().map_or(0, |sizes| sizes.files);
            match since {
                None => format!("by lane {lane}, nothing carried yet"),
                Some(since) => format!(
                    "by lane {lane} since {}: {} of {}",
                    time::time(*since),
                    words::grouped((*files).min(all)),
                    words::grouped(all)
                ),
            }
        }
    }
}

fn folder_json(covered: &Covered) -> Value {
    let (stand, lane) = match &covered.stand {
        Stand::None => ("none", None),
        Stand::Missing => ("missing", None),
        Stand::Link(_) => ("link", None),
        Stand::InLane(lane) => ("in lane", Some(lane)),
        Stand::Free => ("free", None),
        Stand::Covered { lane, .. } => ("covered", Some(lane)),
    };
    let agreed = match &covered.stand {
        Stand::Covered { since, agreed, .. } => {
            json!({"since": json::time(*since), "files": agreed.0, "bytes": agreed.1})
        }
        _ => Value::Null,
    };
    json!({
        "folder": covered.folder.word,
        "path": covered.folder.here,
        "state": stand,
        "lane": lane,
        "agreed": agreed,
        "files": covered.sizes.as_ref().map(|sizes| sizes.files),
        "bytes": covered.sizes.as_ref().map(|sizes| sizes.bytes),
        "largest": covered.largest.iter().map(|(name, bytes)| json!({"name": name, "bytes": bytes})).collect::<Vec<_>>(),
    })
}

fn lane_json(lane: &LaneConfig) -> Value {
    json!({
        "lane": lane.name,
        "near": lane.near.to_string(),
        "far": lane.far_place(),
        "direction": lane.terms.direction.word(),
    })
}
