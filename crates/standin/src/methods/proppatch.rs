use hyper::body::Incoming;
use hyper::{Request, Response, StatusCode};

use super::propfind::{multistatus, outcome};
use super::{failed, small_body};
use crate::cloud::{Body, Cloud, Target, answer};
use crate::conditions::{self, Change};
use crate::locks::Reach;
use crate::multistatus::{FOOT, HEAD, Order, read_patch};
use crate::xml_names::{Name, href};
use crate::{properties, store};

/// `PROPPATCH` (RFC 4918 §9.2): properties of the clients' own are kept as they are sent; all of it is done or nothing.
pub(super) async fn proppatch(
    cloud: &Cloud,
    target: &Target,
    request: Request<Incoming>,
) -> Response<Body> {
    let (parts, body) = request.into_parts();
    let Some(orders) = small_body(body).await.as_deref().and_then(read_patch) else {
        return answer(StatusCode::BAD_REQUEST, "the body is not understood\n");
    };
    let _names = cloud.names.write().await;
    let meta = match target.disk.symlink_metadata() {
        Ok(meta) => meta,
        Err(error) => return failed(&error),
    };
    let sets = Change {
        disk: &target.disk,
        reach: Reach::Content,
    };
    if let Some(refusal) = conditions::refusal(cloud, target, &parts.headers, &[sets]) {
        return refusal;
    }
    let names: Vec<Name> = orders.iter().map(Order::name).collect();
    // The live ones are the server's.
    let (protected, free): (Vec<&Name>, Vec<&Name>) =
        names.iter().partition(|name| properties::is_live(name));
    let outcomes = if protected.is_empty() {
        let mut kept = store::properties(&target.disk);
        for order in orders {
            let name = order.name();
            kept.retain(|old| (&old.namespace, &old.name) != (&name.0, &name.1));
            if let Order::Set(property) = order {
                kept.push(property);
            }
        }
        match store::set_properties(&target.disk, &kept) {
            Ok(()) => outcome(free.into_iter(), "200 OK"),
            Err(_) => outcome(free.into_iter(), "507 Insufficient Storage"),
        }
    } else {
        outcome(protected.into_iter(), "403 Forbidden")
            + &outcome(free.into_iter(), "424 Failed Dependency")
    };
    multistatus(&format!(
        "{HEAD}<D:response><D:href>{}</D:href>{outcomes}</D:response>{FOOT}",
        href(&target.path, meta.is_dir())
    ))
}
