//! A pass: scan, plan, carry, record.
//!
//! Each of the four is a room of its own. `scan` looks at both sides, `plan` decides (with the core), `carry`
//! does it through `primitive`, `record` says what was seen and what was done. Before all of them, `recover`
//! finishes or undoes what an earlier pass was cut off in.

mod being_written;
mod beside;
pub(crate) mod carry;
pub(crate) mod closer_look;
pub(crate) mod contents;
mod convoy;
pub(crate) mod far_changes;
pub(crate) mod give_up;
mod heard;
mod late_writers;
pub(crate) mod merging;
mod moved_out;
pub(crate) mod moves;
mod other_files;
pub(crate) mod other_terms;
pub mod plan;
pub mod primitive;
pub(crate) mod put_back;
mod record;
pub(crate) mod recover;
pub(crate) mod refine;
mod roots;
pub(crate) mod scan;
pub(crate) mod shared_tags;
pub(crate) mod shelves;
mod told;
pub(crate) mod transfer;

use std::collections::BTreeMap;
use std::sync::Arc;

use katabatic_core::{
    Agreement, BrakeVerdict, EditTime, FileState, Reconciler, RelPath, Removals, RunCommand, Side,
    SideNames, Step,
};
pub use katabatic_core::{WantedContents, Wish};

pub use crate::progress::Progress;
use crate::seam::Seam;
use crate::self_opening;
use crate::session::{LockedLane, OpRun};
pub use crate::session::{Pass, ReadFiles};
use crate::{Class, Error};
pub use carry::{Ending, Outcome};
pub use contents::to_prove;
use katabatic_ledger::runs::Counts;
pub use plan::Plan;

/// How a pass ended.
#[derive(Debug, Default)]
pub struct Report {
    /// The run's number; none where there was nothing to do and nothing to say.
    pub run: Option<i64>,
    /// What the lane's sides are called.
    pub sides: SideNames,
    /// What it did, in numbers.
    pub counts: Counts,
    /// What became of every path that was not settled.
    pub outcomes: Vec<Outcome>,
    /// Files that both sides hold and agree on, after the pass.
    pub settled: u64,
    /// Names that no lane can carry.
    pub left_out: u64,
    /// Files that were dropped here and that a program has open: their room is not free yet.
    pub held_open: u64,
    /// Files whose content went here on evidence alone: it is believed to be there.
    pub believed: u64,
    /// Copies that were to go and are spares now, and why.
    pub kept_as_spares: Vec<(RelPath, String)>,
    /// Files that are being written: they are carried once they are quiet.
    pub being_written: u64,
    /// Stubs that somebody had given rights, by which they could be read, as zeros; the rights were taken again.
    pub closed_stubs: u64,
    /// Set where it was stopped by Ctrl-C.
    pub stopped: bool,
}

impl Report {
    /// Whether something needs a person.
    #[must_use]
    pub fn needs_a_person(&self) -> bool {
        !self.counts.need_nobody()
    }
}

impl Pass {
    /// One with nothing seen yet, for the terms of this lane (or of this wish) and for what it leaves out.
    pub(crate) fn reconciler(&self, wish: &Wish) -> Reconciler {
        let selection = Arc::new(self.lane.config.selection.clone());
        let mut terms = wish.terms_for(self.lane.config.terms);
        if other_terms::are_new(self) && wish.terms.is_none() && terms.direction.source().is_some()
        {
            // What the source lacks now went while nothing said that it was to go on the other side.
            terms.removals = Removals::Keep;
        }
        Reconciler::new(terms, selection)
    }

    /// What a pass would do; nothing is changed on either side.
    ///
    /// # Errors
    /// Where a side is not there, refuses, or the ledger cannot be read.
    pub async fn plan(&self, wish: &Wish) -> Result<Plan, Error> {
        self.check_roots().await?;
        let unfinished = self.left_unfinished()?;
        let seen = scan::scan(self, &unfinished, wish).await?;
        plan::make(self, seen, wish).await
    }

    /// Runs the pass.
    ///
    /// # Errors
    /// As [`Pass::plan`]; [`Class::Brake`] where the brake stops it before anything is carried.
    pub async fn sync(&self, wish: &Wish) -> Result<Report, Error> {
        let locked = self.lock()?;
        let command = match wish.contents {
            None => RunCommand::Sync,
            Some(WantedContents::Here) => RunCommand::Fetch,
            Some(WantedContents::Away) => RunCommand::Shed,
        };
        locked.run(command, wish).await
    }

    /// What an earlier pass was cut off in; clearing it up is a change and waits for a sync.
    pub(crate) fn left_unfinished(&self) -> Result<Unfinished, Error> {
        recover::unfinished(self)
    }
}

impl LockedLane {
    /// Runs a pass.
    pub(crate) async fn run(&self, command: RunCommand, wish: &Wish) -> Result<Report, Error> {
        let began = self.clock.now();
        let unfinished = self.prepare().await?;
        let seen = scan::scan(self, &unfinished, wish).await?;
        seen.shared_tags.note(self).await?;
        let closed_stubs = self.close_open_stubs().await;
        let plan = plan::make(self, seen, wish).await?;
        self.seam(Seam::Planned, None, None).await;
        self.check_exactly(&plan, wish)?;
        self.check_brake(&plan, wish)?;
        self.check_room(&plan)?;
        let mut report = self.carry_out(&plan, command, began, wish).await?;
        report.closed_stubs = closed_stubs;
        Ok(report)
    }

    /// Takes the rights that somebody gave stubs, by which they read as zeros; how many had some.
    async fn close_open_stubs(&self) -> u64 {
        let served = self.lane.home.as_ref().is_some_and(self_opening::is_served);
        if served || !self.lane.near.saw_open_stubs() {
            return 0;
        }
        match self.lane.near.close_open_stubs().await {
            Ok(closed) => closed,
            Err(why) => {
                tracing::warn!(
                    "stubs of lane {} can be read, as zeros: {why}",
                    self.lane.config.name
                );
                0
            }
        }
    }

    /// Carries a plan and records what came of it, in a run where there is anything to tell.
    async fn carry_out(
        &self,
        plan: &Plan,
        command: RunCommand,
        began: EditTime,
        wish: &Wish,
    ) -> Result<Report, Error> {
        let run = self.begin_run(command, plan, began).await?;
        let number = run.as_ref().map(OpRun::number);
        let carried = async {
            let carried = carry::carry(self, plan, number).await;
            self.seam(Seam::Carried, None, None).await;
            record::record(self, plan, carried, number, wish).await
        };
        let carried = carried.await;
        self.store(Side::Near).thaw().await;
        match (run, &carried) {
            (Some(run), Ok(_)) => run.was_ended(),
            (Some(run), Err(error)) => run.failed(error).await,
            (None, _) => {}
        }
        carried
    }

    /// Both roots are there, and what an earlier pass was cut off in is cleared up, but for what is returned.
    pub(crate) async fn prepare(&self) -> Result<Unfinished, Error> {
        self.seam(Seam::Locked, None, None).await;
        self.check_roots().await?;
        let cut_off = recover::was_cut_off(self)?;
        let unfinished = recover::recover(self).await?;
        shelves::compare(self, cut_off).await?;
        late_writers::bring_forward(self).await?;
        being_written::prepare(self)?;
        self.seam(Seam::Recovered, None, None).await;
        Ok(unfinished)
    }

    /// Carries one step that a person asked for.
    pub(crate) async fn carry_one(&self, step: Step, command: RunCommand) -> Result<Report, Error> {
        let wish = Wish {
            scope: vec![step.path().clone()],
            by_hand: true,
            ..Wish::default()
        };
        let plan = Plan::of_one(step, self.lane.config.side_names());
        self.carry_out(&plan, command, self.clock.now(), &wish)
            .await
    }

    fn check_exactly(&self, plan: &Plan, wish: &Wish) -> Result<(), Error> {
        match &wish.exactly {
            Some(id) if *id != plan.id => Err(Error::new(
                Class::NeedsPerson,
                format!(
                    "carrying exactly the plan {id} of lane {}",
                    self.lane.config.name
                ),
                format!("things have changed since: the plan is {} now", plan.id),
                format!("Look at it first: katabatic plan {}", self.lane.config.name),
            )),
            _ => Ok(()),
        }
    }

    fn check_brake(&self, plan: &Plan, wish: &Wish) -> Result<(), Error> {
        if wish.by_hand || plan.brake_verdict == BrakeVerdict::Open {
            return Ok(());
        }
        let name = &self.lane.config.name;
        let planned = plan.brake.planned;
        Err(Error::new(
            Class::Brake,
            format!("the brake stopped lane {name} before anything was carried"),
            plan.brake_words(),
            format!(
                "If that is wanted: katabatic sync {name} --release-brake {}. If not, put back what went{}, and sync again; which files: katabatic plan {name} --all",
                planned.total(),
                plan.where_it_happened()
                    .map_or_else(String::new, |(at, _)| format!(" {at}"))
            ),
        ))
    }

    /// Where nothing fits on a disk, and nothing goes the other way either, there is nothing to be carried.
    fn check_room(&self, plan: &Plan) -> Result<(), Error> {
        for (side, no_room) in plan.no_room {
            let carries_on = |step: &Step| step.changes(side.other());
            if let Some((needed, free)) = no_room
                && !plan.steps.iter().any(carries_on)
            {
                return Err(self.no_room(side, needed, free));
            }
        }
        Ok(())
    }

    async fn begin_run(
        &self,
        command: RunCommand,
        plan: &Plan,
        began: EditTime,
    ) -> Result<Option<OpRun>, Error> {
        let found = |step: &Step| {
            matches!(
                FileState::of(step).agreement,
                Agreement::Conflict
                    | Agreement::Stuck
                    | Agreement::Drift
                    | Agreement::KeptBack
                    | Agreement::Asking(_)
            )
        };
        let is_news = |step: &Step| found(step) || (step.decision.is_work() && !step.is_restamp());
        if !plan.steps.iter().any(is_news) && plan.nothing_open {
            return Ok(None);
        }
        self.begin_run_of(command, began).await.map(Some)
    }

    /// Begins a run of this command.
    pub(crate) async fn begin_run_of(
        &self,
        command: RunCommand,
        began: EditTime,
    ) -> Result<OpRun, Error> {
        let lane = (self.lane.row.key, self.lane.config.name.as_str());
        OpRun::begin(&self.ledger, &self.clock, lane, command, began).await
    }
}

/// Paths that an earlier pass was cut off at and that could not be cleared up: the side, and why.
pub(crate) type Unfinished = BTreeMap<RelPath, (Side, String)>;
