use hyper::body::Incoming;
use hyper::{Request, Response, StatusCode};

use super::propfind::{Surroundings, asked_for, gone, listing_of, multistatus};
use super::{failed, small_body};
use crate::changes::Changed;
use crate::cloud::{Body, Cloud, Target, answer};
use crate::listing::{Depth, find};
use crate::multistatus::{FOOT, HEAD, response};

/// `REPORT` with `sync-collection` (RFC 6578 §3.2), over a whole tree.
pub(super) async fn report(
    cloud: &Cloud,
    target: Target,
    request: Request<Incoming>,
) -> Response<Body> {
    let Some((kind, asked, since)) = small_body(request.into_body())
        .await
        .as_deref()
        .and_then(asked_for)
    else {
        return answer(StatusCode::BAD_REQUEST, "the body is not understood\n");
    };
    if kind != "sync-collection" {
        return answer(StatusCode::FORBIDDEN, "there is only sync-collection\n");
    }
    let changed = match changes(cloud, &target, &since).await {
        Ok(Some(changed)) => changed,
        Ok(None) => {
            let xml = "<?xml version=\"1.0\"?>\n<D:error xmlns:D=\"DAV:\"><D:valid-sync-token/></D:error>\n";
            return answer(StatusCode::FORBIDDEN, xml);
        }
        Err(error) => return failed(&error),
    };
    let around = Surroundings::of(cloud, &target);
    let mut xml = HEAD.to_owned();
    around.with(|around| {
        for found in &changed.changed {
            xml.push_str(&response(found, around, &asked));
        }
    });
    for path in &changed.removed {
        xml.push_str(&gone(path));
    }
    xml.push_str(&format!(
        "<D:sync-token>{}</D:sync-token>\n{FOOT}",
        changed.token
    ));
    multistatus(&xml)
}

async fn changes(cloud: &Cloud, target: &Target, since: &str) -> std::io::Result<Option<Changed>> {
    // What stands still while it is counted gives a token that nothing slips past.
    let _names = cloud.names.read().await;
    let (about, mishap) = (
        listing_of(cloud, target, Depth::Infinity),
        target.mishap.clone(),
    );
    let found = tokio::task::spawn_blocking(move || find(&about, &mishap))
        .await
        .map_err(std::io::Error::other)??;
    let members = found
        .into_iter()
        .filter(|found| found.path != target.path)
        .collect();
    Ok(cloud.changes.since(&target.disk, members, since))
}

/// The token that stands for how a folder is now.
pub(super) fn token_of(cloud: &Cloud, target: &Target) -> Option<String> {
    let about = listing_of(cloud, target, Depth::Infinity);
    let found = find(&about, &target.mishap).ok()?;
    let members = found
        .into_iter()
        .filter(|found| found.path != target.path)
        .collect();
    cloud
        .changes
        .since(&target.disk, members, "")
        .map(|changed| changed.token)
}
