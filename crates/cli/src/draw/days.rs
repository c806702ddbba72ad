//! What runs carried, day by day, as a picture in the terminal or as SVG: bytes and files, with failures marked.

use std::fmt::Write as _;

use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use katabatic_core::{EditTime, RunClass, words};
use katabatic_ledger::runs::Run;

use super::page::text;
use super::{Style, line};

/// The runs of one day.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Day {
    /// The day, where the person is.
    pub date: Date,
    /// Files and bytes carried up.
    pub up: (u64, u64),
    /// Files and bytes carried down.
    pub down: (u64, u64),
    /// Runs.
    pub runs: u64,
    /// Runs that failed, were stopped, or were cut off.
    pub failed: u64,
    /// Runs that ended with something that needs a person.
    pub person: u64,
}

impl Day {
    fn of(date: Date) -> Day {
        Day {
            date,
            up: (0, 0),
            down: (0, 0),
            runs: 0,
            failed: 0,
            person: 0,
        }
    }

    fn add(&mut self, run: &Run) {
        let counts = &run.counts;
        let sum = |sum: &mut (u64, u64), files: u64, bytes: u64| {
            *sum = (sum.0.saturating_add(files), sum.1.saturating_add(bytes));
        };
        sum(&mut self.up, counts.files_up, counts.bytes_up);
        sum(&mut self.down, counts.files_down, counts.bytes_down);
        self.runs += 1;
        match run.class() {
            RunClass::Fine | RunClass::Running => {}
            RunClass::NeedsPerson => self.person += 1,
            RunClass::Failed | RunClass::CutOff => self.failed += 1,
        }
    }

    /// Files carried either way.
    pub fn files(&self) -> u64 {
        self.up.0.saturating_add(self.down.0)
    }

    /// Bytes carried either way.
    pub fn bytes(&self) -> u64 {
        self.up.1.saturating_add(self.down.1)
    }

    fn trouble(&self) -> String {
        let mut said = Vec::new();
        if self.failed > 0 {
            said.push(format!("{} failed", words::grouped(self.failed)));
        }
        if self.person > 0 {
            said.push(format!("{} for a person", words::grouped(self.person)));
        }
        said.join(", ")
    }

    fn words(&self) -> String {
        let trouble = self.trouble();
        format!(
            "{}: {} up in {}, {} down in {}, {}{}{trouble}",
            self.date,
            words::bytes(self.up.1),
            words::count(self.up.0, "file", "files"),
            words::bytes(self.down.1),
            words::count(self.down.0, "file", "files"),
            words::count(self.runs, "run", "runs"),
            if trouble.is_empty() { "" } else { ", " }
        )
    }
}

/// The first instant of the first of so many weeks that end today, where the person is.
pub fn begin(weeks: u32) -> EditTime {
    let zone = TimeZone::system();
    let first = first_day(weeks);
    let at = first
        .to_zoned(zone)
        .map(|at| at.timestamp().as_nanosecond());
    EditTime(at.ok().and_then(|at| i64::try_from(at).ok()).unwrap_or(0))
}

fn today() -> Date {
    Timestamp::now().to_zoned(TimeZone::system()).date()
}

fn first_day(weeks: u32) -> Date {
    let days = i64::from(weeks) * 7 - 1;
    today().checked_sub(days.days()).unwrap_or(today())
}

/// Every day of so many weeks that end today, with its runs.
pub fn of(runs: &[Run], weeks: u32) -> Vec<Day> {
    between(runs, first_day(weeks), today(), &TimeZone::system())
}

fn between(runs: &[Run], first: Date, last: Date, zone: &TimeZone) -> Vec<Day> {
    let mut days: Vec<Day> = first
        .series(1.day())
        .take_while(|date| *date <= last)
        .map(Day::of)
        .collect();
    for run in runs {
        let Ok(began) = Timestamp::from_nanosecond(i128::from(run.began.0)) else {
            continue;
        };
        let date = began.to_zoned(zone.clone()).date();
        if let Ok(at) = days.binary_search_by(|day| day.date.cmp(&date)) {
            days[at].add(run);
        }
    }
    days
}

/// Draws them on the terminal: a line a day, days without a run together.
pub fn print(style: Style, days: &[Day]) {
    for drawn in lines(style, days) {
        line(drawn);
    }
}

fn lines(style: Style, days: &[Day]) -> Vec<String> {
    const BESIDE_THE_BAR: usize = 44;
    let (up, down) = if style.marks {
        ("█", "░")
    } else {
        ("#", "=")
    };
    let width = usize::from(style.width.unwrap_or(100));
    let words = days.iter().map(|day| day.trouble().len()).max();
    let room = width
        .saturating_sub(BESIDE_THE_BAR + words.unwrap_or(0))
        .clamp(10, 60);
    let most = days.iter().map(Day::bytes).max().unwrap_or(0);
    let mut out = Vec::new();
    if let (Some(first), Some(last)) = (days.first(), days.last()) {
        out.push(format!(
            "Carried a day, {} to {} ({up} up, {down} down)",
            first.date, last.date
        ));
    }
    let mut quiet = 0_u64;
    for day in days {
        if day.runs == 0 {
            quiet += 1;
            continue;
        }
        said_quiet(&mut out, &mut quiet);
        let (ups, downs) = shares(day, most, room);
        let bar = format!("{}{}", up.repeat(ups), down.repeat(downs));
        let gap = " ".repeat(room - ups - downs);
        let drawn = format!(
            "{} {bar}{gap} {:>9} {:>11} {:>8}  {}",
            day.date.strftime("%a %m-%d"),
            words::bytes(day.bytes()),
            words::count(day.files(), "file", "files"),
            words::count(day.runs, "run", "runs"),
            day.trouble()
        );
        out.push(drawn.trim_end().to_owned());
    }
    said_quiet(&mut out, &mut quiet);
    out
}

fn said_quiet(out: &mut Vec<String>, quiet: &mut u64) {
    if *quiet > 0 {
        let days = words::count(*quiet, "day", "days");
        out.push(format!("    {days} without a run"));
    }
    *quiet = 0;
}

/// How much of the room the two parts of a bar take; whatever was carried at all is seen.
fn shares(day: &Day, most: u64, room: usize) -> (usize, usize) {
    let share = |bytes: u64| {
        if bytes == 0 || most == 0 {
            return 0;
        }
        let exact = bytes as f64 / most as f64 * room as f64;
        (exact.round() as usize).max(1)
    };
    let ups = share(day.up.1).min(room);
    (ups, share(day.down.1).min(room - ups))
}

const UP: &str = "#1f7a8c";
const DOWN: &str = "#d39b2e";
const BAD: &str = "#b3341e";
const INK: &str = "#1c2530";
const FAINT: &str = "#5a6675";
const GRID: &str = "#d8dee6";

/// Draws them as SVG: bytes above, files below, each a bar a day.
pub fn svg(days: &[Day]) -> String {
    const WIDTH: f64 = 960.0;
    const LEFT: f64 = 84.0;
    let mut out = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {WIDTH} 400\" role=\"img\" font-family=\"system-ui,sans-serif\" font-size=\"13\" fill=\"{INK}\">\
         <title>What runs carried a day</title>"
    );
    let step = (WIDTH - LEFT - 16.0) / days.len().max(1) as f64;
    let mut legend = LEFT;
    for (colour, what, wide) in [(UP, "up", 60.0), (DOWN, "down", 78.0)] {
        let _ = write!(
            out,
            "<rect x=\"{legend}\" y=\"8\" width=\"12\" height=\"12\" fill=\"{colour}\"/><text x=\"{}\" y=\"19\">{what}</text>",
            legend + 18.0
        );
        legend += wide;
    }
    let _ = write!(
        out,
        "<path d=\"{}\" fill=\"{BAD}\"/><text x=\"{}\" y=\"19\">a run failed</text><circle cx=\"{}\" cy=\"14\" r=\"5\" fill=\"none\" stroke=\"{BAD}\" stroke-width=\"2\"/><text x=\"{}\" y=\"19\">one needs a person</text>",
        cross(legend + 6.0, 14.0),
        legend + 18.0,
        legend + 126.0,
        legend + 138.0
    );
    let bytes = |day: &Day| (day.up.1, day.down.1);
    let files = |day: &Day| (day.up.0, day.down.0);
    let grouped = |value: u64| words::grouped(value);
    panel(
        &mut out,
        days,
        (40.0, 190.0),
        step,
        bytes,
        &words::bytes,
        "bytes",
    );
    panel(
        &mut out,
        days,
        (274.0, 84.0),
        step,
        files,
        &grouped,
        "files",
    );
    for (number, day) in days.iter().enumerate() {
        let middle = LEFT + step * (number as f64 + 0.5);
        if day.failed > 0 {
            let _ = write!(out, "<path d=\"{}\" fill=\"{BAD}\"/>", cross(middle, 246.0));
        } else if day.person > 0 {
            let _ = write!(
                out,
                "<circle cx=\"{middle:.1}\" cy=\"246\" r=\"5\" fill=\"none\" stroke=\"{BAD}\" stroke-width=\"2\"/>"
            );
        }
        let from_the_last = days.len() - 1 - number;
        if from_the_last.is_multiple_of(7) {
            let _ = write!(
                out,
                "<text x=\"{middle:.1}\" y=\"382\" text-anchor=\"middle\" fill=\"{FAINT}\">{}</text>",
                day.date.strftime("%b %-d")
            );
        }
    }
    out.push_str("</svg>");
    out
}

/// One of the two rows of bars, `(top, height)`.
fn panel(
    out: &mut String,
    days: &[Day],
    (top, height): (f64, f64),
    step: f64,
    value: impl Fn(&Day) -> (u64, u64),
    said: &dyn Fn(u64) -> String,
    what: &str,
) {
    const LEFT: f64 = 84.0;
    let right = LEFT + step * days.len() as f64;
    let most = days
        .iter()
        .map(&value)
        .map(|(up, down)| up.saturating_add(down))
        .max();
    let scale = round_up(most.unwrap_or(0));
    for part in [0.0, 0.5, 1.0] {
        let y = top + height * (1.0 - part);
        let _ = write!(
            out,
            "<line x1=\"{LEFT}\" x2=\"{right:.1}\" y1=\"{y:.1}\" y2=\"{y:.1}\" stroke=\"{GRID}\"/><text x=\"{}\" y=\"{:.1}\" text-anchor=\"end\" fill=\"{FAINT}\">{}</text>",
            LEFT - 8.0,
            y + 4.0,
            match part {
                0.0 => what.to_owned(),
                part => text(&said((scale as f64 * part) as u64)),
            }
        );
    }
    for (number, day) in days.iter().enumerate() {
        let (up, down) = value(day);
        let x = LEFT + step * (number as f64 + 0.15);
        let mut foot = top + height;
        if day.runs == 0 {
            continue;
        }
        let _ = write!(out, "<g><title>{}</title>", text(&day.words()));
        for (value, colour) in [(up, UP), (down, DOWN)] {
            // Whatever was carried at all is seen.
            let tall = match value {
                0 => continue,
                value => (value as f64 / scale as f64 * height).max(1.5),
            };
            foot -= tall;
            let _ = write!(
                out,
                "<rect x=\"{x:.1}\" y=\"{foot:.1}\" width=\"{:.1}\" height=\"{tall:.1}\" fill=\"{colour}\"/>",
                step * 0.7
            );
        }
        out.push_str("</g>");
    }
}

/// The next of 1, 2, 4, 6 and 8 with noughts behind it: half of each is round, too.
fn round_up(value: u64) -> u64 {
    let mut scale: u64 = 1;
    loop {
        for times in [1, 2, 4, 6, 8] {
            match scale.checked_mul(times) {
                Some(round) if round >= value.max(2) => return round,
                Some(_) => {}
                None => return u64::MAX,
            }
        }
        scale = match scale.checked_mul(10) {
            Some(scale) => scale,
            None => return u64::MAX,
        };
    }
}

fn cross(x: f64, y: f64) -> String {
    let (x, y) = (x - 6.0, y - 6.0);
    format!("M{x:.1} {y:.1}m2 0l4 4 4-4 2 2-4 4 4 4-2 2-4-4-4 4-2-2 4-4-4-4z")
}

#[cfg(test)]
mod tests {
    use jiff::civil::date;
    use katabatic_core::{RunCommand, RunOutcome};
    use katabatic_ledger::runs::Counts;

    use super::*;

    fn run(day: i8, outcome: Option<RunOutcome>, up: (u64, u64), down: (u64, u64)) -> Run {
        let began = date(2026, 11, day)
            .at(23, 30, 0, 0)
            .to_zoned(TimeZone::UTC)
            .unwrap();
        Run {
            number: 1,
            lane: "scores".into(),
            command: RunCommand::Sync,
            began: EditTime(began.timestamp().as_nanosecond().try_into().unwrap()),
            ended: None,
            outcome,
            runs_still: false,
            counts: Counts {
                files_up: up.0,
                bytes_up: up.1,
                files_down: down.0,
                bytes_down: down.1,
                ..Counts::default()
            },
        }
    }

    fn november() -> Vec<Day> {
        let runs = [
            run(2, Some(RunOutcome::AllSettled), (2, 4_000), (1, 4_000)),
            run(3, None, (0, 0), (1, 10)),
            run(3, Some(RunOutcome::NeedsPerson), (0, 0), (0, 0)),
            run(30, Some(RunOutcome::AllSettled), (9, 9), (9, 9)),
        ];
        between(&runs, date(2026, 11, 1), date(2026, 11, 7), &TimeZone::UTC)
    }

    #[test]
    fn each_run_counts_on_the_day_where_the_person_is() {
        let days = november();
        assert_eq!(days.len(), 7);
        assert_eq!((days[1].up, days[1].down), ((2, 4_000), (1, 4_000)));
        assert_eq!((days[2].failed, days[2].person, days[2].runs), (1, 1, 2));
        let east = TimeZone::fixed(jiff::tz::offset(1));
        let runs = [run(2, Some(RunOutcome::AllSettled), (1, 1), (0, 0))];
        let days = between(&runs, date(2026, 11, 1), date(2026, 11, 7), &east);
        assert_eq!((days[1].runs, days[2].runs), (0, 1));
    }

    #[test]
    fn a_line_a_day_that_fits_and_shows_whatever_was_carried() {
        let style = Style {
            marks: false,
            progress: crate::draw::progress::Shown::Nothing,
            terminal: false,
            width: Some(80),
        };
        let drawn = lines(style, &november());
        assert_eq!(
            drawn[0],
            "Carried a day, 2026-11-01 to 2026-11-07 (# up, = down)"
        );
        assert_eq!(drawn[1], "    1 day without a run");
        assert!(drawn[2].contains(" ######====== "), "{}", drawn[2]);
        assert!(drawn[3].contains("= ") && drawn[3].ends_with("1 failed, 1 for a person"));
        assert_eq!(drawn[4], "    4 days without a run");
        assert!(drawn[2].len() <= 80, "{}", drawn[2].len());
    }

    #[test]
    fn the_picture_holds_a_bar_for_each_value_and_a_mark_for_trouble() {
        let drawn = svg(&november());
        // Two in the legend; bytes and files of both ways on one day, of one way on the other.
        assert_eq!(drawn.matches("<rect").count(), 2 + 4 + 2);
        assert_eq!(drawn.matches("<path").count(), 2);
        assert!(drawn.contains("2026-11-02: 4.0 KB up in 2 files, 4.0 KB down in 1 file, 1 run"));
        assert_eq!(svg(&[]).matches("<rect").count(), 2);
    }

    #[test]
    fn scales_are_round() {
        assert_eq!([0, 3, 11, 500, 501].map(round_up), [2, 4, 20, 600, 600]);
        assert_eq!(round_up(u64::MAX), u64::MAX);
    }
}
