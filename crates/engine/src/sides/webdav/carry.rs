//! Changing an account's folder: uploads into staging, and moves that replace nothing.

use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, PoisonError};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use bytes::Bytes;
use futures_util::{StreamExt, stream};
use katabatic_core::{Digest, Entry, Kind, RelPath};
use reqwest::header::{CONTENT_LENGTH, CONTENT_TYPE, ETAG, HeaderMap, HeaderName, LAST_MODIFIED};
use reqwest::{Body, StatusCode};
use sha2::{Digest as _, Sha256};

use super::client::refusal;
use super::multistatus::OWN_NAMESPACE;
use super::room::{self, Room};
use super::{Inner, entry, list};
use crate::sides::{Captured, Content, FolderGone, Put, SideError, Source, Staged};

pub(super) async fn read(inner: &Inner, path: &RelPath, seen: &Entry) -> Result<Source, SideError> {
    if inner.client.stop.asked() {
        return Err(SideError::Stopped);
    }
    let url = inner.client.url(path, false);
    let build = || {
        let request = inner.client.request("GET", url.clone())?;
        Ok(request.header("want-repr-digest", "sha-256=10"))
    };
    let response = inner.client.send(true, build).await?;
    if response.status() != StatusCode::OK {
        return Err(refusal(response.status()));
    }
    let headers = response.headers();
    let text = |name: HeaderName| headers.get(name).and_then(|value| value.to_str().ok());
    let size = text(CONTENT_LENGTH)
        .and_then(|length| length.parse::<u64>().ok())
        .unwrap_or(seen.size);
    // A server that lists no tags may still send one with the content; the listing's form is the one to compare.
    let tagless = seen.stamp.as_str().starts_with("date ");
    let stamp = entry::stamp(text(ETAG).filter(|_| !tagless), text(LAST_MODIFIED), size);
    if size != seen.size || stamp != seen.stamp {
        return Err(SideError::Changed(
            "it changed there since it was looked at; the next pass takes it up".into(),
        ));
    }
    let reading = Reading {
        left: size,
        digest: announced_digest(headers).map(|digest| (digest, Sha256::new())),
        client: inner.client.clone(),
        body: response.bytes_stream().boxed(),
    };
    let content: Content = stream::unfold(Some(reading), |reading| async {
        let mut reading = reading?;
        match reading.next().await {
            Ok(Some(chunk)) => Some((Ok(chunk), Some(reading))),
            Ok(None) => None,
            Err(error) => Some((Err(error), None)),
        }
    })
    .boxed();
    Ok(Source {
        size,
        edited: seen.edited.or(seen.received),
        content,
    })
}

/// The server's SHA-256 of what it sends (RFC 9530 §3), where it gives one.
fn announced_digest(headers: &HeaderMap) -> Option<Vec<u8>> {
    let value = headers.get("repr-digest")?.to_str().ok()?;
    let item = value
        .split(',')
        .find_map(|item| item.trim().strip_prefix("sha-256=:"))?;
    STANDARD.decode(item.strip_suffix(':')?).ok()
}

struct Reading {
    left: u64,
    digest: Option<(Vec<u8>, Sha256)>,
    client: super::Client,
    body: stream::BoxStream<'static, Result<Bytes, reqwest::Error>>,
}

impl Reading {
    async fn next(&mut self) -> Result<Option<Bytes>, SideError> {
        if self.client.stop.asked() {
            return Err(SideError::Stopped);
        }
        match self.body.next().await {
            Some(Ok(chunk)) => {
                self.left = self.left.checked_sub(chunk.len() as u64).ok_or_else(|| {
                    SideError::TryAgain("more arrived than the server announced".into())
                })?;
                if let Some((_, hasher)) = &mut self.digest {
                    hasher.update(&chunk);
                }
                Ok(Some(chunk))
            }
            Some(Err(error)) => Err(match self.client.line_error(&error) {
                // Mid-transfer there was an answer already: the server is there, the line is not.
                SideError::NotThere(why) => SideError::TryAgain(why),
                error => error,
            }),
            None if self.left > 0 => Err(SideError::TryAgain(format!(
                "{} bytes did not arrive",
                self.left
            ))),
            None => {
                let damaged = self
                    .digest
                    .take()
                    .is_some_and(|(announced, hasher)| hasher.finalize().as_slice() != announced);
                if damaged {
                    return Err(SideError::TryAgain(
                        "it was damaged on the way: its digest is not the server's".into(),
                    ));
                }
                Ok(None)
            }
        }
    }
}

/// What went through our hands while it was sent.
struct Sent {
    hasher: blake3::Hasher,
    length: u64,
    error: Option<SideError>,
}

pub(super) async fn stage(inner: &Inner, source: Source) -> Result<Staged, SideError> {
    room::make_ready(inner).await?;
    let slot = Room::new_slot()?;
    let path = inner.room.staged(&slot)?;
    let size = source.size;
    let sent = Arc::new(Mutex::new(Sent {
        hasher: blake3::Hasher::new(),
        length: 0,
        error: None,
    }));
    let noting = Arc::clone(&sent);
    let stop = inner.client.stop.clone();
    let noted = source.content.map(move |chunk| {
        // A large upload is set down; what was placed of others is not touched by that.
        let chunk = if stop.asked() {
            Err(SideError::Stopped)
        } else {
            chunk
        };
        let mut sent = noting.lock().unwrap_or_else(PoisonError::into_inner);
        match chunk {
            Ok(chunk) => {
                sent.hasher.update(&chunk);
                sent.length += chunk.len() as u64;
                Ok(chunk)
            }
            Err(error) => {
                sent.error = Some(error.clone());
                Err(error)
            }
        }
    });
    let request = inner
        .client
        .request("PUT", inner.client.url(&path, false))?
        .header(CONTENT_LENGTH, size)
        .header(CONTENT_TYPE, "application/octet-stream")
        .body(Body::wrap_stream(noted));
    let response = inner.client.send_once(request).await;
    let (digest, length, error) = {
        let mut sent = sent.lock().unwrap_or_else(PoisonError::into_inner);
        (
            Digest(*sent.hasher.finalize().as_bytes()),
            sent.length,
            sent.error.take(),
        )
    };
    if let Some(error) = error {
        return Err(error);
    }
    let response = response?;
    match response.status() {
        StatusCode::CREATED | StatusCode::NO_CONTENT | StatusCode::OK => {}
        StatusCode::CONFLICT | StatusCode::NOT_FOUND => {
            inner.room.doubt().await;
            return Err(SideError::TryAgain("the staging folder went away".into()));
        }
        status => return Err(refusal(status)),
    }
    if length != size {
        return Err(SideError::TryAgain(format!(
            "{length} of {size} bytes were sent"
        )));
    }
    let tag = response
        .headers()
        .get(ETAG)
        .and_then(|value| value.to_str().ok());
    let seen = match tag {
        Some(tag) => Entry::file(size, entry::stamp(Some(tag), None, size)),
        None => list::look(inner, &path)
            .await?
            .ok_or_else(|| SideError::TryAgain("it did not arrive".into()))?,
    };
    if seen.kind != Kind::File || seen.size != size {
        return Err(SideError::TryAgain(format!(
            "the server kept {} of {size} bytes",
            seen.size
        )));
    }
    if let Some(edited) = source.edited {
        note_edit_time(inner, &path, edited, &seen).await?;
    }
    Ok(Staged {
        slot,
        entry: Entry {
            edited: source.edited,
            ..seen
        },
        digest,
    })
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

/// Removes something of the tool's own; what is not there is removed already.
pub(super) async fn delete(inner: &Inner, path: &RelPath) -> Result<(), SideError> {
    let url = inner.client.url(path, false);
    let response = inner
        .client
        .send(true, || inner.client.request("DELETE", url.clone()))
        .await?;
    match response.status() {
        StatusCode::NOT_FOUND => Ok(()),
        status if status.is_success() => Ok(()),
        status => Err(refusal(status)),
    }
}

async fn send_move(inner: &Inner, from: &RelPath, to: &RelPath) -> Result<StatusCode, SideError> {
    let status = send_move_as(inner, from, to, false).await?;
    if status != StatusCode::BAD_REQUEST {
        return Ok(status);
    }
    // Some servers take a folder only with a slash at the end of both names; this one has refused, and done nothing.
    match list::look(inner, from).await? {
        Some(there) if there.kind == Kind::Folder => send_move_as(inner, from, to, true).await,
        _ => Ok(status),
    }
}

async fn send_move_as(
    inner: &Inner,
    from: &RelPath,
    to: &RelPath,
    folder: bool,
) -> Result<StatusCode, SideError> {
    let (url, destination) = (inner.client.url(from, folder), inner.client.url(to, folder));
    // Not harmless to repeat: the first may have been done, and the name may have been taken since.
    let build = || {
        let request = inner.client.request("MOVE", url.clone())?;
        Ok(request
            .header("destination", destination.as_str())
            .header("overwrite", "F"))
    };
    Ok(inner.client.send(false, build).await?.status())
}

/// Looks after a request whose outcome nobody told us.
async fn after_all(
    inner: &Inner,
    path: &RelPath,
    why: &SideError,
) -> Result<Option<Entry>, SideError> {
    list::look(inner, path).await.map_err(|error| match error {
        SideError::Stopped => SideError::Stopped,
        error => SideError::Unsure(format!("{why}, and a look afterwards failed: {error}")),
    })
}

pub(super) async fn capture(
    inner: &Inner,
    path: &RelPath,
    spare: &RelPath,
) -> Result<Captured, SideError> {
    room::make_ready(inner).await?;
    let why = match send_move(inner, path, spare).await {
        Ok(StatusCode::CREATED | StatusCode::NO_CONTENT) => return Ok(Captured::Taken),
        Ok(StatusCode::NOT_FOUND) => return Ok(Captured::Nothing),
        Ok(StatusCode::CONFLICT) => {
            inner.room.doubt().await;
            return Err(SideError::TryAgain("the spares folder went away".into()));
        }
        Ok(status) if status.is_client_error() => return Err(refusal(status)),
        Ok(status) => refusal(status),
        Err(SideError::TryAgain(why)) => {
            SideError::Unsure(format!("{why}; it may still be under way there"))
        }
        Err(error) => return Err(error),
    };
    // The spare's name is nobody else's: if something is there, it is what we moved. If nothing is, only an answer of
    // the server proves that nothing will be: a request whose line was cut may be carried out after our look.
    match after_all(inner, spare, &why).await? {
        Some(_) => Ok(Captured::Taken),
        None => Err(why),
    }
}

/// Moves to a path where nothing is. `version` tells, where the answer is lost, whether it is ours that is there.
pub(super) async fn move_new(
    inner: &Inner,
    from: &RelPath,
    to: &RelPath,
    version: Option<&Entry>,
) -> Result<Put, SideError> {
    // Where the server does not obey `Overwrite: F`, this look is all that guards what is there.
    if inner.moves_overwrite.load(Ordering::Relaxed) && list::look(inner, to).await?.is_some() {
        return Ok(Put::Taken);
    }
    let why = match send_move(inner, from, to).await {
        Ok(StatusCode::CREATED | StatusCode::NO_CONTENT) => return Ok(Put::Done),
        Ok(StatusCode::PRECONDITION_FAILED) => return Ok(Put::Taken),
        Ok(status) if status.is_client_error() => return Err(refusal(status)),
        Ok(status) => refusal(status),
        Err(error @ SideError::TryAgain(_)) => error,
        Err(error) => return Err(error),
    };
    if after_all(inner, from, &why).await?.is_some() {
        return Err(why);
    }
    match (after_all(inner, to, &why).await?, version) {
        (Some(there), Some(version)) if there.stamp == version.stamp => Ok(Put::Done),
        (Some(_), None) => Ok(Put::Done),
        _ => Err(SideError::Unsure(format!(
            "{why}, and it is at neither name now"
        ))),
    }
}

pub(super) async fn make_folder(inner: &Inner, path: &RelPath) -> Result<Put, SideError> {
    let url = inner.client.url(path, true);
    let response = inner
        .client
        .send(true, || inner.client.request("MKCOL", url.clone()))
        .await?;
    match response.status() {
        StatusCode::CREATED => Ok(Put::Done),
        StatusCode::CONFLICT | StatusCode::FORBIDDEN => Err(refusal(response.status())),
        status => match list::look(inner, path).await? {
            Some(there) if there.kind == Kind::Folder => Ok(Put::Done),
            Some(_) => Ok(Put::Taken),
            None => Err(refusal(status)),
        },
    }
}

pub(super) async fn remove_folder(
    inner: &Inner,
    path: &RelPath,
    spare: &RelPath,
) -> Result<FolderGone, SideError> {
    // DELETE would take strangers along that came in a moment ago; a folder that was moved away can be looked at.
    let names = |folder: crate::sides::walk::Folder| {
        folder.names.into_iter().map(|(name, _)| name).collect()
    };
    match list::members(inner, path).await {
        Ok(folder) if folder.names.is_empty() && folder.unusable.is_empty() => {}
        Ok(folder) => return Ok(FolderGone::Kept(names(folder))),
        Err(SideError::Missing) => return Ok(FolderGone::Gone),
        Err(error) => return Err(error),
    }
    if capture(inner, path, spare).await? == Captured::Nothing {
        return Ok(FolderGone::Gone);
    }
    let inside = list::members(inner, spare).await?;
    if inside.names.is_empty() && inside.unusable.is_empty() && inside.cut_short.is_none() {
        return Ok(FolderGone::Gone);
    }
    match move_new(inner, spare, path, None).await? {
        Put::Done => Ok(FolderGone::Kept(names(inside))),
        Put::Taken => Err(SideError::Failed(format!(
            "somebody put files in it while it was being removed, and its name was taken; they are safe in {spare}"
        ))),
    }
}
