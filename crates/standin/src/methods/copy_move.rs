use std::path::Path;
use std::time::Duration;

use hyper::body::Incoming;
use hyper::{HeaderMap, Request, Response, StatusCode};

use super::failed;
use super::propfind::half_done;
use super::put::over_quota;
use crate::cloud::{Body, Cloud, Target, answer};
use crate::conditions::{self, Change};
use crate::habits::Habit;
use crate::locks::Reach;
use crate::store::{self, Place};

/// For so long the destination stands unguarded where `racing-moves` is in force.
const RACE: Duration = Duration::from_millis(30);

/// `COPY` and `MOVE` (RFC 4918 §9.8, §9.9).
pub(super) async fn copy_or_move(
    cloud: &Cloud,
    target: &Target,
    request: &Request<Incoming>,
    moves: bool,
) -> Response<Body> {
    let headers = request.headers();
    let Some(to) = destination(cloud, &target.user, headers) else {
        return answer(
            StatusCode::BAD_REQUEST,
            "the Destination header is missing or leads elsewhere\n",
        );
    };
    if !to.mount.writable || to.path == to.mount.at {
        return answer(StatusCode::FORBIDDEN, "nothing may be put there\n");
    }
    let is = |name: &str, wanted: &str| {
        headers
            .get(name)
            .is_some_and(|value| value.as_bytes().eq_ignore_ascii_case(wanted.as_bytes()))
    };
    let overwrite = !is("overwrite", "F") || target.mishap.does(Habit::NoOverwriteCheck);
    let mut names = cloud.names.write().await;
    let meta = match target.disk.symlink_metadata() {
        Ok(meta) => meta,
        Err(error) => return failed(&error),
    };
    let slashes = request.uri().path().ends_with('/')
        && headers
            .get("destination")
            .is_some_and(|value| value.as_bytes().ends_with(b"/"));
    if target.mishap.does(Habit::StrictSlashes) && meta.is_dir() && !slashes {
        return answer(
            StatusCode::BAD_REQUEST,
            "a folder's name ends in a slash here\n",
        );
    }
    let comes = Change {
        disk: &to.disk,
        reach: Reach::Name,
    };
    let goes = Change {
        disk: &target.disk,
        reach: Reach::Name,
    };
    let changes = if moves {
        vec![comes, goes]
    } else {
        vec![comes]
    };
    if let Some(refusal) = conditions::refusal(cloud, target, headers, &changes) {
        return refusal;
    }
    let into_itself = to.disk.starts_with(&target.disk);
    let over_itself = target.disk.starts_with(&to.disk);
    if into_itself && meta.is_dir() || over_itself {
        return answer(StatusCode::FORBIDDEN, "it cannot be put into itself\n");
    }
    if !to.disk.parent().is_some_and(Path::is_dir) {
        return answer(
            StatusCode::CONFLICT,
            "the folder above the destination is not there\n",
        );
    }
    if to.disk.symlink_metadata().is_ok() && !overwrite {
        return answer(
            StatusCode::PRECONDITION_FAILED,
            "the destination is there already\n",
        );
    }
    if target.mishap.does(Habit::RacingMoves) {
        drop(names);
        tokio::time::sleep(RACE).await;
        names = cloud.names.write().await;
    }
    let grows = if moves { 0 } else { meta.len() };
    if meta.is_file() && over_quota(cloud, &to.mount, grows) {
        return answer(
            StatusCode::INSUFFICIENT_STORAGE,
            "the account would be over its quota\n",
        );
    }
    if moves
        && target.mishap.does(Habit::HalfDone)
        && let Some(kept) = store::one_in(&target.disk)
    {
        return match store::move_all_but(&target.disk, &to.disk, &kept) {
            Ok(()) => half_done(&target.path, &kept),
            Err(error) => failed(&error),
        };
    }
    let replaces = to.disk.symlink_metadata().is_ok();
    if !replaces {
        target.mishap.came(&to.disk);
    }
    let carried = (|| {
        if replaces {
            store::remove_tree(&to.disk)?;
        }
        if moves {
            std::fs::rename(&target.disk, &to.disk)
        } else {
            store::copy_tree(&cloud.store, &target.disk, &to.disk, !is("depth", "0"))
        }
    })();
    drop(names);
    match carried {
        Ok(()) => {
            cloud.locks.forget_below(&to.disk);
            if moves {
                cloud.locks.forget(&target.disk);
            }
            let status = if replaces {
                StatusCode::NO_CONTENT
            } else {
                StatusCode::CREATED
            };
            answer(status, "")
        }
        Err(error) => failed(&error),
    }
}

fn destination(cloud: &Cloud, user: &str, headers: &HeaderMap) -> Option<Place> {
    let header = headers.get("destination")?.to_str().ok()?;
    let uri: hyper::Uri = header.parse().ok()?;
    let host = headers.get("host").and_then(|value| value.to_str().ok());
    if uri
        .authority()
        .is_some_and(|authority| Some(authority.as_str()) != host)
    {
        return None;
    }
    cloud.place(user, uri.path())
}
