//! Where the tool keeps its own things: config, ledger, secrets, spares.
//!
//! With `--home DIR` all of it lies under DIR. Without, the config and the rest follow the XDG base directories.

use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use katabatic_ledger::{Ledger, rows};
use url::Url;

use crate::Error;
use katabatic_sides::net::Line;
use katabatic_sides::net::rate::{Dials, Limits};
use katabatic_sides::net::shared::Shared;
use katabatic_sides::private_files::{check_ours, private_folder, random_hex, write_private};
use katabatic_sides::secret::Secret;
use katabatic_sides::sftp::{AskStep, SftpShared};
use katabatic_sides::side_error::SideError;

/// Asks the person for the passphrase of the secrets; `true` where it is a new one, to be typed twice.
pub type AskPassphrase = Arc<dyn Fn(bool) -> Result<Secret, Error> + Send + Sync>;

/// The tool's own folders.
#[derive(Clone)]
pub struct Home {
    config: PathBuf,
    state: PathBuf,
    ask: Option<AskPassphrase>,
    /// The key of the secrets, once it was opened: nobody is asked twice by one program.
    pub(crate) opened_key: Arc<Mutex<Option<Secret>>>,
    /// Who is asked where a server wants to know more at sign-in than a password.
    ask_step: Option<AskStep>,
    /// What all clients of an account share, by the account's name, and what it was made for.
    shared: SharedByAccount,
    /// The same of accounts by SFTP.
    sftp_shared: SftpByAccount,
    /// What the limits stand at: of all lanes together under no name, of `@ACCOUNT`, of a lane's id.
    dials: Arc<Mutex<HashMap<String, Dials>>>,
}

type SftpByAccount = Arc<Mutex<HashMap<String, (String, SftpShared)>>>;

type SharedByAccount = Arc<Mutex<HashMap<String, (Url, Line, Shared)>>>;

impl std::fmt::Debug for Home {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(
            out,
            "Home({}, {})",
            self.config.display(),
            self.state.display()
        )
    }
}

impl Home {
    /// Opens the ledger; one that came from another computer forgets what only counts there.
    ///
    /// # Errors
    /// As [`Ledger::open`].
    pub fn open_ledger(&self) -> Result<Ledger, Error> {
        let file = self.ledger_file();
        let what = format!("opening the ledger {}", file.display());
        Ledger::open(file, |connection| {
            let Some(before) = self.is_another_computer()? else {
                return Ok(None);
            };
            rows::forget_computer(connection).map_err(|why| {
                Error::failed(
                    what,
                    why,
                    "Keep the file as it is; without it (renamed), the next pass compares both sides and loses nothing.",
                )
            })?;
            self.forget_computer()?;
            Ok(Some(format!(
                "this is another computer than the one this ledger was made on (a copy of its disk, or a home that moved). It got a name of its own; the next pass of each lane compares both sides, and removes nothing. What was kept in accounts before lies in .katabatic/{before} there."
            )))
        })
    }

    /// All under one folder, as `--home` and `KATABATIC_HOME` ask.
    ///
    /// # Errors
    /// Where the folder cannot be made.
    pub fn under(dir: &Path) -> Result<Home, Error> {
        let dir = std::path::absolute(dir).unwrap_or_else(|_| dir.to_owned());
        Home {
            config: dir.clone(),
            state: dir,
            ask: None,
            opened_key: Arc::default(),
            ask_step: None,
            shared: Arc::default(),
            sftp_shared: Arc::default(),
            dials: Arc::default(),
        }
        .made()
    }

    /// In the XDG base directories of the person.
    ///
    /// # Errors
    /// Where there is no home folder, or the folders cannot be made.
    pub fn of_person() -> Result<Home, Error> {
        let variable = |name| {
            std::env::var_os(name)
                .map(PathBuf::from)
                .filter(|path| path.is_absolute())
        };
        let person = variable("HOME").ok_or_else(|| {
            Error::usage(
                "finding the tool's own folder",
                "HOME is not set",
                "Say where config and ledger are to lie: --home DIR.",
            )
        })?;
        let config = variable("XDG_CONFIG_HOME")
            .unwrap_or_else(|| person.join(".config"))
            .join("katabatic");
        let state = variable("XDG_STATE_HOME")
            .unwrap_or_else(|| person.join(".local/state"))
            .join("katabatic");
        Home {
            config,
            state,
            ask: None,
            opened_key: Arc::default(),
            ask_step: None,
            shared: Arc::default(),
            sftp_shared: Arc::default(),
            dials: Arc::default(),
        }
        .made()
    }

    fn made(self) -> Result<Home, Error> {
        for dir in [&self.config, &self.state, &self.secrets()] {
            private_folder(dir)?;
            check_ours(dir)?;
        }
        for file in [self.config_file(), self.ledger_file()] {
            check_ours(&file)?;
        }
        Ok(self)
    }

    /// What all clients of this account share in this program.
    ///
    /// # Errors
    /// Where the line cannot be set up.
    pub(crate) fn shared_of(
        &self,
        account: &str,
        (address, line): (&Url, &Line),
        limits: &Limits,
    ) -> Result<Shared, SideError> {
        let own = self.dials(&format!("@{account}"), limits);
        let all = self.dials_of("");
        let mut known = self.shared.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((known_address, known_line, shared)) = known.get(account)
            && (known_address, known_line) == (address, line)
        {
            return Ok(shared.clone());
        }
        let shared = Shared::new(line, address, [&all, &own])?;
        let kept = (address.clone(), line.clone(), shared.clone());
        known.insert(account.to_owned(), kept);
        Ok(shared)
    }

    /// What all clients of this account by SFTP share in this program: its connection, and its limits.
    /// `made_for` tells all that a connection depends on.
    pub(crate) fn sftp_shared_of(
        &self,
        account: &str,
        made_for: String,
        limits: &Limits,
    ) -> SftpShared {
        let own = self.dials(&format!("@{account}"), limits);
        let all = self.dials_of("");
        let mut known = self
            .sftp_shared
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        if let Some((known_for, shared)) = known.get(account)
            && *known_for == made_for
        {
            return shared.clone();
        }
        let shared = SftpShared::new([&all, &own]);
        known.insert(account.to_owned(), (made_for, shared.clone()));
        shared
    }

    /// With a way to ask the person for what a server wants to know at sign-in besides a password.
    #[must_use]
    pub fn asking_steps(mut self, ask: AskStep) -> Home {
        self.ask_step = Some(ask);
        self
    }

    /// Who is asked for that.
    #[must_use]
    pub fn ask_step(&self) -> Option<AskStep> {
        self.ask_step.clone()
    }

    /// For how long an account asked to be left alone, as far as this program was told.
    pub fn stays_away_from(&self, account: &str) -> Option<Duration> {
        let known = self.shared.lock().unwrap_or_else(PoisonError::into_inner);
        known
            .get(account)
            .and_then(|(.., shared)| shared.stays_away())
    }

    fn dials_of(&self, whose: &str) -> Dials {
        let mut dials = self.dials.lock().unwrap_or_else(PoisonError::into_inner);
        dials.entry(whose.to_owned()).or_default().clone()
    }

    /// The dials of all lanes together (no name), of `@ACCOUNT` or of a lane's id, set to these limits; for what runs
    /// already, too.
    pub fn dials(&self, whose: &str, limits: &Limits) -> Dials {
        let dials = self.dials_of(whose);
        dials.set(limits);
        dials
    }

    /// With a way to ask the person for the passphrase of the secrets.
    #[must_use]
    pub fn asking(mut self, ask: AskPassphrase) -> Home {
        self.ask = Some(ask);
        self
    }

    /// Asks the person for the passphrase of the secrets.
    ///
    /// # Errors
    /// Where there is nobody to ask.
    pub(crate) fn ask_passphrase(&self, new: bool) -> Result<Secret, Error> {
        match &self.ask {
            Some(ask) => ask(new),
            None => Err(Error::usage(
                "opening the secrets",
                "nobody can be asked for the passphrase here",
                "Set KATABATIC_PASSPHRASE.",
            )),
        }
    }

    /// The config file.
    #[must_use]
    pub fn config_file(&self) -> PathBuf {
        self.config.join("katabatic.toml")
    }

    /// The ledger.
    #[must_use]
    pub fn ledger_file(&self) -> PathBuf {
        self.state.join("ledger.db")
    }

    /// The folder of the secrets' files.
    #[must_use]
    pub fn secrets(&self) -> PathBuf {
        self.state.join("secrets")
    }

    /// The folder for everything that is no config.
    #[must_use]
    pub fn state(&self) -> &Path {
        &self.state
    }

    /// The folder where a lane's near spares and staging lie, if that is on the near root's file system.
    #[must_use]
    pub fn lane_room(&self, lane_id: &str) -> PathBuf {
        self.state.join("lanes").join(lane_id)
    }

    fn computer_failed(&self, why: &std::io::Error) -> Error {
        Error::failed(
            format!(
                "keeping this computer's name in {}",
                self.state.join("computer").display()
            ),
            why,
            "Look at the folder's rights.",
        )
    }

    /// The name of this computer, and what stands for the machine it was made on; none before it is made.
    fn known_computer(&self) -> Result<Option<(String, Option<String>)>, Error> {
        match fs::read_to_string(self.state.join("computer")) {
            Ok(text) => {
                let mut lines = text.lines().map(str::trim).filter(|line| !line.is_empty());
                let name = lines.next().map(str::to_owned);
                Ok(name.map(|name| (name, lines.next().map(str::to_owned))))
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(self.computer_failed(&error)),
        }
    }

    /// The name of the computer that ledger and name were made on, where that is another one: this is a copy of its disk,
    /// or a home that moved.
    pub(crate) fn is_another_computer(&self) -> Result<Option<String>, Error> {
        let Some((name, Some(known))) = self.known_computer()? else {
            return Ok(None);
        };
        Ok(machine().filter(|here| *here != known).map(|_| name))
    }

    /// Forgets this computer's name; it gets another one when it is needed.
    pub(crate) fn forget_computer(&self) -> Result<(), Error> {
        fs::remove_file(self.state.join("computer")).map_err(|why| self.computer_failed(&why))
    }

    /// The name by which this computer's own folder on a far side is known; made once.
    ///
    /// # Errors
    /// Where it cannot be read or kept.
    pub fn computer(&self) -> Result<String, Error> {
        if let Some((name, _)) = self.known_computer()? {
            return Ok(name);
        }
        let host = rustix::system::uname()
            .nodename()
            .to_string_lossy()
            .into_owned();
        let host: String = host
            .chars()
            .filter(|c| c.is_ascii_alphanumeric() || *c == '-')
            .take(32)
            .collect();
        let name = format!(
            "{}-{}",
            if host.is_empty() { "computer" } else { &host },
            random_hex(3)?
        );
        let text = format!("{name}\n{}\n", machine().unwrap_or_default());
        write_private(&self.state.join("computer"), text.as_bytes())
            .map_err(|why| self.computer_failed(&why))?;
        Ok(name)
    }
}

/// What stands for this machine: not its id itself, which is to be kept from others (machine-id(5)).
fn machine() -> Option<String> {
    let id = match std::env::var_os("KATABATIC_MACHINE_ID") {
        Some(file) => fs::read_to_string(file).ok()?,
        None => fs::read_to_string("/etc/machine-id").ok()?,
    };
    let id = id.trim();
    let hash = blake3::derive_key(
        "katabatic: which machine a ledger was made on",
        id.as_bytes(),
    );
    let hex: String = hash[..8].iter().map(|byte| format!("{byte:02x}")).collect();
    (!id.is_empty()).then_some(hex)
}
