//! The versions that there are of one file: on both sides, and in the spares.
//!
//! Before somebody brings an older version back, they want to see whether it is the right one. So each can be opened for
//! reading, and reading one changes nothing on either side.

use std::path::Path;

use futures_util::StreamExt;
use katabatic_core::{EditTime, Entry, Kind, RelPath, RunCommand, Side};
use katabatic_ledger::spare_rows::Spare;
use katabatic_sides::Source;
use katabatic_sides::stop::Stop;

use crate::config::Config;
use crate::pass::Pass;
use crate::spares::{elsewhere, store_of, write_to};
use crate::{Error, Home};

/// A text that is longer than this, in bytes, is no text to be read on a terminal.
pub const LONGEST_TEXT: u64 = 1 << 20;

/// One of the versions of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Which {
    /// What is on this side now.
    On(Side),
    /// The spare of this number.
    Spare(i64),
}

/// A version that lies in the spares, and what put it there.
#[derive(Clone, Debug)]
pub struct KeptVersion {
    /// The spare.
    pub spare: Spare,
    /// What the run was for that put it there, where that is remembered.
    pub by: Option<RunCommand>,
}

/// A version that can be read.
#[derive(Clone, Debug)]
pub struct Version {
    /// Length in bytes.
    pub size: u64,
    /// When it was edited, where that is known.
    pub edited: Option<EditTime>,
    path: RelPath,
    lies: Lies,
}

/// Where a version that was found lies.
#[derive(Clone, Debug)]
enum Lies {
    On(Side, Entry),
    Kept(Box<Spare>),
}

/// Finds the version that is meant.
///
/// # Errors
/// Where there is none of it: nothing on that side, no such spare of this file, a stub without content here, a folder.
pub async fn find(
    pass: &Pass,
    path: &RelPath,
    which: Which,
    kept: &[KeptVersion],
) -> Result<Version, Error> {
    let lane = &pass.lane.config.name;
    let next = "See which versions there are: katabatic why PATH";
    match which {
        Which::On(side) => {
            let looked = pass.store(side).look(path).await;
            let entry = looked.map_err(|error| pass.side_failed(side, &error))?;
            let what = format!("{path} {}", pass.lane.config.side_names().at(side));
            match entry {
                None => Err(Error::usage(what, "there is nothing of that name", next)),
                Some(entry) if entry.is_stub() => Err(Error::usage(
                    what,
                    "it is a stub: its content is in the cloud only",
                    "Look at that one: --show far. To bring it here: katabatic fetch PATH",
                )),
                Some(entry) if entry.kind != Kind::File => {
                    Err(Error::usage(what, "it is no file that could be read", next))
                }
                Some(entry) => Ok(Version {
                    size: entry.size,
                    edited: entry.edited,
                    path: path.clone(),
                    lies: Lies::On(side, entry),
                }),
            }
        }
        Which::Spare(number) => {
            let what = format!("the version {number} of {path} in lane {lane}");
            let found = kept.iter().find(|kept| kept.spare.number == number);
            match found.map(|kept| &kept.spare) {
                None => Err(Error::usage(
                    what,
                    "no spare of that number is of this file",
                    next,
                )),
                Some(spare) if spare.folder => Err(Error::usage(
                    what,
                    "it is a whole folder",
                    format!("Bring it back: katabatic spares restore {number}"),
                )),
                Some(spare) => Ok(Version {
                    size: spare.size,
                    edited: spare.edited,
                    path: path.clone(),
                    lies: Lies::Kept(Box::new(spare.clone())),
                }),
            }
        }
    }
}

/// Where versions are read from.
pub struct Reader<'a> {
    /// The lane.
    pub pass: &'a Pass,
    /// Where a spare may lie that is not with its lane any more.
    pub home: &'a Home,
    /// The same.
    pub config: &'a Config,
    /// Ends what takes long.
    pub stop: &'a Stop,
}

impl Reader<'_> {
    async fn open(&self, version: &Version) -> Result<Source, Error> {
        let pass = self.pass;
        let (side, opened) = match &version.lies {
            Lies::Kept(spare) => {
                let elsewhere = elsewhere(self.home, self.config, spare, self.stop)?;
                let store = store_of(pass, spare, elsewhere.as_ref());
                (spare.side, store.read_spare(&spare.slot).await)
            }
            Lies::On(side, entry) => {
                let read = pass.store(*side).read(&version.path, entry).await;
                (*side, read)
            }
        };
        opened.map_err(|error| pass.side_failed(side, &error))
    }

    /// What it says, where that is a text of at most [`LONGEST_TEXT`] bytes.
    ///
    /// # Errors
    /// Where it cannot be read.
    pub async fn text(&self, version: &Version) -> Result<Option<String>, Error> {
        if version.size > LONGEST_TEXT {
            return Ok(None);
        }
        let mut source = self.open(version).await?;
        let mut bytes = Vec::new();
        while let Some(chunk) = source.content.next().await {
            let chunk = chunk.map_err(|why| {
                Error::failed(format!("reading {}", version.path), why, "Try again.")
            })?;
            bytes.extend_from_slice(&chunk);
            if chunk.contains(&0) || bytes.len() as u64 > LONGEST_TEXT {
                return Ok(None);
            }
        }
        Ok(String::from_utf8(bytes).ok())
    }

    /// Copies it to a path of this computer where nothing is.
    ///
    /// # Errors
    /// Where it cannot be read, or something is at that path.
    pub async fn copy_to(&self, version: &Version, to: &Path) -> Result<(), Error> {
        let what = format!("copying a version of {} to {}", version.path, to.display());
        write_to(self.open(version).await?, &what, to).await
    }
}
