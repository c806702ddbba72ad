use hyper::body::Incoming;
use hyper::header::{CONTENT_TYPE, HeaderValue};
use hyper::{Request, Response, StatusCode};

use super::{failed, small_body};
use crate::cloud::{Body, Cloud, Target, answer};
use crate::conditions::{self, Change};
use crate::locks::{Lock, Reach, Wanted};
use crate::multistatus::elements;
use crate::properties::active_lock;
use crate::{if_header, store};

/// For so long a lock is given where the client does not say.
const USUAL: u64 = 600;

/// `LOCK` (RFC 4918 §9.10): a new one with a body, a longer one without.
pub(super) async fn lock(
    cloud: &Cloud,
    target: &Target,
    request: Request<Incoming>,
) -> Response<Body> {
    let (parts, body) = request.into_parts();
    let text = |name: &str| {
        parts
            .headers
            .get(name)
            .and_then(|value| value.to_str().ok())
    };
    let seconds = text("timeout")
        .and_then(|text| {
            text.split(',')
                .find_map(|item| item.trim().strip_prefix("Second-")?.parse().ok())
        })
        .unwrap_or(USUAL);
    let Some(body) = small_body(body).await else {
        return answer(StatusCode::BAD_REQUEST, "the body did not arrive\n");
    };
    if body.is_empty() {
        let tokens = text("if")
            .and_then(if_header::read)
            .map(|lists| if_header::tokens(&lists))
            .unwrap_or_default();
        return match cloud.locks.refresh(&target.disk, &tokens, seconds) {
            Some(lock) => granted(&lock, StatusCode::OK, false),
            None => answer(
                StatusCode::PRECONDITION_FAILED,
                "no lock of that token is here\n",
            ),
        };
    }
    let Some(elements) = elements(&body) else {
        return answer(StatusCode::BAD_REQUEST, "the body is not understood\n");
    };
    let has = |name: &str| {
        elements
            .iter()
            .any(|element| element.path.last().is_some_and(|(_, known)| known == name))
    };
    if !has("lockinfo") || has("exclusive") == has("shared") {
        return answer(
            StatusCode::BAD_REQUEST,
            "a lock is exclusive or shared, and of the type write\n",
        );
    }
    let owner = elements
        .iter()
        .find(|element| element.path.len() == 2 && element.path[1].1 == "owner")
        .map(|element| format!("<D:owner>{}</D:owner>", element.xml));
    let _names = cloud.names.write().await;
    let new = target.disk.symlink_metadata().is_err();
    let comes = Change {
        disk: &target.disk,
        reach: Reach::Name,
    };
    // The name alone can be guarded by a lock of the folder above; locks on the resource itself are weighed below.
    let changes = if new { vec![comes] } else { Vec::new() };
    if let Some(refusal) = conditions::refusal(cloud, target, &parts.headers, &changes) {
        return refusal;
    }
    if new && !target.disk.parent().is_some_and(std::path::Path::is_dir) {
        return answer(StatusCode::CONFLICT, "the folder above is not there\n");
    }
    let wanted = Wanted {
        disk: target.disk.clone(),
        href: parts.uri.path().to_owned(),
        deep: text("depth") != Some("0"),
        exclusive: has("exclusive"),
        owner: owner.unwrap_or_default(),
        seconds,
    };
    let Some(lock) = cloud.locks.take(wanted, store::new_uuid()) else {
        return answer(StatusCode::LOCKED, "somebody has locked it\n");
    };
    if !new {
        return granted(&lock, StatusCode::OK, true);
    }
    // RFC 4918 §7.3: a lock on a name that nothing has makes an empty resource of it.
    let made =
        std::fs::File::create_new(&target.disk).and_then(|_| cloud.store.stamp(&target.disk));
    match made {
        Ok(()) => granted(&lock, StatusCode::CREATED, true),
        Err(error) => {
            cloud.locks.forget(&target.disk);
            failed(&error)
        }
    }
}

fn granted(lock: &Lock, status: StatusCode, new: bool) -> Response<Body> {
    let xml = format!(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<D:prop xmlns:D=\"DAV:\"><D:lockdiscovery>{}</D:lockdiscovery></D:prop>\n",
        active_lock(lock)
    );
    let mut response = answer(status, &xml);
    let headers = response.headers_mut();
    headers.insert(
        CONTENT_TYPE,
        HeaderValue::from_static("application/xml; charset=utf-8"),
    );
    if let (true, Ok(token)) = (new, HeaderValue::from_str(&format!("<{}>", lock.token))) {
        headers.insert("lock-token", token);
    }
    response
}

/// `UNLOCK` (RFC 4918 §9.11).
pub(super) async fn unlock(
    cloud: &Cloud,
    target: &Target,
    request: &Request<Incoming>,
) -> Response<Body> {
    let token = request
        .headers()
        .get("lock-token")
        .and_then(|value| value.to_str().ok())
        .map(|token| token.trim().trim_matches(['<', '>']));
    let Some(token) = token else {
        return answer(
            StatusCode::BAD_REQUEST,
            "the Lock-Token header is missing\n",
        );
    };
    if cloud.locks.release(&target.disk, token) {
        answer(StatusCode::NO_CONTENT, "")
    } else {
        answer(StatusCode::CONFLICT, "no lock of that token is here\n")
    }
}
