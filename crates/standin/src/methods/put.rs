use std::io;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use http_body_util::BodyExt;
use hyper::body::Incoming;
use hyper::header::{CONTENT_LENGTH, CONTENT_RANGE, ETAG, HeaderValue};
use hyper::{HeaderMap, Request, Response, StatusCode};
use tokio::io::AsyncWriteExt;

use super::failed;
use crate::cloud::{Body, Cloud, Cut, Target, answer};
use crate::conditions::{self, Change};
use crate::faults::Feature;
use crate::habits::Habit;
use crate::locks::Reach;
use crate::people::Mount;
use crate::{quota, store};

/// `PUT` (RFC 9110 §9.3.4), whole or of a range (§14.5): the body arrives beside, and takes its place in one step with
/// the conditions.
pub(super) async fn put(
    cloud: &Cloud,
    target: Target,
    request: Request<Incoming>,
) -> Result<Response<Body>, Cut> {
    let (parts, body) = request.into_parts();
    let range = match parts.headers.get(CONTENT_RANGE) {
        None => None,
        Some(_) if target.mishap.lacks(Feature::PartialPut) => {
            return Ok(answer(
                StatusCode::NOT_IMPLEMENTED,
                "partial PUT is not offered\n",
            ));
        }
        Some(_) if target.mishap.does(Habit::PartialPutKeepsPart) => None,
        Some(value) => match start_of(value) {
            Some(start) => Some(start),
            None => return Ok(answer(StatusCode::BAD_REQUEST, "no such range\n")),
        },
    };
    if let Some(refusal) = refusal(cloud, &target, &parts.headers, true) {
        return Ok(refusal);
    }
    let announced: Option<u64> = parts
        .headers
        .get(CONTENT_LENGTH)
        .and_then(|value| value.to_str().ok()?.parse().ok());
    let known = target.disk.symlink_metadata().map_or(0, |meta| meta.len());
    let grows = match range {
        None => announced.unwrap_or(0).saturating_sub(known),
        Some(start) => (start + announced.unwrap_or(0)).saturating_sub(known),
    };
    if over_quota(cloud, &target.mount, grows) {
        return Ok(answer(
            StatusCode::INSUFFICIENT_STORAGE,
            "the account would be over its quota\n",
        ));
    }
    let writes_to = if target.mishap.does(Habit::WriteInPlace) && range.is_none() {
        target.disk.clone()
    } else {
        cloud.store.incoming()
    };
    match receive(body, &writes_to, &target, announced).await {
        Ok(()) => {}
        Err(Failure::Cut) => {
            if writes_to != target.disk {
                // What did not arrive whole is of no use; a leftover here is only lost room.
                let _ = std::fs::remove_file(&writes_to);
            }
            return Err(Cut);
        }
        Err(Failure::Disk(error)) => return Ok(failed(&error)),
    };
    let _names = cloud.names.write().await;
    if let Some(refusal) = refusal(
        cloud,
        &target,
        &parts.headers,
        !target.mishap.does(Habit::EarlyConditions),
    ) {
        let _ = std::fs::remove_file(&writes_to);
        return Ok(refusal);
    }
    if !target.disk.exists() {
        target.mishap.came(&target.disk);
    }
    let new = !target.disk.exists() || target.mishap.does(Habit::WriteInPlace);
    let placed = match range {
        None => place(cloud, &writes_to, &target.disk),
        Some(start) => fill_in(cloud, &writes_to, &target.disk, start),
    };
    match placed {
        Ok(()) => {
            let status = if new || target.mishap.does(Habit::PartialPutKeepsPart) {
                StatusCode::CREATED
            } else {
                StatusCode::NO_CONTENT
            };
            let mut response = answer(status, "");
            let tag = target
                .disk
                .symlink_metadata()
                .ok()
                .and_then(|meta| store::shown_tag(&target.disk, &meta, &target.mishap))
                .filter(|_| !target.mishap.does(Habit::NoPutTag))
                .and_then(|tag| HeaderValue::from_str(&store::quoted(&tag)).ok());
            if let Some(tag) = tag {
                response.headers_mut().insert(ETAG, tag);
            }
            Ok(response)
        }
        Err(error) => Ok(failed(&error)),
    }
}

/// Whether so many more bytes are too many.
pub(super) fn over_quota(cloud: &Cloud, mount: &Mount, grows: u64) -> bool {
    let Some(limit) = cloud.quota else {
        return false;
    };
    quota::count(&mount.disk, Some(limit))
        .is_ok_and(|quota| quota.available.is_some_and(|left| grows > left))
}

/// The first byte of `bytes 0-99/200` or `bytes 0-99/*`.
fn start_of(value: &HeaderValue) -> Option<u64> {
    let (range, _) = value
        .to_str()
        .ok()?
        .strip_prefix("bytes ")?
        .split_once('/')?;
    let (first, last) = range.split_once('-')?;
    let (first, last): (u64, u64) = (first.parse().ok()?, last.parse().ok()?);
    (first <= last).then_some(first)
}

/// Why nothing may be put here now, if so.
fn refusal(
    cloud: &Cloud,
    target: &Target,
    headers: &HeaderMap,
    with_conditions: bool,
) -> Option<Response<Body>> {
    let disk = &target.disk;
    if !disk.parent().is_some_and(Path::is_dir) {
        return Some(answer(
            StatusCode::CONFLICT,
            "the folder above is not there\n",
        ));
    }
    let meta = disk.symlink_metadata().ok();
    if meta.as_ref().is_some_and(std::fs::Metadata::is_dir) {
        return Some(answer(
            StatusCode::METHOD_NOT_ALLOWED,
            "a folder is there\n",
        ));
    }
    if !with_conditions {
        return None;
    }
    let reach = if meta.is_some() {
        Reach::Content
    } else {
        Reach::Name
    };
    conditions::refusal(cloud, target, headers, &[Change { disk, reach }])
}

enum Failure {
    Cut,
    Disk(io::Error),
}

async fn receive(
    mut body: Incoming,
    to: &PathBuf,
    target: &Target,
    announced: Option<u64>,
) -> Result<(), Failure> {
    let mut file = tokio::fs::File::create(to).await.map_err(Failure::Disk)?;
    let mut received = 0u64;
    while let Some(frame) = body.frame().await {
        let Ok(Ok(data)) = frame.map(hyper::body::Frame::into_data) else {
            file.flush().await.map_err(Failure::Disk)?;
            return Err(Failure::Cut);
        };
        if target.mishap.cut {
            file.write_all(&data[..data.len() / 2])
                .await
                .map_err(Failure::Disk)?;
            file.flush().await.map_err(Failure::Disk)?;
            return Err(Failure::Cut);
        }
        received += data.len() as u64;
        file.write_all(&data).await.map_err(Failure::Disk)?;
        pace(target.mishap.slow, data.len()).await;
    }
    file.flush().await.map_err(Failure::Disk)?;
    if announced.is_some_and(|announced| announced != received) {
        return Err(Failure::Cut);
    }
    Ok(())
}

/// Waits for as long as so many bytes take on a slow line.
pub(super) async fn pace(slow: Option<u64>, bytes: usize) {
    if let Some(rate) = slow {
        tokio::time::sleep(Duration::from_secs_f64(bytes as f64 / rate as f64)).await;
    }
}

fn place(cloud: &Cloud, from: &Path, to: &Path) -> io::Result<()> {
    cloud.store.stamp(from)?;
    if from == to {
        return Ok(());
    }
    if to.exists() {
        store::take_over(to, from)?;
    }
    std::fs::rename(from, to)
}

/// Writes what arrived into its range; a file that ends before the range begins cannot take it.
fn fill_in(cloud: &Cloud, from: &Path, to: &Path, start: u64) -> io::Result<()> {
    let part = std::fs::read(from)?;
    std::fs::remove_file(from)?;
    let file = std::fs::OpenOptions::new()
        .write(true)
        .create(true)
        .truncate(false)
        .open(to)?;
    if file.metadata()?.len() < start {
        return Err(io::ErrorKind::InvalidFilename.into());
    }
    file.write_all_at(&part, start)?;
    cloud.store.stamp(to)
}
