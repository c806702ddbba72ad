//! `runs`: what passes did, each file, bytes, time taken.

use std::process::ExitCode;

use katabatic_core::words;
use katabatic_engine::Error;
use katabatic_engine::ledger::runs::{self, Run, RunItem};
use serde_json::{Value, json};

use crate::app::App;
use crate::args::{self, OutcomeTyped};
use crate::draw::listing::Item;
use crate::draw::{json, line, listing, shown_text, time};

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
        .filter(|run| typed.outcome.is_none_or(|wanted| ended(run) == wanted))
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

fn ended(run: &Run) -> OutcomeTyped {
    let needs = run.counts.conflicts + run.counts.stuck + run.counts.asking > 0;
    match run.outcome.as_deref() {
        None => OutcomeTyped::CutOff,
        Some("needs a person") => OutcomeTyped::Person,
        Some(_) if needs => OutcomeTyped::Person,
        Some(outcome) if runs::FINE.contains(&outcome) => OutcomeTyped::Fine,
        Some(_) => OutcomeTyped::Failed,
    }
}

fn did(run: &Run) -> String {
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
    say(counts.dropped, "dropped here", None);
    say(counts.removed, "removed", None);
    if did.is_empty() {
        "nothing carried".into()
    } else {
        did.join(", ")
    }
}

fn took(run: &Run) -> String {
    match run.ended {
        Some(ended) => match ended.0.saturating_sub(run.began.0) / 1_000_000 {
            short @ ..1000 => format!("{short} ms"),
            long => format!("{:.1} s", long as f64 / 1e3),
        },
        None => "-".to_owned(),
    }
}

fn outcome(run: &Run) -> String {
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
            format!("{outcome}: {}", parts.join(", "))
        }
        Some(outcome) => shown_text(outcome),
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
            .map(|item| json!({"path": item.path, "action": item.action, "bytes": item.bytes, "result": item.result}))
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
        lead: item.action.clone(),
        name: shown_text(&item.path),
        size: if item.bytes > 0 {
            words::bytes(item.bytes)
        } else {
            String::new()
        },
        reason: item.result.clone(),
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
        "outcome": run.outcome,
        "up": {"files": counts.files_up, "bytes": counts.bytes_up},
        "down": {"files": counts.files_down, "bytes": counts.bytes_down},
        "moved": counts.moved,
        "dropped": counts.dropped,
        "removed": counts.removed,
        "replaced": counts.replaced,
        "conflicts": counts.conflicts,
        "stuck": counts.stuck,
        "drift": counts.drift,
        "asking": counts.asking,
    })
}
