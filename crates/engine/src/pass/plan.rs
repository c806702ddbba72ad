//! The second room: what the steps come to, as a plan that can be shown, named and held against the brake.

use std::collections::BTreeMap;

use katabatic_core::{
    Base, Brake, BrakeVerdict, Decision, EditTime, LeftOutBy, PerSide, Refined, RelPath, Side,
    SideNames, Step, TakesOut, Tally, Toll, Unknown, words,
};

use super::far_changes::Token;
use super::scan::Seen;
use super::{Pass, Wish, refine};
use crate::Error;
use crate::local_time::in_words;
use katabatic_ledger::runs;
use katabatic_sides::Unusable;

const DAY: i64 = 24 * 3600 * 1_000_000_000;

/// What a pass would do.
#[derive(Debug)]
pub struct Plan {
    /// Names this plan: another one, once anything it was made from changes.
    pub id: String,
    /// What the lane's sides are called.
    pub sides: SideNames,
    /// Every step within the wish that is not settled.
    pub steps: Vec<Step>,
    /// Where only content is to be fetched or shed: what stands otherwise within the wish, and is left as it is.
    pub aside: Vec<Step>,
    /// The bytes that were to come to a side, and those that it has free, where they are too few: then nothing comes.
    pub no_room: PerSide<Option<(u64, u64)>>,
    /// Files that are settled already, in the whole lane.
    pub settled: u64,
    /// What the brake looked at.
    pub brake: Brake,
    /// What it said.
    pub brake_verdict: BrakeVerdict,
    /// Names that no path can be made of.
    pub unusable: Vec<Unusable>,
    /// What is left out in the whole lane, by the rule or the folder.
    pub left_out: BTreeMap<String, Tally>,
    /// The side that leads, where a person said so.
    pub(crate) lead: Option<Side>,
    /// When the last pass over the whole lane looked at both sides.
    pub last_seen: Option<EditTime>,
    pub(crate) newly_listed: Vec<RelPath>,
    pub(crate) nothing_open: bool,
    /// Whether both sides were listed whole, and all of it counts.
    pub(crate) listed_whole: bool,
    /// When the whole lane was looked at; none where only a part of it counts.
    pub(crate) seen_at: Option<EditTime>,
    /// What stands for the far side as it was seen; none where only a part of it counts.
    pub(crate) token: Option<Token>,
}

/// What a plan adds up to.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Totals {
    /// Files to carry up, and their bytes.
    pub up: (u64, u64),
    /// Files to carry down, and their bytes.
    pub down: (u64, u64),
    /// Files that come as stubs, and the bytes that stay there.
    pub stubs: (u64, u64),
    /// Files whose content is dropped here for a stub, and their bytes.
    pub shed: (u64, u64),
    /// Files to compare, and the bytes that have to be read back for it.
    pub compare: (u64, u64),
    /// Folders to make on either side.
    pub folders: u64,
    /// Files that get another name.
    pub moved: u64,
    /// Files whose copy here goes, because the far side moved them to where they are not taken, and their bytes.
    pub dropped: (u64, u64),
    /// Files to remove here.
    pub removed_near: u64,
    /// Files to remove there.
    pub removed_far: u64,
    /// Conflicts.
    pub conflicts: u64,
    /// Paths that cannot be carried.
    pub stuck: u64,
    /// Files left out.
    pub left_out: u64,
    /// Files of the lane that changed or went on the receiving side by themselves.
    pub drift: u64,
    /// Those of them because of which a version of the source is not there.
    pub kept_back: u64,
    /// Files that are being written.
    pub being_written: u64,
    /// Files whose removal waits for a yes.
    pub asking: u64,
    /// Files whose removal is not carried.
    pub kept: u64,
}

impl Plan {
    /// The plan of one step that a person asked for by name.
    pub(crate) fn of_one(step: Step, sides: SideNames) -> Plan {
        Plan {
            id: String::new(),
            sides,
            steps: vec![step],
            aside: Vec::new(),
            no_room: PerSide::default(),
            settled: 0,
            brake: Brake::default(),
            brake_verdict: BrakeVerdict::Open,
            unusable: Vec::new(),
            left_out: BTreeMap::new(),
            listed_whole: false,
            last_seen: None,
            lead: None,
            newly_listed: Vec::new(),
            nothing_open: true,
            seen_at: None,
            token: None,
        }
    }

    /// Adds it up.
    #[must_use]
    pub fn totals(&self) -> Totals {
        let mut totals = Totals {
            left_out: self.unusable.len() as u64
                + self.left_out.values().map(|tally| tally.files).sum::<u64>(),
            ..Totals::default()
        };
        for step in &self.steps {
            let add = |sum: &mut (u64, u64)| {
                sum.0 += 1;
                sum.1 = sum.1.saturating_add(step.bytes());
            };
            match step.decision {
                Decision::Carry { to: Side::Far, .. } | Decision::CarryBeside { to: Side::Far } => {
                    add(&mut totals.up)
                }
                Decision::Carry { to: Side::Near, .. }
                | Decision::CarryBeside { to: Side::Near }
                | Decision::Fetch => add(&mut totals.down),
                Decision::MakeStub { .. } => {
                    totals.stubs.0 += 1;
                    totals.stubs.1 += step.entry(Side::Far).map_or(0, |entry| entry.size);
                }
                Decision::Shed => {
                    totals.shed.0 += 1;
                    totals.shed.1 += step.entry(Side::Near).map_or(0, |entry| entry.size);
                }
                Decision::Compare => add(&mut totals.compare),
                Decision::MakeFolder { .. } => totals.folders += 1,
                Decision::Move { files, .. } => totals.moved += files,
                Decision::DropHere { .. } => {
                    totals.dropped.0 += 1;
                    totals.dropped.1 += step.entry(Side::Near).map_or(0, |entry| entry.size);
                }
                Decision::Remove { on, .. } if step.is_file(on) => match on {
                    Side::Near => totals.removed_near += 1,
                    Side::Far => totals.removed_far += 1,
                },
                Decision::Conflict => totals.conflicts += 1,
                Decision::Hold {
                    why: Unknown::BeingWritten,
                    ..
                } => totals.being_written += 1,
                // It comes by itself.
                Decision::Hold {
                    why: Unknown::Coming,
                    ..
                } => {}
                Decision::Hold { .. }
                | Decision::BelowConflict
                | Decision::Ruled(LeftOutBy::StandsHere(_)) => totals.stuck += 1,
                Decision::LeftOut { .. } => totals.left_out += 1,
                Decision::NotCarried { on } | Decision::OldStays { on } if step.is_file(on) => {
                    totals.left_out += 1;
                }
                Decision::Drift { on, keeps_back }
                    if step.is_file(on) || step.is_file(on.other()) =>
                {
                    totals.drift += 1;
                    totals.kept_back += u64::from(keeps_back);
                }
                Decision::AskRemoval { on } if step.is_file(on) => totals.asking += 1,
                Decision::KeepRemoved { on } if step.is_file(on) => totals.kept += 1,
                _ => {}
            }
        }
        totals
    }

    /// Whether a pass would change anything on either side, or has something to compare.
    #[must_use]
    pub fn has_work(&self) -> bool {
        self.steps.iter().any(|step| {
            step.decision.effects().changes.is_some() || step.decision == Decision::Compare
        })
    }

    /// Why the brake stops, in words: how many, of how many, where.
    #[must_use]
    pub fn brake_words(&self) -> String {
        let Brake {
            planned,
            last_day,
            files,
            released,
            ..
        } = self.brake;
        let totals = self.totals();
        let count = |toll: Toll| {
            let mut parts = Vec::new();
            for (removed, side) in [
                (totals.removed_near, Side::Near),
                (totals.removed_far, Side::Far),
            ] {
                if removed > 0 {
                    let at = self.sides.at(side);
                    parts.push(format!(
                        "remove {} {at}",
                        words::count(removed, "file", "files")
                    ));
                }
            }
            if toll.replaced > 0 {
                parts.push(format!(
                    "replace {}",
                    words::count(toll.replaced, "file", "files")
                ));
            }
            parts.join(" and ")
        };
        let of = words::grouped(files);
        let mut text = match self.brake_verdict {
            BrakeVerdict::Open => return String::new(),
            BrakeVerdict::Wiped(side) => {
                format!(
                    "nothing of the lane's {of} files is left {}; it would {}",
                    self.sides.at(side),
                    count(planned)
                )
            }
            BrakeVerdict::TooMuch => {
                format!("it would {}, of {of} files in the lane", count(planned))
            }
            BrakeVerdict::OtherNumber => format!(
                "it was released for {}, but it would {} now, {} in all",
                released.unwrap_or(0),
                count(planned),
                planned.total()
            ),
        };
        if last_day.total() > 0 {
            text.push_str(&format!(
                ", after {} in the last 24 hours",
                words::grouped(last_day.total())
            ));
        }
        let folders = self.folders_hit();
        if !folders.is_empty() {
            text.push_str(&format!("; most of them in {}", folders.join(", ")));
        }
        if let Some((at, since)) = self.where_it_happened() {
            text.push_str(&format!(". It happened {at} since the last pass, {since}"));
        }
        text
    }

    /// On which side people, or a program, did what the pass would carry on, and since when.
    pub(crate) fn where_it_happened(&self) -> Option<(String, String)> {
        let toll = |happened: Side| {
            let carried_on = self
                .steps
                .iter()
                .filter(|step| step.changes(happened.other()));
            carried_on.map(|step| takes(step).total()).sum::<u64>()
        };
        let sides = [Side::Near, Side::Far]
            .into_iter()
            .filter(|side| toll(*side) > 0)
            .map(|side| self.sides.at(side))
            .collect::<Vec<_>>();
        let since = self.last_seen?;
        Some((sides.join(" and "), in_words(since)))
    }

    /// The folders in which most is removed or replaced, at most three.
    fn folders_hit(&self) -> Vec<String> {
        let mut counts = std::collections::BTreeMap::<String, u64>::new();
        for step in self.steps.iter().filter(|step| takes(step).total() > 0) {
            let parent = step.path().parent().unwrap_or_else(RelPath::root);
            let folder = if parent.is_root() {
                "the lane's own folder".to_owned()
            } else {
                parent.to_string()
            };
            *counts.entry(folder).or_default() += 1;
        }
        let mut counts: Vec<(String, u64)> = counts.into_iter().collect();
        counts.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
        counts
            .into_iter()
            .take(3)
            .map(|(folder, count)| format!("{folder} ({})", words::grouped(count)))
            .collect()
    }
}

/// What a step counts for on the brake.
#[must_use]
pub fn takes(step: &Step) -> Toll {
    let effects = step.decision.effects();
    match (effects.changes, effects.takes_out) {
        (Some(on), Some(TakesOut::Removed)) => Toll {
            removed: u64::from(step.is_file(on)),
            replaced: 0,
        },
        (Some(_), Some(TakesOut::Replaced)) => Toll {
            removed: 0,
            replaced: 1,
        },
        (_, None) | (None, _) => Toll::default(),
    }
}

/// What the brake takes a step for: a stub that was removed counts twice, since people remove stubs to make room, and
/// there is no content here to come back from.
fn weighs(step: &Step) -> Toll {
    let toll = takes(step);
    let is_stub = step.seen.base.as_ref().is_some_and(Base::is_stub);
    match step.decision {
        Decision::Remove { on: Side::Far, .. } if is_stub => Toll {
            removed: 2 * toll.removed,
            ..toll
        },
        _ => toll,
    }
}

pub(crate) async fn make(pass: &Pass, seen: Seen, wish: &Wish) -> Result<Plan, Error> {
    let refine::Outcome {
        refined: Refined {
            steps,
            aside,
            no_room,
        },
        there_still,
    } = refine::refine(pass, seen.decided, wish).await?;
    refine::check_stubs(pass, &steps).await?;
    let whole = wish.scope.is_empty() && wish.contents.is_none();
    let lead = wish.terms.and_then(|terms| terms.lead);
    let mut planned = Toll::default();
    // Under a leader, what is still to be compared may well be replaced.
    let may_replace = |step: &Step| match (&step.decision, lead) {
        (Decision::Compare, Some(_)) => Toll {
            removed: 0,
            replaced: 1,
        },
        _ => weighs(step),
    };
    for toll in steps.iter().map(may_replace) {
        planned.removed += toll.removed;
        planned.replaced += toll.replaced;
    }
    let since = EditTime(pass.clock.now().0.saturating_sub(DAY));
    let last_day = pass
        .ledger
        .read(|connection| runs::toll_since(connection, pass.lane.row.key, since))?;
    let brake = Brake {
        files: seen.known,
        planned,
        last_day,
        left_near: seen.left_near + there_still.near,
        left_far: seen.left_far + there_still.far,
        limits: pass.lane.config.brake,
        released: wish.release_brake,
    };
    Ok(Plan {
        id: id(&pass.lane.config.id, &steps),
        sides: pass.lane.config.side_names(),
        settled: seen.settled,
        brake_verdict: brake.verdict(),
        brake,
        unusable: seen.unusable,
        left_out: seen.left_out,
        last_seen: pass.lane.row.seen_at,
        lead,
        listed_whole: seen.listed_whole && whole,
        newly_listed: seen.newly_listed,
        nothing_open: seen.nothing_open || wish.contents.is_some(),
        seen_at: whole.then_some(seen.began),
        token: seen.token.filter(|_| whole),
        steps,
        aside,
        no_room,
    })
}

/// Eight characters that stand for all a plan was made from.
fn id(lane: &str, steps: &[Step]) -> String {
    let mut hasher = blake3::Hasher::new();
    hasher.update(lane.as_bytes());
    for step in steps
        .iter()
        .filter(|step| step.decision.is_work() || step.decision == Decision::Conflict)
    {
        let stamp = |side| {
            step.entry(side)
                .map(|entry| entry.stamp.stored())
                .unwrap_or_default()
        };
        for part in [
            step.path().as_str(),
            &format!("{:?}", step.decision),
            &stamp(Side::Near),
            &stamp(Side::Far),
        ] {
            hasher.update(&(part.len() as u64).to_le_bytes());
            hasher.update(part.as_bytes());
        }
    }
    hasher.finalize().to_hex()[..8].to_owned()
}
