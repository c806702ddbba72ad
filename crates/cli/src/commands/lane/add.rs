//! `lane add`.

use crate::commands::lane::asked::LaneAskedArgs;
use crate::setup::SetupArgs;
use std::io::IsTerminal;

use katabatic_agent::{self as agent, Ask};
use katabatic_core::schedule::When;
use katabatic_engine::config::LaneConfig;
use katabatic_engine::{Error, lanes};
use katabatic_sides::private_files;
use serde_json::json;

use super::{asked, described, lacks_json, place, say_next_pass};
use crate::app::App;
use crate::commands::agent::start;
use crate::commands::plan::totals_json;
use crate::draw::{json, line};

/// `lane add`, whole.
#[derive(Clone, Debug)]
pub struct LaneAdd {
    /// The name it gets.
    pub name: String,
    /// The folder on this computer.
    pub near: String,
    /// The folder of an account, or of another drive.
    pub far: String,
    /// Whether a folder is made that is not there.
    pub make: bool,
    /// How it works.
    pub setup: SetupArgs,
}

pub fn add(app: &App, typed: &LaneAskedArgs) -> Result<(), Error> {
    let whole = match (&typed.name, &typed.near, &typed.far) {
        (Some(name), Some(near), Some(far)) => LaneAdd {
            name: name.clone(),
            near: near.clone(),
            far: far.clone(),
            make: typed.make,
            setup: typed.setup.clone(),
        },
        (_, None, None) if app.style.terminal && std::io::stdin().is_terminal() => {
            return add_asked(app, typed);
        }
        _ => {
            return Err(Error::usage(
                "adding a lane",
                "its name, --near and --far are all needed",
                "katabatic lane add NAME --near DIR --far @ACCOUNT/FOLDER; on a terminal, katabatic lane add alone asks for all of it.",
            ));
        }
    };
    add_whole(app, &whole)
}

/// Everything was asked; before it counts, it is shown as the line that would have said it.
fn add_asked(app: &App, typed: &LaneAskedArgs) -> Result<(), Error> {
    let (whole, new) = asked::ask(app, typed)?;
    let lane = lane_of(app, &whole)?;
    let begin = || {
        line("");
        line("The first pass would:");
    };
    let looked = match new {
        Some(new) => {
            begin();
            new.say(app, &lane);
            None
        }
        None => {
            let looked = lanes::look_at_new(
                &app.home,
                &app.config,
                &app.ledger,
                lane.clone(),
                false,
                &app.stop,
            );
            let looked = app.run(looked)?;
            begin();
            say_next_pass(app, &looked.1, &looked.0);
            Some(looked.0)
        }
    };
    line("This is the same in one line:");
    line(format!("  {}", asked::equal_command(&whole)));
    let yes = asked::yes("Add the lane so? Nothing is carried yet.");
    match (&yes, &looked) {
        (Ok(true), Some(lane)) => {
            app.config.clone().add_lane(lane.clone())?;
            added(app, lane);
            line("Nothing was carried yet.");
            say_next(lane);
            return ask_for_the_agent(app, lane);
        }
        (Ok(true), None) => {
            add_whole(app, &whole)?;
            return ask_for_the_agent(app, &lane);
        }
        _ => {}
    }
    app.run(lanes::withdraw(&app.home, &app.ledger, &lane))?;
    yes.and_then(|_| {
        Err(Error::failed(
            format!("adding the lane {}", whole.name),
            "it is not to be added, as was said",
            "Nothing was added.",
        ))
    })
}

/// A lane that runs by itself needs the agent; where none runs, one can be started at once.
fn ask_for_the_agent(app: &App, lane: &LaneConfig) -> Result<(), Error> {
    let by_itself = lane.when.iter().any(|when| *when != When::ByHand);
    let runs = app.run(agent::ask(&app.home, &Ask::Status))?.is_some();
    if by_itself && !runs {
        line("No agent runs, so nothing is carried by itself yet.");
        if asked::yes("Start it now? The first pass begins at once then.")? {
            start(app)?;
            line("At every start of the computer: katabatic agent install");
        } else {
            line("Later: katabatic agent start");
        }
    }
    Ok(())
}

/// A lane as it was typed.
fn lane_of(app: &App, typed: &LaneAdd) -> Result<LaneConfig, Error> {
    let (near, far) = (place(app, &typed.near)?, place(app, &typed.far)?);
    let lane = LaneConfig::new(&typed.name, &private_files::random_hex(8)?, near, far);
    typed.setup.over(lane, !typed.setup.no_usual_rules)
}

fn added(app: &App, lane: &LaneConfig) {
    line(format!(
        "Added the lane {}: {} {} {} ({})",
        lane.name,
        lane.near,
        app.style.arrow(lane.terms.direction),
        lane.far_place(),
        lane.terms.direction.word()
    ));
}

fn say_next(lane: &LaneConfig) {
    line(format!(
        "Next: katabatic plan {0}, then katabatic sync {0}",
        lane.name
    ));
}

fn add_whole(app: &App, typed: &LaneAdd) -> Result<(), Error> {
    let lane = lane_of(app, typed)?;
    let mut config = app.config.clone();
    let next = app.run(lanes::add(
        &app.home,
        &mut config,
        &app.ledger,
        lane.clone(),
        typed.make,
        &app.stop,
    ))?;
    if app.common.json {
        json::print(&json!({
            "lane": described(&lane),
            "first_pass": totals_json(&next.plan.totals()),
            "far_read_only": next.far_read_only,
            "unwise": next.unwise,
            "lacks": lacks_json(&next.lacks),
        }));
        return Ok(());
    }
    added(app, &lane);
    line("Nothing was carried yet. The first pass would:");
    say_next_pass(app, &next, &lane);
    say_next(&lane);
    Ok(())
}
