//! The tree of folders that a person walks with the arrow keys to choose what comes here.

use console::{Key, Term};
use katabatic_core::{Choice, RelPath, Share, words};
use katabatic_engine::Error;
use katabatic_engine::choose::{Looked, Weighed};
use katabatic_sides::SharedFolder;

use super::{Style, shown_text};

/// Who shares a folder, and what one may do there.
pub fn shared_words(shared: &SharedFolder) -> String {
    let owner = crate::draw::shown_text(&shared.owner);
    match shared.may_write {
        Some(false) => format!("{owner}, to be read only"),
        Some(true) => format!("{owner}, to be changed too"),
        None => owner,
    }
}

/// As many folders are shown at a time.
const SHOWN: usize = 20;

/// Lets a person change the choice; none where they leave without one.
///
/// # Errors
/// Where the terminal cannot be read.
pub fn choose(
    style: Style,
    looked: &Looked,
    before: &Choice,
    depth: usize,
    free: Option<u64>,
) -> Result<Option<Choice>, Error> {
    let term = Term::stderr();
    let failed = |why: std::io::Error| {
        Error::failed(
            "drawing the folders",
            why,
            "Choose with options instead: --skip FOLDER, --take FOLDER",
        )
    };
    let (mut after, mut at, mut drawn) = (before.clone(), 0, 0);
    loop {
        let weighed = looked.weighed(&after, depth);
        let folders = super::largest_first(&weighed);
        if folders.is_empty() {
            return Ok(None);
        }
        let lines = lines(style, looked, &after, &folders, at, free);
        term.clear_last_lines(drawn).map_err(failed)?;
        // A line that wraps would be two when it is cleared.
        let width = usize::from(term.size().1).saturating_sub(1);
        for line in &lines {
            term.write_line(&console::truncate_str(line, width, "…"))
                .map_err(failed)?;
        }
        drawn = lines.len();
        match term.read_key().map_err(failed)? {
            Key::ArrowDown | Key::Char('j') => at = (at + 1).min(folders.len() - 1),
            Key::ArrowUp | Key::Char('k') => at = at.saturating_sub(1),
            Key::Char(' ') => {
                let folder: RelPath = folders[at].path.clone();
                after.say(&folder, folders[at].share != Share::Whole);
            }
            Key::Enter => return Ok((after != *before).then_some(after)),
            Key::Escape | Key::Char('q') => return Ok(None),
            _ => {}
        }
    }
}

fn lines(
    style: Style,
    looked: &Looked,
    after: &Choice,
    folders: &[&Weighed],
    at: usize,
    free: Option<u64>,
) -> Vec<String> {
    let first = at.saturating_sub(SHOWN - 1);
    let name = |one: &Weighed| {
        let indent = "  ".repeat(one.path.depth().saturating_sub(1));
        format!("{indent}{}/", shown_text(one.path.name()))
    };
    let widest = folders
        .iter()
        .map(|one| console::measure_text_width(&name(one)))
        .max()
        .unwrap_or(0);
    let mut lines = vec!["Up and down move, space takes a folder or leaves it, Enter goes on, Esc leaves all as it is.".to_owned()];
    for (number, one) in folders.iter().enumerate().skip(first).take(SHOWN) {
        let cursor = if number == at { ">" } else { " " };
        let name = name(one);
        let pad = " ".repeat(widest - console::measure_text_width(&name));
        let shared = one.shared.as_ref().map_or_else(String::new, |shared| {
            format!("  shared by {}", shared_words(shared))
        });
        let line = format!(
            "{cursor} {name}{pad}  {:<12} {:>9}  {:>12}{shared}",
            style.share(one.share),
            words::bytes(one.bytes),
            words::count(one.files, "file", "files")
        );
        lines.push(if number == at {
            console::style(line).for_stderr().reverse().to_string()
        } else {
            line
        });
    }
    let (freed, fetched) = looked.moved(after);
    let free = free.map_or_else(String::new, |free| {
        format!("; free on this disk: {}", words::bytes(free))
    });
    lines.push(format!(
        "would free {} and fetch {}{free}",
        words::bytes(freed.1),
        words::bytes(fetched.1)
    ));
    lines
}
