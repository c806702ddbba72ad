//! The versions of a file: which there are, and a look at one of them. `why` tells them, and with `--show` shows one.

use std::fs::DirBuilder;
use std::io::{self, IsTerminal};
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::str::FromStr;
use std::sync::Arc;

use katabatic_core::dated_name::dated_name;
use katabatic_core::{Agreement, Entry, Kind, RelPath, Side, View, words};
use katabatic_engine::Error;
use katabatic_engine::config::LaneConfig;
use katabatic_engine::pass::Progress;
use katabatic_engine::versions::{KeptVersion, Reader, Version, Which, find};
use katabatic_engine::why::{Story, story};
use katabatic_sides::private_files::random_hex;
use serde_json::{Value, json};

use super::spares::spare_json;
use super::status::far_path;
use crate::app::App;
use crate::draw::look::{Drawn, Look};
use crate::draw::table::Rows;
use crate::draw::{json, line, say, shown, time};
use crate::output;

/// The version to show, as it is typed.
#[derive(Clone, Copy, Debug)]
pub struct WhichTyped(pub Which);

impl FromStr for WhichTyped {
    type Err = String;

    fn from_str(text: &str) -> Result<WhichTyped, String> {
        let side = [Side::Near, Side::Far]
            .into_iter()
            .find(|side| side.name() == text);
        match (side, text.parse()) {
            (Some(side), _) => Ok(WhichTyped(Which::On(side))),
            (None, Ok(number)) => Ok(WhichTyped(Which::Spare(number))),
            (None, Err(_)) => Err("name near, far, or the number of a version".to_owned()),
        }
    }
}

fn name(which: Which) -> String {
    match which {
        Which::On(side) => side.name().to_owned(),
        Which::Spare(number) => number.to_string(),
    }
}

/// The versions a story tells of, where there is more to choose from than what both sides hold alike.
pub fn say_versions(app: &App, lane: &LaneConfig, story: &Story) {
    let files = story.spares.iter().filter(|kept| !kept.spare.folder);
    let conflict =
        (story.standing.as_ref()).is_some_and(|own| own.state.agreement == Agreement::Conflict);
    if story.spares.is_empty() && !conflict {
        return;
    }
    Drawn::of(Look::Heading, "  Versions").print();
    let mut rows = Rows::new(app.style, &["", "size", "edited", "where, and since when"]);
    let mut which = Vec::new();
    for (side, view) in [(Side::Near, &story.near), (Side::Far, &story.far)] {
        if let View::Present(entry) = view {
            rows.add(now_row(lane, story, side, entry));
            if entry.kind == Kind::File && !entry.is_stub() {
                which.push(side.name().to_owned());
            }
        }
    }
    for kept in &story.spares {
        rows.add(kept_row(lane, story, kept));
    }
    which.extend(files.map(|kept| kept.spare.number.to_string()));
    rows.numbers(1);
    for whole in 0..3 {
        rows.whole(whole);
    }
    rows.print(4);
    if !which.is_empty() {
        let path = words::typed(&lane.near.join(&story.path).to_string());
        line(format!(
            "    To look at one: katabatic why {path} --show {}",
            which.join("|")
        ));
    }
    if let Some(kept) = story.spares.first() {
        line(format!(
            "    To bring one back: katabatic spares restore {}",
            match story.spares.len() {
                1 => kept.spare.number.to_string(),
                _ => "NUMBER".to_owned(),
            }
        ));
    }
}

fn now_row(lane: &LaneConfig, story: &Story, side: Side, entry: &Entry) -> Vec<String> {
    let mut what = format!("{} now", lane.side_names().at(side));
    if side == Side::Far
        && let Some(seen) = story.within.far_seen
    {
        what = format!(
            "{}, as a pass saw it {}",
            lane.side_names().at(side),
            time::dated_exact(seen)
        );
    }
    if entry.is_stub() {
        what.push_str(", as a stub without content");
    }
    vec![
        side.name().to_owned(),
        match entry.kind == Kind::File {
            true => words::bytes(entry.size),
            false => String::new(),
        },
        entry.edited.map_or_else(String::new, time::dated_exact),
        what,
    ]
}

fn kept_row(lane: &LaneConfig, story: &Story, kept: &KeptVersion) -> Vec<String> {
    let spare = &kept.spare;
    let by = match (spare.run, &kept.by) {
        (Some(run), Some(command)) => format!(" by run {run} ({command})"),
        (Some(run), None) => format!(" by run {run}"),
        (None, _) => String::new(),
    };
    let of = match spare.path == story.path {
        true => String::new(),
        false => format!("the folder {} with it: ", shown(&spare.path)),
    };
    let agreed = story.base.as_ref().and_then(|base| base.content);
    let same = match spare.content.is_some() && spare.content == agreed {
        true => "; the same content as what both sides agreed on last",
        false => "",
    };
    vec![
        spare.number.to_string(),
        words::bytes(spare.size),
        spare.edited.map_or_else(String::new, time::dated_exact),
        format!(
            "{of}{} {}{by}; kept {}{same}",
            words::spare_cause_told(&spare.cause, lane.side_names()),
            time::dated_exact(spare.taken_at),
            spare
                .place
                .clone()
                .unwrap_or_else(|| lane.side_names().at(spare.side).to_owned()),
        ),
    ]
}

/// The same for programs.
pub fn versions_json(story: &Story) -> Vec<Value> {
    let now = [(Side::Near, &story.near), (Side::Far, &story.far)];
    let now = now.into_iter().filter_map(|(side, view)| match view {
        View::Present(entry) => Some(json!({
            "version": side.name(),
            "now": json::entry(Some(entry)),
        })),
        View::Absent | View::Unknown(_) => None,
    });
    let kept = story.spares.iter().map(|kept| {
        json!({
            "version": kept.spare.number.to_string(),
            "kept": spare_json(&kept.spare),
            "command": kept.by.as_ref().map(ToString::to_string),
        })
    });
    now.chain(kept).collect()
}

/// Shows one: a text as it is, and what is no text as a copy outside of all lanes.
pub fn show(
    app: &App,
    lane: &LaneConfig,
    path: &RelPath,
    which: Which,
    to: Option<&Path>,
) -> Result<ExitCode, Error> {
    let (version, text, saved) = app.run(async {
        // What lies here can be looked at while the other side is away.
        let pass = app.look(lane, Arc::new(Progress::default())).await?;
        let told = story(&pass, path, &time::time).await?;
        let version = find(&pass, path, which, &told.spares).await?;
        let reader = Reader {
            pass: &pass,
            home: &app.home,
            config: &app.config,
            stop: &app.stop,
        };
        let text = match to {
            Some(_) => None,
            None => reader.text(&version).await?,
        };
        let saved = match (&text, to) {
            (Some(_), _) => None,
            (None, Some(to)) => Some(to.to_owned()),
            (None, None) => Some(aside(path, which)?),
        };
        if let Some(saved) = &saved {
            reader.copy_to(&version, saved).await?;
        }
        Ok::<_, Error>((version, text, saved))
    })?;
    if app.common.json {
        json::print(&json!({
            "lane": lane.name,
            "path": path.as_str(),
            "version": name(which),
            "size": version.size,
            "edited": json::time(version.edited),
            "text": text,
            "saved_to": saved.as_ref().map(|saved| saved.display().to_string()),
        }));
        return Ok(ExitCode::SUCCESS);
    }
    match (text, saved) {
        (Some(text), _) => {
            // Only the content goes where the output goes, so that it can be kept or compared.
            say(heading(lane, path, which, &version));
            say_text(&text);
        }
        (None, Some(saved)) => {
            line(heading(lane, path, which, &version));
            let no_text = match to {
                Some(_) => "",
                None => " It is no text that could be shown.",
            };
            line(format!("{no_text} A copy lies here: {}", saved.display()).trim_start());
        }
        (None, None) => {}
    }
    Ok(ExitCode::SUCCESS)
}

/// A text: on a terminal nothing in it acts on that, in a pipe or a file it is what it is.
fn say_text(text: &str) {
    if !io::stdout().is_terminal() {
        return output::write(text.as_bytes());
    }
    for part in text.lines() {
        line(part.replace('\t', "    "));
    }
}

fn heading(lane: &LaneConfig, path: &RelPath, which: Which, version: &Version) -> String {
    let edited = (version.edited).map_or_else(String::new, |at| {
        format!(", edited {}", time::dated_exact(at))
    });
    let of = match which {
        Which::On(Side::Near) => lane.near.join(path).to_string(),
        Which::On(Side::Far) => far_path(lane, path),
        Which::Spare(number) => format!("{}, version {number}", shown(path)),
    };
    format!("{of}: {}{edited}", words::bytes(version.size))
}

/// A new path for a copy that is only looked at. Beside the file it would be a new file of the lane, and be carried.
fn aside(path: &RelPath, which: Which) -> Result<PathBuf, Error> {
    let made = random_hex(8)
        .map_err(|error| io::Error::other(error.why))
        .and_then(|chance| {
            let folder = std::env::temp_dir().join(format!("katabatic-{chance}"));
            // Never one that somebody else made before.
            DirBuilder::new().mode(0o700).create(&folder)?;
            Ok(folder)
        });
    let made = made.map_err(|why| {
        Error::failed(
            format!("making a folder in {}", std::env::temp_dir().display()),
            why,
            "Name a new file for the copy: --to FILE",
        )
    })?;
    let label = match which {
        Which::On(side) => side.name().to_owned(),
        Which::Spare(number) => format!("version {number}"),
    };
    Ok(made.join(dated_name(path.name(), &label, 1)))
}
