//! What a decision comes to once more is known than what both sides show.
//!
//! [`crate::reconcile`] and [`crate::moves`] look at nothing but the views of each path. What else has a say stands here,
//! once, in one order: where content is to lie, what became of a stub, what was moved to where the lane does not reach,
//! what a person asked for, sides that may only be read, names, and room. All of it is handed in as data, and what has to
//! be looked up for it is asked for by [`stub_question`]. A plan, a pass and a status go through the same function, and so
//! cannot say different things of one path.

use std::collections::{BTreeMap, BTreeSet};

use crate::moved_out;
use crate::{
    Base, Contents, Decision, Entry, Kind, PerSide, RelPath, Side, Step, Unknown, View,
    WantedContents, Wish, portable,
};

/// What is known beside what both sides show.
#[derive(Clone, Debug)]
pub struct Facts<'f> {
    /// Where the lane wants content to lie.
    pub contents: &'f Contents,
    /// Whether it carries only names that every system can hold.
    pub portable_names: bool,
    /// Whether nothing can be written on a side.
    pub read_only: PerSide<bool>,
    /// The bytes that are free on a side, where that is known beforehand.
    pub free: PerSide<Option<u64>>,
    /// What was found out of stubs, by the path of the step that hangs on it.
    pub stubs: BTreeMap<RelPath, StubFact>,
    /// Files that went on the far side, and where they are there now: in a folder that is not taken.
    pub moved_to: BTreeMap<RelPath, RelPath>,
}

impl<'f> Facts<'f> {
    /// Of a lane on which both sides can be written, and there is room: nothing else is known.
    #[must_use]
    pub fn of(contents: &'f Contents) -> Facts<'f> {
        Facts {
            contents,
            portable_names: false,
            read_only: PerSide::default(),
            free: PerSide::default(),
            stubs: BTreeMap::new(),
            moved_to: BTreeMap::new(),
        }
    }
}

/// What has to be known of a stub before a step can be refined.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StubQuestion {
    /// At which paths the ledger knows the stub that is here.
    WhoseIsIt,
    /// What became of the stub that was agreed on: [`StubFact::AtItsPath`], `Elsewhere` or `Gone`.
    WhereIsIt,
}

/// What was found out of a stub.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StubFact {
    /// The very file that was agreed on is at its path, be it that it has content by now.
    AtItsPath,
    /// It is not at its path, and a name is left of it somewhere.
    Elsewhere,
    /// No name is left of it.
    Gone,
    /// The stub that is here is known at no path of any lane.
    KnownNowhere,
    /// It is known at a path of this lane.
    OfThisLane,
    /// It is known at a path of another lane alone.
    OfAnotherLane,
}

/// What a plan's steps have become.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Refined {
    /// What is within the wish.
    pub steps: Vec<Step>,
    /// Where only content is to be fetched or shed: what stands otherwise within the wish, and is left as it is.
    pub aside: Vec<Step>,
    /// The bytes that were to come to a side, and those that it has free, where they are too few.
    pub no_room: PerSide<Option<(u64, u64)>>,
}

/// What has to be found out of a stub before this step can be refined; nearly always nothing.
#[must_use]
pub fn stub_question(step: &Step, wish: &Wish) -> Option<StubQuestion> {
    if may_be_made_anew(step) || is_strange(step) {
        return Some(StubQuestion::WhoseIsIt);
    }
    let asked = takes_what_it_stands_for(step) || may_be_written_into(step, wish);
    asked.then_some(StubQuestion::WhereIsIt)
}

/// What both sides agree on becomes a step where its content is to be elsewhere than it is. It asks for nothing that
/// would have to be found out, and so can be asked of every path as it goes by.
#[must_use]
pub fn of_agreed(mut step: Step, contents: &Contents, wish: &Wish) -> Step {
    let agreed = step.decision == Decision::Settled || step.is_restamp();
    let file = step
        .entry(Side::Near)
        .filter(|near| near.kind == Kind::File);
    let (true, Some(near)) = (agreed, file) else {
        return step;
    };
    let held = contents.held_by(step.path()).is_some();
    let asked = wish.contents.filter(|_| wish.means(step.path(), near));
    let decision = match asked {
        _ if near.is_stub() && (held || asked == Some(WantedContents::Here)) => Decision::Fetch,
        Some(WantedContents::Away) if !near.is_stub() && near.size > 0 && !held => Decision::Shed,
        Some(WantedContents::Here | WantedContents::Away) | None => return step,
    };
    step.decision = decision;
    step
}

/// Refines what was decided of all paths that are not settled.
#[must_use]
pub fn refine(steps: Vec<Step>, facts: &Facts<'_>, wish: &Wish) -> Refined {
    // What gets another name first is at two names until then: its content waits.
    let is_move = |step: &&Step| matches!(step.decision, Decision::Move { .. });
    let moved = steps.iter().filter(is_move);
    let moved: BTreeSet<RelPath> = moved.map(|step| step.path().clone()).collect();
    let mut steps: Vec<Step> = steps
        .into_iter()
        .map(|step| match is_within_any(step.path(), &moved) {
            true => step,
            false => of_agreed(step, facts.contents, wish),
        })
        .map(|step| of_written_into(step, facts, wish))
        .collect();
    moved_out::drop_here(&mut steps, &facts.moved_to);
    hold_for_stubs(&mut steps, facts, wish);
    let scope = Scope::of(wish);
    let steps = steps
        .into_iter()
        .map(|step| as_a_stub(step, facts.contents, wish))
        .filter(|step| scope.has(step))
        .map(|step| held_where_read_only(step, facts.read_only))
        .map(|step| asked_first(step, wish.removes_on))
        .map(|step| match facts.portable_names {
            true => held_for_its_name(step),
            false => step,
        });
    let (mut steps, aside): (Vec<Step>, Vec<Step>) =
        steps.partition(|step| is_asked_for(step, wish));
    let no_room = PerSide::of(|side| hold_for_room(&mut steps, side, facts.free[side]));
    Refined {
        steps,
        aside,
        no_room,
    }
}

fn of_a_stub(step: &Step) -> bool {
    step.seen.base.as_ref().is_some_and(Base::is_stub)
}

/// Whether a pass is to bring the content that the far side has at this path.
fn wants_here(step: &Step, wish: &Wish) -> bool {
    let is_meant = |far: &Entry| wish.means(step.path(), far);
    wish.contents == Some(WantedContents::Here) && step.entry(Side::Far).is_some_and(is_meant)
}

/// Whether somebody may have given a stub rights and written into it, and its content is asked for.
fn may_be_written_into(step: &Step, wish: &Wish) -> bool {
    let not_a_stub = |near: &Entry| !near.is_stub();
    of_a_stub(step)
        && step.is_file(Side::Near)
        && step.entry(Side::Near).is_some_and(not_a_stub)
        && step.is_file(Side::Far)
        && wants_here(step, wish)
}

/// A stub that somebody wrote into is the same file still, and not what was agreed on: what is asked for takes its place.
fn of_written_into(mut step: Step, facts: &Facts<'_>, wish: &Wish) -> Step {
    let same_file = facts.stubs.get(step.path()) == Some(&StubFact::AtItsPath);
    if same_file && may_be_written_into(&step, wish) {
        step.decision = Decision::Carry {
            to: Side::Near,
            replaces: true,
        };
    }
    step
}

/// Whether a stub of another file shows just what the agreed one showed: the folder came to another disk, and what
/// happened there was cut off.
fn may_be_made_anew(step: &Step) -> bool {
    let is_strange = Decision::Hold {
        on: Side::Near,
        why: Unknown::StrangeStub,
    };
    let (Some(base), Some(near)) = (&step.seen.base, step.entry(Side::Near)) else {
        return false;
    };
    step.decision == is_strange
        && base.stamps.near.shows_the_same(&near.stamp)
        && step.is_file(Side::Far)
}

/// Whether there is a stub here that nothing was agreed on at this path, and that is to make way.
fn is_strange(step: &Step) -> bool {
    let near = step.entry(Side::Near);
    step.changes(Side::Near) && step.seen.base.is_none() && near.is_some_and(Entry::is_stub)
}

/// Whether what is there goes, or gives way to something else, because the stub is not at its path any more.
fn takes_what_it_stands_for(step: &Step) -> bool {
    let takes = match step.decision {
        Decision::AskRemoval { on } | Decision::KeepRemoved { on } => on == Side::Far,
        _ => step.changes(Side::Far),
    };
    takes && of_a_stub(step)
}

/// What was only moved away, or has another name, is not taken for removed; and a stub that was moved to where the far side
/// has another file stays what it is.
fn hold_for_stubs(steps: &mut [Step], facts: &Facts<'_>, wish: &Wish) {
    let mut in_its_place = Vec::new();
    for step in steps.iter_mut() {
        let Some(fact) = facts.stubs.get(step.path()) else {
            continue;
        };
        if *fact == StubFact::KnownNowhere && may_be_made_anew(step) {
            step.decision = Decision::Carry {
                to: Side::Near,
                replaces: true,
            };
        } else if *fact == StubFact::OfThisLane && is_strange(step) {
            step.decision = Decision::Hold {
                on: Side::Near,
                why: Unknown::StrangeStub,
            };
        } else if *fact == StubFact::Elsewhere && takes_what_it_stands_for(step) {
            if wants_here(step, wish) && step.seen.views.near == View::Absent {
                // Its content is wanted at its own place, wherever the stub is.
                step.decision = Decision::Carry {
                    to: Side::Near,
                    replaces: false,
                };
                continue;
            }
            if step.seen.views.near.is_folder() {
                in_its_place.push(step.path().clone());
            }
            step.decision = Decision::Hold {
                on: Side::Near,
                why: Unknown::StubElsewhere,
            };
        }
    }
    // What lies in a folder has no place there, as long as the file is there that the folder is to take the place of.
    let below = |step: &&mut Step| {
        let path = step.path();
        let is_below = |folder: &RelPath| path.is_within(folder) && path != folder;
        step.changes(Side::Far) && in_its_place.iter().any(is_below)
    };
    for step in steps.iter_mut().filter(below) {
        step.decision = Decision::BelowConflict;
    }
}

/// A transfer of which only a stub is wanted.
fn as_a_stub(mut step: Step, contents: &Contents, wish: &Wish) -> Step {
    if let Decision::Carry {
        to: Side::Near,
        replaces,
    } = step.decision
        && !wants_here(&step, wish)
        && step.entry(Side::Far).is_some_and(|far| {
            let near = step.entry(Side::Near);
            contents.comes_as_stub(step.path(), near, far)
        })
    {
        step.decision = Decision::MakeStub { replaces };
    }
    step
}

/// Whether a path is one of these, or lies in one.
fn is_within_any(path: &RelPath, these: &BTreeSet<RelPath>) -> bool {
    let mut above = std::iter::successors(Some(path.clone()), RelPath::parent);
    !these.is_empty() && above.any(|path| these.contains(&path))
}

/// The paths that a wish is about.
struct Scope(BTreeSet<RelPath>);

impl Scope {
    fn of(wish: &Wish) -> Scope {
        Scope(wish.paths().into_iter().collect())
    }

    /// Whether a step is about them. A folder above them that has to be made is.
    fn has(&self, step: &Step) -> bool {
        if is_within_any(step.path(), &self.0) {
            return true;
        }
        let makes = matches!(
            step.decision,
            Decision::MakeFolder { .. } | Decision::Record
        );
        let below = self.0.range(step.path().clone()..).next();
        makes && below.is_some_and(|path| path.is_within(step.path()))
    }
}

/// On a side that may only be read, what would be written there waits, and says why.
fn held_where_read_only(mut step: Step, read_only: PerSide<bool>) -> Step {
    if let Some(on) = step.decision.effects().changes
        && read_only[on]
    {
        step.decision = Decision::Hold {
            on,
            why: Unknown::ReadOnly,
        };
    }
    step
}

/// A yes to a removal on one side is none to a removal on the other, should things have turned round meanwhile.
fn asked_first(mut step: Step, removes_on: Option<Side>) -> Step {
    if let (
        Some(side),
        Decision::Remove {
            on,
            makes_way: false,
        },
    ) = (removes_on, &step.decision)
        && *on != side
    {
        step.decision = Decision::AskRemoval { on: *on };
    }
    step
}

/// What would be new there waits, where it or a folder around it has a name that not every system can hold.
fn held_for_its_name(mut step: Step) -> Step {
    let is_new = step.entry(Side::Far).is_none();
    let odd = step
        .path()
        .parts()
        .find_map(|part| Some((portable::trouble(part)?, portable::suggestion(part))));
    if let (true, Some((why, instead))) = (is_new && step.changes(Side::Far), odd) {
        step.decision = Decision::Hold {
            on: Side::Far,
            why: Unknown::NotPortable(why, instead),
        };
    }
    step
}

/// Whether a step is what a pass is for that only fetches or sheds; of any other pass, every step.
fn is_asked_for(step: &Step, wish: &Wish) -> bool {
    match wish.contents {
        None => true,
        Some(WantedContents::Away) => step.decision == Decision::Shed,
        Some(WantedContents::Here) if !wants_here(step, wish) => false,
        Some(WantedContents::Here) => match step.decision {
            Decision::Fetch => true,
            // There is a newer version there than the stub was made of; or the stub was moved away.
            Decision::Carry { to: Side::Near, .. } => of_a_stub(step),
            _ => false,
        },
    }
}

/// What does not fit on a side is not begun; what brings nothing there is carried all the same. The answer says how much was
/// to come, and how much is free.
fn hold_for_room(steps: &mut [Step], side: Side, free: Option<u64>) -> Option<(u64, u64)> {
    let needed = steps
        .iter()
        .map(|step| step.brings(side))
        .fold(0, u64::saturating_add);
    let free = free.filter(|free| needed > *free)?;
    for step in steps.iter_mut().filter(|step| step.brings(side) > 0) {
        step.decision = Decision::Hold {
            on: side,
            why: Unknown::NoRoom(needed, free),
        };
    }
    Some((needed, free))
}
