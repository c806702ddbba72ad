//! `If-Match` and `If-None-Match` (RFC 9110 §13.1).

use hyper::HeaderMap;
use hyper::header::{IF_MATCH, IF_NONE_MATCH};

/// Whether a request's conditions hold for what is there: the tag of the current version, or none.
pub(crate) fn hold(headers: &HeaderMap, exists: bool, tag: Option<&str>) -> bool {
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
        list.split(',')
            .map(str::trim)
            .any(|item| match item.strip_prefix("W/") {
                // `If-Match` compares strongly: a weak tag never matches.
                Some(weak) => weak_too && Some(weak.trim_matches('"')) == tag,
                None => item == "*" && exists || Some(item.trim_matches('"')) == tag,
            })
    };
    (matching.is_empty() || listed(&matching, false))
        && (not_matching.is_empty() || !listed(&not_matching, true))
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
        assert!(hold(&HeaderMap::new(), true, Some("a")));
        assert!(hold(&headers("if-match", "\"x\", \"a\""), true, Some("a")));
        assert!(!hold(&headers("if-match", "\"x\""), true, Some("a")));
        assert!(!hold(&headers("if-match", "W/\"a\""), true, Some("a")));
        assert!(!hold(&headers("if-match", "*"), false, None));
        assert!(!hold(&headers("if-none-match", "*"), true, Some("a")));
        assert!(hold(&headers("if-none-match", "*"), false, None));
    }
}
