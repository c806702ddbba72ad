use hyper::body::Incoming;
use hyper::{Request, Response, StatusCode};

use super::failed;
use super::propfind::half_done;
use crate::cloud::{Body, Cloud, Target, answer};
use crate::conditions::{self, Change};
use crate::habits::Habit;
use crate::locks::Reach;
use crate::store;

/// `DELETE` (RFC 4918 §9.6): a folder goes with all it holds.
pub(super) async fn delete(
    cloud: &Cloud,
    target: &Target,
    request: &Request<Incoming>,
) -> Response<Body> {
    let _names = cloud.names.write().await;
    if let Err(error) = target.disk.symlink_metadata() {
        return failed(&error);
    }
    let goes = Change {
        disk: &target.disk,
        reach: Reach::Name,
    };
    if let Some(refusal) = conditions::refusal(cloud, target, request.headers(), &[goes]) {
        return refusal;
    }
    if target.mishap.does(Habit::HalfDone)
        && let Some(kept) = store::one_in(&target.disk)
    {
        return match store::remove_all_but(&target.disk, &kept) {
            Ok(()) => half_done(&target.path, &kept),
            Err(error) => failed(&error),
        };
    }
    match store::remove_tree(&target.disk) {
        Ok(()) => {
            cloud.locks.forget(&target.disk);
            answer(StatusCode::NO_CONTENT, "")
        }
        Err(error) => failed(&error),
    }
}
