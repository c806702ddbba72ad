//! `agent status`: whether it runs, what each lane is doing, and what it waits for.

use std::process::ExitCode;

use katabatic_agent::{self as agent, Answer, Ask, Doing, LaneNow};
use katabatic_core::schedule::When;
use katabatic_core::{EditTime, words};
use katabatic_engine::{Error, lanes};
use serde_json::{Value, json};

use crate::app::App;
use crate::commands::openings::{openings_json, under_way_words};
use crate::draw::{field, json, line, shown_text, time};
use crate::exit;

pub fn status(app: &App) -> Result<ExitCode, Error> {
    let answer = app.run(agent::ask(&app.home, &Ask::Status))?;
    if app.common.json {
        json::print(&json!({"agent": answer.as_ref().map(agent_json)}));
    } else {
        match &answer {
            None => {
                line("No agent runs: lanes are synced by hand alone.");
                line(
                    "  Next: katabatic agent start; at every start of the computer: katabatic agent install",
                );
            }
            Some(answer) => {
                say(app, answer);
                say_stubs(app, answer)?;
                for under_way in &answer.openings.under_way {
                    line(format!("On its way: {}", under_way_words(under_way)));
                }
            }
        }
    }
    let needs = answer
        .iter()
        .flat_map(|answer| &answer.lanes)
        .any(|lane| matches!(lane.doing, Doing::Failing { .. } | Doing::Asking { .. }));
    Ok(ExitCode::from(if needs { exit::NEEDS_A_PERSON } else { 0 }))
}

/// Whether programs can open the stubs that are here, where there are any.
fn say_stubs(app: &App, answer: &Answer) -> Result<(), Error> {
    let mut stubs = 0;
    for lane in &app.config.lanes {
        stubs += lanes::stubs(&app.ledger, &lane.id)?.0;
    }
    if stubs == 0 {
        return Ok(());
    }
    let many = words::count(stubs, "stub", "stubs");
    line(match &answer.stubs_stay_closed {
        None => {
            format!("{many}: they open by themselves; a program waits while the content comes.")
        }
        Some(why) => format!(
            "{many}: programs that open one are told \"permission denied\": {why}. By hand: katabatic fetch PATH"
        ),
    });
    Ok(())
}

fn say(app: &App, answer: &Answer) {
    line(format!(
        "The agent runs since {}, process {}.",
        time::time(EditTime(answer.since)),
        answer.process
    ));
    if let Some(pause) = answer.paused {
        line(match pause.until {
            Some(until) => format!("All lanes pause until {}.", time::time(EditTime(until))),
            None => "All lanes pause until somebody ends it: katabatic agent resume".to_owned(),
        });
    }
    if answer.lanes.is_empty() {
        line("There is no lane that runs by itself.");
    }
    for lane in &answer.lanes {
        line(format!("Lane {}", lane.lane));
        field(app.style, "doing", &doing(lane));
        field(app.style, "runs", &lane.when.join(", "));
        if !lane.follows.is_empty() {
            for (number, follows) in lane.follows.split("; ").enumerate() {
                field(app.style, if number == 0 { "hears" } else { "" }, follows);
            }
        }
        if let Some((at, how)) = &lane.last {
            field(
                app.style,
                "last pass",
                &format!("{}: {how}", time::exact(EditTime(*at))),
            );
        }
        if let Some(next) = lane.next {
            field(app.style, "next", &time::exact(EditTime(next)));
        }
        if let Doing::Failing { .. } = lane.doing {
            field(
                app.style,
                "Next:",
                &format!("katabatic doctor, then katabatic sync {}", lane.lane),
            );
        }
    }
}

/// Whether it runs as files change.
pub fn hears(lane: &LaneNow) -> bool {
    let hears = |when: &String| When::parse(when) == Ok(When::OnChange);
    lane.when.iter().any(hears)
}

/// What a lane is doing, in words.
pub fn doing(lane: &LaneNow) -> String {
    match &lane.doing {
        Doing::Idle if !hears(lane) => "nothing until its time comes".into(),
        Doing::Idle => "nothing: all that was heard of is carried".into(),
        Doing::Waiting => "waits until the folder is quiet".into(),
        Doing::Running {
            seen, files, bytes, ..
        } if files.0 == 0 && bytes.0 == 0 => {
            format!(
                "looks at both sides: {}",
                words::count(*seen, "path", "paths")
            )
        }
        Doing::Running { files, bytes, .. } => format!(
            "carries: {} of {}, {} of {}",
            words::bytes(bytes.1),
            words::bytes(bytes.0),
            words::grouped(files.1),
            words::count(files.0, "step", "steps")
        ),
        Doing::Unfit { waits_for } => format!("waits for {}", shown_text(waits_for)),
        Doing::Asking { why } => shown_text(why),
        Doing::Paused => match lane.paused_until {
            Some(until) => format!("paused until {}", time::time(EditTime(until))),
            None => "paused until somebody ends it".into(),
        },
        Doing::Failing { why, times } => {
            format!("{}: {}", failed_words(*times), shown_text(why))
        }
    }
}

fn agent_json(answer: &Answer) -> Value {
    let at = |nanos: i64| json::time(Some(EditTime(nanos)));
    let lane = |lane: &LaneNow| {
        let (what, why, times) = match &lane.doing {
            Doing::Idle => ("idle", None, None),
            Doing::Waiting => ("waiting", None, None),
            Doing::Running { .. } => ("running", None, None),
            Doing::Paused => ("paused", None, None),
            Doing::Unfit { waits_for } => ("unfit", Some(waits_for), None),
            Doing::Asking { why } => ("asking", Some(why), None),
            Doing::Failing { why, times } => ("failing", Some(why), Some(times)),
        };
        let moving = match &lane.doing {
            Doing::Running {
                seen,
                files,
                bytes,
                paths,
            } => json!({
                "seen": seen,
                "steps": {"all": files.0, "done": files.1},
                "bytes": {"all": bytes.0, "done": bytes.1},
                "paths": paths,
            }),
            _ => Value::Null,
        };
        json!({
            "lane": lane.lane,
            "doing": what,
            "moving": moving,
            "why": why,
            "times": times,
            "when": lane.when,
            "follows": lane.follows,
            "last": lane.last.as_ref().map(|(ended, how)| json!({"ended": at(*ended), "outcome": how})),
            "next": lane.next.map(at),
            "paused_until": lane.paused_until.map(at),
        })
    };
    json!({
        "process": answer.process,
        "since": at(answer.since),
        "paused": answer.paused.is_some(),
        "paused_until": answer.paused.and_then(|pause| pause.until).map(at),
        "lanes": answer.lanes.iter().map(lane).collect::<Vec<_>>(),
        "stubs_stay_closed": answer.stubs_stay_closed,
        "openings": openings_json(&answer.openings),
    })
}

fn failed_words(times: u32) -> String {
    let times = words::count(u64::from(times), "time", "times");
    format!("failed {times}, tried again")
}

/// Whether a lane runs by itself, in words, as `status` says it.
pub fn by_itself(answer: Option<&Answer>, name: &str) -> String {
    let Some(answer) = answer else {
        return "by hand alone: no agent runs (katabatic agent start)".into();
    };
    match answer.lanes.iter().find(|lane| lane.lane == name) {
        None => "by hand alone: the agent leaves it out".into(),
        Some(lane) => {
            let next = lane.next.map_or_else(String::new, |next| {
                format!("; next {}", time::time(EditTime(next)))
            });
            match &lane.doing {
                // Why it failed is said of the last pass.
                Doing::Failing { times, .. } => format!(
                    "by the agent, {}: {}{next}",
                    lane.when.join(", "),
                    failed_words(*times)
                ),
                Doing::Paused
                | Doing::Asking { .. }
                | Doing::Unfit { .. }
                | Doing::Running { .. } => {
                    format!(
                        "by the agent, {}: {}{next}",
                        lane.when.join(", "),
                        doing(lane)
                    )
                }
                Doing::Idle | Doing::Waiting => {
                    format!("by the agent, {}{next}", lane.when.join(", "))
                }
            }
        }
    }
}
