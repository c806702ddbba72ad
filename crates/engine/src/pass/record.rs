//! The last room: what was seen and what was done goes into the ledger, and the run is closed.
//!
//! Paths that are settled need no word: their rows were written when they were carried. What is not settled is noted
//! with both views and the reason, so that `status` and `conflicts` can answer without asking the server again.

use std::collections::BTreeSet;

use katabatic_core::words::Telling;
use katabatic_core::{Decision, RelPath, RunOutcome, Side, SideNames, View};

use super::being_written;
use super::carry::{Carried, Ending, Outcome};
use super::far_changes;
use super::moves;
use super::{Plan, Report, Wish};
use crate::Error;
use crate::session::LockedLane;
use katabatic_ledger::rows::{self, Open};
use katabatic_ledger::{runs, written_rows};

pub(crate) async fn record(
    pass: &LockedLane,
    plan: &Plan,
    mut carried: Carried,
    run: Option<i64>,
    wish: &Wish,
) -> Result<Report, Error> {
    // Before anything is called settled, all that was carried must stand in the ledger.
    pass.ledger.flush().await?;
    pass.remember_roots().await?;
    let written = being_written::sort(pass, &mut carried)?;
    let Carried {
        outcomes,
        counts,
        listed: arrived,
        freed,
        ended,
    } = carried;
    let (stopped, sides) = (pass.stop.asked(), pass.lane.config.side_names());
    let is_written = |outcome: &&Outcome| outcome.ending == Ending::BeingWritten;
    let being_written = outcomes.iter().filter(is_written).count() as u64;
    let still_there = outcomes
        .iter()
        .filter_map(|outcome| still_at_its_older_name(outcome, sides));
    let open: Vec<Open> = outcomes
        .iter()
        .filter_map(|outcome| open(outcome, sides))
        .chain(still_there)
        .collect();
    let (lane, number, seen_at) = (pass.lane.row.key, pass.lane.row.pass + 1, plan.seen_at);
    let selection = pass.lane.config.selection_text();
    let left_out = plan.listed_whole.then(|| plan.left_out.clone());
    let ended_at = pass.clock.now();
    let listed_at = plan
        .token
        .as_ref()
        .filter(|token| token.listed)
        .and(seen_at);
    // Where something met was not what the scan had told, nothing that it told is relied on. A pass over a part of the
    // lane, or one that was cut short, leaves the token of an earlier one, where that still counts.
    let whole = seen_at.is_some() && ended.is_none() && !stopped;
    // Only once all of it was looked at under other terms do these count for what goes from then on.
    let terms = match (&pass.lane.row.terms, whole) {
        (Some(before), false) => before.clone(),
        (_, true) | (None, false) => pass.lane.config.terms_text(),
    };
    let token = match &plan.token {
        Some(token) if counts.stuck == 0 && being_written == 0 => {
            let ours = changed_there(&outcomes);
            far_changes::after(pass, token, &ours).await
        }
        _ => None,
    };
    // What is noted of the far side is newer than the token of an earlier pass: it counts no more.
    let token = (whole || !open.is_empty()).then(|| token.filter(|_| whole));
    // A pass that only fetches or sheds has not carried what stands otherwise: that stays as it was noted.
    let scope = match wish.contents {
        None => wish.paths(),
        Some(_) => Vec::new(),
    };
    let listed: Vec<_> = plan.newly_listed.iter().chain(&arrived).cloned().collect();
    let outcome = match (&ended, stopped) {
        (Some(error), _) => RunOutcome::Failed(error.to_string()),
        (None, true) => RunOutcome::Stopped,
        (None, false) if being_written > 0 => {
            RunOutcome::BeingWritten(being_written).or_needs_person(counts.need_nobody())
        }
        (None, false) => RunOutcome::AllSettled.or_needs_person(counts.need_nobody()),
    };
    let noted = pass.lane.row.noted + 1;
    // First there: cut off in between, the two differ by one, and that says nothing.
    let is_noted = pass.lane.near.note_pass(noted).await;
    pass.ledger
        .write(move |connection| {
            if is_noted {
                rows::set_noted(connection, lane, noted)?;
            }
            for open in &open {
                if let Some(run) = run {
                    runs::add_found(connection, lane, run, open, ended_at)?;
                }
                rows::note_open(connection, lane, number, open)?;
            }
            for path in &listed {
                rows::mark_listed(connection, lane, path)?;
            }
            rows::close_pass(connection, lane, number, seen_at, &scope)?;
            for path in &written.now {
                written_rows::note(connection, lane, path, ended_at)?;
            }
            for path in &written.over {
                written_rows::forget(connection, lane, path)?;
            }
            rows::set_failed(connection, lane, None)?;
            rows::set_terms(connection, lane, &terms, &selection)?;
            if let Some(left_out) = &left_out {
                rows::set_left_out(connection, lane, left_out)?;
            }
            if let Some(token) = &token {
                rows::set_token(connection, lane, token.as_deref(), listed_at)?;
            }
            match run {
                Some(run) => runs::end(connection, run, ended_at, &outcome, &counts),
                None => Ok(()),
            }
        })
        .await?;
    if let Some(error) = ended {
        return Err(error);
    }
    let done = outcomes
        .iter()
        .filter(|outcome| outcome.ending == Ending::Done && leaves_a_file(outcome))
        .count() as u64;
    let all = || outcomes.iter().map(|outcome| &outcome.step);
    let moved: u64 = outcomes
        .iter()
        .filter(|outcome| outcome.ending == Ending::Done)
        .map(|outcome| moves::settled_by(&outcome.step, all()))
        .sum();
    Ok(Report {
        run,
        sides,
        counts,
        settled: plan.settled + done + moved,
        left_out: plan.totals().left_out,
        held_open: freed.held_open,
        believed: freed.believed,
        kept_as_spares: freed.stayed,
        outcomes,
        being_written,
        closed_stubs: 0,
        stopped,
    })
}

/// What the pass itself changed on the far side.
fn changed_there(outcomes: &[Outcome]) -> BTreeSet<RelPath> {
    outcomes
        .iter()
        .filter(|outcome| outcome.ending == Ending::Done && outcome.step.changes(Side::Far))
        .map(|outcome| outcome.step.path().clone())
        .collect()
}

fn leaves_a_file(outcome: &Outcome) -> bool {
    use katabatic_core::Kind;
    let file = |side| {
        outcome
            .step
            .entry(side)
            .is_some_and(|entry| entry.kind == Kind::File)
    };
    match outcome.step.decision {
        Decision::Carry { to, .. } | Decision::CarryBeside { to } => file(to.other()),
        Decision::MakeStub { .. } | Decision::Fetch | Decision::Shed => true,
        Decision::Record | Decision::Compare => file(Side::Near) && !outcome.step.is_restamp(),
        _ => false,
    }
}

/// A move that was not carried concerns its older name too: there it is gone on one side only.
fn still_at_its_older_name(outcome: &Outcome, sides: SideNames) -> Option<Open> {
    let Decision::Move { on, from, .. } = &outcome.step.decision else {
        return None;
    };
    let open = open(outcome, sides)?;
    let (near, far) = match on {
        Side::Near => (open.near, View::Absent),
        Side::Far => (View::Absent, open.far),
    };
    Some(Open {
        path: from.clone(),
        near,
        far,
        reason: format!(
            "it is {} {} now: {}",
            outcome.step.path(),
            sides.at(on.other()),
            open.reason
        ),
        ..open
    })
}

fn open(outcome: &Outcome, sides: SideNames) -> Option<Open> {
    if outcome.ending == Ending::Done {
        return None;
    }
    Some(Open {
        path: outcome.step.path().clone(),
        near: outcome.step.seen.views.near.clone(),
        far: outcome.step.seen.views.far.clone(),
        state: outcome.agreement(),
        reason: outcome.why(&Telling {
            time: &|_| String::new(),
            sides,
        }),
    })
}
