//! A long answer is read a page at a time, where a person reads it on a terminal.
//!
//! Lines are kept until there are more than the terminal has rows; only then a pager is started, so a short answer comes as
//! ever. The pager is the person's own: `PAGER`, or `less` where that is there. Where none can be started, or it is closed in
//! the middle, nothing is lost but what nobody wanted to read.

use std::io::{IsTerminal, Write};
use std::path::Path;
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::{Mutex, MutexGuard, PoisonError};

/// What is used where the person names none.
const USUAL: &str = "less";

/// As `LESS` where the person sets nothing: end at once if all fits, show weight and colour, leave the text on the screen.
const OPTIONS: &str = "FRX";

enum Paging {
    /// Lines go out as they come.
    Off,
    /// They are kept, since they may fit.
    Keeps {
        kept: Vec<u8>,
        /// Rows and columns of the terminal.
        rows: usize,
        columns: usize,
        used: usize,
    },
    /// They go to a pager.
    Runs {
        pager: Child,
        to: Option<ChildStdin>,
    },
}

static PAGING: Mutex<Paging> = Mutex::new(Paging::Off);

fn paging() -> MutexGuard<'static, Paging> {
    PAGING.lock().unwrap_or_else(PoisonError::into_inner)
}

/// From now on lines are kept, where somebody reads them on a terminal that can show pages.
pub fn begin() {
    let stdout = console::Term::stdout();
    let dumb = std::env::var_os("TERM").is_none_or(|term| term == "dumb");
    let (true, false, Some((rows, columns))) = (
        std::io::stdin().is_terminal() && stdout.is_term(),
        dumb,
        stdout.size_checked(),
    ) else {
        return;
    };
    // Of a pager that is not there, the shell would say so, and the answer would be lost.
    if !program().is_some_and(|line| is_installed(first_word(&line))) {
        return;
    }
    *paging() = Paging::Keeps {
        kept: Vec::new(),
        rows: rows.into(),
        columns: usize::from(columns).max(1),
        used: 0,
    };
}

/// The pager, as a line for the shell; none where the person wants none.
fn program() -> Option<String> {
    match std::env::var("PAGER") {
        Ok(named) if named.trim().is_empty() || named.trim() == "cat" => None,
        Ok(named) => Some(named),
        Err(_) => Some(USUAL.to_owned()),
    }
}

/// Takes what is to be written, where lines are kept or go to a pager; what it gives back is to be written as ever.
pub fn take(bytes: &[u8]) -> Option<Vec<u8>> {
    let mut paging = paging();
    match &mut *paging {
        Paging::Off => Some(bytes.to_owned()),
        Paging::Runs { to, .. } => {
            // Whoever closed the pager has read enough.
            if let Some(open) = to
                && open.write_all(bytes).is_err()
            {
                *to = None;
            }
            None
        }
        Paging::Keeps {
            kept,
            rows,
            columns,
            used,
        } => {
            kept.extend_from_slice(bytes);
            let text = String::from_utf8_lossy(bytes);
            for line in text.lines() {
                *used += console::measure_text_width(line).div_ceil(*columns).max(1);
            }
            // The last row is for the shell's next line.
            if *used < *rows {
                return None;
            }
            let kept = std::mem::take(kept);
            match start(&kept) {
                Some(runs) => {
                    *paging = runs;
                    None
                }
                None => {
                    *paging = Paging::Off;
                    Some(kept)
                }
            }
        }
    }
}

fn start(kept: &[u8]) -> Option<Paging> {
    let mut command = Command::new("/bin/sh");
    command.args(["-c", &program()?]).stdin(Stdio::piped());
    if std::env::var_os("LESS").is_none() {
        command.env("LESS", OPTIONS);
    }
    let mut pager = command.spawn().ok()?;
    let mut to = pager.stdin.take()?;
    let to = to.write_all(kept).is_ok().then_some(to);
    Some(Paging::Runs { pager, to })
}

/// The program of a line for the shell, behind what it sets for it.
fn first_word(line: &str) -> &str {
    let mut words = line.split_whitespace();
    words.find(|word| !word.contains('=')).unwrap_or_default()
}

fn is_installed(name: &str) -> bool {
    if name.is_empty() {
        return false;
    }
    if name.contains('/') {
        return Path::new(name).is_file();
    }
    let path = std::env::var_os("PATH").unwrap_or_default();
    std::env::split_paths(&path).any(|folder| folder.join(name).is_file())
}

/// What was kept goes out, since something else is to be told or asked now; nothing is kept after that.
pub fn give_out() -> Option<Vec<u8>> {
    let mut paging = paging();
    match std::mem::replace(&mut *paging, Paging::Off) {
        Paging::Off => None,
        Paging::Keeps { kept, .. } => Some(kept),
        runs @ Paging::Runs { .. } => {
            *paging = runs;
            None
        }
    }
}

/// Waits until the pager is closed, where one runs.
pub fn end() {
    let paging = std::mem::replace(&mut *paging(), Paging::Off);
    if let Paging::Runs { mut pager, to } = paging {
        drop(to);
        // How a pager ends says nothing about the answer.
        let _ = pager.wait();
    }
}
