//! Options that had another name in the version before: taken for one version more, and told.

/// An older word, the command it belongs to, and what it is called now.
const OLDER: [(&str, Option<&str>, &str); 5] = [
    ("--try", Some("settle"), "--preview"),
    ("--quiet-seconds", None, "--quiet-time"),
    ("--tell-unsettled-hours", None, "--tell-unsettled"),
    ("--limit-up", Some("limits"), "--up"),
    ("--limit-down", Some("limits"), "--down"),
];

/// What to say of the older words among these arguments.
pub fn hints(arguments: &[String]) -> Vec<String> {
    let typed = |word: &str| {
        let is_it = |argument: &String| argument.split('=').next() == Some(word);
        arguments
            .iter()
            .take_while(|argument| *argument != "--")
            .any(is_it)
    };
    OLDER
        .iter()
        .filter(|(older, command, _)| typed(older) && command.is_none_or(typed))
        .map(|(older, _, now)| {
            format!("{older} is called {now} now; the older word is taken in this version only")
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn hints_of(typed: &str) -> Vec<String> {
        let arguments: Vec<String> = typed.split(' ').map(str::to_owned).collect();
        hints(&arguments)
    }

    #[test]
    fn an_older_word_is_told_where_it_is_one() {
        assert_eq!(hints_of("settle a.txt --keep near --try").len(), 1);
        assert_eq!(hints_of("lane change scores --quiet-seconds=5").len(), 1);
        assert_eq!(
            hints_of("limits --limit-up 5MB/s --limit-down none").len(),
            2
        );
        // Of a lane it is called so still.
        assert!(hints_of("lane change scores --limit-up 5MB/s").is_empty());
        assert!(hints_of("list -- --try").is_empty());
    }
}
