//! Standard output and standard error of this program, and what becomes of a command when they cannot be written.
//!
//! A command whose answer nobody can read any more still does its work to the end: half of it done would be worse than
//! all of it done and not told. So a failure to write is only noted here, once, and counts when the program ends.

use std::io::{Error, ErrorKind, Write};
use std::process::ExitCode;
use std::sync::{Mutex, MutexGuard, OnceLock, PoisonError};

use katabatic_core::words;

use crate::{exit, pager};

/// Why standard output could not be written, once that has happened; nothing is written to it after that.
static LOST: OnceLock<Error> = OnceLock::new();

/// Where lines are kept until it is known whether anybody has to read them.
static HELD: Mutex<Option<String>> = Mutex::new(None);

/// From now on lines are kept. Where all ends well, and nobody was asked anything, they are never written.
pub fn hold() {
    *held() = Some(String::new());
}

/// Writes what was kept, and keeps nothing more: somebody has to read it.
pub fn give_out() {
    let kept = held().take();
    if let Some(kept) = kept {
        write(kept.as_bytes());
    }
    if let Some(kept) = pager::give_out() {
        write_now(&kept);
    }
}

fn held() -> MutexGuard<'static, Option<String>> {
    HELD.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Writes a line to standard output; nothing in it acts on a terminal or begins another line.
pub fn line(text: &str) {
    drawn_line(&words::harmless(text));
}

/// Writes a line that was made harmless, and then got colour.
pub fn drawn_line(text: &str) {
    let line = format!("{text}\n");
    if let Some(kept) = held().as_mut() {
        kept.push_str(&line);
        return;
    }
    write(line.as_bytes());
}

/// Writes to standard output as it is.
pub fn write(bytes: &[u8]) {
    if let Some(bytes) = pager::take(bytes) {
        write_now(&bytes);
    }
}

fn write_now(bytes: &[u8]) {
    if LOST.get().is_some() {
        return;
    }
    let mut out = std::io::stdout().lock();
    if let Err(why) = out.write_all(bytes).and_then(|()| out.flush()) {
        lost(why);
    }
}

/// Notes that standard output could not be written. The first reason is the one that is told.
pub fn lost(why: Error) {
    let _ = LOST.set(why);
}

/// Writes a line where errors go, which nobody need read.
pub fn error_line(text: &str) {
    // In the order in which it was said.
    if let Some(kept) = pager::give_out() {
        write_now(&kept);
    }
    error_piece(&format!("{}\n", words::harmless(text)));
}

/// Writes there as it is, in a line that something else ends.
pub fn error_piece(text: &str) {
    let mut out = std::io::stderr().lock();
    let _ = out.write_all(text.as_bytes()).and_then(|()| out.flush());
}

/// How the program ends, when a command ended with `code`. A pipe that its reader has closed changes nothing: whoever
/// closed it has read enough. An answer that is lost in any other way makes a success a failure, and is told.
pub fn ended(code: ExitCode) -> ExitCode {
    if code != ExitCode::SUCCESS {
        give_out();
    }
    if let Some(kept) = pager::give_out() {
        write_now(&kept);
    }
    pager::end();
    let Some(why) = LOST.get().filter(|why| why.kind() != ErrorKind::BrokenPipe) else {
        return code;
    };
    error_line("katabatic: writing the answer to standard output");
    error_line(&format!("  why   {why}"));
    error_line(
        "  next  The work itself was done to its end; only its answer is not complete. Ask again, with the output sent elsewhere: katabatic status",
    );
    let told_by_code = code != ExitCode::SUCCESS && code != ExitCode::from(exit::NEEDS_A_PERSON);
    if told_by_code {
        code
    } else {
        ExitCode::FAILURE
    }
}
