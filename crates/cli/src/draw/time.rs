//! Times as people read them: the clock for today, the date before it for any other day.

use jiff::Timestamp;
use jiff::tz::TimeZone;
use katabatic_core::words::Telling;
use katabatic_core::{EditTime, SideNames};
use katabatic_engine::Error;

fn zoned(at: EditTime) -> Option<jiff::Zoned> {
    Timestamp::from_nanosecond(i128::from(at.0))
        .ok()
        .map(|at| at.to_zoned(TimeZone::system()))
}

/// A time, to the minute.
pub fn time(at: EditTime) -> String {
    with(at, "%H:%M", "%Y-%m-%d %H:%M")
}

/// How reasons are told in the terminal and in answers: times to the minute.
pub fn telling(sides: SideNames) -> Telling<'static> {
    Telling { time: &time, sides }
}

/// A time of today to the minute, the day alone of any other.
pub fn short(at: EditTime) -> String {
    with(at, "%H:%M", "%Y-%m-%d")
}

/// A time, to the second.
pub fn exact(at: EditTime) -> String {
    with(at, "%H:%M:%S", "%Y-%m-%d %H:%M:%S")
}

fn with(at: EditTime, today: &str, other: &str) -> String {
    let Some(at) = zoned(at) else {
        return "at an unknown time".into();
    };
    let same_day = at.date() == Timestamp::now().to_zoned(TimeZone::system()).date();
    at.strftime(if same_day { today } else { other })
        .to_string()
}

/// The day of a time, where the person is: `2026-11-26`.
pub fn day(at: EditTime) -> String {
    zoned(at).map_or_else(String::new, |at| at.strftime("%Y-%m-%d").to_string())
}

/// A day as it was typed.
pub fn read_day(text: &str) -> Result<String, Error> {
    text.parse::<jiff::civil::Date>()
        .map(|day| day.to_string())
        .map_err(|why| {
            Error::usage(
                format!("the day {text}"),
                why.to_string(),
                "Write it as 2026-11-26.",
            )
        })
}

/// A time with its date, to the minute, wherever it is read later.
pub fn dated(at: EditTime) -> String {
    with(at, "%Y-%m-%d %H:%M", "%Y-%m-%d %H:%M")
}

/// The same, to the second.
pub fn dated_exact(at: EditTime) -> String {
    with(at, "%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M:%S")
}

/// Now, with its date, to the minute.
pub fn dated_now() -> String {
    Timestamp::now()
        .to_zoned(TimeZone::system())
        .strftime("%Y-%m-%d %H:%M")
        .to_string()
}

/// A time for programs: RFC 3339, in UTC.
pub fn rfc3339(at: EditTime) -> String {
    Timestamp::from_nanosecond(i128::from(at.0))
        .map(|at| at.to_string())
        .unwrap_or_default()
}
