//! A million things that happen to an opener, in any order, from several people: agents that come, go, lie and say nothing;
//! files that change hands and go, and others that get their numbers; programs of everybody's that open them.
//!
//! Whatever happens, nobody is asked about a file that is not theirs, no program is let in by anybody but the one who was
//! asked, every question is answered once, and none later than it may be.
#![allow(
    clippy::unwrap_used,
    reason = "a test stops where its world cannot be made"
)]

use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

use katabatic_opener::questions::{Act, Acts, Answer, Asked, Inode, Limits, Questions, Waiter};

const PEOPLE: [u32; 4] = [0, 1_000, 1_001, 1_002];
const WAITERS: [Waiter; 7] = [
    one(0, false),
    one(33, false),
    one(1_000, false),
    one(1_001, false),
    one(1_002, true),
    one(65_534, false),
    Waiter::Mixed,
];

const fn one(user: u32, is_ours: bool) -> Waiter {
    Waiter::One { user, is_ours }
}

const SECOND: Duration = Duration::from_secs(1);

fn limits() -> Limits {
    Limits {
        connections: 3,
        questions: 12,
        marks: 20,
        in_hand: 4,
        silent: SECOND * 30,
        own: SECOND * 100,
        others: SECOND * 50,
        system: SECOND * 5,
        system_in_all: SECOND * 20,
    }
}

#[derive(Clone, Copy)]
struct File {
    owner: u32,
    blocks: u64,
}

struct Open {
    file: usize,
    waiter: Waiter,
    since: Instant,
    /// Who was asked, and whether they said that the content is here.
    asked: Option<(u64, u32)>,
    let_in: bool,
}

struct World {
    random: fastrand::Rng,
    now: Instant,
    questions: Questions<usize, u64>,
    files: Vec<File>,
    /// The system's marks.
    marked: BTreeSet<usize>,
    agents: BTreeMap<u64, u32>,
    /// Agents that read nothing any more.
    deaf: BTreeSet<u64>,
    sockets: u64,
    opens: BTreeMap<usize, Open>,
    opened: usize,
    /// What numbers agents have heard of.
    numbers: Vec<u64>,
    by_number: BTreeMap<u64, usize>,
    answers: BTreeMap<&'static str, u64>,
}

impl World {
    fn new(seed: u64) -> World {
        let mut random = fastrand::Rng::with_seed(seed);
        let files = (0..40).map(|_| File {
            owner: random.choice(PEOPLE).unwrap(),
            blocks: 0,
        });
        let files = files.collect();
        World {
            random,
            now: Instant::now(),
            questions: Questions::new(limits()),
            files,
            marked: BTreeSet::new(),
            agents: BTreeMap::new(),
            deaf: BTreeSet::new(),
            sockets: 0,
            opens: BTreeMap::new(),
            opened: 0,
            numbers: Vec::new(),
            by_number: BTreeMap::new(),
            answers: BTreeMap::new(),
        }
    }

    fn some_agent(&mut self) -> Option<u64> {
        let agents: Vec<u64> = self.agents.keys().copied().collect();
        self.random.choice(agents)
    }

    fn inode(file: usize) -> Inode {
        Inode {
            device: (8, 1),
            number: file as u64,
        }
    }

    fn act(&mut self, acts: Acts<usize, u64>) {
        let mut acts = std::collections::VecDeque::from(acts);
        while let Some(act) = acts.pop_front() {
            match act {
                Act::Answer(open, answer) => self.answered(open, answer),
                Act::Ask {
                    agent: (agent, _),
                    person,
                    question,
                    asked,
                    ..
                } => {
                    let Some(asked_person) = self.agents.get(&agent) else {
                        // It went a moment before; that this cannot be read is said next.
                        continue;
                    };
                    assert_eq!(*asked_person, person);
                    let owner = self.files[self.opens[&asked].file].owner;
                    if owner != person && person != 0 {
                        // Seen right before its descriptor would go.
                        let unreadable = Answer::Unreadable;
                        let more = self
                            .questions
                            .answered(agent, question, unreadable, self.now);
                        acts.extend(more);
                        continue;
                    }
                    if self.deaf.contains(&agent) && self.random.u8(..4) == 0 {
                        self.agents.remove(&agent);
                        acts.extend(self.questions.gone(agent, self.now));
                        continue;
                    }
                    let open = self.opens.get_mut(&asked).unwrap();
                    assert!(open.asked.is_none(), "asked twice");
                    open.asked = Some((agent, person));
                    self.numbers.push(question);
                    self.by_number.insert(question, asked);
                }
                Act::SayEnding(..) => unreachable!("nothing ends here"),
                Act::Cut(_) => {}
            }
        }
    }

    fn answered(&mut self, open: usize, answer: Answer) {
        let open = self.opens.remove(&open).expect("answered twice");
        let what = match answer {
            Answer::Allow => "let in",
            Answer::Unreadable => "unreadable",
            Answer::Forbidden => "forbidden",
        };
        *self.answers.entry(what).or_default() += 1;
        if answer == Answer::Allow && !open.let_in {
            let Waiter::One { user, is_ours } = open.waiter else {
                panic!("one with rights of several was let in by nobody");
            };
            // Ours, or an agent.
            assert!(is_ours || self.agents.values().any(|person| *person == user));
        }
    }

    fn one_thing(&mut self) {
        match self.random.u8(..20) {
            0 => {
                let person = self.random.choice(PEOPLE).unwrap();
                let theirs = self.agents.values().filter(|there| **there == person);
                let has_room = theirs.count() < limits().connections;
                self.sockets += 1;
                let process = self.random.i32(1..500);
                let agent = self.questions.connects(person, process, self.sockets);
                assert_eq!(agent.is_some(), has_room);
                if let Some(agent) = agent {
                    self.agents.insert(agent, person);
                    if self.random.bool() {
                        self.deaf.insert(agent);
                    }
                }
            }
            1 if self.random.bool() => {
                if let Some(agent) = self.some_agent() {
                    self.agents.remove(&agent);
                    let acts = self.questions.gone(agent, self.now);
                    self.act(acts);
                }
            }
            2..5 => self.marks(),
            5..11 => self.opens(),
            11..15 => self.says(),
            15 => {
                // Root gives the file away, or it is gone and another one gets its number.
                let file = self.random.usize(..self.files.len());
                self.files[file].owner = self.random.choice(PEOPLE).unwrap();
                if self.random.bool() {
                    self.marked.remove(&file);
                }
            }
            16 => {
                let file = self.random.usize(..self.files.len());
                self.files[file].blocks += 8;
            }
            17 if self.random.u8(..50) == 0 => {
                let marked = self.marked.iter().map(|file| *file as u64).collect();
                self.questions.only_these_are_marked(&marked);
            }
            18 if self.random.u16(..1_000) == 0 => {
                if let Some(agent) = self.some_agent() {
                    self.questions.closed(agent);
                }
            }
            _ => self.time_goes_by(),
        }
    }

    fn marks(&mut self) {
        let Some(agent) = self.some_agent() else {
            return;
        };
        let (person, file) = (self.agents[&agent], self.random.usize(..self.files.len()));
        let owner = self.files[file].owner;
        let entered = self.questions.may_mark(agent, (World::inode(file), owner));
        if person != 0 && person != owner {
            assert!(entered.is_err());
        }
        if let Ok(is_new) = entered {
            if self.random.u8(..8) == 0 && is_new {
                self.questions.no_mark(World::inode(file));
            } else {
                self.marked.insert(file);
            }
        }
    }

    fn opens(&mut self) {
        let file = self.random.usize(..self.files.len());
        if !self.marked.contains(&file) {
            return;
        }
        let waiter = self.random.choice(WAITERS).unwrap();
        self.opened += 1;
        let open = Open {
            file,
            waiter,
            since: self.now,
            asked: None,
            let_in: false,
        };
        self.opens.insert(self.opened, open);
        let about = Asked {
            inode: World::inode(file),
            owner: self.files[file].owner,
            blocks: self.files[file].blocks,
            process: self.random.i32(1..500),
            waiter,
        };
        let acts = self.questions.asked(self.opened, about, self.now);
        self.act(acts);
        for person in PEOPLE {
            let theirs = self.opens.values();
            let theirs = theirs.filter(|open| open.asked.is_some_and(|(_, asked)| asked == person));
            assert!(theirs.count() <= limits().questions);
        }
        for agent in self.agents.keys() {
            let theirs = self.opens.values();
            let theirs = theirs.filter(|open| open.asked.is_some_and(|(asked, _)| asked == *agent));
            assert!(theirs.count() <= limits().in_hand);
        }
    }

    /// Any agent says anything of any question that it may have heard of, or guessed.
    fn says(&mut self) {
        let Some(agent) = self.some_agent() else {
            return;
        };
        let heard = self.numbers.len();
        let question = match self.random.u8(..8) {
            0 => self.random.u64(..u64::from(u32::MAX)),
            _ if heard == 0 => return,
            _ => self.numbers[self.random.usize(heard.saturating_sub(20)..heard)],
        };
        let is_theirs = self.by_number.get(&question).and_then(|open| {
            let open = self.opens.get(open)?;
            Some(open.asked?.0 == agent)
        });
        let held = self.questions.in_hand(agent, question);
        assert_eq!(held.is_some(), is_theirs == Some(true));
        let answer = self
            .random
            .choice([Answer::Allow, Answer::Unreadable, Answer::Forbidden]);
        let answer = answer.unwrap();
        if let (Some(open), Answer::Allow) = (held, answer) {
            self.opens.get_mut(&open).unwrap().let_in = true;
        }
        let acts = self.questions.answered(agent, question, answer, self.now);
        self.act(acts);
    }

    fn time_goes_by(&mut self) {
        self.now += Duration::from_millis(self.random.u64(..1_500));
        let (files, opens) = (&self.files, &self.opens);
        let blocks = |open: &usize| files[opens[open].file].blocks;
        let acts = self.questions.time_goes_by(self.now, blocks);
        self.act(acts);
        for open in self.opens.values() {
            let waited = self.now - open.since;
            let owner = open.asked.map(|(_, person)| person);
            let longest = match open.waiter {
                Waiter::Mixed => limits().system,
                Waiter::One { user, .. } if owner.is_none_or(|owner| owner == user) => limits().own,
                Waiter::One { user, .. } if (1_000..60_000).contains(&user) => limits().others,
                Waiter::One { .. } => limits().system,
            };
            assert!(waited < longest, "{:?} waited {waited:?}", open.waiter);
        }
        assert_eq!(self.questions.anybody_waits(), !self.opens.is_empty());
    }
}

#[test]
fn nobody_is_asked_of_anothers_file_and_nobody_waits_too_long_in_a_million_steps() {
    for seed in 0..10 {
        let mut world = World::new(seed);
        for _ in 0..100_000 {
            world.one_thing();
        }
        for what in ["let in", "unreadable", "forbidden"] {
            let times = world.answers.get(what).copied().unwrap_or_default();
            assert!(
                times > 100,
                "{what} only {times} times: {:?}",
                world.answers
            );
        }
    }
}

/// One agent of one person, which marked a file of theirs.
fn with_one_agent() -> (Questions<usize, u64>, u64, Asked, Instant) {
    let mut questions = Questions::new(limits());
    let agent = questions.connects(1_000, 4_711, 1).unwrap();
    let about = Asked {
        inode: World::inode(1),
        owner: 1_000,
        blocks: 0,
        process: 1,
        waiter: one(1_000, false),
    };
    questions.may_mark(agent, (about.inode, 1_000)).unwrap();
    (questions, agent, about, Instant::now())
}

fn question_of(acts: &Acts<usize, u64>) -> Option<u64> {
    acts.iter().find_map(|act| match act {
        Act::Ask { question, .. } => Some(*question),
        Act::Answer(..) | Act::SayEnding(..) | Act::Cut(_) => None,
    })
}

#[test]
fn a_file_that_changed_hands_is_no_longer_the_old_owners() {
    let (mut questions, _, about, now) = with_one_agent();
    let taken = Asked { owner: 0, ..about };
    let acts = questions.asked(1, taken, now);
    assert_eq!(acts, [Act::Answer(1, Answer::Unreadable)]);
    // Nor is one that got the number of a file that is gone.
    let others = Asked {
        owner: 1_001,
        ..about
    };
    let acts = questions.asked(2, others, now);
    assert_eq!(acts, [Act::Answer(2, Answer::Unreadable)]);
    let agent = questions.connects(1_001, 4_712, 2).unwrap();
    questions.may_mark(agent, (about.inode, 1_001)).unwrap();
    assert!(question_of(&questions.asked(3, others, now)).is_some());
}

#[test]
fn blocks_that_come_keep_a_program_waiting_and_words_do_not() {
    let (mut questions, _, about, begun) = with_one_agent();
    assert!(question_of(&questions.asked(1, about, begun)).is_some());
    let after = |seconds| begun + SECOND * seconds;
    assert_eq!(questions.time_goes_by(after(20), |_| 8), []);
    assert_eq!(questions.time_goes_by(after(49), |_| 8), []);
    let acts = questions.time_goes_by(after(50), |_| 8);
    assert_eq!(acts, [Act::Answer(1, Answer::Unreadable)]);
    // And not for ever, whatever comes.
    assert!(question_of(&questions.asked(2, about, after(50))).is_some());
    for more in 1..10 {
        let acts = questions.time_goes_by(after(50 + 10 * more), |_| more.into());
        assert_eq!(acts, []);
    }
    let acts = questions.time_goes_by(after(150), |_| 100);
    assert_eq!(acts, [Act::Answer(2, Answer::Unreadable)]);
}

#[test]
fn the_systems_services_are_not_held_again_and_again() {
    let (mut questions, _, about, begun) = with_one_agent();
    let about = Asked {
        waiter: Waiter::Mixed,
        ..about
    };
    let mut now = begun;
    // A service that reads one file after the other is held for seconds each time, until it is not any more.
    for open in 0..4 {
        assert!(question_of(&questions.asked(open, about, now)).is_some());
        now += SECOND * 5;
        let acts = questions.time_goes_by(now, |_| 0);
        assert_eq!(acts, [Act::Answer(open, Answer::Unreadable)]);
    }
    let mut held = Duration::ZERO;
    for open in 4..100 {
        if question_of(&questions.asked(open, about, now)).is_some() {
            now += SECOND * 5;
            held += SECOND * 5;
            let _ = questions.time_goes_by(now, |_| 0);
        }
    }
    assert!(held <= SECOND * 10, "held for {held:?}");
    // The person's own programs wait as ever.
    let own = Asked {
        waiter: one(1_000, false),
        ..about
    };
    assert!(question_of(&questions.asked(100, own, now)).is_some());
    // An hour later there is patience again.
    now += SECOND * 3_600;
    assert!(question_of(&questions.asked(101, about, now)).is_some());
}

#[test]
fn marks_of_files_that_are_gone_do_not_count_for_ever() {
    let (mut questions, agent, _, _) = with_one_agent();
    for file in 2..=20 {
        questions
            .may_mark(agent, (World::inode(file), 1_000))
            .unwrap();
    }
    let one_more = (World::inode(21), 1_000);
    assert!(questions.may_mark(agent, one_more).is_err());
    let (mut there, last) = (BTreeSet::new(), 20);
    there.insert(last);
    questions.only_these_are_marked(&there);
    questions.may_mark(agent, one_more).unwrap();
    // Those of one that goes stay: the system has them still.
    let _ = questions.gone(agent, Instant::now());
    let another = questions.connects(1_000, 4_713, 3).unwrap();
    for file in 22..40 {
        questions
            .may_mark(another, (World::inode(file), 1_000))
            .unwrap();
    }
    assert!(
        questions
            .may_mark(another, (World::inode(40), 1_000))
            .is_err()
    );
}

#[test]
fn only_what_has_one_users_rights_is_let_through_without_a_question() {
    let (mut questions, _, about, now) = with_one_agent();
    let mut asks = |waiter, process| {
        let about = Asked {
            waiter,
            process,
            ..about
        };
        question_of(&questions.asked(1, about, now)).is_some()
    };
    assert!(!asks(one(1_001, true), 1), "ours");
    assert!(!asks(one(1_000, false), 4_711), "the agent itself");
    // What the agent's process became, with rights of root's.
    assert!(asks(Waiter::Mixed, 4_711));
    assert!(asks(one(0, false), 4_711));
}
