//! An example or two for the commands that people type most, as `--help` and the manual pages show them.

use clap::Command;

/// Commands, a word each or two, with what is typed and what it is for.
const EXAMPLES: [(&str, &[(&str, &str)]); 20] = [
    (
        "account add",
        &[
            (
                "katabatic account add office --address cloud.example",
                "finds the address and signs in",
            ),
            (
                "katabatic account add office --address https://cloud.example/dav/ --user ann",
                "signs in by name and password, which is asked for",
            ),
        ],
    ),
    (
        "lane add",
        &[
            (
                "katabatic lane add scores --near ~/Scores --far @office/Scores",
                "kept in step both ways",
            ),
            (
                "katabatic lane add photos --near ~/Pictures --far @office/Photos --make --direction up",
                "only up, to the cloud",
            ),
        ],
    ),
    (
        "cover",
        &[(
            "katabatic cover documents pictures",
            "lanes for two of the standard folders",
        )],
    ),
    (
        "choose",
        &[
            ("katabatic choose scores", "the folders, with sizes"),
            (
                "katabatic choose scores --skip 'Past seasons'",
                "stays in the cloud alone",
            ),
        ],
    ),
    (
        "plan",
        &[(
            "katabatic plan scores",
            "what the next pass would do, and why",
        )],
    ),
    (
        "sync",
        &[
            ("katabatic sync", "all lanes"),
            ("katabatic sync ~/Scores/Rota.csv", "one file"),
        ],
    ),
    (
        "status",
        &[
            ("katabatic status", "all lanes, a line each"),
            ("katabatic status ~/Scores/Rota.csv", "one file"),
            (
                "katabatic status scores --state stuck,conflict",
                "what needs somebody",
            ),
        ],
    ),
    (
        "list",
        &[
            (
                "katabatic list ~/Scores --sort state",
                "what needs somebody first",
            ),
            ("katabatic list @office/Scores", "what is in it now"),
        ],
    ),
    (
        "find",
        &[
            ("katabatic find violin 2026", "both words in the path"),
            ("katabatic find '*.wav' --larger 100MB", "large recordings"),
            (
                "katabatic find --state waiting --since 2026-11-01",
                "edited lately and not carried yet",
            ),
        ],
    ),
    (
        "why",
        &[("katabatic why ~/Scores/Rota.csv", "its whole story")],
    ),
    (
        "audit",
        &[("katabatic audit scores", "reads both sides and compares")],
    ),
    (
        "settle",
        &[
            (
                "katabatic settle ~/Scores/Rota.csv --keep near",
                "the version on this computer counts",
            ),
            (
                "katabatic settle scores --keep newest --preview",
                "what it would do for all of them",
            ),
        ],
    ),
    (
        "undo",
        &[("katabatic undo 12", "what run 12 removed or replaced")],
    ),
    (
        "recover",
        &[(
            "katabatic recover scores 'Harbour Suite' --to /tmp/suite",
            "a copy of what is in the cloud",
        )],
    ),
    (
        "spares list",
        &[(
            "katabatic spares list scores --day 2026-11-27",
            "what was kept of that day",
        )],
    ),
    (
        "room",
        &[
            ("katabatic room", "what takes room, and what could be freed"),
            (
                "katabatic room --free 10GB",
                "shows what would go, and asks",
            ),
            (
                "katabatic room @office",
                "what takes the room in the account",
            ),
        ],
    ),
    (
        "shed",
        &[(
            "katabatic shed ~/Scores/Recordings",
            "its files become stubs",
        )],
    ),
    (
        "agent start",
        &[(
            "katabatic agent start",
            "lanes run by themselves until it is stopped",
        )],
    ),
    (
        "copy",
        &[(
            "katabatic copy ~/Scans/ @office/Scans",
            "cut or stopped, the same command goes on",
        )],
    ),
    (
        "completions",
        &[(
            "source <(katabatic completions bash)",
            "completes in this shell",
        )],
    ),
];

/// The same command, with examples below its help.
pub fn with_examples(mut command: Command) -> Command {
    for (path, examples) in EXAMPLES {
        let mut text = "Examples:\n".to_owned();
        for (typed, what) in examples {
            text.push_str(&format!("  {typed}\n      {what}\n"));
        }
        let text = text.trim_end().to_owned();
        command = match path.split_once(' ') {
            None => command.mut_subcommand(path, |sub| sub.after_help(text)),
            Some((first, second)) => command.mut_subcommand(first, |sub| {
                sub.mut_subcommand(second, |sub| sub.after_help(text))
            }),
        };
    }
    command
}

#[cfg(test)]
mod tests {
    use super::EXAMPLES;
    use crate::args;

    #[test]
    fn what_is_shown_as_an_example_is_understood() {
        for (_, examples) in EXAMPLES {
            for (typed, _) in examples {
                let words = typed.strip_prefix("katabatic ").map(str::split_whitespace);
                let words: Vec<String> = words
                    .into_iter()
                    .flatten()
                    // Quoted words with a blank inside are one for a shell; here each stands for a name.
                    .filter(|word| !word.ends_with('\'') || word.starts_with('\''))
                    .map(|word| word.replace('\'', ""))
                    .collect();
                let matches = args::command().try_get_matches_from(
                    std::iter::once("katabatic".to_owned()).chain(words.clone()),
                );
                if typed.starts_with("katabatic ") {
                    assert!(matches.is_ok(), "{typed}: {words:?} {matches:?}");
                }
            }
        }
    }
}
