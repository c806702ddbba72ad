//! `lane add | list | show | change | remove`.

use std::process::ExitCode;

use katabatic_core::{EditTime, RelPath};
use katabatic_engine::Error;
use katabatic_engine::config::{LaneConfig, far_place};
use katabatic_engine::lanes::{self, FirstPlan, NewLane};
use katabatic_engine::ledger::rows;
use katabatic_engine::net::rate::Limits;
use katabatic_engine::place::Place;
use serde_json::{Value, json};

use super::account::confirmed;
use super::plan::{totals_json, totals_words};
use crate::app::App;
use crate::args::{DirectionTyped, Lane, LaneAdd, LaneChange};
use crate::draw::table::Rows;
use crate::draw::{json, line, time};
use crate::limits;

pub fn lane(app: &App, lane: &Lane) -> Result<ExitCode, Error> {
    match lane {
        Lane::Add(add) => self::add(app, add)?,
        Lane::List => list(app)?,
        Lane::Show(named) => show(app, &named.name)?,
        Lane::Change(typed) => change(app, typed)?,
        Lane::Remove(named) => remove(app, &named.name)?,
    }
    Ok(ExitCode::SUCCESS)
}

fn add(app: &App, add: &LaneAdd) -> Result<(), Error> {
    let what = || format!("adding the lane {}", add.name);
    if add.direction != DirectionTyped::TwoWay {
        return Err(Error::usage(
            what(),
            "lanes that carry one way only (up, down) are not built yet",
            "Use --direction two-way, or wait for them; a one-way lane is never faked with a two-way one.",
        ));
    }
    let accounts = app.config.account_names();
    let near = match Place::parse(&add.near, &accounts)? {
        Place::Local(path) => path,
        Place::Far { .. } => {
            return Err(Error::usage(
                what(),
                format!(
                    "the near side must be a folder of this computer, not {}",
                    add.near
                ),
                "Write it as a local path; a local folder whose name begins with @ as ./@NAME.",
            ));
        }
    };
    let (account, far) = far_folder(app, &add.far, what())?;
    let mut config = app.config.clone();
    let new = NewLane {
        name: add.name.clone(),
        near,
        account,
        far,
        make: add.make,
        limits: add.limits.over(Limits::default())?,
    };
    let first = app.run(lanes::add(
        &app.home,
        &mut config,
        &app.ledger,
        new,
        &app.stop,
    ))?;
    let lane = config.lane(&add.name)?;
    if app.common.json {
        json::print(
            &json!({"lane": described(lane), "first_pass": totals_json(&first.plan.totals()), "far_read_only": first.far_read_only}),
        );
        return Ok(());
    }
    line(format!(
        "Added the lane {}: {} {} {} ({})",
        lane.name,
        lane.near.display(),
        app.style.two_way(),
        lane.far_place(),
        lane.direction.word()
    ));
    line("Nothing was carried yet. The first pass would:");
    say_first_pass(&first, &lane.far_place());
    line(format!(
        "Next: katabatic plan {0}, then katabatic sync {0}",
        lane.name
    ));
    Ok(())
}

/// A far side as it was typed.
fn far_folder(app: &App, typed: &str, what: String) -> Result<(String, RelPath), Error> {
    let accounts = app.config.account_names();
    match Place::parse(typed, &accounts)? {
        Place::Far { account, path } => Ok((account, path)),
        Place::Local(_) => Err(Error::usage(
            what,
            format!("the far side must be a folder of an account, not {typed}"),
            format!(
                "Write it as @ACCOUNT/FOLDER; the accounts are: {}",
                accounts.join(", ")
            ),
        )),
    }
}

fn say_first_pass(first: &FirstPlan, far: &str) {
    for words in totals_words(&first.plan.totals()) {
        line(format!("  {words}"));
    }
    line("  remove nothing: a first pass only adds what one side lacks");
    if first.far_read_only {
        line(format!(
            "Mind: {far} may only be read. What changes here is never carried up; it stays, marked as stuck."
        ));
    }
}

/// After a person changed accounts: both sides are compared and tied anew, and nothing that is there is carried again.
fn change(app: &App, typed: &LaneChange) -> Result<(), Error> {
    let what = || format!("changing the lane {}", typed.name);
    let before = app.config.lane(&typed.name)?.clone();
    let Some(typed_far) = &typed.far else {
        if typed.limits.is_typed() {
            return change_limits(app, typed, before.limits);
        }
        return Err(Error::usage(
            what(),
            "nothing to change was named",
            "Name another far folder (--far @ACCOUNT/FOLDER), or limits (--limit-up 2MB/s, --limit-down none).",
        ));
    };
    let (account, far) = far_folder(app, typed_far, what())?;
    if (&account, &far) == (&before.account, &before.far) {
        return Err(Error::usage(
            what(),
            format!("it is tied to {} already", before.far_place()),
            "Name another folder.",
        ));
    }
    let first = app.run(lanes::preview_change(
        &app.home,
        &app.config,
        &app.ledger,
        &typed.name,
        (&account, &far),
        &app.stop,
    ))?;
    let place = far_place(&account, &far);
    if !app.common.json {
        line(format!(
            "The lane {} would be tied to {place} instead of {}. What lies on both sides is compared, not carried.",
            typed.name,
            before.far_place()
        ));
        line("Its next pass would:");
        say_first_pass(&first, &place);
    }
    if !confirmed(app, typed.yes, "Tie it to that folder?")? {
        return Err(Error::failed(
            what(),
            "it is not to be changed, as was said",
            "Nothing was changed.",
        ));
    }
    let mut config = app.config.clone();
    if typed.limits.is_typed() {
        config.change_limits(&typed.name, typed.limits.over(before.limits)?)?;
    }
    app.run(lanes::change_far(
        &mut config,
        &app.ledger,
        &typed.name,
        (&account, &far),
    ))?;
    if app.common.json {
        json::print(&json!({
            "lane": described(config.lane(&typed.name)?),
            "first_pass": totals_json(&first.plan.totals()),
            "far_read_only": first.far_read_only,
        }));
        return Ok(());
    }
    line(format!(
        "Tied. Nothing was carried or removed, and {} stays as it is. Next: katabatic sync {}",
        before.far_place(),
        typed.name
    ));
    Ok(())
}

fn change_limits(app: &App, typed: &LaneChange, so_far: Limits) -> Result<(), Error> {
    let mut config = app.config.clone();
    let limits = typed.limits.over(so_far)?;
    config.change_limits(&typed.name, limits)?;
    if app.common.json {
        json::print(&json!({"lane": described(config.lane(&typed.name)?)}));
        return Ok(());
    }
    line(match limits::words(limits) {
        words if words.is_empty() => format!("The lane {} has no limits now.", typed.name),
        words => format!(
            "From the next pass on, the lane {} takes at most {words}.",
            typed.name
        ),
    });
    Ok(())
}

fn described(lane: &LaneConfig) -> Value {
    json!({
        "name": lane.name,
        "near": lane.near.to_string_lossy(),
        "far": lane.far_place(),
        "direction": lane.direction.word(),
        "limit_up": lane.limits.up.map(|rate| rate.0),
        "limit_down": lane.limits.down.map(|rate| rate.0),
    })
}

fn last_pass(app: &App, lane: &LaneConfig) -> Result<(u64, Option<EditTime>), Error> {
    let row = app
        .ledger
        .read(|connection| rows::lane_of(connection, &lane.id))?;
    Ok(row.map_or((0, None), |row| (row.pass, row.seen_at)))
}

fn list(app: &App) -> Result<(), Error> {
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
        let near = lane.near.display().to_string();
        rows.add(vec![
            lane.name.clone(),
            near,
            lane.far_place(),
            lane.direction.word().into(),
            last,
        ]);
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

fn show(app: &App, name: &str) -> Result<(), Error> {
    let lane = app.config.lane(name)?;
    let (pass, seen) = last_pass(app, lane)?;
    if app.common.json {
        let mut described = described(lane);
        described["passes"] = json!(pass);
        described["last_pass"] = json::time(seen);
        json::print(&json!({"lane": described}));
        return Ok(());
    }
    let account = app.config.account(&lane.account)?;
    line(format!("lane {}", lane.name));
    line(format!("  near       {}", lane.near.display()));
    line(format!(
        "  far        {} ({} at {})",
        lane.far_place(),
        account.user,
        account.address
    ));
    if account.plain_http {
        line("  plain http everybody on the way can read the password and every file");
    }
    line(format!(
        "  direction  {}: changes on each side go to the other",
        lane.direction.word()
    ));
    line("  removals   carried; what is removed or replaced is kept in the spares first");
    line("  conflicts  neither side is touched until somebody settles them");
    if lane.limits != Limits::default() {
        line(format!("  limits     {}", limits::words(lane.limits)));
    }
    match seen {
        Some(at) => line(format!("  last pass  number {pass}, {}", time::exact(at))),
        None => line("  last pass  never"),
    }
    line(format!(
        "See where its files stand: katabatic status {}",
        lane.name
    ));
    Ok(())
}

fn remove(app: &App, name: &str) -> Result<(), Error> {
    let mut config = app.config.clone();
    let lane = config.lane(name)?.clone();
    app.run(lanes::remove(&mut config, &app.ledger, name))?;
    if app.common.json {
        json::print(&json!({"removed": name}));
        return Ok(());
    }
    line(format!(
        "Removed the lane {name}. Every file stays, in {} and in {}.",
        lane.near.display(),
        lane.far_place()
    ));
    line(format!(
        "What its passes replaced stays in the spares, in {}.",
        app.home.lane_room(&lane.id).display()
    ));
    Ok(())
}
