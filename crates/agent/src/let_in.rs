//! What the agent knows of programs that open stubs: which it lets in, what comes for them now, and whom it kept out.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Instant;

use katabatic_core::EditTime;
use katabatic_core::admission::{Door, Rules, TooMuch, Verdict};
use serde::{Deserialize, Serialize};

use katabatic_sides::clock::{Clock, SystemClock};

/// So many programs that were kept out are remembered.
const REMEMBERED: usize = 50;

/// A program, as the system names it.
#[derive(Clone, Debug)]
pub(super) struct Program {
    /// What it calls itself.
    pub(super) name: String,
    /// The file that it was started from, where that may be looked at.
    file: Option<String>,
}

impl Program {
    pub(super) fn of(process: i32) -> Program {
        let name = std::fs::read_to_string(format!("/proc/{process}/comm"));
        let file = std::fs::read_link(format!("/proc/{process}/exe")).ok();
        let file = file
            .as_deref()
            .and_then(|file| file.file_name())
            .and_then(|name| name.to_str())
            .map(str::to_owned);
        let name = name.map_or_else(|_| "a program".to_owned(), |name| name.trim().to_owned());
        Program {
            // A program may call itself anything.
            name: name.replace(char::is_control, "?"),
            file,
        }
    }

    fn names(&self) -> Vec<&str> {
        let mut names = vec![self.name.as_str()];
        names.extend(self.file.as_deref());
        names
    }
}

/// What the agent tells about openings.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct OpeningsNow {
    /// Stubs whose content comes now, while a program waits.
    pub under_way: Vec<UnderWay>,
    /// Programs that were kept out since the agent began, the last one first.
    pub kept_out: Vec<KeptOut>,
}

/// A stub whose content comes now.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct UnderWay {
    /// Its lane.
    pub lane: String,
    /// Its path there.
    pub path: String,
    /// The program that waits.
    pub program: String,
    /// Its bytes, and of these, those that are here.
    pub bytes: (u64, u64),
    /// Since when, in nanoseconds since 1970.
    pub since: i64,
}

/// A program that was kept out.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeptOut {
    /// What it calls itself.
    pub program: String,
    /// How many times.
    pub times: u64,
    /// When last, in nanoseconds since 1970.
    pub last: i64,
    /// The rule that names it; none where it only got too much at once.
    pub rule: Option<String>,
    /// Until when it is kept out, where it got too much, in nanoseconds since 1970.
    pub until: Option<i64>,
}

#[derive(Debug)]
struct Known {
    door: Door,
    last: u64,
    under_way: BTreeMap<u64, UnderWay>,
    kept_out: Vec<KeptOut>,
}

/// Shared by all that answers programs, and by whoever asks how it stands.
#[derive(Clone, Debug)]
pub(super) struct LetIn {
    began: Instant,
    known: Arc<Mutex<Known>>,
}

/// Whether a program is let in, and whether the answer is new.
pub(super) enum Answer {
    LetIn,
    TooMuch { much: TooMuch, is_new: bool },
}

impl LetIn {
    pub(super) fn new() -> LetIn {
        LetIn {
            began: Instant::now(),
            known: Arc::new(Mutex::new(Known {
                door: Door::default(),
                last: 0,
                under_way: BTreeMap::new(),
                kept_out: Vec::new(),
            })),
        }
    }

    fn known(&self) -> MutexGuard<'_, Known> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// How it stands.
    pub(super) fn look(&self) -> OpeningsNow {
        let known = self.known();
        let mut kept_out = known.kept_out.clone();
        kept_out.sort_by_key(|kept_out| std::cmp::Reverse(kept_out.last));
        OpeningsNow {
            under_way: known.under_way.values().cloned().collect(),
            kept_out,
        }
    }

    /// Whether a program is one of those that only look; then it is remembered.
    pub(super) fn keeps_out(&self, rules: &Rules, program: &Program) -> bool {
        let rule = rules.keeps_out(&program.names()).map(str::to_owned);
        if let Some(rule) = &rule {
            let now = SystemClock.now();
            self.known().keep_out(program, now, Some(rule), None);
        }
        rule.is_some()
    }

    /// A program that is not kept out opens a stub of so many bytes.
    pub(super) fn asks(&self, rules: &Rules, program: &Program, bytes: u64) -> Answer {
        let now = SystemClock.now();
        let mut known = self.known();
        let verdict = known
            .door
            .asks(rules, &program.name, bytes, self.began.elapsed());
        match verdict {
            Verdict::LetIn => Answer::LetIn,
            Verdict::TooMuch(much) => {
                let wait = i64::try_from(much.again_in.as_nanos()).unwrap_or(i64::MAX);
                let until = now.0.saturating_add(wait);
                let is_new = known.keep_out(program, now, None, Some(until));
                Answer::TooMuch { much, is_new }
            }
        }
    }

    /// The content of a stub comes, until what is given back is dropped.
    pub(super) fn begin(&self, lane: &str, path: &str, program: &Program, bytes: u64) -> Coming {
        let mut known = self.known();
        known.last += 1;
        let number = known.last;
        let under_way = UnderWay {
            lane: lane.to_owned(),
            path: path.to_owned(),
            program: program.name.clone(),
            bytes: (bytes, 0),
            since: SystemClock.now().0,
        };
        known.under_way.insert(number, under_way);
        Coming {
            number,
            of: self.clone(),
        }
    }
}

impl Known {
    /// Remembers it; whether this program was let in up to now.
    fn keep_out(
        &mut self,
        program: &Program,
        now: EditTime,
        rule: Option<&str>,
        until: Option<i64>,
    ) -> bool {
        let before = self
            .kept_out
            .iter_mut()
            .find(|kept_out| kept_out.program == program.name && kept_out.rule.as_deref() == rule);
        if let Some(before) = before {
            let is_new = before.until.is_some_and(|until| until <= now.0);
            (before.times, before.last, before.until) = (before.times + 1, now.0, until);
            return is_new;
        }
        if self.kept_out.len() >= REMEMBERED {
            let oldest = self.kept_out.iter().enumerate();
            if let Some((oldest, _)) = oldest.min_by_key(|(_, kept_out)| kept_out.last) {
                self.kept_out.swap_remove(oldest);
            }
        }
        self.kept_out.push(KeptOut {
            program: program.name.clone(),
            times: 1,
            last: now.0,
            rule: rule.map(str::to_owned),
            until,
        });
        true
    }
}

/// Content that comes now.
pub(super) struct Coming {
    number: u64,
    of: LetIn,
}

impl Coming {
    /// So many bytes are here.
    pub(super) fn has(&self, bytes: u64) {
        if let Some(under_way) = self.of.known().under_way.get_mut(&self.number) {
            under_way.bytes.1 = bytes;
        }
    }

    /// There are so many in all.
    pub(super) fn has_in_all(&self, bytes: u64) {
        if let Some(under_way) = self.of.known().under_way.get_mut(&self.number) {
            under_way.bytes.0 = bytes;
        }
    }
}

impl Drop for Coming {
    fn drop(&mut self) {
        self.of.known().under_way.remove(&self.number);
    }
}
