//! Changing places by hand: folders made, files copied, moved and removed, here and in accounts alike.
//!
//! The same steps as in a pass do it, with the same promise: nothing unseen is overwritten, and whatever is replaced or
//! removed is moved whole into the spares first. What these spares are of has no lane; each remembers its own place.

mod change;
mod copy;
mod work;

use std::path::Path;
use std::sync::Arc;

use futures_util::{StreamExt, stream};
use katabatic_core::{EditTime, Entry, Kind, Listing, RelPath, Removals, Side, SpareCause, Stamp};
use tokio::sync::mpsc;

use crate::config::Config;
use crate::lock::{LaneLock, lock_lane};
use crate::open::{address_of, known_server, limited_client, lock_at, room_of_side};
use crate::pass::Progress;
use crate::pass::primitive::{self, Change, Learned, Trouble};
use crate::pass::put_back::back_to;
use crate::session::{LockedLane, OpRun};
use crate::{Class, Error, Home};
use katabatic_core::place::far_place;
use katabatic_core::place::{Place, absolute};
use katabatic_ledger::intents::Version;
use katabatic_ledger::rows;
use katabatic_ledger::spare_rows::{self, Spare};
use katabatic_ledger::{LaneKey, Ledger};
use katabatic_sides::account::AccountFolder;
use katabatic_sides::clock::{Clock, SystemClock};
use katabatic_sides::effort::IN_FLIGHT;
use katabatic_sides::explain::explain;
use katabatic_sides::local::LocalSide;
use katabatic_sides::net::rate::{Dials, Limits};
use katabatic_sides::stop::Stop;
use katabatic_sides::{Found, OWN_FOLDER, SideError, SideStore};

pub use change::{Removed, make_folder, remove, remove_copied, rename};
pub use copy::{Copied, Count, Wish, copy};

/// What spares and runs are called that belong to no lane; no lane can have this name.
pub const BY_HAND: &str = "(by hand)";

/// What the room of spares made by hand is called, here and there.
const ROOM: &str = "by-hand";

/// What changing places by hand works with.
pub struct Hand<'h> {
    /// The tool's own folders.
    pub home: &'h Home,
    /// The config.
    pub config: &'h Config,
    /// The ledger.
    pub ledger: &'h Ledger,
    /// Whether somebody asked to stop.
    pub stop: &'h Stop,
    /// What is told of every step forward.
    pub progress: Arc<Progress>,
    /// How much may go over the line in a second.
    pub limits: Limits,
}

/// A side, and how the folder it was opened at is written.
pub(crate) type OpenRoom = (Arc<dyn SideStore>, String);

/// What a change at a place means for a lane it lies in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Touched {
    /// The lane's name.
    pub lane: String,
    /// The side the place lies on.
    pub side: Side,
    /// The other side, as people write it.
    pub other: String,
    /// Whether the lane carries from that side at all.
    pub carries: bool,
    /// What it does about removals.
    pub removals: Removals,
}

/// A path on a side that was opened for it.
struct Spot {
    store: Arc<dyn SideStore>,
    side: Side,
    path: RelPath,
    /// The folder the side was opened at, as people write it.
    root: String,
    shown: String,
}

/// A place as people write it.
#[must_use]
pub fn written(place: &Place) -> String {
    match place {
        Place::Local(path) => path.display().to_string(),
        Place::Far { account, path } => far_place(account, path),
    }
}

impl Hand<'_> {
    /// The lanes a place lies in.
    #[must_use]
    pub fn touched(&self, place: &Place) -> Vec<Touched> {
        let lane_side = |lane: &crate::config::LaneConfig| {
            let side = [Side::Near, Side::Far]
                .into_iter()
                .find(|side| place.is_within(lane.place(*side)))?;
            Some((side, lane.place(side.other()).to_string()))
        };
        self.config
            .lanes
            .iter()
            .filter_map(|lane| {
                let (side, other) = lane_side(lane)?;
                Some(Touched {
                    lane: lane.name.clone(),
                    side,
                    other,
                    carries: lane.terms.direction.source() != Some(side.other()),
                    removals: lane.terms.removals,
                })
            })
            .collect()
    }

    /// The tool's own folders are nobody's to change by hand: what the spares hold would be lost sight of.
    fn check_not_own(&self, what: &str, place: &Place) -> Result<(), Error> {
        let own = match place {
            Place::Local(path) => {
                path.starts_with(absolute(self.home.state()))
                    || path
                        .iter()
                        .any(|part| part.to_str().is_some_and(katabatic_sides::is_own))
            }
            Place::Far { path, .. } => path.parts().any(katabatic_sides::is_own),
        };
        if own {
            return Err(Error::usage(
                what,
                "the tool's own folder is there, with the spares or the ledger in it",
                "Look after spares with katabatic spares; name another place.",
            ));
        }
        Ok(())
    }

    /// A folder that a lane of another computer is tied to holds that one's spares.
    async fn check_no_spares_in(
        &self,
        what: &str,
        place: &Place,
        seen: &Entry,
    ) -> Result<(), Error> {
        match seen.kind {
            Kind::Folder => self.whole(what, place).await.map(drop),
            Kind::File | Kind::Odd(_) => Ok(()),
        }
    }

    /// All that is in a folder, at any depth, where none of it is the spares of a lane: of this computer or another.
    async fn whole(&self, what: &str, place: &Place) -> Result<Whole, Error> {
        let failed = |error: SideError| self.failed(what, place, &error);
        let store = self.reader(place)?;
        let mut whole = self.count(&store).await.map_err(failed)?;
        let own =
            RelPath::parse(OWN_FOLDER).map_err(|why| Error::failed(what, why, "Report this."))?;
        if store.may_hide(&own) {
            let hidden = hidden_own(&*store, &whole).await;
            whole.own.extend(hidden.map_err(failed)?);
        }
        let Some(folder) = whole.own.first() else {
            return Ok(whole);
        };
        let holds = match folder.is_root() {
            true => "it holds spares".to_owned(),
            false => format!("the folder {folder} in it holds spares"),
        };
        Err(Error::usage(
            what,
            format!(
                "{holds}, in {OWN_FOLDER}: a lane is or was tied to it, maybe on another computer"
            ),
            "Take that lane away there, and move or remove what is in the folder instead.",
        ))
    }

    /// Where a whole root of a lane, or of an account, would go with it, nothing is done.
    fn check_no_root(&self, what: &str, place: &Place) -> Result<(), Error> {
        self.check_not_own(what, place)?;
        let holds = |lane: &crate::config::LaneConfig| {
            lane.near.is_within(place) || lane.far.is_within(place)
        };
        if let Some(lane) = self.config.lanes.iter().find(|lane| holds(lane)) {
            return Err(Error::usage(
                what,
                format!("a whole side of the lane {} lies in it", lane.name),
                format!(
                    "If that is wanted, take the lane away first, which removes no file: katabatic lane remove {}",
                    lane.name
                ),
            ));
        }
        let home = [
            absolute(self.home.state()),
            absolute(&self.home.config_file()),
        ];
        if matches!(place, Place::Local(path) if home.iter().any(|own| own.starts_with(path))) {
            return Err(Error::usage(
                what,
                "the tool keeps its own things in it: config, ledger, spares",
                "Name what is to go, folder by folder.",
            ));
        }
        let whole = match place {
            Place::Local(path) => path.parent().is_none(),
            Place::Far { path, .. } => path.is_root(),
        };
        if whole {
            return Err(Error::usage(
                what,
                "that is the root of everything there",
                "Name a file or a folder in it.",
            ));
        }
        Ok(())
    }

    /// Locks the lanes whose near side a place lies in, so that no pass runs meanwhile.
    fn lock(&self, places: &[&Place]) -> Result<Vec<LaneLock>, Error> {
        let touched = |lane: &&crate::config::LaneConfig| {
            places.iter().any(|place| place.is_within(&lane.near))
        };
        self.config
            .lanes
            .iter()
            .filter(touched)
            .map(|lane| lock_lane(&lock_at(self.home, lane)?))
            .collect()
    }

    fn far(&self, account: &str, root: RelPath) -> Result<Arc<dyn AccountFolder>, Error> {
        self.far_room(account, root, ROOM)
    }

    fn far_room(
        &self,
        account: &str,
        root: RelPath,
        room: &str,
    ) -> Result<Arc<dyn AccountFolder>, Error> {
        let account = self.config.account(account)?;
        let client = limited_client(self.home, account, self.stop, &Dials::at(&self.limits))?;
        let known = known_server(self.ledger, account)?;
        Ok(client.folder(root, (&self.home.computer()?, room), &known))
    }

    /// Opens the folder that a place lies in, to change something there.
    fn spot(&self, place: &Place) -> Result<Spot, Error> {
        match place {
            Place::Local(path) => {
                let (Some(above), Some(name)) = (path.parent(), path.file_name()) else {
                    return Err(no_name(&written(place)));
                };
                self.local_spot(above, Path::new(name))
            }
            Place::Far { account, path } => Ok(Spot {
                store: self.far(account, RelPath::root())?,
                side: Side::Far,
                path: path.clone(),
                root: far_place(account, &RelPath::root()),
                shown: written(place),
            }),
        }
    }

    fn local_spot(&self, root: &Path, below: &Path) -> Result<Spot, Error> {
        let shown = root.join(below).display().to_string();
        // A spare that could not say where it was could not go back.
        if root.to_str().is_none() {
            return Err(no_name(&shown));
        }
        let path = below.to_str().and_then(|below| RelPath::parse(below).ok());
        let path = path.ok_or_else(|| no_name(&shown))?;
        let room = self.home.lane_room(ROOM);
        let side = LocalSide::open(root, &room, ROOM, self.stop.clone())
            .map_err(|why| at_failed(&shown, &why))?;
        Ok(Spot {
            store: Arc::new(side),
            side: Side::Near,
            path,
            root: root.display().to_string(),
            shown,
        })
    }

    /// The side in whose room something lies that was done by hand in this folder; none where that is not here.
    fn opened(&self, root: Option<&str>) -> Result<Option<OpenRoom>, Error> {
        let Some(root) = root.map(str::to_owned) else {
            return Ok(None);
        };
        Ok(match Place::parse(&root, &self.config.account_names()) {
            Ok(Place::Far { account, path }) => {
                Some((self.far(&account, path)? as Arc<dyn SideStore>, root))
            }
            Ok(Place::Local(path)) => {
                let room = self.home.lane_room(ROOM);
                LocalSide::open(&path, &room, ROOM, self.stop.clone())
                    .ok()
                    .map(|side| (Arc::new(side) as Arc<dyn SideStore>, root))
            }
            Err(_) => None,
        })
    }

    /// Opens a folder to read all that is in it; nothing is made there.
    fn reader(&self, place: &Place) -> Result<Arc<dyn SideStore>, Error> {
        Ok(match place {
            Place::Local(path) => Arc::new(
                LocalSide::reading(path, &self.home.lane_room(ROOM), self.stop.clone())
                    .map_err(|why| at_failed(&written(place), &why))?,
            ),
            Place::Far { account, path } => self.far(account, path.clone())?,
        })
    }

    /// The side on which the room of a lane lies that is not here any more; none where that place is not here.
    fn opened_of_lane(&self, spare: &Spare, lane_id: &str) -> Result<Option<OpenRoom>, Error> {
        let Some(root) = spare.place.clone() else {
            return Ok(None);
        };
        Ok(match Place::parse(&root, &self.config.account_names()) {
            Ok(Place::Far { account, path }) => Some((
                self.far_room(&account, path, lane_id)? as Arc<dyn SideStore>,
                root,
            )),
            Ok(Place::Local(path)) => {
                let room = room_of_side(self.home, lane_id, spare.side);
                LocalSide::open(&path, &room, lane_id, self.stop.clone())
                    .ok()
                    .map(|side| (Arc::new(side) as Arc<dyn SideStore>, root))
            }
            Err(_) => None,
        })
    }

    /// The folder that a spare of no lane was taken from, as a lane of its own, and how that is written.
    ///
    /// # Errors
    /// Where the account cannot be signed in to, or another program works on a lane there.
    pub(crate) async fn room_of(
        &self,
        spare: &Spare,
        what: &str,
    ) -> Result<Option<(LockedLane, String)>, Error> {
        let opened = match &spare.lane_id {
            Some(lane_id) => self.opened_of_lane(spare, lane_id)?,
            None => self.opened(spare.place.as_deref())?,
        };
        let Some((store, root)) = opened else {
            return Ok(None);
        };
        let place = Place::parse(&root, &self.config.account_names())
            .map_err(|error| Error::failed(what, error.why, error.next))?;
        let work = self.begin(what, &[&place.join(&spare.path)]).await?;
        let lane = match &spare.lane_id {
            // What lies on the shelf of that lane is listed under its own number.
            Some(_) => self.outside(&work, store, &root).await?,
            None => self.within(&work, store, &root).await?,
        };
        Ok(Some((lane, root)))
    }

    /// The words for what went wrong at a place.
    fn failed(&self, what: &str, place: &Place, error: &SideError) -> Error {
        match (place, error) {
            (_, SideError::Missing) => nothing_there(what, &written(place)),
            (Place::Far { account, .. }, error) if error.ends_the_pass() => {
                let known = self.config.account(account);
                match known.and_then(address_of) {
                    Ok(address) => explain(account, &address, error),
                    Err(error) => error,
                }
            }
            (_, SideError::Stopped) => Error::new(
                Class::Stopped,
                what,
                "stopped by Ctrl-C",
                "Do it again to go on.",
            ),
            (_, error) => Error::failed(
                what,
                error,
                "What is not done yet is as it was; try again once the reason is gone.",
            ),
        }
    }

    async fn key(&self) -> Result<LaneKey, Error> {
        self.ledger
            .write(|connection| {
                rows::ensure_lane(connection, ROOM)?;
                Ok(rows::lane_of(connection, ROOM)?
                    .ok_or(rusqlite::Error::QueryReturnedNoRows)?
                    .key)
            })
            .await
    }

    fn now(&self) -> EditTime {
        SystemClock.now()
    }

    /// Moves what stands at a spot into the spares, where it is what was seen there; the spare it is now.
    async fn capture(
        &self,
        (lane, spot): (&LockedLane, &Spot),
        seen: &Entry,
        run: &OpRun,
        cause: SpareCause,
    ) -> Result<Spare, SideError> {
        let change = Change {
            side: spot.side,
            path: &spot.path,
            old: Some(Version::of(seen, None)),
            source: None,
            run: Some(run.number()),
            cause,
            learned: Learned::default(),
        };
        primitive::remove(lane, change).await.map_err(told)?;
        let failed = |error: Error| SideError::Failed(error.to_string());
        self.ledger.flush().await.map_err(failed)?;
        let (key, path) = (lane.lane.row.key, &spot.path);
        let kept = self
            .ledger
            .read(|connection| spare_rows::of_path(connection, key, path))
            .map_err(failed)?;
        let mut kept = kept.into_iter();
        let ours = kept.find(|spare| spare.place.as_deref() == Some(spot.root.as_str()));
        ours.ok_or_else(|| SideError::Changed("it was removed meanwhile".into()))
    }

    /// Puts back what was captured. Where its name was taken meanwhile, it stays in the spares.
    async fn give_back(
        &self,
        (lane, spot): (&LockedLane, &Spot),
        spare: &Spare,
    ) -> Result<(), SideError> {
        back_to(lane, spare, &spot.path).await.map(drop)
    }

    /// Counts what lies below a folder.
    async fn count(&self, store: &Arc<dyn SideStore>) -> Result<Whole, SideError> {
        let (found, mut inbox) = mpsc::channel(1024);
        let scanning = Arc::clone(store);
        let scan = tokio::spawn(async move { scanning.scan(found).await });
        let mut whole = Whole::default();
        while let Some(found) = inbox.recv().await {
            match found {
                Found::Entry(path, entry) => {
                    self.progress.saw(1);
                    if let Listing::Incomplete(why) = &entry.listing {
                        whole.unknown.push(format!("{path}: {why}"));
                    }
                    whole.entries.push((path, entry));
                }
                Found::Root(Listing::Incomplete(why)) => whole.unknown.push(why.to_string()),
                Found::Root(_) => {}
                Found::Unusable(unusable) => whole.unusable.push(unusable.shown),
                Found::Own(folder) => whole.own.push(folder),
            }
        }
        scan.await
            .unwrap_or_else(|error| Err(SideError::Failed(error.to_string())))?;
        Ok(whole)
    }
}

/// The folders that hold one of the tool's own, on a side that does not list it: each is asked for it by name.
async fn hidden_own(store: &dyn SideStore, whole: &Whole) -> Result<Vec<RelPath>, SideError> {
    let folders = whole
        .entries
        .iter()
        .filter(|(_, entry)| entry.kind == Kind::Folder)
        .map(|(path, _)| path.clone())
        .chain([RelPath::root()]);
    let looked: Vec<Result<Option<RelPath>, SideError>> = stream::iter(folders)
        .map(async |folder: RelPath| {
            let own = folder
                .join(OWN_FOLDER)
                .map_err(|why| SideError::Failed(why.to_string()))?;
            Ok(store.look(&own).await?.map(|_| folder))
        })
        .buffer_unordered(IN_FLIGHT)
        .collect()
        .await;
    let found: Result<Vec<Option<RelPath>>, SideError> = looked.into_iter().collect();
    Ok(found?.into_iter().flatten().collect())
}

/// All that lies below a folder.
#[derive(Default)]
struct Whole {
    entries: Vec<(RelPath, Entry)>,
    unknown: Vec<String>,
    unusable: Vec<String>,
    /// Folders that hold one of the tool's own.
    own: Vec<RelPath>,
}

impl Whole {
    /// The files, and which version each is.
    fn versions(&self) -> Vec<(RelPath, Stamp)> {
        self.entries
            .iter()
            .filter(|(_, entry)| entry.kind == Kind::File)
            .map(|(path, entry)| (path.clone(), entry.stamp.clone()))
            .collect()
    }

    fn count(&self) -> Count {
        let files = || {
            self.entries
                .iter()
                .filter(|(_, entry)| entry.kind == Kind::File)
        };
        Count {
            files: files().count() as u64,
            folders: self
                .entries
                .iter()
                .filter(|(_, entry)| entry.kind == Kind::Folder)
                .count() as u64,
            others: self
                .entries
                .iter()
                .filter(|(_, entry)| matches!(entry.kind, Kind::Odd(_)))
                .count() as u64
                + self.unusable.len() as u64,
            bytes: files()
                .map(|(_, entry)| entry.size)
                .fold(0, u64::saturating_add),
        }
    }
}

/// What went wrong with the primitive, as what a place said.
fn told(trouble: Trouble) -> SideError {
    match trouble {
        Trouble::Met(why) => SideError::Changed(why),
        Trouble::Side(_, error) => error,
        Trouble::Unsure(..) => SideError::try_again(trouble.to_string()),
        Trouble::Ledger(error) => SideError::Failed(error.to_string()),
    }
}

fn no_name(shown: &str) -> Error {
    Error::usage(
        shown,
        "that is no name of a file or folder",
        "Name a file or a folder in it.",
    )
}

fn nothing_there(what: &str, shown: &str) -> Error {
    Error::new(
        Class::NotThere,
        what,
        format!("nothing is at {shown}"),
        "See what there is above it: katabatic list PLACE",
    )
}

fn at_failed(shown: &str, error: &SideError) -> Error {
    let class = match error {
        SideError::NotThere(_) | SideError::Missing => Class::NotThere,
        _ => Class::Failed,
    };
    Error::new(
        class,
        format!("opening {shown}"),
        error.to_string(),
        "Name a folder that is there. Is the drive plugged in and mounted?",
    )
}
