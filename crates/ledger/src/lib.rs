//! The ledger: what both sides last agreed on, what was last seen, what is about to happen, and what happened.
//!
//! One SQLite database, write-ahead logged, `synchronous = FULL`. All writes go through one thread that commits
//! whatever is waiting as one transaction, so that eight transfers in flight share a sync of the disk instead of
//! queueing for one each. Reads open connections of their own.

#![forbid(unsafe_code)]

pub mod account_rows;
pub mod block_rows;
mod facts;
pub mod intents;
mod mend;
mod older_forms;
pub mod partial_rows;
pub mod pauses;
mod process;
mod reserve;
pub mod rows;
pub mod runs;
mod schema;
pub mod shelf_rows;
pub mod spare_rows;
#[cfg(test)]
mod tests;
pub mod written_rows;

use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError, mpsc};
use std::thread;

use rusqlite::{Connection, ErrorCode, OpenFlags};
use tokio::sync::oneshot;

use katabatic_core::words;

use katabatic_core::Error;

type Writing = Box<dyn FnOnce(&Connection) -> rusqlite::Result<()> + Send>;

struct Job {
    deed: Writing,
    done: Option<oneshot::Sender<Result<(), WriteError>>>,
}

/// Why nothing is written any more.
#[derive(Clone, Debug)]
enum WriteError {
    /// There is no room.
    Full,
    /// SQLite says why.
    Other(String),
}

impl WriteError {
    fn of(why: &rusqlite::Error) -> WriteError {
        match why.sqlite_error_code() {
            Some(ErrorCode::DiskFull) => WriteError::Full,
            _ => WriteError::Other(why.to_string()),
        }
    }
}

/// The open ledger; cheap to clone.
#[derive(Clone)]
pub struct Ledger {
    file: PathBuf,
    writer: Writer,
    /// What had to be put right when it was opened, in sentences for a person.
    pub mended: Vec<String>,
}

#[derive(Clone)]
enum Writer {
    /// A thread of its own, which commits whatever is waiting.
    Thread(mpsc::Sender<Job>),
    /// Whoever waits for a write commits it, with all that came before.
    Here(Arc<Mutex<InMemory>>),
}

/// A ledger in memory, and the writes that nobody has waited for yet.
struct InMemory {
    connection: Connection,
    waiting: Vec<Writing>,
}

/// The number a lane has inside the ledger.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct LaneKey(pub i64);

/// As many writes as are put into one commit at the most.
const BATCH: usize = 512;

impl Ledger {
    /// Opens the ledger in a file, making or migrating it where needed. What `first` does is done before anything else uses
    /// it, and what it says is told.
    ///
    /// # Errors
    /// Where it cannot be opened, is damaged, or was written by a newer version; and as `first` says.
    pub fn open(
        file: PathBuf,
        first: impl FnOnce(&Connection) -> Result<Option<String>, Error>,
    ) -> Result<Ledger, Error> {
        let fail = |why: &dyn std::fmt::Display| {
            Error::failed(
                format!("opening the ledger {}", file.display()),
                why,
                "Keep the file as it is; without it (renamed), the next pass compares both sides and loses nothing.",
            )
        };
        reserve::make_room(&file).map_err(|why| no_room(&file, &why))?;
        let mut mended = Vec::new();
        let opened = match mend::is_noted(&file) {
            true => Err(OpenError::Damaged),
            false => prepared(&file),
        };
        let mut connection = match opened {
            Ok(connection) => connection,
            Err(OpenError::Damaged) => {
                let aside = mend::set_aside(&file).map_err(|why| fail(&why))?;
                let connection = prepared(&file).map_err(|why| fail(&why))?;
                let spares = mend::salvage(&connection, &aside);
                mended.push(format!(
                    "the ledger was damaged and cannot be trusted. It was set aside as {}; {} taken over into a new one. The next pass of each lane compares both sides, and removes nothing.",
                    aside.display(),
                    words::count(spares, "spare was", "spares were")
                ));
                connection
            }
            Err(OpenError::Full) => return Err(no_room(&file, &io::ErrorKind::StorageFull.into())),
            Err(error @ OpenError::Other(_)) => return Err(fail(&error)),
        };
        mended.extend(first(&connection)?);
        let (jobs, inbox) = mpsc::channel();
        let at = file.clone();
        thread::Builder::new()
            .name("ledger".into())
            .spawn(move || keep_writing(&mut connection, &inbox, &at))
            .map_err(|why| fail(&why))?;
        Ok(Ledger {
            file,
            writer: Writer::Thread(jobs),
            mended,
        })
    }

    /// A ledger in memory, for trials: it has no thread, so that a trial can be repeated exactly, and what nobody waited
    /// for is lost with [`Ledger::lose_what_waits`], as it is when a process is killed.
    ///
    /// # Errors
    /// Where SQLite cannot make one.
    pub fn in_memory() -> Result<Ledger, Error> {
        let fail =
            |why: &dyn std::fmt::Display| Error::failed("making a ledger in memory", why, "");
        let mut connection = Connection::open_in_memory().map_err(|why| fail(&why))?;
        schema::migrate(&mut connection).map_err(|why| fail(&why))?;
        let waiting = Vec::new();
        Ok(Ledger {
            file: PathBuf::from("in memory"),
            writer: Writer::Here(Arc::new(Mutex::new(InMemory {
                connection,
                waiting,
            }))),
            mended: Vec::new(),
        })
    }

    /// Forgets what was written without waiting, where the ledger is in memory; how much that was.
    pub fn lose_what_waits(&self) -> usize {
        match &self.writer {
            Writer::Thread(_) => 0,
            Writer::Here(ledger) => {
                let mut ledger = ledger.lock().unwrap_or_else(PoisonError::into_inner);
                std::mem::take(&mut ledger.waiting).len()
            }
        }
    }

    /// Writes, and waits until it is on the disk.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    pub async fn write<T: Send + Sync + 'static>(
        &self,
        deed: impl FnOnce(&Connection) -> rusqlite::Result<T> + Send + 'static,
    ) -> Result<T, Error> {
        let jobs = match &self.writer {
            Writer::Thread(jobs) => jobs,
            Writer::Here(ledger) => {
                let mut ledger = ledger.lock().unwrap_or_else(PoisonError::into_inner);
                return ledger
                    .write(deed)
                    .map_err(|why| self.failed(&why.to_string()));
            }
        };
        let (done, outcome) = oneshot::channel();
        let (give, take) = oneshot::channel();
        let deed = move |connection: &Connection| {
            // Whoever stopped waiting needs no result.
            let _ = give.send(deed(connection)?);
            Ok(())
        };
        let job = Job {
            deed: Box::new(deed),
            done: Some(done),
        };
        let ended = || self.failed("its thread has ended");
        jobs.send(job).map_err(|_| ended())?;
        match outcome.await {
            Ok(Ok(())) => take.await.map_err(|_| ended()),
            Ok(Err(WriteError::Full)) => {
                Err(no_room(&self.file, &io::ErrorKind::StorageFull.into()))
            }
            Ok(Err(WriteError::Other(why))) => Err(self.failed(&why)),
            Err(_) => Err(ended()),
        }
    }

    /// Writes without waiting; [`Ledger::flush`] tells whether all such writes arrived.
    pub fn write_later(
        &self,
        deed: impl FnOnce(&Connection) -> rusqlite::Result<()> + Send + 'static,
    ) {
        let deed = Box::new(deed);
        match &self.writer {
            Writer::Thread(jobs) => {
                // A thread that has ended left the reason in `broken`, which `flush` reports.
                let _ = jobs.send(Job { deed, done: None });
            }
            Writer::Here(ledger) => {
                let mut ledger = ledger.lock().unwrap_or_else(PoisonError::into_inner);
                ledger.waiting.push(deed);
            }
        }
    }

    /// Waits until everything written so far is on the disk.
    ///
    /// # Errors
    /// The first write that failed.
    pub async fn flush(&self) -> Result<(), Error> {
        self.write(|_| Ok(())).await
    }

    /// A connection for reading.
    ///
    /// # Errors
    /// Where the file cannot be opened.
    pub fn reader(&self) -> Result<Connection, Error> {
        connect(
            &self.file,
            OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX,
        )
        .map_err(|why| self.failed(&why.to_string()))
    }

    /// Reads with a connection of its own.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn read<T>(
        &self,
        query: impl FnOnce(&Connection) -> rusqlite::Result<T>,
    ) -> Result<T, Error> {
        let found = match &self.writer {
            Writer::Thread(_) => query(&self.reader()?),
            Writer::Here(ledger) => {
                let ledger = ledger.lock().unwrap_or_else(PoisonError::into_inner);
                query(&ledger.connection)
            }
        };
        found.map_err(|why| {
            if mend::is_damage(&why) {
                mend::note_damage(&self.file);
            }
            self.failed(&why.to_string())
        })
    }

    /// Notes that what was read cannot be: the next program that opens the ledger sets it aside.
    pub fn distrust(&self) {
        mend::note_damage(&self.file);
    }

    /// What a person is told where the ledger cannot be used.
    pub fn failed(&self, why: &str) -> Error {
        if mend::is_noted(&self.file) {
            return Error::failed(
                format!("the ledger {}", self.file.display()),
                format!("it is damaged: {why}"),
                "Say the same again: the ledger is set aside then, and the next pass compares both sides and removes nothing.",
            );
        }
        Error::failed(
            format!("the ledger {}", self.file.display()),
            why,
            "Look at the disk's room and the file's rights, then sync again; nothing carried so far is lost.",
        )
    }
}

impl InMemory {
    fn write<T>(
        &mut self,
        deed: impl FnOnce(&Connection) -> rusqlite::Result<T>,
    ) -> rusqlite::Result<T> {
        let waiting = std::mem::take(&mut self.waiting);
        commit(&mut self.connection, waiting)?;
        let transaction = self.connection.transaction()?;
        let result = deed(&transaction)?;
        transaction.commit()?;
        Ok(result)
    }
}

/// Why a ledger could not be opened.
#[derive(Debug, thiserror::Error)]
enum OpenError {
    #[error("it is damaged")]
    Damaged,
    #[error("its disk is full")]
    Full,
    #[error("{0}")]
    Other(String),
}

/// Opened, and in the form of this version.
fn prepared(file: &Path) -> Result<Connection, OpenError> {
    let sorted = |why: rusqlite::Error| match mend::is_damage(&why) {
        true => OpenError::Damaged,
        false if why.sqlite_error_code() == Some(ErrorCode::DiskFull) => OpenError::Full,
        false => OpenError::Other(why.to_string()),
    };
    let mut connection = connect(file, OpenFlags::default()).map_err(sorted)?;
    restrict(file);
    schema::migrate(&mut connection).map_err(|why| match why.downcast::<rusqlite::Error>() {
        Ok(why) => sorted(*why),
        Err(why) => OpenError::Other(why.to_string()),
    })?;
    Ok(connection)
}

fn connect(file: &Path, flags: OpenFlags) -> rusqlite::Result<Connection> {
    let connection = Connection::open_with_flags(file, flags)?;
    connection.busy_timeout(std::time::Duration::from_secs(30))?;
    connection.set_prepared_statement_cache_capacity(64);
    Ok(connection)
}

/// The names of a person's files are nobody else's business.
fn restrict(file: &Path) {
    use std::os::unix::fs::PermissionsExt;
    // The folder around it is private already; this is the second lock.
    let _ = std::fs::set_permissions(file, std::fs::Permissions::from_mode(0o600));
}

fn keep_writing(connection: &mut Connection, inbox: &mpsc::Receiver<Job>, file: &Path) {
    // The first failure, also of a write that nobody waited for: after it nothing more is written, so that no later
    // write stands in the ledger without the one it builds on.
    let mut broken: Option<WriteError> = None;
    while let Ok(first) = inbox.recv() {
        let mut batch = vec![first];
        while batch.len() < BATCH
            && let Ok(job) = inbox.try_recv()
        {
            batch.push(job);
        }
        let (deeds, waiting): (Vec<Writing>, Vec<_>) =
            batch.into_iter().map(|job| (job.deed, job.done)).unzip();
        if broken.is_none() {
            broken = reserve::make_room(file).err().map(|why| match why.kind() {
                io::ErrorKind::StorageFull => WriteError::Full,
                _ => WriteError::Other(why.to_string()),
            });
        }
        if broken.is_none() {
            broken = commit(connection, deeds).err().map(|why| {
                if mend::is_damage(&why) {
                    mend::note_damage(file);
                }
                WriteError::of(&why)
            });
        }
        for done in waiting.into_iter().flatten() {
            // Whoever stopped waiting needs no answer.
            let _ = done.send(broken.clone().map_or(Ok(()), Err));
        }
    }
}

fn no_room(file: &Path, why: &io::Error) -> Error {
    let why = match why.kind() {
        io::ErrorKind::StorageFull => "the disk that it lies on is full".to_owned(),
        _ => why.to_string(),
    };
    Error::failed(
        format!("the ledger {}", file.display()),
        why,
        "Free some room on that disk, a megabyte does, and do the same again. Nothing is lost.",
    )
}

fn commit(connection: &mut Connection, deeds: Vec<Writing>) -> rusqlite::Result<()> {
    let transaction =
        connection.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
    for deed in deeds {
        deed(&transaction)?;
    }
    transaction.commit()
}
