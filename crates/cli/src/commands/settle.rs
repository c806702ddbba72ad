//! `settle`: does what a person decided about a conflict, and says where the other version is kept.

use clap::Args;
use clap::ValueEnum;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::{RelPath, Side, SideNames, words};
use katabatic_engine::Error;
use katabatic_engine::config::LaneConfig;
use katabatic_engine::pass::Progress;
use katabatic_engine::settle::{self, Keep, Settled};
use serde_json::{Value, json};

use super::status::entry_words;
use crate::about;
use crate::app::App;
use crate::draw::{error, json, line, sentence, shown, time};
use crate::exit;

/// What to keep.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum KeepTyped {
    /// The version on this computer
    Near,
    /// The version in the cloud
    Far,
    /// Both, the far one under a dated name
    Both,
    /// The one that was edited last, where that is known
    Newest,
}

/// `settle`.
#[derive(Args, Debug)]
pub struct SettleArgs {
    /// Files in conflict, or folders or lanes that hold some; what drifted, or whose removal waits for a yes
    #[arg(required_unless_present = "ask", value_name = "LANE|PATH")]
    pub paths: Vec<String>,
    /// Which version to keep; the other goes to the spares
    #[arg(long, value_enum, required_unless_present = "ask")]
    pub keep: Option<KeepTyped>,
    /// Show the conflicts one by one on the terminal, and ask about each
    #[arg(long, conflicts_with_all = ["keep", "only_try", "json"])]
    pub ask: bool,
    /// Only say what it would do
    #[arg(long = "preview", alias = "try")]
    pub only_try: bool,
}

/// What an answer means, and how it is said.
pub fn meant(keep: KeepTyped, sides: SideNames) -> (Keep, String) {
    let (near, far) = (sides.at(Side::Near), sides.at(Side::Far));
    match keep {
        KeepTyped::Near => (
            Keep::Side(Side::Near),
            format!("keep the version {near}, and carry it up"),
        ),
        KeepTyped::Far => (
            Keep::Side(Side::Far),
            format!("keep the version {far}, and carry it down"),
        ),
        KeepTyped::Both => (
            Keep::Both,
            format!("keep both: the one {far} under a dated name beside the one {near}"),
        ),
        KeepTyped::Newest => (
            Keep::Newest,
            "keep the version that was edited last".to_owned(),
        ),
    }
}

/// The lane and the path in it that a text is about.
pub fn place(app: &App, text: &str) -> Result<(LaneConfig, RelPath), Error> {
    match about::find(&app.config, text)? {
        Some((lane, path)) => Ok((lane, path.unwrap_or_else(RelPath::root))),
        None => about::path(&app.config, text),
    }
}

pub fn settle(app: &App, typed: &SettleArgs) -> Result<ExitCode, Error> {
    let Some(keep) = typed.keep else {
        return super::settle_asking::settle(app, typed);
    };
    let (mut code, mut answers) = (0, Vec::new());
    for text in &typed.paths {
        let (lane, path) = place(app, text)?;
        let (keep, will) = meant(keep, lane.side_names());
        let paths = app.run(async {
            let pass = app.pass(&lane, Arc::new(Progress::default())).await?;
            settle::meant(&pass, &path)
        })?;
        if paths.iter().any(RelPath::is_root) {
            line(format!(
                "No conflicts were found by the last pass in lane {}.",
                lane.name
            ));
            continue;
        }
        for path in paths {
            let done = match typed.only_try {
                true => try_one(app, &lane, &path, keep),
                false => one(app, &lane, &path, keep, &will),
            };
            match done {
                Ok((more, answer)) => {
                    code = exit::worse(code, more);
                    answers.push(answer);
                }
                // One that cannot be settled does not keep the others waiting.
                Err(failed) if typed.paths.len() > 1 || path.as_str() != text => {
                    code = exit::worse(code, exit::number(failed.class));
                    answers.push(json!({"lane": lane.name, "path": path.as_str(), "error": failed.to_string()}));
                    if !app.common.json {
                        error::error(&failed, false);
                    }
                }
                Err(failed) => return Err(failed),
            }
        }
    }
    if app.common.json {
        json::print(&json!({"settled": answers}));
    }
    Ok(ExitCode::from(code))
}

/// Settles one, and says what was done.
pub fn one(
    app: &App,
    lane: &LaneConfig,
    path: &RelPath,
    keep: Keep,
    will: &str,
) -> Result<(u8, Value), Error> {
    if !app.common.json && !app.common.quiet {
        line(format!("{} in lane {}: {will}", shown(path), lane.name));
    }
    let settled = app.run(async {
        let pass = app.pass(lane, Arc::new(Progress::default())).await?;
        settle::settle(&pass, path, keep, &time::time).await
    })?;
    if !app.common.json {
        say(app, &settled);
    }
    let code = match settled.report.needs_a_person() {
        true => exit::NEEDS_A_PERSON,
        false => 0,
    };
    Ok((code, settled_json(&lane.name, path.as_str(), &settled)))
}

/// Says which version would be kept, and which would yield.
fn try_one(app: &App, lane: &LaneConfig, path: &RelPath, keep: Keep) -> Result<(u8, Value), Error> {
    let conflict = app.run(async {
        let pass = app.pass(lane, Arc::new(Progress::default())).await?;
        let open = settle::open_conflicts(&pass)?;
        let row = open.into_iter().find(|row| row.path == *path);
        let Some(row) = row else {
            return Err(Error::usage(
                format!("trying to settle {path}"),
                "the last pass found no conflict in it",
                format!(
                    "See where it stands: katabatic why {}",
                    words::typed(&lane.near.join(path).to_string())
                ),
            ));
        };
        settle::show(&pass, &row).await
    })?;
    let kept = settle::would_keep(&conflict, keep, &time::time)?;
    let version = |side: Side| {
        let entry = match side {
            Side::Near => &conflict.near,
            Side::Far => &conflict.far,
        };
        let shows = entry
            .as_ref()
            .map_or_else(|| "nothing now".to_owned(), entry_words);
        format!("the version {} ({shows})", lane.side_names().at(side))
    };
    let would = match kept {
        Some(side) => format!(
            "would keep {}; {} would go to the spares",
            version(side),
            version(side.other())
        ),
        None => format!(
            "would keep both: {} under a dated name beside {}",
            version(Side::Far),
            version(Side::Near)
        ),
    };
    if !app.common.json {
        line(format!("{} in lane {}", shown(path), lane.name));
        sentence(app.style, 2, &would);
    }
    let answer = json!({
        "lane": lane.name,
        "path": path.as_str(),
        "would_keep": kept.map_or("both", Side::name),
        "near": json::entry(conflict.near.as_ref()),
        "far": json::entry(conflict.far.as_ref()),
    });
    Ok((0, answer))
}

fn say(app: &App, settled: &Settled) {
    for done in &settled.done {
        line(format!("  {done}"));
    }
    for spare in &settled.spares {
        line(format!(
            "  spare {}: the version {} ({}); to get it back: katabatic spares restore {}",
            spare.number,
            settled.report.sides.at(spare.side),
            words::bytes(spare.size),
            spare.number
        ));
    }
    for outcome in settled
        .report
        .outcomes
        .iter()
        .filter(|outcome| outcome.agreement().needs_a_person())
    {
        line(format!(
            "  {}  {}  {}",
            app.style.state(outcome.agreement()),
            shown(outcome.step.path()),
            outcome.why(&time::telling(settled.report.sides))
        ));
    }
    if !settled.report.needs_a_person() {
        line("  settled: both sides hold the same now");
    }
}

fn settled_json(lane: &str, path: &str, settled: &Settled) -> Value {
    let spares: Vec<Value> = settled
        .spares
        .iter()
        .map(|spare| json!({"number": spare.number, "side": spare.side.name(), "size": spare.size}))
        .collect();
    json!({
        "lane": lane,
        "path": path,
        "done": settled.done,
        "spares": spares,
        "settled": !settled.report.needs_a_person(),
    })
}
