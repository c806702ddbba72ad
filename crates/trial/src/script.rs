//! What people do in a world, and when passes run: a list of acts that is made from a number, and can be made smaller.

use std::fmt;

use bytes::Bytes;
use katabatic_core::{Direction, Drift, RelPath, Removals, Terms, Updates};

use crate::mischief::Nature;
use crate::world::{At, Node, SECOND, World};

/// Something that a person does on one side.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Edit {
    /// Writes a new version, in place or as a new file that takes the name.
    Write {
        /// Where.
        path: RelPath,
        /// Whether the file stays the same one.
        in_place: bool,
        /// Whether it gets another length than most.
        longer: bool,
    },
    /// Copies some file there, so that there are equal contents.
    Copy(RelPath, RelPath),
    /// Gives another name, taking away what has it.
    Rename(RelPath, RelPath),
    /// Removes a file or a whole folder.
    Remove(RelPath),
    /// Makes a folder.
    MakeFolder(RelPath),
    /// Puts another version in the place of the next file from here and keeps its time; where that leaves the tag as it is.
    Disguise(RelPath),
}

/// How often things go wrong in a pass, in thousandths of a step: faults, deaths, strangers.
pub type Odds = (u32, u32, u32);

/// One act.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Act {
    /// Somebody changes something.
    Edit(At, Edit),
    /// A computer runs a pass.
    Pass {
        /// Which.
        computer: usize,
        /// What goes wrong in it is made from this.
        seed: u64,
        /// How often.
        odds: Odds,
    },
    /// Time passes, in seconds; or a clock is set back.
    Wait(i64),
    /// A program that kept a file open writes into it, wherever a pass has put it meanwhile.
    LateWrite(usize),
}

/// A whole world.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Script {
    /// What it was made from.
    pub seed: u64,
    /// How many computers there are.
    pub computers: usize,
    /// How the cloud is.
    pub nature: Nature,
    /// The terms of all lanes.
    pub terms: Terms,
    /// Names that a rule of all lanes leaves out.
    pub leave_out: Vec<&'static str>,
    /// Folders that no lane takes.
    pub skip: Vec<&'static str>,
    /// How many of a thousand requests that change the cloud get no answer and are done in a while.
    pub late: u32,
    /// What happens.
    pub acts: Vec<Act>,
}

const NAMES: [&str; 6] = ["a", "b", "c d", ".dot", "A", "b~"];

fn some_path(dice: &mut fastrand::Rng) -> RelPath {
    let depth = [1, 1, 2, 2, 3][dice.usize(0..5)];
    let parts: Vec<&str> = (0..depth)
        .map(|_| NAMES[dice.usize(0..NAMES.len())])
        .collect();
    RelPath::parse(&parts.join("/")).unwrap_or_else(|_| RelPath::root())
}

pub(crate) fn some_edit(dice: &mut fastrand::Rng, about: Option<&RelPath>) -> Edit {
    let mut path = || match about {
        Some(path) if !path.is_root() && dice.u32(0..10) < 6 => path.clone(),
        _ => some_path(dice),
    };
    let (one, other) = (path(), path());
    match dice.u32(0..20) {
        0..8 => Edit::Write {
            path: one,
            in_place: dice.bool(),
            longer: dice.u32(0..3) == 0,
        },
        8..10 => Edit::Copy(one, other),
        10..14 => Edit::Rename(one, other),
        14..17 => Edit::Remove(one),
        17 => Edit::Disguise(one),
        _ => Edit::MakeFolder(one),
    }
}

/// Somebody changes something on a side at the very moment a pass does, most likely at the same path.
pub fn stranger(world: &mut World, at: At, about: Option<&RelPath>) {
    let edit = some_edit(world.mischief.dice(at == At::Cloud), about);
    apply(world, at, &edit);
}

impl fmt::Display for Script {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        writeln!(
            out,
            "seed {}, {} computers, {:?} cloud, {:?}, left out {:?}, skipped {:?}, late {}",
            self.seed,
            self.computers,
            self.nature,
            self.terms,
            self.leave_out,
            self.skip,
            self.late
        )?;
        for (number, act) in self.acts.iter().enumerate() {
            writeln!(out, "  {number}: {act:?}")?;
        }
        Ok(())
    }
}

impl Script {
    /// The world that is made from a number.
    #[must_use]
    pub fn from_seed(seed: u64) -> Script {
        let mut dice = fastrand::Rng::with_seed(seed);
        let computers = if dice.u32(0..10) < 7 { 1 } else { 2 };
        let nature = [
            Nature::Good,
            Nature::TellsChanges,
            Nature::TellsChanges,
            Nature::Coarse,
            Nature::HidesDots,
            Nature::ClockTags,
            Nature::PlacesOver,
        ][dice.usize(0..7)];
        let terms = some_terms(&mut dice);
        let leave_out = match dice.u32(0..6) {
            0 => vec![NAMES[5]],
            _ => Vec::new(),
        };
        let skip = match dice.u32(0..6) {
            0 => vec![NAMES[2]],
            _ => Vec::new(),
        };
        // Two that both put right what the other did there would go on for ever, as they were told to.
        let computers = match terms.direction {
            Direction::Up => 1,
            _ => computers,
        };
        let (faults, deaths, strangers) = (dice.u32(0..40), dice.u32(0..20), dice.u32(0..60));
        // Some worlds have one kind of trouble only, so that it is not drowned by the others.
        let odds = match dice.u32(0..6) {
            0 => (faults, 0, 0),
            1 => (0, deaths, 0),
            2 => (0, 0, strangers),
            3 => (0, 0, 0),
            _ => (faults, deaths, strangers),
        };
        let late = match (nature, dice.u32(0..4)) {
            (Nature::PlacesOver, _) | (_, 0) => dice.u32(0..250),
            _ => 0,
        };
        // Where a name is guarded by nothing, who writes in the same instant is written over.
        let (computers, odds) = match nature {
            Nature::PlacesOver => (1, (odds.0, odds.1, 0)),
            _ => (computers, odds),
        };
        let mut acts = Vec::new();
        for _ in 0..dice.usize(6..40) {
            let at = match dice.usize(0..=computers) {
                0 => At::Cloud,
                number => At::Disk(number - 1),
            };
            acts.push(match dice.u32(0..20) {
                0..12 => {
                    // Where a tag hides versions, it is to be seen often what that does.
                    let hides = nature == Nature::ClockTags && at == At::Cloud;
                    let edit = match hides && dice.u32(0..3) == 0 {
                        true => Edit::Disguise(some_path(&mut dice)),
                        false => some_edit(&mut dice, None),
                    };
                    Act::Edit(at, edit)
                }
                12..17 => Act::Pass {
                    computer: dice.usize(0..computers),
                    seed: dice.u64(..),
                    odds,
                },
                17 => Act::LateWrite(dice.usize(0..computers)),
                _ => Act::Wait([1, 3, 60, 90_000, -3_600][dice.usize(0..5)]),
            });
        }
        Script {
            seed,
            computers,
            nature,
            terms,
            leave_out,
            skip,
            late,
            acts,
        }
    }

    /// Whether a path may well be left out.
    #[must_use]
    pub fn may_leave_out(&self, path: &RelPath) -> bool {
        let skipped = path
            .parts()
            .next()
            .is_some_and(|top| self.skip.contains(&top));
        skipped || path.parts().any(|part| self.leave_out.contains(&part))
    }
}

fn some_terms(dice: &mut fastrand::Rng) -> Terms {
    if dice.u32(0..10) < 7 {
        return Terms::default();
    }
    let direction = [Direction::Up, Direction::Down][dice.usize(0..2)];
    Terms {
        direction,
        removals: Removals::ALL[dice.usize(0..3)],
        drift: Drift::ALL[dice.usize(0..2)],
        updates: Updates::ALL[dice.usize(0..3)],
        lead: None,
    }
}

/// What a new version holds. A longer one is a large file to the engine; edited in place, it keeps most of its blocks.
fn content(world: &mut World, longer: bool, edited: Option<&Bytes>) -> Bytes {
    let number = world.number();
    let short = format!("version {number:08}");
    if !longer {
        return Bytes::from(short);
    }
    // As in a real file, what two lines of versions have in common is next to nothing: each block but the first tells.
    let whole = |line: &str| format!("{short}{}", line.repeat(4));
    let of_its_own = whole(&format!("{number:08}"));
    let kept = edited
        .filter(|old| old.len() == of_its_own.len())
        .and_then(|old| std::str::from_utf8(&old[LINE]).ok());
    Bytes::from(kept.map_or_else(|| of_its_own.clone(), whole))
}

/// The next file from a path on that has its content, and that content.
fn next_file(world: &mut World, at: At, path: &RelPath) -> Option<(RelPath, Bytes)> {
    let mut rest = world.tree(at).range(path.clone()..);
    rest.find_map(|(path, node)| match node {
        Node::File(file) => Some((path.clone(), file.own()?.clone())),
        Node::Folder => None,
    })
}

/// What is longer than that is one of the longer ones.
const SHORT: usize = 16;

/// Where a longer content says which line it is of.
const LINE: std::ops::Range<usize> = SHORT..SHORT + 8;

fn files_of(lifted: Option<crate::world::Tree>) -> Vec<Node> {
    lifted
        .into_iter()
        .flat_map(|tree| tree.into_values())
        .collect()
}

/// Makes room for something at a path: the folders above it, in place of files where need be.
fn make_way(world: &mut World, at: At, path: &RelPath) {
    let mut above: Vec<RelPath> = std::iter::successors(path.parent(), RelPath::parent).collect();
    above.reverse();
    for folder in above.into_iter().filter(|folder| !folder.is_root()) {
        if world.tree(at).get(&folder) == Some(&Node::Folder) {
            continue;
        }
        let gone = files_of(world.lift(at, &folder));
        world.destroyed(gone);
        world.tree(at).insert(folder, Node::Folder);
    }
}

fn write(world: &mut World, at: At, path: &RelPath, content: Bytes, in_place: bool) {
    make_way(world, at, path);
    let old = files_of(world.lift(at, path));
    let kept_id = match &old[..] {
        // What is opened to be written has its content first, or has no rights and is replaced.
        [Node::File(file)] if in_place && file.stub.is_none() => Some(file.id),
        _ => None,
    };
    world.owe_somewhere(&content);
    world.destroyed(old);
    let mut file = world.new_file(at, content);
    if let Some(id) = kept_id {
        file.id = id;
    }
    world.tree(at).insert(path.clone(), Node::File(file));
}

/// Does what a person does.
pub fn apply(world: &mut World, at: At, edit: &Edit) {
    if world.is_traced() {
        world.trace(format!("{at:?}: somebody: {edit:?}"));
    }
    world.now += SECOND / 50;
    match edit {
        Edit::Write {
            path,
            in_place,
            longer,
        } => {
            // Most of what is edited in place is a file that is there.
            let next = next_file(world, at, path).filter(|_| *in_place);
            let (path, old) = match next {
                Some((path, old)) => (path, Some(old)),
                None => (path.clone(), None),
            };
            let is_long = old.as_ref().is_some_and(|old| old.len() > SHORT);
            let content = content(world, *longer || is_long, old.as_ref());
            world.owe(&content);
            write(world, at, &path, content, *in_place);
        }
        Edit::Copy(from, to) => {
            let trees: Vec<Option<Node>> = world
                .trees
                .values()
                .map(|tree| tree.get(from).cloned())
                .collect();
            let source = trees.into_iter().flatten().find_map(|node| match node {
                Node::File(file) => file.own().cloned(),
                Node::Folder => None,
            });
            // What was removed somewhere and is put there again from a copy counts as it did before.
            if let Some(content) = source {
                write(world, at, to, content, false);
            }
        }
        Edit::Rename(from, to) => {
            let there = world.tree(at).contains_key(from);
            if !there || to.is_within(from) || from.is_within(to) {
                return;
            }
            let Some(lifted) = world.lift(at, from) else {
                return;
            };
            make_way(world, at, to);
            let gone = files_of(world.lift(at, to));
            world.set_down(at, to, lifted);
            world.destroyed(gone);
        }
        Edit::Remove(path) => {
            let gone = files_of(world.lift(at, path));
            world.destroyed(gone);
        }
        Edit::Disguise(path) => {
            if at != At::Cloud || world.nature != Nature::ClockTags {
                return;
            }
            let Some((path, size)) =
                next_file(world, at, path).map(|(path, old)| (path, old.len()))
            else {
                return;
            };
            let new = content(world, false, None);
            let new = match new.len() == size {
                true => new,
                false => content(world, true, None),
            };
            world.disguise(&path, &new);
        }
        Edit::MakeFolder(path) => {
            make_way(world, at, path);
            if !world.tree(at).contains_key(path) {
                world.tree(at).insert(path.clone(), Node::Folder);
            }
        }
    }
}

/// A program writes into a file that a pass has put among the spares of a disk.
pub fn late_write(world: &mut World, computer: usize) {
    let at = At::Disk(computer);
    let newest = world
        .shelf(at, computer)
        .spares
        .iter()
        .filter_map(|(slot, tree)| match tree.get(&RelPath::root()) {
            Some(Node::File(file)) if file.stub.is_none() => Some((file.version, slot.clone())),
            _ => None,
        })
        .max();
    if let Some((_, slot)) = newest {
        late_write_into(world, (at, computer), &slot);
    }
}

/// The same, into a certain one.
pub(crate) fn late_write_into(world: &mut World, (at, computer): (At, usize), slot: &str) {
    let new = content(world, false, None);
    let (now, version) = (world.now, world.number());
    let spare = world.shelf(at, computer).spares.get_mut(slot);
    let Some(Node::File(file)) = spare.and_then(|tree| tree.get_mut(&RelPath::root())) else {
        return;
    };
    let old = Node::File(file.clone());
    file.content = new.clone();
    (file.written, file.changed, file.version) = (now, now, version);
    world.owe_somewhere(&new);
    world.destroyed(vec![old]);
}

/// Makes a script that fails smaller, for as long as it fails.
#[must_use]
pub fn shrink(script: &Script, fails: &dyn Fn(&Script) -> bool) -> Script {
    let mut smallest = script.clone();
    let mut chunk = smallest.acts.len().max(1);
    while chunk > 0 {
        let mut at = 0;
        while at < smallest.acts.len() {
            let mut smaller = smallest.clone();
            let end = (at + chunk).min(smaller.acts.len());
            smaller.acts.drain(at..end);
            if fails(&smaller) {
                smallest = smaller;
            } else {
                at += chunk;
            }
        }
        chunk /= 2;
    }
    for at in 0..smallest.acts.len() {
        let Act::Pass { odds, .. } = smallest.acts[at].clone() else {
            continue;
        };
        for milder in [(0, 0, 0), (odds.0, 0, 0), (0, odds.1, 0), (0, 0, odds.2)] {
            let mut smaller = smallest.clone();
            if let Act::Pass { odds, .. } = &mut smaller.acts[at] {
                *odds = milder;
            }
            if smaller != smallest && fails(&smaller) {
                smallest = smaller;
                break;
            }
        }
    }
    smallest
}
