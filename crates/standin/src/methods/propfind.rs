use std::io;
use std::sync::Arc;

use bytes::Bytes;
use futures_util::stream;
use http_body_util::{BodyExt, StreamBody};
use hyper::body::{Frame, Incoming};
use hyper::header::{CONTENT_TYPE, HeaderValue};
use hyper::{Request, Response, StatusCode};
use tokio::sync::mpsc;

use super::{failed, small_body};
use crate::cloud::{Body, Cloud, Target, answer};
use crate::digests::Digests;
use crate::faults::{Feature, Mishap, OddXml};
use crate::habits::Habit;
use crate::listing::{self, Depth, Found, find};
use crate::locks::Lock;
use crate::multistatus::{Asked, FOOT, HEAD, elements, propstat, read_asked, response};
use crate::properties::{Around, principal_href};
use crate::quota;
use crate::xml_names::{bare, escaped};

/// XML goes out in pieces of about this size: a listing of 100,000 members is never whole in memory.
const PIECE: usize = 64 * 1024;

/// What live properties need, taken out of the cloud so that a listing can be written on a thread of its own.
pub(super) struct Surroundings {
    mishap: Mishap,
    principal: String,
    limit: Option<u64>,
    own: String,
    locks: Vec<Lock>,
    digests: Arc<Digests>,
    sync_token: Option<String>,
}

impl Surroundings {
    pub(super) fn of(cloud: &Cloud, target: &Target) -> Surroundings {
        Surroundings {
            mishap: target.mishap.clone(),
            principal: cloud.principal_of(&target.user),
            limit: cloud.quota,
            own: target.user.clone(),
            locks: cloud.locks.all(),
            digests: Arc::clone(&cloud.store.digests),
            sync_token: None,
        }
    }

    pub(super) fn with<T>(&self, then: impl FnOnce(&Around<'_>) -> T) -> T {
        let limit = |found: &Found| (found.owner == self.own).then_some(self.limit).flatten();
        let quota = |found: &Found| quota::count(&found.disk, limit(found)).ok();
        then(&Around {
            mishap: &self.mishap,
            principal: self.principal.clone(),
            quota: &quota,
            digest: &|found: &Found| self.digests.of(&found.disk).ok(),
            locks: &self.locks,
            sync_token: self.sync_token.as_deref(),
        })
    }
}

/// `PROPFIND` (RFC 4918 §9.1).
pub(super) async fn propfind(
    cloud: &Cloud,
    target: Target,
    request: Request<Incoming>,
) -> Response<Body> {
    let depth = match request.headers().get("depth").map(HeaderValue::as_bytes) {
        Some(b"0") => Depth::Zero,
        Some(b"1") if target.mishap.does(Habit::Deeper) => Depth::Infinity,
        Some(b"1") => Depth::One,
        Some(value) if !value.eq_ignore_ascii_case(b"infinity") => {
            return answer(StatusCode::BAD_REQUEST, "Depth is 0, 1 or infinity\n");
        }
        _ if target.mishap.lacks(Feature::Infinity) => {
            let xml = "<?xml version=\"1.0\"?>\n<D:error xmlns:D=\"DAV:\"><D:propfind-finite-depth/></D:error>\n";
            return answer(StatusCode::FORBIDDEN, xml);
        }
        _ => Depth::Infinity,
    };
    let Some(asked) = small_body(request.into_body())
        .await
        .as_deref()
        .and_then(read_asked)
    else {
        return answer(StatusCode::BAD_REQUEST, "the body is not understood\n");
    };
    let mut around = Surroundings::of(cloud, &target);
    if let Asked::These(names) = &asked
        && names.iter().any(|(_, name)| name == "sync-token")
    {
        around.sync_token = super::report::token_of(cloud, &target);
    }
    let about = listing_of(cloud, &target, depth);
    let mishap = target.mishap;
    let found = tokio::task::spawn_blocking(move || find(&about, &mishap)).await;
    match found {
        Ok(Ok(mut found)) => {
            if around.mishap.does(Habit::WithoutItself) && depth != Depth::Zero {
                found.remove(0);
            }
            streamed(found, asked, around)
        }
        Ok(Err(error)) => failed(&error),
        Err(_) => answer(StatusCode::INTERNAL_SERVER_ERROR, "the listing broke off\n"),
    }
}

pub(super) fn listing_of(cloud: &Cloud, target: &Target, depth: Depth) -> listing::Asked {
    listing::Asked {
        path: target.path.clone(),
        disk: target.disk.clone(),
        mount: target.mount.clone(),
        mounts: cloud.people.mounts(cloud.store.root(), &target.user),
        depth,
    }
}

/// A multistatus that goes out while it is written.
fn streamed(found: Vec<Found>, asked: Asked, around: Surroundings) -> Response<Body> {
    let (pieces, received) = mpsc::channel::<io::Result<Frame<Bytes>>>(4);
    tokio::task::spawn_blocking(move || {
        around.with(|around| {
            let mut piece = opening(around.mishap.xml);
            for item in &found {
                piece.push_str(&response(item, around, &asked));
                if piece.len() >= PIECE {
                    let full = std::mem::take(&mut piece);
                    // Whoever asked has gone away.
                    if pieces.blocking_send(Ok(Frame::data(full.into()))).is_err() {
                        return;
                    }
                }
            }
            let bytes = closing(piece, around.mishap.xml);
            let _ = pieces.blocking_send(Ok(Frame::data(bytes)));
            if around.mishap.cut {
                let _ = pieces.blocking_send(Err(io::ErrorKind::ConnectionAborted.into()));
            }
        });
    });
    let frames = stream::unfold(received, |mut received| async {
        received.recv().await.map(|frame| (frame, received))
    });
    let mut response = Response::new(BodyExt::boxed(StreamBody::new(frames)));
    *response.status_mut() = StatusCode::MULTI_STATUS;
    response.headers_mut().insert(CONTENT_TYPE, XML);
    response
}

const XML: HeaderValue = HeaderValue::from_static("application/xml; charset=utf-8");

fn opening(odd: Option<OddXml>) -> String {
    match odd {
        None | Some(OddXml::Cut) => HEAD.to_owned(),
        Some(OddXml::Entities) => {
            HEAD.replace(
                "?>\n",
                "?>\n<!DOCTYPE x [<!ENTITY a \"aaaaaaaa\"><!ENTITY b \"&a;&a;&a;&a;\">]>\n",
            ) + "<D:responsedescription>&b;</D:responsedescription>\n"
        }
        Some(OddXml::Nested) => format!("{HEAD}{}", "<D:x>".repeat(1_000_000)),
        Some(OddXml::Encoding) => HEAD.replace("utf-8", "iso-8859-1"),
    }
}

fn closing(mut piece: String, odd: Option<OddXml>) -> Bytes {
    match odd {
        None | Some(OddXml::Entities) => piece.push_str(FOOT),
        Some(OddXml::Nested) => {
            piece.push_str(&"</D:x>".repeat(1_000_000));
            piece.push_str(FOOT);
        }
        Some(OddXml::Cut) => piece.truncate(piece.len() / 2),
        Some(OddXml::Encoding) => {
            // An é as ISO 8859-1 has it, which is no UTF-8.
            let mut bytes = piece.into_bytes();
            bytes.extend(b"<D:responsedescription>caf\xe9</D:responsedescription>");
            bytes.extend(FOOT.as_bytes());
            return bytes.into();
        }
    }
    piece.into()
}

pub(super) fn multistatus(xml: &str) -> Response<Body> {
    let mut response = answer(StatusCode::MULTI_STATUS, xml);
    response.headers_mut().insert(CONTENT_TYPE, XML);
    response
}

/// The name of the account that a path means.
pub(crate) fn principal_of(path: &str) -> Option<String> {
    let name = path.strip_prefix("/.standin/principals/")?;
    let name = percent_encoding::percent_decode_str(name.trim_end_matches('/'));
    name.decode_utf8().ok().map(|name| name.into_owned())
}

/// What is said of an account itself (RFC 3744 §4): what it is called.
pub(crate) fn principal(
    cloud: &Cloud,
    name: String,
    request: &Request<Incoming>,
) -> Response<Body> {
    let known = cloud.people.users.iter().any(|user| user.principal == name);
    if !known {
        return answer(StatusCode::NOT_FOUND, "there is no such account\n");
    }
    if request.method() != "PROPFIND" {
        return answer(StatusCode::METHOD_NOT_ALLOWED, "it can only be looked at\n");
    }
    let props = format!(
        "<D:displayname>{}</D:displayname><D:resourcetype><D:principal/></D:resourcetype>",
        escaped(&name)
    );
    multistatus(&format!(
        "{HEAD}<D:response><D:href>{}</D:href>{}</D:response>{FOOT}",
        principal_href(&name),
        propstat(&props, "200 OK")
    ))
}

/// What a small body is about: used by `REPORT`.
pub(super) fn asked_for(body: &[u8]) -> Option<(String, Asked, String)> {
    let elements = elements(body)?;
    let (_, kind) = elements.first()?.path.first()?;
    let text = |name: &str| {
        elements
            .iter()
            .find(|element| element.path.len() == 2 && element.path[1].1 == name)
            .map(|element| element.text.trim().to_owned())
    };
    let these = elements
        .iter()
        .filter(|element| element.path.len() == 3 && element.path[1].1 == "prop")
        .filter_map(|element| element.path.last().cloned())
        .collect();
    Some((
        kind.clone(),
        Asked::These(these),
        text("sync-token").unwrap_or_default(),
    ))
}

/// A resource that is gone.
pub(super) fn gone(path: &str) -> String {
    format!(
        "<D:response><D:href>{}</D:href><D:status>HTTP/1.1 404 Not Found</D:status></D:response>\n",
        crate::xml_names::href(path, false)
    )
}

/// The answer to what was done to a folder but for one thing in it (RFC 4918 §9.6.1).
pub(super) fn half_done(folder: &str, kept: &std::ffi::OsStr) -> Response<Body> {
    let path = format!("{folder}/{}", kept.to_string_lossy());
    multistatus(&format!(
        "{HEAD}<D:response><D:href>{}</D:href><D:status>HTTP/1.1 423 Locked</D:status></D:response>{FOOT}",
        crate::xml_names::href(&path, false)
    ))
}

/// A list of names without values, all of one outcome.
pub(super) fn outcome<'n>(
    names: impl Iterator<Item = &'n crate::xml_names::Name>,
    status: &str,
) -> String {
    let props: String = names.map(bare).collect();
    if props.is_empty() {
        props
    } else {
        propstat(&props, status)
    }
}
