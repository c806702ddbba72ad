//! Points in time as they are where the person is.

use jiff::tz::TimeZone;
use katabatic_core::EditTime;

/// Day and minute.
pub(crate) fn in_words(at: EditTime) -> String {
    told(at, "%Y-%m-%d %H:%M")
}

/// Day and minute in a name: no colons, which some file systems refuse.
pub(crate) fn in_a_name(at: EditTime) -> String {
    told(at, "%Y-%m-%d %H.%M")
}

fn told(at: EditTime, form: &str) -> String {
    let at =
        jiff::Timestamp::from_nanosecond(i128::from(at.0)).unwrap_or(jiff::Timestamp::UNIX_EPOCH);
    at.to_zoned(TimeZone::system()).strftime(form).to_string()
}
