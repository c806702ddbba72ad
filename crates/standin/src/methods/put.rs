use std::io;
use std::path::{Path, PathBuf};

use http_body_util::BodyExt;
use hyper::body::Incoming;
use hyper::header::{CONTENT_LENGTH, CONTENT_RANGE, ETAG, HeaderValue};
use hyper::{HeaderMap, Request, Response, StatusCode};
use sha2::{Digest, Sha256};
use tokio::io::AsyncWriteExt;

use super::failed;
use crate::serve::{Body, Cloud, Cut, Target, answer};
use crate::{conditions, store};

/// `PUT` (RFC 9110 §9.3.4): the body arrives beside, and takes its place in one step with the conditions.
pub(super) async fn put(
    cloud: &Cloud,
    target: Target,
    request: Request<Incoming>,
) -> Result<Response<Body>, Cut> {
    let (parts, body) = request.into_parts();
    if parts.headers.contains_key(CONTENT_RANGE) {
        return Ok(answer(
            StatusCode::NOT_IMPLEMENTED,
            "partial PUT is not offered\n",
        ));
    }
    if let Some(refusal) = refusal(&target.disk, &parts.headers, true) {
        return Ok(refusal);
    }
    let writes_to = if target.mishap.write_in_place {
        target.disk.clone()
    } else {
        cloud.store.incoming()
    };
    let digest = match receive(body, &writes_to, &target, &parts.headers).await {
        Ok(digest) => digest,
        Err(Failure::Cut) => {
            if !target.mishap.write_in_place {
                // What did not arrive whole is of no use; a leftover here is only lost room.
                let _ = std::fs::remove_file(&writes_to);
            }
            return Err(Cut);
        }
        Err(Failure::Disk(error)) => return Ok(failed(&error)),
    };
    let _names = cloud.names.write().await;
    if let Some(refusal) = refusal(
        &target.disk,
        &parts.headers,
        !target.mishap.early_conditions,
    ) {
        let _ = std::fs::remove_file(&writes_to);
        return Ok(refusal);
    }
    let new = !target.disk.exists() || target.mishap.write_in_place;
    match place(cloud, &writes_to, &target.disk, &digest) {
        Ok(tag) => {
            let mut response = answer(
                if new {
                    StatusCode::CREATED
                } else {
                    StatusCode::NO_CONTENT
                },
                "",
            );
            if let (false, Ok(tag)) = (
                target.mishap.no_put_tag,
                HeaderValue::from_str(&format!("\"{tag}\"")),
            ) {
                response.headers_mut().insert(ETAG, tag);
            }
            Ok(response)
        }
        Err(error) => Ok(failed(&error)),
    }
}

/// Why nothing may be put here now, if so.
fn refusal(disk: &Path, headers: &HeaderMap, with_conditions: bool) -> Option<Response<Body>> {
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
    let tag = meta.as_ref().map(|meta| store::tag(disk, meta));
    if with_conditions && !conditions::hold(headers, meta.is_some(), tag.as_deref()) {
        return Some(answer(
            StatusCode::PRECONDITION_FAILED,
            "another version is there\n",
        ));
    }
    None
}

enum Failure {
    Cut,
    Disk(io::Error),
}

async fn receive(
    mut body: Incoming,
    to: &PathBuf,
    target: &Target,
    headers: &HeaderMap,
) -> Result<Vec<u8>, Failure> {
    let announced: Option<u64> = headers
        .get(CONTENT_LENGTH)
        .and_then(|value| value.to_str().ok()?.parse().ok());
    let mut file = tokio::fs::File::create(to).await.map_err(Failure::Disk)?;
    let (mut sha256, mut received) = (Sha256::new(), 0u64);
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
        sha256.update(&data);
        file.write_all(&data).await.map_err(Failure::Disk)?;
    }
    file.flush().await.map_err(Failure::Disk)?;
    if announced.is_some_and(|announced| announced != received) {
        return Err(Failure::Cut);
    }
    Ok(sha256.finalize().to_vec())
}

fn place(cloud: &Cloud, from: &Path, to: &Path, digest: &[u8]) -> io::Result<String> {
    let carried = if to.exists() {
        store::properties(to)
    } else {
        Vec::new()
    };
    cloud.store.stamp(from, Some(digest))?;
    if !carried.is_empty() {
        // Dead properties belong to the resource, not to one version of its content.
        store::set_properties(from, &carried)?;
    }
    if from != to {
        std::fs::rename(from, to)?;
    }
    Ok(store::tag(to, &to.symlink_metadata()?))
}
