//! Adding a lane: both places are looked at, other lanes' claims are respected, and nothing is carried.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use katabatic_core::RelPath;

use crate::clock::SystemClock;
use crate::config::{AccountConfig, Config, Direction, LaneConfig, far_place};
use crate::ledger::{Ledger, intents, rows};
use crate::net::rate::Limits;
use crate::open::{OpenLane, account_client, open_lane, side_failed};
use crate::pass::{Pass, Plan, Progress, ReadFiles, Wish};
use crate::place::absolute;
use crate::seam::NoHook;
use crate::sides::webdav::WebdavSide;
use crate::sides::{Put, SideError, SideStore};
use crate::stop::Stop;
use crate::{Class, Error, Home, home};

/// A lane that somebody wants to add.
#[derive(Clone, Debug)]
pub struct NewLane {
    /// Its name.
    pub name: String,
    /// The near folder.
    pub near: PathBuf,
    /// The account of the far side.
    pub account: String,
    /// The far folder.
    pub far: RelPath,
    /// Whether a missing folder is made.
    pub make: bool,
    /// How much of it may go over the line in a second.
    pub limits: Limits,
}

/// Checks a new lane, says what its first pass would do, and saves it. Nothing is carried.
///
/// # Errors
/// A name or a place that cannot be used, with the reason; nothing is saved then.
pub async fn add(
    home: &Home,
    config: &mut Config,
    ledger: &Ledger,
    new: NewLane,
    stop: &Stop,
) -> Result<FirstPlan, Error> {
    config.check_free(
        "lane",
        &new.name,
        config.lanes.iter().any(|lane| lane.name == new.name),
    )?;
    let lane = LaneConfig {
        name: new.name,
        id: home::random_hex(8)?,
        near: absolute(&new.near),
        account: new.account,
        far: new.far,
        direction: Direction::TwoWay,
        limits: new.limits,
    };
    check_own_home(home, &lane.near)?;
    for other in &config.lanes {
        check_overlap(config, &lane, other)?;
    }
    let account = config.account(&lane.account)?;
    check_near(&lane, new.make)?;
    check_far(home, account, &lane, new.make, stop).await?;
    let open = open_lane(home, config, ledger, &lane, stop).await?;
    let plan = first_plan(open, ledger, stop).await?;
    config.add_lane(lane)?;
    Ok(plan)
}

/// What the first pass of a lane would do.
#[derive(Debug)]
pub struct FirstPlan {
    /// The plan.
    pub plan: Plan,
    /// Whether nothing can be written to the far side.
    pub far_read_only: bool,
}

/// What tying a lane to another far folder would do: both sides are compared as at a first pass. Nothing is changed.
///
/// # Errors
/// A place that cannot be used, with the reason.
pub async fn preview_change(
    home: &Home,
    config: &Config,
    ledger: &Ledger,
    name: &str,
    far: (&str, &RelPath),
    stop: &Stop,
) -> Result<FirstPlan, Error> {
    let before = config.lane(name)?.clone();
    let lane = LaneConfig {
        account: far.0.to_owned(),
        far: far.1.clone(),
        ..before
    };
    check_finished(ledger, &lane.id, &format!("changing the lane {name}"), name)?;
    for other in config.lanes.iter().filter(|other| other.name != name) {
        check_overlap(config, &lane, other)?;
    }
    check_far(home, config.account(&lane.account)?, &lane, false, stop).await?;
    let mut open = open_lane(home, config, ledger, &lane, stop).await?;
    // A lane in the ledger that nothing was ever agreed in, looked at instead of the real one.
    let empty = home::random_hex(8)?;
    let (id, drop_id) = (empty.clone(), empty);
    open.row = ledger
        .write(move |connection| {
            rows::ensure_lane(connection, &id)?;
            rows::lane_of(connection, &id)?.ok_or(rusqlite::Error::QueryReturnedNoRows)
        })
        .await?;
    let plan = first_plan(open, ledger, stop).await;
    ledger
        .write(move |connection| rows::drop_lane(connection, &drop_id))
        .await?;
    plan
}

/// Ties a lane to another far folder. The ledger forgets what was agreed, so that the next pass is a first pass, which
/// compares and removes nothing; spares of the old far side stay known with the place they lie in.
///
/// # Errors
/// Where ledger or config cannot be written.
pub async fn change_far(
    config: &mut Config,
    ledger: &Ledger,
    name: &str,
    far: (&str, &RelPath),
) -> Result<(), Error> {
    let lane = config.lane(name)?.clone();
    let _lock = crate::lock::lock(&lane.near)?;
    check_finished(ledger, &lane.id, &format!("changing the lane {name}"), name)?;
    let (id, place) = (lane.id.clone(), lane.far_place());
    // The ledger first: cut off between the two, the next pass is a first pass with the old folder, and harmless.
    ledger
        .write(move |connection| rows::untie_far(connection, &id, &place))
        .await?;
    config.change_far(name, far.0, far.1.clone())
}

/// Takes a lane away; every file stays on both sides.
///
/// # Errors
/// Where config or ledger cannot be written.
pub async fn remove(config: &mut Config, ledger: &Ledger, name: &str) -> Result<(), Error> {
    let id = config.lane(name)?.id.clone();
    check_finished(ledger, &id, &format!("removing the lane {name}"), name)?;
    config.remove_lane(name)?;
    ledger
        .write(move |connection| rows::forget_lane(connection, &id))
        .await
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

fn refused(lane: &LaneConfig, why: String, next: &str) -> Error {
    Error::usage(format!("adding the lane {}", lane.name), why, next)
}

fn check_own_home(home: &Home, near: &Path) -> Result<(), Error> {
    let own = absolute(home.state());
    if near.starts_with(&own) || own.starts_with(near) {
        return Err(Error::usage(
            format!("the near folder {}", near.display()),
            format!(
                "the tool keeps its own things in {}, and would carry itself",
                own.display()
            ),
            "Choose another folder, or another home with --home DIR.",
        ));
    }
    Ok(())
}

/// Two lanes that both write to one place would undo each other's work.
fn check_overlap(config: &Config, lane: &LaneConfig, other: &LaneConfig) -> Result<(), Error> {
    let relation = |inside: bool, around: bool| match (inside, around) {
        (true, true) => Some("is"),
        (true, false) => Some("lies inside"),
        (false, true) => Some("lies around"),
        (false, false) => None,
    };
    let other_near = absolute(&other.near);
    let near = relation(
        lane.near.starts_with(&other_near),
        other_near.starts_with(&lane.near),
    );
    let (place, others_place) = (far_address(config, lane)?, far_address(config, other)?);
    let within = |a: &[String], b: &[String]| a.len() >= b.len() && a[..b.len()] == *b;
    let far = relation(within(&place, &others_place), within(&others_place, &place));
    let clash = near
        .map(|how| format!("{} {how} {}", lane.near.display(), other.near.display()))
        .or_else(|| far.map(|how| format!("{} {how} {}", lane.far_place(), other.far_place())));
    match clash {
        Some(clash) => Err(refused(
            lane,
            format!("{clash}, which the lane {} writes to already", other.name),
            "Choose another folder, or remove that lane first; its files stay on both sides.",
        )),
        None => Ok(()),
    }
}

/// Server, user and folder, whatever the account is called here.
fn far_address(config: &Config, lane: &LaneConfig) -> Result<Vec<String>, Error> {
    let account = config.account(&lane.account)?;
    let url = url::Url::parse(&account.address).map_err(|why| {
        Error::usage(
            format!("the address of @{}", account.name),
            why.to_string(),
            "Correct it in the config.",
        )
    })?;
    let mut address = vec![
        url.host_str().unwrap_or_default().to_owned(),
        url.port_or_known_default().unwrap_or_default().to_string(),
        account.user.clone(),
    ];
    let decoded = percent_encoding::percent_decode_str(url.path())
        .decode_utf8_lossy()
        .into_owned();
    address.extend(
        decoded
            .split('/')
            .filter(|part| !part.is_empty())
            .map(str::to_owned),
    );
    address.extend(lane.far.parts().map(str::to_owned));
    Ok(address)
}

fn check_near(lane: &LaneConfig, make: bool) -> Result<(), Error> {
    match lane.near.metadata() {
        Ok(meta) if meta.is_dir() => Ok(()),
        Ok(_) => Err(refused(
            lane,
            format!("{} is a file", lane.near.display()),
            "Name a folder.",
        )),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound && make => {
            std::fs::create_dir_all(&lane.near).map_err(|why| {
                refused(
                    lane,
                    format!("{} could not be made: {why}", lane.near.display()),
                    "Name another folder.",
                )
            })
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Err(Error::new(
            Class::NotThere,
            format!("adding the lane {}", lane.name),
            format!("there is no folder {}", lane.near.display()),
            "Check the spelling; to have it made, say --make.",
        )),
        Err(error) => Err(refused(
            lane,
            format!("{}: {error}", lane.near.display()),
            "Look at the folder's rights.",
        )),
    }
}

async fn check_far(
    home: &Home,
    account: &AccountConfig,
    lane: &LaneConfig,
    make: bool,
    stop: &Stop,
) -> Result<(), Error> {
    let client = account_client(home, account, stop)?;
    let root = WebdavSide::new(client, RelPath::root(), "none", "none");
    let failed = |error: SideError| side_failed(lane, katabatic_core::Side::Far, &error);
    let mut at = RelPath::root();
    for part in lane.far.parts() {
        at = at
            .join(part)
            .map_err(|why| refused(lane, why.to_string(), "Name another folder."))?;
        match root.look(&at).await.map_err(failed)? {
            Some(entry) if entry.kind == katabatic_core::Kind::Folder => {}
            Some(_) => {
                return Err(refused(
                    lane,
                    format!("{} is a file there", far_place(&lane.account, &at)),
                    "Name a folder.",
                ));
            }
            None if make => {
                if root.make_folder(&at).await.map_err(failed)? == Put::Taken {
                    return Err(refused(
                        lane,
                        format!(
                            "{} came to be a file meanwhile",
                            far_place(&lane.account, &at)
                        ),
                        "Try again.",
                    ));
                }
            }
            None => {
                return Err(Error::new(
                    Class::NotThere,
                    format!("adding the lane {}", lane.name),
                    format!("there is no folder {}", far_place(&lane.account, &at)),
                    "Check the spelling; to have it made, say --make.",
                ));
            }
        }
    }
    root.root().await.map(drop).map_err(failed)
}

async fn first_plan(open: OpenLane, ledger: &Ledger, stop: &Stop) -> Result<FirstPlan, Error> {
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
    Ok(FirstPlan {
        far_read_only: pass.lane.far.is_read_only(),
        plan,
    })
}
