//! `why`: the whole story of one path, there or not.

use clap::Args;
use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::{
    Agreement, Base, Decision, Kind, LeftOutBy, Lies, RelPath, Side, SideNames, Step, View, words,
};
use katabatic_engine::Error;
use katabatic_engine::config::LaneConfig;
use katabatic_engine::pass::Progress;
use katabatic_engine::why::{Story, story};
use katabatic_ledger::runs::{Run, RunItem};
use serde_json::{Value, json};

use super::spares::spare_json;
use super::status::{self, entry_words};
use super::versions::{self, WhichTyped, versions_json};
use crate::about::{find, nearest};
use crate::app::App;
use crate::draw::run_words::result_words;
use crate::draw::{field, json, line, shown, shown_text, time};
use crate::exit;

/// `why`.
#[derive(Args, Debug)]
pub struct WhyArgs {
    /// A file or a folder, here or in an account, whether it is there or not
    #[arg(value_name = "PATH")]
    pub path: String,
    /// Show one of its versions: near, far, or the number of one in the spares
    #[arg(long, value_name = "near|far|NUMBER")]
    pub show: Option<WhichTyped>,
    /// Copy that version to this new file, whatever is in it
    #[arg(long, value_name = "FILE", requires = "show")]
    pub to: Option<PathBuf>,
}

pub fn why(app: &App, typed: &WhyArgs) -> Result<ExitCode, Error> {
    let (lane, path) = match find(&app.config, &typed.path)? {
        Some((lane, Some(path))) => (lane, path),
        Some((lane, None)) => {
            return Err(Error::usage(
                &typed.path,
                format!("that is the whole lane {}", lane.name),
                format!("See how it stands: katabatic status {}", lane.name),
            ));
        }
        None => return no_lane(app, &typed.path),
    };
    if let Some(WhichTyped(which)) = typed.show {
        return versions::show(app, &lane, &path, which, typed.to.as_deref());
    }
    let story = app.run(async {
        let pass = app.look(&lane, Arc::new(Progress::default())).await?;
        story(&pass, &path, &time::time).await
    })?;
    if app.common.json {
        json::print(&story_json(app, &lane, &story));
    } else {
        say(app, &lane, &story);
    }
    let needs = story.left_out.is_none()
        && story
            .standing
            .as_ref()
            .is_some_and(|own| own.state.agreement.needs_a_person());
    Ok(ExitCode::from(if needs { exit::NEEDS_A_PERSON } else { 0 }))
}

/// Nothing that is configured covers it.
fn no_lane(app: &App, text: &str) -> Result<ExitCode, Error> {
    let nearest = nearest(&app.config, text)?;
    if app.common.json {
        json::print(&json!({
            "path": text,
            "lane": Value::Null,
            "nearest_lane": nearest.map(|lane| &lane.name),
        }));
        return Ok(ExitCode::SUCCESS);
    }
    line(format!("{}: no lane covers it", shown_text(text)));
    field(
        app.style,
        "so",
        "nothing of it is ever carried, in either direction",
    );
    match nearest {
        Some(lane) => field(
            app.style,
            "nearest",
            &format!(
                "lane {}, which ties {}",
                lane.name,
                status::places(app, lane)
            ),
        ),
        None => field(
            app.style,
            "nearest",
            "none; see what the lanes tie: katabatic lane list",
        ),
    }
    line("  Next: katabatic lane add NAME --near DIR --far @ACCOUNT/FOLDER");
    Ok(ExitCode::SUCCESS)
}

fn say(app: &App, lane: &LaneConfig, story: &Story) {
    let sides = lane.side_names();
    line(format!("{} in lane {}", shown(&story.path), lane.name));
    line(format!("  {:<12}{}", "state", state_words(app, story)));
    if let Some(reason) = reason_words(lane, story) {
        field(app.style, "why", &reason);
    }
    if let Some(content) = content_words(lane, story) {
        field(app.style, "content", &content);
    }
    if let Some((at, by)) = &story.left_out {
        field(app.style, "set in", &set_in_words(app, lane, at, by));
    }
    field(
        app.style,
        sides.label(Side::Near),
        &format!(
            "{} (looked at {})",
            view_words(&story.near),
            status::here_words(&story.within)
        ),
    );
    let there = status::there_words(&story.within);
    let looked = story.within.far_seen.is_some() || story.within.cut_off;
    let far = match (looked, story.far_is_noted) {
        (true, true) => format!("{} ({there})", view_words(&story.far)),
        (true, false) => format!(
            "not noted, since passes leave it out; to look: katabatic list {}",
            words::typed(&far_folder(lane, &story.path))
        ),
        (false, _) => there,
    };
    field(app.style, sides.label(Side::Far), &far);
    if let Some(not_reached) = status::not_reached_words(&story.within) {
        field(app.style, "", &not_reached);
    }
    field(app.style, "agreed", &agreed_words(story, sides));
    field(
        app.style,
        "places",
        &format!(
            "{} {} {}",
            lane.near.join(&story.path),
            app.style.two_way(),
            status::far_path(lane, &story.path)
        ),
    );
    field(app.style, "next pass", &next_pass_words(story, sides));
    for (number, (run, item)) in story.history.iter().enumerate() {
        field(
            app.style,
            if number == 0 { "happened" } else { "" },
            &history_words(story, run, item),
        );
    }
    if story.history.is_empty() {
        field(
            app.style,
            "happened",
            "no pass that is remembered did anything to it",
        );
    }
    versions::say_versions(app, lane, story);
    if let Some(next) = next_step(lane, story) {
        line(format!("  Next: {next}"));
    }
}

/// The folder on the far side that a path lies in.
fn far_folder(lane: &LaneConfig, path: &RelPath) -> String {
    let folder = path.parent().unwrap_or_else(RelPath::root);
    lane.far.join(&folder).to_string()
}

fn state_words(app: &App, story: &Story) -> String {
    if story.left_out.is_some() && !stands_in_the_way(story) {
        return app.style.state(Agreement::LeftOut);
    }
    match &story.standing {
        Some(own) => {
            let lies = match own.state.lies {
                Lies::Here => String::new(),
                lies => format!(", {}", app.style.lies(lies)),
            };
            format!("{}{lies}", app.style.state(own.state.agreement))
        }
        None => "nothing of that name is on either side".to_owned(),
    }
}

/// Where the content lies and what follows from it, where it does not simply lie here.
fn content_words(lane: &LaneConfig, story: &Story) -> Option<String> {
    let own = story.standing.as_ref()?;
    let (near, far) = (
        lane.side_names().at(Side::Near),
        lane.side_names().at(Side::Far),
    );
    match own.state.lies {
        Lies::Stub if story.left_out.is_some() => Some(format!(
            "only {far}: {near} is a stub, which takes no room. While it is left out, nothing brings its content, and removing it removes nothing {far}"
        )),
        Lies::Stub => Some(format!(
            "only {far}: {near} is a stub, which takes no room. Removing it removes the file everywhere. What opens it waits for the content where an opener runs, and is told \"permission denied\" elsewhere"
        )),
        Lies::Held => lane
            .contents
            .held_by(&story.path)
            .map(|held| format!("stays {near} for good, since {held} is held")),
        Lies::Here | Lies::There => None,
    }
}

/// Whether what the choice leaves out stands here, so that somebody has to decide.
fn stands_in_the_way(story: &Story) -> bool {
    matches!(story.left_out, Some((_, LeftOutBy::StandsHere(_))))
}

fn reason_words(lane: &LaneConfig, story: &Story) -> Option<String> {
    if let Some((at, by)) = &story.left_out {
        let around = match *at == story.path {
            true => String::new(),
            false => format!(", at the folder {}", shown(at)),
        };
        return Some(format!("{}{around}", words::left_out_by(by)));
    }
    let own = story.standing.as_ref()?;
    match (own.reason.is_empty(), own.state.agreement) {
        (false, _) => Some(own.reason.clone()),
        (true, Agreement::Settled) if is_kept(&own.step) => {
            Some(words::reason(&own.step, &time::telling(lane.side_names())))
        }
        (true, Agreement::Settled) => {
            Some("both sides hold what was agreed on; nothing has changed since".to_owned())
        }
        _ => None,
    }
}

fn set_in_words(app: &App, lane: &LaneConfig, at: &RelPath, by: &LeftOutBy) -> String {
    let file = app.home.config_file();
    let key = match by {
        LeftOutBy::Rule(rule) => {
            return format!(
                "leave_out of lane {}, {}; to let it in: katabatic lane change {} --let-in {}",
                lane.name,
                file.display(),
                lane.name,
                words::typed(rule)
            );
        }
        LeftOutBy::NewFolder(_) => "new_folders",
        LeftOutBy::Skipped(_) | LeftOutBy::StandsHere(_) => "skip",
    };
    format!(
        "{key} of lane {}, {}; to take it: katabatic choose {} --take {}",
        lane.name,
        file.display(),
        lane.name,
        words::typed(at.as_str())
    )
}

fn view_words(view: &View) -> String {
    match view {
        View::Absent => "nothing of that name".to_owned(),
        View::Unknown(why) => format!("unknown: {why}"),
        View::Present(entry) => entry_words(entry),
    }
}

fn agreed_words(story: &Story, sides: SideNames) -> String {
    match &story.base {
        None if !(story.history.is_empty() && story.spares.is_empty()) && story.is_nowhere() => {
            "nothing any more: what was agreed on went with it".to_owned()
        }
        None => "nothing: the two sides do not hold the same".to_owned(),
        Some(Base { away: Some(on), .. }) => format!(
            "it was removed {} and is kept {}",
            sides.at(*on),
            sides.at(on.other())
        ),
        Some(base) if base.kind == Kind::Folder => "a folder on both sides".to_owned(),
        Some(base) => {
            let edited = story
                .edited
                .map_or_else(String::new, |at| format!(", edited {}", time::time(at)));
            let digest = base.content.map_or_else(String::new, |content| {
                format!(", BLAKE3 {}…", &content.hex()[..12])
            });
            format!("{}{edited}{digest}", words::bytes(base.size))
        }
    }
}

fn next_pass_words(story: &Story, sides: SideNames) -> String {
    if story.left_out.is_some() {
        return "leaves it as it is on both sides".to_owned();
    }
    match &story.standing {
        None => "does nothing: there is nothing to carry or to remove".to_owned(),
        Some(own) => match own.state.agreement {
            Agreement::Settled if is_kept(&own.step) => {
                "changes neither side: it stays so".to_owned()
            }
            Agreement::Settled => "does nothing: it is as agreed on".to_owned(),
            Agreement::Conflict => {
                "leaves both versions as they are until it is settled".to_owned()
            }
            _ => will_words(&own.step.decision, sides),
        },
    }
}

/// Whether one side removed it and the other one keeps it, as the lane says.
fn is_kept(step: &Step) -> bool {
    matches!(
        step.decision,
        Decision::KeptAway { .. } | Decision::KeepRemoved { .. } | Decision::KeepFolder { .. }
    )
}

/// What a pass does about it, as a sentence goes on.
fn will_words(decision: &Decision, sides: SideNames) -> String {
    let on_words = |on: &Side| sides.at(*on);
    match decision {
        Decision::Carry {
            to,
            replaces: false,
        } => format!("carries it {}", to.towards()),
        Decision::Carry { to, replaces: true } => format!(
            "puts the version {} in its place {}; the older one goes to the spares",
            on_words(&to.other()),
            on_words(to)
        ),
        Decision::CarryBeside { to } => format!(
            "carries it {} beside the older one, under a dated name",
            to.towards()
        ),
        Decision::MakeFolder { on } => format!("makes the folder {}", on_words(on)),
        Decision::Move { on, from, .. } => {
            format!("gives {} this name {}", shown(from), on_words(on))
        }
        Decision::Remove { on, .. } => format!("removes it {}, into the spares", on_words(on)),
        Decision::DropHere { .. } => {
            format!(
                "drops the copy {}, once it is proven to be {}",
                sides.at(Side::Near),
                sides.at(Side::Far)
            )
        }
        Decision::Compare => "reads both versions and compares them".to_owned(),
        Decision::AskRemoval { .. } => {
            "leaves it, until somebody says yes to its removal".to_owned()
        }
        Decision::Drift { .. } => "leaves it as it is".to_owned(),
        Decision::Hold { .. } | Decision::BelowConflict => {
            "leaves it until the reason is gone".to_owned()
        }
        other => words::action(other),
    }
}

fn history_words(story: &Story, run: &Run, item: &RunItem) -> String {
    let bytes = match item.bytes {
        0 => String::new(),
        bytes => format!(", {}", words::bytes(bytes)),
    };
    let of = match item.path == story.path.as_str() {
        true => String::new(),
        false => format!(" of the folder {}", shown_text(&item.path)),
    };
    format!(
        "{}  {}{of}{bytes}: {} (run {}, {})",
        time::time(run.began),
        words::deed(&item.deed),
        result_words(item),
        run.number,
        run.command
    )
}

fn next_step(lane: &LaneConfig, story: &Story) -> Option<String> {
    let typed = words::typed(&lane.near.join(&story.path).to_string());
    if story.left_out.is_some() {
        return None;
    }
    let Some(own) = &story.standing else {
        return story.spares.first().map(|kept| {
            format!(
                "katabatic spares restore {}, then katabatic sync {}",
                kept.spare.number, lane.name
            )
        });
    };
    match own.state.agreement {
        Agreement::Waiting(_) => Some(format!("katabatic sync {typed}")),
        Agreement::Conflict => Some(format!(
            "katabatic settle {typed} --keep near|far|both|newest"
        )),
        Agreement::Stuck => Some(format!(
            "once the reason is gone, katabatic sync {}",
            lane.name
        )),
        _ if own.state.lies == Lies::Stub => Some(format!(
            "to have its content on this computer: katabatic fetch {typed}"
        )),
        _ => None,
    }
}

fn story_json(app: &App, lane: &LaneConfig, story: &Story) -> Value {
    let left_out = story.left_out.as_ref().map(|(at, by)| {
        json!({
            "at": at.as_str(),
            "by": words::left_out_name(by),
            "words": words::left_out_by(by),
            "config": app.home.config_file(),
        })
    });
    let base = story.base.as_ref().map(|base| {
        json!({
            "size": base.size,
            "edited": json::time(story.edited),
            "blake3": base.content.map(|content| content.hex()),
            "away": base.away.map(Side::name),
        })
    });
    let view = |view: &View| match view {
        View::Unknown(why) => json!({"unknown": why.to_string()}),
        seen => json::entry(seen.entry()),
    };
    json!({
        "lane": lane.name,
        "path": story.path.as_str(),
        "state": story.standing.as_ref().map(|own| own.state.agreement.word()),
        "reason": reason_words(lane, story),
        "left_out": left_out,
        "near": view(&story.near),
        "far": view(&story.far),
        "far_noted": story.far_is_noted,
        "near_seen": json::time(story.within.near_seen),
        "far_seen": json::time(story.within.far_seen),
        "agreed": base,
        "next_pass": next_pass_words(story, lane.side_names()),
        "happened": story.history.iter().map(|(run, item)| json!({
            "run": run.number,
            "began": json::time(Some(run.began)),
            "command": run.command.to_string(),
            "path": item.path,
            "action": words::deed(&item.deed),
            "bytes": item.bytes,
            "reason": item.reason,
            "result": words::item_outcome(&item.outcome),
        })).collect::<Vec<_>>(),
        "spares": story.spares.iter().map(|kept| spare_json(&kept.spare)).collect::<Vec<_>>(),
        "versions": versions_json(story),
    })
}
