//! The faults, each of which some real server or line was seen to have.

use std::str::FromStr;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use crate::random::Random;

/// One fault, as it is asked for: `busy=0.2`, `hide-dots`, `unreadable=Past seasons`.
#[derive(Clone, Debug, PartialEq)]
pub enum Fault {
    /// Every answer waits this long first (`delay=200`, milliseconds).
    Delay(Duration),
    /// This share of requests is answered 503 with `Retry-After: 0` (`busy=0.2`).
    Busy(f64),
    /// This share of requests is answered 500 (`broken=0.5`).
    Broken(f64),
    /// This share of transfers is cut off in the middle of its body, both ways (`cut=0.1`).
    Cut(f64),
    /// This share of requests is carried out and never answered: the line is cut right before (`mute=0.1`).
    Mute(f64),
    /// This share of downloads has one bit flipped (`flip=0.1`).
    Flip(f64),
    /// The answer to `PUT` has no `ETag` (`no-put-tag`).
    NoPutTag,
    /// Conditions are tested at the headers and not again when the body has arrived (`early-conditions`).
    EarlyConditions,
    /// `PUT` writes in place: a cut one leaves half a file under its real name (`write-in-place`).
    WriteInPlace,
    /// Names that begin with a dot are never listed, though they can be read and written (`hide-dots`).
    HideDots,
    /// This folder of every user cannot be listed (`unreadable=FOLDER`).
    Unreadable(String),
}

/// A fault that was asked for in words nobody understands.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error(
    "`{0}` is no fault; there are delay=MS, busy=SHARE, broken=SHARE, cut=SHARE, flip=SHARE, mute=SHARE (shares from 0 to 1), no-put-tag, early-conditions, write-in-place, hide-dots, unreadable=FOLDER"
)]
pub struct FaultError(String);

impl FromStr for Fault {
    type Err = FaultError;

    fn from_str(text: &str) -> Result<Fault, FaultError> {
        let error = || FaultError(text.to_owned());
        let (name, value) = text.split_once('=').unwrap_or((text, ""));
        let share = || {
            value
                .parse()
                .ok()
                .filter(|share| (0.0..=1.0).contains(share))
                .ok_or_else(error)
        };
        match (name, value) {
            ("delay", _) => value
                .parse()
                .map(|ms| Fault::Delay(Duration::from_millis(ms)))
                .map_err(|_| error()),
            ("busy", _) => share().map(Fault::Busy),
            ("broken", _) => share().map(Fault::Broken),
            ("cut", _) => share().map(Fault::Cut),
            ("flip", _) => share().map(Fault::Flip),
            ("mute", _) => share().map(Fault::Mute),
            ("no-put-tag", "") => Ok(Fault::NoPutTag),
            ("early-conditions", "") => Ok(Fault::EarlyConditions),
            ("write-in-place", "") => Ok(Fault::WriteInPlace),
            ("hide-dots", "") => Ok(Fault::HideDots),
            ("unreadable", folder) if !folder.is_empty() => {
                Ok(Fault::Unreadable(folder.trim_matches('/').to_owned()))
            }
            _ => Err(error()),
        }
    }
}

/// The faults in force, and the seed they are drawn from.
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
    pub(crate) busy: bool,
    pub(crate) broken: bool,
    pub(crate) cut: bool,
    pub(crate) mute: bool,
    /// The position of the flipped bit is this, modulo the body's length.
    pub(crate) flip: Option<u64>,
    pub(crate) no_put_tag: bool,
    pub(crate) early_conditions: bool,
    pub(crate) write_in_place: bool,
    pub(crate) hide_dots: bool,
    pub(crate) unreadable: Vec<String>,
}

impl Faults {
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

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn draw(&self) -> Mishap {
        let mut inner = self.lock();
        let Inner { faults, random } = &mut *inner;
        let mut mishap = Mishap::default();
        for fault in faults.iter() {
            match fault {
                Fault::Delay(delay) => mishap.delay = *delay,
                Fault::Busy(share) => mishap.busy |= random.happens(*share),
                Fault::Broken(share) => mishap.broken |= random.happens(*share),
                Fault::Cut(share) => mishap.cut |= random.happens(*share),
                Fault::Mute(share) => mishap.mute |= random.happens(*share),
                Fault::Flip(share) => mishap.flip = random.happens(*share).then(|| random.next()),
                Fault::NoPutTag => mishap.no_put_tag = true,
                Fault::EarlyConditions => mishap.early_conditions = true,
                Fault::WriteInPlace => mishap.write_in_place = true,
                Fault::HideDots => mishap.hide_dots = true,
                Fault::Unreadable(folder) => mishap.unreadable.push(folder.clone()),
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
        assert_eq!("busy=0.25".parse(), Ok(Fault::Busy(0.25)));
        assert_eq!(
            "unreadable=/Past seasons/".parse(),
            Ok(Fault::Unreadable("Past seasons".into()))
        );
        for wrong in ["busy", "busy=2", "hide-dots=1", "unreadable=", "teapot"] {
            assert!(wrong.parse::<Fault>().is_err(), "{wrong}");
        }
    }

    #[test]
    fn one_seed_gives_the_same_faults_again() {
        let draws = |seed| {
            let faults = Faults::new(vec![Fault::Busy(0.5)], seed);
            (0..64).map(|_| faults.draw().busy).collect::<Vec<_>>()
        };
        assert_eq!(draws(7), draws(7));
        assert_ne!(draws(7), draws(8));
        assert!((16..48).contains(&draws(7).iter().filter(|busy| **busy).count()));
    }
}
