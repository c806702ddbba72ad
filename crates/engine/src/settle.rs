//! Conflicts: showing both versions, and doing what a person decided.

use katabatic_core::decide::{Verdict, decide};
use katabatic_core::{
    Agreement, Decision, EditTime, Entry, Kind, PerSide, RelPath, RunCommand, RunOutcome, Side,
    SideNames, SpareCause, Step, Triple, View, words,
};

pub use crate::answer::Keep;
use crate::answer::{Answered, answer};
use crate::differ::{Difference, differ};
use crate::keep_beside::{keep_beside, not_settled};
use crate::pass::primitive::{self, Change, Learned};
use crate::pass::{Pass, Report, Wish};
use crate::session::LockedLane;
use crate::{Class, Error};
use katabatic_ledger::intents::Version;
use katabatic_ledger::rows::{self, LedgerRow};
use katabatic_ledger::runs::Counts;
use katabatic_ledger::spare_rows::{self, Spare};

/// Times closer than this, in nanoseconds, do not say which version is the newer one.
const TOO_CLOSE: i64 = 2_000_000_000;

/// A conflict, with both versions as they are now.
#[derive(Clone, Debug)]
pub struct Conflict {
    /// The path.
    pub path: RelPath,
    /// The near version.
    pub near: Option<Entry>,
    /// The far version.
    pub far: Option<Entry>,
    /// When the sides were found in conflict.
    pub seen_at: Option<EditTime>,
    /// How the two differ, where both are files that can be compared.
    pub difference: Option<Difference>,
}

/// What a settlement did.
#[derive(Debug)]
pub struct Settled {
    /// What it did, in words, a line each.
    pub done: Vec<String>,
    /// The versions that yielded, and where they were kept.
    pub spares: Vec<Spare>,
    /// The pass that carried the decision out.
    pub report: Report,
}

/// The paths of a lane that are in conflict.
///
/// # Errors
/// Where the ledger cannot be read.
pub fn open_conflicts(pass: &Pass) -> Result<Vec<LedgerRow>, Error> {
    let mut found = Vec::new();
    pass.ledger.read(|connection| {
        rows::each_row(connection, pass.lane.row.key, &RelPath::root(), |row| {
            if row
                .open
                .as_ref()
                .is_some_and(|(state, _)| *state == Agreement::Conflict)
            {
                found.push(row);
            }
            true
        })
    })?;
    Ok(found)
}

/// The conflicts that an answer about a path is about: its own, or else those in the folder.
///
/// # Errors
/// Where the ledger cannot be read.
pub fn meant(pass: &Pass, path: &RelPath) -> Result<Vec<RelPath>, Error> {
    let open = open_conflicts(pass)?.into_iter().map(|row| row.path);
    let below: Vec<RelPath> = open.filter(|open| open.is_within(path)).collect();
    // What is no conflict that the last pass found may be drift, a removal that waits, or a conflict since.
    Ok(match below.is_empty() || below.contains(path) {
        true => vec![path.clone()],
        false => below,
    })
}

/// The side whose version an answer would keep; none where it keeps both.
///
/// # Errors
/// [`Class::NeedsPerson`] where the newest cannot be told, or a version is not there.
pub fn would_keep(
    conflict: &Conflict,
    keep: Keep,
    time: &(dyn Fn(EditTime) -> String + Sync),
) -> Result<Option<Side>, Error> {
    match (keep, &conflict.near, &conflict.far) {
        (Keep::Both, ..) => Ok(None),
        (Keep::Side(side), ..) => Ok(Some(side)),
        (Keep::Newest, Some(near), Some(far)) => newest(&conflict.path, near, far, time).map(Some),
        (Keep::Newest, ..) => Err(Error::new(
            Class::NeedsPerson,
            format!("telling which version of {} is the newest", conflict.path),
            "only one side holds it now",
            "Sync first, and look again.",
        )),
    }
}

/// Looks at both versions of a conflict.
///
/// # Errors
/// Where a side is not there.
pub async fn show(pass: &Pass, row: &LedgerRow) -> Result<Conflict, Error> {
    let look = async |side: Side| match pass.store(side).look(&row.path).await {
        Ok(entry) => Ok(entry),
        Err(error) if error.ends_the_pass() => Err(pass.side_failed(side, &error)),
        // What cannot be looked at now is shown as it was seen.
        Err(_) => Ok(row.last_seen(side).entry().cloned()),
    };
    let (near, far) = (look(Side::Near).await?, look(Side::Far).await?);
    let difference = match (&near, &far) {
        (Some(near), Some(far)) => differ(pass, &row.path, near, far).await,
        _ => None,
    };
    Ok(Conflict {
        path: row.path.clone(),
        near,
        far,
        seen_at: pass.lane.row.seen_at,
        difference,
    })
}

/// Settles one conflict.
///
/// # Errors
/// [`Class::Usage`] where the path is not in conflict, [`Class::NeedsPerson`] where `newest` cannot be told.
pub async fn settle(
    pass: &Pass,
    path: &RelPath,
    keep: Keep,
    time: &(dyn Fn(EditTime) -> String + Sync),
) -> Result<Settled, Error> {
    let pass = &pass.lock()?;
    if let Some((side, why)) = pass.prepare().await?.get(path) {
        return Err(Error::failed(
            format!("settling {path}"),
            format!(
                "an earlier pass was cut off there, and that cannot be cleared up {} now: {why}",
                pass.lane.config.side_names().at(*side)
            ),
            "Sync once the reason is gone, then settle it.",
        ));
    }
    if let Some(Answered { done, reports }) = answer(pass, path, keep).await? {
        let runs = reports.iter().map(|report| report.run).collect::<Vec<_>>();
        let report = worst(reports, pass.lane.config.side_names());
        return Ok(Settled {
            done,
            spares: spares_of(pass, &runs)?,
            report,
        });
    }
    let (near, far) = both_versions(pass, path).await?;
    let winner = match keep {
        Keep::Side(side) => Some(side),
        Keep::Newest => Some(newest(path, &near, &far, time)?),
        Keep::Both => None,
    };
    let source = pass.lane.config.terms.direction.source();
    if let Some(winner) = winner.filter(|winner| Some(winner.other()) == source) {
        return Err(only_reads(pass, path, winner.other()));
    }
    let mut done = Vec::new();
    let (report, first_run) = match winner {
        None => {
            // On a lane that only reads the far side, the near version is the one that makes room.
            let moves = source.map_or(Side::Far, Side::other);
            let version = if moves == Side::Near { &near } else { &far };
            let beside = keep_beside(pass, path, moves, version).await?;
            done.push(format!(
                "the version {} is {} now, beside the other one",
                pass.lane.config.side_names().at(moves),
                beside.name()
            ));
            (carry_on(pass, vec![path.clone(), beside]).await?, None)
        }
        Some(winner) => {
            let (yields, sides) = (winner.other(), pass.lane.config.side_names());
            done.push(format!(
                "kept the version {}; the one {} went to the spares",
                sides.at(winner),
                sides.at(yields)
            ));
            if near.kind == Kind::File && far.kind == Kind::File {
                (
                    pass.carry_one(
                        replacing(pass, path, near, far, yields)?,
                        RunCommand::Settle,
                    )
                    .await?,
                    None,
                )
            } else {
                let old = if yields == Side::Near { &near } else { &far };
                let run = take_out(pass, path, yields, old).await?;
                (carry_on(pass, vec![path.clone()]).await?, Some(run))
            }
        }
    };
    Ok(Settled {
        done,
        spares: spares_of(pass, &[first_run, report.run])?,
        report,
    })
}

fn spares_of(pass: &Pass, runs: &[Option<i64>]) -> Result<Vec<Spare>, Error> {
    pass.ledger.read(|connection| {
        let mut all = Vec::new();
        for run in runs.iter().flatten() {
            all.extend(spare_rows::of_run(connection, *run)?);
        }
        Ok(all)
    })
}

/// The report that asks most of a person.
fn worst(reports: Vec<Report>, sides: SideNames) -> Report {
    let needs = |report: &Report| report.needs_a_person();
    reports
        .into_iter()
        .reduce(|so_far, next| if needs(&so_far) { so_far } else { next })
        .unwrap_or_else(|| Report {
            sides,
            ..Report::default()
        })
}

fn only_reads(pass: &Pass, path: &RelPath, side: Side) -> Error {
    let name = &pass.lane.config.name;
    let at = pass.lane.config.side_names().at(side);
    Error::usage(
        format!("settling {path} in lane {name}"),
        format!(
            "the lane carries {} only and never writes {at}",
            side.other().towards()
        ),
        format!(
            "Say --keep {} or --keep both; to change what is {at}, do it by hand.",
            side.name()
        ),
    )
}

/// A pass over what was settled, which finds the conflict gone.
async fn carry_on(pass: &LockedLane, scope: Vec<RelPath>) -> Result<Report, Error> {
    pass.run(
        RunCommand::Settle,
        &Wish {
            scope,
            by_hand: true,
            ..Wish::default()
        },
    )
    .await
}

/// The step that puts one side's file in place of the other's.
fn replacing(
    pass: &Pass,
    path: &RelPath,
    near: Entry,
    far: Entry,
    yields: Side,
) -> Result<Step, Error> {
    let row = pass
        .ledger
        .read(|connection| rows::row(connection, pass.lane.row.key, path))?;
    let seen = Triple {
        path: path.clone(),
        base: row.and_then(|row| row.base),
        views: PerSide {
            near: View::Present(near),
            far: View::Present(far),
        },
    };
    let terms = &pass.lane.config.terms;
    let (_, near, far) = decide(seen.base.as_ref(), &seen.views.near, &seen.views.far, terms);
    Ok(Step {
        seen,
        near,
        far,
        decision: Decision::Carry {
            to: yields,
            replaces: true,
        },
    })
}

async fn both_versions(pass: &Pass, path: &RelPath) -> Result<(Entry, Entry), Error> {
    let row = pass
        .ledger
        .read(|connection| rows::row(connection, pass.lane.row.key, path))?;
    let look = async |side: Side| {
        pass.store(side)
            .look(path)
            .await
            .map_err(|error| pass.side_failed(side, &error))
    };
    let view = |entry: Option<Entry>| entry.map_or(View::Absent, View::Present);
    let (near, far) = (view(look(Side::Near).await?), view(look(Side::Far).await?));
    let known = row.as_ref().is_some_and(|row| {
        row.open
            .as_ref()
            .is_some_and(|(state, _)| *state == Agreement::Conflict)
    });
    let base = row.and_then(|row| row.base);
    let (verdict, ..) = decide(base.as_ref(), &near, &far, &pass.lane.config.terms);
    let in_conflict = known || verdict == Verdict::Conflict;
    match (near, far) {
        (View::Present(near), View::Present(far)) if in_conflict => Ok((near, far)),
        (near, far) => {
            let triple = Triple {
                path: path.clone(),
                base,
                views: PerSide { near, far },
            };
            Err(not_in_conflict(pass, &triple))
        }
    }
}

fn not_in_conflict(pass: &Pass, seen: &Triple) -> Error {
    let there = |view: &View| {
        if view.entry().is_some() {
            "is there"
        } else {
            "is not there"
        }
    };
    Error::usage(
        format!("settling {} in lane {}", seen.path, pass.lane.config.name),
        format!(
            "it is not in conflict (near it {}, far it {})",
            there(&seen.views.near),
            there(&seen.views.far)
        ),
        format!(
            "See where it stands: katabatic status {}",
            words::typed(&pass.lane.config.near.join(&seen.path).to_string())
        ),
    )
}

fn newest(
    path: &RelPath,
    near: &Entry,
    far: &Entry,
    time: &(dyn Fn(EditTime) -> String + Sync),
) -> Result<Side, Error> {
    let unclear = |why: String| {
        Error::new(
            Class::NeedsPerson,
            format!("telling which version of {path} is the newest"),
            why,
            "Look at both (katabatic conflicts) and say --keep near, far or both.",
        )
    };
    match (near.edited, far.edited) {
        (Some(near), Some(far)) if near.0.abs_diff(far.0) < TOO_CLOSE.unsigned_abs() => {
            Err(unclear(format!(
                "both were edited within two seconds ({})",
                time(near)
            )))
        }
        (Some(near), Some(far)) => Ok(if near > far { Side::Near } else { Side::Far }),
        (_, None) => {
            let received = far
                .received
                .map_or_else(String::new, |at| format!(" ({})", time(at)));
            Err(unclear(format!(
                "when the version there was edited is not known; the server's date{received} says only when it was received"
            )))
        }
        (None, _) => Err(unclear(
            "when the version here was edited is not known".into(),
        )),
    }
}

/// Takes the version that yields into the spares, in a run of its own.
async fn take_out(
    pass: &LockedLane,
    path: &RelPath,
    yields: Side,
    old: &Entry,
) -> Result<i64, Error> {
    let run = pass
        .begin_run_of(RunCommand::Settle, pass.clock.now())
        .await?;
    let change = Change {
        side: yields,
        path,
        old: Some(Version::of(old, None)),
        source: None,
        run: Some(run.number()),
        cause: SpareCause::YieldedTo(yields.other()),
        learned: Learned::default(),
    };
    let result = primitive::remove(pass, change).await;
    let number = run.number();
    match result {
        Ok(_) => {
            run.end(RunOutcome::AllSettled, Counts::default()).await?;
            Ok(number)
        }
        Err(trouble) => {
            let error = not_settled(pass, path, trouble);
            run.failed(&error).await;
            Err(error)
        }
    }
}
