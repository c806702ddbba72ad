//! What `make-folder`, `copy`, `move` and `remove` share: places as they are typed, and what a lane makes of it.

use std::path::Path;
use std::sync::Arc;

use katabatic_core::place::{Place, absolute};
use katabatic_core::{RelPath, Removals, Side};
use katabatic_engine::Error;
use katabatic_engine::hand::{Hand, Touched};
use katabatic_engine::pass::Progress;
use katabatic_sides::net::rate::Limits;
use serde_json::{Value, json};

use crate::app::App;
use crate::draw::{Style, sentence};

/// Something to change places with.
pub fn hand<'a>(app: &'a App, progress: &Arc<Progress>, limits: Limits) -> Hand<'a> {
    Hand {
        home: &app.home,
        config: &app.config,
        ledger: &app.ledger,
        stop: &app.stop,
        progress: Arc::clone(progress),
        limits,
    }
}

/// A place that something is done to. Its last part is taken as it is: a link is the link, not what it leads to.
pub fn place(app: &App, typed: &str) -> Result<Place, Error> {
    match Place::parse(typed, &app.config.account_names())? {
        Place::Local(_) => {
            let path = std::path::absolute(typed).unwrap_or_else(|_| typed.into());
            Ok(Place::Local(match (path.parent(), path.file_name()) {
                (Some(above), Some(name)) => absolute(above).join(name),
                _ => absolute(&path),
            }))
        }
        far => Ok(far),
    }
}

/// Where something is to go; a closing slash means "into that folder, under its own name".
pub fn target(app: &App, typed: &str, from: &Place) -> Result<Place, Error> {
    let to = place(app, typed)?;
    let into = typed.ends_with('/') || matches!(&to, Place::Far { path, .. } if path.is_root());
    if !into {
        return Ok(to);
    }
    let name = match from {
        Place::Local(path) => path.file_name().and_then(|name| name.to_str()),
        Place::Far { path, .. } => (!path.is_root()).then(|| path.name()),
    };
    let name = name.ok_or_else(|| {
        Error::usage(
            typed,
            "what is to go there has no name of its own",
            "Say the name it is to get.",
        )
    })?;
    Ok(match to {
        Place::Local(path) => Place::Local(absolute(&path).join(Path::new(name))),
        Place::Far { account, path } => Place::Far {
            account,
            path: joined(typed, &path, name)?,
        },
    })
}

fn joined(typed: &str, folder: &RelPath, name: &str) -> Result<RelPath, Error> {
    folder
        .join(name)
        .map_err(|why| Error::usage(typed, why.to_string(), "Say the name it is to get."))
}

/// What was done at a place that lanes may lie at.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Done {
    /// A folder was made there.
    Made,
    /// Something came there.
    Brought,
    /// It went away.
    Removed,
    /// It went away, or came, or both.
    Moved,
}

/// Says what the lanes that a changed place lies in will do about it, each once.
pub fn say_lanes(style: Style, touched: &[Touched], done: Done) {
    let mut lines: Vec<String> = Vec::new();
    for lane in touched {
        let (way, here, there) = match lane.side {
            Side::Near => ("up", "here", "there"),
            Side::Far => ("down", "there", "here"),
        };
        let name = &lane.lane;
        let goes = |change: &str| {
            format!(
                "It lies in the lane {name}: its next pass carries that {way} to {}, {change} {there} too.",
                lane.other
            )
        };
        let text = match (lane.carries, done, lane.removals) {
            (false, ..) => format!(
                "It lies in the lane {name}, which carries nothing from {here}: {there} nothing changes because of it."
            ),
            (true, Done::Removed, Removals::Keep) => format!(
                "It lies in the lane {name}, which keeps what was removed: it stays {there}, in {}.",
                lane.other
            ),
            (true, Done::Removed, Removals::Ask) => format!(
                "It lies in the lane {name}, which asks before removals: it stays {there}, in {}, until somebody says yes.",
                lane.other
            ),
            (true, Done::Made, _) => goes("making it"),
            (true, Done::Brought, _) => goes("bringing it"),
            (true, Done::Removed, Removals::Carry) => goes("removing it"),
            (true, Done::Moved, _) => goes("moving it"),
        };
        if !lines.contains(&text) {
            sentence(style, 2, &text);
            lines.push(text);
        }
    }
}

/// The same for programs.
pub fn lanes_json(touched: &[Touched]) -> Value {
    touched
        .iter()
        .map(|lane| json!({"lane": lane.lane, "side": lane.side.name(), "other": lane.other}))
        .collect()
}
