//! What makes it certain that the other side holds a content, as a type: without it, no last copy is destroyed.
//!
//! | the copy here goes because | what makes it certain |
//! |---|---|
//! | the far side told the digest of its current version, and it is that of the content here | [`By::Digest`] |
//! | its current version was read back, and is equal | [`By::ReadBack`] |
//! | it came from there and was never changed here, its tag there is the same and belongs to no other version, and some parts of it, drawn at random, were read there and are equal | [`By::Parts`]: evidence, and no proof |
//! | the lane is content with tags (`proof = "tags"`), and its tag there is the same | [`By::Tag`]: evidence, and called *believed* |
//!
//! A tag, a size and a date are never proof: servers make tags of times and sizes, which two files can share, and which
//! stay when somebody puts another version in a file's place and keeps its time.
//!
//! A proof is about one moment. So it is made in the operation that uses it up, right before; once more before the copy
//! goes, the far side is asked whether its version is the same; and what goes is hashed again, by then where nobody can
//! write into it any more.

use std::collections::BTreeMap;
use std::fs::File;
use std::time::Duration;

use futures_util::{StreamExt, stream};
use katabatic_core::blocks::{Grain, Stretch};
use katabatic_core::{Base, Digest, Entry, Kind, RelPath, Side, Stamp, Tally};
use ring::digest::{Context, SHA256};

use crate::Error;
use crate::config::ProofBy;
use crate::effort::ATTEMPTS;
use crate::effort::IN_FLIGHT;
use crate::ledger::rows::{self, LedgerRow};
use crate::ledger::spare_rows::Spare;
use crate::session::LockedLane;
use crate::session::Pass;
use crate::session::Trouble;
use crate::sides::digest::digest;
use crate::sides::{Sha256, SideError, SideStore};

/// By what a content is known to be on the other side.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum By {
    /// The digest that the other side told.
    Digest,
    /// Having read it back.
    ReadBack,
    /// Its tag, and parts of it that were read back.
    Parts,
    /// Its tag alone, with which the lane is content.
    Tag,
}

/// That a content is held elsewhere: on the other side, or where a folder was copied to. Only what has just read or asked
/// makes one (`prove`, `by_reading`), and what it allows uses it up.
#[derive(Debug, PartialEq, Eq)]
pub struct Proof {
    content: Digest,
    by: By,
    there: Option<(RelPath, Stamp)>,
}

impl Proof {
    /// The content that is there.
    #[must_use]
    pub fn content(&self) -> Digest {
        self.content
    }

    /// By what that is known.
    #[must_use]
    pub fn by(&self) -> By {
        self.by
    }

    /// That another file on this computer holds a content, which is read for it: a copy of which the original is to go.
    ///
    /// # Errors
    /// As the system says.
    pub(crate) fn by_reading(copy: File) -> std::io::Result<Proof> {
        let mut hasher = blake3::Hasher::new();
        hasher.update_reader(copy)?;
        Ok(Proof {
            content: Digest(*hasher.finalize().as_bytes()),
            by: By::ReadBack,
            there: None,
        })
    }

    /// Whether it is evidence only, so that what goes is believed to be there, and not proven.
    #[must_use]
    pub fn is_belief(&self) -> bool {
        match self.by {
            By::Digest | By::ReadBack => false,
            By::Parts | By::Tag => true,
        }
    }

    /// Whether the far side still shows the version that was proven, a moment before the copy here goes.
    ///
    /// # Errors
    /// As the side says.
    pub(crate) async fn still_holds(&self, far: &dyn SideStore) -> Result<bool, SideError> {
        let Some((at, stamp)) = &self.there else {
            return Ok(true);
        };
        let there = far.look(at).await?;
        Ok(there.is_some_and(|there| there.kind == Kind::File && there.stamp == *stamp))
    }
}

/// Why a copy on a shelf may be destroyed. There is no other way to.
#[derive(Debug, PartialEq, Eq)]
pub enum Warrant {
    /// The other side is known to hold its content.
    Proven(Proof),
    /// There is nothing in it.
    Empty(Empty),
    /// A person gave up this very version.
    GivenUp(OldVersion),
}

/// A stub, or a folder without anything in it.
#[derive(Debug, PartialEq, Eq)]
pub struct Empty(());

impl Empty {
    /// What a side shows there is a stub.
    #[must_use]
    pub fn stub(seen: &Entry) -> Option<Empty> {
        seen.is_stub().then_some(Empty(()))
    }

    /// What a side shows there is a folder; the side makes sure that nothing is in it.
    #[must_use]
    pub fn folder(seen: &Entry) -> Option<Empty> {
        (seen.kind == Kind::Folder).then_some(Empty(()))
    }
}

/// An old version that a person gave up by its number or its age.
#[derive(Debug, PartialEq, Eq)]
pub struct OldVersion {
    content: Option<Digest>,
    stamp: Option<Stamp>,
    folder: bool,
}

impl OldVersion {
    /// The version that lies in a spare; only for one that a person gave up.
    #[must_use]
    pub fn of(spare: &Spare) -> OldVersion {
        OldVersion {
            content: spare.content,
            stamp: spare.stamp.clone(),
            folder: spare.folder,
        }
    }

    /// Its content, where that is known.
    #[must_use]
    pub fn content(&self) -> Option<Digest> {
        self.content
    }

    /// The stamp that the side gave it, where that is known.
    #[must_use]
    pub fn stamp(&self) -> Option<&Stamp> {
        self.stamp.as_ref()
    }

    /// Whether it is a whole folder.
    #[must_use]
    pub fn is_folder(&self) -> bool {
        self.folder
    }
}

/// That the far side has, under a name, what is here.
pub(crate) struct Claim<'a> {
    /// Where it is here.
    pub(crate) path: &'a RelPath,
    /// The version here.
    pub(crate) near: &'a Entry,
    /// Where it is there.
    pub(crate) at: &'a RelPath,
    /// The version there, as it was seen.
    pub(crate) far: &'a Entry,
}

/// What the far side told of digests in its listings, in this very operation.
#[derive(Debug, Default)]
pub(crate) struct Told(BTreeMap<RelPath, (Stamp, Sha256)>);

/// So many files of one folder are worth one listing of its digests.
const WORTH_A_LISTING: usize = 3;

/// Asks for the digests of files, folder by folder, where the far side tells them in a listing.
pub(crate) async fn told(pass: &Pass, paths: impl Iterator<Item = &RelPath>) -> Told {
    let far = pass.store(Side::Far);
    let mut folders: BTreeMap<RelPath, usize> = BTreeMap::new();
    if far.gives_digests() {
        for path in paths {
            let above = path.parent().unwrap_or_else(RelPath::root);
            *folders.entry(above).or_default() += 1;
        }
    }
    folders.retain(|_, files| *files >= WORTH_A_LISTING);
    let listed = stream::iter(folders.into_keys())
        .map(|folder| {
            let far = &far;
            async move {
                let told = far.digests_in(&folder).await.unwrap_or_else(|why| {
                    // Each file is asked about by itself then, and says what is the matter.
                    tracing::debug!("the digests in {folder} are not told: {why}");
                    BTreeMap::new()
                });
                (folder, told)
            }
        })
        .buffer_unordered(IN_FLIGHT)
        .collect::<Vec<_>>()
        .await;
    let mut all = Told::default();
    for (folder, told) in listed {
        for (name, digest) in told {
            if let Ok(path) = folder.join(&name) {
                all.0.insert(path, digest);
            }
        }
    }
    all
}

/// What it takes to prove what the far side holds, told before any of it is done.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Outlook {
    /// Files whose digest the far side is asked for.
    pub asked: u64,
    /// Files of which the tag is believed.
    pub believed: u64,
    /// Files of which parts are read there, and the bytes of those.
    pub parts: Tally,
    /// Files that are read back there, and their bytes.
    pub read_back: Tally,
}

impl Outlook {
    /// Files of which anything has to be read there, and the bytes that come for that.
    #[must_use]
    pub fn reads(&self) -> Tally {
        Tally {
            files: self.parts.files + self.read_back.files,
            bytes: self.parts.bytes.saturating_add(self.read_back.bytes),
        }
    }

    pub(crate) fn add(&mut self, (way, size): (Way, u64)) {
        let tally = match way {
            Way::AskForTheDigest => return self.asked += 1,
            Way::BeContentWithTheTag => return self.believed += 1,
            Way::ReadParts => &mut self.parts,
            Way::ReadBack => &mut self.read_back,
        };
        tally.files += 1;
        let bytes = match way {
            Way::ReadParts => size.min(PART * PARTS),
            Way::AskForTheDigest | Way::BeContentWithTheTag | Way::ReadBack => size,
        };
        tally.bytes = tally.bytes.saturating_add(bytes);
    }
}

/// Parts of this size are read where evidence is enough, and so many of them.
const PART: u64 = Grain::USUAL.block;
const PARTS: u64 = 4;

/// How something is to be proven.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Way {
    AskForTheDigest,
    BeContentWithTheTag,
    ReadParts,
    ReadBack,
}

/// How a claim can be proven, by what is known of the file here.
fn way(pass: &Pass, known: &Known, claim: &Claim<'_>) -> Way {
    let store = &pass.lane.far;
    let row = known.row.as_ref().filter(|row| !row.unproven);
    let agreed = row.and_then(|row| {
        let base = row.base.as_ref()?;
        // That what is here is young does not matter: it is read again before it goes.
        let as_agreed =
            base.far == claim.far.stamp && base.near.undoubted() == claim.near.stamp.undoubted();
        // A tag speaks of one file alone; of another one an equal tag says nothing.
        let is_that_file = claim.path == claim.at
            || known.handle.is_some() && store.handle(claim.far) == known.handle;
        (as_agreed && is_that_file && base.content.is_some()).then_some(row.came_down)
    });
    match (pass.lane.config.proof, agreed) {
        _ if store.gives_digests() => Way::AskForTheDigest,
        (ProofBy::Tags, Some(_)) if store.tags_are_evidence() => Way::BeContentWithTheTag,
        (_, Some(true)) if store.tags_are_evidence() => Way::ReadParts,
        _ => Way::ReadBack,
    }
}

/// How a claim is going to be proven, and the size of the file.
///
/// # Errors
/// Where the ledger cannot be read.
pub(crate) fn cost(pass: &Pass, claim: &Claim<'_>) -> Result<(Way, u64), Error> {
    let known = known(pass, claim.path)?;
    Ok((way(pass, &known, claim), claim.far.size))
}

/// What the ledger has of a path.
struct Known {
    row: Option<LedgerRow>,
    handle: Option<String>,
}

fn known(pass: &Pass, path: &RelPath) -> Result<Known, Error> {
    let lane = pass.lane.row.key;
    pass.ledger.read(|connection| {
        Ok(Known {
            row: rows::row(connection, lane, path)?,
            handle: rows::handle(connection, lane, path, Side::Far)?,
        })
    })
}

fn not_proven(why: &str) -> Trouble {
    Trouble::Met(why.to_owned())
}

const ANOTHER_THERE: &str = "another version is there by now, so this one stays here";

/// Proves that the far side holds now what is here.
///
/// # Errors
/// [`Trouble::Met`] where it does not, or that cannot be proven.
pub(crate) async fn prove(
    pass: &LockedLane,
    claim: &Claim<'_>,
    told: &Told,
) -> Result<Proof, Trouble> {
    let Claim {
        path,
        near,
        at,
        far,
    } = claim;
    let at_far = |error: SideError| match error {
        SideError::Changed(why) => Trouble::Met(why),
        SideError::Missing => not_proven(ANOTHER_THERE),
        error => Trouble::Side(Side::Far, error),
    };
    let there = pass.lane.far.look(at).await.map_err(at_far)?;
    let there = there.filter(|there| there.kind == Kind::File && there.size == near.size);
    let Some(there) = there.filter(|there| there.stamp == far.stamp) else {
        return Err(not_proven(ANOTHER_THERE));
    };
    let known = known(pass, path)?;
    let made = |content, by| Proof {
        content,
        by,
        there: Some(((*at).clone(), there.stamp.clone())),
    };
    let way = way(pass, &known, claim);
    if let Way::AskForTheDigest = way
        && let Some(told) = digest_told(pass, told, (at, &there))
            .await
            .map_err(at_far)?
    {
        let (content, own) = both_digests(&*pass.lane.near, path, near)
            .await
            .map_err(at_near)?;
        return match own == told {
            true => Ok(made(content, By::Digest)),
            false => Err(not_proven(
                "the digest of what is there is not that of what is here: it stays here",
            )),
        };
    }
    let base = known.row.as_ref().and_then(|row| row.base.as_ref());
    let content = content_here(pass, path, near, base).await?;
    // A tag speaks of what was agreed on; of a content that is another by now it says nothing, whatever its stamp.
    let is_agreed = base.and_then(|base| base.content) == Some(content);
    match way {
        Way::BeContentWithTheTag if is_agreed => return Ok(made(content, By::Tag)),
        Way::ReadParts if is_agreed => {
            let equal = parts_are_equal(pass, claim, &there).await.map_err(at_far)?;
            if equal {
                return Ok(made(content, By::Parts));
            }
        }
        Way::BeContentWithTheTag | Way::ReadParts | Way::AskForTheDigest | Way::ReadBack => {}
    }
    let read = read_back(&*pass.lane.far, at, &there)
        .await
        .map_err(at_far)?;
    match read == content {
        true => Ok(made(content, By::ReadBack)),
        false => Err(not_proven(
            "what is there was read, and is not what is here: it stays here",
        )),
    }
}

fn at_near(error: SideError) -> Trouble {
    match error {
        SideError::Changed(why) => Trouble::Met(why),
        error => Trouble::Side(Side::Near, error),
    }
}

async fn content_here(
    pass: &Pass,
    path: &RelPath,
    near: &Entry,
    base: Option<&Base>,
) -> Result<Digest, Trouble> {
    let agreed = base.filter(|base| base.near == near.stamp);
    match near.content.or(agreed.and_then(|base| base.content)) {
        Some(content) => Ok(content),
        None => digest(&*pass.lane.near, path, near).await.map_err(at_near),
    }
}

/// The digest that the far side tells of its current version: in the listing of before, or asked for now.
async fn digest_told(
    pass: &Pass,
    told: &Told,
    (at, there): (&RelPath, &Entry),
) -> Result<Option<Sha256>, SideError> {
    match told.0.get(at) {
        Some((stamp, digest)) if *stamp == there.stamp => Ok(Some(*digest)),
        _ => pass.lane.far.digest_there(at, there).await,
    }
}

/// Both digests of a content here, by reading it once.
async fn both_digests(
    near: &dyn SideStore,
    path: &RelPath,
    seen: &Entry,
) -> Result<(Digest, Sha256), SideError> {
    let mut source = near.read(path, seen).await?;
    let (mut ours, mut theirs) = (blake3::Hasher::new(), Context::new(&SHA256));
    while let Some(chunk) = source.content.next().await {
        let chunk = chunk?;
        ours.update(&chunk);
        theirs.update(&chunk);
    }
    let theirs = theirs.finish();
    let theirs = Sha256::from_slice(theirs.as_ref())
        .ok_or_else(|| SideError::Failed("a digest has another length".into()))?;
    Ok((Digest(*ours.finalize().as_bytes()), theirs))
}

/// The digest of a version there, by reading it; where the line is cut, it goes on from there.
async fn read_back(far: &dyn SideStore, at: &RelPath, there: &Entry) -> Result<Digest, SideError> {
    let (mut hasher, mut read, mut attempt) = (blake3::Hasher::new(), 0, 1);
    loop {
        let before = read;
        match read_on(far, at, there, (&mut hasher, &mut read)).await {
            Ok(()) => return Ok(Digest(*hasher.finalize().as_bytes())),
            Err(SideError::TryAgain(why)) if attempt < ATTEMPTS || read > before => {
                tracing::debug!("{at} is read on from {read}: {why}");
                // A line that brings something each time is worth every further attempt.
                attempt = if read > before { 1 } else { attempt + 1 };
                tokio::time::sleep(Duration::from_millis(50 << attempt)).await;
            }
            Err(why) => return Err(why),
        }
    }
}

async fn read_on(
    far: &dyn SideStore,
    at: &RelPath,
    there: &Entry,
    (hasher, read): (&mut blake3::Hasher, &mut u64),
) -> Result<(), SideError> {
    let mut source = far.read_from(at, there, *read).await?;
    // Where all of it comes again, what was read before is passed over.
    let mut again = read.saturating_sub(source.from);
    while let Some(chunk) = source.content.next().await {
        let chunk = chunk?;
        let skipped = again.min(chunk.len() as u64);
        again -= skipped;
        let new = &chunk[usize::try_from(skipped).unwrap_or(chunk.len())..];
        hasher.update(new);
        *read += new.len() as u64;
    }
    Ok(())
}

/// Whether some parts of a version, drawn at random, are the same on both sides.
async fn parts_are_equal(pass: &Pass, claim: &Claim<'_>, there: &Entry) -> Result<bool, SideError> {
    for part in drawn(there.size)? {
        let here = pass
            .lane
            .near
            .read_part(claim.path, claim.near, part)
            .await?;
        let far = pass.lane.far.read_part(claim.at, there, part).await?;
        if here != far || far.len() as u64 != part.length {
            return Ok(false);
        }
    }
    Ok(true)
}

/// The first and the last block of a file of this size, and some between them.
pub(crate) fn drawn(size: u64) -> Result<Vec<Stretch>, SideError> {
    let stretch = |from: u64| Stretch {
        from,
        length: PART.min(size - from),
    };
    if size <= PART * PARTS {
        let whole = Stretch {
            from: 0,
            length: size,
        };
        return Ok(if size == 0 { Vec::new() } else { vec![whole] });
    }
    let chosen = some_numbers(size.div_ceil(PART))?;
    Ok(chosen
        .into_iter()
        .map(|block| stretch(block * PART))
        .collect())
}

/// The first and the last of some blocks, and others drawn at random; all where they are few.
pub(crate) fn some_of(blocks: &[u64]) -> Result<Vec<u64>, SideError> {
    let chosen = some_numbers(blocks.len() as u64)?;
    let block = |number: u64| usize::try_from(number).ok().and_then(|at| blocks.get(at));
    Ok(chosen.into_iter().filter_map(block).copied().collect())
}

/// Of so many numbers, from 0, the first and the last, and others drawn at random; all where they are few.
fn some_numbers(count: u64) -> Result<Vec<u64>, SideError> {
    if count <= PARTS {
        return Ok((0..count).collect());
    }
    let mut chosen = vec![0, count - 1];
    while (chosen.len() as u64) < PARTS {
        let mut bytes = [0; 8];
        getrandom::fill(&mut bytes)
            .map_err(|why| SideError::Failed(format!("there is no randomness: {why}")))?;
        let drawn = u64::from_le_bytes(bytes) % count;
        if !chosen.contains(&drawn) {
            chosen.push(drawn);
        }
    }
    Ok(chosen)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_are_the_ends_and_some_between_and_no_part_twice() {
        assert_eq!(drawn(0).unwrap(), []);
        assert_eq!(drawn(5).unwrap(), [Stretch { from: 0, length: 5 }]);
        for size in [PART * PARTS + 1, PART * 100 + 7, 1 << 50] {
            let parts = drawn(size).unwrap();
            assert_eq!(parts.len() as u64, PARTS);
            assert_eq!(parts[0].from, 0);
            assert_eq!(parts[1].from + parts[1].length, size);
            let starts: std::collections::BTreeSet<u64> =
                parts.iter().map(|part| part.from).collect();
            assert_eq!(starts.len() as u64, PARTS);
        }
    }
}
