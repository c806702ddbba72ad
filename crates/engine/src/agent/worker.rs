//! One lane by itself: it hears of changes, keeps its times, runs passes, and tries again after failures.

use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use jiff::Zoned;
use jiff::tz::TimeZone;
use katabatic_core::schedule::{self, When};
use katabatic_core::{EditTime, Side};
use tokio::sync::{Semaphore, mpsc, watch};

use super::follow::{Follower, follow};
use super::line::Line;
use super::pace::Pace;
use super::quiet::Quiet;
use super::state::{Board, Doing, RunningPass};
use super::{Word, news};
use crate::clock::{Clock, SystemClock};
use crate::config::{Config, LaneConfig};
use crate::forget_runs;
use crate::ledger::{Ledger, pauses};
use crate::lock;
use crate::open::{OpenLane, open_lane};
use crate::pass::{Pass, Progress, ReadFiles, Report, Wish};
use crate::seam::NoHook;
use crate::stop::Stop;
use crate::{Class, Error, Home};

/// Where nothing tells of changes, a folder is looked at so often.
const LOOKED_AT_EVERY: Duration = Duration::from_secs(300);

/// An account that gives no change tokens is listed so often.
const LISTED_EVERY: Duration = Duration::from_secs(900);

/// Another pass runs there, by hand or by another home: it is asked again after so long.
const BUSY: Duration = Duration::from_secs(2);

/// While a side is not there, so often it is looked whether it is back.
const BACK_YET: Duration = Duration::from_secs(5);

/// While somebody has to make the first pass, so often it is looked whether they have.
const FIRST_DONE_YET: Duration = Duration::from_secs(5);

/// A moment on the wall is looked at anew at least so often: clocks are set, and computers sleep.
const WALL: Duration = Duration::from_secs(60);

/// What all workers share.
#[derive(Clone)]
pub(super) struct House {
    pub(super) home: Home,
    pub(super) ledger: Ledger,
    pub(super) board: Board,
    /// So many passes run at a time.
    pub(super) turns: Arc<Semaphore>,
    /// Becomes true when the agent ends.
    pub(super) ending: watch::Receiver<bool>,
}

pub(super) struct Worker {
    house: House,
    config: Config,
    lane: LaneConfig,
    inbox: mpsc::UnboundedReceiver<Word>,
    tell: mpsc::UnboundedSender<Word>,
    followers: Vec<Follower>,
    quiet: Quiet,
    pace: Pace,
    /// A pass is to run as soon as it may.
    now: bool,
    /// Where nothing tells of changes: when to look next.
    look: Option<Instant>,
    /// The last pass, or the beginning, by the clock on the wall.
    last: Zoned,
    listed: Instant,
    failures: u32,
    /// What is wrong, while it is tried again or somebody is waited for.
    trouble: Option<Doing>,
    retry: Option<Instant>,
    /// The line to the side that is not there.
    line: Option<Line>,
    over: bool,
}

fn wall(at: EditTime) -> Zoned {
    jiff::Timestamp::from_nanosecond(i128::from(at.0))
        .unwrap_or(jiff::Timestamp::UNIX_EPOCH)
        .to_zoned(TimeZone::system())
}

fn nanos(at: &Zoned) -> i64 {
    i64::try_from(at.timestamp().as_nanosecond()).unwrap_or(i64::MAX)
}

impl Worker {
    pub(super) fn new(
        house: House,
        config: Config,
        lane: LaneConfig,
        inbox: mpsc::UnboundedReceiver<Word>,
        tell: mpsc::UnboundedSender<Word>,
    ) -> Worker {
        let now = Instant::now();
        Worker {
            quiet: Quiet::new(lane.quiet),
            pace: Pace::new(now),
            followers: Vec::new(),
            now: false,
            look: None,
            last: wall(SystemClock.now()),
            listed: now,
            failures: 0,
            trouble: None,
            retry: None,
            line: None,
            over: false,
            house,
            config,
            lane,
            inbox,
            tell,
        }
    }

    fn on_change(&self) -> bool {
        self.lane.when.contains(&When::OnChange)
    }

    pub(super) async fn run(mut self) {
        self.follow_again();
        self.remember_last().await;
        let at_start = |when: &When| matches!(when, When::OnChange | When::AtStart);
        self.now = self.lane.when.iter().any(at_start);
        while !self.over && !*self.house.ending.borrow() {
            let paused = self.paused();
            let next = match paused {
                Some(until) => until.map(until_then),
                None => self.next(),
            };
            self.show(paused);
            let mut ending = self.house.ending.clone();
            tokio::select! {
                biased;
                _ = ending.changed() => break,
                word = self.inbox.recv() => match word {
                    Some(word) => self.hear(word).await,
                    None => break,
                },
                () = sleep_until(next) => {
                    if paused.is_none() {
                        self.do_what_is_due().await;
                    }
                }
            }
        }
        self.house.board.remove(&self.lane.name);
    }

    /// When the last pass was, also by hand or before the agent began: times that were missed since are caught up.
    async fn remember_last(&mut self) {
        if let Ok(opened) = self.open(&Stop::default()).await
            && let Some(seen_at) = opened.row.seen_at
        {
            self.last = wall(seen_at);
        }
    }

    fn follow_again(&mut self) {
        self.followers.clear();
        self.look = None;
        let mut said = Vec::new();
        if self.on_change() {
            for side in [Side::Near, Side::Far] {
                said.push(self.follow_side(side));
            }
        }
        let said = said.join("; ");
        self.house
            .board
            .set(&self.lane.name, |now| now.follows = said);
    }

    fn follow_side(&mut self, side: Side) -> String {
        let at = side.here_or_there();
        let Some(root) = self.lane.place(side).local() else {
            let every = LISTED_EVERY.as_secs() / 60;
            return format!(
                "{at}: the account is asked what changed, or listed every {every} minutes where it cannot tell"
            );
        };
        match follow(side, root, self.tell.clone()) {
            Ok(follower) => {
                self.followers.push(follower);
                format!("{at}: the system tells of every change")
            }
            Err(why) => {
                self.look = Some(Instant::now() + LOOKED_AT_EVERY);
                let every = LOOKED_AT_EVERY.as_secs() / 60;
                format!("{at}: looked at every {every} minutes, since {why}")
            }
        }
    }

    /// Until when the lane is paused; the outer one is none where it is not.
    fn paused(&self) -> Option<pauses::Until> {
        let all = self.house.ledger.read(pauses::all).unwrap_or_default();
        let now = SystemClock.now();
        ["", &self.lane.name]
            .iter()
            .filter_map(|name| all.get(*name).copied())
            .find(|until| until.is_none_or(|until| until > now))
    }

    fn next_by_the_wall(&self) -> Option<Zoned> {
        schedule::next(&self.lane.when, &self.last)
    }

    /// When something is to be done next.
    fn next(&self) -> Option<Instant> {
        if self.now {
            return Some(Instant::now());
        }
        if let Some(retry) = self.retry {
            let back = self.line.as_ref().map(|_| Instant::now() + BACK_YET);
            return Some(back.map_or(retry, |back| back.min(retry)));
        }
        let polls = self.on_change() && self.lane.account(Side::Far).is_some();
        let by_the_wall = self.next_by_the_wall();
        [
            self.quiet.due(),
            self.look,
            polls.then(|| self.pace.due()),
            by_the_wall.map(|at| until_then(EditTime(nanos(&at)))),
        ]
        .into_iter()
        .flatten()
        .min()
    }

    fn show(&self, paused: Option<pauses::Until>) {
        let doing = match (paused, &self.trouble) {
            (Some(_), _) => Doing::Paused,
            (None, Some(trouble)) => trouble.clone(),
            (None, None) if self.now || self.quiet.due().is_some() => Doing::Waiting,
            (None, None) => Doing::Idle,
        };
        self.house.board.set(&self.lane.name, |now| {
            now.doing = doing;
            now.paused_until = paused.flatten().map(|until| until.0);
        });
        self.show_next();
    }

    fn show_next(&self) {
        let fails = matches!(self.trouble, Some(Doing::Failing { .. }));
        let retry = self.retry.filter(|_| fails).map(|at| {
            let left = at.saturating_duration_since(Instant::now());
            SystemClock.now().0 + i64::try_from(left.as_nanos()).unwrap_or(i64::MAX)
        });
        let next = retry.or_else(|| self.next_by_the_wall().map(|at| nanos(&at)));
        self.house.board.set(&self.lane.name, |now| now.next = next);
    }

    async fn hear(&mut self, word: Word) {
        let (mut near, mut far) = (Vec::new(), Vec::new());
        let mut next = Some(word);
        // A burst is looked at as one.
        while let Some(word) = next {
            match word {
                Word::Changed(Side::Near, more) => near.extend(more),
                Word::Changed(Side::Far, more) => far.extend(more),
                Word::Lost(why) => {
                    tracing::debug!("lane {}: {why}", self.lane.name);
                    self.quiet.hear(Instant::now());
                }
                Word::Look => {}
                Word::End => self.over = true,
            }
            next = self.inbox.try_recv().ok();
        }
        for (side, paths) in [(Side::Near, near), (Side::Far, far)] {
            let waits = self.quiet.due().is_some();
            if !paths.is_empty() && (waits || self.is_news(side, &paths).await) {
                self.quiet.hear(Instant::now());
            }
        }
    }

    async fn is_news(&self, side: Side, paths: &[PathBuf]) -> bool {
        // Opened for this look alone: a folder that is kept open keeps its drive from being taken away.
        match self.open(&Stop::default()).await {
            Ok(known) => {
                let asked = news::any(&self.house.ledger, &known, side, paths).await;
                asked.unwrap_or(true)
            }
            Err(_) => true,
        }
    }

    async fn open(&self, stop: &Stop) -> Result<OpenLane, Error> {
        open_lane(
            &self.house.home,
            &self.config,
            &self.house.ledger,
            &self.lane,
            stop,
        )
        .await
    }

    async fn do_what_is_due(&mut self) {
        let now = Instant::now();
        let due = |at: Option<Instant>| at.is_some_and(|at| at <= now);
        if let Some(retry) = self.retry {
            let back = match &mut self.line {
                Some(line) => line.is_back().await,
                None => false,
            };
            if self.now || retry <= now || back {
                self.pass().await;
            }
            return;
        }
        let missed = self
            .next_by_the_wall()
            .is_some_and(|at| nanos(&at) <= SystemClock.now().0);
        if self.now || due(self.quiet.due()) || due(self.look) || missed {
            self.pass().await;
        } else if self.on_change() && self.pace.due() <= now {
            self.ask_there().await;
        }
    }

    /// Asks the account whether anything changed since the last pass.
    async fn ask_there(&mut self) {
        let now = Instant::now();
        let Ok(opened) = self.open(&Stop::default()).await else {
            return self.pass().await;
        };
        let told = match &opened.row.token {
            Some(token) => opened.far.changes_since(token).await,
            None => Ok(None),
        };
        let changed = match told {
            Ok(Some(changes)) => !(changes.changed.is_empty() && changes.folders.is_empty()),
            Ok(None) => now.saturating_duration_since(self.listed) >= LISTED_EVERY,
            // What went wrong is for a pass to find out, and to tell.
            Err(_) => true,
        };
        match changed {
            true => self.pass().await,
            false => self.pace.nothing(now),
        }
    }

    /// A pass that nobody has looked at before: what it would do is for a person to see first.
    async fn is_first(&self) -> bool {
        match self.open(&Stop::default()).await {
            Ok(opened) => opened.row.seen_at.is_none(),
            // What is not there is for the pass to tell.
            Err(_) => false,
        }
    }

    async fn pass(&mut self) {
        self.now = false;
        if self.is_first().await {
            let name = &self.lane.name;
            self.trouble = Some(Doing::Asking {
                why: format!(
                    "its first pass is for somebody to look at: katabatic plan {name}, then katabatic sync {name}"
                ),
            });
            self.retry = Some(Instant::now() + FIRST_DONE_YET);
            return;
        }
        let turns = Arc::clone(&self.house.turns);
        let Ok(_turn) = turns.acquire().await else {
            return;
        };
        self.quiet.begin();
        let (stop, progress) = (Stop::default(), Arc::new(Progress::default()));
        let running = RunningPass {
            stop: stop.clone(),
            progress: Arc::clone(&progress),
        };
        self.house.board.begin(&self.lane.name, running);
        // Whoever ended the agent just now had not seen this pass.
        if *self.house.ending.borrow() {
            stop.ask();
        }
        let result = self.carry(&stop, progress).await;
        let how = match &result {
            Ok(report) => words_of(report),
            Err(error) => error.why.clone(),
        };
        self.house
            .board
            .end(&self.lane.name, SystemClock.now(), how);
        self.last = wall(SystemClock.now());
        self.listed = Instant::now();
        if self.look.is_some() {
            self.look = Some(Instant::now() + LOOKED_AT_EVERY);
        }
        self.learn(result).await;
    }

    async fn carry(&self, stop: &Stop, progress: Arc<Progress>) -> Result<Report, Error> {
        let pass = Pass {
            lane: self.open(stop).await?,
            ledger: self.house.ledger.clone(),
            clock: Arc::new(SystemClock),
            hook: Arc::new(NoHook),
            stop: stop.clone(),
            progress,
            read: ReadFiles::default(),
        };
        pass.sync(&Wish::default()).await
    }

    async fn learn(&mut self, result: Result<Report, Error>) {
        let now = Instant::now();
        let stopped = match &result {
            Ok(report) => report.stopped,
            Err(error) => error.class == Class::Stopped,
        };
        // What a pause has set down goes on when the pause ends.
        self.now |= stopped && self.paused().is_some();
        match result {
            Ok(report) if report.counts.stuck == 0 => {
                let was_away = self.line.take().is_some();
                (self.failures, self.retry, self.trouble) = (0, None, None);
                let days = self.config.keep_runs_days;
                let kept =
                    forget_runs::forget_by_itself(&self.house.ledger, SystemClock.now(), days);
                if let Err(why) = kept.await {
                    tracing::debug!("old runs are not forgotten: {}", why.why);
                }
                match report.run {
                    Some(_) => self.pace.lively(now),
                    None => self.pace.nothing(now),
                }
                // A drive that was away and came back is another one to the system.
                if was_away {
                    self.follow_again();
                }
            }
            Ok(report) => {
                let stuck = report.counts.stuck;
                self.fail(now, format!("{stuck} stuck"), None);
            }
            Err(error) if lock::is_busy(&error) => self.retry = Some(now + BUSY),
            Err(error) if error.class == Class::Stopped => self.pace.nothing(now),
            Err(error) => {
                let line = match error.class {
                    Class::NotThere => Line::of(&self.house.home, &self.config, &self.lane).await,
                    _ => None,
                };
                self.fail(now, format!("{}: {}", error.what, error.why), line);
            }
        }
    }

    fn fail(&mut self, now: Instant, why: String, line: Option<Line>) {
        self.failures = self.failures.saturating_add(1);
        let pause = schedule::pause_after(self.failures).unsigned_abs();
        self.retry = Some(now + pause);
        self.line = line;
        let times = self.failures;
        self.trouble = Some(Doing::Failing { why, times });
    }
}

/// What a pass came to, in a few words.
fn words_of(report: &Report) -> String {
    let counts = &report.counts;
    if report.stopped {
        return "stopped".into();
    }
    let open: Vec<String> = [
        (counts.conflicts, "in conflict"),
        (counts.stuck, "stuck"),
        (counts.asking, "waiting for a yes"),
    ]
    .into_iter()
    .filter(|(count, _)| *count > 0)
    .map(|(count, what)| format!("{count} {what}"))
    .collect();
    match open.is_empty() {
        true => "all settled".into(),
        false => open.join(", "),
    }
}

/// A moment of the clock on the wall, as far as it may be waited for without looking at that clock again.
fn until_then(at: EditTime) -> Instant {
    let left = u64::try_from(at.0.saturating_sub(SystemClock.now().0)).unwrap_or(0);
    Instant::now() + Duration::from_nanos(left).min(WALL)
}

async fn sleep_until(at: Option<Instant>) {
    match at {
        Some(at) => tokio::time::sleep_until(at.into()).await,
        None => std::future::pending().await,
    }
}
