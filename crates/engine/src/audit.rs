//! Proof, not belief: both sides of a lane are read and compared byte for byte.
//!
//! A pass believes stamps, as it has to. An audit believes nothing but content: every file is read on both sides, so that
//! what a disk, a server or a wrong ledger quietly spoilt is found. It changes neither side. It does put the ledger right:
//! what is equal and was not known to be is recorded, and what was called settled and is not equal is forgotten, so that
//! the next pass compares it as if for the first time.

use std::collections::BTreeMap;
use std::sync::Arc;

use futures_util::{StreamExt, TryStreamExt, stream};
use katabatic_core::{
    Base, Digest, Direction, EditTime, Entry, Kind, LeftOutBy, Listing, PerSide, Reconciler,
    RelPath, Side, Tally, Triple, Unknown, View, words,
};
use tokio::sync::mpsc;

use crate::Error;
use crate::pass::scan::tell_both;
use crate::pass::shared_tags::SharedTags;
use crate::pass::{Pass, Wish, primitive};
use crate::session::LockedLane;
use katabatic_ledger::rows::{self, Agreed};
use katabatic_sides::digest::digest_of;
use katabatic_sides::{SideError, SideStore, Unusable};

/// Pairs of files that are read at a time.
const READ_AT_A_TIME: usize = 4;
const BUFFER: usize = 1024;

/// What one path came to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Verdict {
    /// Both sides hold it, with different content, or as different kinds of thing.
    Different,
    /// Only the near side holds it.
    OnlyNear,
    /// Only the far side holds it.
    OnlyFar,
    /// A side could not be read.
    Unread,
    /// Sizes are equal, but neither tags nor anything recorded proves the content (`quick` alone).
    Unproven,
}

impl Verdict {
    /// The word for it in answers to programs.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Verdict::Different => "different",
            Verdict::OnlyNear => "only here",
            Verdict::OnlyFar => "only there",
            Verdict::Unread => "not read",
            Verdict::Unproven => "not proven",
        }
    }
}

/// A path that is not equal on both sides.
#[derive(Clone, Debug)]
pub struct Finding {
    /// The path.
    pub path: RelPath,
    /// What it came to.
    pub verdict: Verdict,
    /// What the near side shows.
    pub near: Option<Entry>,
    /// What the far side shows.
    pub far: Option<Entry>,
    /// Why, in words; empty where the verdict says it all.
    pub why: String,
}

/// What one side holds in a folder.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Holds {
    /// Files.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Folders.
    pub folders: u64,
}

/// A folder at the top of the lane, on both sides.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Counted {
    /// On the near side.
    pub near: Holds,
    /// On the far side.
    pub far: Holds,
    /// Files that are equal.
    pub equal: u64,
}

impl Counted {
    fn side(&mut self, side: Side) -> &mut Holds {
        match side {
            Side::Near => &mut self.near,
            Side::Far => &mut self.far,
        }
    }

    /// Adds another folder.
    #[must_use]
    pub fn and(mut self, other: &Counted) -> Counted {
        for side in [Side::Near, Side::Far] {
            let more = match side {
                Side::Near => other.near,
                Side::Far => other.far,
            };
            let holds = self.side(side);
            holds.files += more.files;
            holds.bytes = holds.bytes.saturating_add(more.bytes);
            holds.folders += more.folders;
        }
        self.equal += other.equal;
        self
    }
}

/// What an audit found.
#[derive(Clone, Debug, Default)]
pub struct Audit {
    /// When it began.
    pub began: Option<EditTime>,
    /// When it ended.
    pub ended: Option<EditTime>,
    /// Whether content was only compared by sizes, tags and what is recorded.
    pub quick: bool,
    /// By the folders at the top; the files beside them under the empty name.
    pub folders: BTreeMap<String, Counted>,
    /// Stubs whose version tag there is the one they were made of, and the bytes that they show; nothing was read of them.
    pub stubs: Tally,
    /// Bytes that were read on the near side and on the far side.
    pub read: (u64, u64),
    /// Whatever is not equal, in tree order.
    pub findings: Vec<Finding>,
    /// What rules and the choice leave out, by the rule or the folder.
    pub left_out: BTreeMap<String, Tally>,
    /// Names that no lane can carry.
    pub unusable: Vec<Unusable>,
    /// Whether both tops were listed whole.
    pub whole: bool,
    /// Rows of the ledger that were recorded anew because both sides are equal, or forgotten because they are not.
    pub put_right: (u64, u64),
}

impl Audit {
    /// Whether every file of the lane is proven to be equal on both sides.
    #[must_use]
    pub fn all_equal(&self) -> bool {
        self.findings.is_empty() && self.whole
    }

    /// Everything added up.
    #[must_use]
    pub fn total(&self) -> Counted {
        self.folders
            .values()
            .fold(Counted::default(), |sum, folder| sum.and(folder))
    }
}

/// How much an audit would read: files that both sides hold, their bytes here, and their bytes there.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ToRead {
    /// Files.
    pub files: u64,
    /// Bytes on the near side.
    pub near: u64,
    /// Bytes on the far side.
    pub far: u64,
}

/// Counts what an audit would read.
///
/// # Errors
/// Where a side is not there or refuses.
pub async fn to_read(pass: &Pass) -> Result<ToRead, Error> {
    pass.check_roots().await?;
    let mut sum = ToRead::default();
    let mut sieve = pass.reconciler(&Wish::default());
    look(pass, async |chunk| {
        for triple in chunk.drain(..) {
            let pair = files(&triple).filter(|(near, _)| !near.is_stub());
            let pair = pair.map(|(near, far)| (near.size, far.size));
            if taken(&mut sieve, triple).is_none()
                && let Some((near, far)) = pair
                && near == far
            {
                sum.files += 1;
                sum.near += near;
                sum.far += far;
            }
        }
        Ok(())
    })
    .await?;
    Ok(sum)
}

/// Reads both sides and compares them; what was `counted` before lets the progress say how much is left.
///
/// # Errors
/// Where a side is not there or refuses, the ledger cannot be written, or somebody asked to stop.
pub async fn audit(pass: &Pass, quick: bool, counted: Option<ToRead>) -> Result<Audit, Error> {
    if let Some(counted) = counted {
        let bytes = counted.near.saturating_add(counted.far);
        pass.progress.begin_carrying(counted.files, bytes);
    }
    let pass = &pass.lock()?;
    pass.check_roots().await?;
    let unfinished = pass.left_unfinished()?;
    let mut audit = Audit {
        began: Some(pass.clock.now()),
        quick,
        ..Audit::default()
    };
    let mut sieve = pass.reconciler(&Wish::default());
    let mut rows = Rows::default();
    let told = look(pass, async |chunk| {
        pass.progress.saw(chunk.len());
        let mut mine = Vec::with_capacity(chunk.len());
        for triple in chunk.drain(..) {
            if taken(&mut sieve, triple.clone()).is_none() {
                mine.push(triple);
            }
        }
        let compared = stream::iter(mine)
            .map(|triple| compare(pass, triple, quick))
            .buffered(READ_AT_A_TIME);
        let compared: Vec<(Triple, Compared)> = compared.collect().await;
        if pass.stop.asked() {
            return Err(pass.side_failed(Side::Near, &SideError::Stopped));
        }
        for (triple, compared) in compared {
            let compared = match unfinished.get(&triple.path) {
                // What an earlier pass was cut off in is not for an audit to record.
                Some((_, why)) => {
                    let why = format!("an earlier pass was cut off here: {why}");
                    Compared::Not(Verdict::Unread, why)
                }
                None => {
                    rows.note(pass, &triple, &compared);
                    compared
                }
            };
            audit.take(triple, compared);
        }
        rows.write(pass).await
    })
    .await?;
    sieve.finish(&mut |_| {});
    audit.whole = told.whole;
    audit.unusable = told.unusable;
    audit.left_out = sieve
        .left_out()
        .iter()
        .filter(|(by, _)| !matches!(by, LeftOutBy::StandsHere(_)))
        .map(|(by, tally)| (words::left_out_name(by), *tally))
        .collect();
    audit.put_right = rows.written;
    audit.ended = Some(pass.clock.now());
    Ok(audit)
}

struct Looked {
    whole: bool,
    unusable: Vec<Unusable>,
}

/// Lists both sides whole; a change token would be somebody's word.
async fn look(
    pass: &Pass,
    each: impl AsyncFnMut(&mut Vec<Triple>) -> Result<(), Error>,
) -> Result<Looked, Error> {
    let (found, far) = mpsc::channel(BUFFER);
    let store = pass.store(Side::Far);
    let scanning = tokio::spawn(async move { store.scan(found).await });
    // Everything is read anyway.
    let far = (far, &SharedTags::default());
    let told = tell_both(pass, None, far, scanning, each).await?;
    let whole = told
        .roots
        .iter()
        .all(|(_, listing)| *listing == Listing::Complete);
    Ok(Looked {
        whole,
        unusable: told.unusable,
    })
}

/// What leaves a path out, if anything.
fn taken(sieve: &mut Reconciler, triple: Triple) -> Option<LeftOutBy> {
    sieve.push(triple, &mut |_| {})
}

/// The digest of a version, by reading it; each piece is told to the progress.
async fn read(
    pass: &Pass,
    store: &dyn SideStore,
    path: &RelPath,
    seen: &Entry,
) -> Result<Digest, SideError> {
    let mut source = store.read(path, seen).await?;
    let progress = Arc::clone(&pass.progress);
    source.content = source
        .content
        .inspect_ok(move |piece| progress.carried_bytes(piece.len() as u64))
        .boxed();
    digest_of(source).await
}

/// Both entries, where both sides hold a file.
fn files(triple: &Triple) -> Option<(&Entry, &Entry)> {
    match (triple.views.near.entry(), triple.views.far.entry()) {
        (Some(near), Some(far)) if near.kind == Kind::File && far.kind == Kind::File => {
            Some((near, far))
        }
        _ => None,
    }
}

/// How one path came out.
enum Compared {
    /// Both hold this content, which was read so far.
    Equal(Digest),
    /// Both hold a folder, or neither holds anything.
    Nothing,
    /// Sizes, tags and what is recorded agree.
    AsRecorded,
    /// Here is a stub, and there the version it was made of.
    Stub,
    /// It is not equal: why.
    Not(Verdict, String),
    /// The content differs: what was read.
    Differs,
}

async fn compare(pass: &Pass, mut triple: Triple, quick: bool) -> (Triple, Compared) {
    // What no listing shows may be there all the same.
    let hides = pass.store(Side::Far).may_hide(&triple.path);
    let never_listed = matches!(triple.views.far, View::Unknown(Unknown::NeverListed));
    if never_listed || (hides && triple.views.far == View::Absent) {
        triple.views.far = match pass.store(Side::Far).look(&triple.path).await {
            Ok(Some(entry)) => View::Present(entry),
            Ok(None) => View::Absent,
            Err(why) => View::Unknown(Unknown::NotListed(why.to_string())),
        };
    }
    let compared = compare_views(pass, &triple, quick).await;
    (triple, compared)
}

async fn compare_views(pass: &Pass, triple: &Triple, quick: bool) -> Compared {
    let sides = pass.lane.config.side_names();
    let unread = |side: Side, why: String| {
        Compared::Not(Verdict::Unread, format!("{}: {why}", sides.at(side)))
    };
    let (near, far) = match (&triple.views.near, &triple.views.far) {
        (View::Unknown(why), _) => return unread(Side::Near, why.to_string()),
        (_, View::Unknown(why)) => return unread(Side::Far, why.to_string()),
        (View::Absent, View::Absent) => return Compared::Nothing,
        (View::Present(_), View::Absent) => return Compared::Not(Verdict::OnlyNear, String::new()),
        (View::Absent, View::Present(_)) => return Compared::Not(Verdict::OnlyFar, String::new()),
        (View::Present(near), View::Present(far)) => (near, far),
    };
    match (near.kind, far.kind) {
        (Kind::Folder, Kind::Folder) => {
            for (side, entry) in [(Side::Near, near), (Side::Far, far)] {
                if let Listing::Incomplete(why) = &entry.listing {
                    return unread(side, format!("what lies in it: {why}"));
                }
            }
            return Compared::Nothing;
        }
        (Kind::File, Kind::File) => {}
        _ => return Compared::Not(Verdict::Different, "they are not of one kind".into()),
    }
    if near.size != far.size {
        return Compared::Not(
            Verdict::Different,
            format!(
                "{} {}, {} {}",
                words::bytes(near.size),
                sides.at(Side::Near),
                words::bytes(far.size),
                sides.at(Side::Far)
            ),
        );
    }
    if near.is_stub() {
        let as_agreed = triple
            .base
            .as_ref()
            .is_some_and(|base| base.stamps.near == near.stamp && base.stamps.far == far.stamp);
        return match as_agreed {
            true => Compared::Stub,
            false => Compared::Not(
                Verdict::Unproven,
                "one side holds a stub, and the other another version than the one it was made of: the next pass renews it".into(),
            ),
        };
    }
    if quick {
        let as_recorded = triple.base.as_ref().is_some_and(|base| {
            base.size == near.size
                && base.stamps.near == near.stamp
                && base.stamps.far == far.stamp
                && base.content.is_some()
        });
        let so_soon = triple.base.as_ref().is_some_and(|base| {
            base.stamps.near.undoubted() == near.stamp && base.stamps.far.undoubted() == far.stamp
        });
        return match (as_recorded, so_soon) {
            (true, _) => Compared::AsRecorded,
            (false, true) => Compared::Not(
                Verdict::Unproven,
                "equal in size; it was carried so soon after it was written that tags prove nothing yet: the next pass reads it".into(),
            ),
            (false, false) => Compared::Not(
                Verdict::Unproven,
                "equal in size; it changed since it was carried, or never was".into(),
            ),
        };
    }
    let (near_store, far_store) = (pass.store(Side::Near), pass.store(Side::Far));
    let (here, there) = tokio::join!(
        read(pass, &*near_store, &triple.path, near),
        read(pass, &*far_store, &triple.path, far)
    );
    pass.progress.carried_file();
    match (here, there) {
        (Ok(here), Ok(there)) if here == there => Compared::Equal(here),
        (Ok(_), Ok(_)) => Compared::Differs,
        (Err(why), _) => unread(Side::Near, why.to_string()),
        (_, Err(why)) => unread(Side::Far, why.to_string()),
    }
}

impl Audit {
    fn take(&mut self, triple: Triple, compared: Compared) {
        let top = match triple.path.parent() {
            Some(parent) if !parent.is_root() => triple.path.parts().next().unwrap_or_default(),
            _ if triple.views.near.is_folder() || triple.views.far.is_folder() => {
                triple.path.name()
            }
            _ => "",
        };
        let counted = self.folders.entry(top.to_owned()).or_default();
        for (side, view) in [
            (Side::Near, &triple.views.near),
            (Side::Far, &triple.views.far),
        ] {
            let Some(entry) = view.entry() else { continue };
            let holds = counted.side(side);
            match entry.kind {
                Kind::File => {
                    holds.files += 1;
                    holds.bytes = holds.bytes.saturating_add(entry.size);
                }
                Kind::Folder => holds.folders += 1,
                Kind::Odd(_) => {}
            }
        }
        let size = triple.views.near.entry().map_or(0, |entry| entry.size);
        let (verdict, why) = match compared {
            Compared::Nothing => return,
            Compared::Stub => {
                self.stubs.files += 1;
                self.stubs.bytes = self.stubs.bytes.saturating_add(size);
                return;
            }
            Compared::AsRecorded => {
                counted.equal += 1;
                return;
            }
            Compared::Equal(_) => {
                counted.equal += 1;
                self.read = (self.read.0 + size, self.read.1 + size);
                return;
            }
            Compared::Differs => {
                self.read = (self.read.0 + size, self.read.1 + size);
                let known = triple.base.as_ref().is_some_and(|base| {
                    let same = |side: Side, view: &View| {
                        view.entry()
                            .is_some_and(|entry| entry.stamp == base.stamps[side].undoubted())
                    };
                    same(Side::Near, &triple.views.near) && same(Side::Far, &triple.views.far)
                });
                let why = match known {
                    true => {
                        "the same size, other content; it was called settled, which was wrong: the next pass compares it anew"
                    }
                    false => "the same size, other content",
                };
                (Verdict::Different, why.to_owned())
            }
            Compared::Not(verdict, why) => (verdict, why),
        };
        self.findings.push(Finding {
            path: triple.path,
            verdict,
            near: triple.views.near.entry().cloned(),
            far: triple.views.far.entry().cloned(),
            why,
        });
    }
}

/// What is to be put right in the ledger.
#[derive(Default)]
struct Rows {
    agreed: Vec<Agreed>,
    forgotten: Vec<RelPath>,
    written: (u64, u64),
}

impl Rows {
    fn note(&mut self, pass: &Pass, triple: &Triple, compared: &Compared) {
        let Some((near, far)) = files(triple) else {
            return;
        };
        let stamps = |base: &Base| {
            base.stamps.near.undoubted() == near.stamp && base.stamps.far.undoubted() == far.stamp
        };
        match compared {
            Compared::Equal(content) => {
                let base = triple.base.as_ref();
                let known = base.is_some_and(|base| stamps(base) && base.content == Some(*content));
                // A removal that is remembered is somebody's answer, and stays.
                let answered = base.is_some_and(|base| base.away.is_some());
                // What a one-way lane did not put there is not its own, however equal it is.
                let stranger =
                    base.is_none() && pass.lane.config.terms.direction != Direction::TwoWay;
                if known || answered || stranger {
                    return;
                }
                let agreed = Base {
                    kind: Kind::File,
                    size: near.size,
                    content: Some(*content),
                    stamps: PerSide {
                        near: near.stamp.clone(),
                        far: far.stamp.clone(),
                    },
                    listed: PerSide {
                        near: true,
                        far: base.is_none_or(|base| base.listed.far),
                    },
                    away: None,
                };
                let edited = near.edited.or(far.edited);
                self.agreed.push(primitive::agreed(
                    pass,
                    &triple.path,
                    agreed,
                    edited,
                    (Some(near), Some(far)),
                ));
            }
            Compared::Differs => {
                if triple.base.as_ref().is_some_and(stamps) {
                    self.forgotten.push(triple.path.clone());
                }
            }
            Compared::Nothing | Compared::AsRecorded | Compared::Stub | Compared::Not(..) => {}
        }
    }

    async fn write(&mut self, pass: &LockedLane) -> Result<(), Error> {
        let agreed = std::mem::take(&mut self.agreed);
        let forgotten = std::mem::take(&mut self.forgotten);
        if agreed.is_empty() && forgotten.is_empty() {
            return Ok(());
        }
        self.written.0 += agreed.len() as u64;
        self.written.1 += forgotten.len() as u64;
        let lane = pass.lane.row.key;
        pass.ledger
            .write(move |connection| {
                for agreed in &agreed {
                    rows::agree(connection, lane, agreed)?;
                }
                for path in &forgotten {
                    rows::forget(connection, lane, path)?;
                }
                Ok(())
            })
            .await
    }
}
