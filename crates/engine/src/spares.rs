//! Bringing back what a pass removed or replaced.

use std::path::Path;
use std::sync::Arc;

use futures_util::StreamExt;
use katabatic_core::dated_name::dated_name;
use katabatic_core::{RelPath, Side};
use tokio::io::AsyncWriteExt;

use crate::config::Config;
use crate::hand::{BY_HAND, Hand};
use crate::local_time::in_a_name;
use crate::open::{account_client, known_server};
use crate::pass::Pass;
use crate::pass::put_back::back_to;
use crate::session::LockedLane;
use crate::{Error, Home};
use katabatic_core::place::Place;
use katabatic_ledger::spare_rows::{self, Spare};
use katabatic_sides::account::AccountFolder;
use katabatic_sides::stop::Stop;
use katabatic_sides::{Put, SideError, SideStore, Source, Steps};

/// The spare of this number.
///
/// # Errors
/// Where there is none.
pub fn find(ledger: &katabatic_ledger::Ledger, number: i64) -> Result<Spare, Error> {
    ledger
        .read(|connection| spare_rows::spare(connection, number))?
        .ok_or_else(|| {
            Error::usage(
                format!("the spare {number}"),
                "there is none of that number",
                "List them: katabatic spares list",
            )
        })
}

/// Whether a spare is of no lane that is here: of something done by hand, or of a lane that was taken away.
#[must_use]
pub fn is_of_no_lane(spare: &Spare) -> bool {
    spare.lane_name == BY_HAND || spare.lane_id.is_some()
}

/// The far folder a spare lies in, where its lane has been tied to another one since.
///
/// # Errors
/// Where that account is not here any more.
pub fn elsewhere(
    home: &Home,
    config: &Config,
    spare: &Spare,
    stop: &Stop,
) -> Result<Option<Arc<dyn AccountFolder>>, Error> {
    let Some(place) = &spare.place else {
        return Ok(None);
    };
    let lane = config.lane(&spare.lane_name)?;
    match Place::parse(place, &config.account_names()) {
        Ok(Place::Far { account, path }) => {
            let account = config.account(&account)?;
            let client = account_client(home, account, stop)?;
            let known = known_server(&home.open_ledger()?, account)?;
            let room = (&home.computer()?[..], &lane.id[..]);
            Ok(Some(client.folder(path, room, &known)))
        }
        Ok(Place::Local(_)) | Err(_) => Err(Error::usage(
            format!("reading the spare {} of {}", spare.number, spare.path),
            format!("it lies in {place}, and that account is not here any more"),
            "Add the account again under that name.",
        )),
    }
}

pub(crate) fn store_of(
    pass: &Pass,
    spare: &Spare,
    elsewhere: Option<&Arc<dyn AccountFolder>>,
) -> Arc<dyn SideStore> {
    match elsewhere {
        Some(side) => Arc::<dyn AccountFolder>::clone(side),
        None => pass.store(spare.side),
    }
}

/// Brings a spare back to where it was, on this side, or beside it where the name is taken; the next sync carries
/// it on. The spare stays, unless it is a whole folder, which is moved back to where it was taken from.
///
/// # Errors
/// Where it cannot be read or written.
pub async fn restore(
    pass: &Pass,
    spare: &Spare,
    on: Side,
    elsewhere: Option<&Arc<dyn AccountFolder>>,
) -> Result<Place, Error> {
    if on == Side::Far && pass.lane.config.terms.direction.source() == Some(Side::Far) {
        return Err(Error::usage(
            format!("restoring the spare {} of {}", spare.number, spare.path),
            "the lane carries down only and never writes there",
            "Restore it here, or copy it there by hand: katabatic spares restore NUMBER --to FILE, then katabatic copy",
        ));
    }
    let pass = &pass.lock()?;
    let failed = |side| move |error: SideError| pass.side_failed(side, &error);
    if let (true, Some(place)) = (spare.folder, &spare.place) {
        return Err(Error::usage(
            format!("restoring the spare {} of {}", spare.number, spare.path),
            format!("it is a whole folder, and lies in {place}, which the lane was tied to before"),
            "Look for it there, below .katabatic, with the server's own pages.",
        ));
    }
    if spare.folder {
        return restore_folder(pass, spare).await;
    }
    let store = pass.store(on);
    let source = store_of(pass, spare, elsewhere)
        .read_spare(&spare.slot)
        .await
        .map_err(failed(spare.side))?;
    make_folders_on(pass, on, &spare.path, false).await?;
    let staged = store
        .stage(source, &spare.path, &Steps::unkept())
        .await
        .map_err(failed(on))?;
    for path in names(spare)? {
        // A copy, whose spare stays: one that is placed late is one more of it.
        let placed = store.place(&staged.slot, &staged.entry, &path).await;
        if placed.map_err(|undone| failed(on)(undone.told()))? == Put::Done {
            return Ok(pass.lane.config.place(on).join(&path));
        }
    }
    store.unstage(&staged.slot).await.map_err(failed(on))?;
    Err(no_name(spare))
}

/// Copies a spare to any local path where nothing is.
///
/// # Errors
/// Where it cannot be read, or something is at the path already.
pub async fn copy_to(
    pass: &Pass,
    spare: &Spare,
    elsewhere: Option<&Arc<dyn AccountFolder>>,
    to: &Path,
) -> Result<(), Error> {
    let what = || format!("copying the spare {} to {}", spare.number, to.display());
    if spare.folder {
        return Err(Error::usage(
            what(),
            "it is a whole folder",
            "Restore it without --to.",
        ));
    }
    let source = store_of(pass, spare, elsewhere)
        .read_spare(&spare.slot)
        .await
        .map_err(|why| pass.side_failed(spare.side, &why))?;
    write_to(source, &what(), to).await
}

/// Copies a spare of no lane to any local path where nothing is.
///
/// # Errors
/// As [`copy_to`].
pub async fn copy_to_by_hand(hand: &Hand<'_>, spare: &Spare, to: &Path) -> Result<(), Error> {
    let what = format!("copying the spare {} to {}", spare.number, to.display());
    let (lane, _) = room_of_no_lane(hand, spare, &what).await?;
    let source = lane.store(spare.side).read_spare(&spare.slot).await;
    let next = "List what is kept: katabatic spares list";
    let source = source.map_err(|why| Error::failed(&what, why, next))?;
    write_to(source, &what, to).await
}

/// Writes what comes to a path where nothing is.
pub(crate) async fn write_to(mut source: Source, what: &str, to: &Path) -> Result<(), Error> {
    let next = "Name a path where nothing is yet, in a folder that exists.";
    let mut file = tokio::fs::File::create_new(to)
        .await
        .map_err(|why| Error::failed(what, why, next))?;
    let written = async {
        while let Some(chunk) = source.content.next().await {
            file.write_all(&chunk.map_err(std::io::Error::other)?)
                .await?;
        }
        file.sync_all().await
    };
    match written.await {
        Ok(()) => Ok(()),
        Err(why) => {
            // Half a copy under the name that was asked for would be taken for a whole one.
            let _ = tokio::fs::remove_file(to).await;
            Err(Error::failed(
                what,
                why,
                "Look at the disk's room, then try again; the spare is untouched.",
            ))
        }
    }
}

async fn room_of_no_lane(
    hand: &Hand<'_>,
    spare: &Spare,
    what: &str,
) -> Result<(LockedLane, String), Error> {
    let root = spare.place.as_deref().unwrap_or_default();
    hand.room_of(spare, what).await?.ok_or_else(|| {
        Error::usage(
            what,
            format!("it lies in {root}, and that is not here any more"),
            "Plug in the drive, or add the account again under that name.",
        )
    })
}

/// Brings back what was removed or replaced by hand, or by a lane that was taken away since: to where it was, or beside it
/// where the name is taken.
///
/// # Errors
/// Where the place is not there any more, or no name is free.
pub async fn restore_by_hand(hand: &Hand<'_>, spare: &Spare) -> Result<String, Error> {
    let what = format!("restoring the spare {} of {}", spare.number, spare.path);
    let (lane, root) = room_of_no_lane(hand, spare, &what).await?;
    if spare.lane_id.is_some() {
        make_folders_on(&lane, spare.side, &spare.path, false).await?;
    }
    for path in names(spare)? {
        let put = back_to(&lane, spare, &path).await.map_err(|why| {
            Error::failed(
                &what,
                why,
                "What is not back at its place is in the spares still: katabatic spares list",
            )
        })?;
        if put == Put::Done {
            hand.ledger.flush().await?;
            return Ok(format!("{}/{path}", root.trim_end_matches('/')));
        }
    }
    Err(no_name(spare))
}

async fn restore_folder(pass: &LockedLane, spare: &Spare) -> Result<Place, Error> {
    make_folders_on(pass, spare.side, &spare.path, false).await?;
    for path in names(spare)? {
        let put = back_to(pass, spare, &path).await;
        if put.map_err(|error| pass.side_failed(spare.side, &error))? == Put::Done {
            pass.ledger.flush().await?;
            return Ok(pass.lane.config.place(spare.side).join(&path));
        }
    }
    Err(no_name(spare))
}

/// The name it had, and then dated ones.
fn names(spare: &Spare) -> Result<Vec<RelPath>, Error> {
    let parent = spare.path.parent().unwrap_or_else(RelPath::root);
    let label = format!("spare {}", in_a_name(spare.taken_at));
    let mut names = vec![spare.path.clone()];
    for attempt in 1..20 {
        let name = dated_name(spare.path.name(), &label, attempt);
        names.push(parent.join(&name).map_err(|why| {
            Error::failed(format!("naming {name}"), why, "Restore it with --to.")
        })?);
    }
    Ok(names)
}

fn no_name(spare: &Spare) -> Error {
    Error::failed(
        format!("restoring the spare {} of {}", spare.number, spare.path),
        "its name and all dated names beside it are taken",
        "Restore it elsewhere: katabatic spares restore NUMBER --to FILE",
    )
}

/// Makes the folders around a path on one side, and the path itself where `itself` says so.
pub(crate) async fn make_folders_on(
    pass: &Pass,
    side: Side,
    path: &RelPath,
    itself: bool,
) -> Result<(), Error> {
    let store = pass.store(side);
    make_folders(&*store, path, itself, &|error| {
        pass.side_failed(side, error)
    })
    .await
}

/// Makes the folders around a path on a store of this computer, and the path itself where `itself` says so.
pub(crate) async fn make_parents_on(
    pass: &Pass,
    store: &dyn SideStore,
    path: &RelPath,
    itself: bool,
) -> Result<(), Error> {
    make_folders(store, path, itself, &|error| {
        pass.side_failed(Side::Near, error)
    })
    .await
}

async fn make_folders(
    store: &dyn SideStore,
    path: &RelPath,
    itself: bool,
    failed: &(dyn Fn(&SideError) -> Error + Sync),
) -> Result<(), Error> {
    let first = if itself {
        Some(path.clone())
    } else {
        path.parent()
    };
    let mut above: Vec<RelPath> = std::iter::successors(first, RelPath::parent)
        .filter(|folder| !folder.is_root())
        .collect();
    above.reverse();
    for folder in above {
        let made = store.make_folder(&folder).await;
        let made = made.map_err(|undone| failed(&undone.told()))?;
        if made == Put::Taken {
            return Err(Error::failed(
                format!("making the folder {folder} again"),
                "a file has its name",
                "Bring it back elsewhere, with --to.",
            ));
        }
    }
    Ok(())
}
