//! The methods, one a file.

mod copy_move;
mod delete;
mod get;
mod mkcol;
mod options;
mod propfind;
mod proppatch;
mod put;

use std::io;

use http_body_util::{BodyExt, Limited};
use hyper::body::Incoming;
use hyper::{Request, Response, StatusCode};

use crate::serve::{Body, Cloud, Cut, Target, answer};

pub(crate) async fn dispatch(
    cloud: &Cloud,
    target: Target,
    request: Request<Incoming>,
) -> Result<Response<Body>, Cut> {
    Ok(match request.method().as_str() {
        "OPTIONS" => options::options(),
        "GET" | "HEAD" => return get::get(cloud, &target, &request).await,
        "PUT" => return put::put(cloud, target, request).await,
        "DELETE" => delete::delete(cloud, &target, &request).await,
        "MKCOL" => mkcol::mkcol(cloud, &target, request).await,
        "COPY" => copy_move::copy_or_move(cloud, &target, &request, false).await,
        "MOVE" => copy_move::copy_or_move(cloud, &target, &request, true).await,
        "PROPFIND" => propfind::propfind(&target, request).await,
        "PROPPATCH" => proppatch::proppatch(cloud, &target, request).await,
        _ => answer(StatusCode::METHOD_NOT_ALLOWED, "no such method here\n"),
    })
}

fn failed(error: &io::Error) -> Response<Body> {
    let status = match error.kind() {
        io::ErrorKind::NotFound => StatusCode::NOT_FOUND,
        io::ErrorKind::PermissionDenied => StatusCode::FORBIDDEN,
        io::ErrorKind::InvalidFilename => StatusCode::BAD_REQUEST,
        io::ErrorKind::StorageFull => StatusCode::INSUFFICIENT_STORAGE,
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
