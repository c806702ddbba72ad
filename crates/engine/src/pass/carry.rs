//! The third room: what the plan says is done, with several transfers in flight.
//!
//! The order keeps every step possible and every crash harmless: moves first, each with the folders that it needs; what makes way goes first, then folders are made
//! from the top down, then files are carried, then removals, and folders last, the deepest first. A file that fails
//! stops nobody but itself, unless what failed is the side as a whole.

use std::collections::{BTreeMap, HashSet};
use std::sync::{Mutex, MutexGuard, PoisonError};

use futures_util::{StreamExt, stream};
use katabatic_core::moves::with_what_they_need;
use katabatic_core::words::Telling;
use katabatic_core::{
    Agreement, Base, Decision, Digest, DroppedFor, Entry, ItemEnding, ItemOutcome, Kind, LeftOutBy,
    PerSide, RelPath, Side, SpareCause, Stamp, Step, Unknown, View, portable, words,
};

use super::Plan;
use super::beside;
use super::contents;
use super::convoy;
use super::give_up::{self, Copy, Freed};
use super::moved_out;
use super::moves;
use super::plan::takes;
use super::primitive::{self, Change, Learned, Trouble, agreed};
use super::transfer::{self, Brought};
use crate::Error;
use crate::config::LaneConfig;
use crate::local_time::in_words;
use crate::proof;
use crate::seam::Seam;
use crate::session::LockedLane;
use katabatic_ledger::intents::Version;
use katabatic_ledger::rows;
use katabatic_ledger::runs::{self, Counts, RunItem};
use katabatic_sides::digest::digest;
use katabatic_sides::effort::ATTEMPTS;
use katabatic_sides::effort::IN_FLIGHT;
use katabatic_sides::{FolderGone, Put, SideError};

/// How a step ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Ending {
    /// Done.
    Done,
    /// Not begun, or set down: the next pass takes it up.
    Waiting,
    /// It is being written: the next pass takes it up once it is quiet.
    BeingWritten,
    /// Both sides changed.
    Conflict,
    /// It could not be carried.
    Stuck,
    /// The receiving side changed by itself, and is left so.
    Drift,
    /// The same, and a version of the source is not there because of it.
    KeptBack,
    /// It waits for a yes.
    Asking,
    /// It is not carried at all.
    LeftOut,
}

/// What became of one step.
#[derive(Clone, Debug)]
pub struct Outcome {
    /// The step.
    pub step: Step,
    /// How it ended.
    pub ending: Ending,
    /// What was found out by trying; empty where the step's own reason says it all.
    pub reason: String,
}

/// What the whole room did.
#[derive(Debug, Default)]
pub(crate) struct Carried {
    pub(crate) outcomes: Vec<Outcome>,
    pub(crate) counts: Counts,
    /// Paths that the far side's listing was seen to show.
    pub(crate) listed: Vec<RelPath>,
    /// What became of the copies that were dropped here.
    pub(crate) freed: Freed,
    /// What ended the pass before its time.
    pub(crate) ended: Option<Error>,
}

/// The steps of a plan, in the order of carrying.
#[derive(Default)]
struct Stages<'s> {
    making_way: Vec<&'s Step>,
    folders: BTreeMap<usize, Vec<&'s Step>>,
    files: Vec<&'s Step>,
    new_stubs: Vec<&'s Step>,
    removals: Vec<&'s Step>,
    folder_removals: Vec<&'s Step>,
    rest: Vec<&'s Step>,
}

impl<'s> Stages<'s> {
    fn of(steps: impl Iterator<Item = &'s Step>) -> Stages<'s> {
        let mut stages = Stages::default();
        for step in steps {
            match step.decision {
                Decision::Remove {
                    makes_way: true, ..
                } => stages.making_way.push(step),
                Decision::MakeFolder { .. } => stages
                    .folders
                    .entry(step.path().depth())
                    .or_default()
                    .push(step),
                Decision::MakeStub { replaces: false } => stages.new_stubs.push(step),
                Decision::Carry { .. }
                | Decision::CarryBeside { .. }
                | Decision::MakeStub { .. }
                | Decision::Fetch
                | Decision::Shed
                | Decision::Compare => stages.files.push(step),
                Decision::Remove { on, .. } if step.view(on).is_folder() => {
                    stages.folder_removals.push(step)
                }
                Decision::Remove { .. } | Decision::DropHere { .. } => stages.removals.push(step),
                _ => stages.rest.push(step),
            }
        }
        stages
    }
}

pub(crate) async fn carry(pass: &LockedLane, plan: &Plan, run: Option<i64>) -> Carried {
    let room = Room {
        pass,
        run,
        lead: plan.lead,
        told: contents::told(pass, &plan.steps).await,
        to_give_up: Mutex::default(),
        carried: Mutex::default(),
        not_moved: Mutex::default(),
    };
    let bytes = plan
        .steps
        .iter()
        .map(Step::bytes)
        .fold(0, u64::saturating_add);
    let work = plan.steps.iter().filter(|step| step.takes_time()).count() as u64;
    pass.progress.begin_carrying(work, bytes);

    let first = with_what_they_need(&plan.steps);
    moves::carry(&room, &first).await;
    room.hold_what_waits_for_a_move();
    let stages = {
        let done: HashSet<*const Step> =
            first.iter().map(|step| std::ptr::from_ref(*step)).collect();
        let rest = plan.steps.iter();
        Stages::of(rest.filter(|step| !done.contains(&std::ptr::from_ref(*step))))
    };
    let transfers = pass.lane.config.transfers;
    room.steps(stages.making_way, 1).await;
    for (_, folders) in stages.folders {
        room.steps(folders, transfers).await;
    }
    convoy::stubs(&room, &stages.new_stubs).await;
    let (small, rest): (Vec<_>, Vec<_>) = stages
        .files
        .into_iter()
        .partition(|step| convoy::may_join(step));
    if transfers < IN_FLIGHT {
        convoy::carry(&room, &small).await;
        room.steps(rest, transfers).await;
    } else {
        // Side by side: a large file does not keep the small ones waiting.
        futures_util::join!(convoy::carry(&room, &small), room.steps(rest, transfers));
    }
    room.steps(stages.removals, transfers).await;
    room.free_what_was_dropped().await;
    // One after another: a folder is empty only once the folders in it are gone.
    room.steps(stages.folder_removals, 1).await;
    room.steps(stages.rest, transfers).await;
    room.list_what_arrived().await;
    room.carried
        .into_inner()
        .unwrap_or_else(PoisonError::into_inner)
}

pub(super) struct Room<'p> {
    pub(super) pass: &'p LockedLane,
    pub(super) run: Option<i64>,
    /// The side whose version counts where two differ that nothing was agreed on.
    lead: Option<Side>,
    /// The digests that the far side told of what is to be shed.
    pub(super) told: proof::Told,
    /// Copies that are proven to be there, and go with the next lot.
    to_give_up: Mutex<Vec<Copy>>,
    carried: Mutex<Carried>,
    /// New names of what could not be moved: what was decided about them, and in them, counts only after the move.
    not_moved: Mutex<Vec<RelPath>>,
}

/// What was moved by a step that is done.
#[derive(Default)]
pub(super) struct Moved {
    bytes: u64,
    /// Set where comparing two versions showed that they differ.
    conflict: bool,
    /// Something a person should read, though it is done.
    remark: Option<String>,
}

impl Moved {
    pub(super) fn bytes(bytes: u64) -> Result<Moved, Trouble> {
        Ok(Moved {
            bytes,
            ..Moved::default()
        })
    }
}

impl Room<'_> {
    async fn steps(&self, steps: Vec<&Step>, at_a_time: usize) {
        stream::iter(steps)
            .for_each_concurrent(at_a_time, |step| self.step(step))
            .await;
    }

    /// Whether a difference between the two sides is drift, and no conflict.
    fn is_drift(&self, step: &Step) -> bool {
        self.pass.lane.config.terms.direction.source().is_some() && step.seen.base.is_some()
    }

    /// A removal there will be believed only of names that were listed there once. So the folders that got something
    /// new are listed once more: what the server shows now, it can later show to be gone.
    async fn list_what_arrived(&self) {
        let arrived = self.arrived_unseen();
        let far = self.pass.store(Side::Far);
        let listed: Vec<Vec<RelPath>> = stream::iter(arrived)
            .map(async |(folder, paths)| match far.names(&folder).await {
                Ok(names) => {
                    let names: HashSet<String> = names.into_iter().collect();
                    paths
                        .into_iter()
                        .filter(|path| names.contains(path.name()))
                        .collect()
                }
                // Not listed is not known to be listed: the next pass looks at each by itself.
                Err(why) => {
                    tracing::debug!("{folder} could not be listed after carrying: {why}");
                    Vec::new()
                }
            })
            .buffer_unordered(IN_FLIGHT)
            .collect()
            .await;
        self.carried().listed.extend(listed.into_iter().flatten());
    }

    /// What got to the far side and was not seen in a listing there yet, by folder.
    fn arrived_unseen(&self) -> BTreeMap<RelPath, Vec<RelPath>> {
        let mut arrived: BTreeMap<RelPath, Vec<RelPath>> = BTreeMap::new();
        let carried = self.carried();
        let listed: HashSet<&RelPath> = carried.listed.iter().collect();
        for outcome in &carried.outcomes {
            let new = match outcome.step.decision {
                Decision::Carry { to: Side::Far, .. }
                | Decision::CarryBeside { to: Side::Far }
                | Decision::MakeFolder { on: Side::Far }
                | Decision::Move { on: Side::Far, .. } => true,
                _ => outcome
                    .step
                    .seen
                    .base
                    .as_ref()
                    .is_some_and(|base| !base.listed.far),
            };
            let path = outcome.step.path();
            if new && outcome.ending == Ending::Done && !listed.contains(path) {
                arrived
                    .entry(path.parent().unwrap_or_else(RelPath::root))
                    .or_default()
                    .push(path.clone());
            }
        }
        arrived
    }

    /// A copy is to go; with enough others it goes at once.
    pub(super) async fn give_up(&self, copy: Copy) -> Result<(), Trouble> {
        let lot = {
            let mut waiting = self.waiting_copies();
            waiting.push(copy);
            match waiting.len() < give_up::LOT {
                true => Vec::new(),
                false => std::mem::take(&mut *waiting),
            }
        };
        Ok(self.give_up_lot(lot).await?)
    }

    fn waiting_copies(&self) -> MutexGuard<'_, Vec<Copy>> {
        self.to_give_up
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
    }

    async fn give_up_lot(&self, lot: Vec<Copy>) -> Result<(), Error> {
        if lot.is_empty() {
            return Ok(());
        }
        let freed = give_up::copies(self.pass, lot).await?;
        self.carried().freed.add(freed);
        Ok(())
    }

    /// The last copies of what was dropped go, and the stubs that were taken out.
    async fn free_what_was_dropped(&self) {
        let lot = std::mem::take(&mut *self.waiting_copies());
        let stubs = self
            .carried()
            .outcomes
            .iter()
            .any(contents::leaves_a_stub_behind);
        let freed = match self.give_up_lot(lot).await {
            Ok(()) if stubs => give_up::stubs(self.pass).await,
            freed => freed,
        };
        if let Err(error) = freed {
            self.carried().ended.get_or_insert(error);
        }
    }

    fn carried(&self) -> MutexGuard<'_, Carried> {
        self.carried.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) async fn step(&self, step: &Step) {
        if self.may_not_begin(step) {
            return;
        }
        self.pass.progress.begins(step.path());
        let result = self.deed(step).await;
        if result.is_ok() {
            contents::after(self.pass, step).await;
        }
        self.pass.progress.ends(step.path());
        self.settle(step, result);
    }

    /// Whether nothing more is to be begun.
    pub(super) fn is_over(&self) -> bool {
        self.pass.stop.asked() || self.carried().ended.is_some()
    }

    /// Whether a step is not to be begun; then it is left waiting.
    pub(super) fn may_not_begin(&self, step: &Step) -> bool {
        let waits = {
            let not_moved = self.not_moved.lock();
            let not_moved = not_moved.unwrap_or_else(PoisonError::into_inner);
            not_moved.iter().any(|to| step.path().is_within(to))
        };
        if waits {
            let why = "it waits until what it lies in is moved".to_owned();
            self.finish(step, Ending::Waiting, why, 0);
        } else if self.is_over() {
            self.left_waiting(step);
        }
        waits || self.is_over()
    }

    fn hold_what_waits_for_a_move(&self) {
        let carried = self.carried();
        let failed = carried.outcomes.iter().filter(|outcome| {
            matches!(outcome.step.decision, Decision::Move { .. }) && outcome.ending != Ending::Done
        });
        let mut not_moved = self
            .not_moved
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        not_moved.extend(failed.map(|outcome| outcome.step.path().clone()));
    }

    /// A step that is not begun any more.
    pub(super) fn left_waiting(&self, step: &Step) {
        self.finish(step, Ending::Waiting, String::new(), 0);
    }

    /// A path that the far side was seen to list.
    pub(super) fn was_listed(&self, path: &RelPath) {
        self.carried().listed.push(path.clone());
    }

    /// A step that has come to its end.
    pub(super) fn settle(&self, step: &Step, result: Result<Moved, Trouble>) {
        // What was set down is still to be carried; where a request had left already, its intent stays open.
        let set_down = matches!(&result, Err(trouble) if trouble.is_a_stop());
        if step.takes_time() && !set_down {
            self.pass.progress.carried_file();
        }
        let (ending, reason, bytes) = match result {
            // On a one-way lane, the receiving side's version of what was agreed on is drift.
            Ok(Moved {
                conflict: true,
                bytes,
                ..
            }) if self.is_drift(step) => (
                Ending::KeptBack,
                "both sides changed it, to different contents; neither is carried until that is settled"
                    .to_owned(),
                bytes,
            ),
            Ok(Moved {
                conflict: true,
                bytes,
                ..
            }) => (
                Ending::Conflict,
                "both sides changed, to different contents; neither is touched".to_owned(),
                bytes,
            ),
            Ok(moved) => (
                standing(step),
                moved.remark.unwrap_or_default(),
                moved.bytes,
            ),
            Err(trouble) if trouble.is_a_stop() => (
                Ending::Waiting,
                "set down when it was stopped".to_owned(),
                0,
            ),
            Err(Trouble::Side(_, SideError::BeingWritten)) => (
                Ending::BeingWritten,
                SideError::BeingWritten.to_string(),
                0,
            ),
            Err(Trouble::Side(_, SideError::Coming)) => {
                (Ending::Waiting, SideError::Coming.to_string(), 0)
            }
            Err(trouble) => {
                let reason = match full_account(&self.pass.lane.config, &trouble) {
                    Some(reason) => reason,
                    None => with_a_word_on_its_name(step, &trouble),
                };
                self.end_with(trouble);
                (Ending::Stuck, reason, 0)
            }
        };
        self.finish(step, ending, reason, bytes);
    }

    /// Some failures leave nothing to go on with.
    fn end_with(&self, trouble: Trouble) {
        let error = match trouble {
            Trouble::Side(side, error) | Trouble::Unsure(side, error) if error.ends_the_pass() => {
                self.pass.side_failed(side, &error)
            }
            Trouble::Ledger(error) => error,
            _ => return,
        };
        self.carried().ended.get_or_insert(error);
    }

    fn finish(&self, step: &Step, ending: Ending, reason: String, bytes: u64) {
        // That both sides still differ is noted with what was found, where it is news.
        let compared = step.decision == Decision::Compare && ending != Ending::Conflict;
        let noted = step.decision.effects().changes.is_some() || compared;
        if let (Some(run), true, Some(deed)) = (self.run, noted, step.deed()) {
            let ending = match &ending {
                Ending::Done => ItemEnding::Done,
                Ending::Waiting | Ending::BeingWritten => ItemEnding::Waiting,
                Ending::Conflict => ItemEnding::Conflict,
                Ending::Stuck => ItemEnding::Stuck,
                Ending::Drift => ItemEnding::Drift,
                Ending::KeptBack => ItemEnding::KeptBack,
                Ending::Asking => ItemEnding::Asked,
                Ending::LeftOut => ItemEnding::LeftOut,
            };
            let item = RunItem {
                path: step.path().to_string(),
                deed,
                reason: words::reason(
                    step,
                    &Telling {
                        time: &in_words,
                        sides: self.pass.lane.config.side_names(),
                    },
                ),
                bytes,
                outcome: ItemOutcome::with(ending, &*reason),
                at: Some(self.pass.clock.now()),
            };
            self.pass
                .ledger
                .write_later(move |connection| runs::add_item(connection, run, &item));
        }
        let mut carried = self.carried();
        carried.count(step, &ending, bytes);
        carried.outcomes.push(Outcome {
            step: step.clone(),
            ending,
            reason,
        });
    }

    async fn deed(&self, step: &Step) -> Result<Moved, Trouble> {
        match &step.decision {
            Decision::Carry { to, .. } => self.carry_file(step, *to).await,
            Decision::Fetch => self.carry_file(step, Side::Near).await,
            Decision::MakeStub { .. } => contents::renew(self, step).await,
            Decision::Shed => contents::shed(self, step).await,
            Decision::MakeFolder { on } => self.make_folder(step, *on).await,
            Decision::Remove { on, makes_way } => self.remove(step, *on, *makes_way).await,
            Decision::DropHere { moved_to } => moved_out::drop_copy(self, step, moved_to).await,
            Decision::Compare => self.compare(step).await,
            Decision::Record => self.record(step).await,
            Decision::Forget => {
                let (lane, path) = (self.pass.lane.row.key, step.path().clone());
                self.pass
                    .ledger
                    .write_later(move |connection| rows::forget(connection, lane, &path));
                Moved::bytes(0)
            }
            Decision::CarryBeside { to } => {
                Moved::bytes(beside::carry(self.pass, step, *to, self.run).await?)
            }
            Decision::KeepFolder { on } | Decision::KeepRemoved { on } => {
                self.keep_on_one_side(step, *on)
            }
            Decision::Ruled(_) if step.seen.base.is_some() => {
                let (lane, path) = (self.pass.lane.row.key, step.path().clone());
                self.pass
                    .ledger
                    .write_later(move |connection| rows::forget(connection, lane, &path));
                Moved::bytes(0)
            }
            _ => Moved::bytes(0),
        }
    }

    async fn carry_file(&self, step: &Step, to: Side) -> Result<Moved, Trouble> {
        let (pass, path, from) = (self.pass, step.path(), to.other());
        let Some(seen) = step.entry(from) else {
            return Err(Trouble::Met("there is nothing to carry".into()));
        };
        let (Brought { staged, learned }, bytes) = self.bring(step, seen, to).await?;
        pass.seam(Seam::Staged, Some(to), Some(path)).await;
        if seen
            .content
            .is_some_and(|content| Some(content) != staged.digest)
        {
            let _ = pass.store(to).unstage(&staged.slot).await;
            transfer::forget_steps(pass, path, seen, to);
            return Err(transfer::changed_under_us(from));
        }
        let change = Change {
            side: to,
            path,
            old: step
                .entry(to)
                .filter(|entry| entry.kind == Kind::File)
                .map(|entry| Version::of(entry, agreed_content(step, to, entry))),
            source: Some((Version::of(seen, staged.digest), from == Side::Far)),
            run: self.run,
            cause: match step.entry(to).is_some_and(Entry::is_stub) {
                true => SpareCause::Dropped(DroppedFor::Content),
                false => SpareCause::ReplacedFrom(from),
            },
            learned,
        };
        let put = primitive::put(pass, change, staged).await;
        transfer::forget_steps(pass, path, seen, to);
        put?;
        Moved::bytes(bytes)
    }

    /// Stages the version of the other side on `to`; the bytes that this took come along.
    async fn bring(&self, step: &Step, seen: &Entry, to: Side) -> Result<(Brought, u64), Trouble> {
        let (pass, path) = (self.pass, step.path());
        if let (Side::Far, Some(old), Some(base)) = (to, step.entry(to), &step.seen.base)
            && old.kind == Kind::File
            && let Some(patched) = transfer::patched(pass, path, seen, old, base).await?
        {
            return Ok(patched);
        }
        let brought = transfer::bring(pass, path, to.other(), seen, to).await?;
        Ok((brought, seen.size))
    }

    async fn make_folder(&self, step: &Step, on: Side) -> Result<Moved, Trouble> {
        let path = step.path();
        match self.pass.store(on).make_folder(path).await {
            Ok(Put::Done) => {}
            Ok(Put::Taken) => {
                return Err(Trouble::Met(
                    "something else came to be there meanwhile".into(),
                ));
            }
            // One that is made late is a folder with nothing in it, which any pass can deal with.
            Err(undone) => return Err(Trouble::Side(on, undone.told())),
        }
        self.pass.seam(Seam::MadeFolder, Some(on), Some(path)).await;
        self.agree_on_folder(
            step,
            on == Side::Near || step.seen.base.as_ref().is_some_and(|base| base.listed.far),
        );
        Moved::bytes(0)
    }

    fn agree_on_folder(&self, step: &Step, far_listed: bool) {
        let base = Base {
            kind: Kind::Folder,
            size: 0,
            content: None,
            stamps: PerSide {
                near: Stamp::new(""),
                far: Stamp::new(""),
            },
            listed: PerSide {
                near: true,
                far: far_listed,
            },
            away: None,
        };
        let (lane, agreed) = (
            self.pass.lane.row.key,
            agreed(self.pass, step.path(), base, None, (None, None)),
        );
        self.pass
            .ledger
            .write_later(move |connection| rows::agree(connection, lane, &agreed));
    }

    async fn remove(&self, step: &Step, on: Side, makes_way: bool) -> Result<Moved, Trouble> {
        let (pass, path) = (self.pass, step.path());
        self.still_away(step, on.other()).await?;
        let Some(seen) = step.entry(on) else {
            return Err(Trouble::Met("it is gone already".into()));
        };
        if seen.kind == Kind::Folder {
            return self.remove_folder(step, on).await;
        }
        let content = agreed_content(step, on, seen);
        let change = Change {
            side: on,
            path,
            old: Some(Version::of(seen, content)),
            source: None,
            run: self.run,
            cause: match (seen.is_stub(), makes_way) {
                (true, _) => SpareCause::Dropped(DroppedFor::Removal),
                (false, true) => SpareCause::MadeWayFor(on.other()),
                (false, false) => SpareCause::RemovedFrom(on.other()),
            },
            learned: Learned::default(),
        };
        primitive::remove(pass, change).await?;
        Moved::bytes(0)
    }

    /// A removal is believed only if a direct look right before acting finds what the plan found.
    async fn still_away(&self, step: &Step, side: Side) -> Result<(), Trouble> {
        let there = self
            .pass
            .store(side)
            .look(step.path())
            .await
            .map_err(|error| Trouble::Side(side, error))?;
        let as_planned = match (step.view(side), &there) {
            (View::Absent, None) => contents::is_gone(self.pass, step).await?,
            (View::Present(seen), Some(there)) => seen.kind == there.kind,
            _ => false,
        };
        if as_planned {
            return Ok(());
        }
        Err(Trouble::Met(format!(
            "it is {} again; the next pass looks at it",
            self.pass.lane.config.side_names().at(side)
        )))
    }

    async fn remove_folder(&self, step: &Step, on: Side) -> Result<Moved, Trouble> {
        let (pass, path) = (self.pass, step.path());
        match primitive::remove_folder(pass, on, path).await? {
            FolderGone::Gone | FolderGone::InSpare => Moved::bytes(0),
            FolderGone::Kept(names) => {
                let names = names.join(", ");
                if self.members_are_open(path) {
                    // What is in it waits itself; the next pass decides about the folder once that is carried.
                    return Err(Trouble::Met(format!("it is not empty yet: {names}")));
                }
                self.keep_on_one_side(step, on)?;
                Ok(Moved {
                    remark: Some(format!(
                        "the folder stays, because of what is in it: {names}"
                    )),
                    ..Moved::default()
                })
            }
        }
    }

    /// Whether a step below this folder did not come to its end.
    fn members_are_open(&self, folder: &RelPath) -> bool {
        let inside = |step: &Step| match &step.decision {
            // What could not be moved out of it is in it still.
            Decision::Move { from, .. } => from.is_within(folder) || step.path().is_within(folder),
            _ => step.path().is_within(folder),
        };
        let open = |outcome: &Outcome| {
            matches!(
                outcome.ending,
                Ending::Stuck | Ending::Waiting | Ending::BeingWritten
            ) && inside(&outcome.step)
        };
        self.carried().outcomes.iter().any(open)
    }

    /// The removal on the other side is remembered, and this side keeps its own.
    fn keep_on_one_side(&self, step: &Step, on: Side) -> Result<Moved, Trouble> {
        let Some(base) = step.seen.base.clone() else {
            return Moved::bytes(0);
        };
        let base = Base {
            away: Some(on.other()),
            ..base
        };
        let (lane, agreed) = (
            self.pass.lane.row.key,
            agreed(self.pass, step.path(), base, None, (None, None)),
        );
        self.pass
            .ledger
            .write_later(move |connection| rows::agree(connection, lane, &agreed));
        Moved::bytes(0)
    }

    /// Reads both versions. Equal content is recorded, and nothing is carried.
    async fn compare(&self, step: &Step) -> Result<Moved, Trouble> {
        let path = step.path();
        let content = async |side: Side| {
            let Some(seen) = step.entry(side) else {
                return Err(Trouble::Met("it went away meanwhile".into()));
            };
            let mut attempt = 1;
            loop {
                let store = self.pass.store(side);
                self.pass
                    .seam(Seam::BeforeRead, Some(side), Some(path))
                    .await;
                match digest(&*store, path, seen).await {
                    Ok(content) => return Ok(content),
                    Err(SideError::TryAgain(_)) if attempt < ATTEMPTS => attempt += 1,
                    Err(SideError::Changed(why)) => return Err(Trouble::Met(why)),
                    Err(error) => return Err(Trouble::Side(side, error)),
                }
            }
        };
        let near = content(Side::Near).await?;
        let far = content(Side::Far).await?;
        let bytes = step.bytes();
        self.pass.progress.carried_bytes(bytes);
        if near != far {
            if let Some(leader) = self.lead {
                return self.carry_file(step, leader.other()).await;
            }
            return Ok(Moved {
                bytes,
                conflict: true,
                remark: None,
            });
        }
        self.agree_on_file(step, Some(near));
        Moved::bytes(bytes)
    }

    async fn record(&self, step: &Step) -> Result<Moved, Trouble> {
        if step.seen.views.near.is_folder() {
            self.agree_on_folder(step, true);
            return Moved::bytes(0);
        }
        let base = step.seen.base.as_ref().and_then(|base| base.content);
        let content = [Side::Near, Side::Far]
            .into_iter()
            .find_map(|side| step.entry(side)?.content)
            .or(base);
        self.agree_on_file(step, content);
        Moved::bytes(0)
    }

    fn agree_on_file(&self, step: &Step, content: Option<katabatic_core::Digest>) {
        let (Some(near), Some(far)) = (step.entry(Side::Near), step.entry(Side::Far)) else {
            return;
        };
        let base = Base {
            kind: Kind::File,
            size: near.size,
            content,
            stamps: PerSide {
                near: near.stamp.clone(),
                far: far.stamp.clone(),
            },
            listed: PerSide {
                near: true,
                far: step.seen.base.as_ref().is_none_or(|base| base.listed.far),
            },
            away: None,
        };
        let (lane, agreed) = (
            self.pass.lane.row.key,
            agreed(
                self.pass,
                step.path(),
                base,
                near.edited.or(far.edited),
                (Some(near), Some(far)),
            ),
        );
        self.pass
            .ledger
            .write_later(move |connection| rows::agree(connection, lane, &agreed));
    }
}

/// Why a step failed, where an account has no room left.
fn full_account(lane: &LaneConfig, trouble: &Trouble) -> Option<String> {
    let (Trouble::Side(side, SideError::Full(why)) | Trouble::Unsure(side, SideError::Full(why))) =
        trouble
    else {
        return None;
    };
    let account = lane.account(*side)?;
    Some(format!(
        "{why}. What takes the room there, and what would free some: katabatic room @{account}"
    ))
}

/// Why a step failed; a side that refuses a name mostly says something else.
fn with_a_word_on_its_name(step: &Step, trouble: &Trouble) -> String {
    let name = step.path().name();
    let may_be_refused = matches!(
        (trouble, &step.decision),
        (
            Trouble::Side(_, SideError::Missing | SideError::Failed(_)),
            Decision::Carry { .. } | Decision::MakeFolder { .. } | Decision::Move { .. }
        )
    );
    match portable::trouble(name).filter(|_| may_be_refused) {
        Some(why) => format!(
            "this side may not hold the name ({why}): it would go as {:?} (katabatic names); what it said: {trouble}",
            portable::suggestion(name)
        ),
        None => trouble.to_string(),
    }
}

/// How a step stands that was done as decided.
fn standing(step: &Step) -> Ending {
    match step.decision {
        Decision::Conflict => Ending::Conflict,
        Decision::Hold {
            why: Unknown::BeingWritten,
            ..
        } => Ending::BeingWritten,
        Decision::Hold {
            why: Unknown::Coming,
            ..
        } => Ending::Waiting,
        Decision::Hold { .. } | Decision::BelowConflict => Ending::Stuck,
        Decision::Ruled(LeftOutBy::StandsHere(_)) => Ending::Stuck,
        Decision::Drift {
            keeps_back: false, ..
        } => Ending::Drift,
        Decision::Drift {
            keeps_back: true, ..
        } => Ending::KeptBack,
        Decision::AskRemoval { .. } => Ending::Asking,
        Decision::LeftOut { .. }
        | Decision::Ruled(_)
        | Decision::NotCarried { .. }
        | Decision::OldStays { .. } => Ending::LeftOut,
        _ => Ending::Done,
    }
}

fn is_file_anywhere(step: &Step) -> bool {
    [Side::Near, Side::Far].into_iter().any(|side| {
        step.entry(side)
            .is_some_and(|entry| entry.kind == Kind::File)
    })
}

/// Of a version that the ledger agreed on the content is known, and is checked when it comes out.
fn agreed_content(step: &Step, side: Side, entry: &Entry) -> Option<Digest> {
    let base = step.seen.base.as_ref()?;
    same_version(&base.stamps[side], &entry.stamp)
        .then_some(base.content)
        .flatten()
}

fn same_version(agreed: &Stamp, seen: &Stamp) -> bool {
    agreed.undoubted() == *seen
}

impl Carried {
    fn count(&mut self, step: &Step, ending: &Ending, bytes: u64) {
        let counts = &mut self.counts;
        match (ending, &step.decision) {
            (
                Ending::Done,
                Decision::Carry { to: Side::Far, .. } | Decision::CarryBeside { to: Side::Far },
            ) => {
                counts.files_up += 1;
                counts.bytes_up += bytes;
            }
            (
                Ending::Done,
                Decision::Carry { to: Side::Near, .. } | Decision::CarryBeside { to: Side::Near },
            ) => {
                counts.files_down += 1;
                counts.bytes_down += bytes;
            }
            (Ending::Done, Decision::Fetch) => {
                counts.files_down += 1;
                counts.bytes_down += bytes;
            }
            (Ending::Done, Decision::MakeStub { .. }) => counts.stubs += 1,
            (Ending::Done, Decision::Shed) => {
                counts.shed += 1;
                counts.bytes_shed += bytes;
            }
            (Ending::Done, Decision::Move { files, .. }) => counts.moved += files,
            (Ending::Done, Decision::DropHere { .. }) => counts.dropped += 1,
            (Ending::Conflict, _) => counts.conflicts += 1,
            (Ending::Stuck, _) => counts.stuck += 1,
            (Ending::Drift, _) => counts.drift += 1,
            (Ending::KeptBack, _) => {
                counts.drift += 1;
                counts.kept_back += 1;
            }
            (Ending::Asking, _) => counts.asking += u64::from(is_file_anywhere(step)),
            _ => {}
        }
        if *ending == Ending::Done {
            counts.removed += takes(step).removed;
            counts.replaced += takes(step).replaced;
        }
    }
}

impl Outcome {
    /// Why it ended so, in words.
    #[must_use]
    pub fn why(&self, telling: &Telling<'_>) -> String {
        if self.reason.is_empty() && self.ending != Ending::Done {
            words::reason(&self.step, telling)
        } else {
            self.reason.clone()
        }
    }

    /// How the sides agree at the path now.
    #[must_use]
    pub fn agreement(&self) -> Agreement {
        match self.ending {
            Ending::Done => Agreement::Settled,
            Ending::Waiting | Ending::BeingWritten => Agreement::from(&self.step.decision),
            Ending::Conflict => Agreement::Conflict,
            Ending::Stuck => Agreement::Stuck,
            Ending::Drift => Agreement::Drift,
            Ending::KeptBack => Agreement::KeptBack,
            Ending::Asking => Agreement::from(&self.step.decision),
            Ending::LeftOut => Agreement::LeftOut,
        }
    }
}
