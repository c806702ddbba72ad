//! Rates that differ by the time of the day: little while people work, as much as there is at night.

use std::fmt;

use jiff::Zoned;
use jiff::civil::Time;
use katabatic_core::schedule::{Days, read_time};

use super::rate::Rate;

/// What a line may be given, and when.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rates {
    parts: Vec<Part>,
    /// Where no part says anything; none is no limit.
    otherwise: Option<Rate>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
struct Part {
    days: Days,
    from: Time,
    /// Earlier than `from` where it is on the next day.
    until: Time,
    rate: Option<Rate>,
}

impl Part {
    fn covers(&self, now: &Zoned) -> bool {
        let (today, time) = (now.weekday(), now.time());
        if self.from < self.until {
            return self.days.has(today) && (self.from..self.until).contains(&time);
        }
        let late = self.days.has(today) && time >= self.from;
        // The day is the one on which it began.
        late || (self.days.has(today.previous()) && time < self.until)
    }
}

impl Rates {
    /// The same at all times.
    #[must_use]
    pub fn always(rate: Rate) -> Rates {
        Rates {
            parts: Vec::new(),
            otherwise: Some(rate),
        }
    }

    /// Reads `2MB/s`, or parts with semicolons between them, the first that fits counting:
    /// `weekdays 08:00-18:00 500kB/s; 22:00-06:00 none; 2MB/s`.
    ///
    /// # Errors
    /// Says what is wrong with it, and what it should look like.
    pub fn parse(text: &str) -> Result<Rates, String> {
        let mut rates = Rates {
            parts: Vec::new(),
            otherwise: None,
        };
        let parts: Vec<&str> = text.split(';').map(str::trim).collect();
        for (at, part) in parts.iter().enumerate() {
            match part.split_once('-') {
                Some(_) => rates.parts.push(read_part(part)?),
                None if at + 1 == parts.len() => rates.otherwise = read_rate(part)?,
                None => {
                    return Err(format!(
                        "{part:?} holds at all times, so nothing after it counts; put it last"
                    ));
                }
            }
        }
        Ok(rates)
    }

    /// What holds at this moment; none where there is no limit.
    #[must_use]
    pub fn at(&self, now: &Zoned) -> Option<Rate> {
        let part = self.parts.iter().find(|part| part.covers(now));
        part.map_or(self.otherwise, |part| part.rate)
    }
}

fn read_rate(text: &str) -> Result<Option<Rate>, String> {
    match text {
        "none" => Ok(None),
        text => Rate::parse(text).map(Some),
    }
}

fn read_part(text: &str) -> Result<Part, String> {
    let odd = || {
        format!(
            "{text:?} is no rate at a time; write it like 08:00-18:00 500kB/s, or weekdays 22:00-06:00 none"
        )
    };
    let mut words = text.splitn(3, ' ');
    let first = words.next().unwrap_or_default();
    let (days, span) = match first.contains('-') {
        true => (Days::ALL, first),
        false => (
            Days::parse(first).ok_or_else(odd)?,
            words.next().ok_or_else(odd)?,
        ),
    };
    let rest: Vec<&str> = words.collect();
    let (from, until) = span.split_once('-').ok_or_else(odd)?;
    let (from, until) = read_time(from).zip(read_time(until)).ok_or_else(odd)?;
    if from == until {
        return Err(format!("{text:?} begins when it ends"));
    }
    Ok(Part {
        days,
        from,
        until,
        rate: read_rate(rest.join(" ").trim())?,
    })
}

fn shown(rate: Option<Rate>) -> String {
    rate.map_or_else(|| "none".to_owned(), |rate| rate.to_string())
}

impl fmt::Display for Rates {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        for part in &self.parts {
            if part.days != Days::ALL {
                write!(out, "{} ", part.days)?;
            }
            let at = |time: Time| format!("{:02}:{:02}", time.hour(), time.minute());
            write!(
                out,
                "{}-{} {}; ",
                at(part.from),
                at(part.until),
                shown(part.rate)
            )?;
        }
        out.write_str(&shown(self.otherwise))
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

    #[test]
    fn the_first_part_that_fits_counts() {
        let text = "weekdays 08:00-18:00 500kB/s; fri,sat 22:00-06:00 none; 2MB/s";
        let rates = Rates::parse(text).unwrap();
        assert_eq!(rates.to_string(), text);
        let little = Some(Rate(500_000));
        let usual = Some(Rate(2_000_000));
        // 2026-11-26 is a Thursday.
        for (when, rate) in [
            ("2026-11-26T07:59", usual),
            ("2026-11-26T08:00", little),
            ("2026-11-26T17:59", little),
            ("2026-11-26T18:00", usual),
            ("2026-11-26T23:00", usual),
            ("2026-11-27T23:00", None),
            ("2026-11-28T05:59", None),
            ("2026-11-28T06:00", usual),
            ("2026-11-28T12:00", usual),
            ("2026-11-29T02:00", None),
            ("2026-11-30T02:00", usual),
        ] {
            assert_eq!(rates.at(&at(when)), rate, "{when}");
        }
        assert_eq!(
            Rates::parse("none").unwrap().at(&at("2026-11-26T08:00")),
            None
        );
        assert_eq!(Rates::parse("1MB/s"), Ok(Rates::always(Rate(1_000_000))));
    }

    #[test]
    fn fuzz_rates_by_the_time() {
        katabatic_fuzz::each_text("rates", |text| {
            if let Ok(rates) = Rates::parse(text) {
                assert_eq!(Rates::parse(&rates.to_string()), Ok(rates));
            }
        });
    }

    #[test]
    fn what_is_none_says_what_it_could_be() {
        for text in [
            "",
            "08:00-18:00",
            "8-18 1MB/s",
            "08:00-08:00 1MB/s",
            "someday 08:00-18:00 1MB/s",
            "1MB/s; 08:00-18:00 2MB/s",
            "08:00-25:00 1MB/s",
        ] {
            assert!(Rates::parse(text).is_err(), "{text}");
        }
    }
}
