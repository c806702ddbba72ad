//! `openings`: what programs bring here by opening stubs, which of them may not, and how much one of them gets at once.

use clap::Args;
use std::process::ExitCode;

use katabatic_agent::{self as agent, Answer, Ask, KeptOut, OpeningsNow, UnderWay};
use katabatic_core::admission::{Rules, WITHIN};
use katabatic_core::{EditTime, words};
use katabatic_engine::{Error, lanes};
use serde_json::{Value, json};

use crate::app::App;
use crate::draw::{json, line, sentence, shown_text, time};
use crate::setup::size_of;

/// `openings`.
#[derive(Args, Clone, Debug, Default, PartialEq)]
pub struct OpeningsArgs {
    /// Programs of this name get no content of stubs: they only look at files; a * at the end stands for any rest
    #[arg(long, value_name = "PROGRAM")]
    pub keep_out: Vec<String>,
    /// Programs of this name, which were kept out, get it again
    #[arg(long, value_name = "PROGRAM")]
    pub let_in: Vec<String>,
    /// A program gets no more stubs than this within ten minutes
    #[arg(long, value_name = "NUMBER|none")]
    pub most_files: Option<String>,
    /// A program gets no more than this within ten minutes
    #[arg(long, value_name = "SIZE|none")]
    pub most_bytes: Option<String>,
    /// Back to what holds where nothing was set
    #[arg(long)]
    pub as_usual: bool,
}

/// What lifts a limit.
const NONE: &str = "none";

impl OpeningsArgs {
    /// What was typed, over what was so far.
    fn over(&self, so_far: &Rules) -> Result<Rules, Error> {
        let mut rules = so_far.clone();
        if self.as_usual {
            rules = Rules::default();
        }
        for name in &self.keep_out {
            check_name(name)?;
            if !rules.kept_out.contains(name) {
                rules.kept_out.push(name.clone());
            }
        }
        for name in &self.let_in {
            let before = rules.kept_out.len();
            rules.kept_out.retain(|rule| rule != name);
            if rules.kept_out.len() == before {
                return Err(Error::usage(
                    format!("letting {name} in"),
                    "it is not kept out under this name",
                    format!("Kept out are: {}.", listed(&rules.kept_out)),
                ));
            }
        }
        if let Some(typed) = &self.most_files {
            rules.files =
                match typed.as_str() {
                    NONE => None,
                    text => Some(text.parse().ok().filter(|files| *files > 0).ok_or_else(
                        || {
                            Error::usage(
                                format!("the number {text}"),
                                "it is no number of files above 0",
                                "Write it such as 500; `none` lifts the limit.",
                            )
                        },
                    )?),
                };
        }
        if let Some(typed) = &self.most_bytes {
            rules.bytes = match typed.as_str() {
                NONE => None,
                text => Some(size_of(text)?),
            };
        }
        Ok(rules)
    }
}

fn check_name(name: &str) -> Result<(), Error> {
    let stem = name.strip_suffix('*').unwrap_or(name);
    let odd = |c: char| c == '/' || c == '*' || c.is_control();
    if stem.is_empty() || stem.contains(odd) {
        return Err(Error::usage(
            format!("keeping {name} out"),
            "it is no name of a program",
            "Write the name alone, without its folder, such as tumblerd; a * at the end stands for any rest.",
        ));
    }
    Ok(())
}

pub fn openings(app: &App, typed: &OpeningsArgs) -> Result<ExitCode, Error> {
    let mut config = app.config.clone();
    let rules = typed.over(&config.openings)?;
    let changed = rules != config.openings;
    if changed {
        config.set_openings(rules.clone())?;
    }
    let answer = app.run(agent::ask(&app.home, &Ask::Status))?;
    if app.common.json {
        json::print(&json!({
            "keep_out": rules.kept_out,
            "most_files": rules.files,
            "most_bytes": rules.bytes,
            "within_seconds": WITHIN.as_secs(),
            "now": answer.map(|answer| openings_json(&answer.openings)),
        }));
        return Ok(ExitCode::SUCCESS);
    }
    let style = app.style;
    sentence(style, 0, &whether_they_open(app, answer.as_ref())?);
    if let Some(Answer { openings, .. }) = &answer {
        for under_way in &openings.under_way {
            sentence(
                style,
                0,
                &format!("On its way: {}", under_way_words(under_way)),
            );
        }
        for kept_out in &openings.kept_out {
            sentence(style, 0, &kept_out_words(kept_out, app.now()));
        }
    }
    let now = if changed { " now" } else { "" };
    sentence(style, 0, &limit_words(&rules, now));
    sentence(
        style,
        0,
        &match rules.kept_out.is_empty() {
            true => format!("No program is kept out by its name{now}."),
            false => format!("Kept out by name{now}: {}", listed(&rules.kept_out)),
        },
    );
    if changed && answer.is_some() {
        line("The agent keeps to it at once.");
    }
    line("What was opened before: katabatic runs");
    Ok(ExitCode::SUCCESS)
}

fn listed(names: &[String]) -> String {
    names.join(", ")
}

/// Whether a program that opens a stub gets its content.
fn whether_they_open(app: &App, answer: Option<&Answer>) -> Result<String, Error> {
    let mut stubs = 0;
    for lane in &app.config.lanes {
        stubs += lanes::stubs(&app.ledger, &lane.id)?.0;
    }
    let many = words::count(
        stubs,
        "stub is on this computer",
        "stubs are on this computer",
    );
    Ok(match answer.map(|answer| &answer.stubs_stay_closed) {
        _ if stubs == 0 => "There are no stubs: nothing comes by being opened.".into(),
        None => format!(
            "{many}, and no agent runs: programs that open one are told \"permission denied\". Next: katabatic agent start"
        ),
        Some(Some(why)) => format!(
            "{many}, and programs that open one are told \"permission denied\": {why}. Next: katabatic doctor"
        ),
        Some(None) => format!("{many}: a program that opens one waits while its content comes."),
    })
}

/// What a program may bring here, in words.
fn limit_words(rules: &Rules, now: &str) -> String {
    let files = rules
        .files
        .map(|files| words::count(files, "stub", "stubs"));
    let bytes = rules.bytes.map(words::bytes);
    let limits: Vec<String> = files.into_iter().chain(bytes).collect();
    match limits.is_empty() {
        true => format!("A program gets as much as it opens{now}."),
        false => format!(
            "A program gets at most {} within {}{now}; beyond that it is told \"operation not permitted\", and you are told of it.",
            limits.join(" or "),
            words::span(WITHIN.as_secs())
        ),
    }
}

/// Content that comes while a program waits, in words.
pub fn under_way_words(under_way: &UnderWay) -> String {
    let (all, done) = under_way.bytes;
    format!(
        "{}: {}, {} waits: {} of {} are here",
        under_way.lane,
        shown_text(&under_way.path),
        shown_text(&under_way.program),
        words::bytes(done),
        words::bytes(all)
    )
}

fn kept_out_words(kept_out: &KeptOut, now: EditTime) -> String {
    let times = words::count(kept_out.times, "time", "times");
    let (program, last) = (
        shown_text(&kept_out.program),
        time::exact(EditTime(kept_out.last)),
    );
    match (&kept_out.rule, kept_out.until) {
        (Some(rule), _) => {
            let let_in = words::typed(rule);
            format!(
                "Kept out: {program}, {times}, last at {last}, by its name. To let it in: katabatic openings --let-in {let_in}"
            )
        }
        (None, Some(until)) if until > now.0 => format!(
            "Kept out: {program}, {times}, last at {last}, until {}: it got too much at once. To bring all of it: katabatic fetch FOLDER",
            time::exact(EditTime(until))
        ),
        (None, _) => {
            format!(
                "Was kept out for a while: {program}, {times}, last at {last}: it got too much at once."
            )
        }
    }
}

/// What the agent tells about openings, for scripts.
pub fn openings_json(openings: &OpeningsNow) -> Value {
    let at = |nanos: i64| json::time(Some(EditTime(nanos)));
    let under_way = |one: &UnderWay| {
        json!({
            "lane": one.lane,
            "path": one.path,
            "program": one.program,
            "bytes": {"all": one.bytes.0, "done": one.bytes.1},
            "since": at(one.since),
        })
    };
    let kept_out = |one: &KeptOut| {
        json!({
            "program": one.program,
            "times": one.times,
            "last": at(one.last),
            "rule": one.rule,
            "until": one.until.map(at),
        })
    };
    json!({
        "under_way": openings.under_way.iter().map(under_way).collect::<Vec<_>>(),
        "kept_out": openings.kept_out.iter().map(kept_out).collect::<Vec<_>>(),
    })
}
