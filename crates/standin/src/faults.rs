//! The faults, each of which some real server or line was seen to have.

use std::path::Path;
use std::str::FromStr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use crate::births::Births;
use crate::habits::{self, Habit, Habits};
use crate::random::Random;

/// One fault, as it is asked for: `busy=0.2`, `hide-dots`, `unreadable=Past seasons`.
#[derive(Clone, Debug, PartialEq)]
pub struct Fault {
    text: String,
    kind: Kind,
}

#[derive(Clone, Debug, PartialEq)]
enum Kind {
    Delay(Duration),
    Slow(u64),
    Busy(f64),
    TooMany(f64),
    ComeBack(u64),
    Broken(f64),
    Locked(f64),
    Cut(f64),
    Mute(f64),
    Flip(f64),
    WrongLength(f64),
    ShortListing(f64),
    Tags(Tags),
    Unreadable(String),
    Without(Feature),
    Redirect(String),
    SilentTo(String),
    Clock(i64),
    Software(String),
    Xml(OddXml),
    Largest(u64),
    Unserved(String),
    WithoutMethod(String),
    WriteBehind(Duration),
    Habit(Habit),
}

/// What is wrong with the version tags.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Tags {
    /// Weak for a second after a write, then the same value strong.
    Late,
    /// Made of whole seconds and the size.
    Coarse,
    /// The number of the version alone.
    Counted,
    /// Made of the time and the size, so that files that came together share one.
    Clock,
    /// None at all.
    Missing,
    /// Another one in each answer.
    Restless,
}

/// Something that this server can do and others cannot.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Feature {
    PartialPut,
    Infinity,
    Properties,
    Quota,
    Changes,
    Locks,
    Digests,
    Principal,
    Rights,
    ResourceIds,
}

/// What is wrong with a listing's XML.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum OddXml {
    Entities,
    Nested,
    Encoding,
    Cut,
}

/// What every fault is called and does, for help and errors: name, the form of its value, meaning.
pub const FAULTS: [(&str, &str, &str); 24] = [
    ("delay", "MS", "every answer waits this long first"),
    (
        "slow",
        "BYTES",
        "bodies go at this many bytes a second, both ways",
    ),
    ("busy", "SHARE", "answered 503 with Retry-After: 0"),
    ("too-many", "SHARE", "answered 429 with Retry-After: 0"),
    (
        "come-back",
        "SECONDS",
        "every request is answered 503 with this Retry-After",
    ),
    ("broken", "SHARE", "answered 500"),
    ("locked", "SHARE", "changes are answered 423"),
    (
        "cut",
        "SHARE",
        "transfers are cut off in the middle of the body",
    ),
    (
        "mute",
        "SHARE",
        "carried out, and the line is cut before the answer",
    ),
    ("flip", "SHARE", "downloads have one bit flipped"),
    (
        "wrong-length",
        "SHARE",
        "downloads end a byte too early, and say so",
    ),
    (
        "short-listing",
        "SHARE",
        "listings lack their last members, and look whole",
    ),
    (
        "tags",
        "late|coarse|counted|clock|missing|restless",
        "weak for a second; whole seconds and size; a number alone, blind to changes on the disk; time and size, which files share; none; another one in each answer",
    ),
    ("unreadable", "FOLDER", "this folder cannot be listed"),
    (
        "without",
        "partial-put|infinity|properties|quota|changes|locks|digests|principal|rights|resource-ids",
        "what this server then does not offer",
    ),
    (
        "redirect",
        "URL|loop",
        "every request is sent elsewhere, or round and round",
    ),
    (
        "silent-to",
        "METHOD",
        "requests of this method are carried out and never answered",
    ),
    (
        "clock",
        "SECONDS",
        "the server's clock is ahead by this much, or behind",
    ),
    ("software", "TEXT", "the server calls its software this"),
    (
        "xml",
        "entities|nested|encoding|cut",
        "listings are XML that nobody should trust",
    ),
    ("largest", "BYTES", "a body that is longer is refused (413)"),
    (
        "unserved",
        "CHARACTERS",
        "names with one of these are listed, and not found when they are asked for (404)",
    ),
    (
        "without-method",
        "METHOD",
        "requests of this method are refused (501)",
    ),
    (
        "write-behind",
        "MS",
        "what gets a new name is listed this much later",
    ),
];

/// What a server always does or never does, for help: name and meaning.
pub fn habits() -> impl Iterator<Item = (&'static str, &'static str)> {
    habits::TABLE
        .iter()
        .map(|(_, name, meaning)| (*name, *meaning))
}

/// A fault that was asked for in words nobody understands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FaultError(String);

impl std::error::Error for FaultError {}

impl std::fmt::Display for FaultError {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let known: Vec<String> = FAULTS
            .iter()
            .map(|(name, value, _)| format!("{name}={value}"))
            .chain(habits().map(|(name, _)| name.to_owned()))
            .collect();
        write!(
            out,
            "`{}` is no fault; there are {} (shares from 0 to 1)",
            self.0,
            known.join(", ")
        )
    }
}

impl FromStr for Fault {
    type Err = FaultError;

    fn from_str(text: &str) -> Result<Fault, FaultError> {
        let kind = kind(text).ok_or_else(|| FaultError(text.to_owned()))?;
        Ok(Fault {
            text: text.to_owned(),
            kind,
        })
    }
}

fn kind(text: &str) -> Option<Kind> {
    if let Some(habit) = Habit::named(text) {
        return Some(Kind::Habit(habit));
    }
    let (name, value) = text.split_once('=').unwrap_or((text, ""));
    let share = |kind: fn(f64) -> Kind| {
        let share: f64 = value.parse().ok()?;
        (0.0..=1.0).contains(&share).then(|| kind(share))
    };
    Some(match (name, value) {
        ("delay", _) => Kind::Delay(Duration::from_millis(value.parse().ok()?)),
        ("slow", _) => Kind::Slow(value.parse().ok().filter(|&rate| rate > 0)?),
        ("busy", _) => share(Kind::Busy)?,
        ("too-many", _) => share(Kind::TooMany)?,
        ("come-back", _) => Kind::ComeBack(value.parse().ok()?),
        ("broken", _) => share(Kind::Broken)?,
        ("locked", _) => share(Kind::Locked)?,
        ("cut", _) => share(Kind::Cut)?,
        ("mute", _) => share(Kind::Mute)?,
        ("flip", _) => share(Kind::Flip)?,
        ("wrong-length", _) => share(Kind::WrongLength)?,
        ("short-listing", _) => share(Kind::ShortListing)?,
        ("tags", "late") => Kind::Tags(Tags::Late),
        ("tags", "coarse") => Kind::Tags(Tags::Coarse),
        ("tags", "counted") => Kind::Tags(Tags::Counted),
        ("tags", "clock") => Kind::Tags(Tags::Clock),
        ("tags", "missing") => Kind::Tags(Tags::Missing),
        ("tags", "restless") => Kind::Tags(Tags::Restless),
        ("unreadable", folder) if !folder.is_empty() => {
            Kind::Unreadable(folder.trim_matches('/').to_owned())
        }
        ("without", feature) => Kind::Without(self::feature(feature)?),
        ("redirect", to) if !to.is_empty() => Kind::Redirect(to.to_owned()),
        ("silent-to", method) if !method.is_empty() => Kind::SilentTo(method.to_owned()),
        ("software", text) if !text.is_empty() => Kind::Software(text.to_owned()),
        ("clock", _) => Kind::Clock(value.parse().ok()?),
        ("largest", _) => Kind::Largest(value.parse().ok()?),
        ("unserved", characters) if !characters.is_empty() => Kind::Unserved(characters.to_owned()),
        ("without-method", method) if !method.is_empty() => Kind::WithoutMethod(method.to_owned()),
        ("write-behind", _) => Kind::WriteBehind(Duration::from_millis(value.parse().ok()?)),
        ("xml", "entities") => Kind::Xml(OddXml::Entities),
        ("xml", "nested") => Kind::Xml(OddXml::Nested),
        ("xml", "encoding") => Kind::Xml(OddXml::Encoding),
        ("xml", "cut") => Kind::Xml(OddXml::Cut),
        _ => return None,
    })
}

fn feature(name: &str) -> Option<Feature> {
    Some(match name {
        "partial-put" => Feature::PartialPut,
        "infinity" => Feature::Infinity,
        "properties" => Feature::Properties,
        "quota" => Feature::Quota,
        "changes" => Feature::Changes,
        "locks" => Feature::Locks,
        "digests" => Feature::Digests,
        "principal" => Feature::Principal,
        "rights" => Feature::Rights,
        "resource-ids" => Feature::ResourceIds,
        _ => return None,
    })
}

/// The faults in force, and the seed they are drawn from: the same requests in the same order meet the same faults.
#[derive(Debug)]
pub struct Faults {
    inner: Mutex<Inner>,
    births: Arc<Births>,
}

#[derive(Debug)]
struct Inner {
    faults: Vec<Fault>,
    random: Random,
}

/// What is to go wrong with one request.
#[derive(Clone, Debug, Default)]
pub(crate) struct Mishap {
    pub(crate) delay: Duration,
    /// Bytes a second.
    pub(crate) slow: Option<u64>,
    pub(crate) busy: bool,
    pub(crate) too_many: bool,
    /// In so many seconds.
    pub(crate) come_back: Option<u64>,
    pub(crate) broken: bool,
    pub(crate) locked: bool,
    pub(crate) cut: bool,
    pub(crate) mute: bool,
    /// The position of the flipped bit is this, modulo the body's length.
    pub(crate) flip: Option<u64>,
    pub(crate) wrong_length: bool,
    pub(crate) short_listing: bool,
    pub(crate) tags: Option<Tags>,
    pub(crate) unreadable: Vec<String>,
    pub(crate) redirect: Option<String>,
    pub(crate) silent_to: Vec<String>,
    pub(crate) clock: Option<i64>,
    pub(crate) software: Option<String>,
    pub(crate) xml: Option<OddXml>,
    /// The longest body that is taken.
    pub(crate) largest: Option<u64>,
    /// Characters of names that are listed and not served.
    pub(crate) unserved: String,
    pub(crate) without_methods: Vec<String>,
    /// How much later what gets a new name is listed.
    pub(crate) write_behind: Option<Duration>,
    without: Vec<Feature>,
    /// The address that the request was made to, without the slash.
    pub(crate) own_address: String,
    habits: Habits,
    births: Arc<Births>,
}

impl Mishap {
    pub(crate) fn lacks(&self, feature: Feature) -> bool {
        self.without.contains(&feature)
    }

    pub(crate) fn does(&self, habit: Habit) -> bool {
        self.habits.contains(&habit)
    }

    /// Something has a name that nothing had.
    pub(crate) fn came(&self, disk: &Path) {
        if self.write_behind.is_some() {
            self.births.came(disk);
        }
    }

    /// Whether a name came too short a time ago to be listed.
    pub(crate) fn is_unlisted(&self, disk: &Path) -> bool {
        self.write_behind
            .is_some_and(|by| self.births.is_younger(disk, by))
    }
}

impl Faults {
    /// Whether names that differ only in case are two.
    pub(crate) fn tells_case(&self) -> bool {
        let inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        let one_case = |fault: &Fault| fault.kind == Kind::Habit(Habit::OneCase);
        !inner.faults.iter().any(one_case)
    }

    /// These faults, drawn from this seed.
    #[must_use]
    pub fn new(faults: Vec<Fault>, seed: u64) -> Faults {
        Faults {
            inner: Mutex::new(Inner {
                faults,
                random: Random::new(seed),
            }),
            births: Arc::default(),
        }
    }

    /// Puts other faults in force from the next request on.
    pub fn set(&self, faults: Vec<Fault>) {
        self.lock().faults = faults;
    }

    /// The faults in force, as they were asked for.
    #[must_use]
    pub fn in_force(&self) -> Vec<String> {
        let inner = self.lock();
        inner
            .faults
            .iter()
            .map(|fault| fault.text.clone())
            .collect()
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn draw(&self) -> Mishap {
        let mut inner = self.lock();
        let Inner { faults, random } = &mut *inner;
        let mut mishap = Mishap {
            births: Arc::clone(&self.births),
            ..Mishap::default()
        };
        for fault in faults.iter() {
            match &fault.kind {
                Kind::Delay(delay) => mishap.delay = *delay,
                Kind::Slow(rate) => mishap.slow = Some(*rate),
                Kind::Busy(share) => mishap.busy |= random.happens(*share),
                Kind::TooMany(share) => mishap.too_many |= random.happens(*share),
                Kind::ComeBack(seconds) => mishap.come_back = Some(*seconds),
                Kind::Broken(share) => mishap.broken |= random.happens(*share),
                Kind::Locked(share) => mishap.locked |= random.happens(*share),
                Kind::Cut(share) => mishap.cut |= random.happens(*share),
                Kind::Mute(share) => mishap.mute |= random.happens(*share),
                Kind::Flip(share) => mishap.flip = random.happens(*share).then(|| random.next()),
                Kind::WrongLength(share) => mishap.wrong_length |= random.happens(*share),
                Kind::ShortListing(share) => mishap.short_listing |= random.happens(*share),
                Kind::Tags(tags) => mishap.tags = Some(*tags),
                Kind::Unreadable(folder) => mishap.unreadable.push(folder.clone()),
                Kind::Without(feature) => mishap.without.push(*feature),
                Kind::Redirect(to) => mishap.redirect = Some(to.clone()),
                Kind::SilentTo(method) => mishap.silent_to.push(method.clone()),
                Kind::Clock(ahead) => mishap.clock = Some(*ahead),
                Kind::Software(text) => mishap.software = Some(text.clone()),
                Kind::Xml(odd) => mishap.xml = Some(*odd),
                Kind::Largest(bytes) => mishap.largest = Some(*bytes),
                Kind::Unserved(characters) => mishap.unserved.push_str(characters),
                Kind::WithoutMethod(method) => mishap.without_methods.push(method.clone()),
                Kind::WriteBehind(by) => mishap.write_behind = Some(*by),
                Kind::Habit(habit) => {
                    mishap.habits.insert(*habit);
                }
            }
        }
        mishap
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn faults_are_asked_for_in_words() {
        let kind = |text: &str| text.parse::<Fault>().map(|fault| fault.kind);
        assert_eq!(kind("busy=0.25"), Ok(Kind::Busy(0.25)));
        assert_eq!(
            kind("unreadable=/Past seasons/"),
            Ok(Kind::Unreadable("Past seasons".into()))
        );
        for wrong in [
            "busy",
            "busy=2",
            "hide-dots=1",
            "unreadable=",
            "teapot",
            "tags=odd",
            "slow=0",
        ] {
            let error = wrong.parse::<Fault>().unwrap_err();
            assert!(error.to_string().contains("hide-dots"), "{wrong}");
        }
    }

    #[test]
    fn every_fault_of_the_list_is_understood() {
        for (name, value, _) in FAULTS {
            for value in value.split('|') {
                let value = match value {
                    "MS" | "BYTES" | "SECONDS" => "1",
                    "SHARE" => "0.5",
                    "FOLDER" | "METHOD" | "URL" | "TEXT" | "CHARACTERS" => "x",
                    value => value,
                };
                let text = if value.is_empty() {
                    name.to_owned()
                } else {
                    format!("{name}={value}")
                };
                assert!(text.parse::<Fault>().is_ok(), "{text}");
            }
        }
        for (name, _) in habits() {
            assert!(name.parse::<Fault>().is_ok(), "{name}");
        }
    }

    #[test]
    fn the_same_seed_gives_the_same_faults() {
        let draws = |seed| {
            let faults = Faults::new(vec!["busy=0.5".parse().unwrap()], seed);
            (0..64).map(|_| faults.draw().busy).collect::<Vec<_>>()
        };
        assert_eq!(draws(7), draws(7));
        assert_ne!(draws(7), draws(8));
        assert!(draws(7).contains(&true) && draws(7).contains(&false));
    }
}
