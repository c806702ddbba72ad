//! `lane change`: every setting of a lane, with its effect on the next pass shown first.

use crate::setup::ContentsTyped;
use crate::setup::SetupArgs;
use clap::Args;
use katabatic_core::room::Budget;
use katabatic_core::{Contents, RelPath, Step, words};
use katabatic_engine::Error;
use katabatic_engine::config::{LaneConfig, ProofBy, QUIET};
use katabatic_engine::lanes::{self, NextPass, removes_nothing_next, starts_anew};
use katabatic_engine::pass::{WantedContents, Wish};
use katabatic_sides::effort::IN_FLIGHT;
use serde_json::json;

use super::show::room_words;
use super::{described, lacks_json, place, run_words, say_next_pass};
use crate::about::About;
use crate::app::App;
use crate::commands::account::agreed;
use crate::commands::contents::{self, left_out_stubs};
use crate::commands::plan::{totals_json, totals_words};
use crate::draw::{json, line, sentence, shown_text};
use crate::limits;
use crate::setup::folder_of;

/// `lane change`.
#[derive(Args, Debug, Default, PartialEq)]
pub struct LaneChangeArgs {
    /// The lane
    #[arg(value_name = "LANE")]
    pub name: String,
    /// The folder that becomes its far side
    #[arg(long, value_name = "@ACCOUNT/FOLDER|DIR")]
    pub far: Option<String>,
    /// Make that folder where it is missing
    #[arg(long, requires = "far")]
    pub make: bool,
    /// Leave out what desktops and office programs leave behind
    #[arg(long)]
    pub usual_rules: bool,
    /// How it works.
    #[command(flatten)]
    pub setup: SetupArgs,
    /// What --contents says is to hold for this folder of the lane alone, and all below it
    #[arg(long = "in", value_name = "FOLDER", requires = "contents")]
    pub in_folder: Option<String>,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

/// What was asked for is so already, or nothing was asked for at all.
fn so_already(app: &App, typed: &LaneChangeArgs, lane: &LaneConfig) -> Result<(), Error> {
    let asks_nothing = LaneChangeArgs {
        name: typed.name.clone(),
        yes: typed.yes,
        ..LaneChangeArgs::default()
    };
    if *typed == asks_nothing {
        return Err(Error::usage(
            format!("changing the lane {}", typed.name),
            "nothing was said that is to change",
            "Name what is to change: katabatic lane change --help",
        ));
    }
    match app.common.json {
        true => json::print(&json!({"lane": described(lane), "so_already": true})),
        false => line(format!(
            "It is so already: nothing about the lane {} was changed.",
            lane.name
        )),
    }
    Ok(())
}

pub fn change(app: &App, typed: &LaneChangeArgs) -> Result<(), Error> {
    let what = || format!("changing the lane {}", typed.name);
    let before = app.config.lane(&typed.name)?.clone();
    let after = changed(app, typed, &before)?;
    if after == before {
        return so_already(app, typed, &before);
    }
    lanes::check_proof(&app.ledger, &after)?;
    let change_it = || {
        let mut config = app.config.clone();
        app.run(lanes::change(
            &app.home,
            &mut config,
            &app.ledger,
            after.clone(),
        ))
    };
    if wishes(&before.contents) != wishes(&after.contents) {
        return change_over(app, typed, &before, &after);
    }
    // What only says how a pass runs, and not what it does, needs no look at both sides, and waits for no pass.
    if what_it_does(&after) == what_it_does(&before) {
        app.config.clone().change_lane(after.clone())?;
        return said_how(app, &before, &after);
    }
    let next = app.run(lanes::preview_change(
        &app.home,
        &app.config,
        &app.ledger,
        &after,
        typed.make,
        &app.stop,
    ))?;
    if !app.common.json {
        for said in differences(&before, &after) {
            line(said);
        }
        if starts_anew(&before, &after) {
            line("What lies on both sides is compared, not carried. Its next pass would:");
        } else if removes_nothing_next(&before, &after) {
            line(
                "What the lane carried stays known as its own. Its next pass removes nothing, and would:",
            );
        } else {
            line("Its next pass would:");
        }
        say_next_pass(app, &next, &after);
        say_stubs_left_out(app, &next, &after);
    }
    agreed(app, typed.yes, &what(), "Change it so?")?;
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

/// Content that nothing would bring here any more.
fn say_stubs_left_out(app: &App, next: &NextPass, after: &LaneConfig) {
    let stubs = left_out_stubs(&next.plan, &Wish::default());
    let carried_till_now = |step: &&&Step| step.seen.base.is_some();
    let count = stubs.iter().filter(carried_till_now).count() as u64;
    if count > 0 {
        let told = format!(
            "Mind: {} now, whose content is only on the other side; left out, nothing brings it any more. To have it first: katabatic fetch {} --only RULE",
            words::count(count, "of these is a stub", "of these are stubs"),
            after.name
        );
        sentence(app.style, 0, &told);
    }
}

/// New files come otherwise from now on, and what is here changes over with them: its content goes, once it is proven to be
/// there, or comes.
fn change_over(
    app: &App,
    typed: &LaneChangeArgs,
    before: &LaneConfig,
    after: &LaneConfig,
) -> Result<(), Error> {
    let what = || format!("changing the lane {}", typed.name);
    let only = LaneConfig {
        contents: before.contents.clone(),
        ..after.clone()
    };
    if only != *before {
        return Err(Error::usage(
            what(),
            "--contents fetches content or drops it, and so goes by itself",
            "Change the rest with another katabatic lane change.",
        ));
    }
    let stubs = typed.setup.contents == Some(ContentsTyped::Stubs);
    let wanted = match stubs {
        true => WantedContents::Away,
        false => WantedContents::Here,
    };
    let meant = About {
        lane: after.clone(),
        paths: in_folder(typed)?.into_iter().collect(),
    };
    let plan = contents::preview(app, &meant, wanted)?;
    if !app.common.json {
        let place = typed
            .in_folder
            .as_ref()
            .map_or_else(String::new, |folder| format!(" in {}", shown_text(folder)));
        line(match stubs {
            true => format!(
                "New files{place} would come as stubs, and of those on this computer it would:"
            ),
            false => format!(
                "New files{place} would come with their content, and of the stubs it would:"
            ),
        });
        for words in totals_words(&plan.totals(), plan.sides) {
            line(format!("  {words}"));
        }
    }
    agreed(app, typed.yes, &what(), "Change it so?")?;
    app.config.clone().change_lane(after.clone())?;
    contents::carry(app, vec![meant], &[], wanted, false).map(drop)
}

fn changed(app: &App, typed: &LaneChangeArgs, before: &LaneConfig) -> Result<LaneConfig, Error> {
    let mut after = before.clone();
    if let Some(far) = &typed.far {
        after.far = place(app, far)?;
    }
    let (Some(folder), Some(contents)) = (in_folder(typed)?, typed.setup.contents) else {
        return typed.setup.over(after, typed.usual_rules);
    };
    let rest = SetupArgs {
        contents: None,
        ..typed.setup.clone()
    };
    let mut after = rest.over(after, typed.usual_rules)?;
    let stubs = contents == ContentsTyped::Stubs;
    after.contents.set_folder(folder, stubs);
    Ok(after)
}

fn in_folder(typed: &LaneChangeArgs) -> Result<Option<RelPath>, Error> {
    typed.in_folder.as_deref().map(folder_of).transpose()
}

/// What is to come as a stub.
fn wishes(contents: &Contents) -> (bool, Vec<(&RelPath, bool)>) {
    (contents.comes_as_stubs(), contents.folders().collect())
}

fn what_it_does(lane: &LaneConfig) -> LaneConfig {
    LaneConfig {
        by_name_only: false,
        contents: without_budget(&lane.contents),
        limits: Default::default(),
        proof: ProofBy::default(),
        transfers: IN_FLIGHT,
        when: Vec::new(),
        quiet: QUIET,
        only_on: Vec::new(),
        tell_unsettled_hours: None,
        ..lane.clone()
    }
}

/// How much room it may take changes nothing on either side by itself.
fn without_budget(contents: &Contents) -> Contents {
    let mut contents = contents.clone();
    contents.budget = Budget::default();
    contents
}

fn said_how(app: &App, before: &LaneConfig, after: &LaneConfig) -> Result<(), Error> {
    if app.common.json {
        json::print(&json!({"lane": described(after)}));
        return Ok(());
    }
    let name = &after.name;
    if before.limits != after.limits {
        line(match limits::words(&after.limits) {
            words if words.is_empty() => format!("The lane {name} has no limits now."),
            words => {
                format!(
                    "The lane {name} takes at most {words} now, in what the agent carries at once."
                )
            }
        });
    }
    if before.proof != after.proof {
        let told = match after.proof {
            ProofBy::Content => format!(
                "From now on the last copy on this computer goes on the lane {name} only once the server's digest, or reading it back, proves that the other side has it."
            ),
            ProofBy::Tags => format!(
                "From now on the lane {name} is content with version tags: what is shed or dropped on this computer is believed to be on the other side, and not proven."
            ),
        };
        sentence(app.style, 0, &told);
    }
    if before.transfers != after.transfers {
        line(format!(
            "From the next pass on, the lane {name} carries at most {} at a time.",
            words::count(after.transfers as u64, "file", "files")
        ));
    }
    let by_itself = |lane: &LaneConfig| {
        let LaneConfig {
            when,
            quiet,
            only_on,
            tell_unsettled_hours,
            ..
        } = lane.clone();
        (when, quiet, only_on, tell_unsettled_hours)
    };
    if by_itself(before) != by_itself(after) {
        line(format!(
            "The agent runs the lane {name} {}.",
            run_words(after)
        ));
    }
    if before.contents.budget != after.contents.budget {
        line(match room_words(&after.contents.budget) {
            words if words.is_empty() => format!("The lane {name} may take all the room there is."),
            words => {
                format!("The lane {name}: {words}. What takes room now: katabatic room {name}")
            }
        });
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
        &new.direction.meaning(after.side_names()),
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
