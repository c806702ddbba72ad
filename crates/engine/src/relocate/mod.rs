//! Moving house: a lane's side gets another place, and nothing is carried over the network because of it.
//!
//! The near folder is copied under a name that nobody takes for the real one, read again in full on both disks, and
//! only then given its name; then the lane is switched; and only then does the old copy go, file by file, as far as
//! nobody touched it meanwhile. Killed at any moment, either the lane is where it was and the copy goes on where it
//! stopped, or the lane is at its new place and the old copy is still there.

mod stubs;
mod tree;

use katabatic_sides::{Lists as _, Marks as _};
use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use katabatic_core::{Base, Digest, Entry, Kind, RelPath, Side, words};
pub(crate) use stubs::Stubs;
use tokio::sync::mpsc;
use tree::{Compared, Skip};

use crate::config::{Config, LaneConfig};
use crate::drives::OnDrive;
use crate::lock::lock_folder;
use crate::open::{open_lane, side_failed};
use crate::overlap::{check_overlaps, check_own_home};
use crate::pass::Pass;
use crate::session::LockedLane;
use crate::{Class, Error, Home};
use katabatic_core::known_root::Recognised;
use katabatic_core::place::Place;
use katabatic_ledger::rows::Moving;
use katabatic_ledger::{LaneKey, Ledger, rows};
use katabatic_sides::local::own_folder;
use katabatic_sides::local::{
    LocalSide, SPARES_FOLDER, handle_of, is_one_disk, is_stub, room_place,
};
use katabatic_sides::stop::Stop;
use katabatic_sides::{Found, MOVING_FOLDER, OWN_FOLDER, SideError, SideStore};

/// How a near folder gets to its new place.
#[derive(Debug, PartialEq, Eq)]
pub enum Way {
    /// It is renamed, on one disk, in one step.
    Rename,
    /// It is copied to another disk.
    Copy {
        /// Files, and their bytes.
        size: (u64, u64),
        /// Stubs, which are made anew there.
        stubs: u64,
        /// What cannot be copied: sockets, pipes, devices.
        odd: Vec<PathBuf>,
    },
    /// It was copied whole and got its name, and then it was killed: it is compared once more, and switched.
    Finish {
        /// Files, and their bytes.
        size: (u64, u64),
    },
    /// A person has moved it there already: see [`adopt`].
    Adopt,
}

/// How a folder that is at the new place already stands to what the lane knows.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Adoption {
    /// Files that are as agreed.
    pub same: u64,
    /// Files with another content.
    pub other: u64,
    /// Files of the lane that are not there; they come back from the other side.
    pub missing: u64,
    /// Files the lane does not know yet.
    pub new: u64,
}

/// What was done.
#[derive(Debug, Default)]
pub struct Relocated {
    /// Files copied, and their bytes.
    pub copied: (u64, u64),
    /// What stays at the old place.
    pub stays: Vec<Stays>,
}

/// Something that stays at the old place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stays {
    /// Where it lies there.
    pub path: PathBuf,
    /// Why.
    pub why: WhyStays,
}

/// Why something stays at the old place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum WhyStays {
    /// It, or its copy, was changed since the two were compared.
    Changed,
    /// A program has it open, or mapped.
    Open,
    /// This file system does not tell whether a program has it open; what it answered.
    CannotTell(String),
    /// The system refused.
    Failed(String),
}

fn failed(what: &str) -> impl Fn(std::io::Error) -> Error + use<> {
    let what = what.to_owned();
    move |why| {
        Error::failed(
            &what,
            why,
            "Nothing was removed. Try again: it goes on where it stopped.",
        )
    }
}

/// Where the copy grows until it is whole.
fn growing(new: &Path, lane: &LaneConfig) -> Result<PathBuf, Error> {
    match (new.parent(), new.file_name()) {
        (Some(parent), Some(_)) => Ok(parent.join(format!("{MOVING_FOLDER}{}", lane.id))),
        _ => Err(Error::usage(
            format!("moving the lane {} to {}", lane.name, new.display()),
            "that is the root of a disk",
            "Name a folder in it.",
        )),
    }
}

/// In which way the near folder would get to `new`; nothing is changed.
///
/// # Errors
/// A place that cannot be used, or that has no room.
pub fn way(home: &Home, config: &Config, pass: &Pass, new: &Path) -> Result<Way, Error> {
    let lane = &pass.lane.config;
    let near = lane.near_folder()?;
    let what = format!("moving the lane {} to {}", lane.name, new.display());
    let others = config.lanes.iter().filter(|other| other.name != lane.name);
    for other in others {
        if other.near.is_within(&lane.near) || other.far.is_within(&lane.near) {
            return Err(Error::usage(
                what,
                format!(
                    "a folder of the lane {} is it, or lies in it, and would move along",
                    other.name
                ),
                format!(
                    "Take that lane away first, which removes no file: katabatic lane remove {}",
                    other.name
                ),
            ));
        }
    }
    check_new_place(home, config, lane, new)?;
    if new.starts_with(near) || near.starts_with(new) {
        return Err(Error::usage(
            what,
            format!("one of {} and it lies in the other", lane.near),
            "Name a folder beside it.",
        ));
    }
    let failed = failed(&what);
    let old_empty = tree::is_empty(near).map_err(&failed)?;
    let new_empty = tree::is_empty(new).map_err(&failed)?;
    match (old_empty, new_empty) {
        (false, false) if is_our_copy(near, new) => {
            let weight = tree::weigh(near, &Skip::new()).map_err(&failed)?;
            Ok(Way::Finish {
                size: (weight.files, weight.bytes),
            })
        }
        (false, false) => Err(Error::usage(
            what,
            "there are files in both places, so it is not clear which of them counts",
            "If you moved the folder by hand, take the old one away first. If not, name a place that is empty.",
        )),
        (true, false) => Ok(Way::Adopt),
        (_, true) if new.join(OWN_FOLDER).is_dir() => Err(Error::new(
            Class::NeedsPerson,
            what,
            format!(
                "nothing is there but a folder of the tool's own, {OWN_FOLDER}, of a lane that had its place there; what it kept may be in it"
            ),
            format!(
                "Look into {}, and remove it if nothing in it is wanted; or name another place.",
                new.join(OWN_FOLDER).display()
            ),
        )),
        (_, true) => {
            let parent = new
                .ancestors()
                .find(|path| path.is_dir())
                .ok_or_else(|| failed(std::io::ErrorKind::NotFound.into()))?;
            let stubs = Stubs::of(known(&pass.ledger, lane)?);
            let weight = tree::weigh(near, &stubs.paths()).map_err(&failed)?;
            if let Some(mount) = weight.mounts.first() {
                return Err(Error::usage(
                    what,
                    format!(
                        "another file system is mounted on {} in it",
                        mount.display()
                    ),
                    "Unmount it first, or tie that one with a lane of its own.",
                ));
            }
            if is_one_disk(near, parent).map_err(&failed)? && !new.exists() {
                return Ok(Way::Rename);
            }
            let stat = rustix::fs::statvfs(parent).map_err(|error| failed(error.into()))?;
            let free = stat.f_bavail.saturating_mul(stat.f_frsize);
            if weight.bytes > free {
                return Err(Error::new(
                    Class::Failed,
                    what,
                    format!(
                        "it holds {}, and that disk has {} free",
                        words::bytes(weight.bytes),
                        words::bytes(free)
                    ),
                    "Nothing was changed. Make room there, or name another disk.",
                ));
            }
            Ok(Way::Copy {
                size: (weight.files, weight.bytes),
                stubs: stubs.len(),
                odd: weight.odd,
            })
        }
    }
}

/// The new place is as free of other lanes, and of the tool's own folders, as that of a new lane must be.
fn check_new_place(
    home: &Home,
    config: &Config,
    lane: &LaneConfig,
    new: &Path,
) -> Result<(), Error> {
    let moved = LaneConfig {
        near: Place::Local(new.to_owned()),
        ..lane.clone()
    };
    check_own_home(home, new)?;
    check_overlaps(config, &moved)
}

/// Whether a folder is a copy that this very lane made: the mark of its root came along.
fn is_our_copy(old: &Path, new: &Path) -> bool {
    let mark = |root: &Path| {
        let known = LocalSide::recognise(root).ok()?;
        known.mark().map(str::to_owned)
    };
    mark(old).is_some() && mark(old) == mark(new)
}

/// Moves the near folder. Under the lane's lock, so that no pass runs meanwhile.
///
/// # Errors
/// Where it cannot be copied, compared or switched; nothing is removed then.
pub async fn near(
    home: &Home,
    config: &mut Config,
    pass: &Pass,
    new: &Path,
    way: Way,
    keep_old: bool,
) -> Result<Relocated, Error> {
    let pass = &pass.lock()?;
    let lane = pass.lane.config.clone();
    let old = lane.near_folder()?;
    let unfinished = pass.prepare().await?;
    if let Some((path, (_, why))) = unfinished.iter().next() {
        return Err(Error::new(
            Class::NeedsPerson,
            format!("moving the lane {}", lane.name),
            format!("a pass was cut off at {path}, and that is not cleared up yet: {why}"),
            format!("Sync first: katabatic sync {}", lane.name),
        ));
    }
    let what = format!("moving the lane {} to {}", lane.name, new.display());
    let failed = failed(&what);
    let mut relocated = Relocated::default();
    let before = entries(&*pass.store(Side::Near)).await;
    let before = before.map_err(|error| pass.side_failed(Side::Near, &error))?;
    let stubs = Stubs::of(known(&pass.ledger, &lane)?);
    let renames = way == Way::Rename && !keep_old;
    if !renames {
        stubs.check(&lane, &before)?;
    }
    let (mut seen, mut spares) = (Compared::default(), Vec::new());
    match &way {
        Way::Adopt => {
            return Err(Error::usage(what, "it is there already", "Adopt it."));
        }
        Way::Rename if !keep_old => {
            if let Some(parent) = new.parent() {
                fs::create_dir_all(parent).map_err(&failed)?;
            }
        }
        Way::Finish { .. } if !stubs.is_empty() => {
            return Err(Error::new(
                Class::NeedsPerson,
                what,
                format!(
                    "it was copied there before, up to the very last step, and the copy holds {} that the lane does not know",
                    words::count(stubs.len(), "stub", "stubs")
                ),
                format!(
                    "Look whether somebody worked in {}. If not, remove it, which is a copy, and move the lane again.",
                    new.display()
                ),
            ));
        }
        Way::Finish { .. } => {
            // Nothing is copied over what is there: people may have worked in it since.
            seen = compared(pass, &lane, new).await?;
            spares = bring_spares(home, &lane, old, new).map_err(&failed)?;
        }
        Way::Rename | Way::Copy { .. } => {
            let growing = growing(new, &lane)?;
            if !stubs.is_empty() {
                stubs.check_disk(home, &lane, &growing, &pass.stop).await?;
            }
            seen = copied(pass, &lane, &growing, &stubs, &mut relocated).await?;
            if !stubs.is_empty() {
                stubs
                    .make(home, &lane, &growing, &before, &pass.stop)
                    .await?;
                stubs.check_still(&lane, &*pass.store(Side::Near)).await?;
            }
            spares = bring_spares(home, &lane, old, &growing).map_err(&failed)?;
            match fs::remove_dir(new) {
                Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                    return Err(failed(error));
                }
                _ => fs::rename(&growing, new).map_err(&failed)?,
            }
            // Durably there before anything goes from the old place.
            if let Some(parent) = new.parent() {
                fs::File::open(parent)
                    .and_then(|folder| folder.sync_all())
                    .map_err(&failed)?;
            }
        }
    }
    let mut after = lane.clone();
    after.near = Place::Local(new.to_owned());
    if renames {
        fs::rename(old, new).map_err(&failed)?;
    }
    after.near_drive = OnDrive::of(new);
    match renames {
        false => note_moving(home, pass, &after, new).await?,
        // It is the same folder there. What an earlier move that was cut off noted of that place is of a copy.
        true => forget_moving(&pass.ledger, pass.lane.row.key).await?,
    }
    config.change_lane(after.clone())?;
    settle_in(home, &pass.ledger, &after, Some(&before), &pass.stop).await?;
    if !renames && !keep_old {
        let (_held, own) = own_folder::hold(old, &lane.id).map_err(&failed)?;
        let aside = own.join("leaving");
        let removed = tree::remove_old((old, new), &aside, seen, &stubs.paths());
        relocated.stays = removed.map_err(&failed)?;
        stubs.forget(&*pass.store(Side::Near)).await;
        for spares in spares {
            let kept = spares.leave(home, &lane, new, &aside).map_err(&failed)?;
            relocated.stays.extend(kept);
        }
        if relocated.stays.is_empty() {
            leave_room(&lane, old, &aside);
        }
    }
    Ok(relocated)
}

/// Makes sure that everything at the old place is the same at the new one, where it was copied before.
async fn compared(pass: &Pass, lane: &LaneConfig, new: &Path) -> Result<Compared, Error> {
    let what = format!("comparing {} with {}", lane.near, new.display());
    let old = lane.near_folder()?.to_owned();
    let (to, stop) = (new.to_owned(), pass.stop.clone());
    let work = tokio::task::spawn_blocking(move || tree::compare(&old, &to, &Skip::new(), &stop));
    let done = work
        .await
        .map_err(|why| failed(&what)(io::Error::other(why)))?;
    let compared = done.map_err(failed(&what))?;
    if compared.differ.is_empty() {
        return Ok(compared);
    }
    Err(Error::new(
        Class::NeedsPerson,
        what,
        format!(
            "there are files in both places, and they differ: {}",
            named(&compared.differ)
        ),
        "Nothing was changed. Look which of the two people work in, and take the other one away.",
    ))
}

fn named(paths: &[PathBuf]) -> String {
    const NAMED: usize = 5;
    let named: Vec<String> = paths
        .iter()
        .take(NAMED)
        .map(|path| path.display().to_string())
        .collect();
    named.join(", ")
}

async fn copied(
    pass: &Pass,
    lane: &LaneConfig,
    growing: &Path,
    stubs: &Stubs,
    relocated: &mut Relocated,
) -> Result<Compared, Error> {
    const ROUNDS: u32 = 3;
    let what = format!("copying {} to its new place", lane.near);
    let near = lane.near_folder()?;
    let skip = stubs.paths();
    let weight = tree::weigh(near, &skip).map_err(failed(&what))?;
    relocated.copied = (weight.files, weight.bytes);
    for round in 1.. {
        pass.progress.begin_carrying(weight.files, weight.bytes);
        let (old, to) = (near.to_owned(), growing.to_owned());
        let (progress, stop) = (pass.progress.clone(), pass.stop.clone());
        let skip = skip.clone();
        let work = tokio::task::spawn_blocking(move || {
            tree::copy(&old, &to, &skip, &progress, &stop)?;
            tree::compare(&old, &to, &skip, &stop)
        });
        let done = work
            .await
            .map_err(|why| failed(&what)(io::Error::other(why)))?;
        let compared = done.map_err(|why| match why.kind() {
            io::ErrorKind::Interrupted => pass.side_failed(Side::Near, &SideError::Stopped),
            _ => failed(&what)(why),
        })?;
        if compared.differ.is_empty() {
            return Ok(compared);
        }
        if round == ROUNDS {
            return Err(Error::new(
                Class::NeedsPerson,
                what,
                format!(
                    "somebody goes on changing files in it: {}",
                    named(&compared.differ)
                ),
                "Close the programs that have them open, then try again: it goes on where it stopped.",
            ));
        }
    }
    Err(Error::failed(
        what,
        "it never became the same",
        "Try again.",
    ))
}

/// Where the spares of a lane lie for a folder.
fn spares_of(home: &Home, lane: &LaneConfig, root: &Path) -> io::Result<PathBuf> {
    let place = room_place(root, &home.lane_room(&lane.id), &lane.id)?;
    Ok(place.dir.join(SPARES_FOLDER))
}

/// Where spares of a lane may lie for a folder: in its room, and in the one from before its home or its disk was another.
fn all_spares_of(home: &Home, lane: &LaneConfig, root: &Path) -> io::Result<[PathBuf; 2]> {
    let place = room_place(root, &home.lane_room(&lane.id), &lane.id)?;
    Ok([place.dir, place.other].map(|room| room.join(SPARES_FOLDER)))
}

/// Spares that were copied to the room of the new place, and what was compared of them.
struct Brought {
    old: PathBuf,
    compared: Compared,
    /// What is a stub holds nothing, and stays behind.
    stubs: Skip,
}

impl Brought {
    /// Removes them from the old place, each as one removes a file there; what stays.
    fn leave(
        self,
        home: &Home,
        lane: &LaneConfig,
        new: &Path,
        aside: &Path,
    ) -> io::Result<Vec<Stays>> {
        let new = spares_of(home, lane, new)?;
        let stays = tree::remove_old((&self.old, &new), aside, self.compared, &self.stubs)?;
        let whole = |stays: Stays| Stays {
            path: self.old.join(stays.path),
            ..stays
        };
        Ok(stays.into_iter().map(whole).collect())
    }
}

/// The spares lie on the disk of the folder they came from; on another disk they need a room of their own there.
fn bring_spares(
    home: &Home,
    lane: &LaneConfig,
    old: &Path,
    new: &Path,
) -> io::Result<Vec<Brought>> {
    let new_rooms = all_spares_of(home, lane, new)?;
    let leaves = |spares: &PathBuf| !new_rooms.contains(spares) && spares.is_dir();
    all_spares_of(home, lane, old)?
        .into_iter()
        .filter(leaves)
        .map(|old| bring_from(old, &new_rooms[0]))
        .collect()
}

fn bring_from(old: PathBuf, new: &Path) -> io::Result<Brought> {
    let (progress, stop) = (
        crate::pass::Progress::default(),
        katabatic_sides::stop::Stop::default(),
    );
    let stubs = stubs_among(&old)?;
    tree::copy(&old, new, &stubs, &progress, &stop)?;
    let compared = tree::compare(&old, new, &stubs, &stop)?;
    match compared.differ.first() {
        None => Ok(Brought {
            old,
            compared,
            stubs,
        }),
        Some(path) => Err(io::Error::other(format!(
            "the spare {} did not arrive whole",
            path.display()
        ))),
    }
}

fn stubs_among(spares: &Path) -> io::Result<Skip> {
    let mut stubs = Skip::new();
    for entry in fs::read_dir(spares)? {
        let entry = entry?;
        if is_stub(&entry.path())? {
            stubs.insert(entry.file_name().into());
        }
    }
    Ok(stubs)
}

/// Takes the lane's own room away with the old folder. What other lanes, or earlier ones, keep there stays.
fn leave_room(lane: &LaneConfig, old: &Path, aside: &Path) {
    let room = own_folder::path(old, &lane.id);
    let _ = fs::remove_dir(aside);
    let own = room.join(&lane.id);
    // Of what was on its way, and of stubs, which hold nothing. What lies among the spares there keeps the rest.
    let _ = fs::remove_dir(own.join(SPARES_FOLDER));
    if !own.join(SPARES_FOLDER).exists() {
        let _ = fs::remove_dir_all(own);
    }
    let _ = fs::remove_dir(&room);
    let _ = fs::remove_dir(old);
}

/// Everything on a side.
async fn entries(store: &dyn SideStore) -> Result<BTreeMap<RelPath, Entry>, SideError> {
    let (found, mut inbox) = mpsc::channel(1024);
    let mut entries = BTreeMap::new();
    let (scanned, ()) = futures_util::join!(store.scan(found), async {
        while let Some(item) = inbox.recv().await {
            if let Found::Entry(path, entry) = item {
                entries.insert(path, entry);
            }
        }
    });
    scanned.map(|()| entries)
}

/// The ledger learns how the files look at their new place, as far as they are the agreed ones for sure; `before` is how
/// they looked at the old one. Adopted, only their content tells, and the next pass reads it.
async fn settle_in(
    home: &Home,
    ledger: &Ledger,
    after: &LaneConfig,
    before: Option<&BTreeMap<RelPath, Entry>>,
    stop: &Stop,
) -> Result<(), Error> {
    let failed = |error: SideError| side_failed(after, Side::Near, &error);
    let room = home.lane_room(&after.id);
    let side =
        LocalSide::open(after.near_folder()?, &room, &after.id, stop.clone()).map_err(failed)?;
    let found = entries(&side).await.map_err(failed)?;
    side.mark_root().await.map_err(failed)?;
    let root = side.root().await.map_err(failed)?;
    let Some(key) = key_of(ledger, after)? else {
        return Ok(());
    };
    let (mut stamps, mut missing) = (Vec::new(), Vec::new());
    for (path, base) in agreed(ledger, key)? {
        match (found.get(&path), before) {
            (None, None) => missing.push(path),
            (Some(entry), Some(before))
                if entry.kind == Kind::File
                    && entry.is_stub() == base.is_stub()
                    && before
                        .get(&path)
                        .is_some_and(|old| old.stamp == base.stamps.near) =>
            {
                stamps.push((path, entry.stamp.clone()));
            }
            _ => {}
        }
    }
    ledger
        .write(move |connection| {
            rows::set_near_root(connection, key, &root)?;
            for (path, stamp) in &stamps {
                rows::set_near_stamp(connection, key, path, stamp, handle_of(stamp))?;
            }
            for path in &missing {
                rows::forget(connection, key, path)?;
            }
            Ok(())
        })
        .await
}

/// Notes how the copy is recognised, and where it is, before the config names that place: killed right behind it, the next
/// pass finds the folder that counts.
async fn note_moving(
    home: &Home,
    pass: &LockedLane,
    after: &LaneConfig,
    new: &Path,
) -> Result<(), Error> {
    let failed = |error: SideError| side_failed(after, Side::Near, &error);
    let room = home.lane_room(&after.id);
    let side = LocalSide::open(new, &room, &after.id, pass.stop.clone()).map_err(failed)?;
    side.mark_root().await.map_err(failed)?;
    let moving = Moving {
        to: new.to_owned(),
        root: side.root().await.map_err(failed)?,
    };
    let key = pass.lane.row.key;
    pass.ledger
        .write(move |connection| rows::set_moving(connection, key, Some(&moving)))
        .await
}

async fn forget_moving(ledger: &Ledger, key: LaneKey) -> Result<(), Error> {
    ledger
        .write(move |connection| rows::set_moving(connection, key, None))
        .await
}

fn key_of(ledger: &Ledger, lane: &LaneConfig) -> Result<Option<LaneKey>, Error> {
    let row = ledger.read(|connection| rows::lane_of(connection, &lane.id))?;
    Ok(row.map(|row| row.key))
}

/// What both sides of a lane agreed on to be here.
pub(crate) fn known(ledger: &Ledger, lane: &LaneConfig) -> Result<Vec<(RelPath, Base)>, Error> {
    match key_of(ledger, lane)? {
        Some(key) => agreed(ledger, key),
        None => Ok(Vec::new()),
    }
}

/// What both sides agreed on to be here.
fn agreed(ledger: &Ledger, key: LaneKey) -> Result<Vec<(RelPath, Base)>, Error> {
    let mut agreed = Vec::new();
    ledger.read(|connection| {
        rows::each_row(connection, key, &RelPath::root(), |row| {
            if let Some(base) = row.base.filter(|base| base.away != Some(Side::Near)) {
                agreed.push((row.path, base));
            }
            true
        })
    })?;
    Ok(agreed)
}

/// How a folder that somebody has moved by hand stands to what the lane knows; nothing is changed.
///
/// # Errors
/// Where it is another folder, or cannot be read.
pub async fn adoption(
    home: &Home,
    config: &Config,
    ledger: &Ledger,
    lane: &LaneConfig,
    new: &Path,
    stop: &Stop,
) -> Result<Adoption, Error> {
    let what = format!("comparing {} with the lane {}", new.display(), lane.name);
    check_new_place(home, config, lane, new)?;
    let side_failed = |error: SideError| side_failed(lane, Side::Near, &error);
    let known: BTreeMap<RelPath, Base> = match key_of(ledger, lane)? {
        Some(key) => agreed(ledger, key)?
            .into_iter()
            .filter(|(_, base)| base.kind == Kind::File)
            .collect(),
        None => BTreeMap::new(),
    };
    let looking = home.state().join("looking");
    let side = LocalSide::reading(new, &looking, stop.clone()).map_err(side_failed)?;
    let found = entries(&side).await.map_err(side_failed)?;
    let mut adoption = Adoption::default();
    for (path, base) in &known {
        match found.get(path).filter(|entry| entry.kind == Kind::File) {
            None => adoption.missing += 1,
            // There is nothing in a stub to be read.
            Some(entry) if base.is_stub() && entry.is_stub() && entry.size == base.size => {
                adoption.same += 1;
            }
            Some(entry) if base.is_stub() || entry.is_stub() => adoption.other += 1,
            Some(entry) if entry.size != base.size => adoption.other += 1,
            Some(_) => {
                let read = tree::digest(&new.join(path.as_str())).map_err(failed(&what))?;
                let same = |content: Digest| content.0 == *read.as_bytes();
                if base.content.is_none_or(same) {
                    adoption.same += 1;
                } else {
                    adoption.other += 1;
                }
            }
        }
    }
    let files = found.iter().filter(|(_, entry)| entry.kind == Kind::File);
    adoption.new = files.filter(|(path, _)| !known.contains_key(*path)).count() as u64;
    if adoption.same == 0 && !known.is_empty() {
        return Err(Error::usage(
            what,
            "not one file in it is one that the lane knows",
            "It is another folder. Name the one that was moved.",
        ));
    }
    Ok(adoption)
}

/// Ties a lane to a near folder that a person has moved by hand. What is missing there comes back from the far side.
///
/// # Errors
/// Where config or ledger cannot be written.
pub async fn adopt(
    home: &Home,
    config: &mut Config,
    ledger: &Ledger,
    lane: &LaneConfig,
    new: &Path,
    stop: &Stop,
) -> Result<(), Error> {
    let _lock = lock_folder(new)?;
    let mut after = lane.clone();
    after.near = Place::Local(new.to_owned());
    after.near_drive = OnDrive::of(new);
    // Here only what follows settles that this is the folder, so an earlier move there that was cut off must not.
    if let Some(key) = key_of(ledger, lane)? {
        forget_moving(ledger, key).await?;
    }
    // The config first: until the ledger knows the new root, no pass takes it for the old one.
    config.change_lane(after.clone())?;
    settle_in(home, ledger, &after, None, stop).await
}

/// Ties a lane to where the folder of a side was moved to: that of an account, or the far one. It is that folder only if
/// the tool's own room for this lane, which moved along, is in it; then everything agreed on stays agreed on.
///
/// # Errors
/// Where it is another folder.
pub async fn follow(
    home: &Home,
    config: &mut Config,
    pass: &Pass,
    side: Side,
    new: Place,
) -> Result<(), Error> {
    let pass = &pass.lock()?;
    let before = pass.lane.config.clone();
    let what = format!(
        "moving the {} side of lane {} to {new}",
        side.name(),
        before.name
    );
    let mut after = before.clone();
    let drive = new.local().and_then(OnDrive::of);
    match side {
        Side::Near => (after.near, after.near_drive) = (new, drive),
        Side::Far => (after.far, after.far_drive) = (new, drive),
    }
    let open = open_lane(home, config, &pass.ledger, &after, &pass.stop).await?;
    let failed = |error: SideError| side_failed(&after, side, &error);
    let store = open.store(side);
    let found = store.root().await.map_err(failed)?;
    let known = match (side, after.place(side)) {
        (Side::Far, Place::Local(_)) => open.row.far_root.as_ref(),
        _ => None,
    };
    let ours = match known {
        Some(known) => known.recognises(&found) == Recognised::Itself,
        None => store.is_marked().await.map_err(failed)?,
    };
    if !ours {
        return Err(Error::new(
            Class::NotThere,
            what,
            "it is not the folder this lane was tied to: the tool's own folder for the lane (.katabatic) is not in it",
            format!(
                "If it really is to be another folder, take the lane away, which removes no file, and tie it anew, which compares everything: katabatic lane remove {}",
                before.name
            ),
        ));
    }
    let id = before.id;
    pass.ledger
        .write(move |connection| rows::forget_token(connection, &id))
        .await?;
    config.change_lane(after)
}
