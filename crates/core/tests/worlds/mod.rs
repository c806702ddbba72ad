//! Two small trees and a ledger in memory, and a pass over them that does what the plan says, strictly: a step that
//! does not fit what is there fails the test.

use std::collections::{BTreeMap, BTreeSet};

use katabatic_core::decide::Change;
use katabatic_core::moves::{self, Found};
use katabatic_core::reconcile::reconcile;
use katabatic_core::{
    Base, Decision, Digest, Direction, Drift, Entry, Kind, Listing, Merge, OddKind, PerSide,
    Reconciler, RelPath, Removals, Selection, Side, Stamp, Step, Terms, Triple, Unknown, Updates,
};
use proptest::prelude::*;

#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Node {
    File { content: Vec<u8>, stamp: u64 },
    Folder,
    Link,
}

pub type Tree = BTreeMap<RelPath, Node>;

#[derive(Clone, Debug, Default)]
pub struct World {
    pub near: Tree,
    pub far: Tree,
    pub ledger: BTreeMap<RelPath, Base>,
    pub spares: Vec<Vec<u8>>,
    /// Folders whose listing fails on a side.
    pub unread: BTreeSet<(Side, RelPath)>,
    pub terms: Terms,
    pub selection: Selection,
    clock: u64,
}

#[derive(Clone, Debug)]
pub enum Edit {
    Write(RelPath, Vec<u8>),
    Touch(RelPath),
    MakeFolder(RelPath),
    Remove(RelPath),
    Link(RelPath),
    Rename(RelPath, RelPath),
}

pub fn path(text: &str) -> RelPath {
    RelPath::parse(text).unwrap()
}

fn a_path() -> impl Strategy<Value = RelPath> {
    prop::collection::vec(prop::sample::select(vec!["a", "b", "c d"]), 1..4)
        .prop_map(|parts| path(&parts.join("/")))
}

fn an_edit() -> impl Strategy<Value = Edit> {
    prop_oneof![
        6 => (a_path(), prop::sample::select(vec!["x", "y", "zz"]))
            .prop_map(|(at, text)| Edit::Write(at, text.as_bytes().to_vec())),
        1 => a_path().prop_map(Edit::Touch),
        2 => a_path().prop_map(Edit::MakeFolder),
        4 => a_path().prop_map(Edit::Remove),
        1 => a_path().prop_map(Edit::Link),
        4 => (a_path(), a_path()).prop_map(|(from, to)| Edit::Rename(from, to)),
    ]
}

/// A world that was settled once (or never was), and then changed on both sides.
pub fn a_world() -> impl Strategy<Value = World> {
    let edits = || prop::collection::vec(an_edit(), 0..7);
    (edits(), edits(), edits(), any::<bool>()).prop_map(|(common, near, far, first_pass)| {
        let mut world = World::default();
        for edit in common.iter().filter(|edit| !matches!(edit, Edit::Link(_))) {
            world.edit(Side::Near, edit);
        }
        world.pass();
        if first_pass {
            world.ledger.clear();
        }
        near.iter().for_each(|edit| world.edit(Side::Near, edit));
        far.iter()
            .filter(|edit| !matches!(edit, Edit::Link(_)))
            .for_each(|edit| world.edit(Side::Far, edit));
        world
    })
}

/// Any terms of a lane that carries one way.
pub fn one_way_terms() -> impl Strategy<Value = Terms> {
    (
        prop::sample::select(vec![Direction::Up, Direction::Down]),
        prop::sample::select(Removals::ALL.to_vec()),
        prop::sample::select(Drift::ALL.to_vec()),
        prop::sample::select(Updates::ALL.to_vec()),
    )
        .prop_map(|(direction, removals, drift, updates)| Terms {
            direction,
            removals,
            drift,
            updates,
            lead: None,
        })
}

/// The same with listings that fail.
pub fn a_world_with_unread_folders() -> impl Strategy<Value = World> {
    (
        a_world(),
        prop::collection::vec((any::<bool>(), a_path()), 0..3),
    )
        .prop_map(|(mut world, unread)| {
            for (near, folder) in unread {
                world
                    .unread
                    .insert((if near { Side::Near } else { Side::Far }, folder));
            }
            world
        })
}

impl World {
    pub fn tree(&self, side: Side) -> &Tree {
        match side {
            Side::Near => &self.near,
            Side::Far => &self.far,
        }
    }

    fn tree_mut(&mut self, side: Side) -> &mut Tree {
        match side {
            Side::Near => &mut self.near,
            Side::Far => &mut self.far,
        }
    }

    /// The same world with the sides exchanged.
    pub fn swapped(&self) -> World {
        let mut world = self.clone();
        std::mem::swap(&mut world.near, &mut world.far);
        world.unread = self
            .unread
            .iter()
            .map(|(side, at)| (side.other(), at.clone()))
            .collect();
        for base in world.ledger.values_mut() {
            std::mem::swap(&mut base.stamps.near, &mut base.stamps.far);
            base.away = base.away.map(Side::other);
        }
        world
    }

    pub fn edit(&mut self, side: Side, edit: &Edit) {
        self.clock += 1;
        let stamp = self.clock;
        let tree = self.tree_mut(side);
        let (Edit::Write(at, _)
        | Edit::Touch(at)
        | Edit::MakeFolder(at)
        | Edit::Remove(at)
        | Edit::Link(at)
        | Edit::Rename(_, at)) = edit;
        let mut moved = Tree::new();
        if let Edit::Rename(from, to) = edit {
            if !tree.contains_key(from) || to.is_within(from) || from.is_within(to) {
                return;
            }
            for (path, node) in tree.iter() {
                if let Some(now) = path.rebased(from, to) {
                    moved.insert(now, node.clone());
                }
            }
            tree.retain(|path, _| !path.is_within(from));
        }
        if let Edit::Remove(_) = edit {
            tree.retain(|path, _| !path.is_within(at));
            return;
        }
        if let Edit::Touch(_) = edit {
            if let Some(Node::File { stamp: old, .. }) = tree.get_mut(at) {
                *old = stamp;
            }
            return;
        }
        let mut above = at.parent();
        while let Some(folder) = above.filter(|folder| !folder.is_root()) {
            tree.insert(folder.clone(), Node::Folder);
            above = folder.parent();
        }
        if !moved.is_empty() {
            tree.retain(|path, _| !path.is_within(at));
            tree.extend(moved);
            return;
        }
        if let Edit::MakeFolder(_) = edit {
            tree.insert(at.clone(), Node::Folder);
            return;
        }
        tree.retain(|path, _| !path.is_within(at));
        let node = match edit {
            Edit::Write(_, content) => Node::File {
                content: content.clone(),
                stamp,
            },
            _ => Node::Link,
        };
        tree.insert(at.clone(), node);
    }

    fn scan(&self, side: Side) -> Vec<(RelPath, Entry)> {
        let unread = |at: &RelPath| self.unread.contains(&(side, at.clone()));
        let hidden = |at: &RelPath| {
            let mut above = at.parent();
            while let Some(folder) = above {
                if unread(&folder) && matches!(self.tree(side).get(&folder), Some(Node::Folder)) {
                    return true;
                }
                above = folder.parent();
            }
            false
        };
        let entry = |(at, node): (&RelPath, &Node)| {
            let entry = match node {
                Node::File { content, stamp } => {
                    let mut entry =
                        Entry::file(content.len() as u64, Stamp::new(&stamp.to_string()));
                    let base = self.ledger.get(at);
                    if base.is_some_and(|base| {
                        base.stamps[side] != entry.stamp && base.size == entry.size
                    }) {
                        entry.content = Some(Digest::of(content));
                    }
                    entry
                }
                Node::Folder if unread(at) => Entry {
                    listing: Listing::Incomplete(Unknown::NotListed("asked to fail".into())),
                    ..Entry::folder()
                },
                Node::Folder => Entry::folder(),
                Node::Link => Entry::of_kind(Kind::Odd(OddKind::Link)),
            };
            (at.clone(), entry)
        };
        self.tree(side)
            .iter()
            .filter(|(at, _)| !hidden(at))
            .map(entry)
            .collect()
    }

    pub fn plan(&self) -> Vec<Step> {
        let merge = Merge::new(
            self.ledger
                .iter()
                .map(|(at, base)| (at.clone(), Some(base.clone()))),
            Listing::Complete,
            self.scan(Side::Near).into_iter(),
            Listing::Complete,
            self.scan(Side::Far).into_iter(),
        );
        let triples: Vec<Triple> = merge
            .map(|triple| triple.expect("both scans are in tree order"))
            .collect();
        let selection = std::sync::Arc::new(self.selection.clone());
        let reconciler = || Reconciler::new(self.terms, selection.clone());
        let (steps, _) = reconcile(triples, reconciler());
        let (aside, steps): (Vec<Step>, Vec<Step>) = steps
            .into_iter()
            .partition(|step| matches!(step.decision, Decision::KeptAway { .. }));
        let found = self.found(&steps);
        if found.is_empty() {
            return steps.into_iter().chain(aside).collect();
        }
        moves::rename(steps, aside, found).decide(reconciler())
    }

    /// A stamp of this world is never given twice, so it tells where a file went.
    fn found(&self, steps: &[Step]) -> Vec<Found> {
        let sides = match self.terms.direction.source() {
            Some(source) => vec![source],
            None => vec![Side::Near, Side::Far],
        };
        let mut found = Vec::new();
        for on in sides {
            for left in steps.iter().filter(|step| moves::may_have_left(step, on)) {
                let stamp = &self.ledger[left.path()].stamps[on];
                for came in steps.iter().filter(|step| moves::may_have_come(step, on)) {
                    if came.entry(on).is_some_and(|entry| entry.stamp == *stamp) {
                        let (from, to) = (left.path().clone(), came.path().clone());
                        found.push(Found {
                            on,
                            from,
                            to,
                            content: None,
                        });
                    }
                }
            }
        }
        found
    }

    /// A new stamp for the same content is recorded with the move.
    fn agree_on_what_was_moved(&mut self, step: &Step) {
        let same = (&step.near, &step.far) == (&Change::Same, &Change::Same);
        if same && !step.seen.views.near.is_folder() {
            self.agree(step.path());
        }
    }

    /// What is known under one name is known under another; files that take each other's names wait in `lifted`.
    fn move_there(
        &mut self,
        step: &Step,
        (on, from): (Side, &RelPath),
        lifted: &mut Vec<(Side, RelPath, Node, Option<Base>)>,
    ) {
        let to = step.path();
        if self.tree(on).contains_key(to) {
            let node = self
                .tree_mut(on)
                .remove(from)
                .expect("a file of the circle");
            assert!(
                matches!(node, Node::File { .. }),
                "only files go round in a circle"
            );
            let base = self.ledger.remove(from);
            lifted.push((on, to.clone(), node, base));
            return;
        }
        let moved: Tree = self
            .tree(on)
            .iter()
            .filter_map(|(path, node)| Some((path.rebased(from, to)?, node.clone())))
            .collect();
        assert!(!moved.is_empty(), "nothing to move at {from}");
        let parent = to.parent().unwrap_or_else(RelPath::root);
        assert!(
            parent.is_root() || self.tree(on).get(&parent) == Some(&Node::Folder),
            "{to} is moved into a folder that is not there"
        );
        let tree = self.tree_mut(on);
        tree.retain(|path, _| !path.is_within(from));
        tree.extend(moved);
        let rows: Vec<(RelPath, Base)> = self
            .ledger
            .iter()
            .filter_map(|(path, base)| Some((path.rebased(from, to)?, base.clone())))
            .collect();
        self.ledger.retain(|path, _| !path.is_within(from));
        self.ledger.extend(rows);
        self.agree_on_what_was_moved(step);
    }

    fn agree(&mut self, at: &RelPath) {
        let (near, far) = (self.near.get(at).cloned(), self.far.get(at).cloned());
        let base = |kind, size, content, near: u64, far: u64| Base {
            kind,
            size,
            content,
            stamps: PerSide {
                near: Stamp::new(&near.to_string()),
                far: Stamp::new(&far.to_string()),
            },
            listed: PerSide {
                near: true,
                far: true,
            },
            away: None,
        };
        match (near, far) {
            (
                Some(Node::File {
                    content,
                    stamp: near,
                }),
                Some(Node::File {
                    content: other,
                    stamp: far,
                }),
            ) => {
                assert_eq!(content, other, "agreed on two different contents at {at}");
                let digest = Some(Digest::of(&content));
                self.ledger.insert(
                    at.clone(),
                    base(Kind::File, content.len() as u64, digest, near, far),
                );
            }
            (Some(Node::Folder), Some(Node::Folder)) => {
                self.ledger
                    .insert(at.clone(), base(Kind::Folder, 0, None, 0, 0));
            }
            other => panic!("cannot agree at {at}: {other:?}"),
        }
    }

    fn take_out(&mut self, side: Side, at: &RelPath) {
        let tree = self.tree_mut(side);
        let members = tree
            .keys()
            .filter(|path| path.is_within(at) && *path != at)
            .count();
        assert_eq!(
            members, 0,
            "{at} is removed while something lies in it: {tree:?}"
        );
        match tree.remove(at) {
            Some(Node::File { content, .. }) => self.spares.push(content),
            Some(Node::Folder) => {}
            other => panic!("nothing to remove at {at}: {other:?}"),
        }
    }

    fn put_in(&mut self, side: Side, at: &RelPath, node: Node) {
        let parent = at.parent().unwrap_or_else(RelPath::root);
        assert!(
            parent.is_root() || self.tree(side).get(&parent) == Some(&Node::Folder),
            "{at} is carried into a folder that is not there"
        );
        self.tree_mut(side).insert(at.clone(), node);
    }

    /// The new version gets a name of its own there; the lane knows both, and the older one is agreed on.
    fn carry_beside(&mut self, at: &RelPath, to: Side) {
        let Some(Node::File { content, stamp }) = self.tree(to.other()).get(at).cloned() else {
            panic!("nothing to carry at {at}")
        };
        let Some(Node::File { stamp: older, .. }) = self.tree(to).get(at).cloned() else {
            panic!("no older version at {at}")
        };
        self.clock += 1;
        let beside = path(&format!("{at} [{}]", self.clock));
        let node = Node::File {
            content: content.clone(),
            stamp: self.clock,
        };
        self.put_in(to, &beside, node);
        let base = self
            .ledger
            .get_mut(at)
            .expect("the older version was agreed on");
        base.content = Some(Digest::of(&content));
        base.size = content.len() as u64;
        let [new, older] = [stamp, older].map(|stamp| Stamp::new(&stamp.to_string()));
        (base.stamps.near, base.stamps.far) = match to {
            Side::Near => (older, new),
            Side::Far => (new, older),
        };
    }

    /// Carries a plan in the order of the engine's rooms, and records it. Returns the paths left in conflict.
    pub fn carry(&mut self, steps: &[Step]) -> BTreeSet<RelPath> {
        let mut conflicts = BTreeSet::new();
        let making_way = |step: &&Step| {
            matches!(
                step.decision,
                Decision::Remove {
                    makes_way: true,
                    ..
                }
            )
        };
        let going = |step: &&Step| {
            matches!(
                step.decision,
                Decision::Remove {
                    makes_way: false,
                    ..
                }
            )
        };
        let first = moves::with_what_they_need(steps);
        let is_first = |step: &&Step| first.iter().any(|one| std::ptr::eq(*one, *step));
        let mut lifted = Vec::new();
        for step in &first {
            match &step.decision {
                Decision::Move { on, from, .. } => {
                    self.move_there(step, (*on, from), &mut lifted);
                }
                Decision::MakeFolder { on } => {
                    self.put_in(*on, step.path(), Node::Folder);
                    self.agree(step.path());
                }
                Decision::Remove { on, .. } => {
                    self.take_out(*on, step.path());
                    self.ledger.remove(step.path());
                }
                _ => {
                    self.ledger.remove(step.path());
                }
            }
        }
        for (on, to, node, base) in lifted {
            assert!(!self.tree(on).contains_key(&to), "{to} was not left");
            self.put_in(on, &to, node);
            self.ledger.extend(base.map(|base| (to.clone(), base)));
            if let Some(step) = first.iter().find(|step| *step.path() == to) {
                self.agree_on_what_was_moved(step);
            }
        }
        let steps: Vec<Step> = steps
            .iter()
            .filter(|step| !is_first(step))
            .cloned()
            .collect();
        let steps = &steps;
        for step in steps.iter().filter(making_way) {
            let Decision::Remove { on, .. } = step.decision else {
                continue;
            };
            self.take_out(on, step.path());
            self.ledger.remove(step.path());
        }
        for step in steps {
            let at = step.path();
            match &step.decision {
                Decision::MakeFolder { on } => {
                    assert!(
                        self.tree(*on).get(at).is_none(),
                        "{at} is made where something is"
                    );
                    self.put_in(*on, at, Node::Folder);
                    self.agree(at);
                }
                Decision::Carry { to, replaces } => {
                    let Some(Node::File { content, .. }) = self.tree(to.other()).get(at).cloned()
                    else {
                        panic!("nothing to carry at {at}")
                    };
                    match self.tree(*to).get(at).cloned() {
                        Some(Node::File { content, .. }) if *replaces => self.spares.push(content),
                        None if !*replaces => {}
                        other => panic!("{at} is carried over {other:?}"),
                    }
                    self.clock += 1;
                    let stamp = self.clock;
                    self.put_in(*to, at, Node::File { content, stamp });
                    self.agree(at);
                }
                Decision::Compare => {
                    let content = |tree: &Tree| match tree.get(at) {
                        Some(Node::File { content, .. }) => content.clone(),
                        other => panic!("compared with {other:?}"),
                    };
                    if content(&self.near) == content(&self.far) {
                        self.agree(at);
                    } else {
                        conflicts.insert(at.clone());
                    }
                }
                Decision::Record => self.agree(at),
                Decision::Forget => {
                    self.ledger.remove(at);
                }
                Decision::KeepFolder { on } => {
                    self.ledger
                        .get_mut(at)
                        .expect("a kept folder was agreed on")
                        .away = Some(on.other());
                }
                Decision::KeepRemoved { on } => {
                    self.ledger
                        .get_mut(at)
                        .expect("a removal that is kept was agreed on")
                        .away = Some(on.other());
                }
                Decision::Ruled(_) => {
                    self.ledger.remove(at);
                }
                Decision::CarryBeside { to } => self.carry_beside(at, *to),
                Decision::Conflict | Decision::BelowConflict => {
                    conflicts.insert(at.clone());
                }
                _ => {}
            }
        }
        for step in steps.iter().filter(going) {
            let Decision::Remove { on, .. } = step.decision else {
                continue;
            };
            self.take_out(on, step.path());
            self.ledger.remove(step.path());
        }
        conflicts
    }

    pub fn pass(&mut self) -> BTreeSet<RelPath> {
        let steps = self.plan();
        self.carry(&steps)
    }

    pub fn contents(&self) -> BTreeSet<Vec<u8>> {
        self.near
            .values()
            .chain(self.far.values())
            .filter_map(content_of)
            .collect()
    }
}

pub fn content_of(node: &Node) -> Option<Vec<u8>> {
    match node {
        Node::File { content, .. } => Some(content.clone()),
        Node::Folder | Node::Link => None,
    }
}
