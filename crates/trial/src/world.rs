//! The two kinds of places there are, in memory: disks of computers, and one cloud that all of them share.
//!
//! Every version that was ever written is known here, with what became of its copies, so that after any pass it can be
//! said whether one was lost.

use std::collections::{BTreeMap, BTreeSet};

use bytes::Bytes;
use katabatic_core::{EditTime, Entry, Kind, RelPath, Stamp, StampKind};
use katabatic_sides::SideError;

use crate::mischief::{Fault, Flaw, Mischief, Nature};

/// A second, as the engine counts time.
pub const SECOND: i64 = 1_000_000_000;

/// A file: what it holds, and what a side tells of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct File {
    /// The content.
    pub content: Bytes,
    /// The inode of a disk, the resource id of a cloud.
    pub id: u64,
    /// Another one for each version.
    pub version: u64,
    /// When it was written; nanoseconds since 1970.
    pub written: i64,
    /// When it last changed in any way, its name included.
    pub changed: i64,
    /// Set where it is a stub: the size that it shows, and the content that it stands for.
    pub stub: Option<(u64, Bytes)>,
}

impl File {
    /// What it holds itself; nothing where it is a stub.
    #[must_use]
    pub fn own(&self) -> Option<&Bytes> {
        self.stub.is_none().then_some(&self.content)
    }

    /// What a person sees in it, or would, once it is fetched.
    #[must_use]
    pub fn means(&self) -> &Bytes {
        self.stub
            .as_ref()
            .map_or(&self.content, |(_, content)| content)
    }
}

/// Something at a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Node {
    /// A file.
    File(File),
    /// A folder.
    Folder,
}

/// A tree: what lies at each path; the root itself is not in it.
pub type Tree = BTreeMap<RelPath, Node>;

/// A place that a side of a lane is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum At {
    /// The disk of the computer of this number.
    Disk(usize),
    /// The cloud.
    Cloud,
}

/// What a computer keeps on one side: what it staged there and what it took out.
#[derive(Clone, Debug, Default)]
pub struct Shelves {
    /// Staged files by slot.
    pub staging: BTreeMap<String, File>,
    /// Whole trees by slot; the top is at the empty path.
    pub spares: BTreeMap<String, Tree>,
    /// Names on the shelf that are kept from requests that may come late.
    pub occupied: BTreeSet<String>,
}

impl Shelves {
    /// Whether a spare's name is taken.
    #[must_use]
    pub fn is_taken(&self, spare: &str) -> bool {
        self.spares.contains_key(spare) || self.occupied.contains(spare)
    }
}

/// Something that is done when nobody waits for it any more.
type LateDeed = Box<dyn FnOnce(&mut World) + Send>;

/// What is done later, by the step at which it is.
#[derive(Default)]
struct Late(Vec<(u64, LateDeed)>);

impl std::fmt::Debug for Late {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(out, "{} late", self.0.len())
    }
}

/// A disk as it was, with all shelves.
type Before = (At, Tree, BTreeMap<(At, usize), Shelves>);

/// All there is.
#[derive(Debug)]
pub struct World {
    /// What people see, by place.
    pub trees: BTreeMap<At, Tree>,
    /// The tool's own, by place and computer.
    pub shelves: BTreeMap<(At, usize), Shelves>,
    /// Whether the lane of a computer was marked at a place.
    pub marks: BTreeSet<(At, usize)>,
    /// What goes wrong.
    pub mischief: Mischief,
    /// How the cloud is.
    pub nature: Nature,
    /// Places that are gone for a computer: its drive is pulled, its line is down.
    pub away: BTreeSet<(At, usize)>,
    /// Whether the pass that runs drops content here.
    pub sheds: bool,
    /// Now.
    pub now: i64,
    /// Versions that must not be lost.
    owed: BTreeSet<Bytes>,
    /// Everything that anybody ever wrote.
    written: BTreeSet<Bytes>,
    /// Versions that stand under the tag of another one, which nobody can tell without reading.
    disguised: BTreeMap<Bytes, Bytes>,
    /// Versions that the tool took out and put back.
    returned: BTreeSet<Bytes>,
    /// Versions that nobody removed or wrote over anywhere: they have to be on a side, not only in the spares.
    cherished: BTreeSet<Bytes>,
    /// The cloud as it was when each token was given out.
    pub tokens: Vec<Tree>,
    /// What happened, where somebody wants to read it.
    told: Option<Vec<String>>,
    next: u64,
    freed: Vec<u64>,
    late: Late,
    /// What a list names on the shelves, when it was last looked into.
    pub named: BTreeSet<(At, usize, String)>,
    /// Whether what is done now is done late.
    pub is_late: bool,
    /// How the disk was before the last things that were done to it, for one that lies about syncing.
    before: Vec<Before>,
}

impl World {
    /// An empty one for so many computers.
    #[must_use]
    pub fn new(computers: usize, nature: Nature) -> World {
        let places = (0..computers).map(At::Disk).chain([At::Cloud]);
        World {
            trees: places.map(|at| (at, Tree::new())).collect(),
            shelves: BTreeMap::new(),
            marks: BTreeSet::new(),
            mischief: Mischief::none(),
            nature,
            away: BTreeSet::new(),
            sheds: false,
            now: 1_795_000_000 * SECOND,
            owed: BTreeSet::new(),
            written: BTreeSet::new(),
            disguised: BTreeMap::new(),
            returned: BTreeSet::new(),
            cherished: BTreeSet::new(),
            tokens: Vec::new(),
            told: None,
            next: 1,
            freed: Vec::new(),
            late: Late::default(),
            named: BTreeSet::new(),
            is_late: false,
            before: Vec::new(),
        }
    }

    /// Does something in a while, whatever becomes of whoever asked for it.
    pub fn do_later<T>(
        &mut self,
        deed: impl FnOnce(&mut World) -> Result<T, SideError> + Send + 'static,
    ) {
        let wait = match self.mischief.dice(true).u8(0..3) {
            0 => self.mischief.dice(true).u64(1..5),
            1 => self.mischief.dice(true).u64(5..50),
            _ => self.mischief.dice(true).u64(50..500),
        };
        let due = self.mischief.steps + wait;
        // What it says to nobody, nobody hears.
        let deed = move |world: &mut World| drop(deed(world));
        self.late.0.push((due, Box::new(deed)));
    }

    /// Does what is due by now.
    pub fn what_was_late(&mut self) {
        let steps = self.mischief.steps;
        self.do_late(|due| due <= steps);
    }

    /// Does all that is still to be done.
    pub fn all_that_is_late(&mut self) {
        self.do_late(|_| true);
    }

    fn do_late(&mut self, is_due: impl Fn(u64) -> bool) {
        let (due, rest) = std::mem::take(&mut self.late.0)
            .into_iter()
            .partition(|(at, _)| is_due(*at));
        self.late.0 = rest;
        let due: Vec<(u64, LateDeed)> = due;
        for (_, deed) in due {
            if self.is_traced() {
                self.trace("  something that was asked for before is done now".into());
            }
            self.mischief.note(Fault::CameLate);
            self.is_late = true;
            deed(self);
            self.is_late = false;
        }
    }

    /// From now on, everything that happens is told.
    pub fn begin_trace(&mut self) {
        self.told = Some(Vec::new());
    }

    /// Whether anybody wants to read what happens.
    #[must_use]
    pub fn is_traced(&self) -> bool {
        self.told.is_some()
    }

    /// Tells something.
    pub fn trace(&mut self, line: String) {
        self.told.get_or_insert_default().push(line);
    }

    /// What was told.
    pub fn take_trace(&mut self) -> Vec<String> {
        self.told.take().unwrap_or_default()
    }

    /// The tree of a place.
    pub fn tree(&mut self, at: At) -> &mut Tree {
        self.trees.entry(at).or_default()
    }

    /// What a computer keeps at a place.
    pub fn shelf(&mut self, at: At, computer: usize) -> &mut Shelves {
        self.shelves.entry((at, computer)).or_default()
    }

    /// Another number each time.
    pub fn number(&mut self) -> u64 {
        self.next += 1;
        self.next
    }

    /// A file of this content, new in every respect; a disk may give it the number of one that is gone.
    pub fn new_file(&mut self, at: At, content: Bytes) -> File {
        let version = self.number();
        let id = match at {
            At::Disk(_) => self.freed.pop().unwrap_or(version),
            At::Cloud => version,
        };
        File {
            content,
            id,
            version,
            written: self.now,
            changed: self.now,
            stub: None,
        }
    }

    /// A person writes a new version.
    pub fn owe(&mut self, content: &Bytes) {
        self.written.insert(content.clone());
        self.owed.insert(content.clone());
        self.cherished.insert(content.clone());
        self.before.clear();
    }

    /// The same for one that has to be found again somewhere, in the spares as well.
    pub fn owe_somewhere(&mut self, content: &Bytes) {
        self.written.insert(content.clone());
        self.owed.insert(content.clone());
        self.before.clear();
    }

    /// Puts another version of the same length in a file's place in the cloud, and keeps what its tag is made of.
    pub fn disguise(&mut self, path: &RelPath, content: &Bytes) {
        let (id, version) = (self.number(), self.number());
        let Some(Node::File(file)) = self.tree(At::Cloud).get_mut(path) else {
            return;
        };
        let old = file.clone();
        file.content = content.clone();
        (file.id, file.version) = (id, version);
        self.mischief.note(Fault::Disguised);
        self.owe_somewhere(content);
        self.disguised.insert(content.clone(), old.content.clone());
        self.destroyed(vec![Node::File(old)]);
    }

    /// Whether a file stands, or stood, under the tag of another version.
    #[must_use]
    pub fn is_disguised(&self, node: Option<&Node>) -> bool {
        matches!(node, Some(Node::File(file)) if self.disguised.contains_key(file.means()))
    }

    /// The version under whose tag this one stands.
    #[must_use]
    pub fn disguised_as(&self, content: &Bytes) -> Option<&Bytes> {
        self.disguised.get(content)
    }

    /// The tool puts back what it had taken out: from now on nothing that it does may take that away.
    pub fn is_put_back(&mut self, tree: &Tree) {
        for node in tree.values() {
            if let Node::File(file) = node {
                self.returned.insert(file.means().clone());
            }
        }
    }

    /// What a request that came late wrote over: what somebody wrote there meanwhile, nothing on earth protects on such a
    /// server; what was put back there, is the tool's to protect.
    pub fn is_written_over(&mut self, tree: Option<Tree>) {
        let returned = std::mem::take(&mut self.returned);
        let is_lost = |node: &Node| match node {
            Node::File(file) => !returned.contains(file.means()),
            Node::Folder => false,
        };
        let gone = tree.into_iter().flat_map(Tree::into_values).filter(is_lost);
        self.destroyed(gone.collect());
        self.returned = returned;
    }

    /// A person destroyed copies of these versions. What nobody else has is not owed any more.
    pub fn destroyed(&mut self, gone: Vec<Node>) {
        self.before.clear();
        for node in gone {
            if let Node::File(file) = node {
                self.cherished.remove(file.means());
                // A stub has a name of its own in the tool's room, and its number is given to no other file.
                if file.stub.is_none() {
                    self.freed.push(file.id);
                    // While it is dropped here because it is there, somebody there who is quicker removes the last copy.
                    if !self.holds(&file.content) || (self.sheds && !self.stands(&file.content)) {
                        self.owed.remove(&file.content);
                    }
                }
            }
        }
    }

    fn holds(&self, content: &Bytes) -> bool {
        let in_tree = |tree: &Tree| {
            tree.values()
                .any(|node| matches!(node, Node::File(file) if file.own() == Some(content)))
        };
        let on_shelves = |shelves: &Shelves| shelves.spares.values().any(in_tree);
        self.trees.values().any(in_tree) || self.shelves.values().any(on_shelves)
    }

    /// Whether it bears a name on a side.
    fn stands(&self, content: &Bytes) -> bool {
        let in_tree = |tree: &Tree| {
            tree.values()
                .any(|node| matches!(node, Node::File(file) if file.own() == Some(content)))
        };
        self.trees.values().any(in_tree)
    }

    /// The versions that are nowhere any more, though nobody destroyed them; or in no list.
    #[must_use]
    pub fn lost(&self) -> Vec<Bytes> {
        let mut known = BTreeSet::new();
        let mut look = |tree: &Tree| {
            for node in tree.values() {
                if let Node::File(file) = node {
                    known.extend(file.own().cloned());
                }
            }
        };
        self.trees.values().for_each(&mut look);
        for ((at, computer), shelves) in &self.shelves {
            for (slot, tree) in &shelves.spares {
                if self.named.contains(&(*at, *computer, slot.clone())) {
                    look(tree);
                }
            }
        }
        let lost = self.owed.iter().filter(|content| !known.contains(*content));
        lost.cloned().collect()
    }

    /// These may be in the spares alone.
    pub fn may_stay_away(&mut self, tree: &Tree) {
        for node in tree.values() {
            if let Node::File(file) = node {
                self.cherished.remove(file.means());
            }
        }
    }

    /// What bears a name on a side and was never written by anybody: half a file.
    #[must_use]
    pub fn invented(&self) -> Vec<Bytes> {
        let nodes = self.trees.values().flat_map(Tree::values);
        nodes
            .filter_map(|node| match node {
                Node::File(file) => file
                    .own()
                    .filter(|own| !self.written.contains(*own))
                    .cloned(),
                Node::Folder => None,
            })
            .collect()
    }

    /// The versions that are in the spares alone, though nobody removed them or wrote over them.
    #[must_use]
    pub fn put_away(&self) -> Vec<Bytes> {
        let away = self
            .cherished
            .iter()
            .filter(|content| !self.stands(content));
        away.cloned().collect()
    }

    /// Before something is done to a disk that lies about syncing.
    pub fn remember(&mut self, at: At, changes: bool) {
        if !changes || at == At::Cloud || !self.has(Flaw::SkipsSync) {
            return;
        }
        let tree = self.tree(at).clone();
        self.before.push((at, tree, self.shelves.clone()));
        if self.before.len() > 4 {
            self.before.remove(0);
        }
    }

    /// The power is cut: a disk that lied about syncing has lost the last things that were done to it.
    pub fn cut_power(&mut self) {
        if self.before.is_empty() {
            return;
        }
        let (at, tree, shelves) = self.before.remove(0);
        self.before.clear();
        self.trees.insert(at, tree);
        let disks = shelves.into_iter().filter(|((place, _), _)| *place == at);
        for (key, shelf) in disks.collect::<Vec<_>>() {
            self.shelves.insert(key, shelf);
        }
    }

    /// The mark of a version as a side shows it.
    #[must_use]
    pub fn stamp(&self, at: At, file: &File) -> Stamp {
        let size = file.content.len();
        if let Some((size, _)) = &file.stub {
            let (version, id) = (file.version, file.id);
            return Stamp::of(StampKind::Stub, &format!("{size}:{version}:-:{id}"));
        }
        match (at, self.nature) {
            (At::Disk(_), _) => Stamp::new(&format!(
                "{size}:{}:{}:{}",
                file.version, file.changed, file.id
            )),
            // Two versions of one file, of one second and one length, look the same.
            (At::Cloud, Nature::Coarse) => {
                Stamp::new(&format!("{}-{}-{size}", file.id, file.written / SECOND))
            }
            (At::Cloud, Nature::ClockTags) => Stamp::new(&format!("{}-{size}", file.written)),
            (
                At::Cloud,
                Nature::Good | Nature::TellsChanges | Nature::HidesDots | Nature::PlacesOver,
            ) => Stamp::new(&file.version.to_string()),
        }
    }

    /// A node as a side shows it.
    #[must_use]
    pub fn entry(&self, at: At, node: &Node) -> Entry {
        let Node::File(file) = node else {
            return Entry::folder();
        };
        let size = match &file.stub {
            Some((size, _)) => *size,
            None => file.content.len() as u64,
        };
        let shown = Entry::file(size, self.stamp(at, file));
        match at {
            At::Disk(_) => Entry {
                edited: Some(EditTime(file.written)),
                ..shown
            },
            At::Cloud => Entry {
                received: Some(EditTime(file.written)),
                handle: self.nature.gives_ids().then(|| file.id.to_string().into()),
                ..shown
            },
        }
    }

    /// Whether what stands there is a version that was seen, wherever it was renamed to.
    #[must_use]
    pub fn is_version(&self, at: At, node: &Node, seen: &Entry) -> bool {
        let there = self.entry(at, node);
        if there.kind != seen.kind {
            return false;
        }
        if there.kind == Kind::Folder {
            return true;
        }
        let without_change_time = |stamp: &Stamp| {
            let parts: Vec<String> = stamp.as_str().split(':').map(str::to_owned).collect();
            match &parts[..] {
                [size, version, _, id] => vec![size.clone(), version.clone(), id.clone()],
                _ => parts,
            }
        };
        (there.size, there.is_stub()) == (seen.size, seen.is_stub())
            && without_change_time(&there.stamp) == without_change_time(&seen.stamp)
    }

    /// Takes what is at a path out of a tree, whole; the top of the answer is at the empty path.
    pub fn lift(&mut self, at: At, path: &RelPath) -> Option<Tree> {
        let tree = self.tree(at);
        tree.get(path)?;
        let inside: Vec<RelPath> = tree
            .range(path.clone()..)
            .take_while(|(below, _)| below.is_within(path))
            .map(|(below, _)| below.clone())
            .collect();
        let mut lifted = Tree::new();
        for below in inside {
            let under = below.as_str()[path.as_str().len()..].trim_start_matches('/');
            let (Ok(under), Some(node)) = (RelPath::parse(under), tree.remove(&below)) else {
                continue;
            };
            lifted.insert(under, node);
        }
        Some(lifted)
    }

    /// Puts a whole tree at a path. A disk notes that the name of its top changed.
    pub fn set_down(&mut self, at: At, path: &RelPath, mut lifted: Tree) {
        let now = self.now;
        if let (At::Disk(_), Some(Node::File(top))) = (at, lifted.get_mut(&RelPath::root())) {
            top.changed = now;
        }
        for (under, node) in lifted {
            let to = if under.is_root() {
                path.clone()
            } else {
                match RelPath::parse(&format!("{path}/{under}")) {
                    Ok(to) => to,
                    Err(_) => continue,
                }
            };
            self.tree(at).insert(to, node);
        }
    }

    /// Whether the folder that a path lies in is there.
    #[must_use]
    pub fn has_parent(&self, at: At, path: &RelPath) -> bool {
        path.parent().is_none_or(|parent| {
            parent.is_root()
                || self
                    .trees
                    .get(&at)
                    .is_some_and(|tree| tree.get(&parent) == Some(&Node::Folder))
        })
    }

    /// Whether a known fault was put into this world on purpose.
    #[must_use]
    pub fn has(&self, flaw: Flaw) -> bool {
        self.mischief.flaw == Some(flaw)
    }
}
