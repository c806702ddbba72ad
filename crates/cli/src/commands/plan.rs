//! `plan`: what a pass would do, and why.

use crate::typed_choice::choice;
use clap::Args;
use katabatic_core::Side;
use std::collections::BTreeMap;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::words::Telling;
use katabatic_core::{BrakeVerdict, Decision, RelPath, SideNames, Step, words};
use katabatic_engine::Error;
use katabatic_engine::config::LaneConfig;
use katabatic_engine::forecast::{self, Forecast};
use katabatic_engine::pass::plan::Totals;
use katabatic_engine::pass::{Plan, Progress, Wish};
use serde_json::{Value, json};

use super::sync;
use crate::about::{About, understand};
use crate::app::App;
use crate::draw::listing::Item;
use crate::draw::table::Rows;
use crate::draw::{json, line, listing, progress, sentence, shown, shown_text, time};
use crate::several::Several;

/// `plan`.
#[derive(Args, Debug)]
pub struct PlanArgs {
    /// Lanes, or files and folders in them; all lanes where none is named
    #[arg(value_name = "LANE|PATH")]
    pub about: Vec<String>,
    /// Name every file; long plans are folded by folder otherwise
    #[arg(long)]
    pub all: bool,
    /// As `sync --lead` would do it
    #[arg(long, value_parser = choice::<Side>())]
    pub lead: Option<Side>,
}

/// Plans with more steps than this are folded by folder.
const FOLD_FROM: usize = 40;

pub fn plan(app: &App, typed: &PlanArgs) -> Result<ExitCode, Error> {
    let mut answers = Vec::new();
    let about = understand(&app.config, &typed.about)?;
    let mut several = Several::of(about.len());
    for About { lane, paths } in about {
        let wish = Wish {
            scope: paths,
            terms: sync::leading(app, &lane, typed.lead)?,
            ..Wish::default()
        };
        let drawn = Arc::new(Progress::default());
        let plan = app.run(async {
            let pass = app.pass(&lane, Arc::clone(&drawn)).await?;
            progress::during(app.style, &lane.name, drawn, pass.plan(&wish)).await
        });
        let Some(plan) = several.take(app, &lane, plan)? else {
            continue;
        };
        if app.common.json {
            let mut answer = plan_json(&lane.name, &plan);
            answer["forecast"] = forecast_json(app, &lane, &plan)?;
            answers.push(answer);
        } else {
            say(app, &lane, &plan, typed.all);
        }
    }
    if app.common.json {
        answers.append(&mut several.failed);
        json::print(&json!({"plans": answers}));
    }
    Ok(ExitCode::from(several.code))
}

fn shows(step: &Step) -> bool {
    !matches!(step.decision, Decision::Record | Decision::Forget)
}

fn say(app: &App, lane: &LaneConfig, plan: &Plan, all: bool) {
    let name = &lane.name;
    let steps: Vec<&Step> = plan.steps.iter().filter(|step| shows(step)).collect();
    let totals = plan.totals();
    if steps.is_empty() && plan.unusable.is_empty() {
        line(format!(
            "Plan of lane {name}: nothing to do. {} settled.",
            words::count(plan.settled, "file", "files")
        ));
        return;
    }
    line(format!("Plan of lane {name}"));
    if steps.len() > FOLD_FROM && !all {
        folded(app, plan, &steps);
    } else {
        let mut items: Vec<Item> = steps
            .into_iter()
            .map(|step| item(step, plan.sides))
            .collect();
        items.extend(plan.unusable.iter().map(|name| Item {
            lead: "left out".to_owned().into(),
            name: shown_text(&name.shown),
            size: String::new(),
            reason: name.why.clone(),
        }));
        listing::print(app.style, 2, &items);
    }
    line("In all:");
    for words in totals_words(&totals, plan.sides) {
        line(format!("  {words}"));
    }
    for words in forecast_words(app, lane, plan) {
        sentence(app.style, 2, &words);
    }
    line(format!(
        "  {} settled already",
        words::count(plan.settled, "file", "files")
    ));
    if plan.brake_verdict != BrakeVerdict::Open {
        sentence(
            app.style,
            0,
            &format!("The brake would stop this: {}", plan.brake_words()),
        );
        line(format!(
            "  If it is wanted: katabatic sync {name} --release-brake {}",
            plan.brake.planned.total()
        ));
    }
    if plan.has_work() {
        line(format!(
            "Plan {0}. To carry exactly this: katabatic sync {name} --exactly {0}",
            plan.id
        ));
    }
}

fn item(step: &Step, sides: SideNames) -> Item {
    let bytes = step.bytes();
    let carries = bytes > 0 || matches!(step.decision, Decision::Carry { .. });
    Item {
        lead: words::action(&step.decision).into(),
        name: shown(step.path()),
        size: if carries {
            words::bytes(bytes)
        } else {
            String::new()
        },
        reason: words::reason(step, &time::telling(sides)),
    }
}

/// One line a folder and action, with counts and bytes.
fn folded(app: &App, plan: &Plan, steps: &[&Step]) {
    let mut folders: BTreeMap<(RelPath, String), (u64, u64, String)> = BTreeMap::new();
    for step in steps {
        let folder = step.path().parent().unwrap_or_else(RelPath::root);
        let entry = folders
            .entry((folder, words::action(&step.decision)))
            .or_default();
        entry.0 += 1;
        entry.1 = entry.1.saturating_add(step.bytes());
        let reason = words::reason(
            step,
            &Telling {
                time: &|_| String::new(),
                sides: plan.sides,
            },
        );
        match &entry.2 {
            known if known.is_empty() => entry.2 = reason,
            known if *known != reason => entry.2 = "for several reasons".into(),
            _ => {}
        }
    }
    let mut rows = Rows::bare(app.style, 5);
    for ((folder, action), (count, bytes, reason)) in folders {
        let folder = if folder.is_root() {
            "(top)".to_owned()
        } else {
            format!("{}/", shown(&folder))
        };
        let bytes = if bytes > 0 {
            words::bytes(bytes)
        } else {
            String::new()
        };
        rows.add(vec![action, folder, words::grouped(count), bytes, reason]);
    }
    rows.numbers(2);
    rows.numbers(3);
    rows.print(2);
    line("  Folded by folder; katabatic plan --all names every file.");
}

/// What a plan would take, a sentence each: time, room that is missing, names that are long.
pub fn forecast_words(app: &App, lane: &LaneConfig, plan: &Plan) -> Vec<String> {
    let mut told = Vec::new();
    // What cannot be reckoned is not told; that the ledger cannot be read is told where it matters.
    let forecast = forecast::of(&app.ledger, &app.config, lane, plan).unwrap_or_default();
    told.extend(time_words(&forecast));
    for (side, no_room) in plan.no_room {
        if let Some((needed, free)) = no_room {
            told.push(format!(
                "Mind: {} are to come {}, and {} are free: none of it would be carried{}",
                words::bytes(needed),
                plan.sides.at(side),
                words::bytes(free),
                match lane.account(side) {
                    Some(account) => format!(". What takes the room: katabatic room @{account}"),
                    None => String::new(),
                }
            ));
        }
    }
    told.extend(long_name_words(&forecast));
    told
}

/// How long it takes each way, where that can be reckoned.
pub fn time_words(forecast: &Forecast) -> Vec<String> {
    let mut told = Vec::new();
    for (side, takes) in forecast.takes {
        if let Some((takes, speed)) = takes {
            told.push(format!(
                "about {} {} at {}/s, as in the last runs",
                words::span(takes.as_secs().max(1)),
                side.towards(),
                words::bytes(speed)
            ));
        }
    }
    told
}

/// That a name is long.
pub fn long_name_words(forecast: &Forecast) -> Option<String> {
    let (path, bytes) = forecast.longest.as_ref()?;
    Some(format!(
        "Mind: the longest name has {bytes} bytes, and many disks and servers hold at most 255: {}",
        shown(path)
    ))
}

/// The same for programs.
fn forecast_json(app: &App, lane: &LaneConfig, plan: &Plan) -> Result<Value, Error> {
    let forecast = forecast::of(&app.ledger, &app.config, lane, plan)?;
    let no_room = |side: Side| {
        plan.no_room[side].map(|(needed, free)| json!({"needed": needed, "free": free}))
    };
    Ok(json!({
        "up": takes_json(&forecast, Side::Far),
        "down": takes_json(&forecast, Side::Near),
        "no_room": {"near": no_room(Side::Near), "far": no_room(Side::Far)},
        "longest_name": longest_json(&forecast),
    }))
}

/// How long what goes to a side takes, for programs.
pub fn takes_json(forecast: &Forecast, to: Side) -> Value {
    match forecast.takes[to] {
        Some((takes, speed)) => {
            json!({"seconds": takes.as_secs(), "bytes_per_second": speed})
        }
        None => Value::Null,
    }
}

/// The longest name, for programs.
pub fn longest_json(forecast: &Forecast) -> Value {
    match &forecast.longest {
        Some((path, bytes)) => json!({"path": path.as_str(), "bytes": bytes}),
        None => Value::Null,
    }
}

/// What a plan adds up to, a line each.
pub fn totals_words(totals: &Totals, sides: SideNames) -> Vec<String> {
    let files = |count: u64| words::count(count, "file", "files");
    let (near, far) = (sides.at(Side::Near), sides.at(Side::Far));
    let mut lines = Vec::new();
    let mut say = |count: u64, text: String| {
        if count > 0 {
            lines.push(text);
        }
    };
    let (up, down, compare) = (totals.up, totals.down, totals.compare);
    say(
        up.0,
        format!("carry {} up, {}", files(up.0), words::bytes(up.1)),
    );
    say(
        down.0,
        format!("carry {} down, {}", files(down.0), words::bytes(down.1)),
    );
    say(
        totals.stubs.0,
        format!(
            "make {} of {}, whose content stays {far} and takes no room {near}",
            words::count(totals.stubs.0, "stub", "stubs"),
            words::bytes(totals.stubs.1)
        ),
    );
    say(
        totals.shed.0,
        format!(
            "drop the content of {} to stubs and free {}; nothing is removed {far}",
            files(totals.shed.0),
            words::bytes(totals.shed.1)
        ),
    );
    say(
        compare.0,
        format!(
            "compare {} that both sides have, reading {} back",
            files(compare.0),
            words::bytes(compare.1)
        ),
    );
    say(
        totals.folders,
        format!("make {}", words::count(totals.folders, "folder", "folders")),
    );
    say(
        totals.moved,
        format!(
            "move {} to new names, carrying no content",
            files(totals.moved)
        ),
    );
    say(
        totals.dropped.0,
        format!(
            "drop the copies {near} of {} and free {}: moved {far} to where it is not taken",
            files(totals.dropped.0),
            words::bytes(totals.dropped.1)
        ),
    );
    say(
        totals.removed_near,
        format!(
            "remove {} {near}, into the spares",
            files(totals.removed_near)
        ),
    );
    say(
        totals.removed_far,
        format!(
            "remove {} {far}, into the spares",
            files(totals.removed_far)
        ),
    );
    say(
        totals.conflicts,
        format!(
            "leave {} for somebody to settle",
            words::count(totals.conflicts, "conflict", "conflicts")
        ),
    );
    say(
        totals.stuck,
        format!(
            "hold {} that cannot be told or carried now",
            words::count(totals.stuck, "path", "paths")
        ),
    );
    say(
        totals.kept_back,
        format!(
            "keep back {} that somebody else changed or removed on the receiving side",
            files(totals.kept_back)
        ),
    );
    let left = totals.drift - totals.kept_back;
    say(
        left,
        format!(
            "leave {} that changed on the receiving side by themselves",
            files(left)
        ),
    );
    say(
        totals.being_written,
        format!("wait for {} to be quiet", files(totals.being_written)),
    );
    say(
        totals.asking,
        format!("ask before {} go", files(totals.asking)),
    );
    say(
        totals.kept,
        format!("keep {} that the other side removed", files(totals.kept)),
    );
    say(
        totals.left_out,
        format!(
            "leave out {}",
            words::count(totals.left_out, "thing", "things")
        ),
    );
    if lines.is_empty() {
        lines.push("carry nothing".into());
    }
    lines
}

/// The same for programs.
pub fn totals_json(totals: &Totals) -> Value {
    let files = |(files, bytes): (u64, u64)| json!({"files": files, "bytes": bytes});
    json!({
        "up": files(totals.up),
        "down": files(totals.down),
        "compare": files(totals.compare),
        "folders": totals.folders,
        "moved": totals.moved,
        "stubs": files(totals.stubs),
        "shed": files(totals.shed),
        "dropped": totals.dropped.0,
        "removed_near": totals.removed_near,
        "removed_far": totals.removed_far,
        "conflicts": totals.conflicts,
        "stuck": totals.stuck,
        "left_out": totals.left_out,
        "drift": totals.drift,
        "kept_back": totals.kept_back,
        "being_written": totals.being_written,
        "asking": totals.asking,
        "kept": totals.kept,
    })
}

fn plan_json(lane: &str, plan: &Plan) -> Value {
    let steps: Vec<Value> = plan
        .steps
        .iter()
        .map(|step| json::step(step, plan.sides))
        .collect();
    let unusable: Vec<Value> = plan
        .unusable
        .iter()
        .map(|name| json!({"shown": name.shown, "reason": name.why}))
        .collect();
    json!({
        "lane": lane,
        "id": plan.id,
        "steps": steps,
        "unusable": unusable,
        "settled": plan.settled,
        "totals": totals_json(&plan.totals()),
        "brake": {
            "stops": plan.brake_verdict != BrakeVerdict::Open,
            "removed": plan.brake.planned.removed,
            "replaced": plan.brake.planned.replaced,
            "last_day": plan.brake.last_day.total(),
            "why": plan.brake_words(),
        },
    })
}
