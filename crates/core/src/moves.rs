//! Moves and renames: what is gone at one name and came up at another is carried as a move, not as a removal and a
//! transfer.
//!
//! Nobody tells a pass that something was moved. It sees a file missing here and a new one there; whoever can look
//! into files and ask servers finds out which two are one ([`Found`]), and this module says what may be made of it. A
//! move is nothing but a change of names in what is known: what was agreed on under the old name, and what the
//! receiving side has there, are looked at under the new name, and everything is decided anew. So an edit on top of a
//! move, a new member of a moved folder, a file removed from it need no rules of their own.
//!
//! A move removes nothing and replaces nothing, so the brake does not count it, and a lane that keeps what was removed
//! carries it too. Where something is in doubt, no move is made of it: the removal and the transfer that are left are
//! slower, and as safe.

use std::collections::{BTreeMap, BTreeSet};

use crate::decide::Change;
use crate::{
    Decision, Digest, Kind, Listing, Reconciler, RelPath, Side, Step, Triple, Unknown, View,
};

/// A file that is at another name of the same side now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// The side on which somebody moved it.
    pub on: Side,
    /// Where it was when both sides agreed on it.
    pub from: RelPath,
    /// Where it is now.
    pub to: RelPath,
    /// Its content, where it was read.
    pub content: Option<Digest>,
}

/// Whether the file that was agreed on at this path may lie under another name on `on` now.
#[must_use]
pub fn may_have_left(step: &Step, on: Side) -> bool {
    let file = |side: Side| {
        step.entry(side)
            .is_some_and(|entry| entry.kind == Kind::File)
    };
    let agreed = step
        .seen
        .base
        .as_ref()
        .is_some_and(|base| base.kind == Kind::File && base.away.is_none());
    if !agreed || !file(on.other()) {
        return false;
    }
    match (step.view(on), &step.decision) {
        (View::Absent, decision) => may_go_along(decision, on),
        // Something else is here already: only of use where that was moved here itself.
        (
            View::Present(_),
            Decision::Carry {
                to, replaces: true, ..
            },
        ) => *to == on.other() && *step.change(on) == Change::Changed && file(on),
        _ => false,
    }
}

/// Whether what is at this path on `on` may be a file that was moved there.
#[must_use]
pub fn may_have_come(step: &Step, on: Side) -> bool {
    let file = step.entry(on).is_some_and(|entry| entry.kind == Kind::File);
    let carried = match &step.decision {
        Decision::Carry { to, .. } => *to == on.other(),
        // Of a stub that was moved here nothing but its name is to be carried.
        Decision::Hold { why, .. } => *why == Unknown::StrangeStub,
        _ => false,
    };
    file && carried && matches!(step.change(on), Change::New | Change::Changed)
}

/// What may be decided of a path below a folder that goes to another name.
fn may_go_along(decision: &Decision, moved_on: Side) -> bool {
    let receiving = moved_on.other();
    match decision {
        Decision::Remove { on, makes_way } => *on == receiving && !makes_way,
        Decision::KeepRemoved { on } | Decision::AskRemoval { on } => *on == receiving,
        // Edited there, or new there: it follows, and comes back under the new name.
        Decision::Carry { to, replaces } => *to == moved_on && !replaces,
        Decision::MakeFolder { on } => *on == moved_on,
        Decision::Forget => true,
        Decision::KeptAway { away } => *away == moved_on,
        _ => false,
    }
}

/// Turns removals and transfers that are moves into moves. `steps` are all of a lane's that are not settled, and `aside`
/// those whose removal is remembered.
#[must_use]
pub fn rename(steps: Vec<Step>, aside: Vec<Step>, found: Vec<Found>) -> Renamed {
    let mut board = Board::new(steps, aside);
    let mut names = Names::of(found);
    for on in [Side::Near, Side::Far] {
        board.move_folders(on, &mut names);
        board.move_files(on, &mut names);
    }
    Renamed(board)
}

/// What is known of all paths, under the names that they have once the moves are carried.
pub struct Renamed(Board);

impl Renamed {
    /// Versions that are looked at beside what was agreed on under an older name, and that nobody has read, with the side
    /// that shows them under the new name.
    pub fn unread(&mut self) -> impl Iterator<Item = (Side, &mut Triple)> {
        let Board { squares, came, .. } = &mut self.0;
        squares.iter_mut().filter_map(|(path, square)| {
            let on = *came.get(path)?;
            let entry = view(&square.triple, on).entry();
            let is_read = entry.is_some_and(|entry| entry.content.is_some());
            (!is_read).then_some((on, &mut square.triple))
        })
    }

    /// Decides everything anew. Moves come first in the answer, in the order in which they are possible; what is settled
    /// once they are carried is left out of it.
    #[must_use]
    pub fn decide(self, reconciler: Reconciler) -> Vec<Step> {
        self.0.into_steps(reconciler)
    }
}

/// Which names belong together, a side; each name once.
struct Names {
    to: BTreeMap<(Side, RelPath), (RelPath, Option<Digest>)>,
}

impl Names {
    fn of(found: Vec<Found>) -> Names {
        let mut ends = BTreeMap::<(Side, bool, RelPath), u32>::new();
        for one in &found {
            *ends.entry((one.on, true, one.from.clone())).or_default() += 1;
            *ends.entry((one.on, false, one.to.clone())).or_default() += 1;
        }
        let once =
            |on: Side, from: bool, path: &RelPath| ends.get(&(on, from, path.clone())) == Some(&1);
        let to = found
            .into_iter()
            .filter(|one| {
                one.from != one.to && once(one.on, true, &one.from) && once(one.on, false, &one.to)
            })
            .map(|one| ((one.on, one.from), (one.to, one.content)))
            .collect();
        Names { to }
    }

    fn on(&self, on: Side) -> Vec<(RelPath, RelPath)> {
        let of_side = self.to.iter().filter(|((side, _), _)| *side == on);
        of_side
            .map(|((_, from), (to, _))| (from.clone(), to.clone()))
            .collect()
    }

    /// A folder went to another name: what was to come from in it comes from there now, where it has not arrived.
    fn folder_moved(&mut self, on: Side, from: &RelPath, to: &RelPath) {
        for (old, new) in self.on(on) {
            let Some(now) = old.rebased(from, to) else {
                continue;
            };
            if let Some(target) = self.to.remove(&(on, old))
                && now != new
            {
                self.to.insert((on, now), target);
            }
        }
    }
}

struct Square {
    triple: Triple,
    decisions: Vec<Decision>,
}

struct Board {
    squares: BTreeMap<RelPath, Square>,
    moves: Vec<Step>,
    /// What was agreed on under an older name, and the side on which somebody moved it.
    came: BTreeMap<RelPath, Side>,
    /// Pairs of folders that were looked at and are no move.
    refused: BTreeSet<(RelPath, RelPath)>,
}

impl Board {
    fn new(steps: Vec<Step>, aside: Vec<Step>) -> Board {
        let mut squares = BTreeMap::<RelPath, Square>::new();
        for step in steps.into_iter().chain(aside) {
            let path = step.path().clone();
            let square = squares.entry(path).or_insert(Square {
                triple: step.seen,
                decisions: Vec::new(),
            });
            square.decisions.push(step.decision);
        }
        Board {
            squares,
            moves: Vec::new(),
            came: BTreeMap::new(),
            refused: BTreeSet::new(),
        }
    }

    fn within<'b>(
        &'b self,
        folder: &'b RelPath,
    ) -> impl Iterator<Item = (&'b RelPath, &'b Square)> {
        self.squares
            .range(folder.clone()..)
            .take_while(move |(path, _)| path.is_within(folder))
    }

    /// Whole folders first, the outermost of each: one move for all that lies in it.
    fn move_folders(&mut self, on: Side, names: &mut Names) {
        for (old, _) in names.on(on) {
            // An earlier move may have taken it along.
            let old = self.moved_along(on, &old);
            let Some((to, _)) = names.to.get(&(on, old.clone())) else {
                continue;
            };
            for (from, to) in folders_above(&old, to) {
                if self.refused.contains(&(from.clone(), to.clone())) {
                    continue;
                }
                let Some(files) = self.may_move_folder(on, &from, &to, names) else {
                    self.refused.insert((from, to));
                    continue;
                };
                self.move_folder(on, &from, &to, files, names);
                names.folder_moved(on, &from, &to);
                break;
            }
        }
    }

    fn moved_along(&self, on: Side, path: &RelPath) -> RelPath {
        let mut now = path.clone();
        for step in &self.moves {
            if let Decision::Move {
                on: there, from, ..
            } = &step.decision
                && *there == on.other()
                && let Some(rebased) = now.rebased(from, step.path())
            {
                now = rebased;
            }
        }
        now
    }

    /// Whether all of a folder can go to another name at once; how many files that are.
    fn may_move_folder(
        &self,
        on: Side,
        from: &RelPath,
        to: &RelPath,
        names: &Names,
    ) -> Option<u64> {
        let there = on.other();
        let (old, new) = (self.squares.get(from)?, self.squares.get(to)?);
        let was_a_folder = old
            .triple
            .base
            .as_ref()
            .is_some_and(|base| base.kind == Kind::Folder && base.away.is_none());
        let fits = was_a_folder
            && *view(&old.triple, on) == View::Absent
            && view(&old.triple, there).is_folder()
            && new.triple.base.is_none()
            && view(&new.triple, on).is_folder()
            && *view(&new.triple, there) == View::Absent
            && new.decisions == [Decision::MakeFolder { on: there }];
        if !fits || !self.has_a_place(on, to) {
            return None;
        }
        let nothing_there = self
            .within(to)
            .all(|(_, square)| square.triple.base.is_none());
        if !nothing_there {
            return None;
        }
        let (mut known, mut same, mut files) = (0_u64, 0_u64, 0_u64);
        for (path, square) in self.within(from) {
            let listed = [Side::Near, Side::Far].into_iter().all(|side| {
                view(&square.triple, side)
                    .entry()
                    .is_none_or(|entry| entry.listing == Listing::Complete)
            });
            let goes = |decision| may_go_along(decision, on);
            let target = path.rebased(from, to)?;
            if !listed || !square.decisions.iter().all(goes) || !self.is_known_at(on, &target, to) {
                return None;
            }
            let Some(entry) = view(&square.triple, there).entry() else {
                continue;
            };
            if entry.kind != Kind::File {
                continue;
            }
            files += 1;
            if square.triple.base.is_some() {
                known += 1;
                let found = names.to.get(&(on, path.clone()));
                same += u64::from(found.is_some_and(|(to, _)| *to == target));
            }
        }
        // A folder of which most went elsewhere was not moved; a few of its files were.
        (same > 0 && 2 * same >= known).then_some(files)
    }

    /// Whether it is known what is at a path in a folder that came: seen, or missing where its folder was listed whole.
    fn is_known_at(&self, on: Side, path: &RelPath, in_folder: &RelPath) -> bool {
        let seen = |path: &RelPath| {
            let square = self.squares.get(path)?;
            Some(view(&square.triple, on)).filter(|view| **view != View::Absent)
        };
        let nearest = std::iter::successors(Some(path.clone()), RelPath::parent)
            .take_while(|above| above.is_within(in_folder))
            .find_map(|above| Some((seen(&above)?, above == *path)));
        match nearest {
            Some((View::Present(entry), true)) => entry.listing == Listing::Complete,
            // Behind a link, or in a folder that was listed in part, missing is not gone.
            Some((View::Present(entry), false)) => {
                entry.listing == Listing::Complete && !matches!(entry.kind, Kind::Odd(_))
            }
            _ => false,
        }
    }

    /// Whether the folders around a new name are there on the receiving side, or new and about to be made. One that went
    /// there comes back only for what is carried into it, and a move carries nothing. Where something else has the name
    /// there, or may have it, none is made.
    fn has_a_place(&self, on: Side, to: &RelPath) -> bool {
        std::iter::successors(to.parent(), RelPath::parent).all(|folder| {
            self.squares.get(&folder).is_none_or(|square| {
                let there = view(&square.triple, on.other());
                let is_new = square.triple.base.is_none() && *there == View::Absent;
                there.is_folder() || (is_new && view(&square.triple, on).is_folder())
            })
        })
    }

    fn move_folder(&mut self, on: Side, from: &RelPath, to: &RelPath, files: u64, names: &Names) {
        let there = on.other();
        let members: Vec<RelPath> = self.within(from).map(|(path, _)| path.clone()).collect();
        for path in members {
            let gone_on_both = self
                .squares
                .get(&path)
                .is_some_and(|square| *view(&square.triple, there) == View::Absent);
            let (false, Some(now)) = (gone_on_both, path.rebased(from, to)) else {
                continue;
            };
            let Some(old) = self.squares.remove(&path) else {
                continue;
            };
            // On the other side it has the older name still, where it cannot be read under the new one.
            self.came.remove(&path);
            match self.squares.get_mut(&now) {
                Some(square) => {
                    *view_mut(&mut square.triple, there) = view(&old.triple, there).clone();
                    square.triple.base = old.triple.base;
                    self.came.insert(now.clone(), on);
                    if let Some((arrived, content)) = names.to.get(&(on, path))
                        && *arrived == now
                        && let View::Present(entry) = view_mut(&mut square.triple, on)
                    {
                        entry.content = entry.content.or(*content);
                    }
                    // It is where it belongs; what becomes of it is decided anew.
                    square.decisions = Vec::new();
                }
                None => {
                    let triple = Triple {
                        path: now.clone(),
                        ..old.triple
                    };
                    let decisions = old.decisions;
                    self.squares.insert(now, Square { triple, decisions });
                }
            }
        }
        self.note(on, from, to, files);
    }

    fn note(&mut self, on: Side, from: &RelPath, to: &RelPath, files: u64) {
        let Some(square) = self.squares.get(to) else {
            return;
        };
        let decision = Decision::Move {
            on: on.other(),
            from: from.clone(),
            files,
        };
        self.moves.push(Step::of(square.triple.clone(), decision));
    }

    fn step_at(&self, path: &RelPath) -> Option<Step> {
        let square = self.squares.get(path)?;
        let [decision] = &square.decisions[..] else {
            return None;
        };
        Some(Step::of(square.triple.clone(), decision.clone()))
    }

    /// Single files: each to a name that is free, or that another one leaves.
    fn move_files(&mut self, on: Side, names: &mut Names) {
        let mut pairs: BTreeMap<RelPath, RelPath> = names.on(on).into_iter().collect();
        pairs.retain(|from, to| {
            let left = self.step_at(from);
            let came = self.step_at(to);
            self.has_a_place(on, to)
                && left.is_some_and(|step| may_have_left(&step, on))
                && came.is_some_and(|step| may_have_come(&step, on))
        });
        loop {
            let targets: BTreeSet<RelPath> = pairs.values().cloned().collect();
            let before = pairs.len();
            let sources: BTreeSet<RelPath> = pairs.keys().cloned().collect();
            pairs.retain(|from, to| {
                let is_free = self.squares.get(to).is_some_and(|square| {
                    square.triple.base.is_none()
                        && *view(&square.triple, on.other()) == View::Absent
                });
                // A new file under the old name: an editor that keeps the older one. Nobody moved anything.
                let is_left = self
                    .squares
                    .get(from)
                    .is_some_and(|square| *view(&square.triple, on) == View::Absent);
                (is_free || sources.contains(to)) && (is_left || targets.contains(from))
            });
            if pairs.len() == before {
                break;
            }
        }
        self.shift_files(on, &pairs, names);
        for (from, to) in in_order(pairs) {
            self.note(on, &from, &to, 1);
        }
    }

    /// All at once, so that files may take each other's names.
    fn shift_files(&mut self, on: Side, pairs: &BTreeMap<RelPath, RelPath>, names: &Names) {
        let there = on.other();
        let mut lifted = Vec::new();
        for (from, to) in pairs {
            let Some(square) = self.squares.get_mut(from) else {
                continue;
            };
            let base = square.triple.base.take();
            let seen = std::mem::replace(view_mut(&mut square.triple, there), View::Absent);
            let content = names
                .to
                .get(&(on, from.clone()))
                .and_then(|(_, content)| *content);
            lifted.push((to, base, seen, content));
        }
        for (to, base, seen, content) in lifted {
            let Some(square) = self.squares.get_mut(to) else {
                continue;
            };
            square.triple.base = base;
            self.came.insert(to.clone(), on);
            *view_mut(&mut square.triple, there) = seen;
            if let View::Present(entry) = view_mut(&mut square.triple, on) {
                entry.content = entry.content.or(content);
            }
        }
    }

    fn into_steps(self, mut reconciler: Reconciler) -> Vec<Step> {
        let moved: BTreeSet<RelPath> = self.moves.iter().map(|step| step.path().clone()).collect();
        let mut steps = self.moves;
        let mut sink = |step: Step| {
            let told = matches!(step.decision, Decision::Settled | Decision::KeptAway { .. });
            // The move itself records what both sides hold then.
            let by_the_move = step.decision == Decision::Record && moved.contains(step.path());
            if !told && !by_the_move {
                steps.push(step);
            }
        };
        for (_, square) in self.squares {
            reconciler.push(square.triple, &mut sink);
        }
        reconciler.finish(&mut sink);
        steps
    }
}

fn view(triple: &Triple, side: Side) -> &View {
    &triple.views[side]
}

fn view_mut(triple: &mut Triple, side: Side) -> &mut View {
    &mut triple.views[side]
}

/// How many files the steps move that somebody moved on a side.
#[must_use]
pub fn moved_on(steps: &[Step], side: Side) -> u64 {
    let files = |step: &Step| match step.decision {
        Decision::Move { on, files, .. } if on == side.other() => Some(files),
        _ => None,
    };
    steps.iter().filter_map(files).sum()
}

/// The moves among the steps, each after what it needs: the folders that its new name lies in. What is forgotten comes
/// before all of them, so that nothing is taken along that nobody has any more. The rest may come in any order after.
#[must_use]
pub fn with_what_they_need(steps: &[Step]) -> Vec<&Step> {
    let is_move = |step: &&Step| matches!(step.decision, Decision::Move { .. });
    let mut structure = BTreeMap::<&RelPath, Vec<&Step>>::new();
    let mut order = Vec::new();
    if !steps.iter().any(|step| is_move(&step)) {
        return order;
    }
    for step in steps {
        match step.decision {
            Decision::Forget => order.push(step),
            Decision::MakeFolder { .. }
            | Decision::Remove {
                makes_way: true, ..
            } => structure.entry(step.path()).or_default().push(step),
            _ => {}
        }
    }
    for step in steps.iter().filter(is_move) {
        let mut above: Vec<RelPath> =
            std::iter::successors(step.path().parent(), RelPath::parent).collect();
        above.reverse();
        for folder in &above {
            order.extend(structure.remove(folder).into_iter().flatten());
        }
        order.push(step);
    }
    order
}

/// The pairs of folders that would explain why a file went from one name to the other, the outermost first.
fn folders_above(from: &RelPath, to: &RelPath) -> Vec<(RelPath, RelPath)> {
    let mut pairs = Vec::new();
    let (mut old, mut new) = (from.clone(), to.clone());
    while old.name() == new.name() {
        let (Some(above_old), Some(above_new)) = (old.parent(), new.parent()) else {
            break;
        };
        if above_old.is_root() || above_new.is_root() || above_old == above_new {
            break;
        }
        pairs.push((above_old.clone(), above_new.clone()));
        (old, new) = (above_old, above_new);
    }
    pairs.reverse();
    pairs
}

/// An order in which each finds its name left by the one before; where they go round in a circle, any.
fn in_order(mut pairs: BTreeMap<RelPath, RelPath>) -> Vec<(RelPath, RelPath)> {
    let mut ordered = Vec::new();
    while !pairs.is_empty() {
        let free: Vec<RelPath> = pairs
            .iter()
            .filter(|(_, to)| !pairs.contains_key(*to))
            .map(|(from, _)| from.clone())
            .collect();
        if free.is_empty() {
            ordered.extend(pairs);
            break;
        }
        for from in free {
            if let Some(to) = pairs.remove(&from) {
                ordered.push((from, to));
            }
        }
    }
    ordered
}
