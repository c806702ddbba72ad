use hyper::body::Incoming;
use hyper::header::{CONTENT_TYPE, HeaderValue};
use hyper::{Request, Response, StatusCode};

use super::{failed, small_body};
use crate::listing::{Depth, find};
use crate::multistatus::{read_asked, write_found};
use crate::serve::{Body, Target, answer};

/// `PROPFIND` (RFC 4918 §9.1).
pub(super) async fn propfind(target: &Target, request: Request<Incoming>) -> Response<Body> {
    let depth = match request.headers().get("depth").map(HeaderValue::as_bytes) {
        Some(b"0") => Depth::Zero,
        Some(b"1") => Depth::One,
        Some(b"infinity") | None => Depth::Infinity,
        Some(_) => return answer(StatusCode::BAD_REQUEST, "Depth is 0, 1 or infinity\n"),
    };
    let Some(asked) = small_body(request.into_body())
        .await
        .as_deref()
        .and_then(read_asked)
    else {
        return answer(StatusCode::BAD_REQUEST, "the body is not understood\n");
    };
    let (path, disk, mishap) = (
        target.path.clone(),
        target.disk.clone(),
        target.mishap.clone(),
    );
    let xml = tokio::task::spawn_blocking(move || {
        find(&path, &disk, depth, &mishap).map(|found| write_found(&found, &asked))
    })
    .await;
    match xml {
        Ok(Ok(xml)) => multistatus(&xml),
        Ok(Err(error)) => failed(&error),
        Err(_) => answer(StatusCode::INTERNAL_SERVER_ERROR, "the listing broke off\n"),
    }
}

pub(super) fn multistatus(xml: &str) -> Response<Body> {
    let mut response = answer(StatusCode::MULTI_STATUS, xml);
    response.headers_mut().insert(
        CONTENT_TYPE,
        HeaderValue::from_static("application/xml; charset=utf-8"),
    );
    response
}
