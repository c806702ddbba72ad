//! Taking content into the staging of a local folder: durably, with owner and rights of what it is to replace, and
//! a large file in steps, so that what has arrived of it need not come again.

use std::fs::{File, FileTimes, Permissions};
use std::io::{self, Read, Seek, Write};
use std::os::fd::AsFd;
use std::os::unix::fs::{PermissionsExt, fchown};
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use bytes::Bytes;
use futures_util::StreamExt;
use katabatic_core::{Digest, EditTime, RelPath};
use ring::digest::{Context, SHA256};
use rustix::fs::{OFlags, XattrFlags};
use tokio::sync::mpsc;

use super::carry::SMALL;
use super::room::STAGING;
use super::{Inner, side_error, stub, system};
use crate::private_files::random_hex;
use crate::{Partial, STEP, SideError, Source, Staged, Steps};

/// So many chunks may wait for the disk: enough that network and disk do not stop for each other.
const CHUNKS: usize = 32;

fn failed(error: io::Error) -> SideError {
    side_error(&error)
}

/// What is to be staged, apart from its content.
struct About {
    size: u64,
    edited: Option<EditTime>,
    from: u64,
    announced: Option<Vec<u8>>,
    like: RelPath,
    steps: Steps,
}

pub(super) async fn stage(
    inner: Arc<Inner>,
    mut source: Source,
    like: RelPath,
    steps: Steps,
) -> Result<Staged, SideError> {
    let (sender, receiver) = mpsc::channel::<Bytes>(CHUNKS);
    let size = source.size;
    let about = About {
        size,
        edited: source.edited,
        from: source.from,
        announced: source.announced.take(),
        like,
        steps: steps.clone(),
    };
    let writer = {
        let inner = Arc::clone(&inner);
        move || write_staged(&inner, receiver, &about)
    };
    if size <= SMALL {
        // One trip to a writing thread instead of two for the many small files.
        let mut whole = Vec::with_capacity(size as usize);
        while let Some(chunk) = source.content.next().await {
            whole.extend_from_slice(&chunk?);
        }
        sender
            .send(Bytes::from(whole))
            .await
            .map_err(|_| SideError::Failed("the writing thread ended".into()))?;
        drop(sender);
        return join(tokio::task::spawn_blocking(writer).await);
    }
    let writing = tokio::task::spawn_blocking(writer);
    let mut broken = None;
    while let Some(chunk) = source.content.next().await {
        match chunk {
            Ok(chunk) if inner.stop.asked() => {
                drop(chunk);
                broken = Some(SideError::Stopped);
                break;
            }
            // The writer stopped taking: it has the reason.
            Ok(chunk) => {
                if sender.send(chunk).await.is_err() {
                    break;
                }
            }
            Err(error) => {
                broken = Some(error);
                break;
            }
        }
    }
    drop(sender);
    let written = join(writing.await);
    match (broken, written) {
        (None, written) => written,
        (Some(error), written) => {
            if let Ok(staged) = written {
                // All of it came, and then it turned out to be wrong: none of it can be used.
                (steps.note)(None);
                inner.room.remove(STAGING, &staged.slot)?;
            }
            Err(error)
        }
    }
}

fn join<T>(joined: Result<Result<T, SideError>, tokio::task::JoinError>) -> Result<T, SideError> {
    joined.unwrap_or_else(|error| {
        Err(SideError::Failed(format!(
            "the writing thread broke off: {error}"
        )))
    })
}

/// A file in the staging that is being written.
struct Writing {
    slot: String,
    file: File,
    hasher: blake3::Hasher,
    sha256: Option<Context>,
    length: u64,
}

impl Writing {
    fn begin(inner: &Inner, about: &About) -> Result<Writing, SideError> {
        let sha256 = about.announced.as_ref().map(|_| Context::new(&SHA256));
        if let Some(known) = about.steps.known.as_ref().filter(|_| about.from > 0) {
            return Writing::go_on(inner, about, known, sha256);
        }
        let slot = random_hex(8).map_err(|error| SideError::Failed(error.why))?;
        let file = inner.room.create(STAGING, &slot).map_err(failed)?;
        Ok(Writing {
            slot,
            file,
            hasher: blake3::Hasher::new(),
            sha256,
            length: 0,
        })
    }

    /// Goes on behind what is there, after reading it again: what was noted is not believed without looking.
    fn go_on(
        inner: &Inner,
        about: &About,
        known: &Partial,
        sha256: Option<Context>,
    ) -> Result<Writing, SideError> {
        let begin_anew = || {
            (about.steps.note)(None);
            SideError::try_again("what had arrived of it is not there any more")
        };
        let mut file = inner
            .room
            .open_staged(&known.slot)
            .map_err(|_| begin_anew())?;
        let mut writing = Writing {
            slot: known.slot.clone(),
            file: file.try_clone().map_err(failed)?,
            hasher: blake3::Hasher::new(),
            sha256,
            length: 0,
        };
        let mut buffer = vec![0; 1024 * 1024];
        while writing.length < known.done {
            let wanted = (known.done - writing.length).min(buffer.len() as u64) as usize;
            let read = file.read(&mut buffer[..wanted]).map_err(failed)?;
            if read == 0 {
                return Err(begin_anew());
            }
            writing.count(&buffer[..read]);
        }
        if writing.digest() != known.prefix || known.done != about.from {
            return Err(begin_anew());
        }
        file.set_len(known.done).map_err(failed)?;
        file.seek(io::SeekFrom::Start(known.done)).map_err(failed)?;
        Ok(writing)
    }

    fn count(&mut self, bytes: &[u8]) {
        self.hasher.update(bytes);
        if let Some(sha256) = &mut self.sha256 {
            sha256.update(bytes);
        }
        self.length += bytes.len() as u64;
    }

    fn digest(&self) -> Digest {
        Digest(*self.hasher.finalize().as_bytes())
    }

    fn receive(
        &mut self,
        receiver: &mut mpsc::Receiver<Bytes>,
        about: &About,
    ) -> Result<(), SideError> {
        let mut next_step = (self.length / STEP + 1) * STEP;
        while let Some(chunk) = receiver.blocking_recv() {
            self.file.write_all(&chunk).map_err(failed)?;
            self.count(&chunk);
            if self.length >= next_step && self.length < about.size {
                self.file.sync_data().map_err(failed)?;
                (about.steps.note)(Some(Partial {
                    slot: self.slot.clone(),
                    done: self.length,
                    prefix: self.digest(),
                }));
                next_step = (self.length / STEP + 1) * STEP;
            }
        }
        if self.length != about.size {
            return Err(SideError::try_again(format!(
                "{} of {} bytes arrived",
                self.length, about.size
            )));
        }
        Ok(())
    }

    fn finish(mut self, inner: &Inner, about: &About) -> Result<Staged, SideError> {
        let sha256 = self
            .sha256
            .take()
            .map(|sha256| sha256.finish().as_ref().to_vec());
        if sha256 != about.announced {
            (about.steps.note)(None);
            return Err(SideError::try_again(
                "it was damaged on the way: its digest is not the server's",
            ));
        }
        take_over(inner, &self.file, &about.like).map_err(failed)?;
        if let Some(edited) = about.edited {
            self.file
                .set_times(FileTimes::new().set_modified(system_time(edited)))
                .map_err(failed)?;
        }
        self.file.sync_all().map_err(failed)?;
        let entry = inner
            .room
            .entry(STAGING, &self.slot)?
            .ok_or(SideError::Missing)?;
        Ok(Staged {
            entry,
            digest: Some(self.digest()),
            slot: self.slot,
        })
    }
}

fn write_staged(
    inner: &Inner,
    mut receiver: mpsc::Receiver<Bytes>,
    about: &About,
) -> Result<Staged, SideError> {
    let mut writing = Writing::begin(inner, about)?;
    let slot = writing.slot.clone();
    if let Err(error) = writing.receive(&mut receiver, about) {
        // What came of a large file waits for the rest.
        if writing.length < STEP {
            inner.room.remove(STAGING, &slot)?;
        }
        return Err(error);
    }
    writing.finish(inner, about).inspect_err(|_| {
        if let Err(why) = inner.room.remove(STAGING, &slot) {
            tracing::debug!("something staged is left over: {why}");
        }
    })
}

pub(super) fn system_time(at: EditTime) -> SystemTime {
    let distance = Duration::from_nanos(at.0.unsigned_abs());
    if at.0 < 0 {
        SystemTime::UNIX_EPOCH - distance
    } else {
        SystemTime::UNIX_EPOCH + distance
    }
}

/// Takes over owner, mode, ACL and extended attributes of the file that is about to be replaced.
pub(super) fn take_over(inner: &Inner, file: &File, like: &RelPath) -> io::Result<()> {
    let opened = match stub::stands_for(inner, like)? {
        // A stub has no rights itself; those that its content had are kept beside it.
        Some(kept) => kept,
        None => {
            system::open_below(inner.root.as_fd(), like, OFlags::RDONLY | OFlags::NONBLOCK).ok()
        }
    };
    let Some(old) = opened.map(File::from) else {
        // A new file, or something that is not a file: nothing to take over.
        return Ok(());
    };
    let stat = system::stat_of(old.as_fd())?;
    if !old.metadata()?.is_file() {
        return Ok(());
    }
    let own = system::stat_of(file.as_fd())?;
    if (own.stx_uid, own.stx_gid) != (stat.stx_uid, stat.stx_gid) {
        // Not being allowed to give a file away is the usual case; it then belongs to whoever syncs.
        if let Err(why) = fchown(file, Some(stat.stx_uid), Some(stat.stx_gid)) {
            tracing::debug!("{like} changes its owner: {why}");
        }
    }
    file.set_permissions(Permissions::from_mode(u32::from(stat.stx_mode) & 0o7777))?;
    take_over_attributes(&old, file);
    Ok(())
}

/// Takes over the extended attributes of another file, as far as the system lets it.
pub(super) fn take_over_attributes(old: &File, file: &File) {
    let mut names = vec![0u8; 64 * 1024];
    let Ok(length) = rustix::fs::flistxattr(old, names.as_mut_slice()) else {
        return;
    };
    for name in names[..length]
        .split(|&byte| byte == 0)
        .filter(|name| !name.is_empty() && *name != stub::LABEL.as_bytes())
    {
        let mut value = vec![0u8; 64 * 1024];
        if let Ok(length) = rustix::fs::fgetxattr(old, name, value.as_mut_slice())
            && let Err(why) =
                rustix::fs::fsetxattr(file, name, &value[..length], XattrFlags::empty())
        {
            tracing::debug!("the attribute {} is lost: {why}", name.escape_ascii());
        }
    }
}
