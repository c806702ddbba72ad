//! `If-Match` and `If-None-Match` (RFC 9110 §13.1), and the `If` header with its locks (RFC 4918 §10.4).

use std::path::Path;

use hyper::header::{IF_MATCH, IF_NONE_MATCH};
use hyper::{HeaderMap, Response, StatusCode};

use crate::cloud::{Body, Cloud, Target, answer};
use crate::habits::Habit;
use crate::if_header::{self, List, State};
use crate::locks::Reach;
use crate::store;

/// Whether a request's conditions hold for what is there: its tag and whether that is weak, or none.
pub(crate) fn hold(headers: &HeaderMap, exists: bool, tag: Option<&(String, bool)>) -> bool {
    let all = |name| {
        headers
            .get_all(name)
            .iter()
            .filter_map(|value| value.to_str().ok())
            .collect::<Vec<_>>()
            .join(",")
    };
    let (matching, not_matching) = (all(IF_MATCH), all(IF_NONE_MATCH));
    let listed = |list: &str, weak_too: bool| {
        list.split(',').map(str::trim).any(|item| {
            if item == "*" {
                return exists;
            }
            let (bare, weak) = match item.strip_prefix("W/") {
                Some(weak) => (weak.trim_matches('"'), true),
                None => (item.trim_matches('"'), false),
            };
            // `If-Match` compares strongly: a weak tag on either side never matches.
            tag.is_some_and(|(known, known_weak)| {
                known == bare && (weak_too || !weak && !known_weak)
            })
        })
    };
    (matching.is_empty() || listed(&matching, false))
        && (not_matching.is_empty() || !listed(&not_matching, true))
}

/// What a request wants to do to a resource, which a condition or a lock may forbid.
pub(crate) struct Change<'c> {
    pub(crate) disk: &'c Path,
    pub(crate) reach: Reach,
}

/// Why a request may not go ahead, if so: 412 where a condition does not hold, 423 where a lock is in the way.
pub(crate) fn refusal(
    cloud: &Cloud,
    target: &Target,
    headers: &HeaderMap,
    changes: &[Change<'_>],
) -> Option<Response<Body>> {
    let precondition = || {
        Some(answer(
            StatusCode::PRECONDITION_FAILED,
            "another version is there, or another condition does not hold\n",
        ))
    };
    let tag_of = |disk: &Path| {
        let meta = disk.symlink_metadata().ok()?;
        meta.is_file()
            .then(|| store::shown_tag(disk, &meta, &target.mishap))?
    };
    let mut tokens = Vec::new();
    if let Some(text) = headers.get("if").and_then(|value| value.to_str().ok()) {
        let Some(lists) = if_header::read(text) else {
            return Some(answer(
                StatusCode::BAD_REQUEST,
                "the If header is not understood\n",
            ));
        };
        tokens = if_header::tokens(&lists);
        let holds = lists
            .iter()
            .any(|list| list_holds(cloud, target, list, &tag_of));
        if !holds && !target.mishap.does(Habit::NoConditions) {
            return precondition();
        }
    }
    let tag = tag_of(&target.disk);
    let exists = target.disk.symlink_metadata().is_ok();
    if !target.mishap.does(Habit::NoConditions) && !hold(headers, exists, tag.as_ref()) {
        return precondition();
    }
    let free = changes
        .iter()
        .all(|change| cloud.locks.allow(change.disk, change.reach, &tokens));
    (!free).then(|| answer(StatusCode::LOCKED, "it is locked\n"))
}

fn list_holds(
    cloud: &Cloud,
    target: &Target,
    list: &List,
    tag_of: &dyn Fn(&Path) -> Option<(String, bool)>,
) -> bool {
    let disk = match &list.about {
        None => target.disk.clone(),
        Some(address) => {
            let path = address
                .parse::<hyper::Uri>()
                .map(|uri| uri.path().to_owned());
            match path.ok().and_then(|path| cloud.place(&target.user, &path)) {
                Some(place) => place.disk,
                None => return false,
            }
        }
    };
    let locks = cloud.locks.on(&disk);
    let tag = tag_of(&disk);
    list.conditions.iter().all(|condition| {
        let holds = match &condition.what {
            State::Token(token) => locks.iter().any(|lock| lock.token == *token),
            State::Tag(text) => tag.as_ref().is_some_and(|tag| {
                !tag.1 && text.trim_matches('"') == tag.0 && !text.starts_with("W/")
            }),
        };
        holds != condition.not
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn conditions_compare_as_the_standard_says() {
        let headers = |name: &'static str, value: &str| {
            let mut headers = HeaderMap::new();
            headers.insert(name, value.parse().unwrap());
            headers
        };
        let (strong, weak) = (("a".to_owned(), false), ("a".to_owned(), true));
        let (strong, weak) = (Some(&strong), Some(&weak));
        assert!(hold(&HeaderMap::new(), true, strong));
        assert!(hold(&headers("if-match", "\"x\", \"a\""), true, strong));
        assert!(!hold(&headers("if-match", "\"x\""), true, strong));
        assert!(!hold(&headers("if-match", "W/\"a\""), true, strong));
        assert!(!hold(&headers("if-match", "\"a\""), true, weak));
        assert!(!hold(&headers("if-match", "*"), false, None));
        assert!(!hold(&headers("if-none-match", "*"), true, strong));
        assert!(!hold(&headers("if-none-match", "\"a\""), true, weak));
        assert!(hold(&headers("if-none-match", "*"), false, None));
    }
}
