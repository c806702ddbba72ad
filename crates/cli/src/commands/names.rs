//! `names`: names that the other side does not take, names that would do, and their renaming here after a yes.

use clap::Args;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::fitting_name::NameTrouble;
use katabatic_core::{RelPath, words};
use katabatic_engine::Error;
use katabatic_engine::config::LaneConfig;
use katabatic_engine::names::{OddName, OddNames, Renamed, look, rename};
use katabatic_engine::pass::Progress;
use serde_json::{Value, json};

use super::account::confirmed;
use super::status::far_path;
use crate::app::App;
use crate::draw::table::Rows;
use crate::draw::{json, line, sentence, shown_text};
use crate::exit;

/// `names`.
#[derive(Args, Debug)]
pub struct NamesArgs {
    /// The lane; all lanes where none is named
    #[arg(value_name = "LANE")]
    pub lane: Option<String>,
    /// Rename them here, without asking
    #[arg(long, conflicts_with = "preview")]
    pub yes: bool,
    /// Only show them
    #[arg(long)]
    pub preview: bool,
}

/// As many are named.
const NAMED: usize = 200;

pub fn names(app: &App, typed: &NamesArgs) -> Result<ExitCode, Error> {
    let lanes: Vec<LaneConfig> = match &typed.lane {
        Some(name) => vec![app.config.lane(name)?.clone()],
        // What has no folder here has no names here.
        None => (app.config.lanes.iter())
            .filter(|lane| lane.near.local().is_some())
            .cloned()
            .collect(),
    };
    let (mut code, mut answers) = (0, Vec::new());
    for lane in &lanes {
        let (of_lane, answer) = names_of(app, typed, lane)?;
        code = exit::worse(code, of_lane);
        answers.push(answer);
    }
    if app.common.json {
        json::print(&json!({"lanes": answers}));
    }
    Ok(ExitCode::from(code))
}

fn names_of(app: &App, typed: &NamesArgs, lane: &LaneConfig) -> Result<(u8, Value), Error> {
    let looks = app.run(app.look(lane, Arc::new(Progress::default())))?;
    let found = app.run(look(&looks))?;
    drop(looks);
    if !app.common.json {
        say_found(app, lane, &found);
    }
    if found.here.is_empty() {
        let code = match found.there.is_empty() {
            true => 0,
            false => exit::NEEDS_A_PERSON,
        };
        return Ok((code, answer(lane, &found, None)));
    }
    let asks = super::account::asks(app);
    if typed.preview || !(typed.yes || asks) {
        if !app.common.json {
            line(match typed.preview {
                true => "Nothing was changed: --preview",
                false => "Nothing was changed. To rename them: the same with --yes",
            });
        }
        return Ok((exit::NEEDS_A_PERSON, answer(lane, &found, None)));
    }
    if !confirmed(app, typed.yes, "Rename them on this computer?")? {
        if !app.common.json {
            line("Nothing was changed.");
        }
        return Ok((exit::NEEDS_A_PERSON, answer(lane, &found, None)));
    }
    let pass = app.run(app.pass(lane, Arc::new(Progress::default())))?;
    let renamed = app.run(rename(&pass, &found.here))?;
    if !app.common.json {
        say_renamed(lane, &renamed);
    }
    let open = !renamed.failed.is_empty() || !found.there.is_empty();
    let code = if open { exit::NEEDS_A_PERSON } else { 0 };
    Ok((code, answer(lane, &found, Some(&renamed))))
}

fn trouble_words(trouble: &NameTrouble) -> String {
    match trouble {
        NameTrouble::NotUtf8 => {
            "its bytes are no valid UTF-8; read as Latin-1 it would be this".to_owned()
        }
        NameTrouble::Refused(c) => format!("the other side takes no name with {c:?}"),
        NameTrouble::TooLong(longest) => {
            format!("the other side takes names of at most {longest} bytes")
        }
        NameTrouble::Double(other) => {
            format!(
                "on the other side it is the same name as {}",
                shown_text(other)
            )
        }
        NameTrouble::Stuck(why) => why.clone(),
    }
}

fn trouble_name(trouble: &NameTrouble) -> &'static str {
    match trouble {
        NameTrouble::NotUtf8 => "not-utf8",
        NameTrouble::Refused(_) => "character",
        NameTrouble::TooLong(_) => "length",
        NameTrouble::Double(_) => "double",
        NameTrouble::Stuck(_) => "stuck",
    }
}

fn say_found(app: &App, lane: &LaneConfig, found: &OddNames) {
    if found.here.is_empty() && found.there.is_empty() {
        line(format!(
            "Lane {}: every name here is one that {} takes, as far as is known",
            lane.name,
            lane.far_place()
        ));
        return;
    }
    if !found.here.is_empty() {
        line(format!(
            "Lane {}: {} on this computer {} not taken at {}:",
            lane.name,
            words::count(found.here.len() as u64, "name", "names"),
            if found.here.len() == 1 { "is" } else { "are" },
            lane.far_place()
        ));
        let mut rows = Rows::new(app.style, &["name now", "would do", "why"]);
        for one in found.here.iter().take(NAMED) {
            let slash = if one.is_folder { "/" } else { "" };
            rows.add(vec![
                format!("{}{slash}", shown_text(&one.shown())),
                format!("{}{slash}", shown_text(&one.fitting)),
                trouble_words(&one.trouble),
            ]);
        }
        rows.paths(0);
        rows.paths(1);
        rows.print(2);
        if found.here.len() > NAMED {
            let more = (found.here.len() - NAMED) as u64;
            line(format!("  and {} more", words::grouped(more)));
        }
        sentence(
            app.style,
            2,
            "Who else works with these files finds them under the new names; links to the old ones lead nowhere.",
        );
    }
    if !found.there.is_empty() {
        line(format!(
            "Lane {}: {} at {} cannot come to this computer; to rename:",
            lane.name,
            words::count(found.there.len() as u64, "name", "names"),
            lane.far_place()
        ));
        for (path, why, fitting) in found.there.iter().take(NAMED) {
            sentence(app.style, 2, &format!("{path}: {why}"));
            line(format!("    {}", move_there(lane, path, fitting)));
        }
    }
}

/// The command that gives something on the far side another name.
fn move_there(lane: &LaneConfig, path: &RelPath, fitting: &str) -> String {
    let parent = path.parent().unwrap_or_else(RelPath::root);
    let to = parent
        .join(fitting)
        .map_or_else(|_| fitting.to_owned(), |to| far_path(lane, &to));
    format!(
        "katabatic move {} {}",
        words::typed(&far_path(lane, path)),
        words::typed(&to)
    )
}

fn say_renamed(lane: &LaneConfig, renamed: &Renamed) {
    line(format!(
        "Renamed {} (run {}). The next pass carries them: katabatic sync {}",
        words::count(renamed.done, "name", "names"),
        renamed.run,
        lane.name
    ));
    for (path, why) in &renamed.failed {
        line(format!(
            "  not renamed: {}: {}",
            shown_text(path),
            shown_text(why)
        ));
    }
}

fn answer(lane: &LaneConfig, found: &OddNames, renamed: Option<&Renamed>) -> Value {
    let here = |one: &OddName| {
        json!({
            "path": one.shown(),
            "folder": one.is_folder,
            "would_do": one.fitting,
            "trouble": trouble_name(&one.trouble),
            "reason": trouble_words(&one.trouble),
        })
    };
    json!({
        "lane": lane.name,
        "here": found.here.iter().map(here).collect::<Vec<_>>(),
        "there": found.there.iter().map(|(path, why, fitting)| json!({
            "path": path.as_str(),
            "would_do": fitting,
            "reason": why,
            "next": move_there(lane, path, fitting),
        })).collect::<Vec<_>>(),
        "run": renamed.map(|renamed| renamed.run),
        "renamed": renamed.map(|renamed| renamed.done),
        "failed": renamed.map(|renamed| renamed.failed.iter().map(|(path, why)| json!({
            "path": path, "reason": why,
        })).collect::<Vec<_>>()),
    })
}
