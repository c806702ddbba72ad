//! What a command is about: lanes, or files and folders in them, as people name them.

use katabatic_core::place::{Place, absolute};
use katabatic_core::{RelPath, Side};
use katabatic_engine::Error;
use katabatic_engine::config::{Config, LaneConfig, listed};

/// A lane, and the paths in it that are meant; the whole lane where there are none.
#[derive(Clone, Debug)]
pub struct About {
    /// The lane.
    pub lane: LaneConfig,
    /// The paths.
    pub paths: Vec<RelPath>,
}

/// Understands what was typed; nothing typed means all lanes.
pub fn understand(config: &Config, typed: &[String]) -> Result<Vec<About>, Error> {
    if config.lanes.is_empty() {
        return Err(Error::usage(
            "looking for lanes",
            "there are none yet",
            "Tie a folder first: katabatic lane add NAME --near DIR --far @ACCOUNT/FOLDER",
        ));
    }
    if typed.is_empty() {
        return Ok(config
            .lanes
            .iter()
            .map(|lane| About {
                lane: lane.clone(),
                paths: Vec::new(),
            })
            .collect());
    }
    let mut about: Vec<About> = Vec::new();
    for text in typed {
        let (lane, path) = one(config, text)?;
        match about.iter_mut().find(|known| known.lane.name == lane.name) {
            None => about.push(About {
                lane,
                paths: path.into_iter().collect(),
            }),
            // The whole lane was asked for already.
            Some(known) if known.paths.is_empty() => {}
            Some(known) => match path {
                Some(path) => known.paths.push(path),
                None => known.paths.clear(),
            },
        }
    }
    Ok(about)
}

/// One path that must be in a lane.
pub fn path(config: &Config, text: &str) -> Result<(LaneConfig, RelPath), Error> {
    match one(config, text)? {
        (lane, Some(path)) => Ok((lane, path)),
        (lane, None) => Err(Error::usage(
            text,
            format!("that is the whole lane {}", lane.name),
            "Name a file or a folder in it.",
        )),
    }
}

fn one(config: &Config, text: &str) -> Result<(LaneConfig, Option<RelPath>), Error> {
    find(config, text)?.ok_or_else(|| {
        let lanes: Vec<String> = config.lanes.iter().map(|lane| lane.name.clone()).collect();
        Error::usage(
            text,
            "it is neither a lane nor in one",
            format!(
                "{}. See their folders: katabatic lane list",
                listed("lane", text, &lanes)
            ),
        )
    })
}

/// The lane that a text names or that holds what it names, and the path in it; none where no lane does.
pub fn find(config: &Config, text: &str) -> Result<Option<(LaneConfig, Option<RelPath>)>, Error> {
    if let Some(lane) = config.lanes.iter().find(|lane| lane.name == text) {
        return Ok(Some((lane.clone(), None)));
    }
    let found = find_place(config, text)?;
    Ok(found.map(|(lane, path, _)| (lane, (!path.is_root()).then_some(path))))
}

/// The lane that holds a place, the path in it, and on which of its sides the place is; none where no lane does.
pub fn find_place(
    config: &Config,
    text: &str,
) -> Result<Option<(LaneConfig, RelPath, Side)>, Error> {
    let on = |lane: &LaneConfig, place: &Place, near: &Place| {
        let near = place.below(near).map(|below| (below, Side::Near));
        near.or_else(|| place.below(&lane.far).map(|below| (below, Side::Far)))
    };
    let found = match Place::parse(text, &config.account_names())? {
        place @ Place::Far { .. } => config.lanes.iter().find_map(|lane| {
            let below = on(lane, &place, &lane.near)?;
            Some((lane, below))
        }),
        Place::Local(_) => {
            // The last part itself is not resolved: a link in a lane is a path of the lane, whatever it points at.
            let typed = std::path::absolute(text).unwrap_or_else(|_| text.into());
            let resolved = match (typed.parent(), typed.file_name()) {
                (Some(parent), Some(name)) => absolute(parent).join(name),
                _ => absolute(&typed),
            };
            let whole = absolute(&typed);
            config.lanes.iter().find_map(|lane| {
                let near = absolute(lane.near.local()?);
                let typed = if whole == near { &whole } else { &resolved };
                let place = Place::Local(typed.clone());
                let below = on(lane, &place, &Place::Local(near))?;
                Some((lane, below))
            })
        }
    };
    let Some((lane, (below, side))) = found else {
        return Ok(None);
    };
    let path = RelPath::parse(&below)
        .map_err(|why| Error::usage(text, why.to_string(), "Name it by its plain path."))?;
    Ok(Some((lane.clone(), path, side)))
}

/// The lane whose folder has the most in common with a place, from the top; none where nothing has.
pub fn nearest<'c>(config: &'c Config, text: &str) -> Result<Option<&'c LaneConfig>, Error> {
    let place = match Place::parse(text, &config.account_names())? {
        Place::Local(path) => Place::Local(absolute(&path)),
        far @ Place::Far { .. } => far,
    };
    let in_common = |lane: &LaneConfig| {
        let sides = [&lane.near, &lane.far].into_iter();
        sides.map(|side| in_common(&place, side)).max().unwrap_or(0)
    };
    // Every two local paths begin at the same root, which says nothing.
    let close = config.lanes.iter().rev().filter(|lane| in_common(lane) > 1);
    Ok(close.max_by_key(|lane| in_common(lane)))
}

fn in_common(one: &Place, other: &Place) -> usize {
    match (one, other) {
        (Place::Local(one), Place::Local(other)) => one
            .components()
            .zip(absolute(other).components())
            .take_while(|(a, b)| a == b)
            .count(),
        (
            Place::Far { account, path },
            Place::Far {
                account: of,
                path: other,
            },
        ) if account == of => {
            2 + path
                .parts()
                .zip(other.parts())
                .take_while(|(a, b)| a == b)
                .count()
        }
        _ => 0,
    }
}
