//! Who is asked, who may have a file marked, and how long anybody waits: plain data in and out, without a system, a socket
//! or a clock.
//!
//! Everything that happens is told to [`Questions`], which says what is to be done about it ([`Act`]). Whoever does that
//! holds no lock meanwhile.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::time::{Duration, Instant};

pub use crate::wire::{NotMarked, Said};

/// An inode: device and number.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Inode {
    /// The device, major and minor.
    pub device: (u32, u32),
    /// The number there.
    pub number: u64,
}

/// How a question is answered.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Answer {
    /// The program goes on.
    Allow,
    /// As if the disk could not be read.
    Unreadable,
    /// As if the program had no right to it.
    Forbidden,
}

/// What one person may have, and how long anybody waits.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// Connections of one person.
    pub connections: usize,
    /// Programs that wait for one person's agents.
    pub questions: usize,
    /// Marked files of one person.
    pub marks: usize,
    /// Questions that lie with one agent at a time, so that they all fit into its socket however long it reads nothing.
    pub in_hand: usize,
    /// Nobody waits for longer without a block that came, or for an agent that has too much in hand already.
    pub silent: Duration,
    /// A program of the agent's own person waits for this long at most.
    pub own: Duration,
    /// A program of another person.
    pub others: Duration,
    /// Root, and the system's own services.
    pub system: Duration,
    /// So long, one with the other, the system's services wait for the agents of one person. It comes back by and by, a
    /// tenth as fast as it goes.
    pub system_in_all: Duration,
}

impl Default for Limits {
    fn default() -> Limits {
        Limits {
            connections: 16,
            questions: 1_000,
            marks: 1_000_000,
            in_hand: 128,
            silent: Duration::from_secs(30),
            own: Duration::from_secs(2 * 3600),
            others: Duration::from_secs(120),
            system: Duration::from_secs(5),
            system_in_all: Duration::from_secs(60),
        }
    }
}

/// The program that waits.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Waiter {
    /// All its rights are those of one user.
    One {
        /// The user.
        user: u32,
        /// It calls itself what ours does, which reads nothing of a stub.
        is_ours: bool,
    },
    /// It was started with the rights of one user and has those of another; or nothing could be found out.
    Mixed,
}

/// Whether a number is a person's, and not one of the system's services'.
fn is_a_person(user: u32) -> bool {
    const FIRST: u32 = 1_000;
    // Given to services while they run (systemd.exec(5), `DynamicUser`), and the last of them to nobody.
    const OF_SERVICES: std::ops::RangeInclusive<u32> = 61_184..=65_535;
    user >= FIRST && !OF_SERVICES.contains(&user)
}

/// A question as it comes from the system.
#[derive(Clone, Copy, Debug)]
pub struct Asked {
    /// The file.
    pub inode: Inode,
    /// To whom it belongs now.
    pub owner: u32,
    /// How many blocks of it are here.
    pub blocks: u64,
    /// The process that waits.
    pub process: i32,
    /// Who that is.
    pub waiter: Waiter,
}

/// What is to be done.
#[derive(Debug, PartialEq, Eq)]
pub enum Act<Q, S> {
    /// Tell an agent of a question, with the file, if it still is this person's. Where that is not possible at once, the
    /// agent is [`Questions::gone`].
    Ask {
        /// The agent, and the way to it.
        agent: (u64, S),
        /// Whose file it has to be.
        person: u32,
        /// The number of the question.
        question: u64,
        /// What the system waits with.
        asked: Q,
        /// The process that waits.
        process: i32,
    },
    /// Answer it.
    Answer(Q, Answer),
    /// Tell an agent that the opener is about to end.
    SayEnding(u64, S),
    /// Cut the connection of an agent.
    Cut(S),
}

/// What is to be done, in this order.
pub type Acts<Q, S> = Vec<Act<Q, S>>;

struct Agent<S> {
    socket: S,
    person: u32,
    process: i32,
    /// Its stubs have no rights any more, and it is asked nothing.
    closed: bool,
    /// Questions that lie with it.
    in_hand: BTreeSet<u64>,
    /// Questions that do not yet.
    queue: VecDeque<u64>,
}

struct Waiting<Q> {
    asked: Q,
    agent: u64,
    person: u32,
    process: i32,
    blocks: u64,
    since: Instant,
    /// When a block came last, or when the agent was told.
    came: Instant,
    longest: Duration,
    for_system: bool,
}

/// How long the system's services may wait yet for the agents of a person.
struct Allowance {
    left: Duration,
    at: Instant,
}

/// Who marked a file: that tells which of several agents of a person knows of it, and gives no right.
struct Mark {
    person: u32,
    agent: u64,
}

/// All that is known. `Q` is what the system waits with, `S` the way to an agent.
pub struct Questions<Q, S> {
    limits: Limits,
    last: u64,
    agents: BTreeMap<u64, Agent<S>>,
    marks: BTreeMap<Inode, Mark>,
    marked: BTreeMap<u32, usize>,
    waiting: BTreeMap<u64, Waiting<Q>>,
    allowances: BTreeMap<u32, Allowance>,
    ending: bool,
}

impl<Q: Clone, S: Clone> Questions<Q, S> {
    /// Nobody is there yet.
    #[must_use]
    pub fn new(limits: Limits) -> Questions<Q, S> {
        Questions {
            limits,
            last: 0,
            agents: BTreeMap::new(),
            marks: BTreeMap::new(),
            marked: BTreeMap::new(),
            waiting: BTreeMap::new(),
            allowances: BTreeMap::new(),
            ending: false,
        }
    }

    fn number(&mut self) -> u64 {
        self.last += 1;
        self.last
    }

    /// An agent connects; its number, or none where there can be no more.
    pub fn connects(&mut self, person: u32, process: i32, socket: S) -> Option<u64> {
        let theirs = self.agents.values();
        let theirs = theirs.filter(|agent| agent.person == person).count();
        // One that came now would give its stubs rights that nobody takes again.
        if self.ending || theirs >= self.limits.connections {
            return None;
        }
        let number = self.number();
        let agent = Agent {
            socket,
            person,
            process,
            closed: false,
            in_hand: BTreeSet::new(),
            queue: VecDeque::new(),
        };
        self.agents.insert(number, agent);
        Some(number)
    }

    /// An agent is gone, or is to be: what it was asked cannot be read.
    #[must_use]
    pub fn gone(&mut self, agent: u64, now: Instant) -> Acts<Q, S> {
        let Some(gone) = self.agents.remove(&agent) else {
            return Vec::new();
        };
        let mut acts = vec![Act::Cut(gone.socket)];
        for question in gone.in_hand.into_iter().chain(gone.queue) {
            let answered = self.over(question, now);
            acts.extend(answered.map(|asked| Act::Answer(asked, Answer::Unreadable)));
        }
        acts
    }

    /// A program opens a marked file.
    #[must_use]
    pub fn asked(&mut self, asked: Q, about: Asked, now: Instant) -> Acts<Q, S> {
        if self.is_let_through(&about) {
            return vec![Act::Answer(asked, Answer::Allow)];
        }
        let unreadable = |asked| vec![Act::Answer(asked, Answer::Unreadable)];
        let Some((agent, person)) = self.who_answers(about.inode, about.owner) else {
            return unreadable(asked);
        };
        let theirs = self.waiting.values();
        let theirs = theirs.filter(|waiting| waiting.person == person).count();
        if theirs >= self.limits.questions {
            return unreadable(asked);
        }
        let (longest, for_system) = match about.waiter {
            Waiter::One { user, .. } if user == person => (self.limits.own, false),
            Waiter::One { user, .. } if is_a_person(user) => (self.limits.others, false),
            Waiter::One { .. } | Waiter::Mixed => {
                let longest = self.limits.system;
                if self.allowance(person, now).left < longest {
                    return unreadable(asked);
                }
                (longest, true)
            }
        };
        let question = self.number();
        let waiting = Waiting {
            asked,
            agent,
            person,
            process: about.process,
            blocks: about.blocks,
            since: now,
            came: now,
            longest,
            for_system,
        };
        self.waiting.insert(question, waiting);
        if let Some(agent) = self.agents.get_mut(&agent) {
            agent.queue.push_back(question);
        }
        self.hand_on(agent, now)
    }

    /// Ours read nothing of a stub, and an agent must not wait for itself. One with rights of somebody else's is not taken
    /// for ours, whatever it is called: who starts a program may give it any name.
    fn is_let_through(&self, about: &Asked) -> bool {
        let Waiter::One { user, is_ours } = about.waiter else {
            return false;
        };
        let is_agent = |agent: &Agent<S>| agent.process == about.process && agent.person == user;
        is_ours || self.agents.values().any(is_agent)
    }

    /// The agent that is asked about a file, and its person: one of the owner's, or of root's that marked it.
    fn who_answers(&self, inode: Inode, owner: u32) -> Option<(u64, u32)> {
        let marked_by = self.marks.get(&inode).and_then(|mark| {
            let agent = self.agents.get(&mark.agent)?;
            let may = agent.person == owner || agent.person == 0;
            (may && !agent.closed).then_some((mark.agent, agent.person))
        });
        marked_by.or_else(|| {
            let agents = self.agents.iter().rev();
            let mut theirs = agents.filter(|(_, agent)| agent.person == owner && !agent.closed);
            theirs.next().map(|(number, agent)| (*number, agent.person))
        })
    }

    /// Tells an agent of as much as it may have in hand.
    fn hand_on(&mut self, number: u64, now: Instant) -> Acts<Q, S> {
        let mut acts = Vec::new();
        let Some(agent) = self.agents.get_mut(&number) else {
            return acts;
        };
        while agent.in_hand.len() < self.limits.in_hand
            && let Some(question) = agent.queue.pop_front()
        {
            let Some(waiting) = self.waiting.get_mut(&question) else {
                continue;
            };
            waiting.came = now;
            agent.in_hand.insert(question);
            acts.push(Act::Ask {
                agent: (number, agent.socket.clone()),
                person: agent.person,
                question,
                asked: waiting.asked.clone(),
                process: waiting.process,
            });
        }
        acts
    }

    /// What is asked in a question that an agent has in hand, and in none that it has not.
    pub fn in_hand(&self, agent: u64, question: u64) -> Option<Q> {
        let has = self.agents.get(&agent)?.in_hand.contains(&question);
        let waiting = self.waiting.get(&question).filter(|_| has);
        waiting.map(|waiting| waiting.asked.clone())
    }

    /// A question that an agent has in hand has its answer.
    #[must_use]
    pub fn answered(
        &mut self,
        agent: u64,
        question: u64,
        answer: Answer,
        now: Instant,
    ) -> Acts<Q, S> {
        if self.in_hand(agent, question).is_none() {
            return Vec::new();
        }
        let asked = self.over(question, now);
        let mut acts: Acts<Q, S> = asked
            .map(|asked| Act::Answer(asked, answer))
            .into_iter()
            .collect();
        acts.extend(self.hand_on(agent, now));
        acts
    }

    /// Nobody waits for this any more.
    fn over(&mut self, question: u64, now: Instant) -> Option<Q> {
        let waiting = self.waiting.remove(&question)?;
        if let Some(agent) = self.agents.get_mut(&waiting.agent) {
            agent.in_hand.remove(&question);
            agent.queue.retain(|queued| *queued != question);
        }
        if waiting.for_system {
            let held = now.saturating_duration_since(waiting.since);
            let allowance = self.allowance(waiting.person, now);
            allowance.left = allowance.left.saturating_sub(held);
        }
        Some(waiting.asked)
    }

    fn allowance(&mut self, person: u32, now: Instant) -> &mut Allowance {
        let all = self.limits.system_in_all;
        let allowance = self.allowances.entry(person);
        let allowance = allowance.or_insert(Allowance { left: all, at: now });
        let back = now.saturating_duration_since(allowance.at) / 10;
        allowance.left = all.min(allowance.left.saturating_add(back));
        allowance.at = now;
        allowance
    }

    /// Whether any question is open.
    #[must_use]
    pub fn anybody_waits(&self) -> bool {
        !self.waiting.is_empty()
    }

    /// What nobody waits for any longer is answered; `blocks` looks how much of a file is here now.
    #[must_use]
    pub fn time_goes_by(&mut self, now: Instant, blocks: impl Fn(&Q) -> u64) -> Acts<Q, S> {
        let (mut late, mut have_room) = (Vec::new(), BTreeSet::new());
        for (number, waiting) in &mut self.waiting {
            let here = blocks(&waiting.asked);
            if here > waiting.blocks {
                waiting.blocks = here;
                waiting.came = now;
            }
            let too_long = now.saturating_duration_since(waiting.since) >= waiting.longest;
            if too_long || now.saturating_duration_since(waiting.came) >= self.limits.silent {
                late.push(*number);
                have_room.insert(waiting.agent);
            }
        }
        let mut acts = Vec::new();
        for question in late {
            let asked = self.over(question, now);
            acts.extend(asked.map(|asked| Act::Answer(asked, Answer::Unreadable)));
        }
        for agent in have_room {
            acts.extend(self.hand_on(agent, now));
        }
        acts
    }

    /// A person's agent wants a file marked, which belongs to `owner`: it is entered, and the system is to be told. Whether
    /// it is entered for the first time: then it has [`Questions::no_mark`] where the system does not do it.
    ///
    /// # Errors
    /// Why it may not.
    pub fn may_mark(
        &mut self,
        agent: u64,
        (inode, owner): (Inode, u32),
    ) -> Result<bool, NotMarked> {
        let Some(person) = self.agents.get(&agent).map(|agent| agent.person) else {
            return Err(NotMarked::Ending);
        };
        if self.ending {
            return Err(NotMarked::Ending);
        }
        if person != 0 && owner != person {
            return Err(NotMarked::NotYours);
        }
        let before = self.marks.get(&inode).map(|mark| mark.person);
        let has = self.marked.get(&person).copied().unwrap_or_default();
        if before != Some(person) && has >= self.limits.marks {
            return Err(NotMarked::TooMany(self.limits.marks));
        }
        self.no_mark(inode);
        self.marks.insert(inode, Mark { person, agent });
        *self.marked.entry(person).or_default() += 1;
        Ok(before.is_none())
    }

    /// A file has no mark any more, or never had one.
    pub fn no_mark(&mut self, inode: Inode) {
        let Some(mark) = self.marks.remove(&inode) else {
            return;
        };
        if let Some(has) = self.marked.get_mut(&mark.person) {
            *has -= 1;
            if *has == 0 {
                self.marked.remove(&mark.person);
            }
        }
    }

    /// Marks of files that are gone are forgotten: the numbers of those that have one are these.
    pub fn only_these_are_marked(&mut self, numbers: &BTreeSet<u64>) {
        let gone: Vec<Inode> = self
            .marks
            .keys()
            .filter(|inode| !numbers.contains(&inode.number))
            .copied()
            .collect();
        for inode in gone {
            self.no_mark(inode);
        }
    }

    /// The stubs of an agent have no rights any more.
    pub fn closed(&mut self, agent: u64) {
        if let Some(agent) = self.agents.get_mut(&agent) {
            agent.closed = true;
        }
    }

    /// The opener is about to end: nobody comes any more, and everybody is told.
    #[must_use]
    pub fn ends(&mut self) -> Acts<Q, S> {
        self.ending = true;
        let agents = self.agents.iter();
        let acts = agents.map(|(number, agent)| Act::SayEnding(*number, agent.socket.clone()));
        acts.collect()
    }

    /// Whether every agent has closed its stubs.
    #[must_use]
    pub fn all_are_closed(&self) -> bool {
        self.agents.values().all(|agent| agent.closed)
    }

    /// Everything that is open is answered: it cannot be read.
    #[must_use]
    pub fn answer_all(&mut self) -> Acts<Q, S> {
        let waiting = std::mem::take(&mut self.waiting);
        let answer = |waiting: Waiting<Q>| Act::Answer(waiting.asked, Answer::Unreadable);
        waiting.into_values().map(answer).collect()
    }
}
