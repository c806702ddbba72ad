//! Reading a version from an account: from its beginning, or from where an earlier attempt was cut.

use std::sync::Arc;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use bytes::{Buf, Bytes};
use futures_util::{StreamExt, stream};
use katabatic_core::blocks::Stretch;
use katabatic_core::{Entry, RelPath, StampKind};
use reqwest::StatusCode;
use reqwest::header::{
    CONTENT_LENGTH, CONTENT_RANGE, ETAG, HeaderMap, HeaderName, IF_RANGE, LAST_MODIFIED, RANGE,
};
use ring::digest::{Context, SHA256};
use tokio::sync::mpsc;
use tokio::task::JoinHandle;

use super::client::{refusal, unasked_coding};
use super::{Inner, entry, list};
use crate::{Content, Sha256 as Sha256Digest, SideError, Source};

pub(super) async fn read(
    inner: &Arc<Inner>,
    path: &RelPath,
    seen: &Entry,
    from: u64,
) -> Result<Source, SideError> {
    if inner.client.stop.asked() {
        return Err(SideError::Stopped);
    }
    let url = inner.client.url(path, false);
    // A server that lists no tags may still send one with the content; the listing's form is the one to compare.
    let tagless = seen.stamp.kind() == StampKind::Date;
    let build = || {
        let request = inner.client.request("GET", url.clone())?;
        let request = request.header("want-repr-digest", "sha-256=10");
        Ok(if from == 0 {
            request
        } else {
            let request = request.header(RANGE, format!("bytes={from}-"));
            match tagless {
                true => request,
                // RFC 9110 §13.1.5: of another version, the whole comes.
                false => request.header(IF_RANGE, format!("\"{}\"", seen.stamp.as_str())),
            }
        })
    };
    // A body that is being read takes no place among the requests: where it is carried to may be the same account, and
    // each would wait for the other.
    let response = inner.client.send(true, build).await?;
    let headers = response.headers();
    let text = |name: HeaderName| headers.get(name).and_then(|value| value.to_str().ok());
    let (size, from) = match response.status() {
        StatusCode::OK => (
            text(CONTENT_LENGTH)
                .and_then(|length| length.parse::<u64>().ok())
                .unwrap_or(seen.size),
            0,
        ),
        StatusCode::PARTIAL_CONTENT if from > 0 => match text(CONTENT_RANGE).and_then(range_of) {
            Some((first, size)) if first == from => (size, from),
            _ => {
                return Err(SideError::Failed(
                    "the server sent another part than was asked for".into(),
                ));
            }
        },
        StatusCode::RANGE_NOT_SATISFIABLE => return Err(changed()),
        StatusCode::NOT_FOUND => return Err(not_given(inner, path).await),
        status => return Err(refusal(status)),
    };
    if size != seen.size {
        // A file that is stored compressed may well be called so; one that is compressed on the way has another size.
        return Err(unasked_coding(headers).unwrap_or_else(changed));
    }
    let known_by = known_by(inner, headers, path, seen).await?;
    let announced = announced_digest(headers);
    let reading = Reading {
        left: size - from,
        // Of a part, whoever puts it behind what is there has to check the whole.
        digest: announced
            .clone()
            .filter(|_| from == 0)
            .map(|digest| (digest, Sha256::begin(size))),
        client: inner.client.clone(),
        body: inner.client.body(response),
        arrived: Bytes::new(),
        listed_again: match known_by {
            KnownBy::Itself => None,
            KnownBy::Listings => Some((Arc::clone(inner), path.clone(), seen.clone())),
        },
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
        from,
        announced: announced.filter(|_| from > 0),
        content,
    })
}

/// What an answer tells of the version that it is of.
#[derive(Debug, PartialEq, Eq)]
enum Told {
    This,
    Another,
    Nothing,
}

fn told(headers: &HeaderMap, seen: &Entry) -> Told {
    let text = |name: HeaderName| headers.get(name).and_then(|value| value.to_str().ok());
    if seen.stamp.kind() != StampKind::Date {
        return match text(ETAG) {
            None => Told::Nothing,
            Some(tag) if entry::stamp(Some(tag), None, seen.size) == seen.stamp => Told::This,
            Some(_) => Told::Another,
        };
    }
    // A listing may write a date in another form than the answer.
    let Some(date) = text(LAST_MODIFIED) else {
        return Told::Nothing;
    };
    let listed = seen.stamp.as_str().rsplit_once(' ');
    match listed.map(|(listed, _)| (listed == date, entry::http_date(listed))) {
        Some((true, _)) => Told::This,
        Some((false, Some(at))) if entry::http_date(date) == Some(at) => Told::This,
        Some((false, Some(_))) => Told::Another,
        Some((false, None)) | None => Told::Nothing,
    }
}

/// By what an answer is known to be of the version that was listed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum KnownBy {
    /// It says so.
    Itself,
    /// The listing before it, and the one that is still to come after it.
    Listings,
}

/// An answer that says nothing is believed where the version is listed before and after it. One that says it is of another
/// version is of another version, an older one that something on the way has kept, say; but where the probe saw the
/// server's own answers say something else than its listings.
async fn known_by(
    inner: &Inner,
    headers: &HeaderMap,
    path: &RelPath,
    seen: &Entry,
) -> Result<KnownBy, SideError> {
    let told = told(headers, seen);
    if told == Told::This {
        return Ok(KnownBy::Itself);
    }
    if let Some(coded) = unasked_coding(headers) {
        return Err(coded);
    }
    if !is_listed(inner, path, seen).await? {
        return Err(changed());
    }
    if told == Told::Another && !inner.ways().reads_tell_otherwise {
        return Err(SideError::Failed(
            "what the server gave is another version than the one that it lists, or something on the way keeps older copies; if it stays so, test the account again: katabatic account test".into(),
        ));
    }
    Ok(KnownBy::Listings)
}

/// Whether a listing shows this version.
async fn is_listed(inner: &Inner, path: &RelPath, seen: &Entry) -> Result<bool, SideError> {
    let there = list::look(inner, path).await?;
    Ok(there.is_some_and(|there| there.stamp == seen.stamp && there.size == seen.size))
}

/// Why a file is not given that was listed: it went, or the server lists names that it does not serve.
async fn not_given(inner: &Inner, path: &RelPath) -> SideError {
    match list::look(inner, path).await {
        // Some do not even know it when it is looked at by its name.
        Ok(None) if !is_in_its_folder(inner, path).await => SideError::Missing,
        Ok(_) => {
            let plain: String = path
                .name()
                .chars()
                .map(|c| if UNSERVED.contains(c) { '_' } else { c })
                .collect();
            let would_do = match plain == path.name() {
                true => "another name".to_owned(),
                false => format!("{plain:?}, say"),
            };
            SideError::Failed(format!(
                "the server lists it and does not give it under its name (404): give it another one there, {would_do}"
            ))
        }
        Err(error) => error,
    }
}

/// Characters at which servers stumble that take a name for more than it is.
pub(super) const UNSERVED: &str = "?%\\;#";

async fn is_in_its_folder(inner: &Inner, path: &RelPath) -> bool {
    let Some(above) = path.parent() else {
        return false;
    };
    let listed = list::members(inner, &above).await;
    listed.is_ok_and(|folder| folder.names.iter().any(|(name, _)| name == path.name()))
}

/// Reads a part of a version. A server that sends all of it sends no more than is needed.
pub(super) async fn part(
    inner: &Inner,
    path: &RelPath,
    seen: &Entry,
    part: Stretch,
) -> Result<Bytes, SideError> {
    let (url, last) = (inner.client.url(path, false), part.from + part.length - 1);
    let build = || {
        let request = inner.client.request("GET", url.clone())?;
        Ok(request.header(RANGE, format!("bytes={}-{last}", part.from)))
    };
    let response = inner.client.send(true, build).await?;
    let headers = response.headers();
    let text = |name: HeaderName| headers.get(name).and_then(|value| value.to_str().ok());
    let mut before = match response.status() {
        StatusCode::OK => part.from,
        StatusCode::PARTIAL_CONTENT => {
            let expected = format!("bytes {}-{last}/{}", part.from, seen.size);
            if text(CONTENT_RANGE) != Some(expected.as_str()) {
                return Err(changed());
            }
            0
        }
        StatusCode::RANGE_NOT_SATISFIABLE => return Err(changed()),
        status => return Err(refusal(status)),
    };
    // Of one that says nothing, whoever asked compares what came with what there should be.
    if told(headers, seen) == Told::Another {
        known_by(inner, headers, path, seen).await?;
    }
    let mut read = Vec::with_capacity(usize::try_from(part.length).unwrap_or_default());
    let mut body = inner.client.body(response);
    while (read.len() as u64) < part.length {
        let Some(chunk) = body.next().await else {
            return Err(SideError::try_again("a part of it did not arrive"));
        };
        let mut chunk = chunk?;
        let skipped = before.min(chunk.len() as u64);
        before -= skipped;
        chunk.advance(usize::try_from(skipped).unwrap_or(chunk.len()));
        let left = part.length - read.len() as u64;
        chunk.truncate(usize::try_from(left).unwrap_or(chunk.len()));
        while !chunk.is_empty() {
            read.extend_from_slice(&inner.client.down.next(&mut chunk).await);
        }
    }
    Ok(read.into())
}

/// The digest that the server tells of its current version (RFC 9530 §3), without sending it.
pub(super) async fn digest(
    inner: &Inner,
    path: &RelPath,
    seen: &Entry,
) -> Result<Option<Sha256Digest>, SideError> {
    let url = inner.client.url(path, false);
    let build = || {
        let request = inner.client.request("HEAD", url.clone())?;
        Ok(request.header("want-repr-digest", "sha-256=10"))
    };
    let response = inner.client.send(true, build).await?;
    if !response.status().is_success() {
        return Err(refusal(response.status()));
    }
    let headers = response.headers();
    // It was listed so before; listed so again, what was told in between is of this version.
    known_by(inner, headers, path, seen).await?;
    Ok(announced_digest(headers).and_then(|digest| Sha256Digest::from_slice(&digest)))
}

/// A digest as a server writes it (RFC 9530 §2): of several, the SHA-256.
pub(crate) fn read_digest(text: &str) -> Option<Sha256Digest> {
    let item = text
        .split(',')
        .find_map(|item| item.trim().strip_prefix("sha-256=:"))?;
    let digest = STANDARD.decode(item.strip_suffix(':')?).ok()?;
    Sha256Digest::from_slice(&digest)
}

fn changed() -> SideError {
    SideError::Changed("it changed there since it was looked at; the next pass takes it up".into())
}

/// The first byte and the whole length of `bytes 100-199/200`.
fn range_of(text: &str) -> Option<(u64, u64)> {
    let (range, size) = text.strip_prefix("bytes ")?.split_once('/')?;
    let (first, last) = range.split_once('-')?;
    let (first, last, size): (u64, u64, u64) =
        (first.parse().ok()?, last.parse().ok()?, size.parse().ok()?);
    (last + 1 == size && first <= size).then_some((first, size))
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
    body: Content,
    /// What has arrived and was not given on yet.
    arrived: Bytes,
    /// What a listing has to show at the end, where the answer did not say which version it is of.
    listed_again: Option<(Arc<Inner>, RelPath, Entry)>,
}

impl Reading {
    async fn next(&mut self) -> Result<Option<Bytes>, SideError> {
        if self.client.stop.asked() {
            return Err(SideError::Stopped);
        }
        if !self.arrived.is_empty() {
            return Ok(Some(self.client.down.next(&mut self.arrived).await));
        }
        match self.body.next().await {
            Some(Ok(mut chunk)) => {
                self.left = self.left.checked_sub(chunk.len() as u64).ok_or_else(|| {
                    SideError::try_again("more arrived than the server announced")
                })?;
                if let Some((_, hasher)) = &mut self.digest {
                    hasher.update(&chunk).await;
                }
                let piece = self.client.down.next(&mut chunk).await;
                self.arrived = chunk;
                Ok(Some(piece))
            }
            Some(Err(error)) => Err(match error {
                // Mid-transfer there was an answer already: the server is there, the line is not.
                SideError::NotThere(said) => SideError::try_again(said),
                error => error,
            }),
            None if self.left > 0 => Err(SideError::try_again(format!(
                "{} bytes did not arrive",
                self.left
            ))),
            None => {
                let damaged = match self.digest.take() {
                    Some((announced, hasher)) => hasher.finish().await != Some(announced),
                    None => false,
                };
                if damaged {
                    return Err(SideError::try_again(
                        "it was damaged on the way: its digest is not the server's",
                    ));
                }
                match &self.listed_again {
                    Some((inner, path, seen)) if !is_listed(inner, path, seen).await? => {
                        Err(changed())
                    }
                    _ => Ok(None),
                }
            }
        }
    }
}

/// Bodies above this size are hashed beside the transfer: SHA-256 without help from the processor is slower than a disk.
const HASHED_BESIDE: u64 = 1024 * 1024;

/// The SHA-256 of a body that goes by.
enum Sha256 {
    Here(Box<Context>),
    Beside(mpsc::Sender<Bytes>, JoinHandle<Context>),
}

impl Sha256 {
    fn begin(size: u64) -> Sha256 {
        let mut context = Context::new(&SHA256);
        if size <= HASHED_BESIDE {
            return Sha256::Here(Box::new(context));
        }
        let (sender, mut chunks) = mpsc::channel::<Bytes>(16);
        let hashing = tokio::task::spawn_blocking(move || {
            while let Some(chunk) = chunks.blocking_recv() {
                context.update(&chunk);
            }
            context
        });
        Sha256::Beside(sender, hashing)
    }

    async fn update(&mut self, chunk: &Bytes) {
        match self {
            Sha256::Here(context) => context.update(chunk),
            // A hasher that broke off gives no digest at the end, and that is an error then.
            Sha256::Beside(sender, _) => drop(sender.send(chunk.clone()).await),
        }
    }

    async fn finish(self) -> Option<Vec<u8>> {
        let context = match self {
            Sha256::Here(context) => *context,
            Sha256::Beside(sender, hashing) => {
                drop(sender);
                hashing.await.ok()?
            }
        };
        Some(context.finish().as_ref().to_vec())
    }
}
