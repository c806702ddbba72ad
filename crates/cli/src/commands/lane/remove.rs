//! `lane remove`.

use clap::Args;
use std::sync::Arc;

use katabatic_core::words;
use katabatic_engine::pass::Progress;
use katabatic_engine::{Error, lanes};
use katabatic_ledger::spare_rows;
use serde_json::json;

use crate::app::App;
use crate::draw::{json, line};

/// `lane remove`.
#[derive(Args, Debug)]
pub struct LaneRemoveArgs {
    /// The lane
    #[arg(value_name = "LANE")]
    pub name: String,
    /// Let its stubs go from this computer; their files stay on the other side
    #[arg(long)]
    pub drop_stubs: bool,
}

pub fn remove(app: &App, typed: &LaneRemoveArgs) -> Result<(), Error> {
    let mut config = app.config.clone();
    let name = &typed.name;
    let lane = config.lane(name)?.clone();
    let dropped = match typed.drop_stubs {
        true => app.run(async {
            let pass = app.pass(&lane, Arc::new(Progress::default())).await?;
            lanes::drop_stubs(&pass).await
        })?,
        false => 0,
    };
    app.run(lanes::remove(&app.home, &mut config, &app.ledger, name))?;
    if app.common.json {
        json::print(&json!({"removed": name, "stubs_dropped": dropped}));
        return Ok(());
    }
    let but = match dropped {
        0 => String::new(),
        dropped => format!(
            ", but for {} here, whose content is in {}",
            words::count(dropped, "stub", "stubs"),
            lane.far_place()
        ),
    };
    line(format!(
        "Removed the lane {name}. Every file stays, in {} and in {}{but}.",
        lane.near,
        lane.far_place()
    ));
    let spares = app
        .ledger
        .read(|connection| spare_rows::all(connection, Some(name)))?;
    if !spares.is_empty() {
        line(format!(
            "{} that its passes removed or replaced can still be brought back: katabatic spares list {name}",
            words::count(spares.len() as u64, "version", "versions")
        ));
    }
    Ok(())
}
