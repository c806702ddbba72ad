//! Choosing which folders of the far side come here: what each weighs, what a change would free or fetch, and the
//! change itself.
//!
//! A local copy goes only once every file in it is proven to be on the far side ([`crate::proof`]). Dropping it is no
//! removal: the far side keeps everything, other computers keep theirs, and the room is free at once.

mod drop;
mod proof;

use std::collections::BTreeMap;

use katabatic_core::{Choice, Contents, Entry, Kind, Listing, RelPath, Share, Side, Tally};
use tokio::sync::mpsc;

use crate::pass::Pass;
use crate::{Class, Error};
use katabatic_sides::{Found, SharedFolder, SideError};

pub use drop::{Dropped, drop_copies, refused};
pub use proof::{Proofs, Unproven};

/// A folder of the far side, with all that is in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Weighed {
    /// The folder.
    pub path: RelPath,
    /// Files in it, at any depth.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// How much of it is taken.
    pub share: Share,
    /// Who shares it with this account, and whether one may write there; none where it is the account's own.
    pub shared: Option<SharedFolder>,
}

/// Both sides as they were looked at for a choice.
#[derive(Debug)]
pub struct Looked {
    near: BTreeMap<RelPath, Entry>,
    far: BTreeMap<RelPath, Entry>,
    shared: Vec<SharedFolder>,
    contents: Contents,
}

/// What a change of the choice would do.
#[derive(Debug, Default)]
pub struct Effect {
    /// Files that would come here, and the bytes of their content, which stubs have none of.
    pub fetches: (u64, u64),
    /// Files whose local copy would go, and the bytes of content that this frees.
    pub frees: (u64, u64),
    /// Whether each of them is proven to be on the far side.
    pub proofs: Proofs,
    /// Things here that no lane carries or a rule leaves out; they stay, and so do the folders around them.
    pub stays: Vec<RelPath>,
}

/// Looks at both sides.
///
/// # Errors
/// Where a side is not there, or a folder of it cannot be listed.
pub async fn look(pass: &Pass) -> Result<Looked, Error> {
    pass.check_roots().await?;
    Ok(Looked {
        near: entries(pass, Side::Near).await?,
        far: entries(pass, Side::Far).await?,
        shared: pass.lane.far.shared().await,
        contents: pass.lane.config.contents.clone(),
    })
}

pub(crate) async fn entries(pass: &Pass, side: Side) -> Result<BTreeMap<RelPath, Entry>, Error> {
    let (found, mut inbox) = mpsc::channel(1024);
    let store = pass.store(side);
    let scanning = tokio::spawn(async move { store.scan(found).await });
    let mut entries = BTreeMap::new();
    let mut unread = None;
    while let Some(item) = inbox.recv().await {
        let (path, listing) = match item {
            Found::Root(listing) => (RelPath::root(), listing),
            Found::Entry(path, entry) => {
                let listing = entry.listing.clone();
                entries.insert(path.clone(), entry);
                (path, listing)
            }
            Found::Unusable(_) | Found::Own(_) => continue,
        };
        if let Listing::Incomplete(why) = listing {
            unread.get_or_insert((path, why));
        }
    }
    scanning
        .await
        .unwrap_or_else(|error| Err(SideError::Failed(error.to_string())))
        .map_err(|error| pass.side_failed(side, &error))?;
    match unread {
        // Nothing may be weighed, and least of all dropped, on the word of half a listing.
        Some((path, why)) => Err(Error::failed(
            format!(
                "looking at {path} {}",
                pass.lane.config.side_names().at(side)
            ),
            why,
            "Try again once it can be read; nothing was changed.",
        )),
        None => Ok(entries),
    }
}

impl Looked {
    /// Files of the far side that would come here, with what is known of each.
    pub fn coming(&self, after: &Choice) -> impl Iterator<Item = (&RelPath, &Entry)> {
        self.far.iter().filter(|(path, entry)| {
            entry.kind == Kind::File && self.takes(after, path) && !self.near.contains_key(path)
        })
    }

    /// Bytes of content that come here with a file of the far side: none where it comes as a stub.
    fn comes(&self, path: &RelPath, there: &Entry) -> u64 {
        match self.contents.comes_as_stub(path, None, there) {
            true => 0,
            false => there.size,
        }
    }

    /// The folders of the far side to this depth, in tree order; the root itself comes first.
    #[must_use]
    pub fn weighed(&self, choice: &Choice, depth: usize) -> Vec<Weighed> {
        let mut folders: BTreeMap<RelPath, (u64, u64)> = BTreeMap::new();
        folders.insert(RelPath::root(), (0, 0));
        for (path, entry) in &self.far {
            if entry.kind == Kind::Folder {
                folders.entry(path.clone()).or_default();
                continue;
            }
            let mut above = path.parent();
            while let Some(folder) = above {
                let sum = folders.entry(folder.clone()).or_default();
                sum.0 += 1;
                sum.1 = sum.1.saturating_add(entry.size);
                above = folder.parent();
            }
        }
        let weighed = |(path, (files, bytes)): (RelPath, (u64, u64))| Weighed {
            share: match path.is_root() {
                true if choice.is_everything() => Share::Whole,
                true => Share::Part,
                false => choice.share(&path, self.here(&path)),
            },
            shared: (path.depth() == 1)
                .then(|| self.shared.iter().find(|shared| shared.name == path.name()))
                .flatten()
                .cloned(),
            path,
            files,
            bytes,
        };
        folders
            .into_iter()
            .filter(|(path, _)| path.depth() <= depth)
            .map(weighed)
            .collect()
    }

    /// The files that lie in the far root itself, which always come, and their bytes.
    #[must_use]
    pub fn at_root(&self) -> (u64, u64) {
        let files = self
            .far
            .iter()
            .filter(|(path, entry)| path.depth() == 1 && entry.kind == Kind::File);
        files.fold((0, 0), |(files, bytes), (_, entry)| {
            (files + 1, u64::saturating_add(bytes, entry.size))
        })
    }

    /// What lies in a skipped folder of the far side and is not taken.
    fn left_in(&self, folder: &RelPath, choice: &Choice) -> Tally {
        let mut tally = Tally::default();
        for (path, entry) in &self.far {
            let left = choice
                .said_of(path)
                .is_some_and(|(by, taken)| !taken && by == folder);
            if entry.kind == Kind::File && left {
                tally.files += 1;
                tally.bytes = tally.bytes.saturating_add(entry.size);
            }
        }
        tally
    }

    /// What a change of the choice would drop here and bring here: files and bytes of content each. Nothing is proven by it.
    #[must_use]
    pub fn moved(&self, after: &Choice) -> ((u64, u64), (u64, u64)) {
        let (mut freed, mut fetched) = ((0, 0), (0, 0));
        for (path, entry) in self
            .far
            .iter()
            .filter(|(_, entry)| entry.kind == Kind::File)
        {
            let here = self.near.get(path);
            let (sum, bytes) = match (here, self.takes(after, path)) {
                (Some(here), false) => (&mut freed, here.content_bytes()),
                (None, true) => (&mut fetched, self.comes(path, entry)),
                (Some(_), true) | (None, false) => continue,
            };
            sum.0 += 1;
            sum.1 = u64::saturating_add(sum.1, bytes);
        }
        (freed, fetched)
    }

    /// Whether the far side has this folder, or the near one.
    #[must_use]
    pub fn has_folder(&self, path: &RelPath) -> bool {
        [&self.near, &self.far].into_iter().any(|side| {
            side.get(path)
                .is_some_and(|entry| entry.kind == Kind::Folder)
        })
    }

    /// The folder that was meant by a path that is none, where one is much like it.
    #[must_use]
    pub fn meant_by(&self, path: &RelPath) -> Option<String> {
        let folders = [&self.near, &self.far].into_iter().flatten();
        let known: Vec<&str> = folders
            .filter(|(_, entry)| entry.kind == Kind::Folder)
            .map(|(folder, _)| folder.as_str())
            .collect();
        katabatic_core::did_you_mean(path.as_str(), &known).map(str::to_owned)
    }

    fn here(&self, path: &RelPath) -> bool {
        let top = path
            .parts()
            .next()
            .and_then(|part| RelPath::parse(part).ok());
        top.is_some_and(|top| self.near.contains_key(&top))
    }

    /// Whether a path is in the lane by this choice.
    fn takes(&self, choice: &Choice, path: &RelPath) -> bool {
        match path.depth() {
            1 if self
                .far
                .get(path)
                .is_some_and(|entry| entry.kind == Kind::File) =>
            {
                true
            }
            _ => choice.share(path, self.here(path)) != Share::None,
        }
    }

    /// Files of the near side that would go.
    fn going(&self, before: &Choice, after: &Choice) -> Vec<(&RelPath, &Entry)> {
        self.near
            .iter()
            .filter(|(path, _)| !self.takes(after, path))
            // What stands in a folder that was never taken is a person's own, unless it was agreed on.
            .filter(|(path, _)| self.takes(before, path) || self.far.contains_key(*path))
            .collect()
    }
}

/// What a change of the choice would do; nothing is changed.
///
/// # Errors
/// Where the ledger cannot be read, or a file here that must be read.
pub async fn effect(pass: &Pass, looked: &Looked, after: &Choice) -> Result<Effect, Error> {
    let before = &pass.lane.config.selection.choice;
    let mut effect = Effect::default();
    for (path, entry) in looked.coming(after) {
        effect.fetches.0 += 1;
        effect.fetches.1 = u64::saturating_add(effect.fetches.1, looked.comes(path, entry));
    }
    for (path, entry) in looked.going(before, after) {
        match entry.kind {
            Kind::Folder => {}
            Kind::File if !pass.is_ruled_out(path, entry) => {
                effect.frees.0 += 1;
                effect.frees.1 = effect.frees.1.saturating_add(entry.content_bytes());
                proof::weigh(pass, path, entry, looked.far.get(path), &mut effect.proofs).await?;
            }
            _ => effect.stays.push(path.clone()),
        }
    }
    Ok(effect)
}

/// Bytes that are free on the near side's disk.
pub async fn free_here(pass: &Pass) -> Option<u64> {
    pass.store(Side::Near).free().await
}

/// Makes sure that what would come here fits on the disk.
///
/// # Errors
/// Says what it needs and what there is.
pub async fn check_room(pass: &Pass, effect: &Effect) -> Result<(), Error> {
    let needed = effect.fetches.1.saturating_sub(effect.frees.1);
    match free_here(pass).await {
        Some(free) if needed > free => Err(pass.no_room(Side::Near, needed, free)),
        _ => Ok(()),
    }
}

impl Pass {
    fn is_ruled_out(&self, path: &RelPath, entry: &Entry) -> bool {
        let rules = &self.lane.config.selection.rules;
        let mut at = Some((path.clone(), entry.clone()));
        while let Some((path, entry)) = at.filter(|(path, _)| !path.is_root()) {
            if rules.iter().any(|rule| rule.catches(&path, &entry)) {
                return true;
            }
            at = path.parent().map(|parent| (parent, Entry::folder()));
        }
        false
    }

    /// A pass that brings more than the disk can hold is not begun.
    pub(crate) fn no_room(&self, side: Side, needed: u64, free: u64) -> Error {
        use katabatic_core::words::bytes;
        let config = &self.lane.config;
        let place = config.place(side);
        Error::new(
            Class::Failed,
            format!("bringing {} to {place}", bytes(needed)),
            format!("the disk has {} free; nothing was fetched", bytes(free)),
            format!(
                "Take fewer folders: katabatic choose {}. Or make room on the disk first.",
                config.name
            ),
        )
    }
}
