use std::path::{Path, PathBuf};

use hyper::body::Incoming;
use hyper::{HeaderMap, Request, Response, StatusCode};

use super::failed;
use crate::serve::{Body, Cloud, Target, answer};
use crate::{conditions, store};

/// `COPY` and `MOVE` (RFC 4918 §9.8, §9.9).
pub(super) async fn copy_or_move(
    cloud: &Cloud,
    target: &Target,
    request: &Request<Incoming>,
    moves: bool,
) -> Response<Body> {
    let Some(destination) = destination(cloud, &target.user, request.headers()) else {
        return answer(
            StatusCode::BAD_REQUEST,
            "the Destination header is missing or leads elsewhere\n",
        );
    };
    let overwrite = request
        .headers()
        .get("overwrite")
        .is_none_or(|value| value.as_bytes() != b"F");
    let deep = request
        .headers()
        .get("depth")
        .is_none_or(|value| value.as_bytes() != b"0");
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
    if destination.starts_with(&target.disk) || target.path.is_empty() {
        return answer(StatusCode::FORBIDDEN, "it cannot be put into itself\n");
    }
    if !destination.parent().is_some_and(Path::is_dir) {
        return answer(
            StatusCode::CONFLICT,
            "the folder above the destination is not there\n",
        );
    }
    let replaces = destination.symlink_metadata().is_ok();
    if replaces && !overwrite {
        return answer(
            StatusCode::PRECONDITION_FAILED,
            "the destination is there already\n",
        );
    }
    let carried = (|| {
        if replaces {
            store::remove_tree(&destination)?;
        }
        if moves {
            std::fs::rename(&target.disk, &destination)
        } else {
            store::copy_tree(&cloud.store, &target.disk, &destination, deep)
        }
    })();
    match carried {
        Ok(()) if replaces => answer(StatusCode::NO_CONTENT, ""),
        Ok(()) => answer(StatusCode::CREATED, ""),
        Err(error) => failed(&error),
    }
}

fn destination(cloud: &Cloud, user: &str, headers: &HeaderMap) -> Option<PathBuf> {
    let header = headers.get("destination")?.to_str().ok()?;
    let uri: hyper::Uri = header.parse().ok()?;
    let host = headers.get("host").and_then(|value| value.to_str().ok());
    if uri
        .authority()
        .is_some_and(|authority| Some(authority.as_str()) != host)
    {
        return None;
    }
    cloud.store.resolve(user, uri.path())
}
