//! The control address: another port of this computer, over which the faults and the tokens are changed while the
//! stand-in runs, and on which it shows what a person's phone would.
//!
//! `GET /` says how things stand; `PUT /faults` takes one fault a line; `GET /phone/USER` is the one-time code of now;
//! `DELETE /tokens/USER` makes all tokens of a user worthless; `DELETE /locks` gives every lock back.

use std::sync::Arc;

use http_body_util::{BodyExt, Limited};
use hyper::body::Incoming;
use hyper::{Request, Response, StatusCode};
use serde_json::json;

use crate::cloud::{Body, Cloud, Cut, answer};
use crate::device_grant::phone_code;
use crate::faults::Fault;

pub(crate) async fn respond(
    cloud: Arc<Cloud>,
    request: Request<Incoming>,
) -> Result<Response<Body>, Cut> {
    let (method, path) = (
        request.method().as_str().to_owned(),
        request.uri().path().to_owned(),
    );
    let user = |prefix: &str| {
        let name = path.strip_prefix(prefix)?;
        cloud.people.users.iter().find(|user| user.name == name)
    };
    Ok(match (method.as_str(), path.as_str()) {
        ("GET", "/") => {
            let state = json!({
                "faults": cloud.faults.in_force(),
                "users": cloud.people.users.iter().map(|user| &user.name).collect::<Vec<_>>(),
            });
            answer(StatusCode::OK, &format!("{state}\n"))
        }
        ("PUT", "/faults") => set_faults(&cloud, request).await,
        ("DELETE", "/locks") => {
            cloud.locks.forget("/".as_ref());
            answer(StatusCode::NO_CONTENT, "")
        }
        ("GET", _) if user("/phone/").is_some() => {
            let code = user("/phone/").map(|user| phone_code(&cloud.seed, user));
            answer(StatusCode::OK, &format!("{}\n", code.unwrap_or_default()))
        }
        ("DELETE", _) if user("/tokens/").is_some() => {
            let user = user("/tokens/").map(|user| user.name.as_str());
            cloud.grant.forget(None, user);
            answer(StatusCode::NO_CONTENT, "")
        }
        _ => answer(
            StatusCode::NOT_FOUND,
            "there are GET /, PUT /faults, GET /phone/USER, DELETE /tokens/USER and DELETE /locks\n",
        ),
    })
}

async fn set_faults(cloud: &Cloud, request: Request<Incoming>) -> Response<Body> {
    let Ok(body) = Limited::new(request.into_body(), 1 << 16).collect().await else {
        return answer(StatusCode::BAD_REQUEST, "the body did not arrive\n");
    };
    let text = String::from_utf8_lossy(&body.to_bytes()).into_owned();
    let faults: Result<Vec<Fault>, _> = text
        .lines()
        .map(str::trim)
        .filter(|line| !line.is_empty())
        .map(str::parse)
        .collect();
    match faults {
        Ok(faults) => {
            cloud.faults.set(faults);
            answer(StatusCode::NO_CONTENT, "")
        }
        Err(why) => answer(StatusCode::BAD_REQUEST, &format!("{why}\n")),
    }
}
