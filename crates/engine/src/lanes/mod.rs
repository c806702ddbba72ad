//! Adding, changing and taking away lanes: both places are looked at, other lanes' claims are respected, and nothing is
//! carried.

mod drop_stubs;
mod proof_by;
mod unwise;

use katabatic_sides::Describes as _;
use std::path::Path;
use std::sync::Arc;

use katabatic_core::{RelPath, Side, words};

use crate::config::{AccountConfig, Config, LaneConfig};
use crate::drives::OnDrive;
use crate::lock::{lock_lane, lock_what_is_there};
use crate::open::{OpenLane, account_client, lock_at, open_here, open_lane, side_failed};
use crate::pass::{Pass, Plan, Progress, ReadFiles, Wish};
use crate::seam::NoHook;
use crate::{Class, Error, Home};
use katabatic_core::place::Place;
use katabatic_core::place::far_place;
use katabatic_ledger::{Ledger, intents, rows};
use katabatic_sides::account::KnownServer;
use katabatic_sides::clock::SystemClock;
use katabatic_sides::local::{LocalSide, own_folder};
use katabatic_sides::stop::Stop;
use katabatic_sides::{DOTLESS_OWN_FOLDER, OWN_FOLDER, Put, Shortcomings, SideError, SideStore};

use crate::overlap::{check_overlaps, check_own_home};
pub use drop_stubs::drop_stubs;
pub use proof_by::check_proof;
pub use unwise::unwise;

/// Checks a new lane, says what its first pass would do, and saves it. Nothing is carried. With `make`, folders that
/// are missing are made.
///
/// # Errors
/// A name or a place that cannot be used, with the reason; nothing is saved then.
pub async fn add(
    home: &Home,
    config: &mut Config,
    ledger: &Ledger,
    lane: LaneConfig,
    make: bool,
    stop: &Stop,
) -> Result<NextPass, Error> {
    let (lane, next) = look_at_new(home, config, ledger, lane, make, stop).await?;
    config.add_lane(lane)?;
    Ok(next)
}

/// Checks a new lane and says what its first pass would do; the answer's lane is ready to be added to the config.
///
/// # Errors
/// As [`add`].
pub async fn look_at_new(
    home: &Home,
    config: &Config,
    ledger: &Ledger,
    lane: LaneConfig,
    make: bool,
    stop: &Stop,
) -> Result<(LaneConfig, NextPass), Error> {
    config.check_free(
        "lane",
        &lane.name,
        config.lanes.iter().any(|known| known.name == lane.name),
    )?;
    check_proof(ledger, &lane)?;
    check_places(home, config, &lane, make, stop).await?;
    let lane = on_its_drives(lane);
    // Before the lane is opened: that makes its own folders.
    let local_marks = [Side::Near, Side::Far].map(|side| lane.place(side).local().map(marked));
    let open = open_lane(home, config, ledger, &lane, stop).await?;
    check_lists_dots(&open)?;
    let stores = [open.near.clone(), open.far.clone()];
    let mut next = next_plan(open, ledger, stop).await?;
    let mut tied_before = false;
    for (mark, store) in local_marks.into_iter().zip(stores) {
        tied_before |= match mark {
            Some(marked) => marked,
            None => holds_own_folder(store.as_ref()).await,
        };
    }
    if tied_before {
        let lead = match lane.terms.direction.source() {
            None => format!(
                "; if one side is known to be right, see what it means to let it lead: katabatic plan {} --lead near (or far)",
                lane.name
            ),
            Some(_) => String::new(),
        };
        next.unwise.push(format!(
            "one of these folders is, or was, in a lane. What differs becomes a conflict{lead}"
        ));
    }
    Ok((lane, next))
}

/// Makes sure that a lane neither undoes the work of another one nor carries what the tool itself keeps. Nothing is asked and
/// nothing made, so this can be said as soon as both places are known.
///
/// # Errors
/// Which folder is in the way, and what to do.
pub fn check_apart(home: &Home, config: &Config, lane: &LaneConfig) -> Result<(), Error> {
    let sides = [Side::Near, Side::Far];
    for folder in sides.iter().filter_map(|side| lane.place(*side).local()) {
        check_own_home(home, folder)?;
    }
    check_overlaps(config, lane)
}

/// Bytes that are free where a folder is, or would come to be.
#[must_use]
pub fn free_at(folder: &Path) -> Option<u64> {
    let there = folder.ancestors().find(|above| above.is_dir())?;
    let stat = rustix::fs::statvfs(there).ok()?;
    Some(stat.f_bavail.saturating_mul(stat.f_frsize))
}

/// Takes back what was made for a lane that was only looked at.
///
/// # Errors
/// Where the ledger cannot be written.
pub async fn withdraw(home: &Home, ledger: &Ledger, lane: &LaneConfig) -> Result<(), Error> {
    let state = home.lane_room(&lane.id);
    let mut rooms = vec![state.join("far"), state];
    for root in [&lane.near, &lane.far].into_iter().filter_map(Place::local) {
        let own = own_folder::path(root, &lane.id);
        rooms.extend([own.join(&lane.id), own]);
    }
    // Only what is empty goes: nothing was ever staged in it.
    for room in rooms {
        for folder in [room.join("staging"), room.join("spares"), room] {
            let _ = std::fs::remove_dir(folder);
        }
    }
    let id = lane.id.clone();
    ledger
        .write(move |connection| rows::drop_lane(connection, &id))
        .await
}

/// Whether a folder of this computer bears the mark of a lane.
fn marked(folder: &Path) -> bool {
    LocalSide::recognise(folder).is_ok_and(|known| known.mark().is_some())
}

/// A near side is trusted to list what it holds; an account that hides names can only be a far side, where they are
/// looked at one by one.
fn check_lists_dots(open: &OpenLane) -> Result<(), Error> {
    let dotted = RelPath::parse(".dotted");
    let hides = dotted.is_ok_and(|path| open.near.may_hide(&path));
    // Where nothing is ever written, whatever is known was listed.
    if !hides || open.near.is_read_only() {
        return Ok(());
    }
    let lane = &open.config;
    let next = match lane.far {
        Place::Far { .. } => format!(
            "Tie them the other way round: --near {} --far {}",
            words::typed(&lane.far.to_string()),
            words::typed(&lane.near.to_string())
        ),
        Place::Local(_) => "Make it the far side.".to_owned(),
    };
    Err(Error::usage(
        format!("the lane {}", lane.name),
        format!(
            "the server of {} does not list names that begin with a dot (or was not tested: katabatic account test {}), so a missing one proves nothing",
            lane.near,
            lane.near.account().unwrap_or_default()
        ),
        next,
    ))
}

/// Whether an account's folder holds the tool's own, from a lane of this computer or another.
async fn holds_own_folder(far: &dyn SideStore) -> bool {
    for own in [OWN_FOLDER, DOTLESS_OWN_FOLDER] {
        if let Ok(own) = RelPath::parse(own)
            && far.look(&own).await.is_ok_and(|found| found.is_some())
        {
            return true;
        }
    }
    false
}

/// A lane with the drives that its folders lie on.
fn on_its_drives(mut lane: LaneConfig) -> LaneConfig {
    lane.near_drive = lane.near.local().and_then(OnDrive::of);
    lane.far_drive = lane.far.local().and_then(OnDrive::of);
    lane
}

async fn check_places(
    home: &Home,
    config: &Config,
    lane: &LaneConfig,
    make: bool,
    stop: &Stop,
) -> Result<(), Error> {
    let what = format!("the lane {}", lane.name);
    lane.terms.check().map_err(|why| {
        Error::usage(&what, format!("its direction must be {why}"), "Choose one.")
    })?;
    if let (Place::Far { .. }, Place::Local(far)) = (&lane.near, &lane.far) {
        return Err(Error::usage(
            what,
            "its near side is in an account and its far side on this computer",
            format!(
                "Tie them the other way round: --near {} --far {}",
                far.display(),
                lane.near
            ),
        ));
    }
    check_apart(home, config, lane)?;
    for side in [Side::Near, Side::Far] {
        match lane.place(side) {
            Place::Local(folder) => check_folder(lane, folder, make)?,
            Place::Far { account, path } => {
                let account = config.account(account)?;
                check_in_account(home, account, lane, (side, path), make, stop).await?;
            }
        }
    }
    Ok(())
}

/// What the next pass of a lane would do.
#[derive(Debug)]
pub struct NextPass {
    /// The plan.
    pub plan: Plan,
    /// Whether it is a first pass, which compares and removes nothing.
    pub first: bool,
    /// Whether nothing can be written to the far side.
    pub far_read_only: bool,
    /// What is unwise about the lane, though possible; a sentence each.
    pub unwise: Vec<String>,
    /// What its disks lack.
    pub lacks: Vec<Shortcomings>,
}

/// Whether a change makes the next pass a first pass: what was agreed with another far side says nothing of this one.
#[must_use]
pub fn starts_anew(before: &LaneConfig, after: &LaneConfig) -> bool {
    before.far != after.far
}

/// Whether a change makes the next pass one that removes nothing: what went away under other terms was no removal under
/// these. Whose each file is stays known.
#[must_use]
pub fn removes_nothing_next(before: &LaneConfig, after: &LaneConfig) -> bool {
    starts_anew(before, after) || before.terms_text() != after.terms_text()
}

/// What the next pass would do after a change of a lane. Nothing is changed, but that with `make` a far folder that is
/// missing is made.
///
/// # Errors
/// A place that cannot be used, with the reason.
pub async fn preview_change(
    home: &Home,
    config: &Config,
    ledger: &Ledger,
    after: &LaneConfig,
    make: bool,
    stop: &Stop,
) -> Result<NextPass, Error> {
    let before = config.lane(&after.name)?;
    check_finished(
        ledger,
        &after.id,
        &format!("changing the lane {}", after.name),
        &after.name,
    )?;
    check_places(home, config, after, make, stop).await?;
    let after = &on_its_drives(after.clone());
    if !starts_anew(before, after) {
        let open = open_lane(home, config, ledger, after, stop).await?;
        return next_plan(open, ledger, stop).await;
    }
    // A lane in the ledger that nothing was ever agreed in, looked at instead of the real one.
    let empty = katabatic_sides::private_files::random_hex(8)?;
    let (id, drop_id) = (empty.clone(), empty);
    let row = ledger
        .write(move |connection| {
            rows::ensure_lane(connection, &id)?;
            rows::lane_of(connection, &id)?.ok_or(rusqlite::Error::QueryReturnedNoRows)
        })
        .await?;
    let looked = async {
        let mut open = open_lane(home, config, ledger, after, stop).await?;
        open.row = row;
        next_plan(open, ledger, stop).await
    };
    let next = looked.await;
    ledger
        .write(move |connection| rows::drop_lane(connection, &drop_id))
        .await?;
    next
}

/// Changes a lane. Where that starts it anew, the ledger forgets what was agreed, so that the next pass is a first
/// pass, which compares and removes nothing; spares of an old far side stay known with the place they lie in.
///
/// # Errors
/// Where ledger or config cannot be written.
pub async fn change(
    home: &Home,
    config: &mut Config,
    ledger: &Ledger,
    after: LaneConfig,
) -> Result<(), Error> {
    let before = config.lane(&after.name)?.clone();
    let after = if (&before.near, &before.far) == (&after.near, &after.far) {
        after
    } else {
        on_its_drives(after)
    };
    let _lock = lock_lane(&lock_at(home, &before)?)?;
    let what = format!("changing the lane {}", after.name);
    check_finished(ledger, &after.id, &what, &after.name)?;
    // The ledger first: cut off between the two, the next pass is a first pass as the lane was, and harmless.
    if starts_anew(&before, &after) {
        let (id, place) = (before.id.clone(), before.far_place());
        ledger
            .write(move |connection| rows::untie_far(connection, &id, &place))
            .await?;
    } else if before.terms_text() != after.terms_text() {
        // Nothing was told of what stood aside under the terms of before.
        let id = before.id.clone();
        ledger
            .write(move |connection| rows::forget_token(connection, &id))
            .await?;
    }
    if before.far == after.far && before.selection != after.selection {
        // What was left out may be taken again: whatever happened to it meanwhile must not travel as a removal.
        return change_choice(config, ledger, after).await;
    }
    config.change_lane(after)
}

/// Changes what a lane leaves out, under a lock that is held already.
pub(crate) async fn change_choice(
    config: &mut Config,
    ledger: &Ledger,
    after: LaneConfig,
) -> Result<(), Error> {
    let before = config.lane(&after.name)?.clone();
    let (id, lists) = (before.id.clone(), folders_that_change(&before, &after));
    ledger
        .write(move |connection| {
            for folder in &lists {
                rows::forget_within(connection, &id, folder)?;
            }
            rows::forget_token(connection, &id)
        })
        .await?;
    config.change_lane(after)
}

/// The folders that are taken from now on and were not.
fn folders_that_change(before: &LaneConfig, after: &LaneConfig) -> Vec<RelPath> {
    let skipped: Vec<&RelPath> = before.selection.choice.skipped().collect();
    let still = |folder: &RelPath| {
        after
            .selection
            .choice
            .skipped()
            .any(|other| other == folder)
    };
    let taken = after.selection.choice.taken();
    skipped
        .into_iter()
        .filter(|folder| !still(folder))
        .chain(taken)
        .cloned()
        .collect()
}

/// What the disks of a lane lack; nothing of a disk that is not there.
pub async fn shortcomings(
    home: &Home,
    ledger: &Ledger,
    lane: &LaneConfig,
    stop: &Stop,
) -> Vec<Shortcomings> {
    let mut said = Vec::new();
    for side in [Side::Near, Side::Far] {
        if let Some(root) = lane.place(side).local()
            && let Ok(here) = open_here(home, ledger, lane, (side, root), stop)
        {
            said.extend(here.shortcomings().await);
        }
    }
    said
}

/// Takes a lane away; every file stays on both sides. No pass runs meanwhile, and none is waited for longer than
/// usual: what it would go on to replace and remove is what was just said to stay.
///
/// # Errors
/// Where config or ledger cannot be written, or another program works on the lane.
pub async fn remove(
    home: &Home,
    config: &mut Config,
    ledger: &Ledger,
    name: &str,
) -> Result<(), Error> {
    let lane = config.lane(name)?;
    let id = lane.id.clone();
    let (near, far) = (lane.near.to_string(), lane.far.to_string());
    let _lock = lock_what_is_there(&lock_at(home, lane)?)?;
    let what = format!("removing the lane {name}");
    check_finished(ledger, &id, &what, name)?;
    check_no_stubs(ledger, &id, &what, name)?;
    // First, so that its spares are found wherever this is cut off.
    let of = id.clone();
    ledger
        .write(move |connection| rows::leave_spares(connection, &of, (&near, &far)))
        .await?;
    config.remove_lane(name)?;
    ledger
        .write(move |connection| rows::forget_lane(connection, &id))
        .await
}

/// Gives a lane another name; what it did, what it keeps and its pause follow. Its own folders on both sides go by its id,
/// and stay.
///
/// # Errors
/// A name that is taken or cannot be one; where config or ledger cannot be written, or another program works on the lane.
pub async fn rename(
    home: &Home,
    config: &mut Config,
    ledger: &Ledger,
    from: &str,
    to: &str,
) -> Result<(), Error> {
    let lane = config.lane(from)?;
    let id = lane.id.clone();
    let taken = config.lanes.iter().any(|known| known.name == to);
    config.check_free("lane", to, taken)?;
    // A pass that runs meanwhile would note what it does under the old name.
    let _lock = lock_what_is_there(&lock_at(home, lane)?)?;
    let (was, is) = (from.to_owned(), to.to_owned());
    // First: where it is cut off here, the same command goes on with it.
    ledger
        .write(move |connection| rows::rename_lane(connection, &id, &was, &is))
        .await?;
    config.rename_lane(from, to)
}

/// A lane that was cut off in the middle of a file must be cleared up before it is untied.
fn check_finished(ledger: &Ledger, id: &str, what: &str, name: &str) -> Result<(), Error> {
    let unfinished = ledger.read(|connection| match rows::lane_of(connection, id)? {
        Some(lane) => intents::unfinished(connection, lane.key).map(|all| all.len()),
        None => Ok(0),
    })?;
    if unfinished == 0 {
        return Ok(());
    }
    Err(Error::new(
        Class::NeedsPerson,
        what,
        "a pass was cut off in the middle of a file, whose old version may lie in the spares alone",
        format!("Let a pass clear it up first: katabatic sync {name}"),
    ))
}

/// Files of the lane of this id that are stubs here, and the bytes that they show.
///
/// # Errors
/// Where the ledger cannot be read.
pub fn stubs(ledger: &Ledger, id: &str) -> Result<(u64, u64), Error> {
    ledger.read(|connection| match rows::lane_of(connection, id)? {
        Some(lane) => rows::stubs(connection, lane.key),
        None => Ok((0, 0)),
    })
}

/// Without the lane nothing would ever bring the content of its stubs.
fn check_no_stubs(ledger: &Ledger, id: &str, what: &str, name: &str) -> Result<(), Error> {
    let (files, bytes) = stubs(ledger, id)?;
    if files == 0 {
        return Ok(());
    }
    Err(Error::new(
        Class::NeedsPerson,
        what,
        format!(
            "{} in its folder here {} without content, {} of it, which would stay so",
            words::count(files, "file", "files"),
            if files == 1 { "is a stub" } else { "are stubs" },
            words::bytes(bytes)
        ),
        format!(
            "Bring the content first: katabatic fetch {name}; or let these names go from here, their files stay on the other side: katabatic lane remove {name} --drop-stubs"
        ),
    ))
}

fn refused(lane: &LaneConfig, why: String, next: &str) -> Error {
    Error::usage(format!("the lane {}", lane.name), why, next)
}

fn check_folder(lane: &LaneConfig, folder: &Path, make: bool) -> Result<(), Error> {
    match folder.metadata() {
        Ok(meta) if meta.is_dir() => Ok(()),
        Ok(_) => Err(refused(
            lane,
            format!("{} is a file", folder.display()),
            "Name a folder.",
        )),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound && make => {
            std::fs::create_dir_all(folder).map_err(|why| {
                refused(
                    lane,
                    format!("{} could not be made: {why}", folder.display()),
                    "Name another folder.",
                )
            })
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Err(Error::new(
            Class::NotThere,
            format!("the lane {}", lane.name),
            format!("there is no folder {}", folder.display()),
            "Check the spelling; to have it made, say --make.",
        )),
        Err(error) => Err(refused(
            lane,
            format!("{}: {error}", folder.display()),
            "Look at the folder's rights.",
        )),
    }
}

async fn check_in_account(
    home: &Home,
    account: &AccountConfig,
    lane: &LaneConfig,
    (side, path): (Side, &RelPath),
    make: bool,
    stop: &Stop,
) -> Result<(), Error> {
    let client = account_client(home, account, stop)?;
    let root = client.folder(RelPath::root(), ("none", "none"), &KnownServer::default());
    let failed = |error: SideError| side_failed(lane, side, &error);
    let mut at = RelPath::root();
    for part in path.parts() {
        at = at
            .join(part)
            .map_err(|why| refused(lane, why.to_string(), "Name another folder."))?;
        match root.look(&at).await.map_err(failed)? {
            Some(entry) if entry.kind == katabatic_core::Kind::Folder => {}
            Some(_) => {
                return Err(refused(
                    lane,
                    format!("{} is a file there", far_place(&account.name, &at)),
                    "Name a folder.",
                ));
            }
            None if make => {
                let made = root.make_folder(&at).await;
                if made.map_err(|undone| failed(undone.told()))? == Put::Taken {
                    return Err(refused(
                        lane,
                        format!(
                            "{} came to be a file meanwhile",
                            far_place(&account.name, &at)
                        ),
                        "Try again.",
                    ));
                }
            }
            None => {
                return Err(Error::new(
                    Class::NotThere,
                    format!("the lane {}", lane.name),
                    format!("there is no folder {}", far_place(&account.name, &at)),
                    "Check the spelling; to have it made, say --make.",
                ));
            }
        }
    }
    root.root().await.map(drop).map_err(failed)
}

async fn next_plan(open: OpenLane, ledger: &Ledger, stop: &Stop) -> Result<NextPass, Error> {
    let unwise = unwise(&open.config);
    let mut lacks = Vec::new();
    for side in [Side::Near, Side::Far] {
        lacks.extend(open.store(side).shortcomings().await);
    }
    let pass = Pass {
        lane: open,
        ledger: ledger.clone(),
        clock: Arc::new(SystemClock),
        hook: Arc::new(NoHook),
        stop: stop.clone(),
        progress: Arc::new(Progress::default()),
        read: ReadFiles::default(),
    };
    let plan = pass.plan(&Wish::default()).await?;
    Ok(NextPass {
        first: pass.lane.row.pass == 0,
        far_read_only: pass.lane.far.is_read_only(),
        unwise,
        lacks,
        plan,
    })
}
