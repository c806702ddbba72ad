//! Bringing back what the far side of a lane holds, whatever the lane's direction and without changing it.
//!
//! A pass carries what changed; this brings what is missing. Nothing that is here is ever written over: what is here
//! otherwise stays, and is named.

use std::collections::HashSet;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use futures_util::{StreamExt, stream};
use katabatic_core::{
    Deed, Entry, ItemEnding, ItemOutcome, Kind, Listing, RelPath, RunCommand, RunOutcome, Side,
    View,
};
use tokio::sync::mpsc;

use crate::Error;
use crate::home::Home;
use crate::pass::scan::tell_both;
use crate::pass::shared_tags::SharedTags;
use crate::pass::{Pass, Wish};
use crate::session::{Ended, LockedLane, OpRun, in_run};
use crate::spares::make_parents_on;
use katabatic_ledger::runs::{Counts, RunItem};
use katabatic_sides::effort::ATTEMPTS;
use katabatic_sides::effort::IN_FLIGHT;
use katabatic_sides::local::LocalSide;
use katabatic_sides::{Found, Put, SideError, SideStore, Steps, Undone};

const BUFFER: usize = 1024;

/// What the room is called that files for another folder are staged in, before the lane's id: no two lanes share one.
const ROOM: &str = "recover-";

/// What a recovery would do.
#[derive(Clone, Debug, Default)]
pub struct Offer {
    /// Files and folders that are missing here.
    pub bring: Vec<(RelPath, Entry)>,
    /// Files that are here already, as far as is recorded or by their size.
    pub here: u64,
    /// Files that are here otherwise, and stay as they are.
    pub otherwise: Vec<RelPath>,
    /// Files that the lane leaves out, which are not brought to their place.
    pub left_out: u64,
    /// What could not be told there, and why.
    pub unknown: Vec<(RelPath, String)>,
}

impl Offer {
    /// Files to bring, and their bytes.
    #[must_use]
    pub fn files(&self) -> (u64, u64) {
        let files = self
            .bring
            .iter()
            .filter(|(_, entry)| entry.kind == Kind::File);
        files.fold((0, 0), |(files, bytes), (_, entry)| {
            (files + 1, u64::saturating_add(bytes, entry.size))
        })
    }
}

/// What a recovery did.
#[derive(Clone, Debug, Default)]
pub struct Recovered {
    /// The number of its run.
    pub run: i64,
    /// Files brought, and their bytes.
    pub brought: (u64, u64),
    /// Files that could not be brought, and why.
    pub failed: Vec<(RelPath, String)>,
}

/// Where things are brought to.
pub enum Target {
    /// Where they were: the lane's near side.
    Place,
    /// Another folder of this computer.
    Folder(LocalSide),
}

impl Target {
    /// A folder of this computer, which is made where it is not there.
    ///
    /// # Errors
    /// Where it cannot be made or opened.
    pub fn folder(pass: &Pass, home: &Home, dir: &Path) -> Result<Target, Error> {
        let failed = |why: &dyn std::fmt::Display| {
            Error::failed(
                format!("bringing files to {}", dir.display()),
                why,
                "Name a folder in which you may write.",
            )
        };
        std::fs::create_dir_all(dir).map_err(|why| failed(&why))?;
        let dir = dir.canonicalize().map_err(|why| failed(&why))?;
        let room = format!("{ROOM}{}", pass.lane.config.id);
        LocalSide::open(&dir, &home.lane_room(&room), &room, pass.stop.clone())
            .map(Target::Folder)
            .map_err(|why| failed(&why))
    }

    fn store(&self, pass: &Pass) -> Arc<dyn SideStore> {
        match self {
            Target::Place => pass.store(Side::Near),
            Target::Folder(side) => Arc::new(side.clone()),
        }
    }
}

/// Lists both sides, and says what is missing.
///
/// # Errors
/// Where a side is not there or refuses.
pub async fn look(pass: &Pass, scope: &RelPath, target: &Target) -> Result<Offer, Error> {
    pass.check_roots().await?;
    let (found, far) = mpsc::channel::<Found>(BUFFER);
    let store = pass.store(Side::Far);
    let scanning = tokio::spawn(async move { store.scan(found).await });
    let mut offer = Offer::default();
    let here = target.store(pass);
    let mut sieve = pass.reconciler(&Wish::default());
    let far = (far, &SharedTags::default());
    let told = tell_both(pass, None, far, scanning, async |chunk| {
        for triple in chunk.drain(..) {
            let left_out = sieve.push(triple.clone(), &mut |_| {}).is_some();
            if !triple.path.is_within(scope) {
                continue;
            }
            if left_out && matches!(target, Target::Place) {
                let file = triple
                    .views
                    .far
                    .entry()
                    .is_some_and(|entry| entry.kind == Kind::File);
                offer.left_out += u64::from(file);
                continue;
            }
            let entry = match &triple.views.far {
                View::Present(entry) if matches!(entry.kind, Kind::File | Kind::Folder) => entry,
                View::Unknown(why) => {
                    offer.unknown.push((triple.path, why.to_string()));
                    continue;
                }
                _ => continue,
            };
            let near = match target {
                Target::Place => triple.views.near.clone(),
                Target::Folder(_) => here
                    .look(&triple.path)
                    .await
                    .map_err(|error| pass.side_failed(Side::Near, &error))?
                    .map_or(View::Absent, View::Present),
            };
            offer.take(&triple.path, entry, &near);
        }
        Ok(())
    })
    .await?;
    for (side, listing) in told.roots {
        if let Listing::Incomplete(why) = listing {
            let why = format!(
                "what lies {}: {why}",
                pass.lane.config.side_names().at(side)
            );
            offer.unknown.push((RelPath::root(), why));
        }
    }
    Ok(offer)
}

impl Offer {
    fn take(&mut self, path: &RelPath, there: &Entry, here: &View) {
        match (here, there.kind) {
            (View::Absent, _) => self.bring.push((path.clone(), there.clone())),
            (View::Present(here), Kind::Folder) if here.kind == Kind::Folder => {}
            (View::Present(here), Kind::File)
                if here.kind == Kind::File && here.size == there.size =>
            {
                self.here += 1;
            }
            (View::Present(_) | View::Unknown(_), _) => self.otherwise.push(path.clone()),
        }
    }
}

/// Brings what was offered; what has come here meanwhile stays as it is.
///
/// # Errors
/// Where a whole side is not there any more, or the ledger cannot be written.
pub async fn bring(pass: &Pass, offer: &Offer, target: &Target) -> Result<Recovered, Error> {
    let pass = &pass.lock()?;
    pass.prepare().await?;
    let run = pass
        .begin_run_of(RunCommand::Recover, pass.clock.now())
        .await?;
    in_run(run, async |run| bring_in(pass, run, offer, target).await).await
}

async fn bring_in(
    pass: &LockedLane,
    run: &OpRun,
    offer: &Offer,
    target: &Target,
) -> Result<Ended<Recovered>, Error> {
    let store = target.store(pass);
    // What an earlier recovery was cut off in; the lock keeps another one of this lane out.
    if let Err(why) = store.clear_staging(&HashSet::new()).await {
        tracing::debug!("the staging was not cleared: {why}");
    }
    let did = Mutex::new(Recovered {
        run: run.number(),
        ..Recovered::default()
    });
    let mut ended = None;
    // Folders first, in tree order, so that what lies in them finds them.
    for (path, _) in offer
        .bring
        .iter()
        .filter(|(_, entry)| entry.kind == Kind::Folder)
    {
        if let Err(why) = make_parents_on(pass, &*store, path, true).await {
            note(&did, path, Err(why.to_string()));
        }
    }
    let files = offer
        .bring
        .iter()
        .filter(|(_, entry)| entry.kind == Kind::File);
    let mut brought = stream::iter(files)
        .map(|(path, entry)| {
            let store = Arc::clone(&store);
            async move { (path, bring_one(pass, &*store, path, entry).await) }
        })
        .buffer_unordered(IN_FLIGHT);
    while let Some((path, outcome)) = brought.next().await {
        let (item, outcome) = match outcome {
            Ok(bytes) => (item(pass, path, bytes, ItemOutcome::DONE), Ok(bytes)),
            Err(error) => {
                let why = error.to_string();
                if error.ends_the_pass() || matches!(error, SideError::Stopped) {
                    ended = Some(pass.side_failed(Side::Far, &error));
                }
                let failed = ItemOutcome::with(ItemEnding::Failed, &*why);
                (item(pass, path, 0, failed), Err(why))
            }
        };
        run.note(item);
        note(&did, path, outcome);
        if ended.is_some() {
            break;
        }
    }
    drop(brought);
    let did = did.into_inner().unwrap_or_else(PoisonError::into_inner);
    let counts = Counts {
        files_down: did.brought.0,
        bytes_down: did.brought.1,
        stuck: did.failed.len() as u64,
        ..Counts::default()
    };
    if let Some(error) = ended {
        return Err(error);
    }
    let outcome = RunOutcome::done_if(did.failed.is_empty());
    Ok(Ended {
        value: did,
        outcome,
        counts,
    })
}

fn item(pass: &Pass, path: &RelPath, bytes: u64, outcome: ItemOutcome) -> RunItem {
    RunItem {
        path: path.to_string(),
        deed: Deed::BringBack,
        reason: String::new(),
        bytes,
        outcome,
        at: Some(pass.clock.now()),
    }
}

fn note(did: &Mutex<Recovered>, path: &RelPath, outcome: Result<u64, String>) {
    let mut did = did.lock().unwrap_or_else(PoisonError::into_inner);
    match outcome {
        Ok(bytes) => {
            did.brought.0 += 1;
            did.brought.1 += bytes;
        }
        Err(why) => did.failed.push((path.clone(), why)),
    }
}

async fn bring_one(
    pass: &Pass,
    store: &dyn SideStore,
    path: &RelPath,
    seen: &Entry,
) -> Result<u64, SideError> {
    let mut attempt = 1;
    let staged = loop {
        let source = pass.store(Side::Far).read(path, seen).await;
        let staged = match source {
            Ok(source) => store.stage(source, path, &Steps::unkept()).await,
            Err(error) => Err(error),
        };
        match staged {
            Ok(staged) => break staged,
            Err(SideError::TryAgain(_)) if attempt < ATTEMPTS => attempt += 1,
            Err(error) => return Err(error),
        }
    };
    make_parents_on(pass, store, path, false)
        .await
        .map_err(|why| SideError::Failed(why.to_string()))?;
    let placed = store.place(&staged.slot, &staged.entry, path).await;
    match placed.map_err(Undone::told)? {
        Put::Done => Ok(seen.size),
        Put::Taken => {
            store.unstage(&staged.slot).await?;
            Err(SideError::Changed(
                "something has come here under its name meanwhile, and stays".into(),
            ))
        }
    }
}
