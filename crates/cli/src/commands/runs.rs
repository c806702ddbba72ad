//! `runs`: what passes did, each file, bytes, time taken.

use crate::draw::run_words::did;
use crate::draw::run_words::outcome;
use crate::draw::run_words::result_words;
use crate::draw::run_words::took;
use crate::exit;
use crate::lasting::{Unit, lasting};
use crate::typed_choice::{Choice, choice};
use clap::Args;
use katabatic_core::RunClass;
use std::io::IsTerminal;
use std::path::PathBuf;
use std::process::ExitCode;

use katabatic_core::words;
use katabatic_engine::{Class, Error, forget_runs};
use katabatic_ledger::runs::{self, Run, RunItem};
use serde_json::{Value, json};

use super::account::confirmed;
use crate::app::App;
use crate::draw::days::{self, Day};
use crate::draw::listing::Item;
use crate::draw::look::Look;
use crate::draw::table::{Cell, Rows};
use crate::draw::{json, line, listing, new_file, sentence, shown_text, time};

/// `runs`.
#[derive(Args, Debug)]
pub struct RunsArgs {
    /// A lane, or the number of a run to see file by file
    #[arg(value_name = "LANE|RUN")]
    pub about: Option<String>,
    /// How many of the last runs
    #[arg(long, default_value_t = 20, value_name = "N")]
    pub last: u32,
    /// Only of this day
    #[arg(long, value_name = "YYYY-MM-DD")]
    pub day: Option<String>,
    /// Only those that ended so
    #[arg(long, value_parser = choice::<RunClass>())]
    pub outcome: Option<RunClass>,
    /// Draw what was carried on each day of the last weeks
    #[arg(long, conflicts_with_all = ["day", "outcome"])]
    pub plot: bool,
    /// How many weeks to draw
    #[arg(long, value_name = "N", default_value_t = 4, value_parser = clap::value_parser!(u32).range(1..=53))]
    pub weeks: u32,
    /// Draw it into this new file
    #[arg(long, value_name = "FILE.svg", requires = "plot")]
    pub to: Option<PathBuf>,
    /// Forget what runs did that began longer ago than this, in whole days; versions in the spares keep theirs
    #[arg(long, value_name = "TIME", value_parser = lasting(Unit::Days, 1..=36_500), conflicts_with_all = ["about", "plot", "day", "outcome"])]
    pub forget_older_than: Option<u64>,
    /// Do it without asking
    #[arg(long, requires = "forget_older_than")]
    pub yes: bool,
}

pub fn runs(app: &App, typed: &RunsArgs) -> Result<ExitCode, Error> {
    if let Some(number) = typed
        .about
        .as_ref()
        .and_then(|about| about.parse::<i64>().ok())
    {
        one(app, number)?;
        return Ok(ExitCode::SUCCESS);
    }
    if let Some(name) = &typed.about {
        app.config.lane(name)?;
    }
    if let Some(days) = typed.forget_older_than {
        return forget(app, typed, days.cast_signed());
    }
    if typed.plot {
        return plot(app, typed);
    }
    let day = typed.day.as_deref().map(time::read_day).transpose()?;
    let filters = day.is_some() || typed.outcome.is_some();
    // Of which there may be few among many.
    let most = if filters { u32::MAX } else { typed.last };
    let all = app
        .ledger
        .read(|connection| runs::last(connection, typed.about.as_deref(), most))?;
    let all: Vec<Run> = all
        .into_iter()
        .filter(|run| day.as_ref().is_none_or(|day| time::day(run.began) == *day))
        .filter(|run| typed.outcome.is_none_or(|wanted| run.class() == wanted))
        .take(typed.last as usize)
        .collect();
    if app.common.json {
        json::print(&json!({"runs": all.iter().map(run_json).collect::<Vec<_>>()}));
        return Ok(ExitCode::SUCCESS);
    }
    if all.is_empty() {
        line(match filters {
            true => "No run that is remembered is like that.",
            false => "No pass has run yet.",
        });
        return Ok(ExitCode::SUCCESS);
    }
    let mut rows = Rows::new(
        app.style,
        &["run", "began", "lane", "command", "took", "did", "ended"],
    );
    for run in &all {
        let (look, word) = ended(run);
        rows.add(vec![
            run.number.to_string().into(),
            time::exact(run.began).into(),
            run.lane.clone().into(),
            shown_text(&run.command.to_string()).into(),
            took(run).into(),
            did(run).into(),
            Cell::of(look, word),
        ]);
    }
    for number in [0, 4] {
        rows.numbers(number);
    }
    rows.whole(1);
    rows.paths(2);
    rows.paths(3);
    rows.whole(6);
    rows.print_telling(0, &mut |at| {
        let run = &all[at];
        if !matches!(run.class(), RunClass::Fine | RunClass::Running) {
            sentence(app.style, 2, &outcome(run));
        }
    });
    line("Each file of a run: katabatic runs NUMBER");
    Ok(ExitCode::SUCCESS)
}

/// How a run ended, in a few words.
fn ended(run: &Run) -> (Look, String) {
    match run.class() {
        RunClass::Fine => (Look::Fine, outcome(run)),
        RunClass::NeedsPerson => (Look::WaitsForYou, "waits for you".to_owned()),
        RunClass::Failed => (Look::Cannot, "failed".to_owned()),
        RunClass::Running => (Look::UnderWay, outcome(run)),
        RunClass::CutOff => (Look::Cannot, "cut off".to_owned()),
    }
}

fn plot(app: &App, typed: &RunsArgs) -> Result<ExitCode, Error> {
    if let Some(to) = &typed.to {
        new_file::check(to, &["svg"])?;
    }
    let since = days::begin(typed.weeks);
    let runs = app
        .ledger
        .read(|connection| runs::since(connection, typed.about.as_deref(), since))?;
    let drawn = days::of(&runs, typed.weeks);
    if let Some(to) = &typed.to {
        new_file::write(to, &days::svg(&drawn), "Nothing was changed.")?;
    }
    if app.common.json {
        let day = |day: &Day| {
            json!({
                "day": day.date.to_string(),
                "runs": day.runs,
                "failed": day.failed,
                "person": day.person,
                "up": {"files": day.up.0, "bytes": day.up.1},
                "down": {"files": day.down.0, "bytes": day.down.1},
            })
        };
        json::print(&json!({"days": drawn.iter().map(day).collect::<Vec<_>>()}));
    } else if let Some(to) = &typed.to {
        line(format!(
            "Drawn into {}",
            shown_text(&to.display().to_string())
        ));
    } else {
        days::print(app.style, &drawn);
    }
    Ok(ExitCode::SUCCESS)
}

/// Forgets the words about old runs, shown first.
fn forget(app: &App, typed: &RunsArgs, days: i64) -> Result<ExitCode, Error> {
    let now = app.now();
    let old = forget_runs::old(&app.ledger, now, days)?;
    let asks = app.style.terminal && std::io::stdin().is_terminal();
    let says = !app.common.json;
    if says {
        line(format!(
            "{} began more than {} ago. No version goes with them.",
            words::count(old, "run", "runs"),
            words::count(days.unsigned_abs(), "day", "days")
        ));
    }
    let forgets = old > 0 && (typed.yes || asks);
    if forgets {
        if !confirmed(app, typed.yes, "Forget what they did?")? {
            return Err(Error::new(
                Class::Failed,
                "forgetting old runs",
                "they are to be kept, as was said",
                "Nothing was changed.",
            ));
        }
        app.run(forget_runs::forget(&app.ledger, now, days))?;
    }
    match (says, forgets, old) {
        (false, ..) => {
            json::print(&json!({"old": old, "forgotten": if forgets { old } else { 0 }}))
        }
        (true, true, _) => line("Forgotten."),
        (true, false, 0) => {}
        (true, false, _) => line("Nothing was forgotten. To do it: the same with --yes"),
    }
    Ok(exit::only_shown(old > 0 && !forgets))
}

/// The run of this number.
pub fn find(app: &App, number: i64) -> Result<Run, Error> {
    app.ledger
        .read(|connection| runs::run(connection, number))?
        .ok_or_else(|| {
            Error::usage(
                format!("the run {number}"),
                "there is none of that number",
                "List them: katabatic runs",
            )
        })
}

fn one(app: &App, number: i64) -> Result<(), Error> {
    let run = find(app, number)?;
    let items = app
        .ledger
        .read(|connection| runs::items(connection, number))?;
    if app.common.json {
        let mut value = run_json(&run);
        value["items"] = items
            .iter()
            .map(|item| json!({"path": item.path, "action": words::deed(&item.deed), "reason": item.reason, "bytes": item.bytes, "result": words::item_outcome(&item.outcome), "at": json::time(item.at)}))
            .collect();
        json::print(&json!({"run": value}));
        return Ok(());
    }
    line(format!(
        "Run {number} of lane {}: {}, began {}, took {}",
        run.lane,
        run.command,
        time::exact(run.began),
        took(&run)
    ));
    line(format!("  outcome: {}", outcome(&run)));
    let item = |item: &RunItem| Item {
        lead: match item.at {
            Some(at) => format!("{}  {}", time::exact(at), words::deed(&item.deed)).into(),
            None => words::deed(&item.deed).into(),
        },
        name: shown_text(&item.path),
        size: if item.bytes > 0 {
            words::bytes(item.bytes)
        } else {
            String::new()
        },
        reason: result_words(item),
    };
    listing::print(app.style, 2, &items.iter().map(item).collect::<Vec<_>>());
    if run.counts.removed + run.counts.replaced > 0 {
        line(format!(
            "To take back what it removed or replaced: katabatic undo {number}"
        ));
    }
    Ok(())
}

fn run_json(run: &Run) -> Value {
    let counts = &run.counts;
    json!({
        "number": run.number,
        "lane": run.lane,
        "command": run.command.to_string(),
        "began": json::time(Some(run.began)),
        "ended": json::time(run.ended),
        "outcome": run.outcome.as_ref().map(words::run_outcome),
        "class": run.class().name(),
        "up": {"files": counts.files_up, "bytes": counts.bytes_up},
        "down": {"files": counts.files_down, "bytes": counts.bytes_down},
        "moved": counts.moved,
        "stubs": counts.stubs,
        "shed": {"files": counts.shed, "bytes": counts.bytes_shed},
        "dropped": counts.dropped,
        "removed": counts.removed,
        "replaced": counts.replaced,
        "conflicts": counts.conflicts,
        "stuck": counts.stuck,
        "drift": counts.drift,
        "kept_back": counts.kept_back,
        "asking": counts.asking,
    })
}
