//! What a command is about: lanes, or files and folders in them, as people name them.

use katabatic_core::RelPath;
use katabatic_engine::Error;
use katabatic_engine::config::{Config, LaneConfig};
use katabatic_engine::place::{Place, absolute};

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
    if let Some(lane) = config.lanes.iter().find(|lane| lane.name == text) {
        return Ok((lane.clone(), None));
    }
    let found = match Place::parse(text, &config.account_names())? {
        place @ Place::Far { .. } => config.lanes.iter().find_map(|lane| {
            let below = place.below(&lane.near).or_else(|| place.below(&lane.far))?;
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
                let below = place
                    .below(&Place::Local(near))
                    .or_else(|| place.below(&lane.far))?;
                Some((lane, below))
            })
        }
    };
    let Some((lane, below)) = found else {
        let lanes: Vec<&str> = config.lanes.iter().map(|lane| lane.name.as_str()).collect();
        return Err(Error::usage(
            text,
            "it is neither a lane nor in one",
            format!(
                "The lanes are: {}. See their folders: katabatic lane list",
                lanes.join(", ")
            ),
        ));
    };
    let path = RelPath::parse(&below)
        .map_err(|why| Error::usage(text, why.to_string(), "Name it by its plain path."))?;
    Ok((lane.clone(), (!path.is_root()).then_some(path)))
}
