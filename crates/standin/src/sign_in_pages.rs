//! The addresses of the device grant: what a program asks, and the page a person answers on.

use std::collections::BTreeMap;

use http_body_util::{BodyExt, Limited};
use hyper::body::Incoming;
use hyper::{Method, Request, Response, StatusCode};

use crate::cloud::{Body, Cloud, answer, answer_as};
use crate::device_grant::may_sign_in;
use crate::pages;

#[derive(Clone, Copy)]
pub(crate) enum Page {
    Metadata,
    Device,
    Token,
    Revoke,
    SignIn,
}

/// Which page a path means, if any.
pub(crate) fn page_of(path: &str) -> Option<Page> {
    match path {
        "/.well-known/oauth-authorization-server" => Some(Page::Metadata),
        "/.standin/device" => Some(Page::Device),
        "/.standin/token" => Some(Page::Token),
        "/.standin/revoke" => Some(Page::Revoke),
        "/.standin/sign-in" => Some(Page::SignIn),
        _ => None,
    }
}

pub(crate) async fn respond(
    cloud: &Cloud,
    page: Page,
    request: Request<Incoming>,
) -> Response<Body> {
    if !cloud.grant.config.offered {
        return answer(StatusCode::NOT_FOUND, "there is no device grant here\n");
    }
    let base = cloud.base(&request);
    let json = |status, value: &serde_json::Value| {
        answer_as(status, "application/json", &value.to_string())
    };
    if let Page::Metadata = page {
        return json(StatusCode::OK, &cloud.grant.metadata(&base));
    }
    if let (Page::SignIn, &Method::GET) = (page, request.method()) {
        let code = request
            .uri()
            .query()
            .map(form)
            .and_then(|mut query| query.remove("code"));
        return html(
            StatusCode::OK,
            &pages::sign_in(&code.unwrap_or_default(), None),
        );
    }
    if request.method() != Method::POST {
        return answer(StatusCode::METHOD_NOT_ALLOWED, "this is asked with POST\n");
    }
    let Ok(body) = Limited::new(request.into_body(), 1 << 16).collect().await else {
        return answer(StatusCode::BAD_REQUEST, "the body did not arrive\n");
    };
    let form = form(&String::from_utf8_lossy(&body.to_bytes()));
    match page {
        Page::Device => json(StatusCode::OK, &cloud.grant.ask(&base)),
        Page::Token => {
            let (status, value) = cloud.grant.token(&form);
            let status = StatusCode::from_u16(status).unwrap_or(StatusCode::BAD_REQUEST);
            json(status, &value)
        }
        Page::Revoke => {
            cloud
                .grant
                .forget(form.get("token").map(String::as_str), None);
            answer(StatusCode::OK, "")
        }
        Page::SignIn | Page::Metadata => let_in(cloud, &form),
    }
}

fn let_in(cloud: &Cloud, form: &BTreeMap<String, String>) -> Response<Body> {
    let field = |name: &str| form.get(name).map_or("", |value| value.trim());
    let code = field("code");
    let again = |why: &str| html(StatusCode::FORBIDDEN, &pages::sign_in(code, Some(why)));
    if !cloud.grant.waits(code) {
        return again("No program waits for that code. It may have expired.");
    }
    let user = cloud
        .people
        .users
        .iter()
        .find(|user| user.name == field("user"))
        .filter(|user| may_sign_in(&cloud.seed, user, field("password"), field("one-time-code")));
    let Some(user) = user else {
        return again("Name, password or one-time code is not right.");
    };
    let let_in = field("answer") != "refuse";
    cloud.grant.answer(code, let_in.then_some(&user.name));
    html(StatusCode::OK, &pages::answered(let_in))
}

pub(crate) fn html(status: StatusCode, text: &str) -> Response<Body> {
    answer_as(status, "text/html; charset=utf-8", text)
}

/// A form as browsers send it.
fn form(text: &str) -> BTreeMap<String, String> {
    let decoded = |text: &str| {
        percent_encoding::percent_decode_str(&text.replace('+', " "))
            .decode_utf8_lossy()
            .into_owned()
    };
    text.split('&')
        .filter_map(|pair| pair.split_once('='))
        .map(|(name, value)| (decoded(name), decoded(value)))
        .collect()
}
