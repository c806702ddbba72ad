use hyper::body::Incoming;
use hyper::{Request, Response, StatusCode};

use super::propfind::multistatus;
use super::{failed, small_body};
use crate::multistatus::{read_patch, write_patched};
use crate::serve::{Body, Cloud, Target, answer};
use crate::store;

/// `PROPPATCH` (RFC 4918 §9.2): properties of the clients' own are kept as they are sent.
pub(super) async fn proppatch(
    cloud: &Cloud,
    target: &Target,
    request: Request<Incoming>,
) -> Response<Body> {
    let Some((set, removed)) = small_body(request.into_body())
        .await
        .as_deref()
        .and_then(read_patch)
    else {
        return answer(StatusCode::BAD_REQUEST, "the body is not understood\n");
    };
    if set.iter().any(|property| property.namespace == "DAV:") {
        return answer(
            StatusCode::FORBIDDEN,
            "the live properties are the server's\n",
        );
    }
    let _names = cloud.names.write().await;
    let meta = match target.disk.symlink_metadata() {
        Ok(meta) => meta,
        Err(error) => return failed(&error),
    };
    let mut kept = store::properties(&target.disk);
    let mut names: Vec<(String, String)> = set
        .iter()
        .map(|property| (property.namespace.clone(), property.name.clone()))
        .collect();
    names.extend(removed);
    kept.retain(|old| {
        !names
            .iter()
            .any(|(namespace, name)| *namespace == old.namespace && *name == old.name)
    });
    kept.extend(set);
    match store::set_properties(&target.disk, &kept) {
        Ok(()) => multistatus(&write_patched(&target.path, meta.is_dir(), &names)),
        Err(error) => failed(&error),
    }
}
