//! `agent status`: whether it runs, what each lane is doing, and what it waits for.

use std::process::ExitCode;

use katabatic_agent::{self as agent, Answer, Ask, Doing, LaneNow};
use katabatic_core::schedule::When;
use katabatic_core::{EditTime, words};
use katabatic_engine::{Error, lanes};
use serde_json::{Value, json};

use crate::app::App;
use crate::commands::openings::{openings_json, under_way_words};
use crate::draw::look::Look;
use crate::draw::table::{Cell, Rows};
use crate::draw::{field, json, line, sentence, shown_text, time};
use crate::exit;

pub fn status(app: &App) -> Result<ExitCode, Error> {
    let answer = app.run(agent::ask(&app.home, &Ask::Status))?;
    let died = agent::died(&app.home).filter(|_| answer.is_none());
    if app.common.json {
        json::print(
            &json!({"agent": answer.as_ref().map(agent_json), "died": died.map(|began| json!({"began": json::time(Some(began))}))}),
        );
    } else {
        match &answer {
            None => {
                line(match died {
                    Some(began) => died_words(began),
                    None => "No agent runs: lanes are synced by hand alone.".into(),
                });
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
    Ok(ExitCode::from(match needs || died.is_some() {
        true => exit::NEEDS_A_PERSON,
        false => 0,
    }))
}

/// That an agent ended without being told to.
pub fn died_words(began: EditTime) -> String {
    format!(
        "No agent runs any more: the one that began at {} was killed, or the computer went down. Nothing is carried by itself until it is started again.",
        time::exact(began)
    )
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
    let told = match &answer.stubs_stay_closed {
        None => {
            format!("{many}: they open by themselves; a program waits while the content comes.")
        }
        Some(why) => format!(
            "{many}: programs that open one are told \"permission denied\": {why}. By hand: katabatic fetch PATH"
        ),
    };
    sentence(app.style, 0, &told);
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
    match app.common.verbose > 0 {
        true => say_each(app, answer),
        false => say_table(app, answer),
    }
}

/// A line for each lane, and below it what somebody should know.
fn say_table(app: &App, answer: &Answer) {
    let mut rows = Rows::new(app.style, &["lane", "doing", "runs", "last pass", "next"]);
    // What somebody should know comes first.
    let mut lanes: Vec<&LaneNow> = answer.lanes.iter().collect();
    lanes.sort_by_key(|lane| rank(look(lane)));
    for lane in &lanes {
        let at = |at: &i64| time::exact(EditTime(*at));
        let last = lane
            .last
            .as_ref()
            .map(|(ended, how)| match look(lane) == Look::Cannot {
                // Why stands below.
                true => format!("{} failed", at(ended)),
                false => format!("{} {how}", at(ended)),
            });
        rows.add(vec![
            lane.lane.clone().into(),
            Cell::of(look(lane), short(lane)),
            lane.when.join(", ").into(),
            last.unwrap_or_default().into(),
            lane.next.as_ref().map_or_else(String::new, at).into(),
        ]);
    }
    rows.paths(0);
    rows.whole(1);
    rows.whole(4);
    rows.print_telling(0, &mut |at| {
        let lane = lanes[at];
        if tells_more(lane) {
            sentence(app.style, 2, &doing(lane));
        }
        if let Doing::Failing { .. } = lane.doing {
            let next = format!("Next: katabatic doctor, then katabatic sync {}", lane.lane);
            sentence(app.style, 2, &next);
        }
    });
    if !answer.lanes.is_empty() {
        line("What each lane listens to: katabatic -v agent status");
    }
}

/// Whether a word in the table does not say all.
fn tells_more(lane: &LaneNow) -> bool {
    match lane.doing {
        Doing::Idle | Doing::Waiting | Doing::Paused => false,
        Doing::Running { .. }
        | Doing::Unfit { .. }
        | Doing::Asking { .. }
        | Doing::Stopped { .. }
        | Doing::Failing { .. } => true,
    }
}

/// What a lane is doing, in a few words.
fn short(lane: &LaneNow) -> String {
    match &lane.doing {
        Doing::Idle if hears(lane) => "listens".to_owned(),
        Doing::Idle => "waits for its time".to_owned(),
        Doing::Waiting => "waits for quiet".to_owned(),
        Doing::Running { files, bytes, .. } if files.0 == 0 && bytes.0 == 0 => "looks".to_owned(),
        Doing::Running { .. } => "carries".to_owned(),
        Doing::Unfit { .. } => "held up".to_owned(),
        Doing::Asking { .. } => "waits for you".to_owned(),
        Doing::Stopped { .. } => "stopped".to_owned(),
        Doing::Paused => doing(lane),
        Doing::Failing { .. } => "failing".to_owned(),
    }
}

fn rank(look: Look) -> u8 {
    match look {
        Look::Cannot => 0,
        Look::WaitsForYou => 1,
        Look::UnderWay => 2,
        Look::Fine | Look::Aside | Look::Heading => 3,
    }
}

fn look(lane: &LaneNow) -> Look {
    match lane.doing {
        Doing::Idle => Look::Fine,
        Doing::Waiting | Doing::Running { .. } | Doing::Unfit { .. } => Look::UnderWay,
        Doing::Asking { .. } | Doing::Stopped { .. } | Doing::Paused => Look::WaitsForYou,
        Doing::Failing { .. } => Look::Cannot,
    }
}

/// All that is known of each lane.
fn say_each(app: &App, answer: &Answer) {
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
        Doing::Stopped { files: 0, .. } => {
            "ended by somebody while it looked at both sides; goes on later, or at once: katabatic agent resume".into()
        }
        Doing::Stopped { files, bytes } => format!(
            "ended by somebody with {}, {} left; goes on later, or at once: katabatic agent resume",
            words::count(*files, "step", "steps"),
            words::bytes(*bytes)
        ),
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
            Doing::Stopped { .. } => ("stopped", None, None),
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
            "left": match &lane.doing {
                Doing::Stopped { files, bytes } => json!({"steps": files, "bytes": bytes}),
                _ => Value::Null,
            },
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
pub fn by_itself(answer: Option<&Answer>, died: bool, name: &str) -> String {
    let Some(answer) = answer else {
        if died {
            return "by hand alone: the agent was killed, or the computer went down (katabatic agent start)".into();
        }
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
                Doing::Stopped { .. } => {
                    format!(
                        "by the agent, {}: {}{next}",
                        lane.when.join(", "),
                        doing(lane)
                    )
                }
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
