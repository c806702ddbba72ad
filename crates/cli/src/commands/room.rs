//! `room`: what lies on this disk, for how long nobody has used it, and what could be dropped; or frees so much.

use clap::Args;
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::room::{Lying, least_used};
use katabatic_core::{EditTime, words};
use katabatic_engine::config::LaneConfig;
use katabatic_engine::pass::{Progress, Report};
use katabatic_engine::room::{self, Room, Takes};
use katabatic_engine::{Error, choose};
use serde_json::{Value, json};

use super::account::agreed;
use super::lane::room_words;
use super::room_there;
use super::status;
use super::sync::{code_of, needing, report_json};
use crate::app::App;
use crate::draw::listing::Item;
use crate::draw::table::Rows;
use crate::draw::{json, line, listing, progress, sentence, shown, shown_text, time};
use crate::exit;
use crate::setup::size_of;
use crate::several::Several;

/// `room`.
#[derive(Args, Debug)]
pub struct RoomArgs {
    /// The lane, or an account: what takes the room there; all lanes where none is named
    #[arg(value_name = "LANE|@ACCOUNT")]
    pub lane: Option<String>,
    /// Free so much, such as 5GB: what was not used for longest goes first, never what is held or not settled
    #[arg(long, value_name = "SIZE")]
    pub free: Option<String>,
    /// Do it without asking
    #[arg(long, requires = "free")]
    pub yes: bool,
    /// Write the stubs here into this new file, a path in a line: what a backup is to leave out
    #[arg(long, value_name = "FILE", conflicts_with = "free")]
    pub exclude_list: Option<PathBuf>,
}

/// As many files that would go are named.
const NAMED: usize = 20;

const DAY: i64 = 86_400_000_000_000;

pub fn room(app: &App, typed: &RoomArgs) -> Result<ExitCode, Error> {
    let account = typed
        .lane
        .as_deref()
        .and_then(|name| name.strip_prefix('@'));
    if let Some(account) = account {
        if typed.exclude_list.is_some() {
            return Err(Error::usage(
                "writing a list of stubs",
                "stubs lie on this computer, and not in an account",
                "Name a lane, or none: katabatic room --exclude-list FILE",
            ));
        }
        if typed.free.is_some() {
            return Err(Error::usage(
                "freeing room",
                "only the disk of this computer is freed so",
                format!("See what would make room: katabatic room @{account}"),
            ));
        }
        return room_there::room(app, account.trim_end_matches('/'));
    }
    let lanes: Vec<LaneConfig> = match &typed.lane {
        Some(name) => vec![app.config.lane(name)?.clone()],
        None => app.config.lanes.clone(),
    };
    if let Some(to) = &typed.exclude_list {
        return super::stub_list::write(app, &lanes, to);
    }
    // What only a drive has besides is not dropped by the way: nobody is sure to have it at hand.
    let to_a_drive = |lane: &LaneConfig| lane.far.local().is_some() && typed.lane.is_none();
    let freed = |lane: &LaneConfig| typed.free.is_none() || !to_a_drive(lane);
    let here = lanes
        .into_iter()
        .filter(|lane| lane.near.local().is_some() && freed(lane));
    let here: Vec<LaneConfig> = here.collect();
    let (mut rooms, mut several) = (Vec::new(), Several::of(here.len()));
    for lane in here {
        let looked = app.run(async {
            let pass = app.pass(&lane, Arc::new(Progress::default())).await?;
            room::look(&pass).await
        });
        if let Some(looked) = several.take(app, &lane, looked)? {
            rooms.push((lane, looked));
        }
    }
    match &typed.free {
        None => {
            show(app, &rooms, &several.failed);
            Ok(ExitCode::from(several.code))
        }
        Some(size) => free(app, typed, &rooms, size_of(size)?),
    }
}

fn show(app: &App, rooms: &[(LaneConfig, Room)], failed: &[Value]) {
    if app.common.json {
        let rooms = rooms.iter().map(room_json);
        let rooms: Vec<Value> = rooms.chain(failed.iter().cloned()).collect();
        json::print(&json!({"lanes": rooms}));
        return;
    }
    // One lane is shown by its folders; of several, a line each.
    match rooms.len() > 1 && app.common.verbose == 0 {
        true => show_lanes(app, rooms),
        false => show_folders(app, rooms),
    }
    let free = rooms.iter().filter_map(|(_, room)| room.free).min();
    if let Some(free) = free {
        line(format!("The disk has {} free.", words::bytes(free)));
    }
    let can_go: u64 = rooms.iter().map(|(_, room)| room.total.can_go.bytes).sum();
    let text = match can_go {
        0 => "Nothing could be freed: it is held, not settled, or not on this computer.",
        _ => {
            "To free some, nothing removed, what was not used for longest first: katabatic room --free 5GB"
        }
    };
    sentence(app.style, 0, text);
}

const HEADINGS: [&str; 6] = [
    "folder",
    "files",
    "it shows",
    "on this disk",
    "could be freed",
    "last used",
];

fn print_takes(rows: &mut Rows, indent: usize, more: &mut dyn FnMut(usize)) {
    (1..5).for_each(|column| rows.numbers(column));
    rows.paths(0);
    rows.whole(5);
    rows.print_telling(indent, more);
}

/// A line for each lane.
fn show_lanes(app: &App, rooms: &[(LaneConfig, Room)]) {
    let mut headings = HEADINGS;
    headings[0] = "lane";
    let mut rows = Rows::new(app.style, &headings);
    for (lane, room) in rooms {
        rows.add(cells(app, lane.name.clone(), &room.total));
    }
    print_takes(&mut rows, 0, &mut |at| {
        let (lane, room) = &rooms[at];
        say_budget(lane, room);
    });
    line("By folders: katabatic room LANE");
}

/// What a lane may take here, where that is set.
fn say_budget(lane: &LaneConfig, room: &Room) {
    let budget = room_words(&lane.contents.budget);
    if !budget.is_empty() {
        line(format!("  Room: {budget}"));
    }
    if room.over > 0 {
        line(format!(
            "  {} too much lies on this computer. Now: katabatic room {} --free {}",
            words::bytes(room.over),
            lane.name,
            room.over
        ));
    }
}

/// A line for each folder of each lane.
fn show_folders(app: &App, rooms: &[(LaneConfig, Room)]) {
    for (lane, room) in rooms {
        status::heading(app, lane);
        let mut rows = Rows::new(app.style, &HEADINGS);
        for (folder, takes) in &room.folders {
            let name = match folder.is_empty() {
                true => "(in no folder)".to_owned(),
                false => format!("{}/", shown_text(folder)),
            };
            rows.add(cells(app, name, takes));
        }
        rows.add(cells(app, "in all".into(), &room.total));
        print_takes(&mut rows, 2, &mut |_| {});
        say_budget(lane, room);
    }
}

fn cells(app: &App, name: String, takes: &Takes) -> Vec<String> {
    vec![
        name,
        words::grouped(takes.shown.files),
        words::bytes(takes.shown.bytes),
        words::bytes(takes.here.bytes),
        words::bytes(takes.can_go.bytes),
        takes
            .used
            .map_or_else(|| "-".to_owned(), |used| ago(app, used)),
    ]
}

/// How long ago it was, in days.
fn ago(app: &App, used: EditTime) -> String {
    match app.now().0.saturating_sub(used.0) / DAY {
        ..=0 => "today".to_owned(),
        1 => "yesterday".to_owned(),
        days => format!("{days} days ago"),
    }
}

fn room_json((lane, room): &(LaneConfig, Room)) -> Value {
    let takes = |takes: &Takes| {
        json!({
            "shown": {"files": takes.shown.files, "bytes": takes.shown.bytes},
            "here": {"files": takes.here.files, "bytes": takes.here.bytes},
            "can_go": {"files": takes.can_go.files, "bytes": takes.can_go.bytes},
            "used": json::time(takes.used),
        })
    };
    let folders: serde_json::Map<String, Value> = room
        .folders
        .iter()
        .map(|(name, folder)| (name.clone(), takes(folder)))
        .collect();
    json!({
        "lane": lane.name,
        "total": takes(&room.total),
        "folders": folders,
        "free": room.free,
        "over": room.over,
        "max_local": lane.contents.budget.max_local,
        "leave_free": lane.contents.budget.leave_free,
    })
}

fn free(
    app: &App,
    typed: &RoomArgs,
    rooms: &[(LaneConfig, Room)],
    bytes: u64,
) -> Result<ExitCode, Error> {
    // Of all lanes together, and each file goes back to its own.
    let mut whose = BTreeMap::new();
    let mut files = Vec::new();
    for (number, (_, room)) in rooms.iter().enumerate() {
        for file in &room.can_go {
            let key = (file.used, file.path.clone());
            whose.entry(key).or_insert_with(Vec::new).push(number);
            files.push(file.clone());
        }
    }
    let goes = least_used(files, bytes);
    let freed: u64 = goes.iter().map(|file| file.bytes).sum();
    if !app.common.json {
        say_goes(app, &goes, freed, bytes);
    }
    if goes.is_empty() {
        return Ok(ExitCode::from(exit::NEEDS_A_PERSON));
    }
    agreed(app, typed.yes, "making room", "Shed them?")?;
    let mut by_lane: BTreeMap<usize, Vec<Lying>> = BTreeMap::new();
    for file in goes {
        let lanes = whose.get_mut(&(file.used, file.path.clone()));
        if let Some(number) = lanes.and_then(Vec::pop) {
            by_lane.entry(number).or_default().push(file);
        }
    }
    let (mut code, mut reports, mut left) = (0, Vec::new(), None);
    for (number, mine) in by_lane {
        let (lane, _) = &rooms[number];
        let drawn = Arc::new(Progress::default());
        let (report, free) = app.run(async {
            let pass = app.pass(lane, Arc::clone(&drawn)).await?;
            let shedding = room::shed(&pass, &mine);
            let report = progress::during(app.style, &lane.name, drawn, shedding).await?;
            Ok::<_, Error>((report, choose::free_here(&pass).await))
        })?;
        code = exit::worse(code, code_of(&report));
        if app.common.json {
            reports.push(report_json(&lane.name, &report));
        } else {
            say_done(app, lane, &report);
            left = free.or(left);
        }
    }
    if let Some(left) = left {
        line(format!("The disk has {} free now.", words::bytes(left)));
    }
    if app.common.json {
        json::print(&json!({"asked": bytes, "could": freed, "lanes": reports}));
    }
    Ok(ExitCode::from(if freed < bytes {
        exit::worse(code, exit::NEEDS_A_PERSON)
    } else {
        code
    }))
}

fn say_goes(app: &App, goes: &[Lying], freed: u64, asked: u64) {
    let item = |file: &Lying| Item {
        lead: "shed".to_owned().into(),
        name: shown(&file.path),
        size: words::bytes(file.bytes),
        reason: format!("last used {}", time::time(file.used)),
    };
    let items: Vec<Item> = goes.iter().take(NAMED).map(item).collect();
    listing::print(app.style, 2, &items);
    if goes.len() > NAMED {
        line(format!(
            "  and {} more",
            words::grouped((goes.len() - NAMED) as u64)
        ));
    }
    line(format!(
        "In all {}, {}, what was not used for longest first. Nothing is removed: the content stays on the other side.",
        words::count(goes.len() as u64, "file", "files"),
        words::bytes(freed)
    ));
    if freed < asked {
        line(format!(
            "That is less than {}: the rest is held, not settled, or not on this computer.",
            words::bytes(asked)
        ));
    }
}

fn say_done(app: &App, lane: &LaneConfig, report: &Report) {
    line(format!(
        "Lane {}: shed {}, {} free again",
        lane.name,
        words::count(report.counts.shed, "file", "files"),
        words::bytes(report.counts.bytes_shed)
    ));
    needing(app, &lane.name, report);
}
