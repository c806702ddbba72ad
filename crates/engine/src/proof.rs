//! By what it is made certain that the other side holds a content; without that, no last copy is destroyed.
//!
//! | the copy here goes because | what makes it certain |
//! |---|---|
//! | the far side told the digest of its current version, and it is that of the content here | [`katabatic_sides::proof::By::Digest`] |
//! | its current version was read back, and is equal | [`katabatic_sides::proof::By::ReadBack`] |
//! | it came from there and was never changed here, its tag there is the same and belongs to no other version, and some parts of it, drawn at random, were read there and are equal | [`katabatic_sides::proof::By::Parts`]: evidence, and no proof |
//! | the lane is content with tags (`proof = "tags"`), and its tag there is the same | [`katabatic_sides::proof::By::Tag`]: evidence, and called *believed* |
//!
//! A tag, a size and a date are never proof: servers make tags of times and sizes, which two files can share, and which
//! stay when somebody puts another version in a file's place and keeps its time.
//!
//! A proof is about one moment. So it is made in the operation that uses it up, right before; once more before the copy
//! goes, the far side is asked whether its version is the same; and what goes is hashed again, by then where nobody can
//! write into it any more.

use std::collections::BTreeMap;

use futures_util::{StreamExt, stream};
use katabatic_core::{Base, Digest, Entry, Kind, RelPath, Side, Stamp, Tally};

use crate::Error;
use crate::config::ProofBy;
use crate::session::{LockedLane, Pass, Trouble};
use katabatic_ledger::rows::{self, LedgerRow};
use katabatic_sides::digest::digest;
use katabatic_sides::effort::IN_FLIGHT;
use katabatic_sides::proof::{PART, PARTS, Proof, Version};
use katabatic_sides::{Sha256, SideError};

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
        let as_agreed = base.stamps.far == claim.far.stamp
            && base.stamps.near.undoubted() == claim.near.stamp.undoubted();
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
    let version = Version { at, seen: &there };
    let (near_store, far_store) = (&*pass.lane.near, &*pass.lane.far);
    let way = way(pass, &known, claim);
    if let Way::AskForTheDigest = way
        && let Some(told) = digest_told(pass, told, (at, &there))
            .await
            .map_err(at_far)?
    {
        let proof = Proof::by_digest(near_store, (path, near), version, told).await;
        return proof.map_err(at_near)?.ok_or_else(|| {
            not_proven("the digest of what is there is not that of what is here: it stays here")
        });
    }
    let base = known.row.as_ref().and_then(|row| row.base.as_ref());
    let content = content_here(pass, path, near, base).await?;
    // A tag speaks of what was agreed on; of a content that is another by now it says nothing, whatever its stamp.
    let is_agreed = base.and_then(|base| base.content) == Some(content);
    match way {
        Way::BeContentWithTheTag if is_agreed => return Ok(Proof::by_tag(version, content)),
        Way::ReadParts if is_agreed => {
            let parts = Proof::by_parts((near_store, path, near), far_store, version, content);
            if let Some(proof) = parts.await.map_err(at_far)? {
                return Ok(proof);
            }
        }
        Way::BeContentWithTheTag | Way::ReadParts | Way::AskForTheDigest | Way::ReadBack => {}
    }
    let proof = Proof::by_reading_back(far_store, version, content).await;
    proof
        .map_err(at_far)?
        .ok_or_else(|| not_proven("what is there was read, and is not what is here: it stays here"))
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
    let agreed = base.filter(|base| base.stamps.near == near.stamp);
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
