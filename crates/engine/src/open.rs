//! From a lane in the config to its two sides, ready to work with.

use std::sync::Arc;

use katabatic_core::Side;
use url::Url;

use crate::config::{AccountConfig, Config, LaneConfig};
use crate::ledger::Ledger;
use crate::ledger::rows::{self, LaneRow};
use crate::sides::local::LocalSide;
use crate::sides::webdav::{Client, Connection, WebdavSide};
use crate::sides::{SideError, SideStore};
use crate::stop::Stop;
use crate::{Class, Error, Home, secrets};

/// A lane with both its sides.
pub struct OpenLane {
    /// The lane as the config has it.
    pub config: LaneConfig,
    /// What the ledger knows of it.
    pub row: LaneRow,
    /// The near side.
    pub near: LocalSide,
    /// The far side.
    pub far: WebdavSide,
}

impl OpenLane {
    /// One side, behind the trait.
    #[must_use]
    pub fn store(&self, side: Side) -> Arc<dyn SideStore> {
        match side {
            Side::Near => Arc::new(self.near.clone()),
            Side::Far => Arc::new(self.far.clone()),
        }
    }
}

/// A client for an account of the config, with its password from the secrets.
///
/// # Errors
/// Where the password is not there, or the address is not one.
pub fn account_client(home: &Home, account: &AccountConfig, stop: &Stop) -> Result<Client, Error> {
    let password = secrets::recall(home, &account.name)?;
    let address = Url::parse(&account.address).map_err(|why| {
        Error::usage(
            format!("the address of @{}", account.name),
            format!("{}: {why}", account.address),
            "Correct it in the config.",
        )
    })?;
    Client::new(
        Connection {
            address,
            user: account.user.clone(),
            password,
        },
        stop.clone(),
    )
    .map_err(|why| {
        Error::failed(
            format!("connecting to @{}", account.name),
            why,
            "Try again.",
        )
    })
}

/// Opens a lane.
///
/// # Errors
/// [`Class::NotThere`] where the near folder is not there.
pub async fn open_lane(
    home: &Home,
    config: &Config,
    ledger: &Ledger,
    lane: &LaneConfig,
    stop: &Stop,
) -> Result<OpenLane, Error> {
    let client = account_client(home, config.account(&lane.account)?, stop)?;
    let far = WebdavSide::new(client, lane.far.clone(), &home.computer()?, &lane.id);
    let near_failed = |why: &SideError| side_failed(lane, Side::Near, why);
    // Before anything is made at the root: another drive at the same path gets no folder of ours.
    let known = ledger
        .read(|connection| rows::lane_of(connection, &lane.id))?
        .and_then(|row| row.near_root);
    if let Some(known) = known {
        check_near_mark(
            lane,
            &known,
            &LocalSide::recognise(&lane.near).map_err(|why| near_failed(&why))?,
        )?;
    }
    let near = LocalSide::open(
        &lane.near,
        &home.lane_room(&lane.id),
        &lane.id,
        stop.clone(),
    )
    .map_err(|why| near_failed(&why))?;
    let id = lane.id.clone();
    let row = ledger
        .write(move |connection| {
            rows::ensure_lane(connection, &id)?;
            rows::lane_of(connection, &id)?.ok_or(rusqlite::Error::QueryReturnedNoRows)
        })
        .await?;
    Ok(OpenLane {
        config: lane.clone(),
        row,
        near,
        far,
    })
}

/// Makes sure that the folder at the near root is the one that was tied.
///
/// # Errors
/// [`Class::NotThere`] where it is another one.
pub(crate) fn check_near_mark(lane: &LaneConfig, known: &str, found: &str) -> Result<(), Error> {
    if known == found {
        return Ok(());
    }
    Err(Error::new(
        Class::NotThere,
        format!(
            "the near side of lane {}, {}",
            lane.name,
            lane.near.display()
        ),
        "another folder is there than the one that was tied (an empty mount point, or a new folder of the same name)",
        "Mount or plug in the drive. If the folder was really replaced, remove the lane and add it again: the first pass compares and removes nothing.",
    ))
}

/// A side's error as it reaches a person.
#[must_use]
pub fn side_failed(lane: &LaneConfig, side: Side, error: &SideError) -> Error {
    let (place, next) = match side {
        Side::Near => (
            lane.near.display().to_string(),
            "Is the drive plugged in and mounted? Nothing was removed on either side.",
        ),
        Side::Far => (
            lane.far_place(),
            "Is the network up, and the folder still there? Nothing was removed on either side.",
        ),
    };
    let what = format!("the {} side of lane {}, {place}", side.name(), lane.name);
    match error {
        SideError::NotThere(why) => Error::new(Class::NotThere, what, why, next),
        SideError::Refused(why) => Error::new(
            Class::Refused,
            what,
            why,
            format!(
                "Check the sign-in: katabatic account test {}. Nothing was removed on either side.",
                lane.account
            ),
        ),
        SideError::Stopped => Error::new(
            Class::Stopped,
            what,
            "stopped by Ctrl-C",
            "Sync again to go on.",
        ),
        other => Error::failed(
            what,
            other,
            "Sync again; nothing was removed on either side.",
        ),
    }
}
