//! `lane list`.

use katabatic_engine::Error;
use serde_json::{Value, json};

use super::{described, last_pass};
use crate::app::App;
use crate::draw::table::Rows;
use crate::draw::{at_home, json, line, time};

pub fn list(app: &App) -> Result<(), Error> {
    if app.common.json {
        let lanes: Vec<Value> = app.config.lanes.iter().map(described).collect();
        json::print(&json!({"lanes": lanes}));
        return Ok(());
    }
    if app.config.lanes.is_empty() {
        line(
            "There are no lanes yet. Add one: katabatic lane add NAME --near DIR --far @ACCOUNT/FOLDER",
        );
        return Ok(());
    }
    let mut rows = Rows::new(
        app.style,
        &["lane", "near", "far", "direction", "last pass"],
    );
    for lane in &app.config.lanes {
        let last = match last_pass(app, lane)? {
            (0, _) | (_, None) => "never".to_owned(),
            (_, Some(at)) => time::time(at),
        };
        let near = lane
            .near
            .local()
            .map_or_else(|| lane.near.to_string(), at_home);
        rows.add(vec![
            lane.name.clone(),
            near,
            lane.far_place(),
            lane.terms.direction.word().into(),
            last,
        ]);
    }
    rows.paths(1);
    rows.paths(2);
    for whole in [0, 3, 4] {
        rows.whole(whole);
    }
    rows.print(0);
    for account in app.config.accounts.iter().filter(|known| known.plain_http) {
        line(format!(
            "@{}: plain http, readable on the way",
            account.name
        ));
    }
    Ok(())
}
