//! Rules: what a lane leaves out by name, place, size or depth.
//!
//! A rule is a line of text, so that it can be typed, kept in the config and shown as it was written:
//!
//! - a name, such as `*.tmp` or `Thumbs.db`: files and folders of that name at any depth;
//! - a name and a slash, such as `cache/`: folders only;
//! - with a slash before its end, such as `/notes.txt` or `Scores/*.bak`: the path from the lane's root;
//! - `:hidden`: names that begin with a dot;
//! - `:larger 2GB`, `:smaller 1KB`: files by size;
//! - `:deeper 3`: what lies more than so many folders deep.
//!
//! In patterns `?` stands for one character, `*` for any within a name, `**` for any number of folders, `[a-z]` for one
//! of these, `{mp3,wav}` for either, and a backslash takes a character as it is. Upper and lower case are the same,
//! because the same junk is written both ways. What matches takes all that is in it along.

use globset::{GlobBuilder, GlobMatcher, GlobSet, GlobSetBuilder};

use crate::quantity;
use crate::{Entry, Kind, RelPath};

/// What a new lane leaves out unless somebody says otherwise: what desktops and office programs leave behind.
pub const USUAL: [&str; 10] = [
    "Thumbs.db",
    "desktop.ini",
    ".DS_Store",
    ".directory",
    ".Trash-*/",
    "~$*",
    ".~lock.*#",
    "~*.tmp",
    "*.part",
    "*.crdownload",
];

/// One rule.
#[derive(Clone, Debug)]
pub struct Rule {
    text: String,
    test: Test,
}

#[derive(Clone, Debug)]
enum Test {
    Name {
        glob: GlobMatcher,
        folders_only: bool,
    },
    Path {
        glob: GlobMatcher,
        folders_only: bool,
    },
    Hidden,
    Larger(u64),
    Smaller(u64),
    Deeper(usize),
}

impl PartialEq for Rule {
    fn eq(&self, other: &Rule) -> bool {
        self.text == other.text
    }
}

impl Eq for Rule {}

impl Rule {
    /// Understands a rule as it is typed.
    ///
    /// # Errors
    /// Says what is wrong with it, in a sentence's middle.
    pub fn parse(text: &str) -> Result<Rule, String> {
        let text = text.trim();
        let test = match text.strip_prefix(':') {
            Some(special) => Rule::special(special)?,
            None => Rule::pattern(text)?,
        };
        Ok(Rule {
            text: text.to_owned(),
            test,
        })
    }

    fn special(text: &str) -> Result<Test, String> {
        let (word, rest) = text.split_once(' ').unwrap_or((text, ""));
        let rest = rest.trim();
        let size = || {
            read_bytes(rest).ok_or_else(|| format!("`:{word}` needs a size, such as :{word} 2GB"))
        };
        match word {
            "hidden" if rest.is_empty() => Ok(Test::Hidden),
            "larger" => size().map(Test::Larger),
            "smaller" => size().map(Test::Smaller),
            "deeper" => rest
                .parse()
                .map(Test::Deeper)
                .map_err(|_| "`:deeper` needs a number of folders, such as :deeper 3".to_owned()),
            _ => Err(format!(
                "there is no rule `:{text}`; there are :hidden, :larger SIZE, :smaller SIZE and :deeper NUMBER"
            )),
        }
    }

    fn pattern(text: &str) -> Result<Test, String> {
        let (pattern, folders_only) = match text.strip_suffix('/') {
            Some(pattern) => (pattern, true),
            None => (text, false),
        };
        if pattern.is_empty() {
            return Err("an empty rule would leave out everything".into());
        }
        if pattern.trim_matches(['*', '/']).is_empty() {
            return Err(format!("`{text}` would leave out everything"));
        }
        let anchored = pattern.strip_prefix('/').unwrap_or(pattern);
        let glob = GlobBuilder::new(anchored)
            .literal_separator(true)
            .case_insensitive(true)
            .backslash_escape(true)
            .build()
            .map_err(|why| format!("`{text}` is no pattern: {}", why.kind()))?
            .compile_matcher();
        Ok(if pattern.contains('/') {
            Test::Path { glob, folders_only }
        } else {
            Test::Name { glob, folders_only }
        })
    }

    /// The rule as it was written.
    #[must_use]
    pub fn text(&self) -> &str {
        &self.text
    }

    /// What it leaves out, in words.
    #[must_use]
    pub fn meaning(&self) -> String {
        match &self.test {
            Test::Name {
                folders_only: true, ..
            } => "folders of that name, at any depth".into(),
            Test::Name { .. } => "that name, at any depth".into(),
            Test::Path { .. } => "that path, from the lane's root".into(),
            Test::Hidden => "names that begin with a dot".into(),
            Test::Larger(bytes) => format!("files larger than {}", quantity::bytes(*bytes)),
            Test::Smaller(bytes) => format!("files smaller than {}", quantity::bytes(*bytes)),
            Test::Deeper(depth) => format!(
                "what lies more than {} deep",
                quantity::count(*depth as u64, "folder", "folders")
            ),
        }
    }

    /// Whether it leaves out what a side shows at a path.
    #[must_use]
    pub fn catches(&self, path: &RelPath, entry: &Entry) -> bool {
        let folder = entry.kind == Kind::Folder;
        match &self.test {
            Test::Name { glob, folders_only } => {
                (folder || !folders_only) && glob.is_match(path.name())
            }
            Test::Path { glob, folders_only } => {
                (folder || !folders_only) && glob.is_match(path.as_str())
            }
            Test::Hidden => path.name().starts_with('.'),
            Test::Larger(bytes) => entry.kind == Kind::File && entry.size > *bytes,
            Test::Smaller(bytes) => entry.kind == Kind::File && entry.size < *bytes,
            Test::Deeper(depth) => path.depth() > *depth + 1,
        }
    }
}

/// Tells at one look that none of many rules catches a path, which is so for nearly all.
#[derive(Clone, Debug, Default)]
pub(crate) struct Screen {
    names: GlobSet,
    paths: GlobSet,
    /// Some rule asks for more than a name, or the patterns are too many for one look.
    always: bool,
}

impl Screen {
    pub(crate) fn of(rules: &[Rule]) -> Screen {
        let (mut names, mut paths) = (GlobSetBuilder::new(), GlobSetBuilder::new());
        let mut always = false;
        for rule in rules {
            match &rule.test {
                Test::Name { glob, .. } => drop(names.add(glob.glob().clone())),
                Test::Path { glob, .. } => drop(paths.add(glob.glob().clone())),
                Test::Hidden | Test::Larger(_) | Test::Smaller(_) | Test::Deeper(_) => {
                    always = true;
                }
            }
        }
        match (names.build(), paths.build()) {
            (Ok(names), Ok(paths)) => Screen {
                names,
                paths,
                always,
            },
            _ => Screen {
                always: true,
                ..Screen::default()
            },
        }
    }

    /// Whether a rule may catch what lies at a path.
    pub(crate) fn may_catch(&self, path: &RelPath) -> bool {
        self.always || self.names.is_match(path.name()) || self.paths.is_match(path.as_str())
    }
}

/// A size as people write it: `2GB`, `500 KB`, `1200` (steps of 1000).
#[must_use]
pub fn read_bytes(text: &str) -> Option<u64> {
    let text = text.trim();
    let digits = text.trim_end_matches(|c: char| c.is_ascii_alphabetic() || c == ' ');
    let unit = text[digits.len()..].trim().to_ascii_uppercase();
    let factor: u64 = match unit.as_str() {
        "" | "B" => 1,
        "K" | "KB" => 1_000,
        "M" | "MB" => 1_000_000,
        "G" | "GB" => 1_000_000_000,
        "T" | "TB" => 1_000_000_000_000,
        _ => return None,
    };
    let number: f64 = digits.parse().ok()?;
    let bytes = number * factor as f64;
    (number.is_finite() && (0.0..9e18).contains(&bytes)).then_some(bytes as u64)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::Stamp;

    fn catches(rule: &str, path: &str) -> bool {
        let entry = Entry::file(5_000, Stamp::new("x"));
        Rule::parse(rule)
            .unwrap()
            .catches(&RelPath::parse(path).unwrap(), &entry)
    }

    fn catches_folder(rule: &str, path: &str) -> bool {
        Rule::parse(rule)
            .unwrap()
            .catches(&RelPath::parse(path).unwrap(), &Entry::folder())
    }

    #[test]
    fn names_at_any_depth_and_paths_from_the_root() {
        assert!(catches("*.tmp", "a/b/x.TMP"));
        assert!(!catches("*.tmp", "a/b/x.tmp.txt"));
        assert!(catches("~$*", "deep/~$rota.docx"));
        assert!(catches(".~lock.*#", "a/.~lock.rota.odt#"));
        assert!(catches("/notes.txt", "notes.txt"));
        assert!(!catches("/notes.txt", "a/notes.txt"));
        assert!(catches("Scores/*.bak", "scores/x.bak"));
        assert!(!catches("Scores/*.bak", "Scores/old/x.bak"));
        assert!(catches("Scores/**/*.bak", "Scores/old/x.bak"));
        assert!(catches("*.{mp3,wav}", "take 1.wav"));
    }

    proptest! {
        #[test]
        fn the_screen_lets_through_whatever_a_rule_catches(
            path in "[a~.$T# ]{1,3}(/[a~.$T]{1,3}){0,2}(\\.tmp|\\.part|/cache|/Thumbs\\.db)?",
            extra in prop::sample::select(vec!["cache/", "/a/*", "a/**/b.tmp", ":hidden", ":deeper 1", "*a*", "?"]),
            folder in any::<bool>(),
        ) {
            let Ok(path) = RelPath::parse(&path) else { return Ok(()) };
            let entry = if folder { Entry::folder() } else { Entry::file(5_000, Stamp::new("x")) };
            let rules: Vec<Rule> = USUAL.iter().chain([&extra]).map(|text| Rule::parse(text).unwrap()).collect();
            let caught = rules.iter().any(|rule| rule.catches(&path, &entry));
            prop_assert!(!caught || Screen::of(&rules).may_catch(&path));
        }
    }

    #[test]
    fn the_screen_stops_what_no_rule_could_catch() {
        let rules: Vec<Rule> = USUAL
            .iter()
            .map(|text| Rule::parse(text).unwrap())
            .collect();
        let screen = Screen::of(&rules);
        assert!(!screen.may_catch(&RelPath::parse("Viola/1 part.txt").unwrap()));
        assert!(!Screen::of(&[]).may_catch(&RelPath::parse("a").unwrap()));
    }

    #[test]
    fn folders_only() {
        assert!(catches_folder("cache/", "a/Cache"));
        assert!(!catches("cache/", "a/cache"));
        assert!(catches_folder("/a/old/", "a/old"));
    }

    #[test]
    fn sizes_depth_and_hidden_names() {
        assert!(catches(":hidden", "a/.profile"));
        assert!(catches(":larger 4.9KB", "x"));
        assert!(!catches(":larger 5 KB", "x"));
        assert!(!catches_folder(":smaller 1GB", "x"));
        assert!(catches(":deeper 1", "a/b/c"));
        assert!(!catches(":deeper 1", "a/b"));
        assert!(catches(":deeper 0", "a/b"));
    }

    #[test]
    fn what_is_wrong_is_said() {
        for (rule, says) in [
            ("", "everything"),
            ("*", "everything"),
            ("**/*", "everything"),
            (":bigger 3", "no rule"),
            (":larger lots", "needs a size"),
            (":deeper x", "needs a number"),
            ("a[", "no pattern"),
            (":hidden files", "no rule"),
        ] {
            assert!(Rule::parse(rule).unwrap_err().contains(says), "{rule}");
        }
        for usual in USUAL {
            Rule::parse(usual).unwrap();
        }
    }
}
