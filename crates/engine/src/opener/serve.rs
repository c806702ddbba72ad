//! The privileged part: marks what agents ask it to, and hands them the questions.

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use rustix::fs::{Mode, fstat, stat};
use rustix::net::{
    AddressFamily, SocketAddrUnix, SocketFlags, SocketType, accept_with, bind, listen, socket_with,
    sockopt::socket_peercred,
};

use super::SIGN_OF_LIFE;
use super::group::{Answer, Group, Inode, Question, inode_of};
use super::wire::{self, Order, Said};
use crate::Error;

/// Where agents find it.
pub const DEFAULT_SOCKET: &str = "/run/katabatic/opener.sock";

/// Agents have so long to take the rights from their stubs before the end.
const LAST_WORDS: Duration = Duration::from_secs(10);

/// What the system could not ask now it may be able to ask after this.
const A_MOMENT: Duration = Duration::from_millis(50);

/// The program that holds the marks.
pub struct Opener {
    shared: Arc<Shared>,
    socket: PathBuf,
    /// The socket's own inode: another opener may have put its own there since.
    listens_at: Option<Inode>,
}

struct Shared {
    group: Group,
    known: Mutex<Known>,
    /// Told when an agent has gone or has closed its stubs.
    gone: Condvar,
    /// This very program: whatever runs it fetches what it needs itself.
    own: Inode,
}

#[derive(Default)]
struct Known {
    last: u64,
    agents: BTreeMap<u64, Agent>,
    /// Which agent answers for a file.
    answers_for: BTreeMap<Inode, u64>,
    waiting: BTreeMap<u64, Waiting>,
    /// Files that are stubs no more: who asked about one before its mark was gone is let in.
    filled: BTreeSet<Inode>,
    /// It is about to end: an agent that came now would give its stubs rights that nobody takes again.
    ending: bool,
}

/// A question that an agent has, and when that gave a sign of life last.
struct Waiting {
    agent: u64,
    question: Question,
    heard: Instant,
}

struct Agent {
    socket: Arc<OwnedFd>,
    person: u32,
    closed: bool,
}

fn failed(what: &str, why: impl std::fmt::Display) -> Error {
    Error::failed(
        what,
        why,
        "Run it as root, on Linux 6.14 or later; see docs/guide.md.",
    )
}

impl Opener {
    /// Begins to hold marks, and to listen at `socket`, which anybody may connect to.
    ///
    /// # Errors
    /// Where the system does not let this program ask before files are opened, or the socket cannot be made.
    pub fn begin(socket: &Path) -> Result<Opener, Error> {
        let group = Group::new()
            .map_err(|why| failed("asking to be asked before files are opened", why))?;
        let own = stat("/proc/self/exe")
            .map_err(|why| failed("looking at this program", io::Error::from(why)))?;
        let listening = open_socket(socket)
            .map_err(|why| failed(&format!("listening at {}", socket.display()), why))?;
        let shared = Arc::new(Shared {
            group,
            known: Mutex::default(),
            gone: Condvar::new(),
            own: inode_of(&own),
        });
        let asking = Arc::clone(&shared);
        std::thread::spawn(move || asking.hand_on());
        let watching = Arc::clone(&shared);
        std::thread::spawn(move || watching.answer_for_the_silent());
        let accepting = Arc::clone(&shared);
        std::thread::spawn(move || accepting.accept(&listening));
        Ok(Opener {
            shared,
            socket: socket.to_owned(),
            listens_at: stat(socket).ok().map(|stat| inode_of(&stat)),
        })
    }

    /// Ends in order: the stubs of everybody lose their rights first.
    pub fn end(self) {
        let until = Instant::now() + LAST_WORDS;
        let there = stat(&self.socket).ok().map(|stat| inode_of(&stat));
        if there == self.listens_at {
            // The next one makes it anew.
            let _ = std::fs::remove_file(&self.socket);
        }
        let mut known = self.shared.known();
        known.ending = true;
        for agent in known.agents.values() {
            // One that is gone has nothing to close.
            let _ = wire::send(agent.socket.as_fd(), &Said::Ending, &[]);
        }
        while known.agents.values().any(|agent| !agent.closed) {
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                break;
            }
            let waited = self.shared.gone.wait_timeout(known, left);
            known = waited.unwrap_or_else(PoisonError::into_inner).0;
        }
        let waiting = std::mem::take(&mut known.waiting);
        for waiting in waiting.values() {
            self.shared.answer(&waiting.question, Answer::Unreadable);
        }
    }
}

fn open_socket(path: &Path) -> io::Result<OwnedFd> {
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder)?;
    }
    match std::fs::remove_file(path) {
        Err(why) if why.kind() != io::ErrorKind::NotFound => return Err(why),
        _ => {}
    }
    let socket = socket_with(
        AddressFamily::UNIX,
        SocketType::SEQPACKET,
        SocketFlags::CLOEXEC,
        None,
    )?;
    bind(&socket, &SocketAddrUnix::new(path)?)?;
    rustix::fs::chmod(path, Mode::from_raw_mode(0o666))?;
    listen(&socket, 16)?;
    Ok(socket)
}

impl Shared {
    fn known(&self) -> MutexGuard<'_, Known> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn answer(&self, question: &Question, answer: Answer) {
        if let Err(why) = self.group.answer(question, answer) {
            tracing::warn!("a question was not answered: {why}");
        }
    }

    /// Hands every question to whoever answers for the file, for as long as there are any.
    fn hand_on(&self) {
        loop {
            match self.group.wait() {
                Ok(questions) => questions
                    .into_iter()
                    .for_each(|question| self.hand_over(question)),
                // Too many questions at once, say: the system has denied this one itself. Whoever asks next must not wait
                // for ever because nobody listens any more.
                Err(why) => {
                    tracing::error!("a question of the system: {why}");
                    std::thread::sleep(A_MOMENT);
                }
            }
        }
    }

    fn hand_over(&self, question: Question) {
        let program = stat(format!("/proc/{}/exe", question.process));
        if program.is_ok_and(|program| inode_of(&program) == self.own) {
            return self.answer(&question, Answer::Allow);
        }
        let mut known = self.known();
        if known.filled.contains(&question.inode) {
            return self.answer(&question, Answer::Allow);
        }
        let agent = known.answers_for.get(&question.inode).copied();
        let socket = agent
            .and_then(|agent| known.agents.get(&agent))
            .map(|agent| Arc::clone(&agent.socket));
        let (Some(agent), Some(socket), Some(file)) = (agent, socket, question.file()) else {
            return self.answer(&question, Answer::Unreadable);
        };
        known.last += 1;
        let said = Said::Asks {
            question: known.last,
            process: question.process,
        };
        match wire::send(socket.as_fd(), &said, &[file]) {
            Ok(()) => {
                let number = known.last;
                let waiting = Waiting {
                    agent,
                    question,
                    heard: Instant::now(),
                };
                known.waiting.insert(number, waiting);
            }
            Err(why) => {
                tracing::warn!("an agent is not reached: {why}");
                self.answer(&question, Answer::Unreadable);
            }
        }
    }

    fn accept(self: &Arc<Self>, listening: &OwnedFd) {
        loop {
            let socket = match accept_with(listening, SocketFlags::CLOEXEC) {
                Ok(socket) => Arc::new(socket),
                Err(rustix::io::Errno::INTR | rustix::io::Errno::CONNABORTED) => continue,
                Err(why) => {
                    tracing::error!("listening for agents: {why}");
                    return;
                }
            };
            let Ok(person) = socket_peercred(&socket) else {
                continue;
            };
            let shared = Arc::clone(self);
            let number = {
                let mut known = self.known();
                if known.ending {
                    continue;
                }
                known.last += 1;
                let number = known.last;
                let agent = Agent {
                    socket: Arc::clone(&socket),
                    person: person.uid.as_raw(),
                    closed: false,
                };
                known.agents.insert(number, agent);
                number
            };
            std::thread::spawn(move || shared.converse(number, &socket));
        }
    }

    /// Does what one agent says, until it is gone.
    fn converse(&self, number: u64, socket: &OwnedFd) {
        loop {
            match wire::receive::<Order>(socket) {
                Ok(Some((order, with))) => self.obey(number, order, &with),
                Ok(None) => break,
                Err(why) => {
                    tracing::warn!("an agent said what cannot be understood: {why}");
                    break;
                }
            }
        }
        let mut known = self.known();
        known.agents.remove(&number);
        known.answers_for.retain(|_, agent| *agent != number);
        self.give_up(&mut known, |waiting| waiting.agent == number);
        self.gone.notify_all();
    }

    /// Answers questions that nobody else will answer.
    fn give_up(&self, known: &mut Known, is_meant: impl Fn(&Waiting) -> bool) {
        known.waiting.retain(|_, waiting| {
            let meant = is_meant(waiting);
            if meant {
                self.answer(&waiting.question, Answer::Unreadable);
            }
            !meant
        });
    }

    /// Answers for agents that are there and say nothing: stopped, or hanging.
    fn answer_for_the_silent(&self) {
        let most = SIGN_OF_LIFE * 3;
        loop {
            std::thread::sleep(SIGN_OF_LIFE / 4);
            self.give_up(&mut self.known(), |waiting| waiting.heard.elapsed() >= most);
        }
    }

    fn obey(&self, number: u64, order: Order, with: &[OwnedFd]) {
        match order {
            Order::Mark => {
                let failed = with
                    .iter()
                    .map(|file| self.mark(number, file.as_fd()).err());
                let failed = failed.map(|why| why.map(|why| why.to_string())).collect();
                let known = self.known();
                if let Some(agent) = known.agents.get(&number) {
                    // One that is gone is found out by its own thread.
                    let _ = wire::send(agent.socket.as_fd(), &Said::Marked { failed }, &[]);
                }
            }
            Order::Allow { question, filled } => {
                let answered = self.taken(number, question);
                if let Some(question) = answered {
                    if let (true, Some(file)) = (filled, question.file()) {
                        {
                            let mut known = self.known();
                            known.answers_for.remove(&question.inode);
                            known.filled.insert(question.inode);
                        }
                        if let Err(why) = self.group.unmark(file) {
                            tracing::debug!("a mark is left: {why}");
                        }
                    }
                    self.answer(&question, Answer::Allow);
                }
            }
            Order::Deny {
                question,
                forbidden,
            } => {
                if let Some(question) = self.taken(number, question) {
                    let answer = match forbidden {
                        true => Answer::Forbidden,
                        false => Answer::Unreadable,
                    };
                    self.answer(&question, answer);
                }
            }
            Order::Coming { question } => {
                let mut known = self.known();
                let waiting = known.waiting.get_mut(&question);
                if let Some(waiting) = waiting.filter(|waiting| waiting.agent == number) {
                    waiting.heard = Instant::now();
                }
            }
            Order::Closed => {
                if let Some(agent) = self.known().agents.get_mut(&number) {
                    agent.closed = true;
                }
                self.gone.notify_all();
            }
        }
    }

    /// A question of this agent's, which is answered now.
    fn taken(&self, number: u64, question: u64) -> Option<Question> {
        let mut known = self.known();
        match known.waiting.get(&question) {
            Some(waiting) if waiting.agent == number => known
                .waiting
                .remove(&question)
                .map(|waiting| waiting.question),
            _ => None,
        }
    }

    fn mark(&self, number: u64, file: BorrowedFd<'_>) -> io::Result<()> {
        let person = self.known().agents.get(&number).map(|agent| agent.person);
        let Some(person) = person else {
            return Err(io::Error::other("the agent is gone"));
        };
        // Known before it is marked, so that no question comes for which nobody is there.
        let inode = inode_of(&fstat(file)?);
        let before = self.known().answers_for.get(&inode).copied();
        let other = before.filter(|before| *before != number);
        if other.is_some_and(|other| self.known().agents.contains_key(&other)) {
            return Err(io::Error::other("another agent answers for it"));
        }
        {
            let mut known = self.known();
            if known.ending {
                return Err(io::Error::other("the opener is about to end"));
            }
            known.filled.remove(&inode);
            known.answers_for.insert(inode, number);
        }
        let marked = self.group.mark(file, person);
        if marked.is_err() && before.is_none() {
            self.known().answers_for.remove(&inode);
        }
        marked.map(drop)
    }
}
