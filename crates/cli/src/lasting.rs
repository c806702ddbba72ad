//! Options that say how long: `90s`, `30m`, `12h`, `7d`; and `none`, which takes a setting back to what is usual.

use std::ops::RangeInclusive;

use clap::builder::TypedValueParser;

/// What a setting is to be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Setting<T> {
    /// As usual again.
    Usual,
    /// This.
    To(T),
}

impl<T> Setting<T> {
    /// What was said; none where it is to be as usual.
    pub fn said(self) -> Option<T> {
        match self {
            Setting::Usual => None,
            Setting::To(value) => Some(value),
        }
    }
}

/// What a number is counted in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unit {
    /// Seconds.
    Seconds,
    /// Hours.
    Hours,
    /// Days.
    Days,
}

impl Unit {
    fn seconds(self) -> u64 {
        match self {
            Unit::Seconds => 1,
            Unit::Hours => 3_600,
            Unit::Days => 86_400,
        }
    }

    fn word(self) -> &'static str {
        match self {
            Unit::Seconds => "seconds",
            Unit::Hours => "hours",
            Unit::Days => "days",
        }
    }
}

/// Reads how long something lasts, as a whole number of this unit. A number alone counts in it, as it did in older
/// versions.
pub fn lasting(unit: Unit, range: RangeInclusive<u64>) -> impl TypedValueParser<Value = u64> {
    clap::builder::StringValueParser::new().try_map(move |typed: String| read(&typed, unit, &range))
}

/// The same of a setting that `none` takes back to what is usual.
pub fn lasting_or_none(
    unit: Unit,
    range: RangeInclusive<u64>,
) -> impl TypedValueParser<Value = Setting<u64>> {
    clap::builder::StringValueParser::new().try_map(move |typed: String| match typed.as_str() {
        "none" => Ok(Setting::Usual),
        typed => read(typed, unit, &range).map(Setting::To),
    })
}

/// Reads a number that `none` takes back to what is usual.
pub fn number_or_none(range: RangeInclusive<u64>) -> impl TypedValueParser<Value = Setting<u64>> {
    clap::builder::StringValueParser::new().try_map(move |typed: String| match typed.as_str() {
        "none" => Ok(Setting::Usual),
        typed => match typed.parse() {
            Ok(number) if range.contains(&number) => Ok(Setting::To(number)),
            _ => Err(format!(
                "a whole number from {} to {}, or none",
                range.start(),
                range.end()
            )),
        },
    })
}

fn read(typed: &str, unit: Unit, range: &RangeInclusive<u64>) -> Result<u64, String> {
    let wrong = || {
        format!(
            "write it like 90s, 30m, 12h or 7d; from {} to {} {}",
            range.start(),
            range.end(),
            unit.word()
        )
    };
    let digits = typed.trim_end_matches(|c: char| c.is_ascii_alphabetic());
    let number: u64 = digits.trim().parse().map_err(|_| wrong())?;
    let each = match &typed[digits.len()..] {
        "" => unit.seconds(),
        "s" => 1,
        "m" => 60,
        "h" => 3_600,
        "d" => 86_400,
        _ => return Err(wrong()),
    };
    let seconds = number.checked_mul(each).ok_or_else(wrong)?;
    if !seconds.is_multiple_of(unit.seconds()) {
        return Err(format!("it is counted in whole {}", unit.word()));
    }
    let count = seconds / unit.seconds();
    range.contains(&count).then_some(count).ok_or_else(wrong)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn how_long_is_read_in_every_unit_and_without() {
        for (typed, unit, read_as) in [
            ("90s", Unit::Seconds, Some(90)),
            ("2m", Unit::Seconds, Some(120)),
            ("90", Unit::Seconds, Some(90)),
            ("48h", Unit::Hours, Some(48)),
            ("2d", Unit::Hours, Some(48)),
            ("12", Unit::Hours, Some(12)),
            ("120m", Unit::Hours, Some(2)),
            ("90m", Unit::Hours, None),
            ("30d", Unit::Days, Some(30)),
            ("720h", Unit::Days, Some(30)),
            ("0s", Unit::Seconds, None),
            ("4000s", Unit::Seconds, None),
            ("", Unit::Seconds, None),
            ("h", Unit::Hours, None),
            ("5 weeks", Unit::Days, None),
            ("-1h", Unit::Hours, None),
            ("99999999999999999999s", Unit::Seconds, None),
            ("18446744073709551615d", Unit::Days, None),
        ] {
            assert_eq!(read(typed, unit, &(1..=3_600)).ok(), read_as, "{typed}");
        }
    }
}
