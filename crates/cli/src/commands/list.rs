//! `list`: what a folder holds, on this computer or in an account; in a lane, with where each file stands.

use clap::Args;
use std::collections::BTreeMap;
use std::process::ExitCode;
use std::sync::Arc;

use globset::{GlobBuilder, GlobMatcher};
use katabatic_core::place::Place;
use katabatic_core::{
    Agreement, Entry, Kind, LeftOutBy, Lies, PerSide, RelPath, Side, Stamp, Step, Triple, View,
    words,
};
use katabatic_engine::config::LaneConfig;
use katabatic_engine::pass::Progress;
use katabatic_engine::places;
use katabatic_engine::standing::{self, LaneStanding};
use katabatic_engine::{Class, Error};
use serde_json::{Value, json};

use super::status::{heading, here_words, there_words};
use crate::about;
use crate::app::App;
use crate::draw::folder_listing::{self, Member, Reasons, SortTyped};
use crate::draw::{self, json, line, progress, time};
use crate::lane_paths::{LanePath, open_paths};
use crate::typed_state::StateTyped;

/// `list`.
#[derive(Args, Debug)]
pub struct ListArgs {
    /// The folder: a local path, @ACCOUNT/FOLDER, or a lane
    #[arg(value_name = "PLACE")]
    pub place: String,
    /// Show names that begin with a dot too
    #[arg(long)]
    pub hidden: bool,
    /// Only names of this pattern: `*` stands for anything, `?` for one character
    #[arg(long = "match", value_name = "PATTERN")]
    pub pattern: Option<String>,
    /// The order
    #[arg(long, value_enum, default_value = "name")]
    pub sort: SortTyped,
    /// In a lane: only what stands so, and folders in which something does; several with commas between them
    #[arg(long, value_enum, value_delimiter = ',', value_name = "STATE")]
    pub state: Vec<StateTyped>,
    /// In a lane: ask the far side too, instead of telling what the last pass saw there
    #[arg(long)]
    pub fresh: bool,
}

/// What a lane says of a folder.
struct InLane {
    lane: LaneConfig,
    folder: RelPath,
    side: Side,
    /// What lies in the folder, with where it stands.
    members: Vec<Member>,
    standing: LaneStanding,
}

pub fn list(app: &App, typed: &ListArgs) -> Result<ExitCode, Error> {
    let wanted = typed.pattern.as_deref().map(pattern).transpose()?;
    let in_lane = look_in_lane(app, typed)?;
    let mut all = match &in_lane {
        // The lane was looked at just now, and knows what is only there, too.
        Some(found) if found.side == Side::Near => with_names_that_bite(app, found)?,
        Some(found) => {
            let place = found.lane.far.join(&found.folder);
            with_states(plain_members(app, &place)?, found)
        }
        None => {
            let place = Place::parse(&typed.place, &app.config.account_names())?;
            plain_members(app, &place)?
        }
    };
    if in_lane.is_none() && (typed.fresh || !typed.state.is_empty()) {
        return Err(Error::usage(
            &typed.place,
            "it is in no lane, so nothing in it has a state",
            "See the lanes: katabatic lane list. Without --state and --fresh, the folder is listed.",
        ));
    }
    let is_hidden = |member: &Member| member.name.starts_with('.');
    let hidden = all.iter().filter(|member| is_hidden(member)).count();
    all.retain(|member| typed.hidden || !is_hidden(member));
    all.retain(|member| {
        let pattern = wanted.as_ref();
        pattern.is_none_or(|wanted| wanted.is_match(&member.name))
    });
    all.retain(|member| member.fits(&typed.state));
    folder_listing::sort(&mut all, typed.sort);
    if app.common.json {
        json::print(&answer(typed, &all, in_lane.as_ref()));
        return Ok(ExitCode::SUCCESS);
    }
    if let (Some(found), false) = (&in_lane, app.common.quiet) {
        say_lane(app, found);
    }
    folder_listing::print(app.style, 0, &all, Reasons::Told);
    line(total_words(&all, hidden, typed.hidden));
    Ok(ExitCode::SUCCESS)
}

fn pattern(pattern: &str) -> Result<GlobMatcher, Error> {
    let glob = GlobBuilder::new(pattern).literal_separator(true).build();
    let glob = glob.map_err(|why| {
        Error::new(
            Class::Usage,
            format!("the pattern {pattern}"),
            why.to_string(),
            "Write it as *.pdf or Part ?.txt.",
        )
    })?;
    Ok(glob.compile_matcher())
}

/// What the lane that holds the place says of it; none where no lane does.
fn look_in_lane(app: &App, typed: &ListArgs) -> Result<Option<InLane>, Error> {
    let by_name = app
        .config
        .lanes
        .iter()
        .find(|lane| lane.name == typed.place);
    let found = match by_name {
        Some(lane) => Some((lane.clone(), RelPath::root(), Side::Near)),
        None => about::find_place(&app.config, &typed.place)?,
    };
    let Some((lane, folder, side)) = found else {
        return Ok(None);
    };
    let (paths, standing) = match paths_of(app, &lane, &folder, typed.fresh) {
        Ok(looked) => looked,
        // The folder can be looked at all the same; that the lane cannot is not what was asked.
        Err(error) if typed.state.is_empty() && !typed.fresh && by_name.is_none() => {
            draw::say(format!("Where files stand is not told: {}", error.why));
            return Ok(None);
        }
        Err(error) => return Err(error),
    };
    let own = paths.iter().find(|one| one.path == folder);
    if side == Side::Near && paths.is_empty() && !folder.is_root()
        || own.is_some_and(|own| own.kind != Kind::Folder)
    {
        // No folder, or none that the lane knows: what lists it says what is wrong.
        return Ok(None);
    }
    Ok(Some(InLane {
        members: folder_listing::members(&folder, &paths),
        lane,
        folder,
        side,
        standing,
    }))
}

fn plain_members(app: &App, place: &Place) -> Result<Vec<Member>, Error> {
    let all = app.run(places::list(&app.home, &app.config, place, &app.stop))?;
    let member = |one: places::Member| Member {
        bytes: (one.kind == Kind::File).then_some(one.size),
        name: one.name,
        kind: one.kind,
        files: None,
        at: one.at,
        states: BTreeMap::new(),
        lies: BTreeMap::new(),
        reason: String::new(),
    };
    Ok(all.into_iter().map(member).collect())
}

/// Names here that no lane can carry are listed as well.
fn with_names_that_bite(app: &App, found: &InLane) -> Result<Vec<Member>, Error> {
    let mut all = found.members.clone();
    let Place::Local(_) = &found.lane.near else {
        return Ok(all);
    };
    for mut member in plain_members(app, &found.lane.near.join(&found.folder))? {
        if all.iter().any(|known| known.name == member.name)
            || katabatic_sides::is_own(&member.name)
        {
            continue;
        }
        member.states.insert(Agreement::LeftOut, 1);
        member.reason = "no lane carries such a name, or its kind".to_owned();
        all.push(member);
    }
    Ok(all)
}

/// What lies there now, with where it stood when the lane last looked.
fn with_states(mut now: Vec<Member>, found: &InLane) -> Vec<Member> {
    for member in &mut now {
        match found.members.iter().find(|known| known.name == member.name) {
            Some(known) => {
                member.states.clone_from(&known.states);
                member.lies.clone_from(&known.lies);
                member.reason.clone_from(&known.reason);
                if member.kind == Kind::Folder {
                    (member.bytes, member.files) = (known.bytes, known.files);
                }
            }
            None => match left_out_by(found, member) {
                Some(by) => {
                    member.states.insert(Agreement::LeftOut, 1);
                    member.reason = words::left_out_by(&by);
                }
                None => member.reason = "not seen by a pass yet".to_owned(),
            },
        }
    }
    now
}

/// What leaves out a member that lies there alone: by itself, or with a folder around it.
fn left_out_by(found: &InLane, member: &Member) -> Option<LeftOutBy> {
    let path = found.folder.join(&member.name).ok()?;
    let mut at = Some(path.clone());
    while let Some(one) = at.filter(|one| !one.is_root()) {
        let entry = match one == path && member.kind == Kind::File {
            true => Entry::file(member.bytes.unwrap_or(0), Stamp::new("")),
            false => Entry::folder(),
        };
        at = one.parent();
        let triple = Triple {
            path: one,
            base: None,
            views: PerSide {
                near: View::Absent,
                far: View::Present(entry),
            },
        };
        if let Some(by) = found.lane.selection.leaves_out(&triple) {
            return Some(by);
        }
    }
    None
}

fn say_lane(app: &App, found: &InLane) {
    heading(app, &found.lane);
    let sides = found.lane.side_names();
    let states = match found.side {
        Side::Near => "  states as seen",
        Side::Far => "  listed now; states as seen",
    };
    draw::sentence(
        app.style,
        0,
        &format!(
            "{states} {} {}, {} {}",
            sides.at(Side::Near),
            here_words(&found.standing),
            sides.at(Side::Far),
            there_words(&found.standing)
        ),
    );
}

fn total_words(all: &[Member], hidden: usize, shown: bool) -> String {
    let folders = all.iter().filter(|member| member.kind == Kind::Folder);
    let folders = folders.count() as u64;
    let files = all.iter().map(|member| match member.kind {
        Kind::Folder => member.files.unwrap_or(0),
        Kind::File => 1,
        Kind::Odd(_) => 0,
    });
    let bytes = all.iter().filter_map(|member| member.bytes);
    let mut total = format!(
        "{}, {}",
        words::count(files.sum(), "file", "files"),
        words::bytes(bytes.fold(0, u64::saturating_add))
    );
    if folders > 0 {
        total = format!("{}, {total}", words::count(folders, "folder", "folders"));
    }
    if hidden > 0 && !shown {
        total.push_str(&format!(
            "; {} (--hidden shows them)",
            words::count(hidden as u64, "hidden name", "hidden names")
        ));
    }
    total
}

fn answer(typed: &ListArgs, all: &[Member], in_lane: Option<&InLane>) -> Value {
    let members: Vec<Value> = all.iter().map(|one| member_json(one, in_lane)).collect();
    let mut answer = json!({"place": typed.place, "members": members});
    if let Some(found) = in_lane {
        answer["lane"] = json!(found.lane.name);
        answer["path"] = json!(found.folder.as_str());
        answer["near_seen"] = json::time(found.standing.near_seen);
        answer["far_seen"] = json::time(found.standing.far_seen);
    }
    answer
}

fn member_json(member: &Member, in_lane: Option<&InLane>) -> Value {
    let kind = match member.kind {
        Kind::Folder => "folder",
        Kind::File => "file",
        Kind::Odd(_) => "other",
    };
    let mut told = json!({
        "name": member.name,
        "kind": kind,
        "size": member.bytes.filter(|_| member.kind == Kind::File),
        "at": json::time(member.at),
    });
    if in_lane.is_some() {
        let by_word = |word: &str, count: u64| (word.to_owned(), json!(count));
        let counts = member.states.iter();
        let counts = counts.map(|(agreement, count)| by_word(agreement.word(), *count));
        let lies = member.lies.iter();
        let lies = lies.map(|(lies, count)| by_word(Lies::word(*lies), *count));
        told["files"] = json!(member.files);
        told["bytes"] = json!(member.bytes);
        told["state"] = json!(member.agreement().map(Agreement::word));
        told["counts"] = Value::Object(counts.collect());
        told["lies"] = Value::Object(lies.collect());
        told["reason"] = json!(member.reason);
    }
    told
}

/// Every path of a lane at or below one, in the order of paths, with the standing of the whole; both sides are asked
/// where it is to be `fresh`, and otherwise the far side is as the last pass saw it.
pub fn paths_of(
    app: &App,
    lane: &LaneConfig,
    path: &RelPath,
    fresh: bool,
) -> Result<(Vec<LanePath>, LaneStanding), Error> {
    let mut paths = Vec::new();
    let told = &mut |step: &Step| paths.extend(LanePath::settled(lane, step));
    let drawn = Arc::new(Progress::default());
    let standing = app.run(async {
        let pass = match fresh {
            true => app.pass(lane, Arc::clone(&drawn)).await?,
            false => app.look(lane, Arc::clone(&drawn)).await?,
        };
        let looking = standing::look_telling(&pass, path, &time::time, fresh, told);
        match fresh {
            true => progress::during(app.style, &lane.name, drawn, looking).await,
            false => looking.await,
        }
    })?;
    paths.extend(open_paths(&standing));
    paths.sort_by(|one, other| one.path.cmp(&other.path));
    paths.retain(|one| one.path.is_within(path));
    Ok((paths, standing))
}
