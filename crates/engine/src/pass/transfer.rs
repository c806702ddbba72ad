//! Bringing the content of a version from one side into the staging of the other: in the way that costs least, and
//! from where an earlier attempt was cut.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use bytes::Bytes;
use futures_util::{StreamExt, stream};
use katabatic_core::blocks::{BlockHasher, Blocks, Grain, Stretch};
use katabatic_core::{Base, Digest, Entry, RelPath, Side};

use super::primitive::{Learned, Trouble, why_taken};
use super::{Pass, Progress};
use crate::seam::Seam;
use katabatic_ledger::block_rows;
use katabatic_ledger::partial_rows::{self, Transfer};
use katabatic_ledger::rows;
use katabatic_sides::effort::ATTEMPTS;
use katabatic_sides::proof::some_of;
use katabatic_sides::{
    Arrived, Content, Partial, Patch, SideError, SideStore, Source, Staged, Steps, Undone,
};

/// A version with what was learned about it.
pub(super) struct Brought {
    pub(super) staged: Staged,
    pub(super) learned: Learned,
}

/// Reads on one side and stages on the other, again where a line was cut.
pub(super) async fn bring(
    pass: &Pass,
    path: &RelPath,
    from: Side,
    seen: &Entry,
    to: Side,
) -> Result<Brought, Trouble> {
    let kept = Kept::of(pass, path, seen, to)?;
    let mut attempt = 1;
    loop {
        let before = kept.done();
        let why = match once(pass, path, from, seen, to, &kept).await {
            Ok(brought) => return Ok(brought),
            Err(why) => why,
        };
        match why {
            (_, SideError::TryAgain(why)) if attempt < ATTEMPTS || kept.done() > before => {
                tracing::debug!("{path} is tried again: {why}");
                // A line that brings something each time is worth every further attempt.
                attempt = if kept.done() > before { 1 } else { attempt + 1 };
                tokio::time::sleep(Duration::from_millis(50 << attempt)).await;
            }
            (side, why) => return Err(trouble(side, why)),
        }
    }
}

/// What was read is not the version that was looked at.
pub(super) fn changed_under_us(from: Side) -> Trouble {
    match from {
        // People write here; what an account gives is no work in progress.
        Side::Near => Trouble::Side(from, SideError::BeingWritten),
        Side::Far => {
            Trouble::Met("it changed while it was being read; the next pass takes it up".into())
        }
    }
}

/// The words for a transfer that failed for good.
pub(super) fn trouble(side: Side, why: SideError) -> Trouble {
    match why {
        SideError::Changed(why) => Trouble::Met(why),
        SideError::Missing => {
            Trouble::Met("it went away before it could be read; the next pass looks at it".into())
        }
        why => Trouble::Side(side, why),
    }
}

async fn once(
    pass: &Pass,
    path: &RelPath,
    from: Side,
    seen: &Entry,
    to: Side,
    kept: &Kept<'_>,
) -> Result<Brought, (Side, SideError)> {
    let target = pass.store(to);
    pass.seam(Seam::BeforeRead, Some(from), Some(path)).await;
    let offset = if target.wants_the_rest_only() {
        kept.done()
    } else {
        0
    };
    let source = pass
        .store(from)
        .read_from(path, seen, offset)
        .await
        .map_err(|why| (from, why))?;
    let watched = Watched::new(pass, source.from, seen.size);
    let counted = watched.count(source);
    match target.stage(counted, path, &kept.steps()).await {
        Ok(staged) => Ok(Brought {
            staged,
            learned: Learned {
                blocks: watched.blocks(),
                unproven: false,
            },
        }),
        Err(why) => {
            watched.take_back();
            Err((to, why))
        }
    }
}

/// How far a large file came, in the ledger and here.
struct Kept<'p> {
    pass: &'p Pass,
    transfer: Option<Transfer>,
    latest: Arc<Mutex<Option<Partial>>>,
}

impl<'p> Kept<'p> {
    fn of(pass: &'p Pass, path: &RelPath, seen: &Entry, to: Side) -> Result<Kept<'p>, Trouble> {
        let transfer = (seen.size > pass.lane.far.grain().step).then(|| Transfer {
            lane: pass.lane.row.key,
            path: path.clone(),
            to,
            source: seen.stamp.clone(),
            size: seen.size,
        });
        let latest = match &transfer {
            Some(transfer) => pass
                .ledger
                .read(|connection| partial_rows::known(connection, transfer))?,
            None => None,
        };
        Ok(Kept {
            pass,
            transfer,
            latest: Arc::new(Mutex::new(latest)),
        })
    }

    fn latest(&self) -> MutexGuard<'_, Option<Partial>> {
        self.latest.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn done(&self) -> u64 {
        self.latest().as_ref().map_or(0, |partial| partial.done)
    }

    fn steps(&self) -> Steps {
        let Some(transfer) = self.transfer.clone() else {
            return Steps::unkept();
        };
        let (ledger, clock) = (self.pass.ledger.clone(), Arc::clone(&self.pass.clock));
        let latest = Arc::clone(&self.latest);
        Steps {
            known: self.latest().clone(),
            note: Arc::new(move |partial| {
                latest
                    .lock()
                    .unwrap_or_else(PoisonError::into_inner)
                    .clone_from(&partial);
                let (transfer, now) = (transfer.clone(), clock.now());
                ledger.write_later(move |connection| {
                    partial_rows::note(connection, &transfer, partial.as_ref(), now)
                });
            }),
        }
    }
}

/// Forgets how far a file came, once it is in place or something else is known of it.
pub(super) fn forget_steps(pass: &Pass, path: &RelPath, seen: &Entry, to: Side) {
    if seen.size <= pass.lane.far.grain().step {
        return;
    }
    let transfer = Transfer {
        lane: pass.lane.row.key,
        path: path.clone(),
        to,
        source: seen.stamp.clone(),
        size: seen.size,
    };
    let now = pass.clock.now();
    pass.ledger
        .write_later(move |connection| partial_rows::note(connection, &transfer, None, now));
}

/// What goes by, counted for whoever looks on, and hashed in blocks where that may be of use.
struct Watched {
    progress: Arc<Progress>,
    counted: Arc<Mutex<u64>>,
    hasher: Option<Arc<Mutex<BlockHasher>>>,
}

impl Watched {
    fn new(pass: &Pass, from: u64, size: u64) -> Watched {
        pass.progress.had_bytes(from);
        let grain = pass.lane.far.grain();
        let hasher = || Arc::new(Mutex::new(BlockHasher::new(grain.block)));
        Watched {
            progress: Arc::clone(&pass.progress),
            counted: Arc::new(Mutex::new(from)),
            hasher: (from == 0 && size >= grain.worth_patching).then(hasher),
        }
    }

    fn count(&self, source: Source) -> Source {
        let (progress, counted) = (Arc::clone(&self.progress), Arc::clone(&self.counted));
        let hasher = self.hasher.clone();
        let content = source.content.inspect(move |chunk| {
            let Ok(chunk) = chunk else {
                return;
            };
            progress.carried_bytes(chunk.len() as u64);
            *counted.lock().unwrap_or_else(PoisonError::into_inner) += chunk.len() as u64;
            if let Some(hasher) = &hasher {
                hasher
                    .lock()
                    .unwrap_or_else(PoisonError::into_inner)
                    .update(chunk);
            }
        });
        Source {
            content: content.boxed(),
            ..source
        }
    }

    fn blocks(&self) -> Option<Blocks> {
        let hasher = self.hasher.as_ref()?;
        let mut hasher = hasher.lock().unwrap_or_else(PoisonError::into_inner);
        Some(hasher.take())
    }

    /// What was cut counts again when it is tried again.
    fn take_back(&self) {
        let counted = *self.counted.lock().unwrap_or_else(PoisonError::into_inner);
        self.progress.took_back_bytes(counted);
    }
}

/// The digest of a version and its blocks, by reading it.
pub(super) async fn digest_with_blocks(
    store: &dyn SideStore,
    path: &RelPath,
    seen: &Entry,
    block: u64,
) -> Result<(Digest, Blocks), SideError> {
    let mut source = store.read(path, seen).await?;
    let (mut whole, mut blocks) = (blake3::Hasher::new(), BlockHasher::new(block));
    while let Some(chunk) = source.content.next().await {
        let chunk = chunk?;
        whole.update(&chunk);
        blocks.update(&chunk);
    }
    Ok((Digest(*whole.finalize().as_bytes()), blocks.take()))
}

/// A large file that changed a little goes up as the changes alone, where the server can put them into a copy of the
/// old version. None where it has to go whole.
pub(super) async fn patched(
    pass: &Pass,
    path: &RelPath,
    seen: &Entry,
    old: &Entry,
    base: &Base,
) -> Result<Option<(Brought, u64)>, Trouble> {
    let (near, far) = (pass.store(Side::Near), pass.store(Side::Far));
    let grain = far.grain();
    let Some(content) = base.content else {
        return Ok(None);
    };
    // A stamp in doubt proves nothing, and so does a version that nobody has read.
    let known = base.stamps.far == old.stamp && base.size == old.size;
    if !far.patches() || seen.size < grain.worth_patching || seen.size < old.size || !known {
        return Ok(None);
    }
    let lane = pass.lane.row.key;
    let before = pass
        .ledger
        .read(|connection| block_rows::of(connection, lane, path, &content))?;
    let Some(before) = before else {
        return Ok(None);
    };
    pass.seam(Seam::BeforeRead, Some(Side::Near), Some(path))
        .await;
    let read = match pass.blocks_of(path, &seen.stamp) {
        Some(read) => read,
        None => digest_with_blocks(&*near, path, seen, grain.block)
            .await
            .map_err(|why| trouble(Side::Near, why))?,
    };
    let (digest, after) = read;
    let ranges = before.changes(&after, seen.size, grain);
    let bytes: u64 = ranges.iter().map(|range| range.length).sum();
    if bytes > seen.size / 2 {
        return Ok(None);
    }
    if !is_as_agreed(&*far, (path, old), &before, &after).await? {
        let stamp = old.stamp.clone();
        pass.ledger
            .write(move |connection| rows::doubt_far_stamp(connection, &stamp))
            .await?;
        return Err(Trouble::Met(
            "another version is there under the same version tag; the next pass reads it".into(),
        ));
    }
    let patch = Patch {
        size: seen.size,
        edited: seen.edited,
        digest,
        ranges,
    };
    let part = |range: Stretch| {
        let expected = (after.of(range, grain.block), grain);
        part(Arc::clone(&near), path, seen, range, expected)
    };
    let staged = far
        .patch(path, old, &patch, &part)
        .await
        .map_err(|why| match why {
            SideError::Changed(_) => trouble(Side::Near, why),
            why => Trouble::Side(Side::Far, why),
        })?;
    pass.progress.carried_bytes(seen.size);
    let learned = Learned {
        blocks: Some(after),
        // Nobody has read what the server made of the copy and the changes.
        unproven: true,
    };
    Ok(Some((Brought { staged, learned }, bytes)))
}

/// Whether some of what is to stay in a version there is what was agreed on: a tag may hide another version, which the
/// patch would mix with ours.
async fn is_as_agreed(
    far: &dyn SideStore,
    (path, old): (&RelPath, &Entry),
    before: &Blocks,
    after: &Blocks,
) -> Result<bool, Trouble> {
    let block_size = far.grain().block;
    let kept = before.kept(after, old.size, block_size);
    let blocks = some_of(&kept).map_err(|why| Trouble::Side(Side::Far, why))?;
    for block in blocks {
        let part = Stretch {
            from: block * block_size,
            length: block_size,
        };
        let there = far.read_part(path, old, part).await;
        let there = there.map_err(|why| trouble(Side::Far, why))?;
        let mut hasher = BlockHasher::new(block_size);
        hasher.update(&there);
        if hasher.take() != before.of(part, block_size) {
            return Ok(false);
        }
    }
    Ok(true)
}

/// A stretch of a local version; it ends in an error where its blocks are not those that were read before.
fn part(
    store: Arc<dyn SideStore>,
    path: &RelPath,
    seen: &Entry,
    range: Stretch,
    (expected, grain): (Blocks, Grain),
) -> Content {
    let (path, seen) = (path.clone(), seen.clone());
    let opened = async move {
        match store.read_from(&path, &seen, range.from).await {
            Ok(source) => source.content,
            Err(error) => stream::iter([Err(error)]).boxed(),
        }
    };
    let limited = stream::once(opened).flatten().boxed();
    let state = (
        limited,
        range.length,
        Some((BlockHasher::new(grain.block), expected)),
    );
    stream::unfold(state, |(mut content, left, mut check)| async move {
        if left == 0 {
            let (mut hasher, expected) = check.take()?;
            if hasher.take() == expected {
                return None;
            }
            return Some((Err(SideError::BeingWritten), (content, 0, None)));
        }
        let chunk = match content.next().await? {
            Ok(mut chunk) => chunk.split_to(chunk.len().min(left as usize)),
            Err(error) => return Some((Err(error), (content, 0, None))),
        };
        if let Some((hasher, _)) = &mut check {
            hasher.update(&chunk);
        }
        let left = left - chunk.len() as u64;
        Some((Ok(chunk), (content, left, check)))
    })
    .boxed()
}

/// Reads a small version whole, again where a line was cut.
pub(super) async fn read_whole(
    pass: &Pass,
    path: &RelPath,
    seen: &Entry,
    from: Side,
) -> Result<Bytes, Trouble> {
    let mut attempt = 1;
    loop {
        pass.seam(Seam::BeforeRead, Some(from), Some(path)).await;
        let read = async {
            let mut source = pass.store(from).read(path, seen).await?;
            let mut whole = Vec::with_capacity(source.size as usize);
            while let Some(chunk) = source.content.next().await {
                whole.extend_from_slice(&chunk?);
            }
            Ok(whole)
        };
        match read.await {
            Ok(whole) if whole.len() as u64 == seen.size => return Ok(whole.into()),
            Ok(_) => {
                return Err(changed_under_us(from));
            }
            Err(SideError::TryAgain(_)) if attempt < ATTEMPTS => attempt += 1,
            Err(why) => return Err(trouble(from, why)),
        }
    }
}

/// Puts a small new file under its real name in one request, again where a line was cut: the condition that nothing is
/// there makes a repeat harmless.
pub(super) async fn put_new(
    pass: &Pass,
    path: &RelPath,
    version: &Entry,
    content: Bytes,
    to: Side,
) -> Result<Arrived, Trouble> {
    let (mut attempt, mut in_doubt) = (1, false);
    loop {
        let source = Source {
            size: version.size,
            edited: version.edited,
            from: 0,
            announced: None,
            content: stream::iter([Ok(content.clone())]).boxed(),
        };
        let watched = Watched::new(pass, 0, version.size);
        let why = match pass.store(to).put_new(watched.count(source), path).await {
            Ok(Some(arrived)) => return Ok(arrived),
            // What has the name may be ours, by an earlier attempt.
            Ok(None) if in_doubt => {
                let why = SideError::try_again("an earlier request got no answer");
                return Err(Trouble::Unsure(to, why));
            }
            Ok(None) => return Err(why_taken(&*pass.store(to), path).await),
            Err(Undone::NotDone(why)) => why,
            Err(Undone::Unsure(why)) => {
                in_doubt = true;
                why
            }
        };
        watched.take_back();
        match why {
            SideError::TryAgain(why) if attempt < ATTEMPTS => {
                tracing::debug!("{path} is tried again: {why}");
                tokio::time::sleep(Duration::from_millis(50 << attempt)).await;
                attempt += 1;
            }
            why if in_doubt => return Err(Trouble::Unsure(to, why)),
            why => return Err(trouble(to, why)),
        }
    }
}
