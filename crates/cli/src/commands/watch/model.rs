//! What `watch` shows, made of what agent and ledger say; nothing here draws or waits.

use std::collections::{BTreeMap, VecDeque};
use std::time::{Duration, Instant};

#[cfg(test)]
use katabatic_agent::OpeningsNow;
use katabatic_agent::{Answer, Doing, LaneNow};
use katabatic_core::{Agreement, EditTime, RelPath, words};
use katabatic_ledger::runs::{Run, RunItem};

use crate::commands::agent;
use crate::draw::run_words::{did, outcome};
use crate::draw::{shown_text, time};

/// What the agent and the ledger say of one pass is never further apart, in nanoseconds.
const A_SECOND: i64 = 1_000_000_000;

/// A speed is that of the last so many seconds.
const SPEED_OVER: Duration = Duration::from_secs(5);

/// Paths of a lane that need a person: the path, the state, the reason.
pub type OpenPaths = Vec<(RelPath, Agreement, String)>;

/// What was asked and answered just now.
#[derive(Debug)]
pub struct Heard {
    /// When, by this computer's clock.
    pub now: EditTime,
    /// The same, by a clock that is never set.
    pub at: Instant,
    /// The agent; none where none runs.
    pub agent: Option<Answer>,
    /// What needs a person, by lane.
    pub open: Vec<(String, OpenPaths)>,
    /// The last run of each lane.
    pub last: Vec<(String, Option<Run>)>,
    /// The last happenings, the newest first, each with its lane.
    pub happened: Vec<(String, RunItem)>,
}

/// Which list the arrows move in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum List {
    /// The lanes.
    Lanes,
    /// What needs a person.
    Open,
}

/// All that is shown.
#[derive(Debug)]
pub struct Model {
    lanes: Vec<String>,
    /// The list the arrows move in.
    pub list: List,
    lane: usize,
    open: usize,
    heard: Option<Heard>,
    /// Bytes that a lane's running pass had carried, and when.
    carried: BTreeMap<String, VecDeque<(Instant, u64)>>,
    said: Option<String>,
}

/// A line about one lane.
#[derive(Debug, PartialEq, Eq)]
pub struct LaneLine {
    /// Its name.
    pub lane: String,
    /// What it does.
    pub doing: String,
    /// Whether it does something now.
    pub runs: bool,
    /// Whether it needs a person.
    pub needs: bool,
    /// How far it is, in thousandths, where that can be told.
    pub done: Option<u16>,
    /// Speed and time left, or how the last pass ended.
    pub more: String,
    /// What is under way.
    pub paths: Vec<String>,
}

impl Model {
    /// Of these lanes, with nothing heard yet.
    pub fn new(lanes: impl Iterator<Item = String>) -> Model {
        Model {
            lanes: lanes.collect(),
            list: List::Lanes,
            lane: 0,
            open: 0,
            heard: None,
            carried: BTreeMap::new(),
            said: None,
        }
    }

    /// The names of the lanes.
    pub fn lanes(&self) -> impl Iterator<Item = &str> {
        self.lanes.iter().map(String::as_str)
    }

    /// Takes in what was heard.
    pub fn hear(&mut self, heard: Heard) {
        let running = heard.agent.iter().flat_map(|agent| &agent.lanes);
        let mut carried = BTreeMap::new();
        for lane in running {
            if let Doing::Running { bytes, .. } = &lane.doing {
                let mut before = self.carried.remove(&lane.lane).unwrap_or_default();
                // Another pass begins anew.
                if before.back().is_some_and(|(_, known)| *known > bytes.1) {
                    before.clear();
                }
                before.push_back((heard.at, bytes.1));
                while before.len() > 2
                    && before
                        .front()
                        .is_some_and(|(at, _)| heard.at.duration_since(*at) > SPEED_OVER)
                {
                    before.pop_front();
                }
                carried.insert(lane.lane.clone(), before);
            }
        }
        self.carried = carried;
        self.heard = Some(heard);
        self.open = self.open.min(self.open_paths().len().saturating_sub(1));
    }

    /// Says something in the line at the foot, until another key is pressed.
    pub fn say(&mut self, text: &str) {
        self.said = Some(text.to_owned());
    }

    /// What was said last.
    pub fn said(&self) -> Option<&str> {
        self.said.as_deref()
    }

    fn place(&mut self) -> (&mut usize, usize) {
        let open = self.open_paths().len();
        match self.list {
            List::Lanes => (&mut self.lane, self.lanes.len()),
            List::Open => (&mut self.open, open),
        }
    }

    /// One up in the list.
    pub fn up(&mut self) {
        self.said = None;
        let (place, _) = self.place();
        *place = place.saturating_sub(1);
    }

    /// One down.
    pub fn down(&mut self) {
        self.said = None;
        let (place, len) = self.place();
        *place = (*place + 1).min(len.saturating_sub(1));
    }

    /// To the other list.
    pub fn other_list(&mut self) {
        self.said = None;
        self.list = match self.list {
            List::Lanes if !self.open_paths().is_empty() => List::Open,
            _ => List::Lanes,
        };
    }

    /// Where the arrows stand in a list.
    pub fn chosen(&self, list: List) -> usize {
        match list {
            List::Lanes => self.lane,
            List::Open => self.open,
        }
    }

    /// The lane that is chosen.
    pub fn chosen_lane(&self) -> Option<String> {
        self.lanes.get(self.lane).cloned()
    }

    /// The path that is chosen, where the arrows are among those.
    pub fn chosen_path(&self) -> Option<(String, RelPath)> {
        if self.list != List::Open {
            return None;
        }
        let open = self.open_paths();
        let (lane, path, ..) = open.get(self.open)?;
        Some(((*lane).to_owned(), (*path).clone()))
    }

    fn lane_now(&self, lane: &str) -> Option<&LaneNow> {
        let agent = self.heard.as_ref()?.agent.as_ref()?;
        agent.lanes.iter().find(|now| now.lane == lane)
    }

    /// Whether the agent leaves this lane alone.
    pub fn is_paused(&self, lane: &str) -> bool {
        self.lane_now(lane)
            .is_some_and(|now| now.doing == Doing::Paused)
    }

    /// The line at the top: what runs.
    pub fn title(&self) -> String {
        let Some(heard) = &self.heard else {
            return String::new();
        };
        match &heard.agent {
            None => "no agent runs: lanes are synced by hand alone".into(),
            Some(agent) => {
                let since = time::time(EditTime(agent.since));
                match agent.paused.map(|pause| pause.until) {
                    None => format!("the agent runs since {since}"),
                    Some(None) => "the agent pauses until somebody ends it".into(),
                    Some(Some(until)) => {
                        format!("the agent pauses until {}", time::time(EditTime(until)))
                    }
                }
            }
        }
    }

    /// The time it is.
    pub fn clock(&self) -> String {
        self.heard
            .as_ref()
            .map_or_else(String::new, |heard| time::exact(heard.now))
    }

    /// Bytes a second of a lane's running pass.
    fn speed(&self, lane: &str) -> Option<f64> {
        let carried = self.carried.get(lane)?;
        let ((from, before), (to, after)) = (carried.front()?, carried.back()?);
        let took = to.duration_since(*from).as_secs_f64();
        (took > 0.4).then(|| after.saturating_sub(*before) as f64 / took)
    }

    /// A line about each lane.
    pub fn lane_lines(&self) -> Vec<LaneLine> {
        self.lanes.iter().map(|lane| self.lane_line(lane)).collect()
    }

    fn lane_line(&self, lane: &str) -> LaneLine {
        let now = self.lane_now(lane);
        let (mut done, mut more, mut paths) = (None, self.last_words(lane), Vec::new());
        let doing = match now {
            None if self
                .heard
                .as_ref()
                .is_some_and(|heard| heard.agent.is_some()) =>
            {
                "by hand alone".into()
            }
            None => "no agent runs it".into(),
            Some(now) => agent::doing(now),
        };
        if let Some(Doing::Running {
            files,
            bytes,
            paths: under_way,
            ..
        }) = now.map(|now| &now.doing)
        {
            more = self.pace_words(lane, *bytes);
            paths.clone_from(under_way);
            let (all, part) = if bytes.0 > 0 { *bytes } else { *files };
            done = (all > 0).then(|| (part.min(all) * 1000 / all) as u16);
        }
        let openings = self.heard.iter().flat_map(|heard| &heard.agent);
        let openings = openings.flat_map(|agent| &agent.openings.under_way);
        for one in openings.filter(|one| one.lane == lane) {
            let (all, here) = one.bytes;
            paths.push(format!(
                "{} ({} waits: {} of {})",
                one.path,
                one.program,
                words::bytes(here),
                words::bytes(all)
            ));
        }
        let doing = match now {
            Some(now) if now.doing == Doing::Idle && agent::hears(now) => "all carried".into(),
            _ => doing,
        };
        LaneLine {
            lane: lane.to_owned(),
            doing,
            runs: done.is_some()
                || matches!(now.map(|now| &now.doing), Some(Doing::Running { .. })),
            needs: matches!(
                now.map(|now| &now.doing),
                Some(Doing::Failing { .. } | Doing::Asking { .. } | Doing::Stopped { .. })
            ),
            done,
            more,
            paths,
        }
    }

    fn last_words(&self, lane: &str) -> String {
        let last = self.heard.as_ref().and_then(|heard| {
            let of_lane = heard.last.iter().find(|(name, _)| name == lane);
            of_lane.and_then(|(_, run)| run.as_ref())
        });
        // A pass that carried nothing is no run, and tells more of now than an older one that is.
        let later = self.lane_now(lane).and_then(|now| now.last.as_ref());
        let run_ended = last.map_or(i64::MIN, |run| run.ended.unwrap_or(run.began).0);
        if let Some((at, how)) = later.filter(|(at, _)| *at > run_ended.saturating_add(A_SECOND)) {
            return format!("last {}: {}", time::time(EditTime(*at)), shown_text(how));
        }
        last.map_or_else(
            || "no pass yet".into(),
            |run| {
                let ended = run.ended.unwrap_or(run.began);
                format!("last {}: {}, {}", time::time(ended), did(run), outcome(run))
            },
        )
    }

    fn pace_words(&self, lane: &str, (all, done): (u64, u64)) -> String {
        match self.speed(lane) {
            Some(speed) if speed >= 1.0 => {
                let left = all.saturating_sub(done) as f64 / speed;
                format!(
                    "{}/s, {} left",
                    words::bytes(speed as u64),
                    words::span(left as u64)
                )
            }
            _ => String::new(),
        }
    }

    /// What needs a person: the lane, the path, the state, the reason.
    pub fn open_paths(&self) -> Vec<(&str, &RelPath, &str, &str)> {
        let all = self.heard.iter().flat_map(|heard| &heard.open);
        all.flat_map(|(lane, open)| {
            open.iter()
                .map(|(path, state, reason)| (lane.as_str(), path, state.word(), reason.as_str()))
        })
        .collect()
    }

    /// The last happenings: when, the lane, what, the path, how it ended.
    pub fn happened(&self) -> Vec<[String; 4]> {
        let all = self.heard.iter().flat_map(|heard| &heard.happened);
        all.map(|(lane, item)| {
            let size = match item.bytes {
                0 => String::new(),
                bytes => format!(", {}", words::bytes(bytes)),
            };
            [
                item.at.map_or_else(String::new, time::exact),
                lane.clone(),
                format!(
                    "{}{size}: {}",
                    words::deed(&item.deed),
                    words::item_outcome(&item.outcome)
                ),
                item.path.clone(),
            ]
        })
        .collect()
    }
}

#[cfg(test)]
pub fn lane(name: &str, doing: Doing) -> LaneNow {
    LaneNow {
        lane: name.into(),
        doing,
        when: vec!["on change".into()],
        follows: String::new(),
        last: None,
        next: None,
        paused_until: None,
    }
}

#[cfg(test)]
pub fn looked(at: Instant, lanes: Vec<LaneNow>) -> Heard {
    let path = |text: &str| RelPath::parse(text).unwrap();
    Heard {
        now: EditTime(1_795_000_000_000_000_000),
        at,
        agent: Some(Answer {
            stubs_stay_closed: None,
            openings: OpeningsNow::default(),
            process: 7,
            since: 1_795_000_000_000_000_000,
            paused: None,
            lanes,
            done: true,
            error: None,
        }),
        open: vec![(
            "scores".into(),
            vec![
                (
                    path("a.txt"),
                    Agreement::Conflict,
                    "both sides changed".into(),
                ),
                (path("b.txt"), Agreement::Stuck, "may not be read".into()),
            ],
        )],
        last: Vec::new(),
        happened: Vec::new(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_pass_of_a_lane_is_told_though_it_was_no_run() {
        let mut model = Model::new(std::iter::once("scores".to_owned()));
        let mut scores = lane("scores", Doing::Idle);
        scores.last = Some((1_795_000_000_000_000_000, "all settled".into()));
        model.hear(looked(Instant::now(), vec![scores]));
        let lines = model.lane_lines();
        assert!(
            lines[0].more.ends_with(": all settled"),
            "{}",
            lines[0].more
        );
    }

    fn running(done: u64) -> Doing {
        Doing::Running {
            seen: 5,
            files: (4, 1),
            bytes: (10_000_000, done),
            paths: vec!["a/large.wav".into()],
        }
    }

    #[test]
    fn speed_and_time_left_come_from_what_was_carried_lately() {
        let mut model = Model::new(["scores".to_owned(), "archive".to_owned()].into_iter());
        let begun = Instant::now();
        let step = |seconds: u64, done: u64| {
            let lanes = vec![lane("scores", running(done)), lane("archive", Doing::Idle)];
            looked(begun + Duration::from_secs(seconds), lanes)
        };
        for second in 0..=4 {
            model.hear(step(second, second * 1_000_000));
        }
        let lines = model.lane_lines();
        assert_eq!(lines[0].more, "1.0 MB/s, 6 s left");
        assert_eq!(lines[0].done, Some(400));
        assert_eq!(lines[0].paths, ["a/large.wav"]);
        assert_eq!(
            (&lines[1].doing[..], &lines[1].more[..]),
            ("all carried", "no pass yet")
        );
        // The next pass begins anew: its speed is not known yet.
        model.hear(step(5, 10));
        assert_eq!(model.lane_lines()[0].more, "");
    }

    #[test]
    fn the_arrows_move_in_one_list_and_a_path_is_chosen_only_there() {
        let mut model = Model::new(["scores".to_owned(), "archive".to_owned()].into_iter());
        model.other_list();
        assert_eq!(model.list, List::Lanes, "there is nothing in the other one");
        model.hear(looked(Instant::now(), vec![lane("archive", Doing::Paused)]));
        model.down();
        model.down();
        assert_eq!(model.chosen_lane().as_deref(), Some("archive"));
        assert!(model.is_paused("archive") && !model.is_paused("scores"));
        assert_eq!(model.chosen_path(), None);
        model.other_list();
        model.down();
        let (lane, path) = model.chosen_path().unwrap();
        assert_eq!((&lane[..], path.as_str()), ("scores", "b.txt"));
        model.up();
        model.up();
        assert_eq!(model.chosen_path().unwrap().1.as_str(), "a.txt");
    }
}
