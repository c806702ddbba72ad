use hyper::body::Incoming;
use hyper::{Request, Response, StatusCode};

use super::failed;
use crate::serve::{Body, Cloud, Target, answer};
use crate::{conditions, store};

/// `DELETE` (RFC 4918 §9.6): a folder goes with all it holds.
pub(super) async fn delete(
    cloud: &Cloud,
    target: &Target,
    request: &Request<Incoming>,
) -> Response<Body> {
    if target.path.is_empty() {
        return answer(StatusCode::FORBIDDEN, "the root stays\n");
    }
    let _names = cloud.names.write().await;
    let meta = match target.disk.symlink_metadata() {
        Ok(meta) => meta,
        Err(error) => return failed(&error),
    };
    let tag = meta.is_file().then(|| store::tag(&target.disk, &meta));
    if !conditions::hold(request.headers(), true, tag.as_deref()) {
        return answer(
            StatusCode::PRECONDITION_FAILED,
            "another version is there\n",
        );
    }
    match store::remove_tree(&target.disk) {
        Ok(()) => answer(StatusCode::NO_CONTENT, ""),
        Err(error) => failed(&error),
    }
}
