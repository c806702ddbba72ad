//! `lane remove`.

use katabatic_engine::{Error, lanes};
use serde_json::json;

use crate::app::App;
use crate::draw::{json, line};

pub fn remove(app: &App, name: &str) -> Result<(), Error> {
    let mut config = app.config.clone();
    let lane = config.lane(name)?.clone();
    app.run(lanes::remove(&mut config, &app.ledger, name))?;
    if app.common.json {
        json::print(&json!({"removed": name}));
        return Ok(());
    }
    line(format!(
        "Removed the lane {name}. Every file stays, in {} and in {}.",
        lane.near,
        lane.far_place()
    ));
    line(format!(
        "What its passes replaced stays in the spares, in {}.",
        app.home.lane_room(&lane.id).display()
    ));
    Ok(())
}
