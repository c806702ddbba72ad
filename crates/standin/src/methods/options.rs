use hyper::header::{ALLOW, HeaderValue};
use hyper::{Response, StatusCode};

use crate::cloud::{Body, Target, answer};
use crate::faults::Feature;

/// `OPTIONS` (RFC 9110 §9.3.7), with the `DAV` header of RFC 4918 §10.1.
pub(super) fn options(target: &Target) -> Response<Body> {
    let mut response = answer(StatusCode::OK, "");
    let (allow, classes) = if target.mishap.lacks(Feature::Locks) {
        (
            "OPTIONS, GET, HEAD, PUT, DELETE, MKCOL, COPY, MOVE, PROPFIND, PROPPATCH, REPORT",
            "1",
        )
    } else {
        (
            "OPTIONS, GET, HEAD, PUT, DELETE, MKCOL, COPY, MOVE, PROPFIND, PROPPATCH, REPORT, LOCK, UNLOCK",
            "1, 2",
        )
    };
    let headers = response.headers_mut();
    headers.insert(ALLOW, HeaderValue::from_static(allow));
    headers.insert("dav", HeaderValue::from_static(classes));
    response
}
