//! A side in memory, behind the engine's own trait: a disk's or the cloud's, with everything that can go wrong.

use std::collections::{BTreeSet, HashSet};

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::{StreamExt, stream};
use katabatic_core::blocks::{Grain, Stretch};
use katabatic_core::known_root::KnownRoot;
use katabatic_core::{Digest, Entry, Kind, Listing, RelPath, Stamp, Unknown};
use katabatic_sides::proof::Warrant;
use katabatic_sides::{
    Arrived, Captured, Changes, Checked, Content, Describes, Fences, FolderGone, Found, GivenUp,
    HoldsStubs, Identifies, Lists, Marks, NewStub, Outcome, Partial, Patch, Places, Put, Reads,
    Shelves, SideError, Source, Staged, Stages, Steps, Swapped, TellsChanges, Undone, Whereabouts,
    WhyKept,
};
use tokio::sync::mpsc;

use crate::mischief::{Fault, Flaw, Nature};
use crate::script::late_write_into;
use crate::shared::Shared;
use crate::world::{At, File, Node, SECOND, Tree, World};

/// To the engine, a file of more than two dozen bytes is large.
const GRAIN: Grain = Grain {
    block: 8,
    worth_patching: 24,
    step: 24,
};

/// One side of a computer's lane.
#[derive(Clone)]
pub struct SimulatedSide {
    pub(crate) shared: Shared,
    pub(crate) at: At,
    pub(crate) computer: usize,
}

impl SimulatedSide {
    /// The side at a place, as the computer of this number has it.
    #[must_use]
    pub fn new(shared: Shared, at: At, computer: usize) -> SimulatedSide {
        SimulatedSide {
            shared,
            at,
            computer,
        }
    }

    pub(crate) fn is_far(&self) -> bool {
        self.at == At::Cloud
    }

    fn tells_changes(&self) -> bool {
        self.is_far() && self.shared.world().nature == Nature::TellsChanges
    }

    /// What a source gives, all of it.
    async fn whole(&self, source: &mut Source) -> Result<Bytes, SideError> {
        let mut content = Vec::new();
        while let Some(chunk) = source.content.next().await {
            content.extend_from_slice(&chunk?);
        }
        let counts = !self.shared.world().has(Flaw::EndsEarly);
        if counts && content.len() as u64 != source.size {
            return Err(SideError::Changed("it has another length now".into()));
        }
        Ok(Bytes::from(content))
    }

    /// Something lies in the staging from now on.
    fn staged_now(
        &self,
        world: &mut World,
        slot: String,
        content: Bytes,
        digest: Option<Digest>,
    ) -> Staged {
        let file = world.new_file(self.at, content);
        let entry = world.entry(self.at, &Node::File(file.clone()));
        let shelf = world.shelf(self.at, self.computer);
        shelf.staging.insert(slot.clone(), file);
        Staged {
            slot,
            entry,
            digest,
        }
    }

    /// A large file: what has arrived of it stays, whatever becomes of the rest.
    async fn stage_in_steps(
        &self,
        mut source: Source,
        like: &RelPath,
        steps: &Steps,
    ) -> Result<Staged, SideError> {
        let (mut have, mut slot) = (Vec::new(), None);
        if let Some(known) = &steps.known {
            let lying = self
                .step("look at what came", Some(like), |world| {
                    let shelf = world.shelf(self.at, self.computer);
                    let file = shelf.staging.get(&known.slot);
                    Ok(file.map(|file| file.content.clone()))
                })
                .await?;
            let done = usize::try_from(known.done).unwrap_or(usize::MAX);
            let begins = lying
                .filter(|lying| lying.len() >= done && Digest::of(&lying[..done]) == known.prefix);
            let Some(begins) = begins else {
                (steps.note)(None);
                return Err(SideError::try_again("it is begun anew"));
            };
            have.extend_from_slice(&begins[..done]);
            slot = Some(known.slot.clone());
        }
        // What is sent again from the beginning has to be what came before.
        let mut again = have.len() - usize::try_from(source.from).unwrap_or(0).min(have.len());
        let cut = loop {
            let Some(chunk) = source.content.next().await else {
                break None;
            };
            let mut chunk = match chunk {
                Ok(chunk) => chunk,
                Err(why) => break Some(why),
            };
            let before = chunk.split_to(again.min(chunk.len()));
            let at = have.len() - again;
            if have[at..at + before.len()] != before[..] {
                (steps.note)(None);
                return Err(SideError::try_again("it is begun anew"));
            }
            again -= before.len();
            have.extend_from_slice(&chunk);
        };
        let whole = have.len() as u64 == source.size || self.shared.world().has(Flaw::EndsEarly);
        let content = Bytes::from(have);
        let went_on = slot.is_some();
        let side = self.clone();
        match cut {
            None if whole => {
                let staged = self.change("stage", Some(like), move |world| {
                    if went_on {
                        world.mischief.note(Fault::WentOn);
                    }
                    let slot = slot.unwrap_or_else(|| format!("slot {}", world.number()));
                    let digest = Digest::of(&content);
                    Ok(side.staged_now(world, slot, content, Some(digest)))
                });
                staged.await.map_err(Undone::told)
            }
            None => Err(SideError::Changed("it has another length now".into())),
            Some(why) if content.len() as u64 >= GRAIN.step => {
                let (done, prefix) = (content.len() as u64, Digest::of(&content));
                let kept = self.change("stage a step", Some(like), move |world| {
                    let slot = slot.unwrap_or_else(|| format!("slot {}", world.number()));
                    Ok(side.staged_now(world, slot, content, None).slot)
                });
                let slot = kept.await.map_err(Undone::told)?;
                (steps.note)(Some(Partial { slot, done, prefix }));
                Err(why)
            }
            Some(why) => Err(why),
        }
    }

    fn listed(&self, world: &World, path: &RelPath) -> bool {
        !(self.is_far() && world.nature == Nature::HidesDots && path.name().starts_with('.'))
    }

    /// A look comes right before each request, where a server guards no names; for one that comes late, nobody looks.
    fn writes_over(&self, world: &World) -> bool {
        self.is_far() && world.is_late && world.nature == Nature::PlacesOver
    }

    fn staged(&self, world: &mut World, slot: &str) -> Option<File> {
        world.shelf(self.at, self.computer).staging.remove(slot)
    }

    /// Puts a tree where nothing is.
    fn put(&self, world: &mut World, path: &RelPath, tree: Tree) -> Result<Put, Tree> {
        if world.tree(self.at).contains_key(path) {
            if self.writes_over(world) {
                let over = world.lift(self.at, path);
                world.is_written_over(over);
            } else if world.has(Flaw::PlacesOver) {
                world.lift(self.at, path);
            } else {
                return Err(tree);
            }
        }
        world.set_down(self.at, path, tree);
        Ok(Put::Done)
    }
}

fn parts(content: &Bytes) -> Vec<Bytes> {
    let half = content.len() / 2;
    vec![content.slice(..half), content.slice(half..)]
}

fn new_token(world: &mut World) -> String {
    let now = world.tree(At::Cloud).clone();
    world.tokens.push(now);
    (world.tokens.len() - 1).to_string()
}

fn no_parent() -> SideError {
    SideError::Failed("the folder it lies in is not there".into())
}

fn one(node: Node) -> Tree {
    Tree::from([(RelPath::root(), node)])
}

#[async_trait]
impl Lists for SimulatedSide {
    async fn root(&self) -> Result<KnownRoot, SideError> {
        self.step("root", None, |_| {
            Ok(KnownRoot::Address(format!("{:?}", self.at)))
        })
        .await
    }

    async fn scan(&self, found: mpsc::Sender<Found>) -> Result<(), SideError> {
        let found_here = self
            .step("scan", None, |world| {
                let far = self.is_far();
                let mut short = BTreeSet::new();
                let faults = world.mischief.faults;
                let folders: Vec<RelPath> = world
                    .tree(self.at)
                    .iter()
                    .filter(|(_, node)| **node == Node::Folder)
                    .map(|(path, _)| path.clone())
                    .chain([RelPath::root()])
                    .collect();
                for folder in folders {
                    if world.mischief.falls(far, faults) {
                        world.mischief.note(Fault::ShortListing);
                        short.insert(folder);
                    }
                }
                let why = || Unknown::NotListed("the listing ended early".into());
                let whole = world.has(Flaw::ShortIsWhole);
                let listing = |folder: &RelPath| match short.contains(folder) && !whole {
                    true => Listing::Incomplete(why()),
                    false => Listing::Complete,
                };
                let mut told = vec![Found::Root(listing(&RelPath::root()))];
                let mut hidden: Vec<RelPath> = Vec::new();
                let tree = world.tree(self.at).clone();
                for (path, node) in &tree {
                    let above = path.parent().unwrap_or_else(RelPath::root);
                    let cut = short.contains(&above) && world.mischief.dice(far).bool();
                    let below_hidden = hidden.iter().any(|folder| path.is_within(folder));
                    if cut || below_hidden || !self.listed(world, path) {
                        hidden.push(path.clone());
                        continue;
                    }
                    let mut entry = world.entry(self.at, node);
                    if entry.kind == Kind::Folder {
                        entry.listing = listing(path);
                    }
                    told.push(Found::Entry(path.clone(), entry));
                }
                Ok(told)
            })
            .await?;
        for one in found_here {
            if found.send(one).await.is_err() {
                return Err(SideError::Stopped);
            }
        }
        Ok(())
    }

    async fn names(&self, folder: &RelPath) -> Result<Vec<String>, SideError> {
        self.step("names", Some(folder), |world| {
            let tree = world.trees.get(&self.at).cloned().unwrap_or_default();
            Ok(tree
                .keys()
                .filter(|path| path.parent().as_ref() == Some(folder))
                .filter(|path| self.listed(world, path))
                .map(|path| path.name().to_owned())
                .collect())
        })
        .await
    }

    async fn look(&self, path: &RelPath) -> Result<Option<Entry>, SideError> {
        self.step("look", Some(path), |world| {
            let node = world.tree(self.at).get(path).cloned();
            Ok(node.map(|node| world.entry(self.at, &node)))
        })
        .await
    }

    fn may_hide(&self, path: &RelPath) -> bool {
        let hides = self.shared.world().nature == Nature::HidesDots;
        self.is_far() && hides && path.parts().any(|part| part.starts_with('.'))
    }
}

#[async_trait]
impl TellsChanges for SimulatedSide {
    async fn token(&self) -> Result<Option<String>, SideError> {
        if !self.tells_changes() {
            return Ok(None);
        }
        self.step("token", None, |world| Ok(Some(new_token(world))))
            .await
    }

    async fn changes_since(&self, token: &str) -> Result<Option<Changes>, SideError> {
        if !self.tells_changes() {
            return Ok(None);
        }
        let expired = {
            let mut world = self.shared.world();
            let faults = world.mischief.faults;
            let expired = world.mischief.falls(true, faults);
            if expired {
                world.mischief.note(Fault::TokenExpired);
            }
            expired
        };
        self.step("changes_since", None, |world| {
            let then = token
                .parse()
                .ok()
                .and_then(|number: usize| world.tokens.get(number));
            let Some(then) = then.filter(|_| !expired).cloned() else {
                return Ok(None);
            };
            let half = world.has(Flaw::TellsHalf);
            let now = world.tree(At::Cloud).clone();
            let mut changes = Changes::default();
            for path in then.keys().filter(|path| !now.contains_key(path) && !half) {
                changes.changed.insert(path.clone(), None);
            }
            for (path, node) in &now {
                let was = then.get(path);
                if was == Some(node) || (half && was.is_none()) {
                    continue;
                }
                let entry = world.entry(At::Cloud, node);
                if entry.kind == Kind::Folder {
                    changes.folders.insert(path.clone());
                }
                changes.changed.insert(path.clone(), Some(entry));
            }
            changes.token = new_token(world);
            Ok(Some(changes))
        })
        .await
    }
}

#[async_trait]
impl Reads for SimulatedSide {
    async fn read_from(
        &self,
        path: &RelPath,
        seen: &Entry,
        from: u64,
    ) -> Result<Source, SideError> {
        let changed = || SideError::Changed("it is another version now".into());
        let (content, edited) = self
            .step("read_from", Some(path), |world| {
                match world.tree(self.at).get(path).cloned() {
                    Some(Node::File(file)) => {
                        let shown = world.entry(self.at, &Node::File(file.clone()));
                        if shown.stamp != seen.stamp {
                            return Err(changed());
                        }
                        if file.stub.is_some() {
                            return Err(SideError::Failed("it is a stub".into()));
                        }
                        Ok((file.content, shown.edited))
                    }
                    Some(Node::Folder) => Err(changed()),
                    None => Err(SideError::Missing),
                }
            })
            .await?;
        let (breaks, quietly) = {
            let mut world = self.shared.world();
            let (far, faults) = (self.is_far(), world.mischief.faults);
            let breaks = world.mischief.falls(far, faults);
            if breaks {
                world.mischief.note(Fault::BreaksOff);
            }
            (breaks, world.has(Flaw::EndsEarly))
        };
        let from = usize::try_from(from)
            .unwrap_or(usize::MAX)
            .min(content.len());
        let mut all: Vec<Result<Bytes, SideError>> =
            parts(&content.slice(from..)).into_iter().map(Ok).collect();
        if breaks && quietly {
            all.truncate(1);
        } else if breaks {
            all[1] = Err(SideError::try_again("the content broke off"));
        }
        Ok(Source {
            size: seen.size,
            edited,
            from: from as u64,
            announced: None,
            content: stream::iter(all).boxed(),
        })
    }

    async fn read_part(
        &self,
        path: &RelPath,
        seen: &Entry,
        part: Stretch,
    ) -> Result<Bytes, SideError> {
        let mut source = self.read_from(path, seen, 0).await?;
        let mut whole = self.whole(&mut source).await?;
        let world = self.shared.world();
        if let (true, Some(hidden)) = (world.has(Flaw::PatchesBlindly), world.disguised_as(&whole))
        {
            whole = hidden.clone();
        }
        let at = |byte: u64| usize::try_from(byte).unwrap_or(usize::MAX).min(whole.len());
        Ok(whole.slice(at(part.from)..at(part.from + part.length)))
    }
}

impl Identifies for SimulatedSide {
    fn handle(&self, seen: &Entry) -> Option<String> {
        match self.at {
            At::Disk(_) => seen.stamp.as_str().rsplit(':').next().map(str::to_owned),
            At::Cloud => seen.handle.as_deref().map(str::to_owned),
        }
    }

    fn handles_last(&self) -> bool {
        self.is_far()
    }

    fn tags_prove(&self) -> bool {
        self.shared.world().nature != Nature::Coarse
    }

    fn tags_are_evidence(&self) -> bool {
        let world = self.shared.world();
        let are = matches!(world.nature, Nature::Good | Nature::TellsChanges);
        self.is_far() && (are || world.has(Flaw::TrustsTags))
    }

    fn stamps_change_alone(&self) -> bool {
        false
    }

    fn is_fresh(&self, entry: &Entry) -> bool {
        let world = self.shared.world();
        let changed = match self.at {
            // What has no content cannot hide a change of it.
            At::Disk(_) if entry.is_stub() => return false,
            At::Disk(_) => entry
                .stamp
                .as_str()
                .split(':')
                .nth(2)
                .and_then(|changed| changed.parse::<i64>().ok()),
            At::Cloud if matches!(world.nature, Nature::Coarse | Nature::ClockTags) => {
                entry.received.map(|received| received.0)
            }
            At::Cloud => return false,
        };
        changed.is_none_or(|changed| changed + 4 * SECOND > world.now)
    }
}

#[async_trait]
impl Stages for SimulatedSide {
    fn grain(&self) -> Grain {
        GRAIN
    }

    fn wants_the_rest_only(&self) -> bool {
        !self.is_far()
    }

    fn patches(&self) -> bool {
        let nature = self.shared.world().nature;
        let does = matches!(
            nature,
            Nature::Good | Nature::TellsChanges | Nature::ClockTags
        );
        self.is_far() && does
    }

    async fn patch(
        &self,
        path: &RelPath,
        old: &Entry,
        patch: &Patch,
        content: &(dyn Fn(Stretch) -> Content + Send + Sync),
    ) -> Result<Staged, SideError> {
        let mut parts = Vec::with_capacity(patch.ranges.len());
        for range in &patch.ranges {
            let (mut part, mut read) = (content(*range), Vec::new());
            while let Some(chunk) = part.next().await {
                read.extend_from_slice(&chunk?);
            }
            parts.push((*range, read));
        }
        let (side, from, old, patch) = (self.clone(), path.clone(), old.clone(), patch.clone());
        let staged = self.change("patch", Some(path), move |world| {
            let mut whole = match world.tree(side.at).get(&from).cloned() {
                Some(node @ Node::File(_)) if world.entry(side.at, &node).stamp != old.stamp => {
                    return Err(SideError::Failed("it is another version now".into()));
                }
                Some(Node::File(file)) => file.content.to_vec(),
                Some(Node::Folder) | None => return Err(SideError::Missing),
            };
            let size = usize::try_from(patch.size).unwrap_or(usize::MAX);
            whole.resize(size, 0);
            for (range, read) in parts {
                let at = usize::try_from(range.from).unwrap_or(usize::MAX);
                whole[at..at + read.len()].copy_from_slice(&read);
            }
            world.mischief.note(Fault::Patched);
            let slot = format!("slot {}", world.number());
            Ok(side.staged_now(world, slot, Bytes::from(whole), Some(patch.digest)))
        });
        staged.await.map_err(Undone::told)
    }

    async fn stage(
        &self,
        mut source: Source,
        like: &RelPath,
        steps: &Steps,
    ) -> Result<Staged, SideError> {
        if source.size > GRAIN.step {
            return self.stage_in_steps(source, like, steps).await;
        }
        let content = self.whole(&mut source).await?;
        let side = self.clone();
        let staged = self.change("stage", Some(like), move |world| {
            let slot = format!("slot {}", world.number());
            let digest = Digest::of(&content);
            Ok(side.staged_now(world, slot, content, Some(digest)))
        });
        staged.await.map_err(Undone::told)
    }

    async fn unstage(&self, slot: &str) -> Result<(), SideError> {
        let (side, slot) = (self.clone(), slot.to_owned());
        let dropped = self.change("unstage", None, move |world| {
            side.staged(world, &slot);
            Ok(())
        });
        dropped.await.map_err(Undone::told)
    }

    async fn is_staged(&self, slot: &str) -> Result<bool, SideError> {
        self.step("is_staged", None, |world| {
            Ok(world
                .shelf(self.at, self.computer)
                .staging
                .contains_key(slot))
        })
        .await
    }

    async fn clear_staging(&self, keep: &HashSet<String>) -> Result<(), SideError> {
        let (side, keep) = (self.clone(), keep.clone());
        // A listing and a request for each leftover: those that come late are about just these.
        let leftovers: Vec<String> = {
            let mut world = self.shared.world();
            let shelf = world.shelf(self.at, self.computer);
            shelf.staging.keys().cloned().collect()
        };
        let cleared = self.change("clear_staging", None, move |world| {
            let shelf = world.shelf(side.at, side.computer);
            for slot in leftovers.iter().filter(|slot| !keep.contains(*slot)) {
                shelf.staging.remove(slot);
            }
            Ok(())
        });
        cleared.await.map_err(Undone::told)
    }
}

#[async_trait]
impl Places for SimulatedSide {
    fn puts_directly(&self, _: u64) -> bool {
        self.tells_changes()
    }

    async fn put_new(&self, mut source: Source, path: &RelPath) -> Outcome<Option<Arrived>> {
        let content = self.whole(&mut source).await.map_err(Undone::NotDone)?;
        let (side, to) = (self.clone(), path.clone());
        self.change("put_new", Some(path), move |world| {
            if !world.has_parent(side.at, &to) {
                return Err(no_parent());
            }
            let taken = world.tree(side.at).contains_key(&to);
            if taken && !world.has(Flaw::PlacesOver) {
                return Ok(None);
            }
            world.lift(side.at, &to);
            let node = Node::File(world.new_file(side.at, content.clone()));
            let entry = world.entry(side.at, &node);
            world.set_down(side.at, &to, one(node));
            Ok(Some(Arrived {
                entry,
                told: world.mischief.dice(true).bool(),
                digest: Digest::of(&content),
            }))
        })
        .await
    }

    fn exchanges(&self) -> bool {
        !self.is_far()
    }

    async fn swap(&self, staged: &str, path: &RelPath, spare: &str) -> Outcome<Swapped> {
        if self.is_far() {
            return Ok(Swapped::Unable);
        }
        let (side, to) = (self.clone(), path.clone());
        let (staged, spare) = (staged.to_owned(), spare.to_owned());
        self.change("swap", Some(path), move |world| {
            if !world.tree(side.at).contains_key(&to) {
                return Ok(Swapped::Nothing);
            }
            let Some(file) = side.staged(world, &staged) else {
                return Err(SideError::Missing);
            };
            let Some(old) = world.lift(side.at, &to) else {
                return Ok(Swapped::Nothing);
            };
            world.set_down(side.at, &to, one(Node::File(file)));
            if !world.has(Flaw::DropsSpares) {
                let shelf = world.shelf(side.at, side.computer);
                shelf.spares.insert(spare.clone(), old);
            }
            Ok(Swapped::Done)
        })
        .await
    }

    async fn swap_back(&self, path: &RelPath, spare: &str) -> Outcome<()> {
        let (side, to, spare) = (self.clone(), path.clone(), spare.to_owned());
        self.change("swap_back", Some(path), move |world| {
            let ours = world.lift(side.at, &to);
            let shelf = world.shelf(side.at, side.computer);
            let old = shelf.spares.remove(&spare);
            if let Some(ours) = ours {
                shelf.spares.insert(spare.clone(), ours);
            }
            let Some(old) = old else {
                return Err(SideError::Missing);
            };
            world.set_down(side.at, &to, old);
            Ok(())
        })
        .await
    }

    async fn capture(&self, path: &RelPath, spare: &str) -> Outcome<Captured> {
        let (side, from, spare) = (self.clone(), path.clone(), spare.to_owned());
        self.change("capture", Some(path), move |world| {
            if world.shelf(side.at, side.computer).is_taken(&spare) && !side.writes_over(world) {
                return Err(SideError::Changed("the name is taken".into()));
            }
            let Some(taken) = world.lift(side.at, &from) else {
                return Ok(Captured::Nothing);
            };
            if !world.has(Flaw::DropsSpares) {
                let shelf = world.shelf(side.at, side.computer);
                shelf.spares.insert(spare.clone(), taken);
            }
            Ok(Captured::Taken)
        })
        .await
    }

    async fn check(&self, spare: &str, expected: &Entry) -> Result<Checked, SideError> {
        self.step("check", None, |world| {
            if world.has(Flaw::ChecksNothing) {
                return Ok(Checked::Same);
            }
            let shelf = world.shelf(self.at, self.computer);
            let Some(top) = shelf
                .spares
                .get(spare)
                .and_then(|tree| tree.get(&RelPath::root()))
                .cloned()
            else {
                return Ok(Checked::Nothing);
            };
            let same = world.is_version(self.at, &top, expected);
            let content_differs = match (&top, expected.content, self.at) {
                (Node::File(file), Some(content), At::Disk(_)) => {
                    file.own().is_some_and(|own| Digest::of(own) != content)
                }
                _ => false,
            };
            Ok(if same && !content_differs {
                Checked::Same
            } else {
                Checked::Other
            })
        })
        .await
    }

    async fn put_back(&self, spare: &str, path: &RelPath) -> Outcome<Put> {
        let (side, to, spare) = (self.clone(), path.clone(), spare.to_owned());
        self.change("put_back", Some(path), move |world| {
            if !world.has_parent(side.at, &to) {
                return Err(no_parent());
            }
            let shelf = world.shelf(side.at, side.computer);
            let Some(tree) = shelf.spares.remove(&spare) else {
                return Err(SideError::Missing);
            };
            world.is_put_back(&tree);
            side.put(world, &to, tree).or_else(|tree| {
                // Captured in one instant and its name taken in the next: the spares are where it belongs.
                world.may_stay_away(&tree);
                let shelf = world.shelf(side.at, side.computer);
                shelf.spares.insert(spare.clone(), tree);
                Ok(Put::Taken)
            })
        })
        .await
    }

    async fn place(&self, staged: &str, _: &Entry, path: &RelPath) -> Outcome<Put> {
        let (side, to, staged) = (self.clone(), path.clone(), staged.to_owned());
        self.change("place", Some(path), move |world| {
            if !world.has_parent(side.at, &to) {
                return Err(no_parent());
            }
            let Some(file) = side.staged(world, &staged) else {
                return Err(SideError::Missing);
            };
            side.put(world, &to, one(Node::File(file.clone())))
                .or_else(|_| {
                    let shelf = world.shelf(side.at, side.computer);
                    shelf.staging.insert(staged.clone(), file);
                    Ok(Put::Taken)
                })
        })
        .await
    }

    async fn verify(&self, path: &RelPath, staged: &Entry) -> Result<Option<Entry>, SideError> {
        self.step("verify", Some(path), |world| {
            let there = world.tree(self.at).get(path).cloned();
            let any = world.has(Flaw::ChecksNothing);
            Ok(there
                .filter(|node| any || world.is_version(self.at, node, staged))
                .map(|node| world.entry(self.at, &node)))
        })
        .await
    }

    async fn make_folder(&self, path: &RelPath) -> Outcome<Put> {
        let (side, to) = (self.clone(), path.clone());
        self.change("make_folder", Some(path), move |world| {
            if !world.has_parent(side.at, &to) {
                return Err(no_parent());
            }
            Ok(match world.tree(side.at).get(&to) {
                Some(Node::Folder) => Put::Done,
                Some(Node::File(_)) => Put::Taken,
                None => {
                    world.tree(side.at).insert(to.clone(), Node::Folder);
                    Put::Done
                }
            })
        })
        .await
    }

    async fn remove_folder(&self, path: &RelPath, spare: &str) -> Outcome<FolderGone> {
        let (side, from, spare) = (self.clone(), path.clone(), spare.to_owned());
        let inside = |world: &mut World, side: &SimulatedSide, from: &RelPath| -> Vec<String> {
            let tree = world.tree(side.at);
            let below = tree
                .keys()
                .filter(|below| below.parent().as_ref() == Some(from));
            below.map(|below| below.name().to_owned()).collect()
        };
        self.change("remove_folder", Some(path), move |world| {
            let late = side.is_far() && world.is_late;
            match world.tree(side.at).get(&from) {
                None => return Ok(FolderGone::Gone),
                Some(Node::File(_)) if late => {}
                Some(Node::File(_)) => {
                    return Err(SideError::Failed("it is a file now".into()));
                }
                Some(Node::Folder) => {}
            }
            // One that comes late takes whatever is there by then, into the spare.
            if late {
                if world.shelf(side.at, side.computer).is_taken(&spare) {
                    return Err(SideError::Changed("the name is taken".into()));
                }
                if let Some(taken) = world.lift(side.at, &from) {
                    let shelf = world.shelf(side.at, side.computer);
                    shelf.spares.insert(spare.clone(), taken);
                }
                return Ok(FolderGone::Gone);
            }
            let inside = inside(world, &side, &from);
            if inside.is_empty() {
                world.tree(side.at).remove(&from);
                return Ok(FolderGone::Gone);
            }
            Ok(FolderGone::Kept(inside))
        })
        .await
    }

    async fn rename(&self, from: &RelPath, to: &RelPath) -> Outcome<Put> {
        let (side, old, new) = (self.clone(), from.clone(), to.clone());
        self.change("rename", Some(from), move |world| {
            if !world.has_parent(side.at, &new) {
                return Err(no_parent());
            }
            if !world.tree(side.at).contains_key(&old) {
                return Err(SideError::Missing);
            }
            if world.tree(side.at).contains_key(&new) && !world.has(Flaw::PlacesOver) {
                return Ok(Put::Taken);
            }
            world.lift(side.at, &new);
            let Some(tree) = world.lift(side.at, &old) else {
                return Err(SideError::Missing);
            };
            world.set_down(side.at, &new, tree);
            Ok(Put::Done)
        })
        .await
    }
}

#[async_trait]
impl Fences for SimulatedSide {
    fn may_act_late(&self) -> bool {
        self.is_far()
    }

    fn keeps_names_from_late_requests(&self) -> bool {
        let world = self.shared.world();
        let guards = world.nature != Nature::PlacesOver || world.has(Flaw::WaitsForNothing);
        !self.is_far() || guards
    }

    async fn fence_spare(
        &self,
        _: &RelPath,
        _: Kind,
        names: &[String],
        anew: &str,
    ) -> Result<Option<String>, SideError> {
        let side = self.clone();
        let (names, anew) = (names.to_vec(), anew.to_owned());
        let fenced = self.change("fence_spare", None, move |world| {
            let (far, blind) = (side.is_far(), world.has(Flaw::FencesNothing));
            let shelf = world.shelf(side.at, side.computer);
            for name in &names {
                if !far || blind {
                    if shelf.spares.contains_key(name) {
                        return Ok(Some(name.clone()));
                    }
                } else if let Some(tree) = shelf.spares.remove(name) {
                    shelf.spares.insert(anew.clone(), tree);
                    return Ok(Some(anew.clone()));
                }
            }
            if far && !blind {
                shelf.occupied.extend(names.first().cloned());
            }
            Ok(None)
        });
        fenced.await.map_err(Undone::told)
    }

    async fn fence_staged(
        &self,
        names: &[String],
        anew: &str,
    ) -> Result<Option<String>, SideError> {
        let side = self.clone();
        let (names, anew) = (names.to_vec(), anew.to_owned());
        let fenced = self.change("fence_staged", None, move |world| {
            let (far, blind) = (side.is_far(), world.has(Flaw::FencesNothing));
            let shelf = world.shelf(side.at, side.computer);
            for name in &names {
                if !far || blind {
                    if shelf.staging.contains_key(name) {
                        return Ok(Some(name.clone()));
                    }
                } else if let Some(file) = shelf.staging.remove(name) {
                    shelf.staging.insert(anew.clone(), file);
                    return Ok(Some(anew.clone()));
                }
            }
            Ok(None)
        });
        fenced.await.map_err(Undone::told)
    }
}

#[async_trait]
impl Shelves for SimulatedSide {
    async fn look_at_spare(&self, spare: &str) -> Result<Option<Entry>, SideError> {
        self.step("look_at_spare", None, |world| {
            let shelf = world.shelf(self.at, self.computer);
            let top = shelf
                .spares
                .get(spare)
                .and_then(|tree| tree.get(&RelPath::root()))
                .cloned();
            Ok(top.map(|top| world.entry(self.at, &top)))
        })
        .await
    }

    async fn shelf(&self) -> Result<Vec<String>, SideError> {
        self.step("shelf", None, |world| {
            let shelf = world.shelf(self.at, self.computer);
            Ok(shelf.spares.keys().cloned().collect())
        })
        .await
    }

    async fn is_empty_spare(&self, spare: &str) -> Result<bool, SideError> {
        self.step("is_empty_spare", None, |world| {
            let shows_all = world.nature != Nature::HidesDots || !self.is_far();
            let shelf = world.shelf(self.at, self.computer);
            let lying = shelf.spares.get(spare);
            Ok(shows_all && lying.is_some_and(|tree| tree.len() == 1))
        })
        .await
    }

    async fn read_spare(&self, spare: &str) -> Result<Source, SideError> {
        self.step("read_spare", None, |world| {
            let shelf = world.shelf(self.at, self.computer);
            match shelf
                .spares
                .get(spare)
                .and_then(|tree| tree.get(&RelPath::root()))
            {
                Some(Node::File(file)) if file.stub.is_some() => {
                    Err(SideError::Failed("it is a stub".into()))
                }
                Some(Node::File(file)) => Ok(Source {
                    size: file.content.len() as u64,
                    edited: None,
                    from: 0,
                    announced: None,
                    content: stream::iter([Ok(file.content.clone())]).boxed(),
                }),
                _ => Err(SideError::Missing),
            }
        })
        .await
    }

    async fn give_up(&self, spare: &str, warrant: Warrant) -> Result<GivenUp, SideError> {
        let (side, spare) = (self.clone(), spare.to_owned());
        let given_up = self.change("give_up", None, move |world| {
            let shelf = world.shelf(side.at, side.computer);
            let Some(tree) = shelf.spares.get(&spare) else {
                return Ok(GivenUp::Gone);
            };
            let is_it = match (&warrant, tree.get(&RelPath::root())) {
                (Warrant::Proven(proof), Some(Node::File(file))) => {
                    file.own().map(|own| Digest::of(own)) == Some(proof.content())
                }
                (Warrant::Empty(_), Some(Node::File(file))) => file.stub.is_some(),
                (Warrant::Empty(_), Some(Node::Folder)) => tree.len() == 1,
                // Nobody gives up a version by its number here.
                (Warrant::GivenUp(_), _) | (_, None) | (Warrant::Proven(_), _) => false,
            };
            if !is_it {
                return Ok(GivenUp::Kept(WhyKept::OtherContent));
            }
            let is_file = matches!(warrant, Warrant::Proven(_));
            let strangers = world.mischief.strangers;
            if is_file && world.mischief.falls(side.is_far(), strangers * 4) {
                world.mischief.note(Fault::HeldOpen);
                if !world.has(Flaw::SeesNoOpenFiles) {
                    return Ok(GivenUp::Kept(WhyKept::Open));
                }
                // Whatever has it open saves once more.
                late_write_into(world, (side.at, side.computer), &spare);
            }
            world.shelf(side.at, side.computer).spares.remove(&spare);
            Ok(GivenUp::Gone)
        });
        given_up.await.map_err(Undone::told)
    }
}

#[async_trait]
impl HoldsStubs for SimulatedSide {
    async fn holds_stubs(&self) -> Result<(), String> {
        match self.at {
            At::Disk(_) => Ok(()),
            At::Cloud => Err("it is the cloud".into()),
        }
    }

    async fn stage_stubs(&self, stubs: &[NewStub]) -> Vec<Result<Staged, SideError>> {
        let mut all = Vec::with_capacity(stubs.len());
        for stub in stubs {
            let (side, stub) = (self.clone(), stub.clone());
            let path = stub.path.clone();
            let staged = self.change("stage_stubs", Some(&path), move |world| {
                let at = if stub.in_place { side.at } else { At::Cloud };
                let means = match world.tree(at).get(&stub.path) {
                    Some(Node::File(file)) => file.means().clone(),
                    _ => Bytes::new(),
                };
                let slot = format!("slot {}", world.number());
                let mut file = world.new_file(side.at, Bytes::new());
                file.stub = Some((stub.size, means));
                // No other file ever had this number: a stub that is gone keeps it.
                file.id = world.number();
                let entry = world.entry(side.at, &Node::File(file.clone()));
                let shelf = world.shelf(side.at, side.computer);
                shelf.staging.insert(slot.clone(), file);
                Ok(Staged {
                    slot,
                    entry,
                    digest: stub.content,
                })
            });
            all.push(staged.await.map_err(Undone::told));
        }
        all
    }

    async fn stub_whereabouts(&self, stamp: &Stamp) -> Result<Whereabouts, SideError> {
        self.step("stub_whereabouts", None, |world| {
            let tree = world.tree(self.at).clone();
            let is_it = |node: &Node| match node {
                Node::File(file) => file.stub.is_some() && world.stamp(self.at, file) == *stamp,
                Node::Folder => false,
            };
            Ok(match tree.values().any(is_it) {
                true => Whereabouts::Elsewhere,
                false => Whereabouts::Gone,
            })
        })
        .await
    }
}

#[async_trait]
impl Marks for SimulatedSide {
    async fn mark_root(&self) -> Result<(), SideError> {
        let side = self.clone();
        let marked = self.change("mark_root", None, move |world| {
            world.marks.insert((side.at, side.computer));
            Ok(())
        });
        marked.await.map_err(Undone::told)
    }

    async fn is_marked(&self) -> Result<bool, SideError> {
        self.step("is_marked", None, |world| {
            Ok(world.marks.contains(&(self.at, self.computer)))
        })
        .await
    }
}

impl Describes for SimulatedSide {}
