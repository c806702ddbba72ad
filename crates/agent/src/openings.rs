//! Stubs that open themselves: where an opener runs on this computer, a program that opens a stub waits while its content
//! comes, and then goes on as if nothing had been.
//!
//! A stub has rights only while the opener asks about it. They are taken away in the same moment as nobody asks any
//! more: when the agent or the opener ends, and at the next start where they could not. The content goes into the very
//! file that was opened, since the program holds that one; until all of it is there, nobody is let in.

use katabatic_sides::{Describes as _, HoldsStubs as _};
use std::collections::BTreeMap;
use std::fs::File;
use std::io;
use std::os::fd::{AsRawFd, OwnedFd};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use futures_util::StreamExt;
use katabatic_core::telling::{Kind, Message};
use katabatic_core::{
    Base, Deed, Digest, EditTime, Entry, ItemEnding, ItemOutcome, PerSide, RelPath, RunCommand,
    RunOutcome, Side, quantity, words,
};
use katabatic_opener::client::{Client, Told};
use notify::{RecursiveMode, Watcher};
use tokio::sync::mpsc::{self, UnboundedReceiver, UnboundedSender};
use tokio::sync::watch;

use super::let_in::{Answer, Coming, LetIn, Program};
use super::{opening_words, telling};
use katabatic_engine::config::{Config, LaneConfig};
use katabatic_engine::open::{open_here, open_side};
use katabatic_engine::self_opening;
use katabatic_engine::{Class, Error, Home};
use katabatic_ledger::rows;
use katabatic_ledger::runs::{self, Counts, RunItem};
use katabatic_ledger::{LaneKey, Ledger};
use katabatic_sides::clock::{Clock, SystemClock};
use katabatic_sides::local::{Filling, LocalSide};
use katabatic_sides::stop::Stop;
use katabatic_sides::{SideError, SideStore, Source};

/// An opener that is not there is looked for again after so long.
const LOOK_AGAIN: Duration = Duration::from_secs(10);

/// An opener that has just ended is given so long until it may be there again.
const ENDED: Duration = Duration::from_secs(1);

/// A line that brings nothing for so long brings nothing any more; the program that waits is told that the file cannot
/// be read.
const SILENT: Duration = Duration::from_secs(20);

/// A program that waits for longer is told of: it looks as if it hung.
const SLOW: Duration = Duration::from_secs(10);

/// What all of it shares.
#[derive(Clone)]
pub(super) struct Openings {
    pub(super) home: Home,
    pub(super) ledger: Ledger,
    pub(super) tell: UnboundedSender<telling::Word>,
    /// Where the opener listens.
    pub(super) opener: PathBuf,
    /// Whether programs can open stubs now, or why not; for whoever asks.
    pub(super) state: Arc<Mutex<String>>,
    /// Which programs are let in, and what comes for them now.
    pub(super) let_in: LetIn,
}

/// Stubs that are being filled, by their inodes: who opens one meanwhile waits for the first.
type Turns = Arc<Mutex<BTreeMap<String, Arc<tokio::sync::Mutex<()>>>>>;

/// Far sides that were opened before.
type Fars = Arc<Mutex<BTreeMap<String, Arc<dyn SideStore>>>>;

/// Serves programs that open stubs, until the agent ends.
pub(super) async fn serve(
    openings: Openings,
    mut config: watch::Receiver<Config>,
    mut ending: watch::Receiver<bool>,
) {
    openings.close(&config.borrow_and_update().clone());
    loop {
        let (tell, told) = mpsc::unbounded_channel();
        // Nobody listens any more: the agent ends.
        match Client::connect(&openings.opener, move |word| tell.send(word).is_ok()) {
            Err(why) => {
                openings.say(format!("no opener is there ({why})"));
                tokio::select! {
                    _ = ending.changed() => return,
                    () = tokio::time::sleep(LOOK_AGAIN) => {}
                }
            }
            Ok(client) => {
                // Without it a pass would take the rights from stubs that are being opened.
                let Some(serves) = self_opening::serve(&openings.home) else {
                    openings.say("its lock in the home cannot be had".into());
                    client.closed();
                    tokio::select! {
                        _ = ending.changed() => return,
                        () = tokio::time::sleep(LOOK_AGAIN) => continue,
                    }
                };
                let over = openings
                    .with_opener(&client, told, &mut config, &mut ending)
                    .await;
                // Before the connection goes: until then the opener asks about them.
                openings.close(&config.borrow().clone());
                drop(serves);
                client.closed();
                if over {
                    return;
                }
                tokio::select! {
                    _ = ending.changed() => return,
                    () = tokio::time::sleep(ENDED) => {}
                }
            }
        }
    }
}

impl Openings {
    fn say(&self, how: String) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        *state = how;
    }

    /// The near side of a lane, where that is on this computer.
    fn near(&self, lane: &LaneConfig) -> Option<Result<LocalSide, Error>> {
        let side = (Side::Near, lane.near.local()?);
        let Openings { home, ledger, .. } = self;
        Some(open_here(home, ledger, lane, side, &Stop::default()))
    }

    /// The near sides that may hold stubs, of those that are there; and why one that is there could not be opened.
    fn nears(&self, config: &Config) -> (Vec<(LaneConfig, LocalSide)>, Option<String>) {
        let (mut nears, mut failed) = (Vec::new(), None);
        for lane in &config.lanes {
            let Some(side) = self.near(lane) else {
                continue;
            };
            match side {
                Ok(side) => nears.push((lane.clone(), side)),
                // A drive that is not plugged in has no stubs that anybody could open.
                Err(why) if why.class == Class::NotThere => {}
                Err(why) => failed = Some(format!("lane {}: {}", lane.name, why.why)),
            }
        }
        (nears, failed)
    }

    /// Nobody is let in to a stub.
    fn close(&self, config: &Config) {
        let (nears, failed) = self.nears(config);
        if let Some(why) = failed {
            tracing::warn!("stubs may keep their rights: {why}");
        }
        for (lane, side) in nears {
            if let Err(why) = side.close_stubs() {
                tracing::warn!("the stubs of lane {} keep their rights: {why}", lane.name);
            }
        }
    }

    /// Has all stubs asked about, and gives them their rights; whether that was possible for all of them.
    fn open(&self, config: &Config, client: &Client) -> bool {
        let (nears, mut why_not) = self.nears(config);
        let mut opened = 0;
        for (lane, side) in nears {
            match side.open_stubs(&|files: &[OwnedFd]| client.mark(files)) {
                Ok((more, why)) => {
                    opened += more;
                    why_not = why_not.or(why);
                }
                Err(why) => why_not = Some(format!("lane {}: {why}", lane.name)),
            }
        }
        tracing::debug!("{opened} more stubs can be opened");
        let all = why_not.is_none();
        self.say(match why_not {
            None => String::new(),
            Some(why) => format!("not all of them: {why}"),
        });
        all
    }

    /// For as long as the opener is there; whether the agent ends.
    async fn with_opener(
        &self,
        client: &Client,
        mut told: UnboundedReceiver<Told>,
        config: &mut watch::Receiver<Config>,
        ending: &mut watch::Receiver<bool>,
    ) -> bool {
        let (turns, fars) = (Turns::default(), Fars::default());
        let (changed, mut new_stubs) = mpsc::unbounded_channel();
        loop {
            let lanes = config.borrow_and_update().clone();
            let _watching = watch_rooms(self.nears(&lanes).0, &changed);
            let (openings, opening) = (self.clone(), client.clone());
            let all = lanes.clone();
            // Marking waits for answers that come in beside it.
            let open = tokio::task::spawn_blocking(move || openings.open(&all, &opening));
            let Ok(all_are_open) = open.await else {
                return false;
            };
            loop {
                tokio::select! {
                    _ = ending.changed() => return true,
                    _ = config.changed() => {
                        fars.lock().unwrap_or_else(PoisonError::into_inner).clear();
                        break;
                    }
                    // The opener may not have heard yet that an agent before this one is gone.
                    () = tokio::time::sleep(LOOK_AGAIN), if !all_are_open => break,
                    Some(()) = new_stubs.recv() => {
                        while new_stubs.try_recv().is_ok() {}
                        break;
                    }
                    word = told.recv() => match word {
                        Some(Told::Asks { question, process, file }) => {
                            let asked = Asked {
                                openings: self.clone(),
                                config: lanes.clone(),
                                turns: Arc::clone(&turns),
                                fars: Arc::clone(&fars),
                            };
                            let client = client.clone();
                            tokio::spawn(async move {
                                asked.answer(&client, question, process, file).await;
                            });
                        }
                        Some(Told::Ending | Told::Gone) | None => return false,
                    }
                }
            }
        }
    }
}

/// Tells of every new stub.
fn watch_rooms(
    nears: Vec<(LaneConfig, LocalSide)>,
    changed: &UnboundedSender<()>,
) -> Option<notify::RecommendedWatcher> {
    let changed = changed.clone();
    let watcher = notify::recommended_watcher(move |event: notify::Result<notify::Event>| {
        let made = |event: &notify::Event| matches!(event.kind, notify::EventKind::Create(_));
        if event.as_ref().is_ok_and(made) {
            // Nobody listens any more: the agent ends.
            let _ = changed.send(());
        }
    });
    let mut watcher = match watcher {
        Ok(watcher) => watcher,
        Err(why) => {
            tracing::warn!("new stubs are not followed: {why}");
            return None;
        }
    };
    for (lane, side) in nears {
        // Its own room, until the first stub makes a folder for them there.
        let stubs = side.stubs_folder();
        if let Err(why) = watcher.watch(&stubs, RecursiveMode::NonRecursive) {
            tracing::debug!("new stubs of lane {} are not followed: {why}", lane.name);
        }
    }
    Some(watcher)
}

/// What came of an opening.
enum Came {
    /// The content was here before.
    Here,
    /// The content is here now, and nothing needs to be kept of the stub.
    Filled(Box<Known>),
    /// The program is told that it cannot be read; why.
    Not(String),
    /// The program is told that it may not; why.
    KeptOut(String),
}

struct Asked {
    openings: Openings,
    config: Config,
    turns: Turns,
    fars: Fars,
}

/// A stub that is opened.
struct Known {
    lane: LaneConfig,
    key: LaneKey,
    path: RelPath,
    base: Base,
    edited: Option<EditTime>,
}

impl Asked {
    async fn answer(&self, client: &Client, question: u64, process: i32, file: OwnedFd) {
        let program = Program::of(process);
        let (stamp, handle) = match Filling::known_as(&File::from(match file.try_clone() {
            Ok(file) => file,
            Err(why) => {
                tracing::warn!("an opened stub: {why}");
                return client.deny(question, false);
            }
        })) {
            Ok(known) => known,
            Err(why) => {
                tracing::warn!("an opened stub: {why}");
                return client.deny(question, false);
            }
        };
        let (file, let_in) = (File::from(file), &self.openings.let_in);
        let only_looks =
            Filling::is_unfinished(&file) && let_in.keeps_out(&self.config.openings, &program);
        if only_looks {
            tracing::debug!("{} only looks, and gets nothing", program.name);
            return client.deny(question, true);
        }
        let turn = {
            let mut turns = self.turns.lock().unwrap_or_else(PoisonError::into_inner);
            Arc::clone(turns.entry(handle.clone()).or_default())
        };
        let came = {
            let _mine = turn.lock().await;
            self.bring(file, &handle, &stamp, &program).await
        };
        match came {
            Ok(Came::Here) => client.allow(question),
            Ok(Came::Filled(known)) => {
                client.allow(question);
                // Only now: until nobody asks about the file any more, an agent that comes after this one must find it.
                self.forget(&known).await;
            }
            Ok(Came::Not(why)) => {
                tracing::info!("{} is told that a stub cannot be read: {why}", program.name);
                client.deny(question, false);
            }
            Ok(Came::KeptOut(why)) => {
                tracing::debug!(
                    "{} is told that it may not open a stub: {why}",
                    program.name
                );
                client.deny(question, true);
            }
            Err(error) => {
                tracing::warn!(
                    "{} is told that a stub cannot be read: {}",
                    program.name,
                    error.why
                );
                client.deny(question, false);
            }
        }
        let mut turns = self.turns.lock().unwrap_or_else(PoisonError::into_inner);
        if Arc::strong_count(&turn) <= 2 {
            turns.remove(&handle);
        }
    }

    async fn bring(
        &self,
        file: File,
        handle: &str,
        stamp: &katabatic_core::Stamp,
        program: &Program,
    ) -> Result<Came, Error> {
        let seen = |why: io::Error| Error::failed("looking at a stub", why, "Try again.");
        if !Filling::is_stub(&file).map_err(seen)? {
            // Somebody else's turn brought it.
            return Ok(Came::Here);
        }
        let Some(known) = self.known(handle, stamp)? else {
            self.tell_of_a_stranger(&file, &program.name);
            return Ok(Came::Not("no lane knows of it".into()));
        };
        let size = known.base.size;
        let let_in = &self.openings.let_in;
        match let_in.asks(&self.config.openings, program, size) {
            Answer::LetIn => {}
            Answer::TooMuch { much, is_new } => {
                if is_new {
                    self.tell(&known.lane, opening_words::too_much(&program.name, &much));
                }
                return Ok(Came::KeptOut("it got too much at once".into()));
            }
        }
        let began = SystemClock.now();
        let coming = let_in.begin(&known.lane.name, known.path.as_str(), program, size);
        let brought = self.fill(file, &known, &coming, &program.name).await;
        drop(coming);
        let name = &program.name;
        let result = match &brought {
            Ok(bytes) => (
                *bytes,
                ItemOutcome::with(ItemEnding::Done, format!("{name} opened it")),
            ),
            Err(why) => (
                0,
                ItemOutcome::with(
                    ItemEnding::Stuck,
                    format!("{name} opened it, and it could not be brought: {why}"),
                ),
            ),
        };
        self.note(&known, began, result).await?;
        match brought {
            Ok(_) => Ok(Came::Filled(Box::new(known))),
            Err(why) => {
                let place = known.lane.far_place().to_string();
                self.tell(
                    &known.lane,
                    opening_words::failed(&known.path, &place, name, &why),
                );
                Ok(Came::Not(why))
            }
        }
    }

    /// The lane and the path of a stub.
    fn known(&self, handle: &str, stamp: &katabatic_core::Stamp) -> Result<Option<Known>, Error> {
        let rows = self.openings.ledger.read(|connection| {
            let mut known = Vec::new();
            for (key, id, path) in rows::stubs_of_handle(connection, handle)? {
                if let Some(row) = rows::row(connection, key, &path)? {
                    known.push((key, id, row));
                }
            }
            Ok(known)
        })?;
        for (key, id, row) in rows {
            let lane = self.config.lanes.iter().find(|lane| lane.id == id);
            if let (Some(lane), Some(base)) = (lane, row.base)
                && base.stamps.near == *stamp
            {
                return Ok(Some(Known {
                    lane: lane.clone(),
                    key,
                    path: row.path,
                    base,
                    edited: row.edited,
                }));
            }
        }
        Ok(None)
    }

    fn far(&self, lane: &LaneConfig) -> Result<Arc<dyn SideStore>, Error> {
        let mut fars = self.fars.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(far) = fars.get(&lane.id) {
            return Ok(Arc::clone(far));
        }
        let Openings { home, ledger, .. } = &self.openings;
        let far = open_side(
            home,
            &self.config,
            ledger,
            (lane, Side::Far),
            &Stop::default(),
        )?;
        fars.insert(lane.id.clone(), Arc::clone(&far));
        Ok(far)
    }

    /// Brings the content; its bytes. What is wrong is in words for a person.
    async fn fill(
        &self,
        file: File,
        known: &Known,
        coming: &Coming,
        program: &str,
    ) -> Result<u64, String> {
        let far = self.far(&known.lane).map_err(|error| error.why)?;
        let reading = tokio::time::timeout(SILENT, read(&*far, known)).await;
        let (mut source, version) =
            reading.unwrap_or_else(|_| Err("nobody answered for too long".to_owned()))?;
        coming.has_in_all(version.size);
        let side = self.openings.near(&known.lane);
        let side = side.ok_or("its folder is not here")?;
        let side = side.map_err(|error| error.why)?;
        has_room(&side, version.size).await?;
        let said = |why: io::Error| why.to_string();
        let mut filling = Filling::begin(file).map_err(said)?;
        let mut hasher = blake3::Hasher::new();
        let mut length = 0_u64;
        let (began, mut is_told) = (Instant::now(), false);
        let came = loop {
            match tokio::time::timeout(SILENT, source.content.next()).await {
                Err(_) => break Err("nothing came for too long".to_owned()),
                Ok(None) => break Ok(()),
                Ok(Some(Err(why))) => break Err(why.to_string()),
                Ok(Some(Ok(piece))) => {
                    hasher.update(&piece);
                    length += piece.len() as u64;
                    coming.has(length);
                    let took = began.elapsed();
                    if took >= SLOW && !is_told {
                        is_told = true;
                        let bytes = (version.size, length);
                        let words = opening_words::slow(&known.path, program, bytes, took);
                        self.tell(&known.lane, words);
                    }
                    let written = tokio::task::block_in_place(|| filling.write(&piece));
                    if let Err(why) = written {
                        break Err(why.to_string());
                    }
                }
            }
        };
        let digest = Digest(*hasher.finalize().as_bytes());
        let same_version = version.stamp == known.base.stamps.far.undoubted();
        let expected = known.base.content.filter(|_| same_version);
        let came = came.and_then(|()| match () {
            () if length != version.size => Err(format!("{length} of {} bytes came", version.size)),
            () if expected.is_some_and(|content| content != digest) => {
                Err("what came is not what was agreed on".to_owned())
            }
            () => Ok(()),
        });
        if let Err(why) = came {
            filling.give_up().map_err(said)?;
            return Err(why);
        }
        let edited = match same_version {
            true => known.edited.or(version.edited),
            false => version.edited,
        };
        let edited = edited
            .or(version.received)
            .unwrap_or_else(|| SystemClock.now());
        let ended = tokio::task::block_in_place(|| filling.end(&side, length, edited));
        let filled = Base {
            stamps: PerSide {
                // It was written a moment ago: the next pass reads it once.
                near: ended.map_err(said)?.doubted(),
                far: match same_version {
                    true => known.base.stamps.far.clone(),
                    false => version.stamp.doubted(),
                },
            },
            content: Some(digest),
            size: length,
            ..known.base.clone()
        };
        let (key, path, stub) = (
            known.key,
            known.path.clone(),
            known.base.stamps.near.clone(),
        );
        // Where something else was agreed on since, that is how it stays.
        self.openings
            .ledger
            .write(move |connection| rows::fill_stub(connection, key, &path, &stub, &filled))
            .await
            .map_err(|error| error.why)?;
        Ok(length)
    }

    /// Gives up the second name of what is a stub no more.
    async fn forget(&self, known: &Known) {
        let Some(side) = self.openings.near(&known.lane) else {
            return;
        };
        let forgotten = match side {
            Ok(side) => side
                .forget_stub(&known.base.stamps.near)
                .await
                .map_err(|why| why.to_string()),
            Err(error) => Err(error.why),
        };
        if let Err(why) = forgotten {
            tracing::debug!("{} leaves a name of its stub: {why}", known.path);
        }
    }

    /// What was brought stands among the runs.
    async fn note(
        &self,
        known: &Known,
        began: EditTime,
        (bytes, outcome): (u64, ItemOutcome),
    ) -> Result<(), Error> {
        let (key, name, now) = (known.key, known.lane.name.clone(), SystemClock.now());
        let done = outcome.ending == ItemEnding::Done;
        let counts = Counts {
            files_down: u64::from(done),
            bytes_down: bytes,
            stuck: u64::from(!done),
            ..Counts::default()
        };
        let item = RunItem {
            path: known.path.to_string(),
            deed: Deed::Fetch,
            reason: String::new(),
            bytes,
            outcome,
            at: Some(now),
        };
        let ended = RunOutcome::done_if(done);
        self.openings
            .ledger
            .write(move |connection| {
                let run = runs::begin(connection, key, &name, &RunCommand::Open, began)?;
                runs::add_item(connection, run, &item)?;
                runs::end(connection, run, now, &ended, &counts)
            })
            .await
    }

    /// Nothing brings the content of a stub that the ledger knows nothing of, and the person sees a mere error.
    fn tell_of_a_stranger(&self, file: &File, program: &str) {
        let link = format!("/proc/self/fd/{}", file.as_raw_fd());
        let Ok(path) = std::fs::read_link(link) else {
            return;
        };
        let holds = |lane: &&LaneConfig| {
            let near = lane.near.local();
            near.is_some_and(|near| path.starts_with(near))
        };
        if let Some(lane) = self.config.lanes.iter().find(holds) {
            self.tell(lane, opening_words::left_alone(&path, program));
        }
    }

    fn tell(&self, lane: &LaneConfig, (title, text): (String, String)) {
        // Nobody tells any more: the agent ends.
        let _ = self.openings.tell.send(telling::Word::Happened(Message {
            kind: Kind::Problem,
            lane: lane.name.clone(),
            title,
            text,
        }));
    }
}

/// Whether the disk has room for so many bytes; a disk that fills to the brim stops everything else, too.
async fn has_room(side: &LocalSide, bytes: u64) -> Result<(), String> {
    match side.free().await {
        Some(free) if free < bytes => Err(format!(
            "it needs {}, and the disk has {} left; make room: katabatic room --free {}",
            words::bytes(bytes),
            words::bytes(free),
            quantity::typed_bytes(bytes - free)
        )),
        _ => Ok(()),
    }
}

/// Opens the version there that a stub stands for, or the one that is there by now.
async fn read(far: &dyn SideStore, known: &Known) -> Result<(Source, Entry), String> {
    let agreed = Entry {
        edited: known.edited,
        ..Entry::file(known.base.size, known.base.stamps.far.undoubted())
    };
    match far.read(&known.path, &agreed).await {
        Ok(source) => return Ok((source, agreed)),
        Err(SideError::Changed(_) | SideError::Missing) => {}
        Err(why) => return Err(why.to_string()),
    }
    let there = far.look(&known.path).await.map_err(|why| why.to_string())?;
    let there = there.ok_or("it is not there any more")?;
    let source = far.read(&known.path, &there).await;
    Ok((source.map_err(|why| why.to_string())?, there))
}
