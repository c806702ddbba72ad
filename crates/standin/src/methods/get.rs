use std::io;

use bytes::Bytes;
use futures_util::stream;
use http_body_util::{BodyExt, StreamBody};
use hyper::body::{Frame, Incoming};
use hyper::header::{
    ACCEPT_RANGES, CONTENT_LENGTH, CONTENT_RANGE, ETAG, HeaderValue, LAST_MODIFIED, RANGE,
};
use hyper::{Method, Request, Response, StatusCode};
use tokio::io::{AsyncReadExt, AsyncSeekExt};

use super::failed;
use super::propfind::listing_of;
use super::put::pace;
use crate::cloud::{Body, Cloud, Cut, Target, answer};
use crate::digests::field;
use crate::faults::{Feature, Mishap};
use crate::listing::{Depth, find, http_date};
use crate::sign_in_pages::html;
use crate::{conditions, pages, store};

const CHUNK: u64 = 64 * 1024;

/// Long enough for what was written to leave.
const BEFORE_A_CUT: std::time::Duration = std::time::Duration::from_millis(5);

/// `GET` and `HEAD` (RFC 9110 §9.3.1), with one range (§14.2) and `Repr-Digest` (RFC 9530).
pub(super) async fn get(
    cloud: &Cloud,
    target: &Target,
    request: &Request<Incoming>,
) -> Result<Response<Body>, Cut> {
    // Until the file is open, no `PUT` may take its place: tag and content must be of one version.
    let names = cloud.names.read().await;
    let meta = match target.disk.symlink_metadata() {
        Ok(meta) => meta,
        Err(error) => return Ok(failed(&error)),
    };
    if meta.is_dir() {
        return Ok(page(cloud, target, request));
    }
    let tag = store::shown_tag(&target.disk, &meta, &target.mishap);
    if let Some(refusal) = conditions::refusal(cloud, target, request.headers(), &[]) {
        return Ok(refusal);
    }
    let file = match tokio::fs::File::open(&target.disk).await {
        Ok(file) => file,
        Err(error) => return Ok(failed(&error)),
    };
    let digest = match digest(cloud, request, target) {
        Ok(digest) => digest,
        Err(error) => return Ok(failed(&error)),
    };
    drop(names);

    let (start, end, partial) = match request
        .headers()
        .get(RANGE)
        .map(|value| range(value, meta.len()))
    {
        None => (0, meta.len(), false),
        Some(Some((start, end))) => (start, end, true),
        Some(None) => return Ok(answer(StatusCode::RANGE_NOT_SATISFIABLE, "no such range\n")),
    };
    let end = if target.mishap.wrong_length && end > start {
        end - 1
    } else {
        end
    };
    let head = request.method() == Method::HEAD;
    let body = if head {
        answer(StatusCode::OK, "").into_body()
    } else {
        match content(file, start, end, &target.mishap).await {
            Ok(body) => body,
            Err(error) => return Ok(failed(&error)),
        }
    };
    let mut response = Response::new(body);
    let mut header = |name: hyper::header::HeaderName, value: String| {
        if let Ok(value) = HeaderValue::from_str(&value) {
            response.headers_mut().insert(name, value);
        }
    };
    if let Some(tag) = &tag {
        header(ETAG, store::quoted(tag));
    }
    header(LAST_MODIFIED, http_date(&meta));
    header(ACCEPT_RANGES, "bytes".to_owned());
    header(CONTENT_LENGTH, (end - start).to_string());
    if let Some(digest) = digest {
        header(
            hyper::header::HeaderName::from_static("repr-digest"),
            field(&digest),
        );
    }
    if partial {
        header(
            CONTENT_RANGE,
            format!("bytes {start}-{}/{}", end.saturating_sub(1), meta.len()),
        );
        *response.status_mut() = StatusCode::PARTIAL_CONTENT;
    }
    Ok(response)
}

/// A folder, for a browser.
fn page(cloud: &Cloud, target: &Target, request: &Request<Incoming>) -> Response<Body> {
    if request.method() == Method::HEAD {
        return html(StatusCode::OK, "");
    }
    match find(&listing_of(cloud, target, Depth::One), &target.mishap) {
        Ok(found) => html(
            StatusCode::OK,
            &pages::folder(&target.user, &target.path, &found),
        ),
        Err(error) => failed(&error),
    }
}

/// The digest of the whole file, where the client wants one.
fn digest(
    cloud: &Cloud,
    request: &Request<Incoming>,
    target: &Target,
) -> io::Result<Option<Vec<u8>>> {
    if !request.headers().contains_key("want-repr-digest") || target.mishap.lacks(Feature::Digests)
    {
        return Ok(None);
    }
    cloud.store.digests.of(&target.disk).map(Some)
}

/// Start and end (exclusive) of `bytes=A-B`, `bytes=A-` or `bytes=-N`.
fn range(value: &HeaderValue, length: u64) -> Option<(u64, u64)> {
    let (first, last) = value
        .to_str()
        .ok()?
        .strip_prefix("bytes=")?
        .split_once('-')?;
    let (start, end) = match (first.parse::<u64>().ok(), last.parse::<u64>().ok()) {
        (Some(start), Some(last)) => (start, (last + 1).min(length)),
        (Some(start), None) if last.is_empty() => (start, length),
        (None, Some(suffix)) if first.is_empty() => (length.saturating_sub(suffix), length),
        _ => return None,
    };
    (start < end).then_some((start, end))
}

struct Sending {
    file: tokio::fs::File,
    at: u64,
    end: u64,
    flip: Option<u64>,
    cut_at: Option<u64>,
    slow: Option<u64>,
}

impl Sending {
    async fn next(&mut self) -> io::Result<Option<Bytes>> {
        if self.cut_at.is_some_and(|cut_at| self.at >= cut_at) {
            // What was handed over before goes out first, or the cut would come before the body began.
            tokio::time::sleep(BEFORE_A_CUT).await;
            return Err(io::ErrorKind::ConnectionAborted.into());
        }
        let until = self.cut_at.map_or(self.end, |cut_at| cut_at.min(self.end));
        let mut chunk = vec![0; (until - self.at).min(CHUNK) as usize];
        if chunk.is_empty() {
            return Ok(None);
        }
        let length = self.file.read(&mut chunk).await?;
        if length == 0 {
            // Somebody cut the file short by hand; the client sees a body that is too short.
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        chunk.truncate(length);
        pace(self.slow, length).await;
        if let Some(flip) = self
            .flip
            .filter(|flip| (self.at..self.at + length as u64).contains(flip))
        {
            chunk[(flip - self.at) as usize] ^= 1;
        }
        self.at += length as u64;
        Ok(Some(Bytes::from(chunk)))
    }
}

async fn content(
    mut file: tokio::fs::File,
    start: u64,
    end: u64,
    mishap: &Mishap,
) -> io::Result<Body> {
    file.seek(io::SeekFrom::Start(start)).await?;
    let length = end - start;
    let sending = Sending {
        file,
        at: start,
        end,
        flip: mishap
            .flip
            .filter(|_| length > 0)
            .map(|draw| start + draw % length),
        slow: mishap.slow,
        cut_at: (mishap.cut && length > 0).then_some(start + length / 2),
    };
    let frames = stream::unfold(Some(sending), |sending| async {
        let mut sending = sending?;
        match sending.next().await {
            Ok(None) => None,
            Ok(Some(chunk)) => Some((Ok(Frame::data(chunk)), Some(sending))),
            Err(error) => Some((Err(error), None)),
        }
    });
    Ok(BodyExt::boxed(StreamBody::new(frames)))
}
