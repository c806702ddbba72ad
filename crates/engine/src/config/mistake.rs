//! What is wrong about the config, each with the line it stands in, and all at once.

use std::ops::Range;
use std::path::Path;

use katabatic_core::{did_you_mean, words};
use toml_edit::{Document, Item, Key, Table};

use crate::Error;

/// Something that is wrong.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Mistake {
    /// The table it stands in, from the top; empty for what stands before all tables.
    table: Vec<String>,
    /// The key.
    key: String,
    /// Why, in words that begin with the key.
    why: String,
}

impl Mistake {
    /// What stands at a key is wrong; `whose` is the name of the table, such as `lane.scores`.
    pub(super) fn at(whose: &str, key: &str, why: impl Into<String>) -> Mistake {
        let table = whose.split('.').filter(|part| !part.is_empty());
        Mistake {
            table: table.map(str::to_owned).collect(),
            key: key.to_owned(),
            why: why.into(),
        }
    }

    /// A key that the table has to have is not there.
    pub(super) fn missing(whose: &str, key: &str) -> Mistake {
        Mistake::at(whose, key, format!("[{whose}] needs {key} = \"…\""))
    }

    /// A key that means nothing there.
    pub(super) fn strange(whose: &str, key: &str, known: &[&str]) -> Mistake {
        let meant = did_you_mean(key, known).map_or_else(
            || format!("there are {}", known.join(", ")),
            |meant| format!("did you mean `{meant}`?"),
        );
        Mistake::at(whose, key, format!("`{key}` means nothing here; {meant}"))
    }
}

/// Reads a table, and goes on behind each mistake to find the next. What a table has to have is read as `instead` says
/// then, so that it is not called missing.
pub(super) fn all<T>(
    mut table: Table,
    instead: &[(&str, &str)],
    read: impl Fn(Table) -> Result<T, Mistake>,
) -> Result<T, Vec<Mistake>> {
    let mut mistakes: Vec<Mistake> = Vec::new();
    loop {
        let mistake = match read(table.clone()) {
            Ok(read) if mistakes.is_empty() => return Ok(read),
            Ok(_) => return Err(mistakes),
            Err(mistake) => mistake,
        };
        // It was taken out, and is wrong still: nothing more can be found.
        if mistakes.iter().any(|known| known.key == mistake.key) {
            return Err(mistakes);
        }
        let key = mistake.key.clone();
        mistakes.push(mistake);
        table.remove(&key);
        if let Some((_, text)) = instead.iter().find(|(wanted, _)| *wanted == key) {
            table.insert(&key, toml_edit::value(*text));
        }
    }
}

/// The error for what is wrong about the text of a file.
pub(super) fn told(file: &Path, text: &str, mistakes: &[Mistake]) -> Error {
    let document = Document::parse(text).ok();
    let mut told: Vec<(usize, Vec<String>)> = mistakes
        .iter()
        .map(|mistake| {
            let at = document
                .as_ref()
                .and_then(|document| span(document.as_table(), mistake));
            let at = at.map(|span| span.start);
            (at.unwrap_or(usize::MAX), lines(text, at, &mistake.why))
        })
        .collect();
    told.sort_by_key(|(at, _)| *at);
    let count = words::count(mistakes.len() as u64, "mistake is", "mistakes are");
    wrong(file, &format!("{count} in it"))
        .with_details(told.into_iter().flat_map(|(_, lines)| lines).collect())
}

/// The error for a text that is no TOML.
pub(super) fn no_toml(file: &Path, text: &str, error: &toml_edit::TomlError) -> Error {
    let at = error.span().map(|span| span.start);
    let why = error.message().replace('\n', ", ");
    wrong(file, "it is not written as TOML wants it").with_details(lines(text, at, &why))
}

/// The error for a file that cannot be read.
pub(super) fn wrong(file: &Path, why: &str) -> Error {
    Error::usage(
        format!("the config {}", file.display()),
        why.trim_end(),
        "Correct it with an editor; nothing was changed.",
    )
}

/// Where a mistake stands: at its key, or at the head of the table that lacks it.
fn span(top: &Table, mistake: &Mistake) -> Option<Range<usize>> {
    let mut table: &dyn toml_edit::TableLike = top;
    let mut head = None;
    for part in &mistake.table {
        let (key, item) = table.get_key_value(part)?;
        head = item.span().or_else(|| key.span()).or(head);
        table = item.as_table_like()?;
    }
    let at = |(key, item): (&Key, &Item)| key.span().or_else(|| item.span());
    table.get_key_value(&mistake.key).and_then(at).or(head)
}

/// A mistake, and the line it stands in.
fn lines(text: &str, at: Option<usize>, why: &str) -> Vec<String> {
    let Some(before) = at.and_then(|at| text.get(..at)) else {
        return vec![why.to_owned()];
    };
    let number = before.matches('\n').count() + 1;
    let column = before
        .rsplit('\n')
        .next()
        .map_or(1, |line| line.chars().count() + 1);
    let line = text.lines().nth(number - 1).unwrap_or_default().trim_end();
    vec![
        format!("line {number}, column {column}: {why}"),
        format!("    {line}"),
    ]
}
