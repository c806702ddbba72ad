//! The ledger: what both sides last agreed on, what was last seen, what is about to happen, and what happened.
//!
//! One SQLite database, write-ahead logged, `synchronous = FULL`. All writes go through one thread that commits
//! whatever is waiting as one transaction, so that eight transfers in flight share a sync of the disk instead of
//! queueing for one each. Reads open connections of their own.

pub mod account_rows;
pub(crate) mod block_rows;
pub mod intents;
pub(crate) mod partial_rows;
pub mod rows;
pub mod runs;
mod schema;
pub mod spare_rows;
#[cfg(test)]
mod tests;

use std::path::{Path, PathBuf};
use std::sync::mpsc;
use std::thread;

use rusqlite::{Connection, OpenFlags};
use tokio::sync::oneshot;

use crate::Error;
use crate::home::Home;

type Deed = Box<dyn FnOnce(&Connection) -> rusqlite::Result<()> + Send>;

struct Job {
    deed: Deed,
    done: Option<oneshot::Sender<Result<(), String>>>,
}

/// The open ledger; cheap to clone.
#[derive(Clone)]
pub struct Ledger {
    file: PathBuf,
    jobs: mpsc::Sender<Job>,
}

/// The number a lane has inside the ledger.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct LaneKey(pub i64);

/// As many writes as are put into one commit at the most.
const BATCH: usize = 512;

impl Ledger {
    /// Opens the ledger of a home, making or migrating it where needed.
    ///
    /// # Errors
    /// Where it cannot be opened, is damaged, or was written by a newer version.
    pub fn open(home: &Home) -> Result<Ledger, Error> {
        let file = home.ledger_file();
        let fail = |why: &dyn std::fmt::Display| {
            Error::failed(
                format!("opening the ledger {}", file.display()),
                why,
                "Keep the file as it is; without it (renamed), the next pass compares both sides and loses nothing.",
            )
        };
        let mut connection = connect(&file, OpenFlags::default()).map_err(|why| fail(&why))?;
        restrict(&file);
        schema::migrate(&mut connection).map_err(|why| fail(&why))?;
        let (jobs, inbox) = mpsc::channel();
        thread::Builder::new()
            .name("ledger".into())
            .spawn(move || keep_writing(&mut connection, &inbox))
            .map_err(|why| fail(&why))?;
        Ok(Ledger { file, jobs })
    }

    /// Writes, and waits until it is on the disk.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    pub async fn write<T: Send + Sync + 'static>(
        &self,
        deed: impl FnOnce(&Connection) -> rusqlite::Result<T> + Send + 'static,
    ) -> Result<T, Error> {
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
        self.jobs.send(job).map_err(|_| ended())?;
        match outcome.await {
            Ok(Ok(())) => take.await.map_err(|_| ended()),
            Ok(Err(why)) => Err(self.failed(&why)),
            Err(_) => Err(ended()),
        }
    }

    /// Writes without waiting; [`Ledger::flush`] tells whether all such writes arrived.
    pub fn write_later(
        &self,
        deed: impl FnOnce(&Connection) -> rusqlite::Result<()> + Send + 'static,
    ) {
        // A thread that has ended left the reason in `broken`, which `flush` reports.
        let _ = self.jobs.send(Job {
            deed: Box::new(deed),
            done: None,
        });
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
        query(&self.reader()?).map_err(|why| self.failed(&why.to_string()))
    }

    pub(crate) fn failed(&self, why: &str) -> Error {
        Error::failed(
            format!("the ledger {}", self.file.display()),
            why,
            "Look at the disk's room and the file's rights, then sync again; nothing carried so far is lost.",
        )
    }
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

fn keep_writing(connection: &mut Connection, inbox: &mpsc::Receiver<Job>) {
    // The first failure, also of a write that nobody waited for: after it nothing more is written, so that no later
    // write stands in the ledger without the one it builds on.
    let mut broken: Option<String> = None;
    while let Ok(first) = inbox.recv() {
        let mut batch = vec![first];
        while batch.len() < BATCH
            && let Ok(job) = inbox.try_recv()
        {
            batch.push(job);
        }
        let (deeds, waiting): (Vec<Deed>, Vec<_>) =
            batch.into_iter().map(|job| (job.deed, job.done)).unzip();
        if broken.is_none() {
            broken = commit(connection, deeds).err().map(|why| why.to_string());
        }
        for done in waiting.into_iter().flatten() {
            // Whoever stopped waiting needs no answer.
            let _ = done.send(broken.clone().map_or(Ok(()), Err));
        }
    }
}

fn commit(connection: &mut Connection, deeds: Vec<Deed>) -> rusqlite::Result<()> {
    let transaction =
        connection.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
    for deed in deeds {
        deed(&transaction)?;
    }
    transaction.commit()
}
