//! The methods, one a file.

mod copy_move;
mod delete;
mod get;
mod lock;
mod mkcol;
mod options;
mod propfind;
mod proppatch;
mod put;
mod report;

use std::io;

use http_body_util::{BodyExt, Limited};
use hyper::body::Incoming;
use hyper::{Request, Response, StatusCode};

use crate::cloud::{Body, Cloud, Cut, Target, answer};
use crate::faults::Feature;

pub(crate) use propfind::{principal, principal_of};

pub(crate) async fn dispatch(
    cloud: &Cloud,
    target: Target,
    request: Request<Incoming>,
) -> Result<Response<Body>, Cut> {
    let method = request.method().as_str();
    if let Some(refusal) = right(&target, method) {
        return Ok(refusal);
    }
    let lacks = |feature| target.mishap.lacks(feature);
    Ok(match method {
        "OPTIONS" => options::options(&target),
        "GET" | "HEAD" => return get::get(cloud, &target, &request).await,
        "PUT" => return put::put(cloud, target, request).await,
        "DELETE" => delete::delete(cloud, &target, &request).await,
        "MKCOL" => mkcol::mkcol(cloud, &target, request).await,
        "COPY" => copy_move::copy_or_move(cloud, &target, &request, false).await,
        "MOVE" => copy_move::copy_or_move(cloud, &target, &request, true).await,
        "PROPFIND" => propfind::propfind(cloud, target, request).await,
        "PROPPATCH" if !lacks(Feature::Properties) => {
            proppatch::proppatch(cloud, &target, request).await
        }
        "LOCK" if !lacks(Feature::Locks) => lock::lock(cloud, &target, request).await,
        "UNLOCK" if !lacks(Feature::Locks) => lock::unlock(cloud, &target, &request).await,
        "REPORT" if !lacks(Feature::Changes) => report::report(cloud, target, request).await,
        _ => answer(StatusCode::METHOD_NOT_ALLOWED, "no such method here\n"),
    })
}

/// Why this user may not do this here, if so.
fn right(target: &Target, method: &str) -> Option<Response<Body>> {
    let writes = ["PUT", "DELETE", "MKCOL", "MOVE", "PROPPATCH", "LOCK"].contains(&method);
    if writes && !target.mount.writable {
        return Some(answer(
            StatusCode::FORBIDDEN,
            &format!(
                "{} lets {} only read here\n",
                target.mount.owner, target.user
            ),
        ));
    }
    let stays = ["DELETE", "MOVE", "PUT", "MKCOL"].contains(&method) && target.is_mount();
    stays.then(|| {
        let status = match method {
            "DELETE" | "MOVE" => StatusCode::FORBIDDEN,
            _ => StatusCode::METHOD_NOT_ALLOWED,
        };
        answer(status, "this folder is part of the account and stays\n")
    })
}

impl Target {
    /// Whether this is the top of a part of the tree, which no user can take away.
    fn is_mount(&self) -> bool {
        self.path == self.mount.at
    }
}

fn failed(error: &io::Error) -> Response<Body> {
    let status = match error.kind() {
        io::ErrorKind::NotFound | io::ErrorKind::NotADirectory => StatusCode::NOT_FOUND,
        io::ErrorKind::PermissionDenied => StatusCode::FORBIDDEN,
        io::ErrorKind::InvalidFilename => StatusCode::BAD_REQUEST,
        io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => {
            StatusCode::INSUFFICIENT_STORAGE
        }
        _ => StatusCode::INTERNAL_SERVER_ERROR,
    };
    answer(status, &format!("{error}\n"))
}

/// A small body, such as XML; none where it is cut short or too large.
async fn small_body(body: Incoming) -> Option<Vec<u8>> {
    Limited::new(body, 1 << 20)
        .collect()
        .await
        .ok()
        .map(|whole| whole.to_bytes().to_vec())
}
