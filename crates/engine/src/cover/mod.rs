//! Covering a person's standard folders: a lane for each, below a folder named after this computer.
//!
//! The files stay where they are. Two computers never mix, because each has a folder of its own there; and one that
//! stands there already, from another computer or from before, is never silently gone on with.

mod user_dirs;

use std::fs;
use std::path::{Path, PathBuf};

use katabatic_core::{Direction, EditTime, Kind, RelPath, Terms};

use crate::config::{Config, LaneConfig};
use crate::open::account_client;
use crate::places::{Sizes, sizes};
use crate::{Class, Error, Home};
use katabatic_core::place::{Place, absolute};
use katabatic_ledger::{Ledger, rows, runs};
use katabatic_sides::account::KnownServer;
use katabatic_sides::stop::Stop;

pub use user_dirs::{STANDARD, Standard, standard_folders};

/// How a standard folder stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Stand {
    /// The person has no such folder.
    None,
    /// It is named, and is not there.
    Missing,
    /// It is a link; it is never followed.
    Link(PathBuf),
    /// A lane covers it.
    Covered {
        /// The lane.
        lane: String,
        /// When its first pass began.
        since: Option<EditTime>,
        /// Files and bytes that both sides agree on.
        agreed: (u64, u64),
    },
    /// It lies in a lane that was not made to cover it, or such a lane lies in it.
    InLane(String),
    /// Nothing covers it.
    Free,
}

/// A standard folder and how it stands.
#[derive(Clone, Debug)]
pub struct Covered {
    /// The folder.
    pub folder: Standard,
    /// How it stands.
    pub stand: Stand,
    /// What lies in it, where it is there.
    pub sizes: Option<Sizes>,
    /// The largest things right in it, by name, with their bytes.
    pub largest: Vec<(String, u64)>,
}

/// The standard folders of the person this runs for.
///
/// # Errors
/// Where nobody's home folder is known.
pub fn of_person() -> Result<Vec<Standard>, Error> {
    let home = std::env::var_os("HOME").map(PathBuf::from).ok_or_else(|| {
        Error::usage(
            "looking for the standard folders",
            "HOME is not set",
            "Run it as the person, or with --for USER.",
        )
    })?;
    let config = std::env::var_os("XDG_CONFIG_HOME")
        .map(PathBuf::from)
        .filter(|path| path.is_absolute())
        .unwrap_or_else(|| home.join(".config"));
    let text = fs::read_to_string(config.join("user-dirs.dirs")).ok();
    Ok(standard_folders(&home, text.as_deref()))
}

/// How every standard folder stands.
///
/// # Errors
/// Where ledger or folders cannot be read.
pub async fn look(
    home: &Home,
    config: &Config,
    ledger: &Ledger,
    stop: &Stop,
) -> Result<Vec<Covered>, Error> {
    let mut all = Vec::new();
    for folder in of_person()? {
        let stand = stand_of(config, ledger, &folder)?;
        let there = match (&folder.here, &stand) {
            (Some(here), Stand::Covered { .. } | Stand::InLane(_) | Stand::Free) => {
                Some(sizes(home, config, &Place::Local(here.clone()), stop).await?)
            }
            _ => None,
        };
        let largest = match (&folder.here, &there) {
            (Some(here), Some(sizes)) => largest(here, sizes),
            _ => Vec::new(),
        };
        all.push(Covered {
            folder,
            stand,
            sizes: there,
            largest,
        });
    }
    Ok(all)
}

fn stand_of(config: &Config, ledger: &Ledger, folder: &Standard) -> Result<Stand, Error> {
    let Some(here) = &folder.here else {
        return Ok(Stand::None);
    };
    match here.symlink_metadata() {
        Ok(meta) if meta.is_symlink() => {
            return Ok(Stand::Link(fs::read_link(here).unwrap_or_default()));
        }
        Ok(meta) if meta.is_dir() => {}
        _ => return Ok(Stand::Missing),
    }
    let here = absolute(here);
    if let Some(lane) = config
        .lanes
        .iter()
        .find(|lane| lane.near.local() == Some(&here))
    {
        return covered(ledger, lane);
    }
    let touching = config.lanes.iter().find(|lane| {
        let near = lane.near.local();
        near.is_some_and(|near| near.starts_with(&here) || here.starts_with(near))
    });
    Ok(touching.map_or(Stand::Free, |lane| Stand::InLane(lane.name.clone())))
}

fn covered(ledger: &Ledger, lane: &LaneConfig) -> Result<Stand, Error> {
    let (since, agreed) = ledger.read(|connection| {
        let agreed = match rows::lane_of(connection, &lane.id)? {
            Some(row) => rows::agreed_files(connection, row.key)?,
            None => (0, 0),
        };
        Ok((runs::first(connection, &lane.name)?, agreed))
    })?;
    Ok(Stand::Covered {
        lane: lane.name.clone(),
        since,
        agreed,
    })
}

fn largest(here: &Path, sizes: &Sizes) -> Vec<(String, u64)> {
    const SHOWN: usize = 3;
    let mut all: Vec<(String, u64)> = sizes
        .folders
        .iter()
        .map(|(name, inside)| (format!("{name}/"), inside.bytes))
        .collect();
    for entry in fs::read_dir(here).into_iter().flatten().flatten() {
        if let Ok(meta) = entry.metadata()
            && meta.is_file()
        {
            all.push((entry.file_name().to_string_lossy().into_owned(), meta.len()));
        }
    }
    all.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    all.truncate(SHOWN);
    all
}

/// What is to be covered, and where.
#[derive(Clone, Debug)]
pub struct Wanted {
    /// The folders' words.
    pub words: Vec<String>,
    /// The account.
    pub account: String,
    /// The folder there that holds the computers' folders.
    pub under: RelPath,
    /// What this computer is called there.
    pub computer: String,
    /// In which way.
    pub direction: Direction,
}

/// What this computer is called, as a name that every server takes.
#[must_use]
pub fn computer_name() -> String {
    let host = rustix::system::uname();
    let host = host.nodename().to_string_lossy();
    let plain = |c: char| {
        if c.is_alphanumeric() || "-_.".contains(c) {
            c
        } else {
            '-'
        }
    };
    let name: String = host.chars().map(plain).collect();
    let name = name.trim_matches('.').to_owned();
    if name.is_empty() {
        "computer".into()
    } else {
        name
    }
}

/// Bytes that the account has free, where its server says so.
///
/// # Errors
/// Where the account cannot be reached.
pub async fn free_there(
    home: &Home,
    config: &Config,
    account: &str,
    stop: &Stop,
) -> Result<Option<u64>, Error> {
    let client = account_client(home, config.account(account)?, stop)?;
    let surveyed = client.survey(false).await;
    let surveyed = surveyed.map_err(|error| {
        Error::failed(
            format!("asking @{account} what is free"),
            error,
            format!("See what is wrong: katabatic account test {account}"),
        )
    })?;
    Ok(surveyed.free)
}

/// The lanes for what is wanted; nothing is made yet.
///
/// # Errors
/// A folder that cannot be covered, with the reason; a far folder that stands there already; no room there.
pub async fn lanes_for(
    home: &Home,
    config: &Config,
    wanted: &Wanted,
    folders: &[Covered],
    stop: &Stop,
) -> Result<Vec<LaneConfig>, Error> {
    let mut lanes = Vec::new();
    let mut needed = 0;
    for word in &wanted.words {
        let covered = of_word(folders, word)?;
        let near = coverable(covered)?;
        needed += covered.sizes.as_ref().map_or(0, |sizes| sizes.bytes);
        let far = far_folder(wanted, covered)?;
        check_nothing_there(home, config, wanted, &far, stop).await?;
        let mut lane = LaneConfig::new(
            &free_name(config, word),
            &katabatic_sides::private_files::random_hex(8)?,
            Place::Local(near),
            Place::Far {
                account: wanted.account.clone(),
                path: far,
            },
        );
        lane.terms = Terms::of(wanted.direction);
        lanes.push(lane);
    }
    let free = free_there(home, config, &wanted.account, stop).await?;
    if let Some(free) = free.filter(|free| needed > *free) {
        use katabatic_core::words::bytes;
        return Err(Error::new(
            Class::Failed,
            format!("covering {}", wanted.words.join(", ")),
            format!(
                "they hold {}, and @{} has {} free",
                bytes(needed),
                wanted.account,
                bytes(free)
            ),
            "Nothing was changed. Cover fewer of them, or leave out what is large: katabatic lane add --leave-out ':larger 1GB'",
        ));
    }
    Ok(lanes)
}

/// The folder of this word.
///
/// # Errors
/// Lists the words there are.
pub fn of_word<'c>(folders: &'c [Covered], word: &str) -> Result<&'c Covered, Error> {
    folders
        .iter()
        .find(|covered| covered.folder.word == word)
        .ok_or_else(|| {
            let words = STANDARD.map(|(word, ..)| word);
            Error::usage(
                format!("the standard folder {word}"),
                "there is none of that name",
                format!("There are: {}", words.join(", ")),
            )
        })
}

fn coverable(covered: &Covered) -> Result<PathBuf, Error> {
    let word = covered.folder.word;
    let refused =
        |why: String, next: String| Err(Error::usage(format!("covering {word}"), why, next));
    let here = match (&covered.folder.here, &covered.stand) {
        (Some(here), Stand::Free) => absolute(here),
        (_, Stand::Covered { lane, .. }) => {
            return refused(
                format!("the lane {lane} covers it already"),
                format!("See how far: katabatic status {lane}"),
            );
        }
        (_, Stand::InLane(lane)) => {
            return refused(
                format!("the lane {lane} has it, or a part of it, already"),
                format!("See which: katabatic lane show {lane}"),
            );
        }
        (_, Stand::Link(to)) => {
            return refused(
                format!(
                    "it is a link to {}, and links are never followed",
                    to.display()
                ),
                "Tie the real folder: katabatic lane add".into(),
            );
        }
        (Some(here), _) => {
            return refused(
                format!("there is no folder {}", here.display()),
                "Make it, or leave it out.".into(),
            );
        }
        (None, _) => {
            return refused(
                "this person has no such folder".into(),
                "Leave it out.".into(),
            );
        }
    };
    Ok(here)
}

fn far_folder(wanted: &Wanted, covered: &Covered) -> Result<RelPath, Error> {
    wanted
        .under
        .join(&wanted.computer)
        .and_then(|computer| computer.join(covered.folder.there))
        .map_err(|why| {
            Error::usage(
                format!("the name {}", wanted.computer),
                why.to_string(),
                "Give another one with --as NAME.",
            )
        })
}

async fn check_nothing_there(
    home: &Home,
    config: &Config,
    wanted: &Wanted,
    far: &RelPath,
    stop: &Stop,
) -> Result<(), Error> {
    let client = account_client(home, config.account(&wanted.account)?, stop)?;
    let side = client.folder(RelPath::root(), ("none", "none"), &KnownServer::default());
    let place = Place::Far {
        account: wanted.account.clone(),
        path: far.clone(),
    };
    let looked = side.look(far).await;
    let there = looked.map_err(|error| {
        Error::failed(
            format!("looking at {place}"),
            error,
            format!(
                "See what is wrong: katabatic account test {}",
                wanted.account
            ),
        )
    })?;
    let holds = match there {
        None => return Ok(()),
        Some(entry) if entry.kind == Kind::Folder => {
            let named = side.names(far).await;
            named.map_or(true, |names| !names.is_empty())
        }
        Some(_) => true,
    };
    if !holds {
        return Ok(());
    }
    Err(Error::usage(
        format!("covering into {place}"),
        format!(
            "there is a computer called {} there already, with files in it",
            wanted.computer
        ),
        format!(
            "If it was this one, or is gone for good: katabatic cover --take-over {} --account {}. If not, give this one another name: --as NAME",
            wanted.computer, wanted.account
        ),
    ))
}

fn free_name(config: &Config, word: &str) -> String {
    let taken = |name: &str| config.lanes.iter().any(|lane| lane.name == name);
    std::iter::once(word.to_owned())
        .chain((2..).map(|number| format!("{word}-{number}")))
        .find(|name| !taken(name))
        .unwrap_or_else(|| word.to_owned())
}

/// The lanes that bring back what another computer had covered, and cover it anew from here.
///
/// They carry down first. Once everything is here, [`covered_anew`] turns each of them round.
///
/// # Errors
/// Where there is nothing of that computer, or a folder here cannot be used.
pub async fn lanes_to_take_over(
    home: &Home,
    config: &Config,
    wanted: &Wanted,
    folders: &[Covered],
    stop: &Stop,
) -> Result<Vec<LaneConfig>, Error> {
    let client = account_client(home, config.account(&wanted.account)?, stop)?;
    let side = client.folder(RelPath::root(), ("none", "none"), &KnownServer::default());
    let mut lanes = Vec::new();
    for covered in folders {
        let wants =
            wanted.words.is_empty() || wanted.words.iter().any(|word| word == covered.folder.word);
        let far = far_folder(wanted, covered)?;
        let looked = side.look(&far).await;
        let there = looked.map_err(|error| {
            Error::failed(
                format!("looking for what {} had covered", wanted.computer),
                error,
                format!(
                    "See what is wrong: katabatic account test {}",
                    wanted.account
                ),
            )
        })?;
        if !wants || there.is_none_or(|entry| entry.kind != Kind::Folder) {
            continue;
        }
        let near = match (&covered.folder.here, &covered.stand) {
            // It is made when it is brought back.
            (Some(here), Stand::Missing) => absolute(here),
            _ => coverable(covered)?,
        };
        let place = Place::Far {
            account: wanted.account.clone(),
            path: far,
        };
        let name = free_name(config, covered.folder.word);
        let mut lane = LaneConfig::new(
            &name,
            &katabatic_sides::private_files::random_hex(8)?,
            Place::Local(near),
            place,
        );
        lane.terms = Terms::of(Direction::Down);
        lanes.push(lane);
    }
    if lanes.is_empty() {
        let under = Place::Far {
            account: wanted.account.clone(),
            path: wanted.under.clone(),
        };
        return Err(Error::new(
            Class::NotThere,
            format!("taking over from {}", wanted.computer),
            format!("there is nothing of a computer of that name in {under}"),
            format!("See which there are: katabatic list {under}"),
        ));
    }
    Ok(lanes)
}

/// Turns a lane round that has brought everything back: from now on it covers what is here. What was brought is agreed
/// on by both sides already, so nothing is carried or compared again.
///
/// # Errors
/// Where ledger or config cannot be written.
pub async fn covered_anew(
    config: &mut Config,
    ledger: &Ledger,
    name: &str,
    direction: Direction,
) -> Result<(), Error> {
    let mut lane = config.lane(name)?.clone();
    lane.terms = Terms::of(direction);
    let (id, terms) = (lane.id.clone(), lane.terms_text());
    let selection = lane.selection_text();
    ledger
        .write(move |connection| match rows::lane_of(connection, &id)? {
            Some(row) => rows::set_terms(connection, row.key, &terms, &selection),
            None => Ok(()),
        })
        .await?;
    config.change_lane(lane)
}
