//! Times named by a recurrence rule (RFC 5545 §3.3.10), for schedules that days and times cannot say.
//!
//! The rule is read and followed by a library, in times of the clock on the wall; only then do they become moments, so
//! that a change of the clock is treated as in every other schedule. The first day of counting, which an interval of
//! several weeks is counted from, is Monday the 1st of January 2024.

use std::fmt;

use chrono::{DateTime, Datelike, NaiveDate, Timelike};
use jiff::Zoned;
use jiff::civil;
use rrule::{RRuleSet, Tz};

/// A rule and what it was written as.
#[derive(Clone, Debug)]
pub struct Rule {
    text: String,
    set: RRuleSet,
}

impl PartialEq for Rule {
    fn eq(&self, other: &Rule) -> bool {
        self.text == other.text
    }
}

impl Eq for Rule {}

impl fmt::Display for Rule {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(&self.text)
    }
}

/// What an interval is counted from.
const FIRST: &str = "DTSTART:20240101T000000Z";

/// Of times that the clock skips or shows twice, no more than this are passed over.
const TRIES: u16 = 8;

impl Rule {
    /// Reads `RRULE:FREQ=WEEKLY;BYDAY=MO,TH;BYHOUR=9;BYMINUTE=30`.
    ///
    /// # Errors
    /// Says what is wrong with it. What ends by itself or comes more often than every hour is refused.
    pub fn parse(text: &str) -> Result<Rule, String> {
        let upper = text.to_ascii_uppercase();
        if ["COUNT=", "UNTIL="].iter().any(|end| upper.contains(end)) {
            return Err(format!("{text:?} ends by itself, and a lane does not"));
        }
        if ["FREQ=SECONDLY", "FREQ=MINUTELY", "BYSECOND="]
            .iter()
            .any(|often| upper.contains(often))
        {
            return Err(format!(
                "{text:?} is more often than every hour; write `every 15m`"
            ));
        }
        if upper.contains('\n') || upper.matches("RRULE:").count() != 1 {
            return Err(format!("{text:?} is not one rule"));
        }
        let set: RRuleSet = format!("{FIRST}\n{text}")
            .parse()
            .map_err(|why| format!("{text:?} is no rule of RFC 5545: {why}"))?;
        let rule = Rule {
            text: text.to_owned(),
            set,
        };
        if rule.set.clone().limit().all(1).dates.is_empty() {
            return Err(format!("{text:?} names no time at all"));
        }
        Ok(rule)
    }

    /// The first moment after `last` that it names.
    #[must_use]
    pub fn next(&self, last: &Zoned) -> Option<Zoned> {
        let after = to_wall(last.datetime())?;
        let named = self.set.clone().after(after).limit().all(TRIES).dates;
        named.into_iter().find_map(|at| {
            let at = from_wall(&at)?.to_zoned(last.time_zone().clone()).ok()?;
            (at > *last).then_some(at)
        })
    }
}

fn to_wall(at: civil::DateTime) -> Option<DateTime<Tz>> {
    let (year, month, day) = (at.year(), at.month(), at.day());
    let date = NaiveDate::from_ymd_opt(year.into(), month.try_into().ok()?, day.try_into().ok()?)?;
    let [hour, minute, second] = [at.hour(), at.minute(), at.second()].map(i8::unsigned_abs);
    let time = date.and_hms_opt(hour.into(), minute.into(), second.into())?;
    time.and_local_timezone(Tz::UTC).single()
}

fn from_wall(at: &DateTime<Tz>) -> Option<civil::DateTime> {
    let small = |number: u32| i8::try_from(number).ok();
    civil::DateTime::new(
        i16::try_from(at.year()).ok()?,
        small(at.month())?,
        small(at.day())?,
        small(at.hour())?,
        small(at.minute())?,
        small(at.second())?,
        0,
    )
    .ok()
}

#[cfg(test)]
mod tests {
    use jiff::tz::TimeZone;
    use proptest::prelude::*;

    use super::*;

    /// By a clock that goes from 2 to 3 on the last Sunday of March, and back in October.
    fn at(text: &str) -> Zoned {
        let zone = TimeZone::posix("CET-1CEST,M3.5.0,M10.5.0/3").unwrap();
        let at: civil::DateTime = text.parse().unwrap();
        at.to_zoned(zone).unwrap()
    }

    fn times(rule: &str, from: &str, many: usize) -> Vec<String> {
        let rule = Rule::parse(rule).unwrap();
        let mut last = at(from);
        (0..many)
            .map(|_| {
                last = rule.next(&last).unwrap();
                last.strftime("%Y-%m-%dT%H:%M%:z").to_string()
            })
            .collect()
    }

    #[test]
    fn rules_name_times_of_the_clock_on_the_wall() {
        assert_eq!(
            times(
                "RRULE:FREQ=MONTHLY;BYDAY=1MO;BYHOUR=9",
                "2026-11-26T10:00",
                2
            ),
            ["2026-12-07T09:00+01:00", "2027-01-04T09:00+01:00"]
        );
        assert_eq!(
            times(
                "RRULE:FREQ=WEEKLY;INTERVAL=2;BYDAY=TH;BYHOUR=18;BYMINUTE=30",
                "2026-11-20T00:00",
                2
            ),
            ["2026-12-03T18:30+01:00", "2026-12-17T18:30+01:00"]
        );
        assert_eq!(
            times(
                "RRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29",
                "2026-11-26T00:00",
                1
            ),
            ["2028-02-29T00:00+01:00"]
        );
    }

    #[test]
    fn a_time_that_is_skipped_comes_later_and_one_that_comes_twice_counts_once() {
        // In the night of 2026-03-29 there is no 02:30; in that of 2026-10-25 there are two.
        assert_eq!(
            times(
                "RRULE:FREQ=DAILY;BYHOUR=2;BYMINUTE=30",
                "2026-03-28T12:00",
                2
            ),
            ["2026-03-29T03:30+02:00", "2026-03-30T02:30+02:00"]
        );
        assert_eq!(
            times(
                "RRULE:FREQ=DAILY;BYHOUR=2;BYMINUTE=30",
                "2026-10-24T12:00",
                2
            ),
            ["2026-10-25T02:30+02:00", "2026-10-26T02:30+01:00"]
        );
    }

    /// Half of a rule, in any order.
    fn parts() -> impl Strategy<Value = String> {
        let key = prop::sample::select(vec![
            "FREQ",
            "INTERVAL",
            "BYDAY",
            "BYMONTHDAY",
            "BYMONTH",
            "BYHOUR",
            "BYMINUTE",
            "BYSETPOS",
            "BYYEARDAY",
            "BYWEEKNO",
            "WKST",
            "ODD",
        ]);
        let value = prop_oneof![
            prop::sample::select(vec![
                "DAILY", "WEEKLY", "MONTHLY", "YEARLY", "HOURLY", "MO", "1MO", "-1FR", "SU,MO", "",
            ])
            .prop_map(str::to_owned),
            any::<i16>().prop_map(|number| number.to_string()),
            (0..32_i16).prop_map(|number| number.to_string()),
        ];
        let part = (key, value).prop_map(|(key, value)| format!("{key}={value}"));
        prop::collection::vec(part, 0..5).prop_map(|parts| parts.join(";"))
    }

    proptest! {
        #[test]
        fn whatever_is_written_is_refused_or_names_later_times(parts in parts(), daily in any::<bool>()) {
            let freq = if daily { "FREQ=DAILY;" } else { "" };
            if let Ok(rule) = Rule::parse(&format!("RRULE:{freq}{parts}")) {
                let last = at("2026-11-26T10:00");
                if let Some(next) = rule.next(&last) {
                    prop_assert!(next > last);
                }
            }
        }
    }

    #[test]
    fn what_is_no_rule_says_why() {
        for text in [
            "RRULE:",
            "RRULE:FREQ=SOMETIMES",
            "RRULE:FREQ=MINUTELY",
            "RRULE:FREQ=DAILY;COUNT=3",
            "RRULE:FREQ=DAILY;UNTIL=20270101T000000Z",
            "RRULE:FREQ=DAILY\nRRULE:FREQ=WEEKLY",
            "RRULE:FREQ=DAILY;BYHOUR=25",
            "RRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30",
        ] {
            assert!(Rule::parse(text).is_err(), "{text}");
        }
    }
}
