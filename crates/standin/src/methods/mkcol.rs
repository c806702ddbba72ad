use std::io;

use hyper::body::{Body as _, Incoming};
use hyper::{Request, Response, StatusCode};

use super::failed;
use crate::cloud::{Body, Cloud, Target, answer};
use crate::conditions::{self, Change};
use crate::locks::Reach;

/// `MKCOL` (RFC 4918 §9.3).
pub(super) async fn mkcol(
    cloud: &Cloud,
    target: &Target,
    request: Request<Incoming>,
) -> Response<Body> {
    if !request.body().is_end_stream() {
        return answer(StatusCode::UNSUPPORTED_MEDIA_TYPE, "MKCOL takes no body\n");
    }
    let _names = cloud.names.write().await;
    let comes = Change {
        disk: &target.disk,
        reach: Reach::Name,
    };
    if let Some(refusal) = conditions::refusal(cloud, target, request.headers(), &[comes]) {
        return refusal;
    }
    match std::fs::create_dir(&target.disk) {
        Ok(()) => {
            target.mishap.came(&target.disk);
            answer(StatusCode::CREATED, "")
        }
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
            answer(StatusCode::METHOD_NOT_ALLOWED, "it is there already\n")
        }
        Err(error)
            if matches!(
                error.kind(),
                io::ErrorKind::NotFound | io::ErrorKind::NotADirectory
            ) =>
        {
            answer(StatusCode::CONFLICT, "the folder above is not there\n")
        }
        Err(error) => failed(&error),
    }
}
