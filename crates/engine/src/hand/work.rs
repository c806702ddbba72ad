//! What a change by hand works with: the same primitive, the same intents, as if the folder it is made in were a lane of
//! its own, of which nothing is ever agreed on.
//!
//! Each intent and each spare names the folder it is of, since they all stand under one lane of the ledger. A command
//! that was killed is cleared up by the next one that changes anything by hand, while no other one is at it.

use std::fs::File;
use std::sync::Arc;

use katabatic_core::{RelPath, RunCommand, Side};
use rustix::fs::{FlockOperation, flock};

use super::{BY_HAND, Hand, ROOM, Spot, written};
use crate::config::LaneConfig;
use crate::lock::LaneLock;
use crate::open::OpenLane;
use crate::pass::{Pass, ReadFiles, recover, shelves};
use crate::seam::NoHook;
use crate::session::{LockedLane, OpRun};
use crate::{Class, Error};
use katabatic_core::place::Place;
use katabatic_ledger::intents::{self, Intent};
use katabatic_ledger::{LaneKey, rows};
use katabatic_sides::clock::SystemClock;
use katabatic_sides::private_files::private_folder;
use katabatic_sides::{SideError, SideStore};

/// For as long as something is changed by hand.
pub(super) struct Work {
    locks: Arc<Vec<LaneLock>>,
}

/// What an earlier command was cut off in, and why it cannot be cleared up now.
type Held = (RelPath, Intent, String);

impl Hand<'_> {
    /// Begins to change something at these places: no pass does meanwhile, and what an earlier command was cut off in is
    /// cleared up.
    ///
    /// # Errors
    /// Where another program works on a lane there, or one of the places waits for what cannot be cleared up now.
    pub(super) async fn begin(&self, what: &str, places: &[&Place]) -> Result<Work, Error> {
        let mut locks = self.lock(places)?;
        let turn = self.turn()?;
        let failed = |why| Error::failed(what, std::io::Error::from(why), "Try again.");
        let alone = flock(&turn, FlockOperation::NonBlockingLockExclusive).is_ok();
        let held = match alone {
            true => self.clear_up().await?,
            false => Vec::new(),
        };
        flock(&turn, FlockOperation::LockShared).map_err(failed)?;
        let (key, open) = (self.key().await?, "another command works there just now");
        let unfinished = match alone {
            true => held,
            false => self
                .ledger
                .read(|connection| intents::unfinished(connection, key))?
                .into_iter()
                .map(|(_, path, intent)| (path, intent, open.to_owned()))
                .collect(),
        };
        for (path, intent, why) in unfinished {
            if let Some(place) = places
                .iter()
                .find(|place| self.is_at(&path, &intent, place))
            {
                return Err(Error::new(
                    Class::NeedsPerson,
                    what,
                    format!(
                        "an earlier change at {} is not cleared up: {why}",
                        written(place)
                    ),
                    "Nothing was done. Try again in a while; a request that got no answer may be carried out yet.",
                ));
            }
        }
        // Held by all who change something, so that nobody clears up what one of them is in the middle of.
        locks.push(LaneLock::of(turn));
        Ok(Work {
            locks: Arc::new(locks),
        })
    }

    fn turn(&self) -> Result<File, Error> {
        let room = self.home.lane_room(ROOM);
        private_folder(&room)?;
        let file = room.join("at work");
        File::options()
            .create(true)
            .truncate(false)
            .write(true)
            .open(&file)
            .map_err(|why| {
                Error::failed(
                    format!("opening {}", file.display()),
                    why,
                    "Look at the folder's rights.",
                )
            })
    }

    /// Finishes or undoes what earlier commands were cut off in; what cannot be, and why.
    async fn clear_up(&self) -> Result<Vec<Held>, Error> {
        let key = self.key().await?;
        let open = self
            .ledger
            .read(|connection| intents::unfinished(connection, key))?;
        let mut held = Vec::new();
        for (number, path, intent) in open {
            let cleared = match self.opened(intent.place.as_deref())? {
                Some((store, root)) => {
                    let locks = Arc::new(self.lock(&[&self.place_of(&path, &root)?])?);
                    let lane = self.under(&locks, store, &root).await?;
                    recover::clear_up(&lane, &path, (number, &intent))
                        .await
                        .map(drop)
                }
                None => Err(SideError::not_there("the place is not here")),
            };
            if let Err(why) = cleared {
                held.push((path, intent, why.to_string()));
            }
        }
        self.ledger.flush().await?;
        Ok(held)
    }

    /// Where a path in a folder is.
    fn place_of(&self, path: &RelPath, root: &str) -> Result<Place, Error> {
        let root = Place::parse(root, &self.config.account_names())
            .map_err(|error| Error::failed(format!("opening {root}"), error.why, error.next))?;
        Ok(root.join(path))
    }

    /// Whether an intent is about something in a place, or around it.
    fn is_at(&self, path: &RelPath, intent: &Intent, place: &Place) -> bool {
        let Some(root) = intent.place.as_deref() else {
            return false;
        };
        let Ok(root) = Place::parse(root, &self.config.account_names()) else {
            return false;
        };
        let about = root.join(path);
        about.is_within(place) || place.is_within(&about)
    }

    /// The folder of a spot as a lane of its own.
    pub(super) async fn at(&self, work: &Work, spot: &Spot) -> Result<LockedLane, Error> {
        let store = Arc::clone(&spot.store);
        self.within(work, store, &spot.root).await
    }

    /// The same for a folder that something is brought back to.
    pub(super) async fn within(
        &self,
        work: &Work,
        store: Arc<dyn SideStore>,
        root: &str,
    ) -> Result<LockedLane, Error> {
        let lane = self.outside(work, store, root).await?;
        let side = match lane.lane.config.account(Side::Far) {
            Some(_) => Side::Far,
            None => Side::Near,
        };
        shelves::compare_one(&lane, side).await?;
        Ok(lane)
    }

    /// The same where nothing is compared.
    pub(super) async fn outside(
        &self,
        work: &Work,
        store: Arc<dyn SideStore>,
        root: &str,
    ) -> Result<LockedLane, Error> {
        self.under(&work.locks, store, root).await
    }

    async fn under(
        &self,
        locks: &Arc<Vec<LaneLock>>,
        store: Arc<dyn SideStore>,
        root: &str,
    ) -> Result<LockedLane, Error> {
        let key = self.key().await?;
        let row = self
            .ledger
            .read(|connection| rows::lane_of(connection, ROOM))?;
        let row = row.ok_or_else(|| self.ledger.failed("what is done by hand has no row"))?;
        let place = Place::parse(root, &self.config.account_names())
            .map_err(|error| Error::failed(format!("opening {root}"), error.why, error.next))?;
        debug_assert_eq!(row.key, key);
        let config = LaneConfig::new(BY_HAND, ROOM, place.clone(), place);
        let pass = Pass {
            lane: OpenLane {
                place: Some(root.to_owned()),
                ..OpenLane::of(config, row, Arc::clone(&store), store)
            },
            ledger: self.ledger.clone(),
            clock: Arc::new(SystemClock),
            hook: Arc::new(NoHook),
            stop: self.stop.clone(),
            progress: Arc::clone(&self.progress),
            read: ReadFiles::default(),
        };
        let locked = LockedLane::outside(pass, Arc::clone(locks));
        let open = self
            .ledger
            .read(|connection| intents::unfinished(connection, key))?;
        for (_, path, intent) in open {
            if intent.place.as_deref() == Some(root) {
                locked.hold(&path, &intent);
            }
        }
        Ok(locked)
    }

    /// Begins a run of a command.
    pub(super) async fn begin_run(&self, command: RunCommand) -> Result<OpRun, Error> {
        let clock = Arc::new(SystemClock) as Arc<dyn katabatic_sides::clock::Clock>;
        let lane: (LaneKey, &str) = (self.key().await?, BY_HAND);
        OpRun::begin(self.ledger, &clock, lane, command, self.now()).await
    }
}
