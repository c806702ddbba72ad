//! Reading and writing content: many pieces on their way at once, so that a slow line is full.

use std::collections::VecDeque;
use std::sync::Arc;

use bytes::Bytes;
use futures_util::{StreamExt, stream};
use katabatic_core::blocks::Stretch;
use katabatic_core::{Digest, EditTime, Entry, Kind, RelPath};

use super::channel::Pending;
use super::far_path::Path;
use super::list::{self, SECOND};
use super::open_file::File;
use super::refusal::{odd, refused};
use super::wire::{Answer, Ask, Attributes, Packet, RIGHTS, Status, open};
use super::{Inner, carry, room};
use crate::clock::{Clock, SystemClock};
use crate::{Content, Partial, Patch, STEP, SideError, Source, Staged, Steps, Undone};

pub(super) const FSYNC: &str = "fsync@openssh.com";
pub(super) const COPY: &str = "copy-data";

/// So many bytes are on their way: what a line of 100 Mbit/s holds at 300 ms.
const ON_THE_WAY: usize = 4 * 1024 * 1024;

/// Reads the version that `seen` describes, from this byte on.
pub(super) async fn read(
    inner: &Arc<Inner>,
    path: &Path,
    seen: &Entry,
    from: u64,
) -> Result<Source, SideError> {
    if inner.client.stop.asked() {
        return Err(SideError::Stopped);
    }
    if seen.kind != Kind::File {
        return Err(SideError::Changed("it is no file".into()));
    }
    let file = inner.client.open(path, open::READ).await;
    let file = file.map_err(Undone::told)?;
    still_the_same(&file, seen).await?;
    let reading = Reading {
        inner: Arc::clone(inner),
        file,
        seen: seen.clone(),
        asked: from,
        given: from,
        pieces: VecDeque::new(),
        left: Bytes::new(),
    };
    let content: Content = stream::unfold(Some(reading), |reading| async {
        let mut reading = reading?;
        match reading.next().await {
            Ok(Some(piece)) => Some((Ok(piece), Some(reading))),
            Ok(None) => None,
            Err(error) => Some((Err(error), None)),
        }
    })
    .boxed();
    Ok(Source {
        size: seen.size,
        edited: seen.edited,
        from,
        announced: None,
        content,
    })
}

/// The file that is open is the version that was seen; or it is another one, or is being written.
async fn still_the_same(file: &File, seen: &Entry) -> Result<(), SideError> {
    let now = list::entry(&file.look().await?);
    match carry::is_version(&now, seen) {
        true => Ok(()),
        false => Err(SideError::Changed(
            "it changed there since it was looked at; the next pass takes it up".into(),
        )),
    }
}

struct Reading {
    inner: Arc<Inner>,
    file: File,
    seen: Entry,
    /// Up to where pieces were asked for, and given on.
    asked: u64,
    given: u64,
    /// What was asked for, in order, each with its length.
    pieces: VecDeque<(usize, Option<Pending>)>,
    left: Bytes,
}

impl Reading {
    async fn next(&mut self) -> Result<Option<Bytes>, SideError> {
        if self.inner.client.stop.asked() {
            return Err(SideError::Stopped);
        }
        if self.left.is_empty() {
            match self.next_piece().await? {
                Some(piece) => self.left = piece,
                None => {
                    still_the_same(&self.file, &self.seen).await?;
                    return Ok(None);
                }
            }
        }
        let piece = self.inner.client.down.next(&mut self.left).await;
        Ok(Some(piece))
    }

    async fn next_piece(&mut self) -> Result<Option<Bytes>, SideError> {
        while self.asked < self.seen.size && self.pieces.len() * self.file.piece() < ON_THE_WAY {
            let length = (self.seen.size - self.asked).min(self.file.piece() as u64) as usize;
            let pending = self.ask(self.asked, length).await;
            self.pieces.push_back((length, pending));
            self.asked += length as u64;
        }
        let Some((length, pending)) = self.pieces.pop_front() else {
            return Ok(None);
        };
        let mut piece = self.arrived(pending).await?;
        // A server may give less than it was asked for; the rest of the piece comes before the next one.
        if piece.len() < length {
            let mut whole = piece.to_vec();
            while whole.len() < length {
                let at = self.given + whole.len() as u64;
                let pending = self.ask(at, length - whole.len()).await;
                whole.extend_from_slice(&self.arrived(pending).await?);
            }
            piece = whole.into();
        }
        if piece.len() > length {
            return Err(odd());
        }
        self.given += piece.len() as u64;
        Ok(Some(piece))
    }

    async fn ask(&self, at: u64, length: usize) -> Option<Pending> {
        let packet = self.file.packet(Ask::Read).long(at);
        self.file.send(packet.number(length as u32)).await
    }

    async fn arrived(&self, pending: Option<Pending>) -> Result<Bytes, SideError> {
        match self
            .file
            .answer(pending)
            .await
            .map_err(Undone::from)
            .map_err(Undone::told)?
        {
            Answer::Data(data) if !data.is_empty() => {
                self.file.came(data.len());
                Ok(data)
            }
            // It ends before its length.
            Answer::Status(Status::End, _) | Answer::Data(_) => Err(SideError::BeingWritten),
            Answer::Status(status, words) => Err(refused(status, &words)),
            _ => Err(odd()),
        }
    }
}

/// What is written into a file that is open, with what is still on its way.
struct Writing<'a> {
    inner: &'a Inner,
    file: File,
    on_the_way: VecDeque<Option<Pending>>,
    hasher: blake3::Hasher,
    /// Up to where content was taken from the source.
    length: u64,
}

impl<'a> Writing<'a> {
    fn new(inner: &'a Inner, file: File) -> Writing<'a> {
        Writing {
            inner,
            file,
            on_the_way: VecDeque::new(),
            hasher: blake3::Hasher::new(),
            length: 0,
        }
    }

    /// Sends a chunk, which goes at this byte of the file.
    async fn send(&mut self, mut chunk: Bytes, mut at: u64) -> Result<(), SideError> {
        while !chunk.is_empty() {
            if self.inner.client.stop.asked() {
                return Err(SideError::Stopped);
            }
            let mut next = chunk.split_to(chunk.len().min(self.file.piece()));
            while !next.is_empty() {
                let piece = self.inner.client.up.next(&mut next).await;
                if self.on_the_way.len() * self.file.piece() >= ON_THE_WAY {
                    self.arrived().await?;
                }
                let packet = self.file.packet(Ask::Write).long(at).text(&piece);
                self.file.went(piece.len());
                self.on_the_way.push_back(self.file.send(packet).await);
                at += piece.len() as u64;
            }
        }
        Ok(())
    }

    async fn arrived(&mut self) -> Result<(), SideError> {
        let Some(pending) = self.on_the_way.pop_front() else {
            return Ok(());
        };
        match self.file.was_done(pending).await {
            Err(SideError::Failed(why)) => Err(self.full_or(why).await),
            done => done,
        }
    }

    /// The protocol does not tell that a disk is full; what is free there does.
    async fn full_or(&self, why: String) -> SideError {
        match self.inner.client.space().await {
            Ok(Some((_, free))) if free < ON_THE_WAY as u64 => SideError::Full(format!(
                "the disk of the server is full ({} are free there); free some room and sync again",
                katabatic_core::words::bytes(free)
            )),
            _ => SideError::Failed(why),
        }
    }

    async fn all_arrived(&mut self) -> Result<(), SideError> {
        while !self.on_the_way.is_empty() {
            self.arrived().await?;
        }
        Ok(())
    }

    /// Everything that was written is on the server's disk, where the server can do that.
    async fn sync(&mut self) -> Result<(), SideError> {
        self.all_arrived().await?;
        match self.inner.client.has(FSYNC).await? {
            true => self.file.done(self.file.extended(FSYNC)).await,
            false => Ok(()),
        }
    }

    /// Gives the file its date and rights, has it kept, and looks at what is there.
    async fn finish(
        mut self,
        size: u64,
        edited: Option<EditTime>,
        rights: Option<u32>,
    ) -> Result<Entry, SideError> {
        self.all_arrived().await?;
        if self.length > 0 {
            self.learn_clock().await?;
        }
        let changed = edited.and_then(|at| u32::try_from(at.0.div_euclid(SECOND)).ok());
        let attributes = Attributes {
            mode: rights,
            times: changed.map(|at| (at, at)),
            ..Attributes::default()
        };
        if attributes != Attributes::default() {
            let packet = self.file.packet(Ask::FileSetStat).attributes(&attributes);
            match self.file.done(packet).await {
                // Some disks keep no such dates or rights; the content is what counts.
                Err(SideError::Failed(why)) => {
                    tracing::debug!("date and rights are not kept there: {why}");
                }
                done => done?,
            }
        }
        self.sync().await?;
        let seen = list::entry(&self.file.look().await?);
        if seen.kind != Kind::File || seen.size != size {
            return Err(SideError::try_again(format!(
                "the server kept {} of {size} bytes",
                seen.size
            )));
        }
        Ok(seen)
    }

    /// What was written just now bears the server's time.
    async fn learn_clock(&self) -> Result<(), SideError> {
        learn_clock(self.inner, &self.file).await
    }
}

async fn learn_clock(inner: &Inner, written_now: &File) -> Result<(), SideError> {
    if let Some((_, changed)) = written_now.look().await?.times {
        let ahead = i64::from(changed) * SECOND - SystemClock.now().0;
        inner.learned_clock(ahead);
    }
    Ok(())
}

/// Makes a file in our own staging, which bears the server's time, and removes it.
pub(super) async fn ask_clock(inner: &Inner) -> Result<(), SideError> {
    let at = inner.room.staged(&room::new_slot()?)?;
    let flags = open::WRITE | open::CREATE | open::NEW;
    let file = inner.client.open(&at, flags).await.map_err(Undone::told)?;
    let learned = learn_clock(inner, &file).await;
    carry::delete(inner, &at).await?;
    learned
}

/// Takes content into the staging, in steps that are kept where it is large.
pub(super) async fn stage(
    inner: &Inner,
    mut source: Source,
    like: &Path,
    steps: &Steps,
) -> Result<Staged, SideError> {
    room::make_ready(inner).await?;
    let rights = rights_of(inner, like).await?;
    let known = steps.known.as_ref().filter(|_| source.size > STEP);
    let begun = match known {
        Some(known) => gone_on_with(inner, known).await?,
        None => None,
    };
    let known = known.filter(|_| begun.is_some());
    let (slot, mut writing) = match begun {
        Some((slot, file)) => (slot, Writing::new(inner, file)),
        None => {
            (steps.note)(None);
            let (slot, file) = opened_anew(inner).await?;
            (slot, Writing::new(inner, file))
        }
    };
    let kept = known.map_or(0, |known| known.done);
    if let Some(known) = known {
        writing.sync().await?;
        (steps.note)(Some(Partial {
            slot: slot.clone(),
            ..known.clone()
        }));
        // What is left of the earlier attempt only takes room; the next pass would clear it, too.
        if let Err(why) = carry::delete(inner, &inner.room.staged(&known.slot)?).await {
            tracing::debug!("what an earlier attempt brought stays for now: {why}");
        }
    }
    let mut noted = kept;
    while let Some(chunk) = source.content.next().await {
        let mut chunk = chunk?;
        // What has arrived before is read again, to see that it is the beginning of this version.
        if writing.length < kept {
            let before = (kept - writing.length).min(chunk.len() as u64) as usize;
            let before = chunk.split_to(before);
            writing.hasher.update(&before);
            writing.length += before.len() as u64;
            if writing.length == kept
                && known.is_some_and(|known| known.prefix != digest(&writing.hasher))
            {
                (steps.note)(None);
                return Err(SideError::try_again(
                    "its beginning is not what was sent before",
                ));
            }
        }
        writing.hasher.update(&chunk);
        let at = writing.length;
        writing.length += chunk.len() as u64;
        writing.send(chunk, at).await?;
        if source.size > STEP
            && writing.length.saturating_sub(noted) >= STEP
            && writing.length < source.size
        {
            writing.sync().await?;
            noted = writing.length;
            (steps.note)(Some(Partial {
                slot: slot.clone(),
                done: noted,
                prefix: digest(&writing.hasher),
            }));
        }
    }
    if writing.length != source.size {
        (steps.note)(None);
        return Err(SideError::BeingWritten);
    }
    let digest = digest(&writing.hasher);
    let entry = writing.finish(source.size, source.edited, rights).await?;
    Ok(Staged {
        slot,
        entry,
        digest: Some(digest),
    })
}

/// A new file of our own in the staging.
async fn opened_anew(inner: &Inner) -> Result<(String, File), SideError> {
    let slot = room::new_slot()?;
    let flags = open::WRITE | open::CREATE | open::NEW;
    let opened = inner.client.open(&inner.room.staged(&slot)?, flags).await;
    match opened.map_err(Undone::told) {
        Ok(file) => Ok((slot, file)),
        Err(SideError::Missing) => {
            inner.room.doubt().await;
            Err(SideError::try_again("the staging folder went away"))
        }
        Err(error) => Err(error),
    }
}

/// A copy of what an earlier attempt brought, to go on with; none where it has to begin anew.
///
/// Never that file itself: pieces that nobody has answered may still be written into it by way of its handle, whatever it is
/// called by then, and over what somebody has changed in it since.
async fn gone_on_with(inner: &Inner, known: &Partial) -> Result<Option<(String, File)>, SideError> {
    if !inner.patches {
        return Ok(None);
    }
    let old = inner.room.staged(&known.slot)?;
    let from = match inner
        .client
        .open(&old, open::READ)
        .await
        .map_err(Undone::told)
    {
        Ok(from) => from,
        Err(SideError::Missing) => return Ok(None),
        Err(error) => return Err(error),
    };
    if from.look().await?.size.is_none_or(|size| size < known.done) {
        return Ok(None);
    }
    let slot = room::new_slot()?;
    let flags = open::WRITE | open::CREATE | open::NEW;
    let staged = inner.room.staged(&slot)?;
    let to = inner.client.open_beside(&from, &staged, flags).await?;
    from.done(copy(&from, &to, known.done)).await?;
    match to.look().await?.size == Some(known.done) {
        true => Ok(Some((slot, to))),
        false => Ok(None),
    }
}

fn digest(hasher: &blake3::Hasher) -> Digest {
    Digest(*hasher.finalize().as_bytes())
}

/// The rights of what a new version takes the place of.
async fn rights_of(inner: &Inner, like: &Path) -> Result<Option<u32>, SideError> {
    let there = inner.client.look(like).await?;
    Ok(there
        .filter(Attributes::is_file)
        .and_then(|there| there.mode)
        .map(|mode| mode & RIGHTS))
}

/// All of a file, as a length of what is copied.
pub(super) const WHOLE: u64 = 0;

/// Has the server copy the beginning of a file into another one that is open
/// (draft-ietf-secsh-filexfer-extensions-00 §7).
pub(super) fn copy(from: &File, to: &File, length: u64) -> Packet {
    let begun = from.extended(COPY).long(0).long(length);
    begun.text(to.handle()).long(0)
}

/// Stages a new version from the old one at the path, which the server copies, and what differs.
pub(super) async fn patch(
    inner: &Inner,
    path: &RelPath,
    old: &Entry,
    patch: &Patch,
    content: &(dyn Fn(Stretch) -> Content + Send + Sync),
) -> Result<Staged, SideError> {
    room::make_ready(inner).await?;
    let path = Path::account(path);
    let rights = rights_of(inner, &path).await?;
    let slot = room::new_slot()?;
    let staged = inner.room.staged(&slot)?;
    let patched = async {
        let from = inner
            .client
            .open(&path, open::READ)
            .await
            .map_err(Undone::told)?;
        // The copy is of this version only if that is there before it and after it, and could not have been written
        // within the second that it bears.
        let is_old = |there: &Attributes| {
            let there = list::entry(there);
            carry::is_version(&there, old) && !inner.is_young(&there)
        };
        let changed = || {
            SideError::Changed(
                "it changed there since it was looked at; the next pass takes it up".into(),
            )
        };
        if !is_old(&from.look().await?) {
            return Err(changed());
        }
        let file = inner
            .client
            .open_beside(&from, &staged, open::WRITE | open::CREATE | open::NEW)
            .await?;
        from.done(copy(&from, &file, WHOLE)).await?;
        if !is_old(&from.look().await?) {
            return Err(changed());
        }
        let mut writing = Writing::new(inner, file);
        for range in &patch.ranges {
            let mut pieces = content(*range);
            let mut at = range.from;
            while let Some(chunk) = pieces.next().await {
                let chunk = chunk?;
                let length = chunk.len() as u64;
                writing.send(chunk, at).await?;
                at += length;
            }
            if at != range.from + range.length {
                return Err(SideError::BeingWritten);
            }
        }
        writing.finish(patch.size, patch.edited, rights).await
    };
    match patched.await {
        Ok(entry) => Ok(Staged {
            slot,
            entry,
            digest: Some(patch.digest),
        }),
        Err(error) => {
            // A leftover costs room there until the next pass clears it.
            if !error.ends_the_pass() {
                let _ = carry::delete(inner, &staged).await;
            }
            Err(error)
        }
    }
}
