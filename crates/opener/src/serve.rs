//! The privileged part at work: threads that wait for the system, for agents and for the time, and do what
//! [`Questions`] says. Nothing is done under its lock.

use std::collections::VecDeque;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, OnceLock, PoisonError, mpsc};
use std::thread;
use std::time::{Duration, Instant};

use nix::sys::signal::{SigSet, Signal};
use nix::sys::socket::{getsockopt, sockopt::PeerCredentials};
use rustix::net::{Shutdown, SocketFlags, accept_with, shutdown};
use rustix::process::{
    DumpableBehavior, Resource, Rlimit, getrlimit, set_dumpable_behavior, setrlimit,
};

use crate::group::{self, Came, Facts, Group, Question};
use crate::keeper::{self, Kept};
use crate::questions::{Act, Acts, Answer, Asked, Limits, NotMarked, Questions};
use crate::socket::Socket;
use crate::waiter;
use crate::wire::{self, Order, Said};

/// Agents have so long to take the rights from their stubs before the end.
const LAST_WORDS: Duration = Duration::from_secs(10);

/// While programs wait, it is looked this often whether any has waited for too long.
const LOOK_EVERY: Duration = Duration::from_millis(500);

/// A process with too many descriptors looks again after this, whether it has fewer.
const A_MOMENT: Duration = Duration::from_millis(100);

/// Marks of files that are gone are looked for this often at most: it takes a moment with a million.
const FORGET_EVERY: Duration = Duration::from_secs(60);

/// Why the opener could not begin, or cannot go on.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The system does not ask this program.
    #[error("asking to be asked before files are opened")]
    Group(#[source] io::Error),
    /// Nobody can connect.
    #[error("listening at {}", .0.display())]
    Socket(PathBuf, #[source] io::Error),
    /// Another part of the beginning.
    #[error("beginning")]
    Begin(#[source] io::Error),
}

/// The program that holds the marks.
pub struct Opener {
    shared: Arc<Shared>,
    signals: SigSet,
    kept: Kept,
}

type Waits = Arc<Question>;
type Way = Arc<OwnedFd>;

struct Shared {
    group: Group,
    known: Mutex<Questions<Waits, Way>>,
    /// Told when a program waits.
    waits: Condvar,
    /// Told when an agent has gone or has closed its stubs.
    gone: Condvar,
    socket: Socket,
    /// Answered questions, whose files are closed where nobody waits for that.
    closes: mpsc::Sender<Waits>,
    forgotten_at: Mutex<Option<Instant>>,
    /// Why it cannot go on.
    failed: OnceLock<Error>,
}

impl Opener {
    /// Begins to hold marks, and to listen at `socket`, which anybody may connect to.
    ///
    /// # Errors
    /// Where the system does not let this program ask before files are opened, or the socket cannot be made.
    pub fn begin(socket: &Path) -> Result<Opener, Error> {
        let begin = |why: nix::errno::Errno| Error::Begin(why.into());
        let mut signals = SigSet::empty();
        signals.add(Signal::SIGTERM);
        signals.add(Signal::SIGINT);
        // For every thread, so that the one that waits for them gets them.
        signals.thread_block().map_err(begin)?;
        let descriptors = take_as_many_descriptors_as_there_are();
        // Nobody looks into it, and no core of it lies about.
        set_dumpable_behavior(DumpableBehavior::NotDumpable)
            .map_err(|why| Error::Begin(why.into()))?;
        let group = match keeper::handed_over() {
            Some(group) => Group::kept(group, descriptors),
            None => Group::new().map_err(Error::Group)?,
        };
        let listening = Socket::make(socket);
        let socket = listening.map_err(|why| Error::Socket(socket.to_owned(), why))?;
        let kept = keeper::hand_over(group.as_fd());
        let (closes, answered) = mpsc::channel::<Waits>();
        let shared = Arc::new(Shared {
            group,
            known: Mutex::new(Questions::new(Limits::default())),
            waits: Condvar::new(),
            gone: Condvar::new(),
            socket,
            closes,
            forgotten_at: Mutex::new(None),
            failed: OnceLock::new(),
        });
        let start = |name: &str, work: Box<dyn FnOnce(Arc<Shared>) + Send>| {
            let shared = Arc::clone(&shared);
            let thread = thread::Builder::new().name(name.into());
            thread.spawn(move || work(shared)).map_err(Error::Begin)
        };
        start(
            "close",
            Box::new(move |_| answered.into_iter().for_each(drop)),
        )?;
        start("ask", Box::new(|shared| shared.hand_on()))?;
        start("time", Box::new(|shared| shared.watch_the_time()))?;
        start("listen", Box::new(|shared| shared.accept()))?;
        Ok(Opener {
            shared,
            signals,
            kept,
        })
    }

    /// Whether somebody keeps the marks when this process is killed.
    #[must_use]
    pub fn kept(&self) -> Kept {
        self.kept
    }

    /// Waits until it is to end, by SIGTERM or SIGINT, or cannot go on.
    ///
    /// # Errors
    /// Why it cannot.
    pub fn wait(&self) -> Result<(), io::Error> {
        self.signals.wait()?;
        match self.shared.failed.get() {
            Some(why) => Err(io::Error::other(why.to_string())),
            None => Ok(()),
        }
    }

    /// Ends in order: the stubs of everybody lose their rights first.
    pub fn end(self) {
        let until = Instant::now() + LAST_WORDS;
        let shared = &self.shared;
        shared.socket.remove();
        let acts = shared.known().ends();
        shared.act(acts);
        let mut known = shared.known();
        while !known.all_are_closed() {
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                break;
            }
            let waited = shared.gone.wait_timeout(known, left);
            known = waited.unwrap_or_else(PoisonError::into_inner).0;
        }
        let acts = known.answer_all();
        drop(known);
        shared.act(acts);
    }
}

/// The most descriptors this process may have, which is also above the number of every one that one before it had.
fn take_as_many_descriptors_as_there_are() -> u32 {
    const NO_LIMIT: u64 = 1 << 20;
    let limit = getrlimit(Resource::Nofile);
    let most = Rlimit {
        current: limit.maximum,
        maximum: limit.maximum,
    };
    if let Err(why) = setrlimit(Resource::Nofile, most) {
        tracing::debug!("the limit of descriptors stays: {why}");
    }
    let none = Rlimit {
        current: Some(0),
        maximum: Some(0),
    };
    if let Err(why) = setrlimit(Resource::Core, none) {
        tracing::debug!("the limit of cores stays: {why}");
    }
    let limit = getrlimit(Resource::Nofile).current.unwrap_or(NO_LIMIT);
    u32::try_from(limit.min(NO_LIMIT)).unwrap_or(u32::MAX)
}

impl Shared {
    fn known(&self) -> MutexGuard<'_, Questions<Waits, Way>> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// It cannot go on: it ends as if somebody had told it to, and says why.
    fn fail(&self, why: Error) {
        tracing::error!("{why}");
        // The first reason is the one.
        let _ = self.failed.set(why);
        if let Err(why) = nix::sys::signal::kill(nix::unistd::getpid(), Signal::SIGTERM) {
            tracing::error!("ending: {why}");
        }
    }

    /// Does what is to be done. Nothing of it waits.
    fn act(&self, acts: Acts<Waits, Way>) {
        let mut acts = VecDeque::from(acts);
        while let Some(act) = acts.pop_front() {
            match act {
                Act::Answer(asked, answer) => {
                    self.group.answer(&asked, answer);
                    // The thread that closes it ends with the process.
                    let _ = self.closes.send(asked);
                }
                Act::Ask {
                    agent: (agent, way),
                    person,
                    question,
                    asked,
                    process,
                } => {
                    let said = Said::Asks { question, process };
                    let more = match asked.file_of(person) {
                        None => {
                            let unreadable = Answer::Unreadable;
                            let mut known = self.known();
                            known.answered(agent, question, unreadable, Instant::now())
                        }
                        Some(file) => match wire::send_now(way.as_fd(), &said, &[file]) {
                            Ok(()) => Vec::new(),
                            Err(why) => self.is_not_reached(agent, &why),
                        },
                    };
                    acts.extend(more);
                }
                Act::SayEnding(agent, way) => {
                    if let Err(why) = wire::send_now(way.as_fd(), &Said::Ending, &[]) {
                        acts.extend(self.is_not_reached(agent, &why));
                    }
                }
                Act::Cut(way) => {
                    // One that is cut already cannot be cut.
                    let _ = shutdown(&way, Shutdown::Both);
                }
            }
        }
    }

    fn is_not_reached(&self, agent: u64, why: &io::Error) -> Acts<Waits, Way> {
        tracing::warn!("an agent reads nothing, and is asked nothing any more: {why}");
        let acts = self.known().gone(agent, Instant::now());
        self.gone.notify_all();
        acts
    }

    /// Hands every question on, for as long as there are any.
    fn hand_on(&self) {
        loop {
            match self.group.wait() {
                Ok(Came::Questions(questions)) => questions
                    .into_iter()
                    .for_each(|question| self.asked(Arc::new(question))),
                Ok(Came::Denied(why)) => tracing::debug!("a question of the system: {why}"),
                Err(why) => return self.fail(Error::Group(why)),
            }
        }
    }

    fn asked(&self, question: Waits) {
        let facts = question.file().map(Facts::of);
        let Some(Ok(facts)) = facts else {
            return self.act(vec![Act::Answer(question, Answer::Unreadable)]);
        };
        let about = Asked {
            inode: facts.inode,
            owner: facts.owner,
            blocks: facts.blocks,
            process: question.process(),
            waiter: waiter::of(question.process()),
        };
        let acts = self.known().asked(question, about, Instant::now());
        self.waits.notify_all();
        self.act(acts);
    }

    /// Answers where nobody waits any longer.
    fn watch_the_time(&self) {
        loop {
            let known = self.known();
            let idle = |known: &mut Questions<Waits, Way>| !known.anybody_waits();
            let known = self.waits.wait_while(known, idle);
            drop(known.unwrap_or_else(PoisonError::into_inner));
            thread::sleep(LOOK_EVERY);
            let blocks = |asked: &Waits| {
                let facts = asked.file().map(Facts::of);
                facts.and_then(Result::ok).map_or(0, |facts| facts.blocks)
            };
            let acts = self.known().time_goes_by(Instant::now(), blocks);
            self.act(acts);
        }
    }

    fn accept(self: &Arc<Self>) {
        use rustix::io::Errno;
        loop {
            match accept_with(&self.socket.listening, SocketFlags::CLOEXEC) {
                Ok(socket) => self.connects(Arc::new(socket)),
                Err(Errno::INTR | Errno::CONNABORTED) => {}
                // There is nothing to wait for: others of this process, or of the computer, give some back some time.
                Err(Errno::MFILE | Errno::NFILE | Errno::NOBUFS | Errno::NOMEM) => {
                    thread::sleep(A_MOMENT);
                }
                Err(why) => {
                    let path = self.socket.path().to_owned();
                    return self.fail(Error::Socket(path, why.into()));
                }
            }
        }
    }

    /// Somebody connects. Where they may not, or have too many connections already, this one goes again.
    fn connects(self: &Arc<Self>, socket: Way) {
        let Ok(peer) = getsockopt(&socket, PeerCredentials) else {
            return;
        };
        if !waiter::has_a_number_of_its_own(peer.pid()) {
            return;
        }
        let way = Arc::clone(&socket);
        let Some(agent) = self.known().connects(peer.uid(), peer.pid(), way) else {
            return;
        };
        let shared = Arc::clone(self);
        let thread = thread::Builder::new().name(format!("agent {agent}"));
        let started = thread.spawn(move || {
            shared.converse(agent, &socket);
            shared.is_gone(agent);
        });
        if let Err(why) = started {
            tracing::warn!("no thread for an agent: {why}");
            self.is_gone(agent);
        }
    }

    fn is_gone(&self, agent: u64) {
        let acts = self.known().gone(agent, Instant::now());
        self.act(acts);
        self.gone.notify_all();
    }

    /// Does what one agent says, until it is gone. What takes long here, takes long for this agent.
    fn converse(&self, agent: u64, socket: &OwnedFd) {
        loop {
            let done = match wire::receive::<Order>(socket) {
                Ok(Some((order, with))) => self.obey(agent, socket, &order, &with),
                Ok(None) => return,
                Err(why) => Err(why),
            };
            if let Err(why) = done {
                tracing::warn!("the connection of an agent ends: {why}");
                return;
            }
        }
    }

    fn obey(
        &self,
        agent: u64,
        socket: &OwnedFd,
        order: &Order,
        with: &[OwnedFd],
    ) -> io::Result<()> {
        match *order {
            Order::Mark => {
                let failed = with.iter().map(|file| self.mark(agent, file).err());
                let failed = failed.collect();
                wire::send(socket.as_fd(), &Said::Marked { failed }, &[])
            }
            Order::Allow { question } => {
                self.is_here(agent, question);
                Ok(())
            }
            Order::Deny {
                question,
                forbidden,
            } => {
                let answer = match forbidden {
                    true => Answer::Forbidden,
                    false => Answer::Unreadable,
                };
                self.answered(agent, question, answer);
                Ok(())
            }
            Order::Closed => {
                self.known().closed(agent);
                self.gone.notify_all();
                Ok(())
            }
        }
    }

    fn answered(&self, agent: u64, question: u64, answer: Answer) {
        let acts = self
            .known()
            .answered(agent, question, answer, Instant::now());
        self.act(acts);
    }

    /// An agent says that the content of a file is here. The file says whether that is so.
    fn is_here(&self, agent: u64, question: u64) {
        let Some(asked) = self.known().in_hand(agent, question) else {
            return;
        };
        let (true, Some(file)) = (asked.is_whole(), asked.file()) else {
            tracing::warn!("an agent lets a program in to what still is a stub");
            return self.answered(agent, question, Answer::Unreadable);
        };
        if let Err(why) = self.group.unmark(file) {
            tracing::debug!("a mark is left: {why}");
        } else if let Ok(facts) = Facts::of(file) {
            self.known().no_mark(facts.inode);
        }
        self.answered(agent, question, Answer::Allow);
    }

    fn mark(&self, agent: u64, file: &OwnedFd) -> Result<(), NotMarked> {
        let system = |why: io::Error| NotMarked::System(why.raw_os_error().unwrap_or_default());
        let facts = Facts::of(file.as_fd()).map_err(system)?;
        if !facts.is_file {
            return Err(NotMarked::NoFile);
        }
        if facts.is_guarded {
            return Err(NotMarked::Guarded);
        }
        let whose = (facts.inode, facts.owner);
        let mut entered = self.known().may_mark(agent, whose);
        if matches!(entered, Err(NotMarked::TooMany(_))) && self.forgets_what_is_gone() {
            entered = self.known().may_mark(agent, whose);
        }
        let is_new = entered?;
        self.group.mark(file.as_fd()).map_err(|why| {
            if is_new {
                self.known().no_mark(facts.inode);
            }
            NotMarked::System(why as i32)
        })
    }

    /// Marks of files that are gone do not count; whether that was looked at now.
    fn forgets_what_is_gone(&self) -> bool {
        {
            let at = self.forgotten_at.lock();
            let mut at = at.unwrap_or_else(PoisonError::into_inner);
            if at.is_some_and(|at| at.elapsed() < FORGET_EVERY) {
                return false;
            }
            *at = Some(Instant::now());
        }
        match group::marked_numbers(&self.group) {
            Ok(numbers) => {
                self.known().only_these_are_marked(&numbers);
                true
            }
            Err(why) => {
                tracing::debug!("what is marked cannot be told: {why}");
                false
            }
        }
    }
}
