//! `recover`: brings back what the far side of a lane holds, shown first, never over something that is here.

use clap::Args;
use std::io::IsTerminal;
use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::{RelPath, words};
use katabatic_engine::config::LaneConfig;
use katabatic_engine::pass::Progress;
use katabatic_engine::recover::{self, Offer, Recovered, Target};
use katabatic_engine::{Class, Error};
use serde_json::json;

use super::account::confirmed;
use super::status::far_path;
use crate::about;
use crate::app::App;
use crate::draw::{json, line, shown, shown_text};
use crate::exit;

/// `recover`.
#[derive(Args, Debug)]
pub struct RecoverArgs {
    /// The lane
    pub lane: String,
    /// A file or a folder of it; everything where none is named
    #[arg(value_name = "PATH")]
    pub path: Option<String>,
    /// Bring it into this folder instead, which is made where it is not there
    #[arg(long, value_name = "DIR")]
    pub to: Option<PathBuf>,
    /// Do it without asking
    #[arg(long)]
    pub yes: bool,
}

/// As many paths are named.
const NAMED: usize = 12;

pub fn recover(app: &App, typed: &RecoverArgs) -> Result<ExitCode, Error> {
    let lane = app.config.lane(&typed.lane)?.clone();
    let scope = scope(app, &lane, typed.path.as_deref())?;
    let opened = app.run(app.pass(&lane, Arc::new(Progress::default())));
    let pass = opened.map_err(|error| match &typed.to {
        // Without the near folder there is nothing to compare with, and nothing to compare for.
        Some(dir) if error.class == Class::NotThere => Error {
            next: format!(
                "To bring what is there to {} without it: katabatic copy {} {}",
                dir.display(),
                words::typed(&match scope.is_root() {
                    true => lane.far_place(),
                    false => far_path(&lane, &scope),
                }),
                words::typed(&dir.display().to_string())
            ),
            ..error
        },
        _ => error,
    })?;
    let target = match &typed.to {
        None => Target::Place,
        Some(dir) => Target::folder(&pass, &app.home, dir)?,
    };
    let offer = app.run(recover::look(&pass, &scope, &target))?;
    let to = match &typed.to {
        None => lane.near.to_string(),
        Some(dir) => dir.display().to_string(),
    };
    if !app.common.json {
        say_offer(&lane, &to, &offer);
    }
    let open = !offer.otherwise.is_empty() || !offer.unknown.is_empty();
    let needs = |failed: bool| {
        ExitCode::from(if failed || open {
            exit::NEEDS_A_PERSON
        } else {
            0
        })
    };
    let asks = app.style.terminal && std::io::stdin().is_terminal();
    if offer.bring.is_empty() || !(typed.yes || asks) {
        if app.common.json {
            json::print(&answer(&lane, &to, &offer, None));
        } else if !offer.bring.is_empty() {
            line("Nothing was brought. To do it: the same with --yes");
        }
        return Ok(match offer.bring.is_empty() {
            true => needs(false),
            false => exit::only_shown(true),
        });
    }
    if !confirmed(app, typed.yes, "Bring them?")? {
        return Err(Error::new(
            Class::Failed,
            format!("bringing back what lane {} holds there", lane.name),
            "nothing is to be brought, as was said",
            "Nothing was changed.",
        ));
    }
    let done = app.run(recover::bring(&pass, &offer, &target))?;
    if app.common.json {
        json::print(&answer(&lane, &to, &offer, Some(&done)));
    } else {
        say_done(&lane, &to, &done);
    }
    Ok(needs(!done.failed.is_empty()))
}

/// A path as it is typed: in the lane as people name it, or from the lane's top.
fn scope(app: &App, lane: &LaneConfig, typed: Option<&str>) -> Result<RelPath, Error> {
    let Some(text) = typed else {
        return Ok(RelPath::root());
    };
    if let Ok(Some((found, path))) = about::find(&app.config, text)
        && found.name == lane.name
    {
        return Ok(path.unwrap_or_else(RelPath::root));
    }
    RelPath::parse(text.trim_end_matches('/')).map_err(|why| {
        Error::usage(
            text,
            why.to_string(),
            "Name it as it lies in the lane: Scores/Viola.txt",
        )
    })
}

fn say_offer(lane: &LaneConfig, to: &str, offer: &Offer) {
    let (files, bytes) = offer.files();
    line(format!("From {} to {}:", lane.far_place(), shown_text(to)));
    line(format!(
        "  missing, to be brought: {}, {}",
        words::count(files, "file", "files"),
        words::bytes(bytes)
    ));
    for (path, entry) in offer.bring.iter().take(NAMED) {
        let folder = if entry.kind == katabatic_core::Kind::Folder {
            "/"
        } else {
            ""
        };
        line(format!("    {}{folder}", shown(path)));
    }
    if offer.bring.len() > NAMED {
        line(format!(
            "    and {} more",
            words::grouped((offer.bring.len() - NAMED) as u64)
        ));
    }
    line(format!(
        "  in place already, of the same size: {}",
        words::count(offer.here, "file", "files")
    ));
    if !offer.otherwise.is_empty() {
        line(format!(
            "  in place otherwise, and left as they are: {}",
            words::count(offer.otherwise.len() as u64, "path", "paths")
        ));
        for path in offer.otherwise.iter().take(NAMED) {
            line(format!("    {}", shown(path)));
        }
    }
    if offer.left_out > 0 {
        line(format!(
            "  left out by the lane's rules or choice: {}; --to brings these, too",
            words::count(offer.left_out, "file", "files")
        ));
    }
    for (path, why) in &offer.unknown {
        line(format!("  not known: {}: {}", shown(path), shown_text(why)));
    }
}

fn say_done(lane: &LaneConfig, to: &str, done: &Recovered) {
    line(format!(
        "Brought {}, {}, to {} (run {}).",
        words::count(done.brought.0, "file", "files"),
        words::bytes(done.brought.1),
        shown_text(to),
        done.run
    ));
    for (path, why) in &done.failed {
        line(format!(
            "  not brought: {}: {}",
            shown(path),
            shown_text(why)
        ));
    }
    line(format!(
        "The lane {} is as it was; a version that stands otherwise: katabatic plan {}",
        lane.name, lane.name
    ));
}

fn answer(
    lane: &LaneConfig,
    to: &str,
    offer: &Offer,
    done: Option<&Recovered>,
) -> serde_json::Value {
    let (files, bytes) = offer.files();
    json!({
        "lane": lane.name,
        "to": to,
        "missing": {"files": files, "bytes": bytes},
        "here": offer.here,
        "left_out": offer.left_out,
        "otherwise": offer.otherwise.iter().map(RelPath::as_str).collect::<Vec<_>>(),
        "unknown": offer.unknown.iter().map(|(path, why)| json!({"path": path.as_str(), "reason": why})).collect::<Vec<_>>(),
        "run": done.map(|done| done.run),
        "brought": done.map(|done| json!({"files": done.brought.0, "bytes": done.brought.1})),
        "failed": done.map(|done| done.failed.iter().map(|(path, why)| json!({"path": path.as_str(), "reason": why})).collect::<Vec<_>>()),
    })
}
