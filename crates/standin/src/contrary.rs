//! What habits do to a request before its method sees it, and to the answer after.

use hyper::body::Incoming;
use hyper::header::{
    CONNECTION, CONTENT_LENGTH, ETAG, HeaderValue, LAST_MODIFIED, LOCATION, TRANSFER_ENCODING,
};
use hyper::{Request, Response, StatusCode, Version};

use crate::cloud::{Body, Cloud, Target, answer};
use crate::faults::Mishap;
use crate::habits::Habit;
use crate::listing::http_date_of;

/// What makes a name, by its own path or by that of its destination.
fn makes_a_name(method: &str) -> bool {
    ["PUT", "MKCOL", "MOVE", "COPY"].contains(&method)
}

/// The answer of a server that does not let its method see this request.
pub(crate) fn before(
    cloud: &Cloud,
    target: &Target,
    request: &Request<Incoming>,
) -> Option<Response<Body>> {
    let (mishap, method) = (&target.mishap, request.method().as_str());
    if mishap
        .without_methods
        .iter()
        .any(|without| without == method)
    {
        return Some(answer(StatusCode::NOT_IMPLEMENTED, "no such method here\n"));
    }
    let header = |name: &str| request.headers().get(name)?.to_str().ok();
    let length = header("content-length").and_then(|length| length.parse::<u64>().ok());
    let looks = ["GET", "HEAD", "OPTIONS", "PROPFIND", "REPORT"].contains(&method);
    if mishap.does(Habit::NeedsLength) && !looks && length.is_none() {
        return Some(answer(StatusCode::LENGTH_REQUIRED, "how long is it?\n"));
    }
    if let Some(largest) = mishap.largest
        && method == "PUT"
        && length.is_some_and(|length| length > largest)
    {
        return Some(answer(StatusCode::PAYLOAD_TOO_LARGE, "too large\n"));
    }
    if mishap.does(Habit::NoDepthOne) && method == "PROPFIND" && header("depth") == Some("1") {
        return Some(answer(StatusCode::FORBIDDEN, "no listings here\n"));
    }
    let made = match method {
        "MOVE" | "COPY" => {
            let to: Option<hyper::Uri> = header("destination").and_then(|to| to.parse().ok());
            to.and_then(|to| cloud.place(&target.user, to.path()))
                .map(|place| place.path)
        }
        _ => Some(target.path.clone()),
    };
    if let Some(made) = made.filter(|_| makes_a_name(method)) {
        let has_dot = made.split('/').any(|part| part.starts_with('.'));
        if mishap.does(Habit::ForbidDots) && has_dot {
            return Some(answer(StatusCode::FORBIDDEN, "no name begins with a dot\n"));
        }
        if mishap.does(Habit::NoTop) && !made.contains('/') {
            return Some(answer(StatusCode::FORBIDDEN, "nothing is made here\n"));
        }
    }
    let unserved = |part: &str| part.contains(|c| mishap.unserved.contains(c));
    if !makes_a_name(method) && target.path.split('/').any(unserved)
        || method == "MOVE" && target.path.split('/').any(unserved)
    {
        return Some(answer(StatusCode::NOT_FOUND, "no such thing\n"));
    }
    with_a_slash(target, request)
}

/// Sends whoever names a folder without a slash to the same with one.
fn with_a_slash(target: &Target, request: &Request<Incoming>) -> Option<Response<Body>> {
    let status = match &target.mishap {
        mishap if mishap.does(Habit::SlashRedirect301) => StatusCode::MOVED_PERMANENTLY,
        mishap if mishap.does(Habit::SlashRedirect308) => StatusCode::PERMANENT_REDIRECT,
        _ => return None,
    };
    let path = request.uri().path();
    if path.ends_with('/') || !target.disk.is_dir() {
        return None;
    }
    let mut response = answer(status, "with a slash\n");
    let to = HeaderValue::from_str(&format!("{path}/")).ok()?;
    response.headers_mut().insert(LOCATION, to);
    Some(response)
}

/// What becomes of an answer.
pub(crate) fn after(mishap: &Mishap, looks_at_content: bool, response: &mut Response<Body>) {
    let headers = response.headers_mut();
    if looks_at_content && mishap.does(Habit::NoValidators) {
        headers.remove(ETAG);
        headers.remove(LAST_MODIFIED);
    }
    if looks_at_content
        && mishap.does(Habit::OtherValidators)
        && let Some(tag) = headers.get(ETAG).and_then(|tag| tag.to_str().ok())
        && let Ok(other) = HeaderValue::from_str(&format!("\"{}-as-sent\"", tag.trim_matches('"')))
    {
        headers.insert(ETAG, other);
    }
    if looks_at_content
        && mishap.does(Habit::LateDates)
        && let Some(date) = headers
            .get(LAST_MODIFIED)
            .and_then(|date| date.to_str().ok())
        && let Ok(date) = jiff::fmt::rfc2822::DateTimeParser::new().parse_timestamp(date)
        && let Ok(later) = HeaderValue::from_str(&http_date_of(date.as_second() + 1))
    {
        headers.insert(LAST_MODIFIED, later);
    }
    if mishap.does(Habit::Closes) || mishap.does(Habit::Http10) {
        headers.insert(CONNECTION, HeaderValue::from_static("close"));
    }
    if mishap.does(Habit::Http10) {
        // It knows no chunks: a body without a length ends with the connection.
        if !headers.contains_key(CONTENT_LENGTH) {
            headers.remove(TRANSFER_ENCODING);
        }
        *response.version_mut() = Version::HTTP_10;
    }
}
