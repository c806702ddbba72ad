//! `choose`: which folders of the far side come here, with sizes, and what a change frees or fetches.

use crate::draw::tree::shared_words;
use crate::typed_choice::choice;
use clap::Args;
use std::io::IsTerminal;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::{Choice, NewFolders, PerSide, RelPath, Share, Side, words};
use katabatic_engine::choose::{self, Effect, Looked, Weighed};
use katabatic_engine::config::LaneConfig;
use katabatic_engine::forecast::{self, Forecast};
use katabatic_engine::pass::Progress;
use katabatic_engine::{Class, Error};
use katabatic_sides::SharedFolder;
use serde_json::{Value, json};

use super::account::agreed;
use super::plan::{long_name_words, longest_json, takes_json, time_words};
use crate::app::App;
use crate::draw::table::Rows;
use crate::draw::{json, largest_first, line, shown, tree};
use crate::exit;
use crate::proof_words;
use crate::setup::folder_of;

/// `choose`.
#[derive(Args, Debug)]
pub struct ChooseArgs {
    /// The lane
    pub lane: String,
    /// Do not take this folder any more; its local copy goes once it is proven to be on the far side
    #[arg(long, value_name = "FOLDER")]
    pub skip: Vec<String>,
    /// Take this folder again
    #[arg(long, value_name = "FOLDER")]
    pub take: Vec<String>,
    /// Take this folder alone: the others go or stay there, and so do new ones. May be given several times
    #[arg(long, value_name = "FOLDER", conflicts_with_all = ["skip", "take", "new_folders"])]
    pub only: Vec<String>,
    /// What happens to new folders on the far side
    #[arg(long, value_parser = choice::<NewFolders>())]
    pub new_folders: Option<NewFolders>,
    /// How deep the tree is shown
    #[arg(long, default_value_t = 2, value_name = "N")]
    pub depth: usize,
    /// Only say what it would do
    #[arg(long)]
    pub preview: bool,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

pub fn choose(app: &App, typed: &ChooseArgs) -> Result<ExitCode, Error> {
    let lane = app.config.lane(&typed.lane)?.clone();
    let pass = app.run(app.pass(&lane, Arc::new(Progress::default())))?;
    let looked = app.run(choose::look(&pass))?;
    check_folders(&lane, typed, &looked)?;
    let mut after = wanted(&lane, typed, &looked)?;
    let free = app.run(choose::free_here(&pass));
    let before = &lane.selection.choice;
    let asks = after == *before && app.style.terminal && std::io::stdin().is_terminal();
    if asks && let Some(chosen) = tree::choose(app.style, &looked, before, typed.depth, free)? {
        after = chosen;
    }
    if after == *before {
        show(app, &lane, &looked, typed.depth, free);
        return Ok(ExitCode::SUCCESS);
    }
    let effect = app.run(choose::effect(&pass, &looked, &after))?;
    let bytes = PerSide {
        near: effect.fetches.1,
        far: 0,
    };
    let coming = looked.coming(&after).map(|(path, _)| path);
    let forecast = forecast::of_bytes(&app.ledger, &app.config, &lane, bytes, coming)?;
    if !app.common.json {
        say_effect(app, &lane, &effect, &forecast, free);
    }
    if !effect.proofs.unproven.is_empty() {
        return Err(choose::refused(&pass, &effect.proofs));
    }
    app.run(choose::check_room(&pass, &effect))?;
    if typed.preview {
        if app.common.json {
            json::print(
                &json!({"lane": lane.name, "effect": effect_json(&effect, &forecast, free)}),
            );
        } else {
            line("Nothing was changed: --preview");
        }
        return Ok(ExitCode::SUCCESS);
    }
    let what = format!("choosing folders of the lane {}", lane.name);
    agreed(app, typed.yes, &what, "Change the choice so?")?;
    let mut config = app.config.clone();
    let dropped = app.run(choose::drop_copies(&pass, &mut config, &after))?;
    if app.common.json {
        json::print(&json!({
            "lane": lane.name,
            "effect": effect_json(&effect, &forecast, free),
            "dropped": {"files": dropped.files.0, "bytes": dropped.files.1, "run": dropped.run},
            "believed": dropped.believed,
            "kept_open": dropped.held_open,
            "stayed": dropped.stayed.iter().map(|file| json!({"path": file.path.as_str(), "why": file.why})).collect::<Vec<_>>(),
        }));
    } else {
        say_done(app, &lane, &effect, &dropped);
    }
    Ok(ExitCode::from(if dropped.stayed.is_empty() {
        0
    } else {
        exit::NEEDS_A_PERSON
    }))
}

fn wanted(lane: &LaneConfig, typed: &ChooseArgs, looked: &Looked) -> Result<Choice, Error> {
    let mut choice = lane.selection.choice.clone();
    if !typed.only.is_empty() {
        let only = typed.only.iter().map(|folder| folder_of(folder));
        let only: Vec<RelPath> = only.collect::<Result<_, _>>()?;
        choice.take_only(&only);
        // What is here already would stay in the lane, as nothing was said of it.
        for folder in looked.weighed(&choice, 1) {
            let is_meant = only.iter().any(|only| only.is_within(&folder.path));
            if !folder.path.is_root() && !is_meant {
                choice.say(&folder.path, false);
            }
        }
    }
    if let Some(new) = typed.new_folders {
        choice.new_folders = new;
    }
    for (folders, taken) in [(&typed.skip, false), (&typed.take, true)] {
        for folder in folders {
            choice.say(&folder_of(folder)?, taken);
        }
    }
    Ok(choice)
}

/// A misspelt folder must not look as if it had been left out.
fn check_folders(lane: &LaneConfig, typed: &ChooseArgs, looked: &Looked) -> Result<(), Error> {
    for folder in typed.skip.iter().chain(&typed.take).chain(&typed.only) {
        let path = folder_of(folder)?;
        if !looked.has_folder(&path) {
            return Err(Error::new(
                Class::Usage,
                format!("the folder {path} of the lane {}", lane.name),
                "there is no such folder on either side",
                format!(
                    "{}See the folders: katabatic choose {}",
                    looked
                        .meant_by(&path)
                        .map_or_else(String::new, |meant| format!("Did you mean {meant}? ")),
                    lane.name
                ),
            ));
        }
    }
    Ok(())
}

fn show(app: &App, lane: &LaneConfig, looked: &Looked, depth: usize, free: Option<u64>) {
    let choice = &lane.selection.choice;
    let weighed = looked.weighed(choice, depth);
    if app.common.json {
        let folder = |one: &Weighed| json!({"path": one.path.as_str(), "files": one.files, "bytes": one.bytes, "taken": one.share.word(), "shared_by": one.shared.as_ref().map(|shared| &shared.owner), "may_write": one.shared.as_ref().and_then(|shared| shared.may_write)});
        json::print(&json!({
            "lane": lane.name,
            "folders": weighed.iter().map(folder).collect::<Vec<_>>(),
            "new_folders": choice.new_folders.word(),
            "free": free,
        }));
        return;
    }
    line(format!(
        "Folders of {} that the lane {} takes",
        lane.far_place(),
        lane.name
    ));
    let any_shared = weighed.iter().any(|one| one.shared.is_some());
    let headings = ["folder", "taken", "files", "size", "shared by"];
    let columns = if any_shared { 5 } else { 4 };
    let mut rows = Rows::new(app.style, &headings[..columns]);
    let mut add =
        |name: &str, share: Option<Share>, (files, bytes), shared: Option<&SharedFolder>| {
            let mut cells = row(app, name, share, files, bytes);
            if any_shared {
                cells.push(shared.map_or_else(String::new, shared_words));
            }
            rows.add(cells);
        };
    add(
        "(beside the folders)",
        Some(Share::Whole),
        looked.at_root(),
        None,
    );
    for one in largest_first(&weighed) {
        let name = format!(
            "{}{}/",
            "  ".repeat(one.path.depth() - 1),
            shown_name(&one.path)
        );
        let sums = (one.files, one.bytes);
        add(&name, Some(one.share), sums, one.shared.as_ref());
    }
    if let Some(all) = weighed.first() {
        add("all together", None, (all.files, all.bytes), None);
    }
    rows.numbers(2);
    rows.numbers(3);
    rows.whole(0);
    rows.print(0);
    if let Some(free) = free {
        line(format!("Free on this disk: {}", words::bytes(free)));
    }
    let far = lane.side_names().at(Side::Far);
    line(match choice.new_folders {
        NewFolders::Take => format!("New folders {far} come by themselves."),
        NewFolders::Skip => format!("New folders {far} stay there until they are taken."),
    });
    line(format!(
        "To change it: katabatic choose {0} --skip FOLDER, katabatic choose {0} --take FOLDER",
        lane.name
    ));
}

fn row(app: &App, name: &str, share: Option<Share>, files: u64, bytes: u64) -> Vec<String> {
    vec![
        name.to_owned(),
        share.map_or_else(String::new, |share| app.style.share(share)),
        words::grouped(files),
        words::bytes(bytes),
    ]
}

fn shown_name(path: &RelPath) -> String {
    crate::draw::shown_text(path.name())
}

fn say_effect(
    app: &App,
    lane: &LaneConfig,
    effect: &Effect,
    forecast: &Forecast,
    free: Option<u64>,
) {
    let files = |count: u64| words::count(count, "file", "files");
    line(format!("The new choice of the lane {} would:", lane.name));
    if effect.fetches.0 > 0 {
        line(format!(
            "  fetch {}, {}, at the next sync",
            files(effect.fetches.0),
            words::bytes(effect.fetches.1)
        ));
        for told in time_words(forecast) {
            line(format!("  take {told}"));
        }
        if let Some(told) = long_name_words(forecast) {
            line(format!("  {told}"));
        }
    }
    if effect.frees.0 > 0 {
        line(format!(
            "  drop the local copies of {} and free {}",
            files(effect.frees.0),
            words::bytes(effect.frees.1)
        ));
        line(format!(
            "  remove nothing from {}: it keeps everything, and other computers keep theirs",
            lane.far_place()
        ));
    }
    if effect.fetches.0 + effect.frees.0 == 0 {
        line("  neither fetch nor drop anything");
    }
    for told in proof_words::outlook(&effect.proofs.outlook) {
        line(format!("  {told}"));
    }
    for path in &effect.stays {
        line(format!(
            "  {} stays, and the folders around it: no lane carries it, or a rule leaves it out",
            shown(path)
        ));
    }
    if let (Some(free), false) = (free, app.common.quiet) {
        line(format!("Free on this disk now: {}", words::bytes(free)));
    }
}

fn say_done(app: &App, lane: &LaneConfig, effect: &Effect, dropped: &choose::Dropped) {
    if dropped.files.0 > 0 {
        line(format!(
            "Dropped the local copies of {}, {}. {} keeps them all.",
            words::count(dropped.files.0, "file", "files"),
            words::bytes(dropped.files.1),
            lane.far_place()
        ));
    }
    if dropped.believed > 0 {
        line(proof_words::believed(dropped.believed));
    }
    if dropped.held_open > 0 {
        line(proof_words::held_open(dropped.held_open));
    }
    for file in &dropped.stayed {
        line(format!("  {} stays: {}", shown(&file.path), file.why));
    }
    if effect.fetches.0 > 0 {
        line(format!(
            "Chosen. To fetch what came in: katabatic sync {}",
            lane.name
        ));
    } else if !app.common.quiet {
        line(format!(
            "Chosen. To take a folder again: katabatic choose {} --take FOLDER",
            lane.name
        ));
    }
}

fn effect_json(effect: &Effect, forecast: &Forecast, free: Option<u64>) -> Value {
    json!({
        "fetches": {"files": effect.fetches.0, "bytes": effect.fetches.1},
        "frees": {"files": effect.frees.0, "bytes": effect.frees.1},
        "proof": proof_words::outlook_json(&effect.proofs.outlook),
        "stays": effect.stays.iter().map(RelPath::as_str).collect::<Vec<_>>(),
        "free": free,
        "forecast": {
            "down": takes_json(forecast, Side::Near),
            "longest_name": longest_json(forecast),
        },
    })
}
