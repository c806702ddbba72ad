//! `lane relocate`: moves a lane's near folder to another disk, or follows a folder that was moved by hand.

use clap::Args;
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::place::Place;
use katabatic_core::{Side, words};
use katabatic_engine::config::LaneConfig;
use katabatic_engine::pass::Progress;
use katabatic_engine::relocate::{self, Relocated, Way, WhyStays};
use katabatic_engine::{Class, Error};
use serde_json::json;

use super::{described, place};
use crate::app::App;
use crate::commands::account::agreed;
use crate::draw::{json, line, progress, shown_text};
use crate::exit;

/// `lane relocate`.
#[derive(Args, Debug)]
pub struct LaneRelocateArgs {
    /// The lane
    #[arg(value_name = "LANE")]
    pub name: String,
    /// The folder's new place: one of this computer for the near side, @ACCOUNT/FOLDER where the far folder was moved
    #[arg(value_name = "NEW-PLACE")]
    pub place: String,
    /// Leave the old copy where it is
    #[arg(long)]
    pub keep_old: bool,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

pub fn relocate(app: &App, typed: &LaneRelocateArgs) -> Result<ExitCode, Error> {
    let lane = app.config.lane(&typed.name)?.clone();
    match place(app, &typed.place)? {
        there if [&lane.near, &lane.far].contains(&&there) => {
            if app.common.json {
                json::print(&json!({"lane": lane.name, "so_already": true}));
            } else {
                line(format!(
                    "The lane {} is tied to {there} already; nothing was changed.",
                    lane.name
                ));
            }
            Ok(ExitCode::SUCCESS)
        }
        Place::Local(new) => near(app, typed, &lane, &new),
        place @ Place::Far { .. } => follow(app, &lane, place),
    }
}

fn near(
    app: &App,
    typed: &LaneRelocateArgs,
    lane: &LaneConfig,
    new: &Path,
) -> Result<ExitCode, Error> {
    let drawn = Arc::new(Progress::default());
    let opened = app.run(app.pass(lane, Arc::clone(&drawn)));
    let pass = match opened {
        // The old place is empty or gone; what is at the new one tells whether it is the folder.
        Err(error) if error.class == Class::NotThere && new.is_dir() => {
            return adopt(app, typed, lane, new);
        }
        opened => opened?,
    };
    let way = relocate::way(&app.home, &app.config, &pass, new)?;
    match &way {
        Way::Adopt => return adopt(app, typed, lane, new),
        Way::Rename if !typed.keep_old => say(
            app,
            &format!(
                "The folder {} would be renamed to {}: it stays on its disk.",
                lane.near,
                new.display()
            ),
        ),
        Way::Rename => say(
            app,
            &format!(
                "The folder {} would be copied to {} and compared; the old one stays.",
                lane.near,
                new.display()
            ),
        ),
        Way::Finish { size } => say(
            app,
            &format!(
                "{}, {} were copied to {} before: they would be compared once more, and the lane switched.",
                words::count(size.0, "file", "files"),
                words::bytes(size.1),
                new.display()
            ),
        ),
        Way::Copy { size, stubs, odd } => {
            say(
                app,
                &format!(
                    "{}, {} would be copied from {} to {} and compared; {}.",
                    words::count(size.0, "file", "files"),
                    words::bytes(size.1),
                    lane.near,
                    new.display(),
                    if typed.keep_old {
                        "the old copy stays"
                    } else {
                        "then the old copy is removed"
                    }
                ),
            );
            if *stubs > 0 {
                say(
                    app,
                    &format!(
                        "{} made anew; their content stays where it is, in {}.",
                        words::count(*stubs, "stub would be", "stubs would be"),
                        lane.far_place()
                    ),
                );
            }
            for path in odd {
                say(
                    app,
                    &format!(
                        "  {} cannot be copied (a socket, a pipe or a device) and stays",
                        shown_text(&path.to_string_lossy())
                    ),
                );
            }
        }
    }
    say(app, "Nothing is carried over the network.");
    ask(app, typed)?;
    let mut config = app.config.clone();
    let moving = relocate::near(&app.home, &mut config, &pass, new, way, typed.keep_old);
    let relocated = app.run(progress::during(app.style, &lane.name, drawn, moving))?;
    done(app, config.lane(&lane.name)?, lane, &relocated)
}

fn ask(app: &App, typed: &LaneRelocateArgs) -> Result<(), Error> {
    let what = format!("moving the lane {}", typed.name);
    agreed(app, typed.yes, &what, "Move it?")
}

fn say(app: &App, text: &str) {
    if !app.common.json {
        line(text);
    }
}

fn done(
    app: &App,
    after: &LaneConfig,
    before: &LaneConfig,
    relocated: &Relocated,
) -> Result<ExitCode, Error> {
    if app.common.json {
        json::print(&json!({
            "lane": described(after),
            "copied": {"files": relocated.copied.0, "bytes": relocated.copied.1},
            "stays": relocated.stays.iter().map(|stays| &stays.path).collect::<Vec<_>>(),
        }));
    } else {
        line(format!("The lane {} is at {} now.", after.name, after.near));
        let old = Path::new(&before.near.to_string()).to_owned();
        for stays in &relocated.stays {
            line(format!(
                "  {} stays at the old place: {}",
                shown_text(&old.join(&stays.path).to_string_lossy()),
                why_it_stays(&stays.why)
            ));
        }
        line(format!(
            "To see that both sides are in step: katabatic sync {}",
            after.name
        ));
    }
    Ok(ExitCode::from(if relocated.stays.is_empty() {
        0
    } else {
        exit::NEEDS_A_PERSON
    }))
}

fn why_it_stays(why: &WhyStays) -> String {
    match why {
        WhyStays::Changed => {
            "it, or its copy at the new place, was changed meanwhile; look which one is wanted"
                .into()
        }
        WhyStays::Open => {
            "a program has it open, and may write into it yet; remove it once that is closed".into()
        }
        WhyStays::CannotTell(_) => {
            "this disk does not tell whether a program has it open; remove it once nobody works there"
                .into()
        }
        WhyStays::Failed(why) => format!("it cannot be removed: {why}"),
    }
}

fn adopt(
    app: &App,
    typed: &LaneRelocateArgs,
    lane: &LaneConfig,
    new: &Path,
) -> Result<ExitCode, Error> {
    let found = app.run(relocate::adoption(
        &app.home,
        &app.config,
        &app.ledger,
        lane,
        new,
        &app.stop,
    ))?;
    let files = |count: u64| words::count(count, "file", "files");
    say(
        app,
        &format!(
            "{} was moved to {} by hand, it seems. Read and compared with what the lane knows:",
            lane.near,
            new.display()
        ),
    );
    say(app, &format!("  {} as agreed", files(found.same)));
    for (count, what) in [
        (
            found.other,
            "with another content: the next pass carries or compares them",
        ),
        (found.missing, "missing: they come back from the other side"),
        (
            found.new,
            "that the lane does not know: they are carried like new ones, where no rule leaves them out",
        ),
    ] {
        if count > 0 {
            say(app, &format!("  {} {what}", files(count)));
        }
    }
    ask(app, typed)?;
    let mut config = app.config.clone();
    app.run(relocate::adopt(
        &app.home,
        &mut config,
        &app.ledger,
        lane,
        new,
        &app.stop,
    ))?;
    done(app, config.lane(&lane.name)?, lane, &Relocated::default())
}

/// Follows a folder that was moved: the near one where that is in the same account, else the far one.
fn follow(app: &App, lane: &LaneConfig, place: Place) -> Result<ExitCode, Error> {
    let near = place.account().is_some()
        && place.account() == lane.account(Side::Near)
        && place.account() != lane.account(Side::Far);
    let side = if near { Side::Near } else { Side::Far };
    let pass = app.run(app.pass(lane, Arc::new(Progress::default())))?;
    let mut config = app.config.clone();
    app.run(relocate::follow(&app.home, &mut config, &pass, side, place))?;
    let after = config.lane(&lane.name)?;
    if app.common.json {
        json::print(&json!({"lane": described(after)}));
    } else {
        line(format!(
            "The lane {} is tied to {} now: it is the folder that was moved. Nothing is carried again.",
            after.name,
            after.place(side)
        ));
    }
    Ok(ExitCode::SUCCESS)
}
