//! What all requests work on, what a request is about, and how it is answered.

use std::io;
use std::path::PathBuf;
use std::sync::Arc;

use bytes::Bytes;
use http_body_util::combinators::BoxBody;
use http_body_util::{BodyExt, Full};
use hyper::body::Incoming;
use hyper::header::{CONTENT_TYPE, HeaderValue};
use hyper::{Request, Response, StatusCode};
use tokio::sync::RwLock;

use crate::changes::Changes;
use crate::device_grant::Grant;
use crate::faults::{Faults, Mishap};
use crate::locks::Locks;
use crate::people::{Mount, People};
use crate::store::{Place, Store};

/// What all requests share.
pub(crate) struct Cloud {
    pub(crate) store: Store,
    pub(crate) people: People,
    pub(crate) faults: Arc<Faults>,
    pub(crate) grant: Grant,
    pub(crate) locks: Locks,
    pub(crate) changes: Changes,
    pub(crate) quota: Option<u64>,
    /// What the phones' keys are made of.
    pub(crate) seed: Vec<u8>,
    pub(crate) scheme: &'static str,
    /// Held for writing while names change, so that a condition and what follows from it are one step.
    pub(crate) names: RwLock<()>,
}

pub(crate) type Body = BoxBody<Bytes, io::Error>;

/// The connection is to be cut without an answer.
#[derive(Debug)]
pub(crate) struct Cut;

impl std::fmt::Display for Cut {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.write_str("cut on purpose")
    }
}

impl std::error::Error for Cut {}

pub(crate) fn answer(status: StatusCode, text: &str) -> Response<Body> {
    let body = Full::new(Bytes::copy_from_slice(text.as_bytes()))
        .map_err(|never| match never {})
        .boxed();
    let mut response = Response::new(body);
    *response.status_mut() = status;
    response
}

/// An answer of a given type, such as a page.
pub(crate) fn answer_as(status: StatusCode, kind: &'static str, text: &str) -> Response<Body> {
    let mut response = answer(status, text);
    response
        .headers_mut()
        .insert(CONTENT_TYPE, HeaderValue::from_static(kind));
    response
}

impl Cloud {
    /// The address that a request was made to, up to the first slash of the path.
    pub(crate) fn base(&self, request: &Request<Incoming>) -> String {
        let host = request
            .headers()
            .get("host")
            .and_then(|value| value.to_str().ok())
            .unwrap_or("localhost");
        format!("{}://{host}/", self.scheme)
    }

    /// What a path of a user means.
    pub(crate) fn place(&self, user: &str, path: &str) -> Option<Place> {
        let mounts = self.people.mounts(self.store.root(), user);
        self.store.resolve(&mounts, path, self.faults.tells_case())
    }

    /// The name of the account behind a user's sign-in.
    pub(crate) fn principal_of(&self, user: &str) -> String {
        self.people
            .users
            .iter()
            .find(|known| known.name == user)
            .map_or_else(|| user.to_owned(), |known| known.principal.clone())
    }
}

/// What a request is about.
pub(crate) struct Target {
    pub(crate) user: String,
    /// The path from the user's root, unescaped, without slashes at its ends.
    pub(crate) path: String,
    pub(crate) disk: PathBuf,
    /// The part of the user's tree it lies in.
    pub(crate) mount: Mount,
    pub(crate) mishap: Mishap,
}

impl Target {
    pub(crate) fn of(
        cloud: &Cloud,
        user: &str,
        request_path: &str,
        mishap: Mishap,
    ) -> Option<Target> {
        let place = cloud.place(user, request_path)?;
        Some(Target {
            user: user.to_owned(),
            path: place.path,
            disk: place.disk,
            mount: place.mount,
            mishap,
        })
    }
}
