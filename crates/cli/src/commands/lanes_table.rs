//! `status` of all lanes: a line for each, and what needs somebody first, with the reason and what to do.

use katabatic_agent::{Answer, Doing};
use katabatic_core::{Agreement, Direction, EditTime, Side, words};
use katabatic_engine::Error;
use katabatic_engine::config::LaneConfig;
use katabatic_engine::standing::LaneStanding;

use super::agent::hears;
use super::status::{
    LastPass, last_pass_words, not_reached_words, say_next, say_opening, say_zeros, waiting_bytes,
};
use crate::app::App;
use crate::draw::look::Look;
use crate::draw::table::{Cell, Rows};
use crate::draw::urgency::urgency;
use crate::draw::{self, Style, time};

/// What a lane is like, as a whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum State {
    /// It could not be looked at.
    NotLooked,
    /// Its last pass failed, for a reason that does not go by itself.
    Failed,
    /// No pass has run.
    NeverRan,
    /// Its far side was not reached when that was tried last.
    Away,
    /// What is most urgent in it.
    Is(Agreement),
}

impl State {
    fn of(standing: &LaneStanding) -> State {
        let counts = standing.counts.iter().filter(|(_, count)| **count > 0);
        let most_urgent = counts
            .map(|(agreement, _)| *agreement)
            .filter(|agreement| *agreement != Agreement::LeftOut)
            .min_by_key(|agreement| urgency(*agreement))
            .unwrap_or(Agreement::Settled);
        let away = standing.far_failed.is_some();
        match most_urgent {
            person if person.needs_a_person() => State::Is(person),
            _ if standing.failed.is_some() && !away => State::Failed,
            _ if away => State::Away,
            _ if standing.far_seen.is_none() => State::NeverRan,
            other => State::Is(other),
        }
    }

    fn needs_a_person(self) -> bool {
        match self {
            State::NotLooked | State::Failed => true,
            State::NeverRan | State::Away => false,
            State::Is(agreement) => agreement.needs_a_person(),
        }
    }

    /// Whether the next pass carries what is not settled.
    fn is_carried_by_a_pass(self) -> bool {
        match self {
            State::NotLooked | State::Failed => false,
            State::NeverRan | State::Away => true,
            State::Is(agreement) => {
                matches!(agreement, Agreement::Waiting(_) | Agreement::Moving(_))
            }
        }
    }

    /// What comes first.
    fn rank(self) -> u8 {
        match self {
            State::NotLooked | State::Failed => 0,
            State::Is(agreement) if agreement.needs_a_person() => 1,
            State::Away => 2,
            State::NeverRan => 3,
            State::Is(Agreement::Settled) => 5,
            State::Is(_) => 4,
        }
    }

    fn look(self) -> Look {
        match self {
            State::NotLooked | State::Failed | State::Away => Look::Cannot,
            State::NeverRan => Look::UnderWay,
            State::Is(agreement) => Look::of(agreement),
        }
    }

    fn words(self, style: Style) -> String {
        let stuck = |word: &str| match style.marks {
            true => format!("{} {word}", Agreement::Stuck.mark()),
            false => word.to_owned(),
        };
        match self {
            State::NotLooked => stuck("not looked at"),
            State::Failed => stuck("failed"),
            State::Away => stuck("not reached"),
            State::NeverRan => "no pass yet".to_owned(),
            State::Is(agreement) => style.state(agreement),
        }
    }
}

/// A lane in the table.
pub struct Row<'l> {
    name: &'l str,
    state: State,
    told: Told<'l>,
}

/// What is known of it.
enum Told<'l> {
    Standing {
        lane: &'l LaneConfig,
        standing: &'l LaneStanding,
        agent: Option<&'l Answer>,
    },
    Error(&'l Error),
}

impl<'l> Row<'l> {
    /// Of a lane that was looked at.
    pub fn of(
        lane: &'l LaneConfig,
        standing: &'l LaneStanding,
        agent: Option<&'l Answer>,
    ) -> Row<'l> {
        Row {
            name: &lane.name,
            state: State::of(standing),
            told: Told::Standing {
                lane,
                standing,
                agent,
            },
        }
    }

    /// Of one that could not be.
    pub fn not_looked(lane: &'l str, error: &'l Error) -> Row<'l> {
        Row {
            name: lane,
            state: State::NotLooked,
            told: Told::Error(error),
        }
    }

    fn cells(&self, style: Style) -> [String; 7] {
        let state = self.state.words(style);
        let Told::Standing {
            lane,
            standing,
            agent,
        } = &self.told
        else {
            let empty = String::new;
            return [
                self.name.into(),
                empty(),
                empty(),
                state,
                empty(),
                empty(),
                empty(),
            ];
        };
        let files = standing.counts.iter();
        let files = files.filter(|(agreement, _)| **agreement != Agreement::LeftOut);
        let last = LastPass::of(standing).and_then(|last| last.at);
        [
            self.name.into(),
            way(style, lane.terms.direction).into(),
            words::grouped(files.map(|(_, count)| count).sum()),
            state,
            waiting(style, standing),
            last.map_or_else(|| "never".to_owned(), time::short),
            next(*agent, self.name),
        ]
    }
}

fn way(style: Style, direction: Direction) -> &'static str {
    match (style.marks, direction) {
        (true, _) => style.arrow(direction),
        (false, Direction::TwoWay) => "two-way",
        (false, Direction::Up) => "up",
        (false, Direction::Down) => "down",
    }
}

fn waiting(style: Style, standing: &LaneStanding) -> String {
    let each = [Side::Far, Side::Near].into_iter().filter_map(|to| {
        let agreement = Agreement::Waiting(to);
        let count = standing
            .counts
            .get(&agreement)
            .filter(|count| **count > 0)?;
        let mark = match style.marks {
            true => format!("{} ", agreement.mark()),
            false => format!("{} ", to.towards()),
        };
        let bytes = words::bytes(waiting_bytes(standing, agreement));
        Some(format!("{mark}{}, {bytes}", words::grouped(*count)))
    });
    each.collect::<Vec<_>>().join(" ")
}

/// When it runs next by itself.
fn next(agent: Option<&Answer>, name: &str) -> String {
    let lane = agent.and_then(|agent| agent.lanes.iter().find(|lane| lane.lane == name));
    let Some(lane) = lane else {
        return "by hand".to_owned();
    };
    match &lane.doing {
        Doing::Running { .. } => "runs now".to_owned(),
        Doing::Paused => "paused".to_owned(),
        Doing::Waiting
        | Doing::Idle
        | Doing::Unfit { .. }
        | Doing::Asking { .. }
        | Doing::Stopped { .. }
        | Doing::Failing { .. } => match lane.next {
            Some(at) => time::short(EditTime(at)),
            None if hears(lane) => "on change".to_owned(),
            None => "by hand".to_owned(),
        },
    }
}

const HEADINGS: [&str; 7] = [
    "lane",
    "way",
    "files",
    "state",
    "waiting",
    "last pass",
    "next",
];

/// The column of numbers.
const FILES: usize = 2;

/// The column of states.
const STATE: usize = 3;

/// Those of times.
const LAST_PASS: usize = 5;
const NEXT: usize = 6;

/// Writes the table: what needs somebody first, each with the reason and what to do.
pub fn print(app: &App, mut rows: Vec<Row<'_>>) {
    if app.common.quiet {
        rows.retain(|row| row.state.needs_a_person());
    }
    rows.sort_by_key(|row| row.state.rank());
    if rows.is_empty() {
        return;
    }
    let mut table = Rows::new(app.style, &HEADINGS);
    for row in &rows {
        let cells = row.cells(app.style).into_iter().enumerate();
        let cells = cells.map(|(column, text)| match column == STATE {
            true => Cell::of(row.state.look(), text),
            false => text.into(),
        });
        table.add(cells.collect());
    }
    table.paths(0);
    table.numbers(FILES);
    for whole in [1, STATE, LAST_PASS, NEXT] {
        table.whole(whole);
    }
    table.print_telling(0, &mut |at| say_more(app, &rows[at]));
    if !app.common.quiet {
        say_sum(app, &rows);
    }
}

/// What else is to be told of one.
fn say_more(app: &App, row: &Row<'_>) {
    let (lane, standing, agent) = match &row.told {
        Told::Error(error) => {
            for text in [&error.what, &error.why, &error.next] {
                draw::sentence(app.style, 2, text);
            }
            return;
        }
        Told::Standing {
            lane,
            standing,
            agent,
        } => (lane, standing, agent),
    };
    say_opening(*agent, &lane.name);
    say_zeros(app, lane, standing);
    let is_away = row.state == State::Away || standing.far_failed.is_some();
    if let Some(not_reached) = not_reached_words(standing).filter(|_| is_away) {
        draw::sentence(app.style, 2, &not_reached);
    }
    let waits = |agreement: &Agreement| matches!(agreement, Agreement::Waiting(_));
    let waits = is_away && standing.counts.keys().any(waits);
    if row.state.needs_a_person() || standing.failed.is_some() || waits {
        if let Some(last) = last_pass_words(standing) {
            draw::sentence(app.style, 2, &format!("last pass: {last}"));
        }
        say_next(app, lane, standing);
    }
}

fn say_sum(app: &App, rows: &[Row<'_>]) {
    let lanes = |count: usize| words::count(count as u64, "lane", "lanes");
    let settled = |row: &&Row<'_>| row.state == State::Is(Agreement::Settled);
    let settled = rows.iter().filter(settled).count();
    let person = rows.iter().filter(|row| row.state.needs_a_person()).count();
    let all = match settled == rows.len() {
        true => format!("All settled: {}", lanes(rows.len())),
        false if person > 0 => format!(
            "{} of {} settled, {} for you",
            words::grouped(settled as u64),
            lanes(rows.len()),
            match person {
                1 => "one waits".to_owned(),
                person => format!("{} wait", words::grouped(person as u64)),
            }
        ),
        false => format!(
            "{} of {} settled{}",
            words::grouped(settled as u64),
            lanes(rows.len()),
            match rows.iter().any(|row| row.state.is_carried_by_a_pass()) {
                true => ". To carry what waits: katabatic sync",
                false => "",
            }
        ),
    };
    let left_out = rows.iter().map(|row| match &row.told {
        Told::Standing { standing, .. } => standing
            .counts
            .get(&Agreement::LeftOut)
            .copied()
            .unwrap_or(0),
        Told::Error(_) => 0,
    });
    let left_out: u64 = left_out.sum();
    let seen = "As seen on this computer now, and on the other side by each lane's last pass; more: katabatic -v status";
    draw::sentence(app.style, 0, &all);
    if left_out > 0 {
        let told = format!(
            "{} left out: katabatic status --state left-out",
            words::count(left_out, "path is", "paths are")
        );
        draw::sentence(app.style, 0, &told);
    }
    draw::sentence(app.style, 0, seen);
}
