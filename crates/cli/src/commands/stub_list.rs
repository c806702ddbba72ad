//! `room --exclude-list`: the stubs of this computer as a list of what a backup is to leave out.
//!
//! A stub holds nothing, and root reads zeros of it. Most stubs bear marks that ask for no backup; whatever minds no marks takes a
//! list of names.

use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::words;
use katabatic_engine::config::LaneConfig;
use katabatic_engine::pass::Progress;
use katabatic_engine::{Error, room};
use serde_json::json;

use crate::app::App;
use crate::draw::{json, line, new_file, shown_text};

/// Writes the stubs of these lanes, a path in a line.
pub fn write(app: &App, lanes: &[LaneConfig], to: &Path) -> Result<ExitCode, Error> {
    new_file::check_free(to)?;
    let (mut text, mut stubs) = (String::new(), 0u64);
    for lane in lanes {
        let Some(near) = lane.near.local() else {
            continue;
        };
        let here = app.run(async {
            let pass = app.look(lane, Arc::new(Progress::default())).await?;
            room::stubs(&pass).await
        })?;
        for path in here {
            text.push_str(&pattern(&near.join(path.as_str()).to_string_lossy()));
            text.push('\n');
            stubs += 1;
        }
    }
    new_file::write(to, &text, "Nothing was changed.")?;
    let file = to.display().to_string();
    if app.common.json {
        json::print(&json!({"stubs": stubs, "written": file}));
        return Ok(ExitCode::SUCCESS);
    }
    line(format!(
        "Wrote {} into {}, a line each. For a backup: tar --exclude-from {}",
        words::count(stubs, "stub", "stubs"),
        shown_text(&file),
        words::typed(&file)
    ));
    line("It is a list of now: write it anew right before each backup.");
    Ok(ExitCode::SUCCESS)
}

/// A path as a pattern that matches it alone (glob(7)). A line cannot hold the end of a line, so any one character stands for it.
fn pattern(path: &str) -> String {
    let mut pattern = String::with_capacity(path.len());
    for c in path.chars() {
        match c {
            '*' | '?' | '[' | ']' | '\\' => pattern.extend(['\\', c]),
            '\n' | '\r' => pattern.push('?'),
            c => pattern.push(c),
        }
    }
    pattern
}

#[cfg(test)]
mod tests {
    use super::pattern;

    #[test]
    fn a_path_is_a_pattern_that_matches_it_alone() {
        assert_eq!(pattern("/a b/c.txt"), "/a b/c.txt");
        assert_eq!(pattern("/a*[1]?\\b\nc"), "/a\\*\\[1\\]\\?\\\\b?c");
    }
}
