//! The `If` header (RFC 4918 §10.4): conditions on versions and locks, of this resource and of others.

/// One condition: a lock's token or a version tag, perhaps turned round.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Condition {
    pub(crate) not: bool,
    pub(crate) what: State,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum State {
    Token(String),
    Tag(String),
}

/// Conditions that must all hold of one resource: the one at `about`, or the request's own.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct List {
    pub(crate) about: Option<String>,
    pub(crate) conditions: Vec<Condition>,
}

/// Reads the header; none where it is not understood.
pub(crate) fn read(text: &str) -> Option<Vec<List>> {
    let (mut lists, mut about) = (Vec::new(), None);
    let mut rest = text.trim_start();
    while !rest.is_empty() {
        if let Some(tagged) = rest.strip_prefix('<') {
            let (address, after) = tagged.split_once('>')?;
            about = Some(address.to_owned());
            rest = after.trim_start();
            continue;
        }
        let (conditions, after) = conditions(rest.strip_prefix('(')?)?;
        lists.push(List {
            about: about.clone(),
            conditions,
        });
        rest = after.trim_start();
    }
    (!lists.is_empty()).then_some(lists)
}

fn conditions(mut rest: &str) -> Option<(Vec<Condition>, &str)> {
    let mut conditions = Vec::new();
    loop {
        rest = rest.trim_start();
        if let Some(after) = rest.strip_prefix(')') {
            return (!conditions.is_empty()).then_some((conditions, after));
        }
        let not = rest
            .get(..3)
            .is_some_and(|word| word.eq_ignore_ascii_case("not"));
        if not {
            rest = rest[3..].trim_start();
        }
        let (what, after) = if let Some(token) = rest.strip_prefix('<') {
            let (token, after) = token.split_once('>')?;
            (State::Token(token.to_owned()), after)
        } else {
            let (tag, after) = rest.strip_prefix('[')?.split_once(']')?;
            (State::Tag(tag.trim().to_owned()), after)
        };
        conditions.push(Condition { not, what });
        rest = after;
    }
}

/// Every token that the header holds, which counts as sent along wherever it stands.
pub(crate) fn tokens(lists: &[List]) -> Vec<String> {
    lists
        .iter()
        .flat_map(|list| &list.conditions)
        .filter_map(|condition| match &condition.what {
            State::Token(token) => Some(token.clone()),
            State::Tag(_) => None,
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_lists_with_and_without_an_address() {
        let token = |not, text: &str| Condition {
            not,
            what: State::Token(text.into()),
        };
        let tag = |text: &str| Condition {
            not: false,
            what: State::Tag(text.into()),
        };
        let list = |about: Option<&str>, conditions| List {
            about: about.map(str::to_owned),
            conditions,
        };
        assert_eq!(
            read("(<urn:a> [\"x\"]) (Not <DAV:no-lock>)"),
            Some(vec![
                list(None, vec![token(false, "urn:a"), tag("\"x\"")]),
                list(None, vec![token(true, "DAV:no-lock")]),
            ])
        );
        assert_eq!(
            read("<http://h/a>(<urn:a>)"),
            Some(vec![list(Some("http://h/a"), vec![token(false, "urn:a")])])
        );
        for wrong in ["", "()", "(<urn:a>", "<x>", "(x)", "(<a>) x"] {
            assert_eq!(read(wrong), None, "{wrong}");
        }
    }
}
