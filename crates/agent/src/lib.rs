//! The agent: runs lanes by itself, as files change and by the clock, and stays out of the way.
//!
//! Everything that touches a file is a pass like any other, with its lock, its brake and its spares; the agent only
//! decides when. Each lane has a worker of its own, which hears what the system tells of its folders, waits
//! until they are quiet, asks the account now and then, and tries again after failures. One agent runs for one home.

#![forbid(unsafe_code)]

mod control;
mod ear;
mod follow;
mod let_in;
mod line;
mod news;
mod opening_words;
mod openings;
mod pace;
mod quiet;
mod service;
mod state;
mod surroundings;
mod telling;
mod worker;

use std::collections::BTreeMap;
use std::fs::File;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use katabatic_core::condition::Surroundings;
use katabatic_core::schedule::When;
use katabatic_core::{EditTime, Side, words};
use notify::{RecursiveMode, Watcher};
use rustix::event::{PollFd, PollFlags, poll};
use rustix::fs::{FlockOperation, flock};
use rustix::process::{Pid, setpriority_process};
use tokio::runtime::Handle;
use tokio::signal::unix::{SignalKind, signal};
use tokio::sync::{Semaphore, mpsc, oneshot, watch};

pub use control::{Answer, Ask, Pause, ask, died};
pub use let_in::{KeptOut, OpeningsNow, UnderWay};
pub use state::{Doing, LaneNow};
pub use telling::try_telling;

use katabatic_engine::config::{AccountConfig, Config, LaneConfig};
use katabatic_engine::{Class, Error, Home};
use katabatic_ledger::{Ledger, pauses};
use katabatic_sides::clock::{Clock, SystemClock};
use let_in::LetIn;
use openings::Openings;
use service::Service;
use state::Board;
use surroundings::ShuttingDown;
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
    /// Somebody wants it to go on.
    GoOn,
    /// The config is otherwise, in limits alone.
    Limits(Box<Config>),
    /// Something was mounted or went away.
    Mounts,
    /// The lane begins anew, because its drive was plugged in.
    Plugged,
    /// The computer is about to be shut down; dropped once a last pass has ended.
    AtEnd(oneshot::Sender<()>),
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
    opener: &Path,
    say: &(dyn Fn(&str) + Sync),
) -> Result<(), Error> {
    let _lock = lock(home)?;
    be_nice();
    let listener = control::listen(home)?;
    let (asks, mut asked) = mpsc::unbounded_channel();
    let serving = tokio::spawn(control::serve(listener, asks));
    let (changed_config, mut config_changed) = mpsc::unbounded_channel();
    let _watching = watch_config(home, changed_config)?;
    let (end, ending) = watch::channel(false);
    let (around, around_now) = watch::channel(Surroundings::default());
    let (tell, told) = mpsc::unbounded_channel();
    let telling = tokio::spawn(telling::tell(config.tell.clone(), told));
    let (shutting_down, mut shut_down) = mpsc::unbounded_channel();
    let (mounts, mut mounted) = mpsc::unbounded_channel();
    // It ends with the program: nothing wakes it but a mount.
    std::thread::spawn(move || {
        if let Err(why) = follow_mounts(&mounts) {
            tracing::debug!("what is mounted is not followed: {why}");
        }
    });
    let house = House {
        home: home.clone(),
        ledger: ledger.clone(),
        board: Board::default(),
        turns: Arc::new(Semaphore::new(AT_A_TIME)),
        ending,
        around: around_now,
        tell,
    };
    let (config_now, configs) = watch::channel(config.clone());
    let let_in = LetIn::new();
    let openings = Openings {
        home: home.clone(),
        ledger: ledger.clone(),
        tell: house.tell.clone(),
        opener: opener.to_owned(),
        state: Arc::new(Mutex::new("it is not known yet".into())),
        let_in: let_in.clone(),
    };
    let opening_state = Arc::clone(&openings.state);
    let opening = tokio::spawn(openings::serve(openings, configs, house.ending.clone()));
    let mut agent = Agent {
        house,
        config,
        config_now,
        opening_state,
        let_in,
        hands: BTreeMap::new(),
        since: SystemClock.now(),
        around,
        shutting_down,
        following: None,
    };
    agent.hire();
    agent.follow_surroundings();
    let failed = |why: std::io::Error| Error::failed("listening for signals", why, "Try again.");
    let mut terminate = signal(SignalKind::terminate()).map_err(failed)?;
    let mut interrupt = signal(SignalKind::interrupt()).map_err(failed)?;
    let service = Service::of_environment();
    service.say("READY=1");
    let lanes = agent.hands.len() as u64;
    say(&format!(
        "The agent runs, process {}, with {}.",
        std::process::id(),
        words::count(lanes, "lane", "lanes")
    ));
    let every = service.alive_every();
    let mut alive = tokio::time::interval(every.unwrap_or(Duration::from_secs(3_600)));
    loop {
        tokio::select! {
            _ = terminate.recv() => {
                // Whoever logs off, or whoever shuts down without asking, tells nothing else.
                agent.run_at_end(say).await;
                break;
            }
            Some(_held_up) = shut_down.recv() => agent.run_at_end(say).await,
            Some(()) = mounted.recv() => {
                while mounted.try_recv().is_ok() {}
                agent.hear_of_drives(say).await;
            }
            _ = interrupt.recv() => break,
            _ = alive.tick() => service.say("WATCHDOG=1"),
            Some(()) = config_changed.recv() => {
                while config_changed.try_recv().is_ok() {}
                agent.read_config(say).await;
            }
            Some(question) = asked.recv() => {
                let stops = question.ask == Ask::Stop;
                let answer = agent.answer(question.ask).await;
                let _ = question.reply.send(answer);
                if stops {
                    // Whoever asked is to have the answer before the end.
                    let _ = tokio::time::timeout(ENDS_WITHIN, question.handed_over).await;
                    break;
                }
            }
        }
    }
    service.say("STOPPING=1");
    say("Ending: what is being placed is finished, the rest is set down.");
    let _ = end.send(true);
    agent.house.board.stop_all();
    let hands = std::mem::take(&mut agent.hands);
    let all = futures_util::future::join_all(hands.into_values().map(|hand| hand.working));
    if tokio::time::timeout(ENDS_WITHIN, all).await.is_err() {
        say("A pass did not end in time; the next one clears up after it.");
    }
    if tokio::time::timeout(ENDS_WITHIN, opening).await.is_err() {
        say("The stubs keep their rights; the next start takes them.");
    }
    serving.abort();
    drop(agent.config_now);
    drop(agent.house);
    if let Some(following) = agent.following {
        following.abort();
    }
    // What was to be told at once is told; what was gathered for later is in the runs.
    let _ = tokio::time::timeout(ENDS_WITHIN, telling).await;
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

/// What runs keeps to other limits at once.
fn set_dials(home: &Home, config: &Config) {
    home.dials("", &config.limits);
    for account in &config.accounts {
        home.dials(&format!("@{}", account.name), &account.limits);
    }
    for lane in &config.lanes {
        home.dials(&lane.id, &lane.limits);
    }
}

/// Whether they differ in limits at most.
fn same_accounts(some: &[AccountConfig], others: &[AccountConfig]) -> bool {
    let same = |(one, other): (&AccountConfig, &AccountConfig)| {
        let limits = other.limits.clone();
        AccountConfig {
            limits,
            ..one.clone()
        } == *other
    };
    some.len() == others.len() && some.iter().zip(others).all(same)
}

/// The agent's own work comes after that of the person, on the processor and, which follows it, on the disk.
fn be_nice() {
    const NICE: i32 = 10;
    for thread in std::fs::read_dir("/proc/self/task")
        .into_iter()
        .flatten()
        .flatten()
    {
        let number = thread
            .file_name()
            .to_str()
            .and_then(|name| name.parse().ok());
        if let Some(thread) = number.and_then(Pid::from_raw) {
            // One that ended meanwhile needs it no more; nicer than that it may be already.
            let _ = setpriority_process(Some(thread), NICE);
        }
    }
}

/// A last pass before the end takes no longer than this, within what systemd allows a service (docs/guide.md).
const LAST_PASSES: Duration = Duration::from_secs(12);

/// Tells of everything that is mounted or goes away (proc_pid_mountinfo(5)).
fn follow_mounts(tell: &mpsc::UnboundedSender<()>) -> std::io::Result<()> {
    let mounts = File::open("/proc/self/mountinfo")?;
    loop {
        let mut about = [PollFd::new(&mounts, PollFlags::PRI)];
        match poll(&mut about, None) {
            Ok(_) => {}
            Err(rustix::io::Errno::INTR) => continue,
            Err(why) => return Err(why.into()),
        }
        if tell.send(()).is_err() {
            return Ok(());
        }
    }
}

struct Agent {
    house: House,
    config: Config,
    /// The config for those who only look at it.
    config_now: watch::Sender<Config>,
    /// Why programs cannot open stubs; empty where they can.
    opening_state: Arc<Mutex<String>>,
    let_in: LetIn,
    hands: BTreeMap<String, Hand>,
    since: EditTime,
    around: watch::Sender<Surroundings>,
    shutting_down: mpsc::UnboundedSender<ShuttingDown>,
    /// What follows the surroundings, and whether it holds up a shutdown.
    following: Option<Following>,
}

/// Follows the surroundings until it is dropped.
struct Following {
    task: tokio::task::JoinHandle<()>,
    holds_up: bool,
}

impl Following {
    fn abort(self) {
        self.task.abort();
    }
}

impl Agent {
    /// Follows what is around the computer, where any lane asks for it.
    fn follow_surroundings(&mut self) {
        let lanes = || self.config.lanes.iter();
        let holds_up = lanes().any(|lane| lane.when.contains(&When::AtEnd));
        let idle = |lane: &LaneConfig| lane.when.iter().any(|when| matches!(when, When::Idle(_)));
        let asks = holds_up || lanes().any(|lane| !lane.only_on.is_empty() || idle(lane));
        if !asks || matches!(&self.following, Some(known) if known.holds_up == holds_up) {
            return;
        }
        if let Some(other) = self.following.take() {
            other.abort();
        }
        let (around, at_end) = (self.around.clone(), self.shutting_down.clone());
        let task = tokio::spawn(surroundings::follow(around, at_end, holds_up));
        self.following = Some(Following { task, holds_up });
    }

    /// Runs the lanes that run before the end, all together.
    async fn run_at_end(&mut self, say: &(dyn Fn(&str) + Sync)) {
        let at_end = |hand: &&Hand| hand.lane.when.contains(&When::AtEnd);
        let mut done = Vec::new();
        for hand in self.hands.values().filter(at_end) {
            let (ends, ended) = oneshot::channel();
            if hand.tell.send(Word::AtEnd(ends)).is_ok() {
                done.push(ended);
            }
        }
        if done.is_empty() {
            return;
        }
        say("The computer or the session ends: a last pass runs.");
        let all = futures_util::future::join_all(done);
        if tokio::time::timeout(LAST_PASSES, all).await.is_err() {
            say("The last pass did not end in time; the rest is carried next time.");
        }
    }

    /// A drive may have come, at another place than before; or it went away.
    async fn hear_of_drives(&mut self, say: &(dyn Fn(&str) + Sync)) {
        let before: Vec<LaneConfig> = self.config.lanes.clone();
        self.read_config(say).await;
        for (name, hand) in &self.hands {
            let moved = before.iter().all(|lane| *lane != hand.lane);
            let word = if moved { Word::Plugged } else { Word::Mounts };
            if hand.tell.send(word).is_err() {
                tracing::debug!("lane {name} has ended");
            }
        }
    }

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
        set_dials(&self.house.home, &config);
        let other_accounts = !same_accounts(&config.accounts, &self.config.accounts);
        let stays = |hand: &Hand| {
            let same = |lane: &LaneConfig| {
                let limits = hand.lane.limits.clone();
                LaneConfig {
                    limits,
                    ..lane.clone()
                } == hand.lane
            };
            !other_accounts && config.lanes.iter().any(same)
        };
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
        for hand in self.hands.values_mut() {
            if let Ok(lane) = config.lane(&hand.lane.name) {
                hand.lane = lane.clone();
            }
            let _ = hand.tell.send(Word::Limits(Box::new(config.clone())));
        }
        if config.tell != self.config.tell {
            let told = Box::new(config.tell.clone());
            let _ = self.house.tell.send(telling::Word::Config(told));
        }
        self.config = config;
        self.config_now.send_replace(self.config.clone());
        self.hire();
        self.follow_surroundings();
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
                let of = lane.clone();
                let kept = self
                    .house
                    .ledger
                    .write(move |connection| pauses::end(connection, &lane));
                error = kept.await.err().map(|error| error.why);
                let goes_on = |(name, _): &(&String, &Hand)| of.is_empty() || **name == of;
                for (_, hand) in self.hands.iter().filter(goes_on) {
                    let _ = hand.tell.send(Word::GoOn);
                }
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
            stubs_stay_closed: {
                let state = self.opening_state.lock();
                let why = state.unwrap_or_else(PoisonError::into_inner).clone();
                Some(why).filter(|why| !why.is_empty())
            },
            openings: self.let_in.look(),
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
