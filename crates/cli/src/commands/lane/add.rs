//! `lane add`.

use std::io::IsTerminal;

use katabatic_engine::config::LaneConfig;
use katabatic_engine::place::Place;
use katabatic_engine::{Error, home, lanes};
use serde_json::json;

use super::{asked, described, far_place, say_next_pass};
use crate::app::App;
use crate::args::{LaneAdd, LaneAsked};
use crate::commands::plan::totals_json;
use crate::draw::{json, line};

pub fn add(app: &App, typed: &LaneAsked) -> Result<(), Error> {
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
fn add_asked(app: &App, typed: &LaneAsked) -> Result<(), Error> {
    let whole = asked::ask(app, typed)?;
    let command = asked::equal_command(&whole);
    line("");
    line("This is the same in one line:");
    line(format!("  {command}"));
    if !asked::yes("Add the lane so? Nothing is carried yet.")? {
        return Err(Error::failed(
            format!("adding the lane {}", whole.name),
            "it is not to be added, as was said",
            "Nothing was added.",
        ));
    }
    add_whole(app, &whole)
}

fn add_whole(app: &App, typed: &LaneAdd) -> Result<(), Error> {
    let near = match Place::parse(&typed.near, &app.config.account_names())? {
        Place::Local(path) => path,
        Place::Far { .. } => {
            return Err(Error::usage(
                format!("adding the lane {}", typed.name),
                format!(
                    "the near side must be a folder of this computer, not {}",
                    typed.near
                ),
                "Write it as a local path; a local folder whose name begins with @ as ./@NAME.",
            ));
        }
    };
    let far = far_place(app, &typed.far)?;
    let lane = LaneConfig::new(&typed.name, &home::random_hex(8)?, near, far);
    let lane = typed.setup.over(lane, !typed.setup.no_usual_rules)?;
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
        }));
        return Ok(());
    }
    line(format!(
        "Added the lane {}: {} {} {} ({})",
        lane.name,
        lane.near.display(),
        app.style.arrow(lane.terms.direction),
        lane.far_place(),
        lane.terms.direction.word()
    ));
    line("Nothing was carried yet. The first pass would:");
    say_next_pass(&next, &lane);
    line(format!(
        "Next: katabatic plan {0}, then katabatic sync {0}",
        lane.name
    ));
    Ok(())
}
