//! Copying a file or a folder between any two places. What was copied before is skipped, so that a copy that was cut
//! goes on when it is asked for again; at its end both sides are counted.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::sync::{Arc, Mutex, PoisonError};

use futures_util::{StreamExt, stream};
use katabatic_core::{
    Deed, Entry, ItemEnding, ItemOutcome, Kind, RelPath, RunCommand, RunOutcome, Side, SpareCause,
    Stamp,
};
use rustix::fs::{FlockOperation, flock};

use super::change::taken;
use super::{Hand, ROOM, Spot, Whole, nothing_there, told, written};
use crate::Error;
use crate::pass::Progress;
use crate::pass::primitive::{self, Change, Learned};
use crate::session::{LockedLane, OpRun};
use katabatic_core::place::Place;
use katabatic_ledger::intents::Version;
use katabatic_ledger::runs::{self, Counts, RunItem};
use katabatic_sides::effort::ATTEMPTS;
use katabatic_sides::net::traffic::MOST;
use katabatic_sides::{Put, SideError, SideStore, Source, Steps, Undone};

/// What lies somewhere.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Count {
    /// Files, at any depth.
    pub files: u64,
    /// Folders, at any depth.
    pub folders: u64,
    /// Things that are neither, such as links; they are never copied.
    pub others: u64,
    /// Bytes of the files.
    pub bytes: u64,
}

/// What a copy is to do.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Wish {
    /// Whether what has a name there goes to the spares.
    pub replace: bool,
}

/// What a copy did.
#[derive(Debug)]
pub struct Copied {
    /// The number of its run.
    pub run: i64,
    /// Whether it went on with one that was cut.
    pub went_on: bool,
    /// Files that were copied, and their bytes.
    pub copied: (u64, u64),
    /// Files that were there already, equal in size and edit time.
    pub skipped: u64,
    /// Files that could not be copied, and why.
    pub failed: Vec<(String, String)>,
    /// Things that are neither files nor folders.
    pub left_out: u64,
    /// What the source holds.
    pub source: Count,
    /// What the copy holds.
    pub target: Count,
    /// Which versions were copied.
    pub(super) versions: Vec<(RelPath, Stamp)>,
    /// Whether it was stopped by Ctrl-C.
    pub stopped: bool,
}

/// Copies a file or a folder.
///
/// # Errors
/// Where nothing is there to copy, something has the name already, or a whole side is not there.
pub async fn copy(hand: &Hand<'_>, from: &Place, to: &Place, wish: Wish) -> Result<Copied, Error> {
    let what = format!("copying {} to {}", written(from), written(to));
    let work = hand.begin(&what, &[to]).await?;
    let source = hand.spot(from)?;
    let target = hand.spot(to)?;
    if is_within(to, from) {
        return Err(Error::usage(
            &what,
            "the copy would lie in what is copied",
            "Name another place.",
        ));
    }
    let seen = source.store.look(&source.path).await;
    let seen = seen.map_err(|error| hand.failed(&what, from, &error))?;
    let seen = seen.ok_or_else(|| nothing_there(&what, &source.shown))?;
    let there = target.store.look(&target.path).await;
    let there = there.map_err(|error| hand.failed(&what, to, &error))?;
    hand.check_not_own(&what, to)?;
    if let (Some(there), true) = (&there, wish.replace) {
        hand.check_no_root(&what, to)?;
        hand.check_no_spares_in(&what, to, there).await?;
    }
    let _tidy = hand.tidy_staging(&target).await;
    let command = RunCommand::Copy {
        from: source.shown.clone(),
        to: target.shown.clone(),
    };
    let unfinished = hand.was_cut(&command)?;
    if let (Some(_), false, false) = (&there, wish.replace, unfinished)
        && seen.kind == Kind::Folder
    {
        return Err(taken(&what, &target.shown));
    }
    let copying = Copying {
        hand,
        lane: hand.at(&work, &target).await?,
        run: hand.begin_run(command).await?,
        wish,
        did: Mutex::default(),
    };
    let copied = match seen.kind {
        Kind::File => copying.one(&source, &target, &seen, there.as_ref()).await,
        Kind::Folder => {
            // A folder that is to be replaced goes whole; one that an earlier copy was cut in is gone on with.
            let whole = there.filter(|_| !unfinished);
            copying.folder((from, to), &target, whole.as_ref()).await
        }
        Kind::Odd(_) => Err(Error::usage(
            &what,
            "it is neither a file nor a folder",
            "Copy it with the system's own tools.",
        )),
    };
    copying.finish(copied, unfinished).await
}

/// Whether one place lies in another, or is it.
fn is_within(inner: &Place, outer: &Place) -> bool {
    match (inner, outer) {
        (Place::Local(inner), Place::Local(outer)) => inner.starts_with(outer),
        (
            Place::Far { account, path },
            Place::Far {
                account: other,
                path: outer,
            },
        ) => account == other && path.is_within(outer),
        _ => false,
    }
}

impl Hand<'_> {
    /// Clears what copies that were cut left in the staging, where no other copy is under way; what is returned says that
    /// one is, for as long as it is kept.
    async fn tidy_staging(&self, target: &Spot) -> Option<File> {
        let file = self.home.lane_room(ROOM).join("copying");
        let open = File::options()
            .create(true)
            .truncate(false)
            .write(true)
            .open(file)
            .ok()?;
        if flock(&open, FlockOperation::NonBlockingLockExclusive).is_ok()
            && let Err(why) = target.store.clear_staging(&HashSet::new()).await
        {
            tracing::debug!("leftovers in the staging could not be cleared: {why}");
        }
        flock(&open, FlockOperation::LockShared).ok()?;
        Some(open)
    }

    /// Whether the last run of this very copy did not come to its end.
    fn was_cut(&self, command: &RunCommand) -> Result<bool, Error> {
        let last = self
            .ledger
            .read(|connection| runs::last_of(connection, command))?;
        Ok(last.is_some_and(|outcome| outcome != Some(RunOutcome::Done)))
    }
}

#[derive(Default)]
struct Did {
    copied: (u64, u64),
    skipped: u64,
    failed: Vec<(String, String)>,
    left_out: u64,
    counts: (Count, Count),
    versions: Vec<(RelPath, Stamp)>,
    ended: Option<Error>,
}

struct Copying<'c, 'h> {
    hand: &'c Hand<'h>,
    /// The folder that the target lies in.
    lane: LockedLane,
    run: OpRun,
    wish: Wish,
    did: Mutex<Did>,
}

enum Done {
    Copied,
    Skipped,
    /// Something else has the name.
    Taken,
}

impl Copying<'_, '_> {
    fn did(&self) -> std::sync::MutexGuard<'_, Did> {
        self.did.lock().unwrap_or_else(PoisonError::into_inner)
    }

    async fn finish(self, copied: Result<(), Error>, went_on: bool) -> Result<Copied, Error> {
        let stopped = self.hand.stop.asked();
        let did = self
            .did
            .into_inner()
            .unwrap_or_else(PoisonError::into_inner);
        let number = self.run.number();
        if let Some(error) = copied.err().or(did.ended) {
            self.run.failed(&error).await;
            return Err(error);
        }
        let outcome = match stopped {
            true => RunOutcome::Stopped,
            false => RunOutcome::done_if(did.failed.is_empty()),
        };
        let counts = Counts {
            files_up: did.copied.0,
            bytes_up: did.copied.1,
            stuck: did.failed.len() as u64,
            ..Counts::default()
        };
        self.run.end(outcome, counts).await?;
        Ok(Copied {
            run: number,
            went_on,
            copied: did.copied,
            skipped: did.skipped,
            failed: did.failed,
            left_out: did.left_out,
            source: did.counts.0,
            target: did.counts.1,
            versions: did.versions,
            stopped,
        })
    }

    /// A single file.
    async fn one(
        &self,
        source: &Spot,
        target: &Spot,
        seen: &Entry,
        there: Option<&Entry>,
    ) -> Result<(), Error> {
        self.hand.progress.begin_carrying(1, seen.size);
        let done = self
            .file((&source.store, &source.path, seen), target, there)
            .await;
        if matches!(done, Ok(Done::Taken)) {
            return Err(taken(
                &format!("copying {} to {}", source.shown, target.shown),
                &target.shown,
            ));
        }
        self.note(&target.shown, seen.size, done);
        let target = target.store.look(&target.path).await;
        let count = |entry: Option<&Entry>| Count {
            files: u64::from(entry.is_some()),
            bytes: entry.map_or(0, |entry| entry.size),
            ..Count::default()
        };
        let mut did = self.did();
        did.counts = (count(Some(seen)), count(target.ok().flatten().as_ref()));
        did.versions = vec![(RelPath::root(), seen.stamp.clone())];
        Ok(())
    }

    fn note(&self, shown: &str, size: u64, done: Result<Done, SideError>) {
        let outcome = {
            let mut did = self.did();
            match done {
                Ok(Done::Copied) => {
                    did.copied.0 += 1;
                    did.copied.1 += size;
                    ItemOutcome::DONE
                }
                Ok(Done::Skipped) => {
                    did.skipped += 1;
                    return;
                }
                Ok(Done::Taken) => {
                    did.failed.push((shown.to_owned(), HAS_THE_NAME.to_owned()));
                    ItemOutcome::with(ItemEnding::Stuck, HAS_THE_NAME)
                }
                Err(SideError::Stopped) => return,
                Err(error) => {
                    if error.ends_the_pass() {
                        did.ended.get_or_insert_with(|| {
                            Error::new(
                                crate::Class::NotThere,
                                format!("copying to {shown}"),
                                error.to_string(),
                                "Once it is there again, do the same copy again: it goes on where it was.",
                            )
                        });
                    }
                    did.failed.push((shown.to_owned(), error.to_string()));
                    ItemOutcome::with(ItemEnding::Stuck, error.to_string())
                }
            }
        };
        self.run.note(RunItem {
            path: shown.to_owned(),
            deed: Deed::CopyByHand,
            reason: String::new(),
            bytes: size,
            outcome,
            at: Some(self.hand.now()),
        });
    }

    /// A folder and all that is below it.
    async fn folder(
        &self,
        (from, to): (&Place, &Place),
        target: &Spot,
        replaced: Option<&Entry>,
    ) -> Result<(), Error> {
        let what = format!("copying {} to {}", written(from), written(to));
        let at_source = |error: SideError| self.hand.failed(&what, from, &error);
        let at_target = |error: SideError| self.hand.failed(&what, to, &error);
        let reader = self.hand.reader(from)?;
        let whole = self.hand.count(&reader).await.map_err(at_source)?;
        if let Some(why) = whole.unknown.first() {
            self.did().failed.push((
                written(from),
                format!("not all of it could be listed: {why}"),
            ));
        }
        if let Some(old) = replaced {
            let old = &match old.kind {
                Kind::Folder => Entry {
                    size: self.hand.inside(&what, to).await?.bytes,
                    ..old.clone()
                },
                _ => old.clone(),
            };
            let taken = self
                .hand
                .capture(
                    (&self.lane, target),
                    old,
                    &self.run,
                    SpareCause::ReplacedByHand,
                )
                .await;
            taken.map_err(at_target)?;
        }
        let count = whole.count();
        self.hand.progress.begin_carrying(count.files, count.bytes);
        self.make(target, &target.path).await.map_err(at_target)?;
        let there = self.there(to).await.map_err(at_target)?;
        for (path, entry) in &whole.entries {
            if entry.kind == Kind::Folder && !self.hand.stop.asked() {
                let at = below(&target.path, path);
                if let Err(error) = self.make(target, &at).await {
                    self.note(&format!("{}/{path}", target.shown), 0, Err(error));
                }
            }
        }
        let files = whole
            .entries
            .iter()
            .filter(|(_, entry)| entry.kind == Kind::File);
        stream::iter(files)
            .for_each_concurrent(MOST, |(path, seen)| {
                self.member(&reader, target, path, seen, there.get(path))
            })
            .await;
        self.did().left_out = count.others;
        self.did().versions = whole.versions();
        let copy = self.hand.reader(to)?;
        let copy = self.hand.count(&copy).await.map_err(at_target)?;
        self.did().counts = (count, copy.count());
        Ok(())
    }

    /// What is at the target already.
    async fn there(&self, to: &Place) -> Result<HashMap<RelPath, Entry>, SideError> {
        let reader = self
            .hand
            .reader(to)
            .map_err(|error| SideError::Failed(error.to_string()))?;
        let Whole { entries, .. } = self.hand.count(&reader).await?;
        Ok(entries.into_iter().collect())
    }

    async fn make(&self, target: &Spot, at: &RelPath) -> Result<(), SideError> {
        match target.store.make_folder(at).await.map_err(Undone::told)? {
            Put::Done => Ok(()),
            Put::Taken => Err(SideError::Changed(HAS_THE_NAME.into())),
        }
    }

    async fn member(
        &self,
        reader: &Arc<dyn SideStore>,
        target: &Spot,
        path: &RelPath,
        seen: &Entry,
        there: Option<&Entry>,
    ) {
        if self.hand.stop.asked() || self.did().ended.is_some() {
            return;
        }
        let spot = Spot {
            store: Arc::clone(&target.store),
            side: target.side,
            path: below(&target.path, path),
            root: target.root.clone(),
            shown: format!("{}/{path}", target.shown),
        };
        let done = self.file((reader, path, seen), &spot, there).await;
        self.note(&spot.shown, seen.size, done);
    }

    /// One file: staged beside, and placed where nothing is.
    async fn file(
        &self,
        (reader, path, seen): (&Arc<dyn SideStore>, &RelPath, &Entry),
        target: &Spot,
        there: Option<&Entry>,
    ) -> Result<Done, SideError> {
        if there.is_some_and(|there| equal(there, seen, target.side)) {
            self.hand.progress.carried_bytes(seen.size);
            self.hand.progress.carried_file();
            return Ok(Done::Skipped);
        }
        if there.is_some() && !self.wish.replace {
            return Ok(Done::Taken);
        }
        let mut attempt = 1;
        let staged = loop {
            let source = reader.read(path, seen).await?;
            let source = counted(source, &self.hand.progress);
            match target
                .store
                .stage(source, &target.path, &Steps::unkept())
                .await
            {
                Err(SideError::TryAgain(why)) if attempt < ATTEMPTS => {
                    tracing::debug!("{} is tried again: {why}", target.shown);
                    tokio::time::sleep(std::time::Duration::from_millis(50 << attempt)).await;
                    attempt += 1;
                }
                staged => break staged?,
            }
        };
        let change = Change {
            side: target.side,
            path: &target.path,
            old: there.map(|there| Version::of(there, None)),
            source: None,
            run: Some(self.run.number()),
            cause: SpareCause::ReplacedByHand,
            learned: Learned::default(),
        };
        primitive::edit(&self.lane, change, staged)
            .await
            .map_err(told)?;
        self.hand.progress.carried_file();
        Ok(Done::Copied)
    }
}

const HAS_THE_NAME: &str =
    "something else has that name already; with --replace it goes to the spares";

/// Whether a copy is there already: equal in size and edit time. A date of a server is not an edit time.
fn equal(there: &Entry, seen: &Entry, side: Side) -> bool {
    let edited = match side {
        Side::Near => seen.edited.or(seen.received),
        Side::Far => seen.edited,
    };
    there.kind == Kind::File
        && there.size == seen.size
        && there.edited.is_some()
        && there.edited == edited
}

fn below(folder: &RelPath, path: &RelPath) -> RelPath {
    path.parts().fold(folder.clone(), |folder, part| {
        // A part of a path that was checked once is a name.
        folder.join(part).unwrap_or(folder)
    })
}

fn counted(source: Source, progress: &Arc<Progress>) -> Source {
    let progress = Arc::clone(progress);
    let content = source.content.inspect(move |chunk| {
        if let Ok(chunk) = chunk {
            progress.carried_bytes(chunk.len() as u64);
        }
    });
    Source {
        content: content.boxed(),
        ..source
    }
}
