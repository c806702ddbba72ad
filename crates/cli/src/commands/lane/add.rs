//! `lane add`.

use katabatic_engine::config::LaneConfig;
use katabatic_engine::place::Place;
use katabatic_engine::{Error, home, lanes};
use serde_json::json;

use super::{described, far_place, say_next_pass};
use crate::app::App;
use crate::args::LaneAdd;
use crate::commands::plan::totals_json;
use crate::draw::{json, line};

pub fn add(app: &App, typed: &LaneAdd) -> Result<(), Error> {
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
