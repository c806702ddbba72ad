//! `runs`: what passes did, each file, bytes, time taken.

use std::io::IsTerminal;
use std::process::ExitCode;

use katabatic_core::words;
use katabatic_engine::{Class, Error, forget_runs};
use katabatic_ledger::runs::{self, Run, RunItem};
use serde_json::{Value, json};

use super::account::confirmed;
use crate::app::App;
use crate::args;
use crate::draw::days::{self, Day};
use crate::draw::listing::Item;
use crate::draw::{json, line, listing, new_file, shown_text, time};

pub fn runs(app: &App, typed: &args::Runs) -> Result<ExitCode, Error> {
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
        return forget(app, typed, days);
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
        .filter(|run| {
            typed
                .outcome
                .is_none_or(|wanted| run.class() == wanted.class())
        })
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
    let number = all
        .iter()
        .map(|run| run.number.to_string().len())
        .max()
        .unwrap_or(1);
    let item = |run: &Run| Item {
        lead: format!(
            "{:>number$}  {} {}, {}, {}",
            run.number,
            run.lane,
            run.command,
            time::exact(run.began),
            took(run)
        ),
        name: did(run),
        size: String::new(),
        reason: outcome(run),
    };
    listing::print(app.style, 0, &all.iter().map(item).collect::<Vec<_>>());
    line("Each file of a run: katabatic runs NUMBER");
    Ok(ExitCode::SUCCESS)
}

fn plot(app: &App, typed: &args::Runs) -> Result<ExitCode, Error> {
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
fn forget(app: &App, typed: &args::Runs, days: i64) -> Result<ExitCode, Error> {
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
    Ok(ExitCode::SUCCESS)
}

/// What a run did, in numbers.
pub fn did(run: &Run) -> String {
    let counts = &run.counts;
    let mut did = Vec::new();
    let mut say = |count: u64, what: &str, bytes: Option<u64>| {
        if count > 0 {
            let bytes =
                bytes.map_or_else(String::new, |bytes| format!(" ({})", words::bytes(bytes)));
            did.push(format!("{} {what}{bytes}", words::grouped(count)));
        }
    };
    say(counts.files_up, "up", Some(counts.bytes_up));
    say(counts.files_down, "down", Some(counts.bytes_down));
    say(counts.replaced, "replaced", None);
    say(counts.moved, "moved", None);
    say(counts.stubs, "stubs", None);
    say(counts.shed, "shed", Some(counts.bytes_shed));
    say(counts.dropped, "dropped here", None);
    say(counts.removed, "removed", None);
    if did.is_empty() {
        "nothing carried".into()
    } else {
        did.join(", ")
    }
}

/// How long it took.
pub fn took(run: &Run) -> String {
    match run.ended {
        Some(ended) => match ended.0.saturating_sub(run.began.0) / 1_000_000 {
            short @ ..1000 => format!("{short} ms"),
            long => format!("{:.1} s", long as f64 / 1e3),
        },
        None => "-".to_owned(),
    }
}

/// How it ended, in words.
pub fn outcome(run: &Run) -> String {
    let counts = &run.counts;
    match &run.outcome {
        None => "cut off; the next sync completes it".to_owned(),
        Some(outcome) if counts.conflicts + counts.stuck > 0 => {
            let mut parts = Vec::new();
            if counts.conflicts > 0 {
                parts.push(words::count(counts.conflicts, "conflict", "conflicts"));
            }
            if counts.stuck > 0 {
                parts.push(format!("{} stuck", words::grouped(counts.stuck)));
            }
            format!("{}: {}", words::run_outcome(outcome), parts.join(", "))
        }
        Some(outcome) => shown_text(&words::run_outcome(outcome)),
    }
}

/// How it ended for one path, and why it was to be done.
pub fn result_words(item: &RunItem) -> String {
    let outcome = words::item_outcome(&item.outcome);
    match item.reason.is_empty() {
        true => shown_text(&outcome),
        false => shown_text(&format!("{outcome}; {}", item.reason)),
    }
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
            Some(at) => format!("{}  {}", time::exact(at), words::deed(&item.deed)),
            None => words::deed(&item.deed),
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
        "command": run.command,
        "began": json::time(Some(run.began)),
        "ended": json::time(run.ended),
        "outcome": run.outcome.as_ref().map(words::run_outcome),
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
        "asking": counts.asking,
    })
}
