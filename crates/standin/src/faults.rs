//! The faults, each of which some real server or line was seen to have.

use std::str::FromStr;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

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
    NoPutTag,
    Tags(Tags),
    EarlyConditions,
    NoConditions,
    NoOverwriteCheck,
    RacingMoves,
    WriteInPlace,
    PartialPutKeepsPart,
    HideDots,
    StrictSlashes,
    OneCase,
    Unreadable(String),
    Without(Feature),
    Html,
    Redirect(String),
    Silent,
    SilentTo(String),
    Clock(i64),
    Software(String),
    Xml(OddXml),
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
pub const FAULTS: [(&str, &str, &str); 32] = [
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
    ("no-put-tag", "", "the answer to PUT has no ETag"),
    (
        "tags",
        "late|coarse|counted|clock|missing",
        "weak for a second; whole seconds and size; a number alone, blind to changes on the disk; time and size, which files share; none",
    ),
    (
        "early-conditions",
        "",
        "conditions are tested before the body is read, and not again",
    ),
    (
        "no-conditions",
        "",
        "If-Match, If-None-Match and If are ignored",
    ),
    ("no-overwrite-check", "", "Overwrite: F is ignored"),
    (
        "racing-moves",
        "",
        "Overwrite: F is tested first and obeyed a moment later",
    ),
    (
        "write-in-place",
        "",
        "a cut PUT leaves half a file under its real name",
    ),
    (
        "partial-put-keeps-part",
        "",
        "a PUT of a range is answered 201 and keeps the range alone",
    ),
    (
        "hide-dots",
        "",
        "names that begin with a dot are never listed",
    ),
    (
        "strict-slashes",
        "",
        "a folder is moved only with a slash at the end of both names",
    ),
    ("one-case", "", "names that differ only in case are one"),
    ("unreadable", "FOLDER", "this folder cannot be listed"),
    (
        "without",
        "partial-put|infinity|properties|quota|changes|locks|digests|principal|rights|resource-ids",
        "what this server then does not offer",
    ),
    ("html", "", "every answer is a web page"),
    (
        "redirect",
        "URL|loop",
        "every request is sent elsewhere, or round and round",
    ),
    ("silent", "", "no request is ever answered"),
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
];

/// A fault that was asked for in words nobody understands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FaultError(String);

impl std::error::Error for FaultError {}

impl std::fmt::Display for FaultError {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let known: Vec<String> = FAULTS
            .iter()
            .map(|(name, value, _)| match *value {
                "" => (*name).to_owned(),
                value => format!("{name}={value}"),
            })
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
        ("no-put-tag", "") => Kind::NoPutTag,
        ("tags", "late") => Kind::Tags(Tags::Late),
        ("tags", "coarse") => Kind::Tags(Tags::Coarse),
        ("tags", "counted") => Kind::Tags(Tags::Counted),
        ("tags", "clock") => Kind::Tags(Tags::Clock),
        ("tags", "missing") => Kind::Tags(Tags::Missing),
        ("early-conditions", "") => Kind::EarlyConditions,
        ("no-conditions", "") => Kind::NoConditions,
        ("no-overwrite-check", "") => Kind::NoOverwriteCheck,
        ("racing-moves", "") => Kind::RacingMoves,
        ("write-in-place", "") => Kind::WriteInPlace,
        ("partial-put-keeps-part", "") => Kind::PartialPutKeepsPart,
        ("hide-dots", "") => Kind::HideDots,
        ("strict-slashes", "") => Kind::StrictSlashes,
        ("one-case", "") => Kind::OneCase,
        ("unreadable", folder) if !folder.is_empty() => {
            Kind::Unreadable(folder.trim_matches('/').to_owned())
        }
        ("without", feature) => Kind::Without(self::feature(feature)?),
        ("html", "") => Kind::Html,
        ("redirect", to) if !to.is_empty() => Kind::Redirect(to.to_owned()),
        ("silent", "") => Kind::Silent,
        ("silent-to", method) if !method.is_empty() => Kind::SilentTo(method.to_owned()),
        ("software", text) if !text.is_empty() => Kind::Software(text.to_owned()),
        ("clock", _) => Kind::Clock(value.parse().ok()?),
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
    pub(crate) no_put_tag: bool,
    pub(crate) tags: Option<Tags>,
    pub(crate) early_conditions: bool,
    pub(crate) no_conditions: bool,
    pub(crate) no_overwrite_check: bool,
    pub(crate) racing_moves: bool,
    pub(crate) write_in_place: bool,
    pub(crate) partial_put_keeps_part: bool,
    pub(crate) hide_dots: bool,
    pub(crate) strict_slashes: bool,
    pub(crate) unreadable: Vec<String>,
    pub(crate) html: bool,
    pub(crate) redirect: Option<String>,
    pub(crate) silent: bool,
    pub(crate) silent_to: Vec<String>,
    pub(crate) clock: Option<i64>,
    pub(crate) software: Option<String>,
    pub(crate) xml: Option<OddXml>,
    without: Vec<Feature>,
}

impl Mishap {
    pub(crate) fn lacks(&self, feature: Feature) -> bool {
        self.without.contains(&feature)
    }
}

impl Faults {
    /// Whether names that differ only in case are two.
    pub(crate) fn tells_case(&self) -> bool {
        let inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        let one_case = |fault: &Fault| matches!(fault.kind, Kind::OneCase);
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
        let mut mishap = Mishap::default();
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
                Kind::NoPutTag => mishap.no_put_tag = true,
                Kind::Tags(tags) => mishap.tags = Some(*tags),
                Kind::EarlyConditions => mishap.early_conditions = true,
                Kind::NoConditions => mishap.no_conditions = true,
                Kind::NoOverwriteCheck => mishap.no_overwrite_check = true,
                Kind::RacingMoves => mishap.racing_moves = true,
                Kind::WriteInPlace => mishap.write_in_place = true,
                Kind::PartialPutKeepsPart => mishap.partial_put_keeps_part = true,
                Kind::HideDots => mishap.hide_dots = true,
                Kind::StrictSlashes => mishap.strict_slashes = true,
                // Told by the paths themselves: `Faults::tells_case`.
                Kind::OneCase => {}
                Kind::Unreadable(folder) => mishap.unreadable.push(folder.clone()),
                Kind::Without(feature) => mishap.without.push(*feature),
                Kind::Html => mishap.html = true,
                Kind::Redirect(to) => mishap.redirect = Some(to.clone()),
                Kind::Silent => mishap.silent = true,
                Kind::SilentTo(method) => mishap.silent_to.push(method.clone()),
                Kind::Clock(ahead) => mishap.clock = Some(*ahead),
                Kind::Software(text) => mishap.software = Some(text.clone()),
                Kind::Xml(odd) => mishap.xml = Some(*odd),
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
                    "FOLDER" | "METHOD" | "URL" | "TEXT" => "x",
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
