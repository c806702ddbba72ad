use hyper::header::{ALLOW, HeaderValue};
use hyper::{Response, StatusCode};

use crate::serve::{Body, answer};

/// `OPTIONS` (RFC 9110 §9.3.7), with the `DAV` header of RFC 4918 §10.1.
pub(super) fn options() -> Response<Body> {
    let mut response = answer(StatusCode::OK, "");
    let allow = "OPTIONS, GET, HEAD, PUT, DELETE, MKCOL, COPY, MOVE, PROPFIND, PROPPATCH";
    response
        .headers_mut()
        .insert(ALLOW, HeaderValue::from_static(allow));
    response
        .headers_mut()
        .insert("dav", HeaderValue::from_static("1"));
    response
}
