//! `doctor`: what usually goes wrong, looked for, and the command that mends it.

use std::process::ExitCode;

use katabatic_agent::Ask;
use katabatic_core::words;
use katabatic_engine::Error;
use katabatic_engine::doctor::{Check, Doctor, RunningAgent};
use serde_json::json;

use crate::app::App;
use crate::draw::look::{Drawn, Look};
use crate::draw::table::{Cell, Rows};
use crate::draw::{json, line};
use crate::exit;

/// What looks, for this person on this computer.
pub fn about(app: &App) -> Doctor<'_> {
    let agent = app.run(katabatic_agent::ask(&app.home, &Ask::Status));
    let died = katabatic_agent::died(&app.home);
    Doctor {
        agent_died: died,
        agent: agent.ok().flatten().map(|agent| RunningAgent {
            stubs_stay_closed: agent.stubs_stay_closed,
        }),
        home: &app.home,
        config: &app.config,
        ledger: &app.ledger,
        stop: &app.stop,
        now: app.now(),
    }
}

pub fn doctor(app: &App) -> Result<ExitCode, Error> {
    let checks = app.run(about(app).look())?;
    let wrong = checks.iter().filter(|check| !check.fine).count() as u64;
    if app.common.json {
        let checks: Vec<_> = checks.iter().map(check_json).collect();
        json::print(&json!({"checks": checks, "wrong": wrong}));
    } else {
        say(app, &checks);
        line(match wrong {
            0 if app.common.verbose > 0 => "All is well.".to_owned(),
            0 => "All is well. Each look in words: katabatic doctor -v".to_owned(),
            _ => format!(
                "{} to be mended.",
                words::count(wrong, "thing is", "things are")
            ),
        });
    }
    Ok(ExitCode::from(if wrong > 0 {
        exit::NEEDS_A_PERSON
    } else {
        0
    }))
}

/// Each look of what is not all well; what is well takes a line, unless more was asked for.
fn say(app: &App, checks: &[Check]) {
    for group in checks.chunk_by(|one, next| one.about == next.about) {
        let about = &group[0].about;
        if group.iter().all(|check| check.fine) && app.common.verbose == 0 {
            let asked: Vec<&str> = group.iter().map(|check| check.asked).collect();
            line(format!("{about}: fine ({})", asked.join(", ")));
            continue;
        }
        Drawn::of(Look::Heading, about).print();
        let mut rows = Rows::bare(app.style, 3);
        for check in group {
            let (look, word) = match check.fine {
                true => (Look::Fine, "fine"),
                false => (Look::Cannot, "WRONG"),
            };
            rows.add(vec![
                Cell::of(Look::Aside, check.asked),
                Cell::of(look, word),
                check.found.clone().into(),
            ]);
            if let Some(mend) = &check.mend {
                let empty = || Cell::of(Look::Fine, "");
                rows.add(vec![empty(), empty(), format!("mend it: {mend}").into()]);
            }
        }
        rows.whole(0);
        rows.whole(1);
        rows.print(2);
    }
}

fn check_json(check: &Check) -> serde_json::Value {
    json!({
        "about": check.about,
        "asked": check.asked,
        "fine": check.fine,
        "found": check.found,
        "mend": check.mend,
    })
}
