//! Making a folder, moving, removing.

use katabatic_sides::Shelves as _;
use std::path::{Path, PathBuf};

use katabatic_core::{
    Deed, Entry, ItemOutcome, Kind, RelPath, RunCommand, RunOutcome, SpareCause, words,
};

use super::{Copied, Count, Hand, Spot, nothing_there, written};
use crate::pass::primitive::{self, Trouble};
use crate::session::{LockedLane, OpRun};
use crate::{Class, Error};
use katabatic_core::place::Place;
use katabatic_ledger::Ledger;
use katabatic_ledger::runs::{Counts, RunItem};
use katabatic_ledger::spare_rows::{self, Spare};
use katabatic_sides::local::LocalSide;
use katabatic_sides::{Put, SideError};

/// Makes a folder; whether it is a new one.
///
/// # Errors
/// Where something else has the name, or the folder above is not there.
pub async fn make_folder(hand: &Hand<'_>, place: &Place) -> Result<bool, Error> {
    let mut made = false;
    for folder in missing_above(place) {
        made = make_one_folder(hand, &folder).await?;
    }
    Ok(made)
}

/// The folders that a place lies in, from the first that may be missing down, and itself.
fn missing_above(place: &Place) -> Vec<Place> {
    let mut folders = vec![place.clone()];
    match place {
        Place::Local(path) => {
            let above = path.ancestors().skip(1).take_while(|above| !above.is_dir());
            folders.extend(above.map(|above| Place::Local(above.to_owned())));
        }
        Place::Far { account, path } => {
            let above = std::iter::successors(path.parent(), RelPath::parent);
            folders.extend(
                above
                    .filter(|above| !above.is_root())
                    .map(|path| Place::Far {
                        account: account.clone(),
                        path,
                    }),
            );
        }
    }
    folders.reverse();
    folders
}

async fn make_one_folder(hand: &Hand<'_>, place: &Place) -> Result<bool, Error> {
    let what = format!("making the folder {}", written(place));
    hand.check_not_own(&what, place)?;
    let failed = |error: SideError| hand.failed(&what, place, &error);
    let spot = hand.spot(place)?;
    match spot.store.look(&spot.path).await.map_err(failed)? {
        Some(there) if there.kind == Kind::Folder => return Ok(false),
        Some(_) => {
            return Err(Error::usage(
                &what,
                "a file has that name",
                "Choose another name.",
            ));
        }
        None => {}
    }
    let made = spot.store.make_folder(&spot.path).await;
    match made.map_err(|undone| failed(undone.told()))? {
        Put::Done => Ok(true),
        Put::Taken => Err(Error::usage(
            &what,
            "something else has that name",
            "Choose another name.",
        )),
    }
}

/// What was removed.
#[derive(Debug)]
pub struct Removed {
    /// The spare it is now.
    pub spare: Spare,
    /// What was in it, where it is a folder.
    pub inside: Count,
}

impl Removed {
    /// The number of the spare, by which it is asked for.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn number(&self, ledger: &Ledger) -> Result<i64, Error> {
        ledger
            .read(|connection| spare_rows::number_of(connection, self.spare.lane, &self.spare.slot))
    }
}

/// Removes a file or a folder into the spares. A folder that holds anything goes only where `holding` says how many
/// files, so that nobody removes more than they know of.
///
/// # Errors
/// With the count where it was not given, or another one was.
pub async fn remove(
    hand: &Hand<'_>,
    place: &Place,
    holding: Option<u64>,
) -> Result<Removed, Error> {
    let what = format!("removing {}", written(place));
    hand.check_no_root(&what, place)?;
    let work = hand.begin(&what, &[place]).await?;
    let failed = |error: SideError| hand.failed(&what, place, &error);
    let spot = hand.spot(place)?;
    let seen = spot.store.look(&spot.path).await.map_err(failed)?;
    let seen = seen.ok_or_else(|| nothing_there(&what, &spot.shown))?;
    if !matches!(seen.kind, Kind::File | Kind::Folder) {
        return Err(Error::usage(
            &what,
            "it is neither a file nor a folder",
            "Remove it with the system's own tools.",
        ));
    }
    let folder = seen.kind == Kind::Folder;
    let inside = if folder {
        let inside = hand.inside(&what, place).await?;
        let known = inside.files + inside.others;
        if known + inside.folders > 0 && holding != Some(known) {
            return Err(not_that_many(&what, &inside, known, holding));
        }
        inside
    } else {
        Count::default()
    };
    let run = hand.begin_run(RunCommand::Remove(written(place))).await?;
    // What the spare is said to take is what lies in it.
    let seen = Entry {
        size: seen.size.max(inside.bytes),
        ..seen
    };
    let lane = hand.at(&work, &spot).await?;
    let taken = hand
        .capture((&lane, &spot), &seen, &run, SpareCause::RemovedByHand)
        .await;
    let taken = match taken {
        Ok(spare) if folder => {
            hand.still_that_many(place, (&lane, &spot), spare, &inside)
                .await
        }
        taken => taken,
    };
    run.note(RunItem {
        path: spot.shown.clone(),
        deed: Deed::RemoveByHand,
        reason: String::new(),
        bytes: seen.size,
        outcome: ItemOutcome::of(&taken),
        at: Some(hand.now()),
    });
    end(run, taken.is_ok()).await?;
    Ok(Removed {
        spare: taken.map_err(failed)?,
        inside,
    })
}

/// Removes what was copied elsewhere, where it still is what was copied.
///
/// # Errors
/// As [`remove`]; where something was edited, or came, while it was copied.
pub async fn remove_copied(
    hand: &Hand<'_>,
    place: &Place,
    copied: &Copied,
) -> Result<Removed, Error> {
    let what = format!("removing {}", written(place));
    let failed = |error: SideError| hand.failed(&what, place, &error);
    let spot = hand.spot(place)?;
    let now = match spot.store.look(&spot.path).await.map_err(failed)? {
        Some(entry) if entry.kind == Kind::Folder => hand
            .count(&hand.reader(place)?)
            .await
            .map_err(failed)?
            .versions(),
        Some(entry) => vec![(RelPath::root(), entry.stamp)],
        None => Vec::new(),
    };
    if now != copied.versions {
        return Err(Error::new(
            Class::NeedsPerson,
            what,
            "it was changed while it was being copied",
            "Both stay. Remove or rename the copy, and move it again.",
        ));
    }
    remove(hand, place, Some(copied.source.files)).await
}

fn not_that_many(what: &str, inside: &Count, known: u64, holding: Option<u64>) -> Error {
    let holds = format!(
        "it holds {} ({}) in {}",
        words::count(known, "file", "files"),
        words::bytes(inside.bytes),
        words::count(inside.folders + 1, "folder", "folders"),
    );
    let why = match holding {
        None => holds,
        Some(said) => format!("{holds}, and not {}", words::grouped(said)),
    };
    Error::new(
        Class::NeedsPerson,
        what,
        why,
        format!("If all of that is to go into the spares: --holding {known}"),
    )
}

impl Hand<'_> {
    /// What a folder holds, counted whole.
    pub(super) async fn inside(&self, what: &str, place: &Place) -> Result<Count, Error> {
        let whole = self.whole(what, place).await?;
        match whole.unknown.iter().chain(&whole.unusable).next() {
            None => Ok(whole.count()),
            Some(unknown) => Err(Error::failed(
                what,
                format!("what it holds cannot be counted: {unknown}"),
                "Nothing was removed. Remove what can be counted, folder by folder.",
            )),
        }
    }

    /// Looks into a folder once more that was captured; with strangers in it, it goes back.
    async fn still_that_many(
        &self,
        place: &Place,
        (lane, spot): (&LockedLane, &Spot),
        spare: Spare,
        inside: &Count,
    ) -> Result<Spare, SideError> {
        let again = match place {
            // A rename moved it whole; a file that was put in while it was counted is in the spare with it.
            Place::Local(_) => self.spare_folder(spot, &spare)?,
            Place::Far { account, .. } => {
                let failed = |error: Error| SideError::Failed(error.to_string());
                let here = self.far(account, RelPath::root()).map_err(failed)?;
                let side = self
                    .far(account, here.spare_at(&spare.slot)?)
                    .map_err(failed)?;
                self.count(&(side as std::sync::Arc<dyn katabatic_sides::SideStore>))
                    .await?
                    .count()
            }
        };
        if again == *inside {
            return Ok(spare);
        }
        self.give_back((lane, spot), &spare).await?;
        Err(SideError::Changed(
            "something was put into it meanwhile; it was put back untouched".into(),
        ))
    }

    fn spare_folder(&self, spot: &Spot, spare: &Spare) -> Result<Count, SideError> {
        let side = LocalSide::open(
            Path::new(&spot.root),
            &self.home.lane_room(super::ROOM),
            super::ROOM,
            self.stop.clone(),
        )?;
        let Some(there) = side.spare_here(&spare.slot) else {
            return Err(SideError::Missing);
        };
        count_local(&there).map_err(|error| SideError::Failed(error.to_string()))
    }
}

fn count_local(folder: &Path) -> std::io::Result<Count> {
    let mut count = Count::default();
    let mut folders = vec![folder.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(&folder)? {
            let entry = entry?;
            let name = entry.file_name();
            if name.to_str().is_some_and(katabatic_sides::is_own) {
                continue;
            }
            let kind = entry.file_type()?;
            if kind.is_dir() {
                count.folders += 1;
                folders.push(entry.path());
            } else if kind.is_file() {
                count.files += 1;
                count.bytes += entry.metadata()?.len();
            } else {
                count.others += 1;
            }
        }
    }
    Ok(count)
}

/// Moves a file or a folder, within an account or within a file system, in one step. `replace` captures what has the
/// name; none of it happens where the move has to be a copy.
///
/// # Errors
/// Where something has the name, or the two places have to be copied between.
pub async fn rename(
    hand: &Hand<'_>,
    from: &Place,
    to: &Place,
    replace: bool,
) -> Result<Option<Spare>, Error> {
    let what = format!("moving {} to {}", written(from), written(to));
    hand.check_no_root(&what, from)?;
    let work = hand.begin(&what, &[from, to]).await?;
    let failed = |error: SideError| hand.failed(&what, from, &error);
    let (source, target) = hand.both_spots(&what, from, to)?;
    if source.path == target.path {
        return Err(Error::usage(
            &what,
            "that is where it is",
            "Name another place.",
        ));
    }
    if target.path.is_within(&source.path) {
        return Err(Error::usage(
            &what,
            "a folder cannot be moved into itself",
            "Name another place.",
        ));
    }
    let seen = source.store.look(&source.path).await.map_err(failed)?;
    let seen = seen.ok_or_else(|| nothing_there(&what, &source.shown))?;
    hand.check_not_own(&what, to)?;
    hand.check_no_spares_in(&what, from, &seen).await?;
    let there = target.store.look(&target.path).await;
    let there = there.map_err(|error| hand.failed(&what, to, &error))?;
    if there.is_some() && !replace {
        return Err(taken(&what, &target.shown));
    }
    if let Some(there) = &there {
        hand.check_no_root(&what, to)?;
        hand.check_no_spares_in(&what, to, there).await?;
    }
    let run = hand
        .begin_run(RunCommand::Move {
            from: source.shown.clone(),
            to: target.shown.clone(),
        })
        .await?;
    let lane = hand.at(&work, &source).await?;
    let moved = async {
        let old = match &there {
            Some(there) => Some(
                hand.capture((&lane, &target), there, &run, SpareCause::ReplacedByHand)
                    .await?,
            ),
            None => None,
        };
        let names = (&source.path, &target.path);
        let put =
            primitive::rename(&lane, source.side, names, &seen, SpareCause::MovedByHand).await;
        match (put, old) {
            (Ok(Put::Done), old) => Ok(old),
            // It may be done yet: then what was replaced is where it belongs.
            (Err(unsure @ Trouble::Unsure(..)), _) => Err(super::told(unsure)),
            (put, old) => {
                if let Some(old) = &old {
                    hand.give_back((&lane, &target), old).await?;
                }
                match put {
                    Err(trouble) => Err(super::told(trouble)),
                    Ok(_) => Err(SideError::Changed(
                        "something came to have that name".into(),
                    )),
                }
            }
        }
    }
    .await;
    run.note(RunItem {
        path: source.shown.clone(),
        deed: Deed::MoveByHand {
            to: target.shown.clone(),
        },
        reason: String::new(),
        bytes: seen.size,
        outcome: ItemOutcome::of(&moved),
        at: Some(hand.now()),
    });
    end(run, moved.is_ok()).await?;
    moved.map_err(failed)
}

/// Ends the run of a change that is done, or is not.
async fn end(run: OpRun, is_done: bool) -> Result<(), Error> {
    run.end(RunOutcome::done_if(is_done), Counts::default())
        .await
}

pub(super) fn taken(what: &str, shown: &str) -> Error {
    Error::usage(
        what,
        format!("something has the name {shown} already"),
        format!(
            "Choose another name, write {shown}/ to put it into that folder, or --replace it: what is there goes to the spares."
        ),
    )
}

impl Hand<'_> {
    /// Both places on one side, which can rename between them.
    fn both_spots(&self, what: &str, from: &Place, to: &Place) -> Result<(Spot, Spot), Error> {
        match (from, to) {
            (Place::Local(from), Place::Local(to)) => {
                let root = common(from, to);
                let below = |path: &Path| path.strip_prefix(&root).unwrap_or(path).to_owned();
                Ok((
                    self.local_spot(&root, &below(from))?,
                    self.local_spot(&root, &below(to))?,
                ))
            }
            (Place::Far { account, .. }, Place::Far { account: other, .. }) if account == other => {
                Ok((self.spot(from)?, self.spot(to)?))
            }
            _ => Err(Error::usage(
                what,
                "a move goes within one account, or within this computer",
                "Copy it (katabatic copy), look at the copy, and remove what it was copied from (katabatic remove).",
            )),
        }
    }
}

/// The deepest folder that both lie in.
fn common(a: &Path, b: &Path) -> PathBuf {
    let mut common = PathBuf::new();
    let above = |path: &Path| path.parent().map(Path::to_owned).unwrap_or_default();
    for (a, b) in above(a).components().zip(above(b).components()) {
        if a != b {
            break;
        }
        common.push(a);
    }
    common
}
