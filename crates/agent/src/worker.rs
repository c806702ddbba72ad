//! One lane by itself: it hears of changes, keeps its times, runs passes, and tries again after failures.

use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use jiff::Zoned;
use jiff::tz::TimeZone;
use katabatic_core::condition::{self, Surroundings};
use katabatic_core::schedule::{self, When};
use katabatic_core::telling::{Kind, Message};
use katabatic_core::{EditTime, Side, words};
use tokio::sync::{Semaphore, mpsc, watch};

use super::ear::Ear;
use super::follow::{Follower, follow};
use super::line::Line;
use super::pace::Pace;
use super::quiet::Quiet;
use super::state::{Board, Doing, RunningPass};
use super::{Word, news, telling};
use katabatic_engine::config::{Config, LaneConfig};
use katabatic_engine::drives;
use katabatic_engine::failed_pass;
use katabatic_engine::forget_runs;
use katabatic_engine::open::{OpenLane, open_lane};
use katabatic_engine::pass::{Ending, Outcome, Pass, Progress, ReadFiles, Report, Wish};
use katabatic_engine::room;
use katabatic_engine::seam::NoHook;
use katabatic_engine::{Class, Error, Home};
use katabatic_ledger::{Ledger, pauses, runs};
use katabatic_sides::clock::{Clock, SystemClock};
use katabatic_sides::stop::Stop;

/// Where nothing tells of changes, a folder is looked at so often.
const LOOKED_AT_EVERY: Duration = Duration::from_secs(300);

/// An account that gives no change tokens is listed so often.
const LISTED_EVERY: Duration = Duration::from_secs(900);

/// A pass that somebody ended goes on by itself after so long.
const GOES_ON_AFTER: Duration = Duration::from_secs(15 * 60);

/// Another pass runs there, by hand or by another home: it is asked again after so long.
const BUSY: Duration = Duration::from_secs(2);

/// While a side is not there, so often it is looked whether it is back.
const BACK_YET: Duration = Duration::from_secs(5);

/// While somebody has to make the first pass, so often it is looked whether they have.
const FIRST_DONE_YET: Duration = Duration::from_secs(5);

/// A moment on the wall is looked at anew at least so often: clocks are set, and computers sleep.
const WALL: Duration = Duration::from_secs(60);

/// A line that is gone for a moment is nobody's business: it is told from so many failures on.
const TOLD_FROM: u32 = 3;

const HOUR: i64 = 3_600_000_000_000;

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
    /// What is around the computer.
    pub(super) around: watch::Receiver<Surroundings>,
    /// Where what happened is told.
    pub(super) tell: mpsc::UnboundedSender<telling::Word>,
}

pub(super) struct Worker {
    house: House,
    config: Config,
    lane: LaneConfig,
    inbox: mpsc::UnboundedReceiver<Word>,
    tell: mpsc::UnboundedSender<Word>,
    followers: Vec<Follower>,
    /// What changed since the last pass, on the sides whose every change is told.
    ear: Ear,
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
    /// What the last pass left for a person.
    open: Option<String>,
    /// The line to the side that is not there.
    line: Option<Line>,
    /// Since when nobody has touched the computer, of the last time that this made it run.
    idle_ran: Option<i64>,
    /// The mounts that the folders of both sides lay on when it was looked last; none where one was not there.
    plugged: Option<Vec<u64>>,
    /// When all of it was settled last, and whether somebody was told that this is long ago.
    settled: EditTime,
    told_unsettled: bool,
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
            ear: Ear::deaf(now),
            now: false,
            look: None,
            last: wall(SystemClock.now()),
            listed: now,
            failures: 0,
            trouble: None,
            retry: None,
            open: None,
            line: None,
            idle_ran: None,
            plugged: None,
            settled: SystemClock.now(),
            told_unsettled: false,
            over: false,
            house,
            config,
            lane,
            inbox,
            tell,
        }
    }

    /// Whether somebody ended the last pass, which is no reason not to carry what is new.
    fn was_stopped(&self) -> bool {
        matches!(self.trouble, Some(Doing::Stopped { .. }))
    }

    fn on_change(&self) -> bool {
        self.lane.when.contains(&When::OnChange)
    }

    pub(super) async fn run(mut self) {
        self.follow_again();
        self.remember_last().await;
        let at_start = |when: &When| matches!(when, When::OnChange | When::AtStart);
        self.now = self.lane.when.iter().any(at_start);
        self.plugged = self.mounted();
        let mut around = self.house.around.clone();
        while !self.over && !*self.house.ending.borrow() {
            let paused = self.paused();
            let unfit = self.unfit();
            let next = match (paused, &unfit) {
                (Some(until), _) => until.map(until_then),
                (None, Some(_)) => None,
                (None, None) => self.next(),
            };
            self.show(paused, unfit.as_ref());
            self.tell_if_long_unsettled();
            let next = self.unsettled_due().into_iter().chain(next).min();
            let mut ending = self.house.ending.clone();
            tokio::select! {
                biased;
                _ = ending.changed() => break,
                word = self.inbox.recv() => match word {
                    Some(word) => self.hear(word).await,
                    None => break,
                },
                changed = around.changed() => if changed.is_err() {
                    break;
                },
                () = sleep_until(next) => {
                    if paused.is_none() && unfit.is_none() {
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
            let (name, key) = (self.lane.name.clone(), opened.row.key);
            let settled = self
                .house
                .ledger
                .read(|connection| runs::last_settled(connection, key, &name));
            self.settled = settled.ok().flatten().unwrap_or(seen_at);
        }
    }

    /// What it waits for around the computer.
    fn unfit(&self) -> Option<String> {
        condition::waits_for(&self.lane.only_on, &self.house.around.borrow())
    }

    /// When nobody will have touched the computer for as long as the lane waits for; none where somebody does, or where
    /// it ran since.
    fn idle_due(&self) -> Option<EditTime> {
        let spans = self.lane.when.iter().filter_map(|when| match when {
            When::Idle(span) => Some(*span),
            _ => None,
        });
        let span = spans.min()?;
        let since = self.house.around.borrow().idle_since??;
        let due = since
            .checked_mul(1_000)?
            .checked_add(i64::try_from(span.as_nanos()).ok()?)?;
        (self.idle_ran != Some(since)).then_some(EditTime(due))
    }

    /// The mounts that the folders of this computer that it ties lie on; none where one is not there.
    fn mounted(&self) -> Option<Vec<u64>> {
        let sides = [Side::Near, Side::Far];
        let here = sides
            .iter()
            .filter_map(|side| self.lane.place(*side).local());
        here.map(drives::mount_number).collect()
    }

    /// When somebody is to be told that it has not settled for long.
    fn unsettled_due(&self) -> Option<Instant> {
        let hours = self
            .lane
            .tell_unsettled_hours
            .filter(|_| !self.told_unsettled)?;
        let nanos = i64::try_from(hours).ok()?.checked_mul(HOUR)?;
        Some(until_then(EditTime(self.settled.0.saturating_add(nanos))))
    }

    fn tell_if_long_unsettled(&mut self) {
        let Some(hours) = self.lane.tell_unsettled_hours else {
            return;
        };
        let waited = SystemClock.now().0.saturating_sub(self.settled.0) / HOUR;
        if !self.told_unsettled && u64::try_from(waited).is_ok_and(|waited| waited >= hours) {
            self.told_unsettled = true;
            let name = &self.lane.name;
            self.tell(
                Kind::Problem,
                format!("Lane {name} has not settled for {hours} h"),
                format!("See why: katabatic status {name}"),
            );
        }
    }

    fn tell(&self, kind: Kind, title: String, text: String) {
        let lane = self.lane.name.clone();
        // Nobody tells any more: the agent ends.
        let _ = self.house.tell.send(telling::Word::Happened(Message {
            kind,
            lane,
            title,
            text,
        }));
    }

    fn follow_again(&mut self) {
        self.followers.clear();
        self.ear = Ear::deaf(Instant::now());
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
        let at = self.lane.side_names().at(side);
        let Some(root) = self.lane.place(side).local() else {
            let every = LISTED_EVERY.as_secs() / 60;
            return format!(
                "{at}: the account is asked what changed, or listed every {every} minutes where it cannot tell"
            );
        };
        match follow(side, root, self.tell.clone()) {
            Ok(follower) => {
                self.followers.push(follower);
                self.ear.follow(side);
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
            let heard = self.quiet.due().filter(|_| self.was_stopped());
            return [Some(retry), back, heard].into_iter().flatten().min();
        }
        let polls = self.on_change() && self.lane.account(Side::Far).is_some();
        let by_the_wall = self.next_by_the_wall();
        [
            self.quiet.due(),
            self.look,
            self.ear.walk_due(),
            polls.then(|| self.pace.due()),
            self.idle_due().map(until_then),
            by_the_wall.map(|at| until_then(EditTime(nanos(&at)))),
        ]
        .into_iter()
        .flatten()
        .min()
    }

    fn show(&self, paused: Option<pauses::Until>, unfit: Option<&String>) {
        let doing = match (paused, &self.trouble) {
            (Some(_), _) => Doing::Paused,
            (None, _) if unfit.is_some() => Doing::Unfit {
                waits_for: unfit.cloned().unwrap_or_default(),
            },
            (None, Some(trouble)) => trouble.clone(),
            (None, None) if self.now || self.quiet.due().is_some() => Doing::Waiting,
            (None, None) => match &self.open {
                Some(open) => Doing::Asking {
                    why: format!("{open}: katabatic status {}", self.lane.name),
                },
                None => Doing::Idle,
            },
        };
        self.house.board.set(&self.lane.name, |now| {
            now.doing = doing;
            now.paused_until = paused.flatten().map(|until| until.0);
        });
        self.show_next();
    }

    fn show_next(&self) {
        let fails = matches!(
            self.trouble,
            Some(Doing::Failing { .. } | Doing::Stopped { .. })
        );
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
                    self.ear.lose();
                    self.quiet.hear(Instant::now());
                }
                Word::Look => {}
                Word::GoOn => self.now |= self.was_stopped(),
                Word::Mounts => self.hear_of_drives(),
                Word::Plugged => self.now |= self.lane.when.contains(&When::PluggedIn),
                Word::AtEnd(done) => {
                    if self.paused().is_none() && self.unfit().is_none() {
                        self.pass(true).await;
                    }
                    drop(done);
                }
                Word::Limits(config) => self.take_limits(*config),
                Word::End => self.over = true,
            }
            next = self.inbox.try_recv().ok();
        }
        for (side, paths) in [(Side::Near, near), (Side::Far, far)] {
            let waits = self.quiet.due().is_some();
            if !paths.is_empty() && (waits || self.is_news(side, &paths).await) {
                let places = paths.iter().map(|path| (side, path.clone()));
                self.quiet.hear_of(Instant::now(), places);
                if let Some(root) = self.lane.place(side).local() {
                    self.ear.hear(side, root, &paths);
                }
            }
        }
    }

    fn hear_of_drives(&mut self) {
        let now = self.mounted();
        let before = std::mem::replace(&mut self.plugged, now);
        if self.plugged.is_some() && self.plugged != before {
            self.now |= self.lane.when.contains(&When::PluggedIn);
            // To the system it is another one.
            self.follow_again();
        }
    }

    /// Only limits differ, and what runs keeps to the new ones already.
    fn take_limits(&mut self, config: Config) {
        if let Ok(lane) = config.lane(&self.lane.name) {
            self.lane = lane.clone();
        }
        self.config = config;
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
            let heard = self.was_stopped() && due(self.quiet.due());
            if self.now || retry <= now || back || heard {
                self.pass(false).await;
            }
            return;
        }
        let missed = self
            .next_by_the_wall()
            .is_some_and(|at| nanos(&at) <= SystemClock.now().0);
        let idle = self.idle_due().is_some_and(|at| at <= SystemClock.now());
        if idle {
            self.idle_ran = self.house.around.borrow().idle_since.flatten();
        }
        if self.now || due(self.look) || due(self.ear.walk_due()) || missed || idle {
            self.pass(false).await;
        } else if due(self.quiet.due()) {
            self.pass(true).await;
        } else if self.on_change() && self.pace.due() <= now {
            self.ask_there().await;
        }
    }

    /// Asks the account whether anything changed since the last pass.
    async fn ask_there(&mut self) {
        let now = Instant::now();
        let Ok(opened) = self.open(&Stop::default()).await else {
            return self.pass(false).await;
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
            true => self.pass(true).await,
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

    /// One pass; `by_ear` where what was heard may tell where to look.
    async fn pass(&mut self, by_ear: bool) {
        self.now = false;
        if self.is_first().await {
            let name = self.lane.name.clone();
            self.trouble = Some(Doing::Asking {
                why: format!(
                    "its first pass is for somebody to look at: katabatic plan {name}, then katabatic sync {name}"
                ),
            });
            self.retry = Some(Instant::now() + FIRST_DONE_YET);
            self.tell(
                Kind::Problem,
                format!("Lane {name} waits for somebody to run its first pass"),
                format!("katabatic plan {name}, then katabatic sync {name}"),
            );
            return;
        }
        let turns = Arc::clone(&self.house.turns);
        let Ok(_turn) = turns.acquire().await else {
            return;
        };
        let written = self.quiet.begin(Instant::now());
        let (stop, progress) = (Stop::default(), Arc::new(Progress::default()));
        let looked_on = Arc::clone(&progress);
        let running = RunningPass {
            stop: stop.clone(),
            progress: Arc::clone(&progress),
        };
        self.house.board.begin(&self.lane.name, running);
        // Whoever ended the agent just now had not seen this pass.
        if *self.house.ending.borrow() {
            stop.ask();
        }
        let mut wish = Wish {
            heard: self.ear.begin(by_ear, Instant::now()),
            ..Wish::default()
        };
        for (side, path) in written {
            if let Some(root) = self.lane.place(side).local() {
                self.ear.set_aside(&mut wish.heard, side, root, &path);
            }
        }
        let result = {
            let mut around = self.house.around.clone();
            let carrying = self.carry(&stop, progress, &wish);
            tokio::pin!(carrying);
            loop {
                tokio::select! {
                    result = &mut carrying => break result,
                    Ok(()) = around.changed() => {
                        // On its battery, say, the rest waits.
                        if self.unfit().is_some() {
                            stop.ask();
                        }
                    }
                }
            }
        };
        if !matches!(&result, Ok(report) if report.counts.stuck == 0 && !report.stopped) {
            self.ear.lose();
        }
        if let Ok(report) = &result {
            self.come_back_to(report);
        }
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
        let moment = looked_on.moment();
        let left = (
            moment.files.saturating_sub(moment.files_done),
            moment.bytes.saturating_sub(moment.bytes_done),
        );
        self.learn(result, left).await;
    }

    /// What was being written is looked at again once it is quiet, whether or not anything more is heard of it.
    fn come_back_to(&mut self, report: &Report) {
        let Some(root) = self.lane.near.local() else {
            return;
        };
        let written = |outcome: &&Outcome| outcome.ending == Ending::BeingWritten;
        let paths: Vec<PathBuf> = report
            .outcomes
            .iter()
            .filter(written)
            .map(|outcome| root.join(outcome.step.path().as_str()))
            .collect();
        self.ear.hear(Side::Near, root, &paths);
        let places = paths.into_iter().map(|path| (Side::Near, path));
        self.quiet.hear_of(Instant::now(), places);
    }

    async fn carry(
        &self,
        stop: &Stop,
        progress: Arc<Progress>,
        wish: &Wish,
    ) -> Result<Report, Error> {
        let began = SystemClock.now();
        let result = self.open_and_carry(stop, progress, wish).await;
        if let Err(error) = &result {
            let times = (began, SystemClock.now());
            failed_pass::remember(&self.house.ledger, &self.lane, times, error);
        }
        result
    }

    async fn open_and_carry(
        &self,
        stop: &Stop,
        progress: Arc<Progress>,
        wish: &Wish,
    ) -> Result<Report, Error> {
        let pass = Pass {
            lane: self.open(stop).await?,
            ledger: self.house.ledger.clone(),
            clock: Arc::new(SystemClock),
            hook: Arc::new(NoHook),
            stop: stop.clone(),
            progress,
            read: ReadFiles::default(),
        };
        let report = pass.sync(wish).await?;
        // What has to go for the lane's budget goes once all that is new is carried.
        if !report.stopped
            && let Err(why) = room::keep(&pass).await
        {
            tracing::warn!(
                "lane {} is not kept within its budget: {}",
                self.lane.name,
                why.why
            );
        }
        Ok(report)
    }

    /// What a pass ended with, `left` being the steps and the bytes that it had not carried.
    async fn learn(&mut self, result: Result<Report, Error>, left: (u64, u64)) {
        let now = Instant::now();
        let stopped = match &result {
            Ok(report) => report.stopped,
            Err(error) => error.class == Class::Stopped,
        };
        // What a pause has set down goes on when the pause ends; and so with what must hold around the computer.
        if let Ok(report) = &result {
            self.open = report.needs_a_person().then(|| words_of(report));
        }
        let goes_on = self.paused().is_some() || self.unfit().is_some();
        self.now |= stopped && goes_on;
        self.tell_of(&result);
        if stopped && !goes_on {
            let (files, bytes) = left;
            self.trouble = Some(Doing::Stopped { files, bytes });
            self.retry = Some(now + GOES_ON_AFTER);
            return;
        }
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
            Err(error) if error.class == Class::Busy => self.retry = Some(now + BUSY),
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

    /// Tells people how a pass ended, as far as they want to hear it.
    fn tell_of(&mut self, result: &Result<Report, Error>) {
        let name = self.lane.name.clone();
        match result {
            Ok(report) if report.stopped => {}
            Ok(report) => {
                let counts = &report.counts;
                let carried = counts.files_up + counts.files_down + counts.removed + counts.moved;
                if carried > 0 {
                    let title = format!(
                        "Lane {name}: {} up, {} down, {} removed, {} moved",
                        counts.files_up, counts.files_down, counts.removed, counts.moved
                    );
                    let text = report.run.map_or_else(String::new, |run| {
                        format!("Each file: katabatic runs {run}")
                    });
                    self.tell(Kind::Changes, title, text);
                }
                if report.closed_stubs > 0 {
                    let title = format!(
                        "Lane {name}: {} that somebody had given rights read as zeros",
                        words::count(report.closed_stubs, "stub", "stubs")
                    );
                    let text =
                        "The rights were taken again. To have the content: katabatic fetch PATH";
                    self.tell(Kind::Problem, title, text.into());
                }
                if report.being_written > 0 && !report.needs_a_person() {
                    // Neither a problem nor all settled.
                } else if report.needs_a_person() {
                    let title = format!("Lane {name}: {}", words_of(report));
                    let text = format!("See what, and what to do: katabatic status {name}");
                    self.tell(Kind::Problem, title, text);
                } else {
                    self.settled = SystemClock.now();
                    self.told_unsettled = false;
                    let title = format!("Lane {name}: all settled");
                    self.tell(Kind::Success, title, String::new());
                }
            }
            // It is tried again in a moment, and is no news until it has failed for a while.
            Err(error) if matches!(error.class, Class::Busy | Class::Stopped) => {}
            Err(error) if error.class == Class::NotThere && self.failures < TOLD_FROM => {}
            Err(error) => {
                let title = format!("Lane {name}: {}: {}", error.what, error.why);
                self.tell(Kind::Problem, title, error.next.clone());
            }
        }
    }

    fn fail(&mut self, now: Instant, why: String, line: Option<Line>) {
        self.failures = self.failures.saturating_add(1);
        let pause = schedule::pause_after(self.failures).unsigned_abs();
        // A pause that the server asked for is kept, and then it is no longer waited for.
        let asked = [Side::Near, Side::Far]
            .into_iter()
            .filter_map(|side| self.lane.account(side))
            .filter_map(|account| self.house.home.stays_away_from(account))
            .max();
        self.retry = Some(now + asked.unwrap_or(pause));
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
        (counts.kept_back, "kept back"),
        (counts.stuck, "stuck"),
        (counts.asking, "waiting for a yes"),
        (report.being_written, "being written"),
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
