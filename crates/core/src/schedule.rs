//! When a lane runs by itself: as files change, so often, at times of days, when the agent starts, or only by hand.
//!
//! Times of days are those of the clock on the wall. A time that the clock skips in spring comes as much later as it
//! skips; one that comes twice in autumn counts once. Who asks hands in the moment, and the zone with it: nothing here
//! looks at a clock.

use std::fmt;

use jiff::civil::{Time, Weekday};
use jiff::{SignedDuration, Zoned};

pub use crate::recurrence::Rule;

/// One thing that makes a lane run.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum When {
    /// Something changed on either side.
    OnChange,
    /// So long after the last pass.
    Every(SignedDuration),
    /// At this time on these days.
    At(Days, Time),
    /// At the times that a rule of RFC 5545 §3.3.10 names.
    Rule(Box<Rule>),
    /// When the agent starts.
    AtStart,
    /// Before the computer is shut down, or the person logs off.
    AtEnd,
    /// When a drive that a side lies on is plugged in.
    PluggedIn,
    /// When nobody has touched the computer for so long.
    Idle(SignedDuration),
    /// Never by itself.
    ByHand,
}

/// Days of a week.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Days(u8);

const NAMES: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

impl Days {
    /// Every day.
    pub const ALL: Days = Days(0b111_1111);

    /// Whether this day is one of them.
    #[must_use]
    pub fn has(self, day: Weekday) -> bool {
        self.0 & (1 << day.to_monday_zero_offset()) != 0
    }

    /// Reads `daily`, `weekdays`, `mon,wed`.
    #[must_use]
    pub fn parse(text: &str) -> Option<Days> {
        match text {
            "daily" => return Some(Days::ALL),
            "weekdays" => return Some(Days(0b001_1111)),
            _ => {}
        }
        let mut days = 0;
        for name in text.split(',') {
            days |= 1 << NAMES.iter().position(|known| *known == name)?;
        }
        Some(Days(days))
    }
}

impl fmt::Display for Days {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            0b111_1111 => out.write_str("daily"),
            0b001_1111 => out.write_str("weekdays"),
            days => {
                let named = (0..7).filter(|day| days & (1 << day) != 0);
                let named: Vec<&str> = named.map(|day| NAMES[day]).collect();
                out.write_str(&named.join(","))
            }
        }
    }
}

/// No lane runs more often than this by a schedule: passes would only wait for each other.
const SHORTEST: SignedDuration = SignedDuration::from_secs(60);

/// Nor more seldom, which would be a slip of the keyboard.
const LONGEST: SignedDuration = SignedDuration::from_hours(24 * 366);

impl When {
    /// Reads `on change`, `every 15m`, `every 2h`, `every 3d`, `daily 18:00`, `weekdays 8:30`, `mon,wed 09:00`,
    /// `RRULE:FREQ=MONTHLY;BYDAY=1MO;BYHOUR=9`, `at start`, `at end`, `when plugged in`, `when idle 10m`, `by hand`.
    ///
    /// # Errors
    /// Says what it could be.
    pub fn parse(text: &str) -> Result<When, String> {
        let odd = || {
            format!(
                "{text:?} is no time: write `on change`, `every 15m`, `every 2h`, `daily 18:00`, `weekdays 08:30`, `mon,wed,fri 09:00`, `at start`, `at end`, `when plugged in`, `when idle 10m`, `by hand`, or a rule such as `RRULE:FREQ=MONTHLY;BYDAY=1MO;BYHOUR=9`"
            )
        };
        if text.trim().starts_with("RRULE:") {
            return Rule::parse(text.trim()).map(|rule| When::Rule(Box::new(rule)));
        }
        let (first, second) = text.trim().split_once(' ').ok_or_else(odd)?;
        let second = second.trim();
        match (first, second) {
            ("on", "change") => return Ok(When::OnChange),
            ("at", "start") => return Ok(When::AtStart),
            ("at", "end") => return Ok(When::AtEnd),
            ("when", "plugged in") => return Ok(When::PluggedIn),
            ("when", idle) => {
                let span = idle.strip_prefix("idle ").and_then(read_span);
                let span = span.filter(|span| (SHORTEST..=LONGEST).contains(span));
                return span.map(When::Idle).ok_or_else(odd);
            }
            ("by", "hand") => return Ok(When::ByHand),
            ("every", every) => {
                let every = read_span(every).ok_or_else(odd)?;
                return match every {
                    every if every < SHORTEST => {
                        Err(format!("{text:?} is more often than every minute"))
                    }
                    every if every > LONGEST => {
                        Err(format!("{text:?} is more seldom than once a year"))
                    }
                    every => Ok(When::Every(every)),
                };
            }
            _ => {}
        }
        let days = Days::parse(first).ok_or_else(odd)?;
        let at = read_time(second).ok_or_else(odd)?;
        Ok(When::At(days, at))
    }

    /// The first moment after `last` at which it is due; none where no time alone makes it so.
    #[must_use]
    pub fn next(&self, last: &Zoned) -> Option<Zoned> {
        match self {
            When::OnChange
            | When::AtStart
            | When::AtEnd
            | When::PluggedIn
            | When::Idle(_)
            | When::ByHand => None,
            When::Rule(rule) => rule.next(last),
            When::Every(every) => last.checked_add(*every).ok(),
            When::At(days, at) => {
                let mut date = last.date();
                // A week and a day: today's time may have passed already.
                for _ in 0..=8 {
                    if days.has(date.weekday())
                        && let Ok(due) = date.to_datetime(*at).to_zoned(last.time_zone().clone())
                        && due > *last
                    {
                        return Some(due);
                    }
                    date = date.tomorrow().ok()?;
                }
                None
            }
        }
    }
}

/// Reads `08:30`.
#[must_use]
pub fn read_time(text: &str) -> Option<Time> {
    let (hour, minute) = text.split_once(':')?;
    let number = |text: &str| {
        let digits =
            !text.is_empty() && text.len() <= 2 && text.bytes().all(|c| c.is_ascii_digit());
        digits.then(|| text.parse::<i8>().ok()).flatten()
    };
    Time::new(number(hour)?, number(minute)?, 0, 0).ok()
}

fn read_span(text: &str) -> Option<SignedDuration> {
    let unit = text.chars().last()?;
    let number: i64 = text[..text.len() - unit.len_utf8()].trim().parse().ok()?;
    let seconds = match unit {
        's' => 1,
        'm' => 60,
        'h' => 3_600,
        'd' => 86_400,
        _ => return None,
    };
    Some(SignedDuration::from_secs(number.checked_mul(seconds)?))
}

impl fmt::Display for When {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            When::OnChange => out.write_str("on change"),
            When::AtStart => out.write_str("at start"),
            When::AtEnd => out.write_str("at end"),
            When::PluggedIn => out.write_str("when plugged in"),
            When::Idle(idle) => write!(out, "when idle {}", span_words(*idle)),
            When::Rule(rule) => write!(out, "{rule}"),
            When::ByHand => out.write_str("by hand"),
            When::At(days, at) => write!(out, "{days} {:02}:{:02}", at.hour(), at.minute()),
            When::Every(every) => write!(out, "every {}", span_words(*every)),
        }
    }
}

fn span_words(span: SignedDuration) -> String {
    let seconds = span.as_secs();
    let units = [(86_400, 'd'), (3_600, 'h'), (60, 'm')];
    match units.into_iter().find(|(many, _)| seconds % many == 0) {
        Some((many, unit)) => format!("{}{unit}", seconds / many),
        None => format!("{seconds}s"),
    }
}

/// The first moment after `last` at which any of these is due.
#[must_use]
pub fn next(whens: &[When], last: &Zoned) -> Option<Zoned> {
    whens.iter().filter_map(|when| when.next(last)).min()
}

/// How long to wait after so many failures in a row: half a minute at first, twice as long each time, an hour at most.
#[must_use]
pub fn pause_after(failures: u32) -> SignedDuration {
    let seconds = 30_i64.saturating_mul(1 << failures.saturating_sub(1).min(12));
    SignedDuration::from_secs(seconds.min(3_600))
}

#[cfg(test)]
mod tests {
    use jiff::tz::TimeZone;
    use proptest::prelude::*;

    use super::*;

    /// By a clock that goes from 2 to 3 on the last Sunday of March, and back in October; no zones of the system needed.
    fn at(text: &str) -> Zoned {
        let zone = TimeZone::posix("CET-1CEST,M3.5.0,M10.5.0/3").unwrap();
        let at: jiff::civil::DateTime = text.parse().unwrap();
        at.to_zoned(zone).unwrap()
    }

    #[test]
    fn what_was_written_is_written_again() {
        for (text, same) in [
            ("on change", "on change"),
            ("every 15m", "every 15m"),
            ("every 120m", "every 2h"),
            ("every 90s", "every 90s"),
            ("every 1d", "every 1d"),
            ("daily 8:5", "daily 08:05"),
            ("mon,tue,wed,thu,fri 18:00", "weekdays 18:00"),
            ("sun,mon 09:00", "mon,sun 09:00"),
            ("at start", "at start"),
            (" by  hand", "by hand"),
        ] {
            let when = When::parse(text).unwrap();
            assert_eq!(when.to_string(), same);
            assert_eq!(When::parse(same).unwrap(), when);
        }
    }

    #[test]
    fn what_is_no_time_says_what_could_be() {
        for text in [
            "",
            "often",
            "every",
            "every 5x",
            "every 10s",
            "every 400d",
            "every é",
            "daily 24:00",
            "daily 9",
            "daily +9:00",
            "noday 09:00",
            "mon;tue 09:00",
            "every 99999999999999999h",
        ] {
            let why = When::parse(text).unwrap_err();
            assert!(
                why.contains("no time") || why.contains("more"),
                "{text}: {why}"
            );
        }
    }

    #[test]
    fn times_of_days_are_those_on_the_wall() {
        let when = When::parse("weekdays 18:00").unwrap();
        // A Thursday before and after, then over the weekend.
        for (last, due) in [
            ("2026-11-26T17:59:59", "2026-11-26T18:00:00"),
            ("2026-11-26T18:00:00", "2026-11-27T18:00:00"),
            ("2026-11-27T18:00:01", "2026-11-30T18:00:00"),
        ] {
            assert_eq!(when.next(&at(last)), Some(at(due)), "{last}");
        }
    }

    #[test]
    fn a_skipped_time_comes_later_and_a_double_one_once() {
        let when = When::parse("daily 02:30").unwrap();
        // On 2026-03-29 the clock goes from 2 to 3.
        let last = at("2026-03-28T02:30:00");
        let skipped = when.next(&last).unwrap();
        assert_eq!(skipped, at("2026-03-29T03:30:00"));
        assert_eq!(when.next(&skipped).unwrap(), at("2026-03-30T02:30:00"));
        // On 2026-10-25 it is half past two twice.
        let last = at("2026-10-24T02:30:00");
        let first = when.next(&last).unwrap();
        assert_eq!(first, at("2026-10-25T02:30:00"));
        assert_eq!(first.offset().seconds(), 7_200);
        assert_eq!(when.next(&first).unwrap(), at("2026-10-26T02:30:00"));
        // So long is so long, whatever the clock on the wall does.
        let every = When::parse("every 2h").unwrap();
        let last = at("2026-03-29T01:30:00");
        assert_eq!(every.next(&last).unwrap(), at("2026-03-29T04:30:00"));
    }

    #[test]
    fn pauses_grow_to_an_hour() {
        let seconds = [1, 2, 3, 7, 8, 9, u32::MAX].map(|failures| pause_after(failures).as_secs());
        assert_eq!(seconds, [30, 60, 120, 1_920, 3_600, 3_600, 3_600]);
    }

    proptest! {
        #[test]
        fn what_is_due_is_later_and_within_the_days(seconds in 0_i64..2_000_000_000, days in 1_u8..128, hour in 0_i8..24, minute in 0_i8..60) {
            let zone = TimeZone::posix("EST5EDT,M3.2.0,M11.1.0").unwrap();
            let last = jiff::Timestamp::from_second(seconds).unwrap().to_zoned(zone);
            let when = When::At(Days(days), Time::new(hour, minute, 0, 0).unwrap());
            let due = when.next(&last).unwrap();
            prop_assert!(due > last);
            prop_assert!(due.timestamp().as_second() - seconds <= 8 * 86_400 + 3_600);
            prop_assert_eq!(When::parse(&when.to_string()).unwrap(), when);
        }
    }
}
