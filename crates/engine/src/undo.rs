//! Taking back what a run removed or replaced, on both sides, as far as it still can be.
//!
//! What a run took out lies in the spares. What it removed goes back to the side it was taken from; what it replaced takes
//! its place here again, as if somebody had edited the file. A pass over just those paths carries both to the other
//! side, and so does any later pass, where this one is cut off. Only where a path still is as the run left it: whatever
//! somebody did since is newer, and stays.

use std::collections::{BTreeMap, BTreeSet};

use futures_util::{StreamExt, TryStreamExt, stream};
use katabatic_core::decide::{self, decide};
use katabatic_core::{
    Deed, Digest, Direction, Entry, ItemEnding, ItemOutcome, Kind, PerSide, RelPath, RunCommand,
    RunOutcome, Side, SpareCause, Triple, View, words,
};

use crate::Error;
use crate::pass::closer_look::look_closer;
use crate::pass::primitive::{self, Change, Learned, Trouble};
use crate::pass::put_back::back_to;
use crate::pass::{Pass, Report, Unfinished, Wish};
use crate::session::{Ended, LockedLane, OpRun, in_run};
use crate::spares::make_folders_on;
use katabatic_ledger::intents::Version;
use katabatic_ledger::rows;
use katabatic_ledger::runs::{self, Counts, Run, RunItem};
use katabatic_ledger::spare_rows::{self, Spare};
use katabatic_sides::effort::IN_FLIGHT;
use katabatic_sides::{Put, Staged, Steps};

/// A version that can go back.
#[derive(Clone, Debug)]
pub struct Back {
    /// The version.
    pub spare: Spare,
    /// What both sides hold instead now, and would make way for it.
    pub over: Option<Box<Over>>,
}

/// What has the place of a version that was replaced: both sides hold it.
#[derive(Clone, Debug)]
pub struct Over {
    near: Entry,
    content: Option<Digest>,
}

/// What an undo would do.
#[derive(Clone, Debug, Default)]
pub struct Offer {
    /// These go back.
    pub back: Vec<Back>,
    /// Folders that the run removed, which are made again.
    pub folders: Vec<RelPath>,
    /// Versions that both sides hold already.
    pub already: u64,
    /// These stay where they are, and why.
    pub left: Vec<(Spare, String)>,
}

impl Offer {
    /// Whether there is nothing to take back.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.back.is_empty() && self.folders.is_empty()
    }

    /// Versions that come back to where nothing is, and their bytes; versions that take another one's place, and theirs.
    #[must_use]
    pub fn totals(&self) -> [(u64, u64); 2] {
        [false, true].map(|over| {
            let of = self.back.iter().filter(|back| back.over.is_some() == over);
            of.fold((0, 0), |(count, bytes), back| {
                (count + 1, u64::saturating_add(bytes, back.spare.size))
            })
        })
    }
}

/// What an undo did.
#[derive(Debug, Default)]
pub struct Undone {
    /// The number of its own run.
    pub run: i64,
    /// Versions that are back on the side they were taken from.
    pub back: u64,
    /// What could not be taken back, and why.
    pub failed: Vec<(RelPath, String)>,
    /// The pass that carried them to the other side.
    pub report: Report,
}

/// What a run took out of this lane that can still go back; nothing is changed.
///
/// # Errors
/// Where a side is not there, or the ledger cannot be read.
pub async fn look(pass: &Pass, run: &Run) -> Result<Offer, Error> {
    pass.check_roots().await?;
    let number = run.number;
    let lane = pass.lane.row.key;
    let (spares, items, since) = pass.ledger.read(|connection| {
        Ok((
            spare_rows::of_run(connection, number)?,
            runs::items(connection, number)?,
            runs::done_since(connection, lane, number)?,
        ))
    })?;
    let unfinished = pass.left_unfinished()?;
    let each_side = takes_from_each_side(run);
    let mut seen = BTreeSet::new();
    let mut offer = Offer::default();
    let mut looks = Vec::new();
    for spare in spares {
        let first = seen.insert((spare.path.clone(), each_side.then_some(spare.side.name())));
        if !first {
            offer.left.push((
                spare,
                "it is a second version that was met at its path".into(),
            ));
        } else if spare.lane != pass.lane.row.key {
            offer
                .left
                .push((spare, "it is of an earlier lane of that name".into()));
        } else if let Some(place) = &spare.place {
            let why = format!("it lies in {place}, which the lane was tied to before");
            offer.left.push((spare, why));
        } else {
            looks.push(spare);
        }
    }
    let verdicts: Vec<(Spare, Verdict)> = stream::iter(looks)
        .map(|spare| look_at(pass, spare, &since, &unfinished, each_side))
        .buffered(IN_FLIGHT)
        .try_collect()
        .await?;
    for (spare, verdict) in verdicts {
        match verdict {
            Verdict::Back(over) => offer.back.push(Back { spare, over }),
            Verdict::Already => offer.already += 1,
            Verdict::Left(why) => offer.left.push((spare, why)),
        }
    }
    offer
        .back
        .sort_by(|one, other| one.spare.path.cmp(&other.spare.path));
    offer.folders = folders_to_make(pass, &items).await?;
    Ok(offer)
}

/// Whether a run took from both sides, each by itself, rather than from one what the other had not.
fn takes_from_each_side(run: &Run) -> bool {
    run.command == RunCommand::Sweep
}

/// What later runs did, by path.
type Since = BTreeMap<String, (i64, Deed)>;

enum Verdict {
    Back(Option<Box<Over>>),
    Already,
    Left(String),
}

async fn look_at(
    pass: &Pass,
    spare: Spare,
    since: &Since,
    unfinished: &Unfinished,
    each_side: bool,
) -> Result<(Spare, Verdict), Error> {
    if unfinished.contains_key(&spare.path) {
        let why = "a pass was cut off at its path: sync first";
        return Ok((spare, Verdict::Left(why.into())));
    }
    let mut views = [View::Absent, View::Absent];
    for (side, view) in [Side::Near, Side::Far].into_iter().zip(&mut views) {
        match pass.store(side).look(&spare.path).await {
            Ok(entry) => *view = entry.map_or(View::Absent, View::Present),
            Err(error) if error.ends_the_pass() => return Err(pass.side_failed(side, &error)),
            Err(why) => {
                let why = format!(
                    "what is {} cannot be told: {why}",
                    pass.lane.config.side_names().at(side)
                );
                return Ok((spare, Verdict::Left(why)));
            }
        }
    }
    let [near, far] = views;
    let verdict = if each_side {
        let taken = match spare.side {
            Side::Near => near,
            Side::Far => far,
        };
        match taken {
            View::Absent => Verdict::Back(None),
            _ => Verdict::Left(format!(
                "something has its name {} again",
                pass.lane.config.side_names().at(spare.side)
            )),
        }
    } else {
        judge(pass, &spare, (near, far), since).await?
    };
    Ok((spare, verdict))
}

async fn judge(
    pass: &Pass,
    spare: &Spare,
    (near, far): (View, View),
    since: &Since,
) -> Result<Verdict, Error> {
    let lane = pass.lane.row.key;
    let row = pass
        .ledger
        .read(|connection| rows::row(connection, lane, &spare.path))?;
    let since = since.get(spare.path.as_str());
    if (&near, &far) == (&View::Absent, &View::Absent) {
        return Ok(match since {
            Some((later, deed)) => Verdict::Left(format!(
                "run {later} went on with it ({})",
                words::deed(deed)
            )),
            None => Verdict::Back(None),
        });
    }
    let triple = Triple {
        path: spare.path.clone(),
        base: row.and_then(|row| row.base),
        views: PerSide { near, far },
    };
    let (triple, _) = look_closer(pass, triple).await;
    let (verdict, ..) = decide(
        triple.base.as_ref(),
        &triple.views.near,
        &triple.views.far,
        &pass.lane.config.terms,
    );
    let agreed = matches!(verdict, decide::Verdict::Settled | decide::Verdict::Record);
    let (Some(base), View::Present(near), View::Present(_), true) =
        (triple.base, triple.views.near, triple.views.far, agreed)
    else {
        return Ok(Verdict::Left(
            "something that is not carried yet has its name: sync first".into(),
        ));
    };
    if base.content.is_some() && base.content == spare.content {
        return Ok(Verdict::Already);
    }
    Ok(if let Some((later, _)) = since {
        Verdict::Left(format!("run {later} put a newer version there"))
    } else if pass.lane.config.terms.direction == Direction::Down {
        Verdict::Left(
            "the lane only carries down, and the version from there would come again".into(),
        )
    } else if base.kind != Kind::File || spare.folder {
        Verdict::Left("it is a folder now, or was one".into())
    } else {
        Verdict::Back(Some(Box::new(Over {
            near,
            content: base.content,
        })))
    })
}

/// The folders that the run removed and that are on neither side now, from the top down.
async fn folders_to_make(pass: &Pass, items: &[RunItem]) -> Result<Vec<RelPath>, Error> {
    let removed = items.iter().filter(|item| {
        matches!(item.deed, Deed::RemoveFolder(_)) && item.outcome.ending == ItemEnding::Done
    });
    let paths: BTreeSet<RelPath> = removed
        .filter_map(|item| RelPath::parse(&item.path).ok())
        .collect();
    let mut missing = Vec::new();
    for path in paths {
        let mut there = false;
        for side in [Side::Near, Side::Far] {
            there |= match pass.store(side).look(&path).await {
                Ok(entry) => entry.is_some(),
                Err(error) if error.ends_the_pass() => {
                    return Err(pass.side_failed(side, &error));
                }
                Err(_) => true,
            };
        }
        if !there {
            missing.push(path);
        }
    }
    Ok(missing)
}

/// Takes back what was offered.
///
/// # Errors
/// Where a whole side is not there any more, or the ledger cannot be written.
pub async fn take_back(pass: &Pass, offer: &Offer, of: &Run) -> Result<Undone, Error> {
    let pass = &pass.lock()?;
    pass.prepare().await?;
    let run = pass
        .begin_run_of(RunCommand::Undo, pass.clock.now())
        .await?;
    let (mut undone, scope) = in_run(run, async |run| back(pass, run, offer, of).await).await?;
    if !scope.is_empty() {
        let wish = Wish {
            scope,
            by_hand: true,
            ..Wish::default()
        };
        undone.report = pass.run(RunCommand::Undo, &wish).await?;
    }
    Ok(undone)
}

/// Puts back what was offered; what a pass is to look at afterwards comes along.
async fn back(
    pass: &LockedLane,
    run: &OpRun,
    offer: &Offer,
    of: &Run,
) -> Result<Ended<(Undone, Vec<RelPath>)>, Error> {
    let mut undone = Undone {
        run: run.number(),
        ..Undone::default()
    };
    let mut scope = Vec::new();
    let mut ended = None;
    for folder in &offer.folders {
        let side = home_side(pass, Side::Near);
        if let Err(why) = make_folders_on(pass, side, folder, true).await {
            undone.failed.push((folder.clone(), why.to_string()));
        } else {
            scope.push(folder.clone());
        }
    }
    let mut backs = stream::iter(&offer.back)
        .map(|back| async move { (back, bring(pass, back, of, run.number()).await) })
        .buffer_unordered(IN_FLIGHT);
    while let Some((back, brought)) = backs.next().await {
        let path = &back.spare.path;
        let outcome = match brought {
            Ok(()) => {
                undone.back += 1;
                if !takes_from_each_side(of) {
                    scope.push(path.clone());
                }
                ItemOutcome::DONE
            }
            Err(trouble) => {
                let why = trouble.to_string();
                undone.failed.push((path.clone(), why.clone()));
                ended = ended.or(ends(pass, trouble));
                ItemOutcome::with(ItemEnding::Stuck, why)
            }
        };
        let item = RunItem {
            path: path.to_string(),
            deed: Deed::TakeBack,
            reason: String::new(),
            bytes: back.spare.size,
            outcome,
            at: Some(pass.clock.now()),
        };
        run.note(item);
        if ended.is_some() {
            break;
        }
    }
    drop(backs);
    if let Some(error) = ended {
        return Err(error);
    }
    let outcome = RunOutcome::TookBack(undone.back).or_needs_person(undone.failed.is_empty());
    let counts = Counts {
        stuck: undone.failed.len() as u64,
        ..Counts::default()
    };
    Ok(Ended {
        value: (undone, scope),
        outcome,
        counts,
    })
}

fn ends(pass: &Pass, trouble: Trouble) -> Option<Error> {
    match trouble {
        Trouble::Side(side, error) if error.ends_the_pass() => Some(pass.side_failed(side, &error)),
        Trouble::Ledger(error) => Some(error),
        _ => None,
    }
}

/// The side that something is put back on: where it was taken from, but never the one that only receives.
fn home_side(pass: &Pass, taken_from: Side) -> Side {
    match pass.lane.config.terms.direction {
        Direction::TwoWay => taken_from,
        Direction::Up | Direction::Down => Side::Near,
    }
}

/// Brings one version back, on the side it was taken from, or here.
async fn bring(pass: &LockedLane, back: &Back, of: &Run, run: i64) -> Result<(), Trouble> {
    let spare = &back.spare;
    if let Some(over) = &back.over {
        return exchange(pass, spare, over, of, run).await;
    }
    let side = match takes_from_each_side(of) {
        true => spare.side,
        false => home_side(pass, spare.side),
    };
    make_folders_on(pass, side, &spare.path, false)
        .await
        .map_err(|why| Trouble::Met(why.to_string()))?;
    let failed = |error| Trouble::Side(side, error);
    let put = match side == spare.side {
        true => back_to(pass, spare, &spare.path).await.map_err(failed)?,
        false => {
            let staged = staged(pass, spare, side).await?;
            let store = pass.store(side);
            let put = store.place(&staged.slot, &staged.entry, &spare.path).await;
            let put = put.map_err(|undone| failed(undone.told()))?;
            if put == Put::Taken {
                store.unstage(&staged.slot).await.map_err(failed)?;
            }
            put
        }
    };
    match put {
        Put::Done => Ok(()),
        Put::Taken => Err(Trouble::Met(
            "something has come under its name meanwhile, and stays".into(),
        )),
    }
}

/// Here the version takes the place of the newer one, as if somebody had edited the file; the pass carries it on.
async fn exchange(
    pass: &LockedLane,
    spare: &Spare,
    over: &Over,
    of: &Run,
    run: i64,
) -> Result<(), Trouble> {
    let staged = staged(pass, spare, Side::Near).await?;
    let change = Change {
        side: Side::Near,
        path: &spare.path,
        old: Some(Version::of(&over.near, over.content)),
        source: None,
        run: Some(run),
        cause: SpareCause::MadeWayForRun(of.number),
        learned: Learned::default(),
    };
    primitive::edit(pass, change, staged).await
}

/// A copy of a version, on its way to a side; never of anything but what was kept.
async fn staged(pass: &LockedLane, spare: &Spare, to: Side) -> Result<Staged, Trouble> {
    let from = |error| Trouble::Side(spare.side, error);
    let source = pass.store(spare.side).read_spare(&spare.slot).await;
    let store = pass.store(to);
    let staged = store
        .stage(source.map_err(from)?, &spare.path, &Steps::unkept())
        .await
        .map_err(|error| Trouble::Side(to, error))?;
    if spare
        .content
        .is_some_and(|content| Some(content) != staged.digest)
    {
        store
            .unstage(&staged.slot)
            .await
            .map_err(|error| Trouble::Side(to, error))?;
        return Err(Trouble::Met(
            "what lies in the spares is not the version that was kept there".into(),
        ));
    }
    Ok(staged)
}
