//! The agent: runs lanes by itself, as files change and by the clock, and stays out of the way.
//!
//! Everything that touches a file is a pass like any other, with its lock, its brake and its spares; the agent only
//! decides when. Each lane has a worker of its own, which hears what the system tells of its folders, waits
//! until they are quiet, asks the account now and then, and tries again after failures. One agent runs for one home.

mod control;
mod follow;
mod line;
mod news;
mod pace;
mod quiet;
mod service;
mod state;
mod worker;

use std::collections::BTreeMap;
use std::fs::File;
use std::os::unix::fs::OpenOptionsExt;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use katabatic_core::{EditTime, Side};
use notify::{RecursiveMode, Watcher};
use rustix::fs::{FlockOperation, flock};
use tokio::runtime::Handle;
use tokio::signal::unix::{SignalKind, signal};
use tokio::sync::{Semaphore, mpsc, oneshot, watch};

pub use control::{Answer, Ask, Pause, ask};
pub use state::{Doing, LaneNow};

use crate::clock::{Clock, SystemClock};
use crate::config::{Config, LaneConfig};
use crate::ledger::{Ledger, pauses};
use crate::{Class, Error, Home};
use service::Service;
use state::Board;
use worker::{House, Worker};

/// So many passes run at a time: they share a line and a disk.
const AT_A_TIME: usize = 2;

/// An order to end is kept within this time, whatever a server or a disk makes of it.
const ENDS_WITHIN: Duration = Duration::from_secs(5);

/// What a worker is told.
#[derive(Debug)]
enum Word {
    /// Something happened at these paths of the folder on this side.
    Changed(Side, Vec<PathBuf>),
    /// The system could not tell all.
    Lost(String),
    /// Things stand otherwise: look again what is to be done.
    Look,
    /// End after what is being done.
    End,
}

struct Hand {
    lane: LaneConfig,
    tell: mpsc::UnboundedSender<Word>,
    working: oneshot::Receiver<()>,
}

/// Runs until it is told to end.
///
/// # Errors
/// Where another agent runs for this home, or the socket cannot be made.
pub async fn run(
    home: &Home,
    config: Config,
    ledger: &Ledger,
    say: &(dyn Fn(&str) + Sync),
) -> Result<(), Error> {
    let _lock = lock(home)?;
    let listener = control::listen(home)?;
    let (asks, mut asked) = mpsc::unbounded_channel();
    let serving = tokio::spawn(control::serve(listener, asks));
    let (changed_config, mut config_changed) = mpsc::unbounded_channel();
    let _watching = watch_config(home, changed_config)?;
    let (end, ending) = watch::channel(false);
    let house = House {
        home: home.clone(),
        ledger: ledger.clone(),
        board: Board::default(),
        turns: Arc::new(Semaphore::new(AT_A_TIME)),
        ending,
    };
    let mut agent = Agent {
        house,
        config,
        hands: BTreeMap::new(),
        since: SystemClock.now(),
    };
    agent.hire();
    let failed = |why: std::io::Error| Error::failed("listening for signals", why, "Try again.");
    let mut terminate = signal(SignalKind::terminate()).map_err(failed)?;
    let mut interrupt = signal(SignalKind::interrupt()).map_err(failed)?;
    let service = Service::of_environment();
    service.say("READY=1");
    let lanes = agent.hands.len();
    say(&format!(
        "The agent runs, process {}, with {lanes} lanes.",
        std::process::id()
    ));
    let every = service.alive_every();
    let mut alive = tokio::time::interval(every.unwrap_or(Duration::from_secs(3_600)));
    loop {
        tokio::select! {
            _ = terminate.recv() => break,
            _ = interrupt.recv() => break,
            _ = alive.tick() => service.say("WATCHDOG=1"),
            Some(()) = config_changed.recv() => {
                while config_changed.try_recv().is_ok() {}
                agent.read_config(say).await;
            }
            Some((ask, reply)) = asked.recv() => {
                let stops = ask == Ask::Stop;
                let answer = agent.answer(ask).await;
                let _ = reply.send(answer);
                if stops {
                    break;
                }
            }
        }
    }
    service.say("STOPPING=1");
    say("Ending: what is being placed is finished, the rest is set down.");
    let _ = end.send(true);
    agent.house.board.stop_all();
    let all = futures_util::future::join_all(agent.hands.into_values().map(|hand| hand.working));
    if tokio::time::timeout(ENDS_WITHIN, all).await.is_err() {
        say("A pass did not end in time; the next one clears up after it.");
    }
    serving.abort();
    control::put_away(home);
    Ok(())
}

/// Held for as long as the agent runs.
fn lock(home: &Home) -> Result<File, Error> {
    let path = home.state().join("agent.lock");
    let what = || format!("starting the agent of {}", home.state().display());
    let file = std::fs::OpenOptions::new()
        .create(true)
        .truncate(false)
        .write(true)
        .mode(0o600)
        .open(&path)
        .map_err(|why| Error::failed(what(), why, "Look at the folder's rights."))?;
    match flock(&file, FlockOperation::NonBlockingLockExclusive) {
        Ok(()) => Ok(file),
        Err(rustix::io::Errno::WOULDBLOCK) => Err(Error::new(
            Class::Failed,
            what(),
            "an agent runs there already",
            "See it: katabatic agent status",
        )),
        Err(why) => Err(Error::failed(what(), why, "Look at the folder's rights.")),
    }
}

/// Tells of every change of the config, by hand or by a command.
fn watch_config(
    home: &Home,
    tell: mpsc::UnboundedSender<()>,
) -> Result<notify::RecommendedWatcher, Error> {
    let file = home.config_file();
    let folder = file.parent().map_or_else(|| file.clone(), PathBuf::from);
    let name = file.file_name().map(ToOwned::to_owned);
    let failed = |why: notify::Error| {
        Error::failed(
            format!("following the config {}", file.display()),
            why,
            "Raise what this user may watch: sysctl fs.inotify.max_user_instances",
        )
    };
    let mut watcher = notify::recommended_watcher(move |event: notify::Result<notify::Event>| {
        let Ok(event) = event else { return };
        let looks = matches!(event.kind, notify::EventKind::Access(_));
        if !looks
            && event
                .paths
                .iter()
                .any(|path| path.file_name() == name.as_deref())
        {
            let _ = tell.send(());
        }
    })
    .map_err(failed)?;
    watcher
        .watch(&folder, RecursiveMode::NonRecursive)
        .map_err(failed)?;
    Ok(watcher)
}

struct Agent {
    house: House,
    config: Config,
    hands: BTreeMap<String, Hand>,
    since: EditTime,
}

impl Agent {
    /// Starts a worker for every lane that has none; lanes that run only by their name are left to people.
    fn hire(&mut self) {
        for lane in self.config.lanes.clone() {
            if lane.by_name_only || self.hands.contains_key(&lane.name) {
                continue;
            }
            let when = lane.when.iter().map(ToString::to_string).collect();
            self.house.board.add(&lane.name, when);
            let (tell, inbox) = mpsc::unbounded_channel();
            let worker = Worker::new(
                self.house.clone(),
                self.config.clone(),
                lane.clone(),
                inbox,
                tell.clone(),
            );
            let (over, working) = oneshot::channel();
            let runtime = Handle::current();
            // A thread a lane, since a pass keeps to one; and one that hangs in a disk does not keep the agent from ending.
            std::thread::spawn(move || {
                runtime.block_on(worker.run());
                let _ = over.send(());
            });
            let name = lane.name.clone();
            self.hands.insert(
                name,
                Hand {
                    lane,
                    tell,
                    working,
                },
            );
        }
    }

    /// The config was changed: lanes that are otherwise now begin anew, after the pass they are in.
    async fn read_config(&mut self, say: &(dyn Fn(&str) + Sync)) {
        let config = match Config::read(&self.house.home) {
            Ok(config) => config,
            Err(error) => {
                say(&format!(
                    "The config was changed and is not understood; the agent goes on as before. {}",
                    error.why
                ));
                return;
            }
        };
        let other_accounts = config.accounts != self.config.accounts;
        let stays = |hand: &Hand| !other_accounts && config.lanes.contains(&hand.lane);
        let gone: Vec<String> = self
            .hands
            .iter()
            .filter(|(_, hand)| !stays(hand))
            .map(|(name, _)| name.clone())
            .collect();
        for name in gone {
            if let Some(hand) = self.hands.remove(&name) {
                let _ = hand.tell.send(Word::End);
                self.house.board.stop_pass(&name);
                // One that hangs in a disk is left behind; the lock keeps the new one from getting in its way.
                let _ = tokio::time::timeout(ENDS_WITHIN, hand.working).await;
            }
        }
        self.config = config;
        self.hire();
    }

    async fn answer(&mut self, ask: Ask) -> Answer {
        let mut error = None;
        let mut done = true;
        match ask {
            Ask::Status | Ask::Stop => {}
            Ask::StopPass { lane } => done = self.house.board.stop_pass(&lane),
            Ask::Pause { lane, until } => {
                let lane = lane.unwrap_or_default();
                let stops = lane.clone();
                let kept = self
                    .house
                    .ledger
                    .write(move |connection| pauses::set(connection, &lane, until.map(EditTime)));
                error = kept.await.err().map(|error| error.why);
                self.stop_passes(&stops);
            }
            Ask::Resume { lane } => {
                let lane = lane.unwrap_or_default();
                let kept = self
                    .house
                    .ledger
                    .write(move |connection| pauses::end(connection, &lane));
                error = kept.await.err().map(|error| error.why);
            }
        }
        for hand in self.hands.values() {
            let _ = hand.tell.send(Word::Look);
        }
        let pauses = self.house.ledger.read(pauses::all).unwrap_or_default();
        let now = SystemClock.now();
        let everything = pauses
            .get("")
            .filter(|until| until.is_none_or(|until| until > now));
        Answer {
            process: std::process::id(),
            since: self.since.0,
            paused: everything.map(|until| Pause {
                until: until.map(|until| until.0),
            }),
            lanes: self.house.board.look(),
            done: done && error.is_none(),
            error,
        }
    }

    /// What is being carried is set down, so that it goes on later.
    fn stop_passes(&self, lane: &str) {
        match lane {
            "" => self.house.board.stop_all(),
            lane => drop(self.house.board.stop_pass(lane)),
        }
    }
}
