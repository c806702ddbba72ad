//! A file that somebody writes to all the time: it waits, and holds up nobody else.

use std::fs::OpenOptions;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;

use rusqlite::Connection;

use crate::worlds::{Desk, tree};

/// Its length: so long that somebody writes to it while it is read, however busy the computer is.
pub const LENGTH: u64 = 40_000_000;

/// Somebody who writes into a file without a pause, until this is dropped.
pub struct Writer {
    over: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

impl Writer {
    /// Begins; the file has tens of megabytes, so that it cannot be read between two of the writes.
    pub fn of(path: &Path) -> Writer {
        let over = Arc::new(AtomicBool::new(false));
        let file = OpenOptions::new()
            .create(true)
            .truncate(false)
            .write(true)
            .open(path)
            .unwrap();
        file.set_len(LENGTH).unwrap();
        let ended = Arc::clone(&over);
        let thread = std::thread::spawn(move || {
            let mut at: u64 = 0;
            while !ended.load(Ordering::Relaxed) {
                file.write_at(&[b'x'; 512], at % LENGTH).unwrap();
                at += 512;
            }
        });
        Writer {
            over,
            thread: Some(thread),
        }
    }
}

impl Drop for Writer {
    fn drop(&mut self) {
        self.over.store(true, Ordering::Relaxed);
        if let Some(thread) = self.thread.take() {
            thread.join().unwrap();
        }
    }
}

/// As if all that is being written had been so for longer, by so many seconds.
pub fn written_since(desk: &Desk, seconds: i64) {
    let ledger = Connection::open(desk.path("home/ledger.db")).unwrap();
    let changed = ledger
        .execute(
            "UPDATE being_written SET since = since - ?1",
            [seconds * 1_000_000_000],
        )
        .unwrap();
    assert_eq!(changed, 1);
}

#[test]
fn what_is_being_written_waits_and_the_rest_goes_on() {
    let desk = Desk::tied(&[]);
    desk.write_near("letter.txt", "written in one go");
    let writer = Writer::of(&desk.near().join("log"));
    // By hand nobody is told that all is settled.
    desk.run(&["sync"])
        .ends(3)
        .says("log")
        .says("it is being written")
        .says("1 file is carried by the next sync that finds nobody writing to it");
    assert!(desk.far().join("letter.txt").exists());
    assert!(!desk.far().join("log").exists());
    desk.run(&["runs"]).says("1 file is still written");
    let status = desk.run(&["status", "--json"]).ends(0).json();
    assert_eq!(status["lanes"][0]["counts"]["waiting up"], 1);
    assert_eq!(
        status["lanes"][0]["counts"]["stuck"],
        serde_json::Value::Null
    );
    desk.run(&["doctor"]).ends(0);
    drop(writer);
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&desk.near()), tree(&desk.far()));
    // The same for one that is there already, of the same length as what is there.
    let writer = Writer::of(&desk.near().join("log"));
    desk.run(&["sync"]).ends(3).says("it is being written");
    drop(writer);
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&desk.near()), tree(&desk.far()));
}

#[test]
fn what_could_never_be_read_is_told_after_a_day() {
    let desk = Desk::tied(&[]);
    desk.write_near("letter.txt", "written in one go");
    let writer = Writer::of(&desk.near().join("log"));
    desk.run(&["sync"]).ends(3);
    written_since(&desk, 25 * 3_600);
    desk.run(&["sync"])
        .ends(3)
        .says("stuck")
        .says("written without a pause for a day");
    desk.run(&["doctor"]).ends(3).says("1 path is stuck");
    drop(writer);
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&desk.near()), tree(&desk.far()));
}
