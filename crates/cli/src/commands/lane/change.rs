//! `lane change`: every setting of a lane, with its effect on the next pass shown first.

use katabatic_engine::Error;
use katabatic_engine::config::{LaneConfig, QUIET};
use katabatic_engine::lanes::{self, starts_anew};
use serde_json::json;

use super::{described, lacks_json, place, run_words, say_next_pass};
use crate::app::App;
use crate::args::LaneChange;
use crate::commands::account::confirmed;
use crate::commands::plan::totals_json;
use crate::draw::{json, line};
use crate::limits;

pub fn change(app: &App, typed: &LaneChange) -> Result<(), Error> {
    let what = || format!("changing the lane {}", typed.name);
    let before = app.config.lane(&typed.name)?.clone();
    let after = changed(app, typed, &before)?;
    if after == before {
        let far = typed
            .far
            .as_ref()
            .map(|_| format!("it is tied to {} already", before.far_place()));
        return Err(Error::usage(
            what(),
            far.unwrap_or_else(|| "nothing would be different".into()),
            "Name what is to change: katabatic lane change --help",
        ));
    }
    let change_it = || {
        let mut config = app.config.clone();
        app.run(lanes::change(
            &app.home,
            &mut config,
            &app.ledger,
            after.clone(),
        ))
    };
    // What only says how a pass runs, and not what it does, needs no look at both sides.
    if what_it_does(&after) == what_it_does(&before) {
        change_it()?;
        return said_how(app, &before, &after);
    }
    let next = app.run(lanes::preview_change(
        &app.home,
        &app.config,
        &app.ledger,
        &after,
        &app.stop,
    ))?;
    if !app.common.json {
        for said in differences(&before, &after) {
            line(said);
        }
        if starts_anew(&before, &after) {
            line("What lies on both sides is compared, not carried. Its next pass would:");
        } else {
            line("Its next pass would:");
        }
        say_next_pass(&next, &after);
    }
    if !confirmed(app, typed.yes, "Change it so?")? {
        return Err(Error::failed(
            what(),
            "it is not to be changed, as was said",
            "Nothing was changed.",
        ));
    }
    change_it()?;
    if app.common.json {
        json::print(&json!({
            "lane": described(&after),
            "first_pass": totals_json(&next.plan.totals()),
            "far_read_only": next.far_read_only,
            "unwise": next.unwise,
            "lacks": lacks_json(&next.lacks),
        }));
        return Ok(());
    }
    line(format!(
        "Changed. Nothing was carried or removed. Next: katabatic sync {}",
        typed.name
    ));
    Ok(())
}

fn changed(app: &App, typed: &LaneChange, before: &LaneConfig) -> Result<LaneConfig, Error> {
    let mut after = before.clone();
    if let Some(far) = &typed.far {
        after.far = place(app, far)?;
    }
    typed.setup.over(after, typed.usual_rules)
}

fn what_it_does(lane: &LaneConfig) -> LaneConfig {
    LaneConfig {
        by_name_only: false,
        limits: Default::default(),
        when: Vec::new(),
        quiet: QUIET,
        ..lane.clone()
    }
}

fn said_how(app: &App, before: &LaneConfig, after: &LaneConfig) -> Result<(), Error> {
    if app.common.json {
        json::print(&json!({"lane": described(after)}));
        return Ok(());
    }
    let name = &after.name;
    if before.limits != after.limits {
        line(match limits::words(after.limits) {
            words if words.is_empty() => format!("The lane {name} has no limits now."),
            words => {
                format!("From the next pass on, the lane {name} takes at most {words}.")
            }
        });
    }
    if (&before.when, before.quiet) != (&after.when, after.quiet) {
        line(format!(
            "The agent runs the lane {name} {}.",
            run_words(after)
        ));
    }
    if before.by_name_only != after.by_name_only {
        line(if after.by_name_only {
            format!(
                "From now on the lane {name} is synced only when it is named: katabatic sync {name}"
            )
        } else {
            format!("From now on a plain katabatic sync takes the lane {name} along.")
        });
    }
    Ok(())
}

/// What is another one afterwards, a sentence each.
fn differences(before: &LaneConfig, after: &LaneConfig) -> Vec<String> {
    let mut said = Vec::new();
    let name = &after.name;
    if before.far != after.far {
        said.push(format!(
            "The lane {name} would be tied to {} instead of {}, which stays as it is.",
            after.far_place(),
            before.far_place()
        ));
    }
    let (old, new) = (before.terms, after.terms);
    let mut other = |what: &str, differ: bool, word: &str, meaning: &str| {
        if differ {
            said.push(format!("{what} would be {word}: {meaning}."));
        }
    };
    other(
        "Direction",
        old.direction != new.direction,
        new.direction.word(),
        new.direction.meaning(),
    );
    other(
        "Removals",
        old.removals != new.removals,
        new.removals.word(),
        new.removals.meaning(),
    );
    other(
        "Drift",
        old.drift != new.drift,
        new.drift.word(),
        new.drift.meaning(),
    );
    other(
        "Updates",
        old.updates != new.updates,
        new.updates.word(),
        new.updates.meaning(),
    );
    let known =
        |lane: &LaneConfig, text: &str| lane.selection.rules.iter().any(|rule| rule.text() == text);
    for rule in &after.selection.rules {
        if !known(before, rule.text()) {
            said.push(format!("A new rule: {} ({})", rule.text(), rule.meaning()));
        }
    }
    for rule in &before.selection.rules {
        if !known(after, rule.text()) {
            said.push(format!("No rule any more: {}", rule.text()));
        }
    }
    said
}
