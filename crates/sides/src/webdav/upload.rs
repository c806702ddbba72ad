//! Taking content into an account: in one piece, in steps, from an older version, or at once under its real name.
//!
//! Whatever way it goes, what was read is hashed as it goes by, and what the server kept is looked at there, under a
//! name that is nobody else's.

use std::sync::Arc;
use std::sync::atomic::Ordering;

use bytes::{Buf, Bytes};
use futures_util::{StreamExt, stream};
use katabatic_core::blocks::Stretch;
use katabatic_core::{Digest, Entry, Kind, RelPath, Stamp, words};
use reqwest::header::{CONTENT_LENGTH, CONTENT_RANGE, CONTENT_TYPE, ETAG, IF_NONE_MATCH};
use reqwest::{Body, RequestBuilder, Response, StatusCode};
use tokio::sync::Mutex;

use super::client::{Answered, Client, Watch, refusal};
use super::multistatus::OWN_NAMESPACE;
use super::room::{self, Room};
use super::{Inner, carry, entry, list};
use crate::{
    Arrived, Content, Outcome, Partial, Patch, STEP, SideError, Source, Staged, Steps, Undone,
};

const BINARY: &str = "application/octet-stream";

/// What a request takes its body from; it outlives the request, which may only carry a step of it.
struct Feeder {
    content: Content,
    /// What came and has not gone yet.
    left: Bytes,
    hasher: blake3::Hasher,
    length: u64,
    error: Option<SideError>,
    client: Client,
    watch: Watch,
}

impl Feeder {
    fn new(client: &Client, content: Content) -> Feeder {
        Feeder {
            content,
            left: Bytes::new(),
            hasher: blake3::Hasher::new(),
            length: 0,
            error: None,
            client: client.clone(),
            watch: Watch::default(),
        }
    }

    /// The next bytes, at most so many; none at the end. An error is remembered, for whoever asked for the whole.
    async fn next(&mut self, most: u64, paced: bool) -> Result<Option<Bytes>, SideError> {
        let next = self.take(most, paced).await;
        if let Err(error) = &next {
            self.error = Some(error.clone());
        }
        next
    }

    async fn take(&mut self, most: u64, paced: bool) -> Result<Option<Bytes>, SideError> {
        // A large upload is set down; what was placed of others is not touched by that.
        if self.client.stop.asked() {
            return Err(SideError::Stopped);
        }
        while self.left.is_empty() {
            match self.content.next().await {
                None => return Ok(None),
                Some(chunk) => self.left = chunk?,
            }
        }
        let most = usize::try_from(most).unwrap_or(usize::MAX);
        let mut ready = self.left.slice(..self.left.len().min(most));
        let chunk = if paced {
            self.client.up.next(&mut ready).await
        } else {
            ready
        };
        self.left.advance(chunk.len());
        self.hasher.update(&chunk);
        self.length += chunk.len() as u64;
        self.watch.sends(chunk.len() as u64, chunk.len() == most);
        Ok(Some(chunk))
    }

    fn digest(&self) -> Digest {
        Digest(*self.hasher.finalize().as_bytes())
    }

    /// Reads on to so many bytes without sending them.
    async fn skip_to(&mut self, length: u64) -> Result<(), SideError> {
        while self.length < length {
            if self.next(length - self.length, false).await?.is_none() {
                break;
            }
        }
        Ok(())
    }

    /// The source says at its end whether all of it was one version.
    async fn end(&mut self) -> Result<(), SideError> {
        match self.next(1, false).await? {
            None => Ok(()),
            Some(_) => Err(SideError::Changed(
                "it grew while it was being read; the next pass takes it up".into(),
            )),
        }
    }
}

type SharedFeeder = Arc<Mutex<Feeder>>;

/// The next so many bytes as a body.
fn body(feeder: &SharedFeeder, length: u64) -> Body {
    let pieces = stream::unfold((Arc::clone(feeder), length), |(feeder, left)| async move {
        if left == 0 {
            return None;
        }
        let next = feeder.lock().await.next(left, true).await;
        match next {
            Ok(Some(piece)) => {
                let left = left - piece.len() as u64;
                Some((Ok(piece), (feeder, left)))
            }
            Ok(None) => None,
            Err(error) => Some((Err(error), (feeder, 0))),
        }
    });
    Body::wrap_stream(pieces)
}

/// Sends the next so many bytes with this request. What the source has to say counts more than what the line says.
async fn send(
    inner: &Inner,
    feeder: &SharedFeeder,
    request: RequestBuilder,
    length: u64,
) -> Result<Response, SideError> {
    let (watch, before) = {
        let feeder = feeder.lock().await;
        (feeder.watch.clone(), feeder.length)
    };
    let request = request
        .header(CONTENT_LENGTH, length)
        .header(CONTENT_TYPE, BINARY)
        .body(match length {
            // A stream of nothing goes without its length, which some servers want to see.
            0 => Body::from(Vec::new()),
            length => body(feeder, length),
        });
    let response = inner.client.send_once(request, &watch).await;
    let mut feeder = feeder.lock().await;
    if let Some(error) = feeder.error.take() {
        return Err(error);
    }
    let response = response?;
    match response.status() {
        StatusCode::CREATED | StatusCode::NO_CONTENT | StatusCode::OK => {}
        StatusCode::CONFLICT | StatusCode::NOT_FOUND => {
            inner.room.doubt().await;
            return Err(SideError::try_again(
                "the folder it goes to is not there any more",
            ));
        }
        StatusCode::PAYLOAD_TOO_LARGE => {
            return Err(SideError::Failed(format!(
                "the server takes no body of {} (413); its administrator sets how large one may be",
                words::bytes(length)
            )));
        }
        status => return Err(refusal(status)),
    }
    let sent = feeder.length - before;
    if sent != length {
        return Err(SideError::try_again(format!(
            "{sent} of {length} bytes were sent"
        )));
    }
    Ok(response)
}

pub(super) async fn stage(
    inner: &Inner,
    source: Source,
    steps: &Steps,
) -> Result<Staged, SideError> {
    room::make_ready(inner).await?;
    let (size, edited) = (source.size, source.edited);
    let feeder = Arc::new(Mutex::new(Feeder::new(&inner.client, source.content)));
    if size > STEP && inner.ways().steps {
        let slot = in_steps(inner, &feeder, size, steps).await?;
        let path = inner.room.staged(&slot)?;
        let seen = look(inner, &path).await?;
        let staged = finish(inner, &feeder, slot, seen, size, edited).await;
        return staged.inspect_err(|error| {
            // All of it is there, and it is not what it should be: none of it can be used.
            if matches!(error, SideError::TryAgain(_) | SideError::Changed(_)) {
                (steps.note)(None);
            }
        });
    }
    let slot = Room::new_slot()?;
    let path = inner.room.staged(&slot)?;
    let request = inner
        .client
        .request("PUT", inner.client.url(&path, false))?;
    let response = send(inner, &feeder, request, size).await?;
    let seen = match tag_of(inner, &response) {
        Some(tag) => Entry::file(size, tag),
        None => match inner.looks.look(inner, &slot).await? {
            Some(seen) => seen,
            None => look(inner, &path).await?,
        },
    };
    finish(inner, &feeder, slot, seen, size, edited).await
}

fn tag_of(inner: &Inner, response: &Response) -> Option<Stamp> {
    if inner.ways().ignores_tags {
        return None;
    }
    let tag = response.headers().get(ETAG)?.to_str().ok()?;
    Some(entry::stamp(Some(tag), None, 0))
}

async fn look(inner: &Inner, path: &RelPath) -> Result<Entry, SideError> {
    list::look_for_ours(inner, path)
        .await?
        .ok_or_else(|| SideError::try_again("it did not arrive"))
}

async fn finish(
    inner: &Inner,
    feeder: &SharedFeeder,
    slot: String,
    seen: Entry,
    size: u64,
    edited: Option<katabatic_core::EditTime>,
) -> Result<Staged, SideError> {
    let digest = {
        let mut feeder = feeder.lock().await;
        feeder.end().await?;
        feeder.digest()
    };
    kept_whole(&seen, size)?;
    if let Some(edited) = edited {
        note_edit_time(inner, &inner.room.staged(&slot)?, edited, &seen).await?;
    }
    Ok(Staged {
        slot,
        entry: Entry { edited, ..seen },
        digest: Some(digest),
    })
}

fn kept_whole(seen: &Entry, size: u64) -> Result<(), SideError> {
    if seen.kind == Kind::File && seen.size == size {
        return Ok(());
    }
    Err(SideError::try_again(format!(
        "the server kept {} of {size} bytes",
        seen.size
    )))
}

/// Sends a large file step by step (RFC 9110 §14.5), from where an earlier attempt came to.
async fn in_steps(
    inner: &Inner,
    feeder: &SharedFeeder,
    size: u64,
    steps: &Steps,
) -> Result<String, SideError> {
    let slot = match &steps.known {
        Some(known) if goes_on(inner, feeder, known, steps).await? => known.slot.clone(),
        _ => Room::new_slot()?,
    };
    let path = inner.room.staged(&slot)?;
    let mut done = feeder.lock().await.length;
    while done < size {
        let length = STEP.min(size - done);
        let request = inner
            .client
            .request("PUT", inner.client.url(&path, false))?;
        let request = match done {
            0 => request,
            done => request.header(CONTENT_RANGE, content_range(done, length, size)),
        };
        send(inner, feeder, request, length).await?;
        done += length;
        if done < size {
            (steps.note)(Some(Partial {
                slot: slot.clone(),
                done,
                prefix: feeder.lock().await.digest(),
            }));
        }
    }
    Ok(slot)
}

fn content_range(from: u64, length: u64, size: u64) -> String {
    format!("bytes {from}-{}/{size}", from + length - 1)
}

/// Whether what an earlier attempt brought is still there, and still the beginning of what is to come.
async fn goes_on(
    inner: &Inner,
    feeder: &SharedFeeder,
    known: &Partial,
    steps: &Steps,
) -> Result<bool, SideError> {
    let there = list::look(inner, &inner.room.staged(&known.slot)?).await?;
    // More may be there than was noted: a step whose answer was lost. It is written again.
    if !there.is_some_and(|there| there.kind == Kind::File && there.size >= known.done) {
        (steps.note)(None);
        return Ok(false);
    }
    let mut feeder = feeder.lock().await;
    feeder.skip_to(known.done).await?;
    if feeder.digest() == known.prefix {
        return Ok(true);
    }
    (steps.note)(None);
    Err(SideError::try_again(
        "its beginning is not what was sent before",
    ))
}

/// Stages a new version from the old one that stands at the path: a copy made there, and the parts that differ.
pub(super) async fn patch(
    inner: &Inner,
    path: &RelPath,
    old: &Entry,
    patch: &Patch,
    content: &(dyn Fn(Stretch) -> Content + Send + Sync),
) -> Result<Staged, SideError> {
    room::make_ready(inner).await?;
    let slot = Room::new_slot()?;
    let staged = inner.room.staged(&slot)?;
    carry::copy_new(inner, path, &staged).await?;
    let patched = async {
        // The copy is of this version only if that was there before it and is there after it.
        match list::look(inner, path).await? {
            Some(there) if there.stamp == old.stamp && there.size == old.size => {}
            _ => {
                return Err(SideError::Changed(
                    "it changed there since it was looked at; the next pass takes it up".into(),
                ));
            }
        }
        for range in &patch.ranges {
            let feeder = Arc::new(Mutex::new(Feeder::new(&inner.client, content(*range))));
            let request = inner
                .client
                .request("PUT", inner.client.url(&staged, false))?
                .header(
                    CONTENT_RANGE,
                    content_range(range.from, range.length, patch.size),
                );
            send(inner, &feeder, request, range.length).await?;
            feeder.lock().await.end().await?;
        }
        let seen = look(inner, &staged).await?;
        kept_whole(&seen, patch.size)?;
        if let Some(edited) = patch.edited {
            note_edit_time(inner, &staged, edited, &seen).await?;
        }
        Ok(Entry {
            edited: patch.edited,
            ..seen
        })
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

/// Puts a small new file at once where it belongs. Only for servers that place a body whole or not at all, and that
/// look at the condition in the same step.
pub(super) async fn put_new(
    inner: &Inner,
    source: Source,
    path: &RelPath,
) -> Outcome<Option<Arrived>> {
    let mut feeder = Feeder::new(&inner.client, source.content);
    let mut whole = Vec::with_capacity(source.size as usize);
    while let Some(chunk) = feeder.next(u64::MAX, true).await.map_err(Undone::NotDone)? {
        whole.extend_from_slice(&chunk);
    }
    // All of it is known to be one version before the first byte of it goes.
    if whole.len() as u64 != source.size {
        return Err(Undone::NotDone(SideError::BeingWritten));
    }
    let digest = feeder.digest();
    let (url, whole) = (inner.client.url(path, false), Bytes::from(whole));
    let build = || {
        let request = inner.client.request("PUT", url.clone())?;
        Ok(request
            .header(IF_NONE_MATCH, "*")
            .header(CONTENT_TYPE, BINARY)
            .body(whole.clone()))
    };
    let answer = inner.client.send_change(build).await?;
    let response = match (answer.status(), answer) {
        (StatusCode::CREATED | StatusCode::NO_CONTENT | StatusCode::OK, answer) => {
            answer.into_response()
        }
        (StatusCode::PRECONDITION_FAILED, Answered::Once(_)) => return Ok(None),
        // What is there may be ours, by the request before; only its content can tell.
        (_, answer) => return Err(answer.refused()),
    };
    let told = tag_of(inner, &response);
    let entry = Entry {
        edited: source.edited,
        ..Entry::file(source.size, told.clone().unwrap_or_else(|| Stamp::new("")))
    };
    if let (Some(edited), Some(_)) = (source.edited, &told) {
        // It has arrived: what is noted beside it is nothing to fail by.
        if let Err(why) = note_edit_time(inner, path, edited, &entry).await {
            tracing::debug!("the edit time of {path} is not noted there: {why}");
        }
    }
    Ok(Some(Arrived {
        entry,
        told: told.is_some(),
        digest,
    }))
}

/// Keeps the edit time with the file, where the server keeps properties at all.
async fn note_edit_time(
    inner: &Inner,
    path: &RelPath,
    edited: katabatic_core::EditTime,
    seen: &Entry,
) -> Result<(), SideError> {
    if !inner.keeps_properties.load(Ordering::Relaxed) {
        return Ok(());
    }
    let Some(note) = entry::write_edit_note(edited, &seen.stamp) else {
        return Ok(());
    };
    let body = format!(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?><propertyupdate xmlns=\"DAV:\"><set><prop>\
         <edit-time xmlns=\"{OWN_NAMESPACE}\">{}</edit-time></prop></set></propertyupdate>",
        quick_xml::escape::escape(note.as_str())
    );
    let url = inner.client.url(path, false);
    let build = || {
        let request = inner.client.request("PROPPATCH", url.clone())?;
        Ok(request
            .header(CONTENT_TYPE, "application/xml; charset=utf-8")
            .body(body.clone()))
    };
    let response = inner.client.send(true, build).await?;
    match response.status() {
        StatusCode::METHOD_NOT_ALLOWED | StatusCode::NOT_IMPLEMENTED | StatusCode::FORBIDDEN => {
            inner.keeps_properties.store(false, Ordering::Relaxed);
            Ok(())
        }
        status if status.is_success() => Ok(()),
        status => Err(refusal(status)),
    }
}
