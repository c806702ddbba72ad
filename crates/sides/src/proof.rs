//! What may destroy a copy for good, as types: a proof that the other side holds its content, that there is nothing in it,
//! or a person's word.
//!
//! The fields are private to this module, and what makes a proof reads or asks, here. So nobody else can say that a content
//! is held elsewhere. Which of the ways is taken for a file is decided above ([`crate::proof`]).

use std::fs::File;
use std::time::Duration;

use futures_util::StreamExt;
use katabatic_core::blocks::{Grain, Stretch};
use katabatic_core::{Digest, Entry, Kind, RelPath, Stamp};
use ring::digest::{Context, SHA256};

use super::{Lists, Reads, Sha256, SideError};
use crate::effort::ATTEMPTS;

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

/// That a content is held elsewhere: on the other side, or where a folder was copied to. Only what reads or asks makes one,
/// here, and what it allows uses it up.
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

    /// By the digest that the far side told of a version: what is here is read, and has it. None where it has another.
    ///
    /// # Errors
    /// As the near side says.
    pub async fn by_digest(
        near: &dyn Reads,
        (path, seen): (&RelPath, &Entry),
        there: Version<'_>,
        told: Sha256,
    ) -> Result<Option<Proof>, SideError> {
        let (content, own) = both_digests(near, path, seen).await?;
        Ok((own == told).then(|| there.proven(content, By::Digest)))
    }

    /// By reading a version back from the far side. None where it is another content than the one here.
    ///
    /// # Errors
    /// As the far side says.
    pub async fn by_reading_back(
        far: &dyn Reads,
        there: Version<'_>,
        content: Digest,
    ) -> Result<Option<Proof>, SideError> {
        let read = read_back(far, there.at, there.seen).await?;
        Ok((read == content).then(|| there.proven(content, By::ReadBack)))
    }

    /// By parts of a version, drawn at random and read on both sides: evidence for a content that came from there and was never changed
    /// here. None where they differ.
    ///
    /// # Errors
    /// As either side says.
    pub async fn by_parts(
        (near, path, seen): (&dyn Reads, &RelPath, &Entry),
        far: &dyn Reads,
        there: Version<'_>,
        content: Digest,
    ) -> Result<Option<Proof>, SideError> {
        for part in drawn(there.seen.size)? {
            let here = near.read_part(path, seen, part).await?;
            let read = far.read_part(there.at, there.seen, part).await?;
            if here != read || read.len() as u64 != part.length {
                return Ok(None);
            }
        }
        Ok(Some(there.proven(content, By::Parts)))
    }

    /// By the tag alone: evidence, for a lane that is content with it and a content that was agreed on with this tag.
    pub fn by_tag(there: Version<'_>, content: Digest) -> Proof {
        there.proven(content, By::Tag)
    }

    /// That another file on this computer holds a content, which is read for it: a copy of which the original is to go.
    ///
    /// # Errors
    /// As the system says.
    pub fn by_reading(copy: File) -> std::io::Result<Proof> {
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
    pub async fn still_holds(&self, far: &dyn Lists) -> Result<bool, SideError> {
        let Some((at, stamp)) = &self.there else {
            return Ok(true);
        };
        let there = far.look(at).await?;
        Ok(there.is_some_and(|there| there.kind == Kind::File && there.stamp == *stamp))
    }
}

/// A version on the far side, as it was just looked at.
#[derive(Clone, Copy, Debug)]
pub struct Version<'a> {
    /// Where it is.
    pub at: &'a RelPath,
    /// What was seen there.
    pub seen: &'a Entry,
}

impl Version<'_> {
    fn proven(self, content: Digest, by: By) -> Proof {
        Proof {
            content,
            by,
            there: Some((self.at.clone(), self.seen.stamp.clone())),
        }
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
    pub fn of(content: Option<Digest>, stamp: Option<Stamp>, folder: bool) -> OldVersion {
        OldVersion {
            content,
            stamp,
            folder,
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

    /// Whether it is what lies there; the content is read only where the stamp does not tell.
    pub(crate) async fn lies_there(
        &self,
        there: &Entry,
        content: impl Future<Output = Result<Digest, SideError>>,
    ) -> Result<bool, SideError> {
        let is_folder = there.kind == Kind::Folder;
        if self.folder || is_folder {
            return Ok(self.folder && is_folder);
        }
        match (&self.stamp, self.content) {
            (None, _) => Ok(true),
            (Some(known), _) if *known == there.stamp => Ok(true),
            // The side gives other stamps than it did: reading tells.
            (Some(_), Some(known)) => Ok(content.await? == known),
            (Some(_), None) => Ok(false),
        }
    }
}

/// Parts of this size are read where evidence is enough.
pub const PART: u64 = Grain::USUAL.block;
/// So many of them are.
pub const PARTS: u64 = 4;

/// Both digests of a content here, by reading it once.
async fn both_digests(
    near: &dyn Reads,
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
async fn read_back(far: &dyn Reads, at: &RelPath, there: &Entry) -> Result<Digest, SideError> {
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
    far: &dyn Reads,
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

/// The first and the last block of a file of this size, and some between them.
pub fn drawn(size: u64) -> Result<Vec<Stretch>, SideError> {
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
pub fn some_of(blocks: &[u64]) -> Result<Vec<u64>, SideError> {
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
