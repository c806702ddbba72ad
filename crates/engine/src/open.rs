//! From a lane in the config to its two sides, ready to work with.

use std::path::Path;
use std::sync::Arc;

use katabatic_core::{EditTime, RelPath, Side};

use crate::accounts::address;
use crate::accounts::device_grant::Tokens;
use crate::accounts::tokens::TokenKeeper;
use crate::config::{AccountConfig, Config, LaneConfig, SignIn};
use crate::drives::Found;
use crate::local_time::in_words;
use crate::lock::LockAt;
use crate::secrets;
use crate::{Class, Error, Home};
use katabatic_core::known_root::{KnownRoot, Recognised};
use katabatic_core::place::Place;
use katabatic_ledger::Ledger;
use katabatic_ledger::account_rows;
use katabatic_ledger::rows::{self, LaneRow};
use katabatic_sides::account::{AccountClient, KnownServer};
use katabatic_sides::away::AwaySide;
use katabatic_sides::explain::untrusted;
use katabatic_sides::local::LocalSide;
use katabatic_sides::net::rate::{Dials, Limits};
use katabatic_sides::private_files::private_folder;
use katabatic_sides::sftp::{self, SftpClient, WayIn};
use katabatic_sides::side_error::{Away, Refusal};
use katabatic_sides::stop::Stop;
use katabatic_sides::webdav::{Client, Connection, Signer};
use katabatic_sides::{SideError, SideStore};
use url::Url;

/// A lane with both its sides.
#[derive(Clone)]
pub struct OpenLane {
    /// The lane as the config has it.
    pub config: LaneConfig,
    /// What the ledger knows of it.
    pub row: LaneRow,
    /// The near side.
    pub near: Arc<dyn SideStore>,
    /// The far side.
    pub far: Arc<dyn SideStore>,
    /// Why the far side is not there, where the lane was opened all the same, only to look at what is known.
    pub far_away: Option<String>,
    /// What is locked while something is changed.
    pub lock_at: LockAt,
    /// What was found out about ledger and roots when it was opened, in a sentence for a person.
    pub notice: Option<String>,
    /// What intents and spares name as the folder they are of, where that is in no lane.
    pub place: Option<String>,
    /// Where the settings are read again under the lock; none in a trial, which has no file of them.
    pub home: Option<Home>,
}

impl OpenLane {
    /// A lane between these sides, with no lock.
    pub(crate) fn of(
        config: LaneConfig,
        row: LaneRow,
        near: Arc<dyn SideStore>,
        far: Arc<dyn SideStore>,
    ) -> OpenLane {
        OpenLane {
            config,
            row,
            near,
            far,
            far_away: None,
            lock_at: LockAt::default(),
            notice: None,
            place: None,
            home: None,
        }
    }

    /// One side, behind the trait.
    #[must_use]
    pub fn store(&self, side: Side) -> Arc<dyn SideStore> {
        match side {
            Side::Near => Arc::clone(&self.near),
            Side::Far => Arc::clone(&self.far),
        }
    }
}

/// As far as clocks of healthy computers may differ between two passes, in nanoseconds.
const CLOCKS_DIFFER: i64 = 3_600_000_000_000;

impl OpenLane {
    /// Says that this computer's clock stands before the last pass.
    ///
    /// No decision depends on it, but names with dates do, and what is shown.
    #[must_use]
    pub fn clock_is_behind(&self, now: EditTime) -> Option<String> {
        let seen = self.row.seen_at?;
        (seen.0.saturating_sub(now.0) > CLOCKS_DIFFER).then(|| {
            format!(
                "the clock of this computer says {}, and the last pass of lane {} was {}: set the clock. What is carried does not depend on it, but the dates in names and lists do.",
                in_words(now),
                self.config.name,
                in_words(seen)
            )
        })
    }
}

/// Where an account lies.
///
/// # Errors
/// Where the address is not one.
pub fn address_of(account: &AccountConfig) -> Result<Url, Error> {
    // A config that was edited by hand gets the same rules as an address that was typed.
    let understood = address::understand(&account.address, account.plain_http);
    understood
        .map(|understood| understood.url)
        .map_err(|error| {
            Error::usage(
                format!("the address of @{}", account.name),
                error.why,
                format!("Correct it in the config. {}", error.next),
            )
        })
}

/// How an account by SFTP is reached and signed in to, with its secret.
///
/// # Errors
/// Where the secret is not there, or the address is not one.
pub fn sftp_connection_of(home: &Home, account: &AccountConfig) -> Result<sftp::Connection, Error> {
    let odd = |why: String| {
        Error::new(
            Class::Refused,
            format!("signing in to @{}", account.name),
            why,
            format!("Sign in again: katabatic account sign-in {}", account.name),
        )
    };
    let secret = || secrets::recall(home, &account.name, account.keeping);
    let way = match account.sign_in {
        SignIn::Basic => WayIn::Password(secret()?),
        SignIn::Key => WayIn::Key {
            file: account
                .key
                .clone()
                .ok_or_else(|| odd("the config names no file with its key".into()))?,
            // A key that is not locked has none.
            passphrase: Some(secret()?).filter(|secret| !secret.reveal().is_empty()),
        },
        SignIn::Agent => WayIn::Agent,
        SignIn::Device => return Err(odd("SFTP knows no sign-in by a code".into())),
    };
    sftp_connection_with(home, account, way)
}

/// How an account by SFTP is reached, with this way to sign in.
///
/// # Errors
/// Where the address is not one.
pub fn sftp_connection_with(
    home: &Home,
    account: &AccountConfig,
    way: WayIn,
) -> Result<sftp::Connection, Error> {
    Ok(sftp::Connection {
        trust: account.trust.clone(),
        patience: account.line().patience,
        read_only: account.read_only,
        ask: home.ask_step(),
        ..sftp::Connection::new(address_of(account)?, &account.user, way)
    })
}

/// How an account by WebDAV is reached and signed in to, with its secret.
///
/// # Errors
/// Where the secret is not there, or the address is not one.
pub fn connection_of(home: &Home, account: &AccountConfig) -> Result<Connection, Error> {
    let secret = secrets::recall(home, &account.name, account.keeping)?;
    let signer = match account.sign_in {
        SignIn::Basic => Signer::Basic {
            user: account.user.clone(),
            password: secret,
        },
        SignIn::Device => {
            let tokens = Tokens::from_secret(&secret).ok_or_else(|| {
                Error::new(
                    Class::Refused,
                    format!("signing in to @{}", account.name),
                    "what is kept as its secret are no tokens",
                    format!("Sign in again: katabatic account sign-in {}", account.name),
                )
            })?;
            let (keeping, line) = (Some(account.keeping), account.line());
            let keeper = TokenKeeper::new(home.clone(), &account.name, keeping, line, tokens);
            Signer::Tokens(Arc::new(keeper))
        }
        SignIn::Key | SignIn::Agent => {
            return Err(Error::usage(
                format!("signing in to @{}", account.name),
                "a key is for accounts by SFTP, and this one is by WebDAV",
                format!("Sign in again: katabatic account sign-in {}", account.name),
            ));
        }
    };
    connection_with(account, signer)
}

/// How an account is reached, with this way to sign in.
///
/// # Errors
/// Where the address is not one.
pub fn connection_with(account: &AccountConfig, signer: Signer) -> Result<Connection, Error> {
    Ok(Connection {
        address: address_of(account)?,
        signer,
        line: account.line(),
        principal: account.principal.clone(),
        read_only: account.read_only,
    })
}

/// A client for an account of the config, with its secret.
///
/// # Errors
/// Where the secret is not there, or the address is not one.
pub fn account_client(
    home: &Home,
    account: &AccountConfig,
    stop: &Stop,
) -> Result<AccountClient, Error> {
    limited_client(home, account, stop, &Dials::default())
}

/// The same with dials of its own, beside those of the account.
pub(crate) fn limited_client(
    home: &Home,
    account: &AccountConfig,
    stop: &Stop,
    dials: &Dials,
) -> Result<AccountClient, Error> {
    if account.is_sftp() {
        let connection = sftp_connection_of(home, account)?;
        // Limits have dials of their own, which a connection follows.
        let made_for = AccountConfig {
            limits: Limits::default(),
            ..account.clone()
        };
        let shared = home.sftp_shared_of(&account.name, format!("{made_for:?}"), &account.limits);
        let client = SftpClient::sharing(connection, stop.clone(), &shared, dials);
        return Ok(AccountClient::Sftp(client));
    }
    let connection = connection_of(home, account)?;
    let known = home.shared_of(
        &account.name,
        (&connection.address, &connection.line),
        &account.limits,
    );
    let shared = known.map_err(|why| not_connected(account, &why))?;
    let client = Client::sharing(connection, stop.clone(), &shared, dials);
    Ok(AccountClient::Webdav(Box::new(client)))
}

fn not_connected(account: &AccountConfig, why: &SideError) -> Error {
    Error::failed(
        format!("connecting to @{}", account.name),
        why,
        format!("See what it uses: katabatic account show {}", account.name),
    )
}

/// A client for an account by WebDAV over this connection.
///
/// # Errors
/// Where the line cannot be set up.
pub fn client_with(
    account: &AccountConfig,
    connection: Connection,
    stop: &Stop,
) -> Result<Client, Error> {
    Client::new(connection, stop.clone()).map_err(|why| not_connected(account, &why))
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
    let open = |side: Side| open_side(home, config, ledger, (lane, side), stop);
    let (near, far) = (open(Side::Near)?, open(Side::Far)?);
    let mut opened = between(ledger, lane, near, far, lock_at(home, lane)?).await?;
    opened.home = Some(home.clone());
    Ok(opened)
}

/// Opens a lane to tell how it stands, also where the drive of its far side is not plugged in.
///
/// # Errors
/// As [`open_lane`], but for a far side that is not there.
pub async fn open_lane_to_look(
    home: &Home,
    config: &Config,
    ledger: &Ledger,
    lane: &LaneConfig,
    stop: &Stop,
) -> Result<OpenLane, Error> {
    let open = |side: Side| open_side(home, config, ledger, (lane, side), stop);
    let (far, away) = match open(Side::Far) {
        Err(error) if error.class == Class::NotThere => {
            let away: Arc<dyn SideStore> = Arc::new(AwaySide(error.why.clone()));
            (away, Some(error.why))
        }
        far => (far?, None),
    };
    let mut opened = between(ledger, lane, open(Side::Near)?, far, lock_at(home, lane)?).await?;
    opened.far_away = away;
    opened.home = Some(home.clone());
    Ok(opened)
}

/// Opens one side of a lane, without a look at it.
///
/// # Errors
/// Where a folder of this computer is not there, or the account cannot be signed in to.
pub fn open_side(
    home: &Home,
    config: &Config,
    ledger: &Ledger,
    (lane, side): (&LaneConfig, Side),
    stop: &Stop,
) -> Result<Arc<dyn SideStore>, Error> {
    let (account, path) = match lane.place(side) {
        Place::Local(root) => {
            return Ok(Arc::new(open_here(home, ledger, lane, (side, root), stop)?));
        }
        Place::Far { account, path } => (account, path),
    };
    home.dials("", &config.limits);
    let dials = home.dials(&lane.id, &lane.limits);
    let account = config.account(account)?;
    let client = limited_client(home, account, stop, &dials)?;
    let known = known_server(ledger, account)?;
    let room = (&home.computer()?[..], &lane.id[..]);
    Ok(client.folder(path.clone(), room, &known))
}

/// What was found out about an account's server.
///
/// # Errors
/// As the ledger says.
pub(crate) fn known_server(ledger: &Ledger, account: &AccountConfig) -> Result<KnownServer, Error> {
    let (takes_dots, findings) = ledger.read(|connection| {
        let takes_dots = account_rows::takes_dots(connection, &account.name)?;
        Ok((
            takes_dots,
            account_rows::findings(connection, &account.name)?,
        ))
    })?;
    Ok(KnownServer {
        without_dots: !takes_dots,
        findings: findings.map(|(_, findings)| findings),
    })
}

/// Opens a side that is a folder of this computer.
///
/// # Errors
/// [`Class::NotThere`] where the folder, or the drive it lies on, is not there.
pub fn open_here(
    home: &Home,
    ledger: &Ledger,
    lane: &LaneConfig,
    (side, root): (Side, &Path),
    stop: &Stop,
) -> Result<LocalSide, Error> {
    let row = ledger.read(|connection| rows::lane_of(connection, &lane.id))?;
    let room = room_of_side(home, &lane.id, side);
    let known = match side {
        Side::Near => row.and_then(|row| row.near_root_at(&lane.near).cloned()),
        Side::Far => row.and_then(|row| row.far_root),
    };
    open_local(lane, side, root, known, &room, stop)
}

/// Where with the tool's state a lane would keep its own things for a folder of this computer.
pub(crate) fn room_of_side(home: &Home, lane_id: &str, side: Side) -> std::path::PathBuf {
    let room = home.lane_room(lane_id);
    match side {
        Side::Near => room,
        Side::Far => room.join("far"),
    }
}

/// What is locked while something is changed in a lane.
///
/// # Errors
/// Where the lane's own room cannot be made.
pub(crate) fn lock_at(home: &Home, lane: &LaneConfig) -> Result<LockAt, Error> {
    let room = home.lane_room(&lane.id);
    private_folder(&room).map_err(|error| {
        Error::failed(
            format!("making the lane's own folder {}", room.display()),
            error.why,
            "Look at the rights and the room there.",
        )
    })?;
    Ok(LockAt {
        room: Some(room),
        near: lane.near.local().map(Path::to_owned),
    })
}

/// A lane between two sides that are open already.
///
/// # Errors
/// Where the ledger cannot be read or written.
pub async fn between(
    ledger: &Ledger,
    lane: &LaneConfig,
    near: Arc<dyn SideStore>,
    far: Arc<dyn SideStore>,
    lock_at: LockAt,
) -> Result<OpenLane, Error> {
    let (id, terms) = (lane.id.clone(), lane.terms_text());
    let noted = near.noted_pass().await;
    let (row, is_older) = ledger
        .write(move |connection| {
            rows::ensure_lane(connection, &id)?;
            let row = rows::lane_of(connection, &id)?;
            let known = row.as_ref().map_or((0, 0), |row| (row.pass, row.noted));
            // A lane that knows of no pass has nothing to forget.
            let is_older = noted.is_some_and(|noted| known.0 > 0 && noted.abs_diff(known.1) > 1);
            if let (true, Some(row), Some(noted)) = (is_older, &row, noted) {
                rows::set_noted(connection, row.key, noted)?;
            }
            if is_older {
                rows::forget_agreed(connection, &id)?;
            }
            let row = rows::lane_of(connection, &id)?;
            Ok((row.ok_or(rusqlite::Error::QueryReturnedNoRows)?, is_older))
        })
        .await?;
    let mut row = row;
    if row.terms.as_ref().is_some_and(|known| *known != terms) {
        // Under other terms other things stood aside, which no token tells of.
        row.token = None;
    }
    let notice = is_older.then(|| {
        format!(
            "lane {}: ledger and folder know of different passes, so one of them was restored from a backup. What was agreed on is forgotten; the next pass compares both sides, and removes nothing.",
            lane.name
        )
    });
    Ok(OpenLane {
        lock_at,
        notice,
        ..OpenLane::of(lane.clone(), row, near, far)
    })
}

/// Makes sure that the drive is plugged in, and no other one in its place.
fn check_drive(lane: &LaneConfig, side: Side, root: &Path) -> Result<(), Error> {
    let Some(drive) = lane.drive(side) else {
        return Ok(());
    };
    let why = match drive.find(root) {
        Found::At(_) => return Ok(()),
        Found::NotPluggedIn(None) => format!("the drive {} is not plugged in", drive.name),
        Found::NotPluggedIn(Some(other)) => format!(
            "the drive {} is not plugged in; another one is at {}: {}",
            drive.name,
            other.mounted_at.display(),
            other.label.unwrap_or(other.uuid)
        ),
    };
    Err(Error::new(
        Class::NotThere,
        lane.side_words(side),
        why,
        format!(
            "Plug the drive {} in; wherever it is mounted, it is found. Nothing was removed on either side.",
            drive.name
        ),
    ))
}

/// Opens a folder of this computer. Before anything is made at its root: another drive at the same path gets no folder
/// of ours.
fn open_local(
    lane: &LaneConfig,
    side: Side,
    root: &Path,
    known: Option<KnownRoot>,
    room: &Path,
    stop: &Stop,
) -> Result<LocalSide, Error> {
    let failed = |why: SideError| side_failed(lane, side, &why);
    check_drive(lane, side, root)?;
    if let Some(known) = known {
        check_root(
            lane,
            side,
            &known,
            &LocalSide::recognise(root).map_err(failed)?,
        )?;
    }
    LocalSide::open(root, room, &lane.id, stop.clone()).map_err(failed)
}

/// Makes sure that the folder at a root on this computer is the one that was tied.
///
/// # Errors
/// [`Class::NotThere`] where it is another one.
pub(crate) fn check_root(
    lane: &LaneConfig,
    side: Side,
    known: &KnownRoot,
    found: &KnownRoot,
) -> Result<(), Error> {
    let (why, next) = match known.recognises(found) {
        Recognised::Itself => return Ok(()),
        Recognised::Copy => (
            "a copy of the folder that was tied is there, and not that folder itself; what is not in the copy, or not yet, would count as removed",
            match side {
                Side::Near => format!(
                    "If it is to take its place, give it another name and move the lane to that: it is compared, what is missing comes back, and nothing is removed. katabatic lane relocate {} NEW-NAME",
                    lane.name
                ),
                Side::Far => format!(
                    "If it is to take its place, remove the lane and add it again: the first pass compares, brings what is missing and removes nothing. katabatic lane remove {}",
                    lane.name
                ),
            },
        ),
        Recognised::Other => (
            "another folder is there than the one that was tied (an empty mount point, or a new folder of the same name)",
            "Mount or plug in the drive. If the folder was really replaced, remove the lane and add it again: the first pass compares and removes nothing.".to_owned(),
        ),
    };
    Err(Error::new(
        Class::NotThere,
        lane.side_words(side),
        why,
        next,
    ))
}

/// A side's error as it reaches a person.
#[must_use]
pub fn side_failed(lane: &LaneConfig, side: Side, error: &SideError) -> Error {
    told_of(lane, side, error).of_side(side)
}

/// What to do where a side answers and the folder is not there.
fn no_folder_next(lane: &LaneConfig, side: Side) -> String {
    let name = &lane.name;
    match lane.place(side) {
        Place::Local(_) => {
            "Is the drive plugged in and mounted? If the folder was moved or renamed, put it back. Nothing was removed on either side.".into()
        }
        Place::Far { account, path } => {
            let above = path.parent().unwrap_or_else(RelPath::root);
            let list = katabatic_core::words::typed(&format!("@{account}/{above}"));
            let other = match side {
                Side::Far => format!("; or tie the lane to another folder: katabatic lane change {name} --far @{account}/FOLDER"),
                Side::Near => String::new(),
            };
            format!(
                "The account answers, so somebody removed, renamed or moved the folder there. See what is there: katabatic list {list}. Put it back under its name (the server may keep removed things in a bin of its own){other}. Nothing was removed on either side."
            )
        }
    }
}

fn told_of(lane: &LaneConfig, side: Side, error: &SideError) -> Error {
    let next = match lane.account(side) {
        Some(_) => "Is the network up? Nothing was removed on either side.",
        _ => "Is the drive plugged in and mounted? Nothing was removed on either side.",
    };
    let account = lane.account(side).unwrap_or_default();
    let what = lane.side_words(side);
    match error {
        SideError::NotThere(said) if said.kind == Away::LeftAlone => Error::new(
            Class::NotThere,
            what,
            said,
            "Sync again then; an agent does so by itself. Nothing was removed on either side.",
        ),
        SideError::NotThere(said) if said.kind == Away::NoFolder => {
            Error::new(Class::NotThere, what, said, no_folder_next(lane, side))
        }
        SideError::NotThere(said) => Error::new(Class::NotThere, what, said, next),
        SideError::Untrusted(distrust) => untrusted(&what, account, distrust),
        SideError::Refused(said) if said.kind == Refusal::OtherAccount => Error::new(
            Class::Refused,
            what,
            said,
            format!(
                "Nothing was carried. If the person really changed accounts, add the new one under another name, then: {}. Else sign in as before: katabatic account sign-in {account}.",
                match side {
                    Side::Far => format!("katabatic lane change {} --far @NEW/FOLDER", lane.name),
                    Side::Near => format!(
                        "take the lane away (katabatic lane remove {}) and tie the new folder",
                        lane.name
                    ),
                }
            ),
        ),
        SideError::Refused(said) => Error::new(
            Class::Refused,
            what,
            said,
            format!(
                "Check the sign-in: katabatic account test {account}. Nothing was removed on either side."
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
