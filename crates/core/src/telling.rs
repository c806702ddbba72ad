//! What is told to people who do not look: each thing once, few of them an hour, none in their quiet hours.
//!
//! Nothing here sends anything or looks at a clock. What may not be told yet is gathered, and told as one.

use std::collections::{BTreeMap, VecDeque};

use jiff::civil::Time;
use jiff::{SignedDuration, Zoned};

/// Why something is told.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Kind {
    /// A pass ended with all settled, after something was wrong.
    Success,
    /// A pass carried, removed or replaced something.
    Changes,
    /// Something needs a person, or does not work.
    Problem,
}

impl Kind {
    /// All of them.
    pub const ALL: [Kind; 3] = [Kind::Success, Kind::Changes, Kind::Problem];

    /// Its word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Kind::Success => "success",
            Kind::Changes => "changes",
            Kind::Problem => "problem",
        }
    }

    /// The kind of this word.
    #[must_use]
    pub fn parse(word: &str) -> Option<Kind> {
        Kind::ALL.into_iter().find(|kind| kind.word() == word)
    }
}

/// Something to be told.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Message {
    /// Why.
    pub kind: Kind,
    /// The lane it is about.
    pub lane: String,
    /// In one line.
    pub title: String,
    /// What happened, and the next step.
    pub text: String,
}

/// No more than this are told in an hour; what comes beyond is gathered.
pub const AN_HOUR: usize = 4;

/// Of what was gathered, so many are named.
const NAMED: usize = 8;

/// Hours in which nothing is told.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct QuietHours {
    /// They begin.
    pub from: Time,
    /// They end; on the next day where that is earlier.
    pub until: Time,
}

impl QuietHours {
    /// Reads `22:00-07:00`.
    ///
    /// # Errors
    /// Says how they are written.
    pub fn parse(text: &str) -> Result<QuietHours, String> {
        let times = text.split_once('-').and_then(|(from, until)| {
            let read = |text: &str| crate::schedule::read_time(text.trim());
            read(from).zip(read(until))
        });
        match times {
            Some((from, until)) if from != until => Ok(QuietHours { from, until }),
            _ => Err(format!(
                "{text:?} are no hours; write them like 22:00-07:00"
            )),
        }
    }

    /// When they end, where this moment is in them.
    fn end(&self, now: &Zoned) -> Option<Zoned> {
        let time = now.time();
        let (today, tomorrow) = (now.date(), now.date().tomorrow().ok()?);
        let date = if self.from < self.until {
            (self.from..self.until).contains(&time).then_some(today)?
        } else if time >= self.from {
            tomorrow
        } else {
            (time < self.until).then_some(today)?
        };
        let end = date.to_datetime(self.until);
        end.to_zoned(now.time_zone().clone()).ok()
    }
}

impl std::fmt::Display for QuietHours {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let at = |time: Time| format!("{:02}:{:02}", time.hour(), time.minute());
        write!(out, "{}-{}", at(self.from), at(self.until))
    }
}

/// Decides what is told when, over one way of telling.
#[derive(Debug, Default)]
pub struct Messenger {
    /// What is told over it.
    kinds: Vec<Kind>,
    quiet: Option<QuietHours>,
    /// What each lane has as its problem, and was told.
    problems: BTreeMap<String, String>,
    sent: VecDeque<Zoned>,
    held: Vec<Message>,
}

impl Messenger {
    /// For these kinds, and never in these hours.
    #[must_use]
    pub fn new(kinds: Vec<Kind>, quiet: Option<QuietHours>) -> Messenger {
        Messenger {
            kinds,
            quiet,
            ..Messenger::default()
        }
    }

    /// Takes in what happened. A problem that was told already is no news; a success is one only after a problem.
    pub fn hear(&mut self, message: Message) {
        let news = match message.kind {
            Kind::Problem => {
                let known = self
                    .problems
                    .insert(message.lane.clone(), message.title.clone());
                known.as_ref() != Some(&message.title)
            }
            Kind::Success => self.problems.remove(&message.lane).is_some(),
            Kind::Changes => true,
        };
        if news && self.kinds.contains(&message.kind) {
            self.held.push(message);
        }
    }

    /// When something may be told next; none where there is nothing to tell.
    #[must_use]
    pub fn due(&self, now: &Zoned) -> Option<Zoned> {
        if self.held.is_empty() {
            return None;
        }
        let hour = SignedDuration::from_hours(1);
        let free = match self.sent.len().checked_sub(AN_HOUR) {
            Some(at) => self.sent[at].checked_add(hour).ok()?,
            None => now.clone(),
        };
        let earliest = free.max(now.clone());
        match self.quiet.and_then(|quiet| quiet.end(&earliest)) {
            Some(end) => Some(end),
            None => Some(earliest),
        }
    }

    /// What is to be told now: one message, however much was gathered.
    pub fn take(&mut self, now: &Zoned) -> Option<Message> {
        if self.due(now)? > *now {
            return None;
        }
        self.sent.push_back(now.clone());
        while self.sent.len() > AN_HOUR {
            self.sent.pop_front();
        }
        let mut held = std::mem::take(&mut self.held);
        if held.len() == 1 {
            return held.pop();
        }
        let kind = held.iter().map(|message| message.kind).max()?;
        let mut lanes: Vec<&str> = held.iter().map(|message| message.lane.as_str()).collect();
        lanes.sort_unstable();
        lanes.dedup();
        let lines = held.iter().map(|message| format!("- {}", message.title));
        let mut text: Vec<String> = lines.take(NAMED).collect();
        if held.len() > NAMED {
            text.push(format!("and {} more", held.len() - NAMED));
        }
        text.push("See all: katabatic status, katabatic runs".into());
        Some(Message {
            kind,
            lane: lanes.join(", "),
            title: format!("{} things happened in {}", held.len(), lanes.join(", ")),
            text: text.join("\n"),
        })
    }
}

#[cfg(test)]
mod tests {
    use jiff::tz::TimeZone;

    use super::*;

    fn at(text: &str) -> Zoned {
        let at: jiff::civil::DateTime = text.parse().unwrap();
        at.to_zoned(TimeZone::UTC).unwrap()
    }

    fn message(kind: Kind, lane: &str, title: &str) -> Message {
        Message {
            kind,
            lane: lane.into(),
            title: title.into(),
            text: String::new(),
        }
    }

    #[test]
    fn a_problem_is_told_once_and_its_end_once() {
        let mut all = Messenger::new(Kind::ALL.into(), None);
        let now = at("2026-11-26T10:00");
        let mut told = |kind, title: &str| {
            all.hear(message(kind, "scores", title));
            all.take(&now).map(|message| message.title)
        };
        assert_eq!(
            told(Kind::Success, "all settled"),
            None,
            "nothing was wrong"
        );
        assert_eq!(told(Kind::Problem, "1 stuck").as_deref(), Some("1 stuck"));
        assert_eq!(told(Kind::Problem, "1 stuck"), None);
        assert_eq!(told(Kind::Problem, "2 stuck").as_deref(), Some("2 stuck"));
        assert_eq!(told(Kind::Success, "settled").as_deref(), Some("settled"));
        assert_eq!(told(Kind::Success, "settled"), None);
        assert_eq!(told(Kind::Problem, "1 stuck").as_deref(), Some("1 stuck"));
    }

    #[test]
    fn few_are_told_an_hour_and_the_rest_as_one() {
        let mut all = Messenger::new(vec![Kind::Changes], None);
        let mut told = 0;
        for minute in 0..50 {
            let now = at(&format!("2026-11-26T10:{minute:02}"));
            all.hear(message(
                Kind::Changes,
                "scores",
                &format!("change {minute}"),
            ));
            all.hear(message(Kind::Problem, "scores", "not wanted here"));
            told += usize::from(all.take(&now).is_some());
        }
        assert_eq!(told, AN_HOUR);
        assert_eq!(
            all.due(&at("2026-11-26T10:50")),
            Some(at("2026-11-26T11:00"))
        );
        let last = all.take(&at("2026-11-26T11:00")).unwrap();
        assert_eq!(last.title, "46 things happened in scores");
        assert!(last.text.contains("change 4\n") && last.text.contains("and 38 more"));
        assert_eq!(all.due(&at("2026-11-26T11:00")), None);
    }

    #[test]
    fn nothing_is_told_in_quiet_hours() {
        let quiet = QuietHours::parse("22:00-07:00").unwrap();
        assert_eq!(quiet.to_string(), "22:00-07:00");
        let mut all = Messenger::new(Kind::ALL.into(), Some(quiet));
        all.hear(message(Kind::Problem, "scores", "stuck"));
        let night = at("2026-11-26T23:30");
        assert_eq!(all.take(&night), None);
        assert_eq!(all.due(&night), Some(at("2026-11-27T07:00")));
        assert_eq!(
            all.due(&at("2026-11-27T03:00")),
            Some(at("2026-11-27T07:00"))
        );
        assert!(all.take(&at("2026-11-27T07:00")).is_some());
        let noon = QuietHours::parse("12:00-13:00").unwrap();
        assert_eq!(
            noon.end(&at("2026-11-26T12:30")),
            Some(at("2026-11-26T13:00"))
        );
        assert_eq!(noon.end(&at("2026-11-26T13:00")), None);
        for text in ["", "22:00", "07:00-07:00", "25:00-07:00"] {
            assert!(QuietHours::parse(text).is_err(), "{text}");
        }
    }
}
