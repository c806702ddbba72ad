//! `agent …`: the background process that runs lanes by itself.

mod by_root;
mod install;
mod start;
mod status;

use crate::commands::agent::install::AgentInstallArgs;
use crate::common::NamedLane;
use clap::Args;
use clap::Subcommand;
use std::path::PathBuf;
use std::process::ExitCode;

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use katabatic_agent::{self as agent, Answer, Ask};
use katabatic_core::EditTime;
use katabatic_engine::{Class, Error};
use serde_json::json;

use crate::app::App;
use crate::draw::{json, line, time};

pub use by_root::by_root;
pub use start::start;
pub use status::{by_itself, died_words, doing, hears};

/// `agent …`.
#[derive(Debug, Subcommand)]
pub enum AgentCommand {
    /// Run it here until it is told to end, with Ctrl-C or by `agent stop`
    Run(AgentRunArgs),
    /// Start it in the background
    Start,
    /// End it; what is being placed is finished, the rest goes on later
    Stop,
    /// Show whether it runs, what each lane is doing, and what comes next
    Status,
    /// Leave a lane, or all, alone for a while
    Pause(AgentPauseArgs),
    /// Go on
    Resume(AgentResumeArgs),
    /// End just the pass that a lane is in
    StopPass(NamedLane),
    /// Let it start with the computer, by systemd
    Install(AgentInstallArgs),
}

/// `agent run`.
#[derive(Args, Debug)]
pub struct AgentRunArgs {
    /// Where the opener listens, by which stubs open themselves
    #[arg(long, value_name = "SOCKET", default_value = katabatic_opener::DEFAULT_SOCKET)]
    pub opener: PathBuf,
}

/// `agent pause`.
#[derive(Args, Debug)]
pub struct AgentPauseArgs {
    /// The lane; all where none is named
    pub lane: Option<String>,
    /// For so long, such as 30m or 2h; until somebody ends it where nothing is said
    #[arg(long, value_name = "TIME", conflicts_with = "until")]
    pub lasting: Option<String>,
    /// Until the clock shows this, such as 17:00
    #[arg(long, value_name = "HH:MM")]
    pub until: Option<String>,
}

/// `agent resume`.
#[derive(Args, Debug)]
pub struct AgentResumeArgs {
    /// The lane; all where none is named
    pub lane: Option<String>,
}

pub fn agent(app: &App, typed: &AgentCommand) -> Result<ExitCode, Error> {
    match typed {
        AgentCommand::Run(typed) => run(app, typed),
        AgentCommand::Status => status::status(app),
        AgentCommand::Install(typed) => install::install(app, typed),
        AgentCommand::Start => start::start(app),
        AgentCommand::Stop => start::stop(app),
        AgentCommand::Pause(typed) => pause(app, typed),
        AgentCommand::Resume(typed) => {
            check_lane(app, typed.lane.as_deref())?;
            let lane = typed.lane.clone();
            let said = format!("{} go on.", which(typed.lane.as_deref()));
            ask_for(app, Ask::Resume { lane }, &said)
        }
        AgentCommand::StopPass(typed) => {
            app.config.lane(&typed.name)?;
            let lane = typed.name.clone();
            let said = format!("The pass of lane {lane} sets down what it carries, and ends.");
            ask_for(app, Ask::StopPass { lane }, &said)
        }
    }
}

fn run(app: &App, typed: &AgentRunArgs) -> Result<ExitCode, Error> {
    let say = |text: &str| crate::draw::say(format!("katabatic: {text}"));
    let config = app.config.clone();
    app.run(agent::run(
        &app.home,
        config,
        &app.ledger,
        &typed.opener,
        &say,
    ))?;
    Ok(ExitCode::SUCCESS)
}

fn check_lane(app: &App, lane: Option<&str>) -> Result<(), Error> {
    match lane {
        Some(name) => app.config.lane(name).map(drop),
        None => Ok(()),
    }
}

fn which(lane: Option<&str>) -> String {
    match lane {
        Some(lane) => format!("Passes of lane {lane}"),
        None => "All lanes".into(),
    }
}

fn pause(app: &App, typed: &AgentPauseArgs) -> Result<ExitCode, Error> {
    check_lane(app, typed.lane.as_deref())?;
    let until = match (&typed.lasting, &typed.until) {
        (Some(span), _) => Some(after(app.now(), span)?),
        (None, Some(at)) => Some(until(at)?),
        (None, None) => None,
    };
    let ask = Ask::Pause {
        lane: typed.lane.clone(),
        until: until.map(|until| until.0),
    };
    let lane = typed.lane.as_deref();
    let resume = lane.map_or_else(String::new, |lane| format!(" {lane}"));
    let said = match until {
        Some(until) => format!("{} pause until {}.", which(lane), time::time(until)),
        None => format!(
            "{} pause until somebody ends it: katabatic agent resume{resume}",
            which(lane)
        ),
    };
    ask_for(app, ask, &said)
}

fn after(now: EditTime, text: &str) -> Result<EditTime, Error> {
    let span = text.parse::<SignedDuration>().ok();
    let span =
        span.filter(|span| span.is_positive() && *span <= SignedDuration::from_hours(24 * 366));
    let nanos = span.and_then(|span| i64::try_from(span.as_nanos()).ok());
    let until = nanos.and_then(|nanos| now.0.checked_add(nanos));
    until.map(EditTime).ok_or_else(|| {
        Error::usage(
            format!("the pause of {text}"),
            "that is no time to wait",
            "Write it as 30m, 2h or 1h30m.",
        )
    })
}

/// The next time the clock on the wall shows this.
fn until(text: &str) -> Result<EditTime, Error> {
    let wrong = || {
        Error::usage(
            format!("the time {text}"),
            "it is none",
            "Write it as 17:00.",
        )
    };
    let at: jiff::civil::Time = match text.len() {
        4 | 5 => format!("{text:0>5}:00").parse().map_err(|_| wrong())?,
        _ => return Err(wrong()),
    };
    let now = Timestamp::now().to_zoned(TimeZone::system());
    let on = |date: jiff::civil::Date| date.to_datetime(at).to_zoned(TimeZone::system()).ok();
    let today = on(now.date()).filter(|due| *due > now);
    let due = today
        .or_else(|| on(now.date().tomorrow().ok()?))
        .ok_or_else(wrong)?;
    let nanos = i64::try_from(due.timestamp().as_nanosecond()).map_err(|_| wrong())?;
    Ok(EditTime(nanos))
}

/// Asks the agent; one that does not run cannot do it.
fn asked(app: &App, ask: &Ask) -> Result<Answer, Error> {
    let answer = app.run(agent::ask(&app.home, ask))?;
    let answer = answer.ok_or_else(|| {
        Error::new(
            Class::Failed,
            "asking the agent",
            "no agent runs",
            "Start it: katabatic agent start",
        )
    })?;
    match &answer.error {
        None => Ok(answer),
        Some(why) => Err(Error::failed(
            "asking the agent",
            why,
            "See what it is doing: katabatic agent status",
        )),
    }
}

fn ask_for(app: &App, ask: Ask, said: &str) -> Result<ExitCode, Error> {
    let answer = asked(app, &ask)?;
    if app.common.json {
        json::print(&json!({"done": answer.done}));
    } else if answer.done {
        line(said);
    } else {
        line("No pass of it runs now.");
    }
    Ok(ExitCode::SUCCESS)
}
