//! Lives through one script, and says what was wrong afterwards.

pub mod day;

use std::cell::RefCell;
use std::collections::BTreeSet;
use std::path::Path;
use std::sync::{Arc, Mutex};

use async_trait::async_trait;
use katabatic_core::brake::BrakeLimits;
use katabatic_core::place::Place;
use katabatic_core::words::Telling;
use katabatic_core::{
    Choice, Contents, Decision, Direction, EditTime, NewFolders, PerSide, RelPath, Rule, Selection,
    Side,
};
use katabatic_engine::config::{LaneConfig, ProofBy};
use katabatic_engine::lock::LockAt;
use katabatic_engine::open::between;
use katabatic_engine::pass::{
    Ending, Pass, Plan, Progress, ReadFiles, Report, WantedContents, Wish,
};
use katabatic_engine::seam::{Hook, Seam};
use katabatic_engine::standing::{self, LaneStanding};
use katabatic_engine::{Class, Error};
use katabatic_ledger::{Ledger, intents, spare_rows};
use katabatic_sides::clock::Clock;
use katabatic_sides::stop::Stop;
use tokio::runtime::Runtime;
use tokio::sync::Notify;

use crate::mischief::{Fault, Flaw, Nature};
use crate::script::{Act, Odds, Script, apply, late_write, stranger};
use crate::shared::Shared;
use crate::side::SimulatedSide;
use crate::tally::{Tally, name};
use crate::world::{At, Node, SECOND, World};

/// A day and some more, in seconds.
const DAY: i64 = 90_000;

/// As many rounds may be needed until nothing is left to do.
const ROUNDS: usize = 12;

/// How a script ended.
#[derive(Debug)]
pub struct Lived {
    /// What it went through.
    pub tally: Tally,
    /// What was wrong; none where all promises were kept.
    pub failure: Option<String>,
    /// What happened, where that was wanted.
    pub told: Vec<String>,
}

struct SimulatedClock(Shared);

impl Clock for SimulatedClock {
    fn now(&self) -> EditTime {
        EditTime(self.0.world().now)
    }
}

/// Lets the process die between two steps, and strangers write there.
struct AtSeams(Shared);

#[async_trait]
impl Hook for AtSeams {
    async fn at(&self, _: Seam, side: Option<Side>, path: Option<&RelPath>) {
        let dies = {
            let mut world = self.0.world();
            world.mischief.steps += 1;
            let (deaths, strangers) = (world.mischief.deaths, world.mischief.strangers);
            if side != Some(Side::Near) && world.mischief.falls(true, strangers) {
                world.mischief.note(Fault::Stranger);
                stranger(&mut world, At::Cloud, path);
            }
            let dies = world.mischief.falls(true, deaths);
            if dies {
                world.mischief.note(Fault::DiesAtASeam);
            }
            dies
        };
        if dies {
            self.0.die().await;
        }
    }
}

struct Computer {
    ledger: Ledger,
    config: LaneConfig,
}

enum Ended {
    Died,
    Came(Box<Result<Report, Error>>),
}

struct Trial<'s> {
    script: &'s Script,
    shared: Shared,
    computers: Vec<Computer>,
    tally: Tally,
    /// What passes run in, until one dies.
    process: RefCell<Option<Runtime>>,
    /// What the last pass could not carry, and why.
    stuck: Vec<String>,
    /// Whether the last pass moved anything: what no listing shows comes along with a folder, and is listed afterwards.
    moved: bool,
}

/// Lives through a script; `room` is a folder that stands for the near roots, which are locked and never looked into.
///
/// # Errors
/// Where the trial itself cannot go on.
pub fn live(script: &Script, flaw: Option<Flaw>, room: &Path) -> Result<Lived, Error> {
    live_and_tell(script, flaw, room, false)
}

/// The same; everything that happens is told, where that is wanted.
///
/// # Errors
/// As [`live`].
pub fn live_and_tell(
    script: &Script,
    flaw: Option<Flaw>,
    room: &Path,
    tell: bool,
) -> Result<Lived, Error> {
    let mut trial = begin(script, flaw, room, tell)?;
    let failure = trial.run()?;
    Ok(trial.lived(failure))
}

fn begin<'s>(
    script: &'s Script,
    flaw: Option<Flaw>,
    room: &Path,
    tell: bool,
) -> Result<Trial<'s>, Error> {
    let world = World::new(script.computers, script.nature);
    let shared = Shared {
        world: Arc::new(Mutex::new(world)),
        died: Arc::new(Notify::new()),
    };
    shared.world().mischief.flaw = flaw;
    if tell {
        shared.world().begin_trace();
    }
    let computers = (0..script.computers)
        .map(|number| computer(script, number, room, flaw == Some(Flaw::TrustsTags)))
        .collect::<Result<Vec<Computer>, Error>>()?;
    Ok(Trial {
        script,
        shared,
        computers,
        tally: Tally {
            worlds: 1,
            ..Tally::default()
        },
        process: RefCell::new(None),
        stuck: Vec::new(),
        moved: false,
    })
}

fn computer(
    script: &Script,
    number: usize,
    room: &Path,
    trusts_tags: bool,
) -> Result<Computer, Error> {
    let near = room.join(format!("near {number}"));
    std::fs::create_dir_all(&near)
        .map_err(|why| Error::failed("making a near root to lock", why, ""))?;
    let far = Place::Far {
        account: "cloud".into(),
        path: RelPath::root(),
    };
    let near = Place::Local(near);
    let mut config = LaneConfig::new("lane", &format!("{number:016}"), near, far);
    config.terms = script.terms;
    let wrong = |why: &dyn std::fmt::Display| Error::failed("choosing what is left out", why, "");
    let skip = script.skip.iter().map(|folder| RelPath::parse(folder));
    let skip: Vec<RelPath> = skip.collect::<Result<_, _>>().map_err(|why| wrong(&why))?;
    let rules = script.leave_out.iter().map(|rule| Rule::parse(rule));
    config.selection = Selection {
        rules: rules.collect::<Result<_, _>>().map_err(|why| wrong(&why))?,
        choice: Choice::new(&skip, &[], NewFolders::Take),
    };
    // In a quarter of all worlds what is new comes as stubs.
    config.contents = Contents::new(script.seed % 4 == 3, []);
    if trusts_tags {
        config.proof = ProofBy::Tags;
    }
    // What the brake does is tried elsewhere; here nobody would be there to release it.
    config.brake = BrakeLimits {
        percent: 100,
        always_fine: 1_000_000,
        never_fine: 1_000_000,
    };
    Ok(Computer {
        ledger: Ledger::in_memory()?,
        config,
    })
}

impl Trial<'_> {
    fn lived(self, failure: Option<String>) -> Lived {
        let mut world = self.shared.world();
        let told = world.take_trace();
        let tally = Tally {
            steps: world.mischief.steps,
            faults: world.mischief.happened.clone(),
            ..self.tally.clone()
        };
        drop(world);
        Lived {
            tally,
            failure,
            told,
        }
    }

    fn run(&mut self) -> Result<Option<String>, Error> {
        for (number, act) in self.script.acts.iter().enumerate() {
            {
                let mut world = self.shared.world();
                world.mischief.steps += 1;
                world.what_was_late();
            }
            match act {
                Act::Edit(at, edit) => apply(&mut self.shared.world(), *at, edit),
                Act::Wait(seconds) => self.wait(*seconds),
                Act::LateWrite(computer) => late_write(&mut self.shared.world(), *computer),
                Act::Pass {
                    computer,
                    seed,
                    odds,
                } => {
                    if let Some(wrong) = self.pass(*computer, *seed, *odds)? {
                        return Ok(Some(format!("after act {number}: {wrong}")));
                    }
                }
            }
        }
        let settled = self.settle()?;
        self.shared.world().mischief.flaw = None;
        Ok(settled)
    }

    fn wait(&self, seconds: i64) {
        let mut world = self.shared.world();
        // Nothing on the way holds up a request for a day, and that is waited for where nothing else helps.
        if seconds >= DAY && world.nature == Nature::PlacesOver {
            world.all_that_is_late();
        }
        world.now += seconds * SECOND;
    }

    /// In one pass of three, the words about the near side that were not lost, among some about nothing: any half of
    /// all paths there are anywhere.
    fn heard(&self, computer: usize, seed: u64) -> Option<BTreeSet<RelPath>> {
        let mut chance = fastrand::Rng::with_seed(seed);
        if chance.u8(..3) > 0 {
            return None;
        }
        let mut world = self.shared.world();
        let here: Vec<RelPath> = world.tree(At::Disk(computer)).keys().cloned().collect();
        let there = world.tree(At::Cloud).keys().cloned();
        let mut all: BTreeSet<RelPath> = there.chain(here).filter(|path| !path.is_root()).collect();
        all.retain(|_| chance.bool());
        Some(all)
    }

    /// One pass with everything that goes wrong in it.
    fn pass(&mut self, computer: usize, seed: u64, odds: Odds) -> Result<Option<String>, Error> {
        let before = {
            let mut world = self.shared.world();
            world.mischief.begin(seed, odds);
            world.mischief.late = self.script.late;
            world.mischief.happened.clone()
        };
        let contents = match seed % 8 {
            0 => Some(WantedContents::Away),
            1 => Some(WantedContents::Here),
            _ => None,
        };
        let wish = Wish {
            heard: PerSide {
                near: self.heard(computer, seed).filter(|_| contents.is_none()),
                far: None,
            },
            contents,
            ..Wish::default()
        };
        self.shared.world().sheds = contents == Some(WantedContents::Away);
        self.tally.by_ear += u64::from(wish.heard.near.is_some());
        let ended = self.sync(computer, &wish)?;
        let (during, quiet) = {
            let world = self.shared.world();
            let during: BTreeSet<Fault> = world.mischief.since(&before).into_iter().collect();
            let quiet = !during.contains(&Fault::Stranger) && !during.contains(&Fault::CameLate);
            (during, quiet)
        };
        {
            let mut world = self.shared.world();
            world.mischief.begin(0, (0, 0, 0));
            world.mischief.late = 0;
            world.sheds = false;
        }
        if let Ended::Came(result) = &ended
            && let Ok(report) = &**result
        {
            self.tell_of(report);
            self.count(report, &during);
        }
        if let Some(wrong) = self.lost() {
            return Ok(Some(wrong));
        }
        match ended {
            // A pass that only fetches or sheds notes nothing of what it saw of the rest.
            Ended::Came(result) if quiet && result.is_ok() && contents.is_none() => {
                self.false_status(computer)
            }
            _ => Ok(None),
        }
    }

    fn tell_of(&self, report: &Report) {
        let mut world = self.shared.world();
        if world.is_traced() {
            for outcome in &report.outcomes {
                let (path, decision) = (outcome.step.path(), &outcome.step.decision);
                world.trace(format!(
                    "    {path}: {decision:?}, {:?} {}",
                    outcome.ending, outcome.reason
                ));
            }
        }
    }

    fn count(&mut self, report: &Report, during: &BTreeSet<Fault>) {
        self.moved = false;
        for outcome in &report.outcomes {
            let cell = (name(&outcome.step.near), name(&outcome.step.far));
            *self.tally.cells.entry(cell).or_default() += 1;
            self.tally
                .together
                .extend(during.iter().map(|fault| (cell, *fault)));
            if matches!(outcome.step.decision, Decision::Move { .. }) {
                self.tally.moves += 1;
                self.moved = true;
            }
            let done = outcome.ending == Ending::Done;
            match outcome.step.decision {
                Decision::MakeStub { .. } if done => self.tally.stubs += 1,
                Decision::Fetch if done => self.tally.fetched += 1,
                Decision::Shed if done => self.tally.shed += 1,
                _ => {}
            }
        }
    }

    /// What is kept somewhere and in no list counts as lost: nobody would find it.
    fn lost(&self) -> Option<String> {
        let named = match self.named() {
            Ok(named) => named,
            Err(error) => return Some(format!("the lists cannot be read: {error}")),
        };
        let mut world = self.shared.world();
        world.named = named;
        let (lost, invented) = (world.lost(), world.invented());
        match (lost.is_empty(), invented.is_empty()) {
            (true, true) => None,
            (false, _) => Some(format!("lost: {lost:?}")),
            (true, false) => Some(format!("nobody wrote this: {invented:?}")),
        }
    }

    /// What the ledgers name on every shelf: spares, and what the next pass takes up.
    fn named(&self) -> Result<BTreeSet<(At, usize, String)>, Error> {
        let mut named = BTreeSet::new();
        for (number, Computer { ledger, .. }) in self.computers.iter().enumerate() {
            let at = |side| match side {
                Side::Near => At::Disk(number),
                Side::Far => At::Cloud,
            };
            let (spares, open) = ledger.read(|connection| {
                let spares = spare_rows::all(connection, None)?;
                Ok((spares, intents::all_unfinished(connection)?))
            })?;
            named.extend(
                spares
                    .into_iter()
                    .map(|spare| (at(spare.side), number, spare.slot)),
            );
            for intent in open {
                let slots = intent.spare_before.iter().chain(&intent.spare);
                named.extend(slots.map(|slot| (at(intent.side()), number, slot.clone())));
            }
        }
        Ok(named)
    }

    async fn open(&self, computer: usize) -> Result<Pass, Error> {
        let Computer { ledger, config } = &self.computers[computer];
        let side = |at| Arc::new(SimulatedSide::new(self.shared.clone(), at, computer));
        let (near, far) = (side(At::Disk(computer)), side(At::Cloud));
        let lock_at = LockAt {
            room: None,
            near: Some(config.near_folder()?.to_owned()),
        };
        let lane = between(ledger, config, near, far, lock_at).await?;
        Ok(Pass {
            lane,
            ledger: ledger.clone(),
            clock: Arc::new(SimulatedClock(self.shared.clone())),
            hook: Arc::new(AtSeams(self.shared.clone())),
            stop: Stop::default(),
            progress: Arc::new(Progress::default()),
            read: ReadFiles::default(),
        })
    }

    /// Runs something in the process of a computer; one that died has left nothing behind.
    fn in_a_process<T>(
        &self,
        work: impl AsyncFnOnce(&Self) -> Result<T, Error>,
    ) -> Result<T, Error> {
        let known = self.process.take();
        let runtime = match known {
            Some(runtime) => runtime,
            None => tokio::runtime::Builder::new_current_thread()
                .enable_time()
                .start_paused(true)
                .build()
                .map_err(|why| Error::failed("starting a runtime", why, ""))?,
        };
        let result = runtime.block_on(work(self));
        if self.shared.world().mischief.dead {
            runtime.shutdown_background();
        } else {
            self.process.replace(Some(runtime));
        }
        result
    }

    fn sync(&mut self, computer: usize, wish: &Wish) -> Result<Ended, Error> {
        self.tally.passes += 1;
        if self.shared.world().is_traced() {
            self.shared
                .world()
                .trace(format!("computer {computer} begins a pass"));
        }
        // A death that nobody waited for any more is not one of the next process.
        self.shared.died = Arc::new(Notify::new());
        let ended = self.in_a_process(async |trial| {
            let pass = trial.open(computer).await?;
            Ok(tokio::select! {
                biased;
                () = trial.shared.died.notified() => Ended::Died,
                came = pass.sync(wish) => Ended::Came(Box::new(came)),
            })
        })?;
        self.computers[computer].ledger.lose_what_waits();
        if let Ended::Died = ended {
            self.tally.died += 1;
            self.shared.world().cut_power();
        }
        Ok(ended)
    }

    fn plan(&self, computer: usize) -> Result<Plan, Error> {
        self.in_a_process(async |trial| trial.open(computer).await?.plan(&Wish::default()).await)
    }

    fn standing(&self, computer: usize) -> Result<LaneStanding, Error> {
        self.in_a_process(async |trial| {
            let pass = trial.open(computer).await?;
            standing::look(&pass, &RelPath::root(), &|_| String::new()).await
        })
    }

    /// Nothing goes wrong any more: after a few rounds nothing may be left to do, and all promises must be kept.
    fn settle(&mut self) -> Result<Option<String>, Error> {
        if let Some(wrong) = self.settle_down()?.or_else(|| self.lost()) {
            return Ok(Some(wrong));
        }
        // Whatever was asked for long ago and is done only now; a day later, it is waited for no more.
        self.shared.world().all_that_is_late();
        self.wait(DAY);
        let mut settled = self.settle_down()?.or(self.is_settled()?);
        if settled.is_none() && self.left_over().is_some() {
            // What came of a large file waits for the rest, and not for ever.
            self.wait(8 * DAY);
            settled = self.settle_down()?;
        }
        Ok(settled.or_else(|| self.left_over()))
    }

    fn settle_down(&mut self) -> Result<Option<String>, Error> {
        let (mut left, mut nothing_was_left) = (Vec::new(), false);
        for _ in 0..ROUNDS {
            for computer in 0..self.computers.len() {
                self.shared.world().now += 10 * SECOND;
                if let Some(wrong) = self.quiet_pass(computer)? {
                    return Ok(Some(wrong));
                }
            }
            left = self.left_to_do()?;
            // Twice, so that every computer has seen what the others did last.
            if left.is_empty() && nothing_was_left {
                return Ok(None);
            }
            nothing_was_left = left.is_empty();
        }
        let stuck = &self.stuck;
        Ok(Some(format!(
            "it does not settle: {left:?}; the last pass said: {stuck:?}"
        )))
    }

    fn left_to_do(&self) -> Result<Vec<String>, Error> {
        let mut left = Vec::new();
        for computer in 0..self.computers.len() {
            let plan = self.plan(computer)?;
            let changes = plan.steps.iter().filter(|step| {
                // A name that is taken there by what no listing shows stays stuck, and is told of as such.
                step.decision.effects().changes.is_some() && !self.may_be_hidden(step.path())
            });
            left.extend(changes.map(|step| format!("{}: {:?}", step.path(), step.decision)));
        }
        Ok(left)
    }

    /// Whether no listing shows what is at a path, or something in it.
    fn may_be_hidden(&self, path: &RelPath) -> bool {
        let is_hidden = |path: &RelPath| path.parts().any(|part| part.starts_with('.'));
        let holds_hidden = || {
            let world = self.shared.world();
            let cloud = world.trees.get(&At::Cloud);
            cloud.is_some_and(|tree| {
                tree.keys()
                    .any(|below| below.is_within(path) && is_hidden(below))
            })
        };
        self.script.nature == Nature::HidesDots && (is_hidden(path) || holds_hidden())
    }

    fn quiet_pass(&mut self, computer: usize) -> Result<Option<String>, Error> {
        let mut wish = Wish::default();
        for _ in 0..2 {
            let Ended::Came(result) = self.sync(computer, &wish)? else {
                return Ok(Some("it died where nothing goes wrong".into()));
            };
            match *result {
                Ok(report) => {
                    self.tell_of(&report);
                    self.count(&report, &BTreeSet::new());
                    let stuck = report
                        .outcomes
                        .iter()
                        .filter(|one| one.ending == Ending::Stuck);
                    self.stuck = stuck
                        .map(|one| {
                            format!(
                                "{}: {}",
                                one.step.path(),
                                one.why(&Telling {
                                    time: &|_| String::new(),
                                    sides: report.sides
                                })
                            )
                        })
                        .collect();
                    return Ok(self.lost());
                }
                Err(error) if error.class == Class::Brake => {
                    let planned = self.plan(computer)?.brake.planned.total();
                    wish.release_brake = Some(planned);
                }
                Err(error) => return Ok(Some(format!("a quiet pass failed: {error:?}"))),
            }
        }
        Ok(Some("the brake could not be released".into()))
    }

    fn is_settled(&self) -> Result<Option<String>, Error> {
        if let Some(wrong) = self.lost() {
            return Ok(Some(wrong));
        }
        let two_way = self.script.terms.direction == Direction::TwoWay;
        {
            let world = self.shared.world();
            let put_away = world.put_away();
            if two_way && !put_away.is_empty() {
                return Ok(Some(format!(
                    "in the spares alone, though nobody removed it: {put_away:?}"
                )));
            }
        }
        for computer in 0..self.computers.len() {
            if two_way && let Some(wrong) = self.false_status(computer)? {
                return Ok(Some(wrong));
            }
        }
        Ok(None)
    }

    /// Nothing is left in any staging, once nothing comes late any more.
    fn left_over(&self) -> Option<String> {
        let world = self.shared.world();
        let staged: Vec<&String> = world
            .shelves
            .values()
            .flat_map(|shelves| shelves.staging.keys())
            .collect();
        (!staged.is_empty()).then(|| format!("left in the staging: {staged:?}"))
    }

    /// Whatever status does not name must be the same on both sides.
    fn false_status(&self, computer: usize) -> Result<Option<String>, Error> {
        if self.script.terms.direction != Direction::TwoWay {
            return Ok(None);
        }
        let late = |trial: &Trial<'_>| {
            let world = trial.shared.world();
            world.mischief.happened.get(&Fault::CameLate).copied()
        };
        let before = late(self);
        let standing = self.standing(computer)?;
        // What was done while it looked, it may not have seen.
        if late(self) != before {
            return Ok(None);
        }
        let named: BTreeSet<&RelPath> = standing
            .standings
            .iter()
            .flat_map(|standing| {
                let older = match &standing.step.decision {
                    Decision::Move { from, .. } => Some(from),
                    _ => None,
                };
                older.into_iter().chain([standing.step.path()])
            })
            .chain(&standing.kept_away)
            .collect();
        let tree = |at| self.shared.world().trees.get(&at).cloned();
        let (Some(near), Some(far)) = (tree(At::Disk(computer)), tree(At::Cloud)) else {
            return Ok(None);
        };
        let paths: BTreeSet<&RelPath> = near.keys().chain(far.keys()).collect();
        for path in paths {
            let same = match (near.get(path), far.get(path)) {
                (Some(Node::File(near)), Some(Node::File(far))) => match &near.stub {
                    // What it was made of had just gone from its path, and is there again.
                    Some((size, means)) if means.is_empty() => *size == far.content.len() as u64,
                    _ => near.means() == far.means(),
                },
                (near, far) => near == far,
            };
            let is_named = std::iter::successors(Some(path.clone()), RelPath::parent)
                .any(|above| named.contains(&above));
            // What is in no listing there, nobody here can know of.
            let came_along = self.moved && self.script.nature == Nature::HidesDots;
            let is_hidden = !near.contains_key(path) && (self.may_be_hidden(path) || came_along);
            let is_disguised = self.shared.world().is_disguised(far.get(path));
            let may_differ = is_hidden || is_disguised || self.script.may_leave_out(path);
            if !same && !is_named && !may_differ {
                return Ok(Some(format!(
                    "status calls {path} settled on computer {computer}, and it is not the same there: {:?}, {:?}",
                    near.get(path),
                    far.get(path)
                )));
            }
        }
        Ok(None)
    }
}
