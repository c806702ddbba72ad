//! An end with words where the system takes mapped memory away.
//!
//! SQLite maps a small file that the processes of one computer share. Where its disk is full, or fails, a store into that
//! memory cannot be kept, and the system ends the process with SIGBUS: without a word. Here it says what is the matter
//! first. A process may end at any moment, so nothing else has to be done.
//!
//! This is a crate of its own because the call is in none of the safe interfaces to the system.
#![deny(unsafe_op_in_unsafe_fn)]

use std::sync::OnceLock;

static WORDS: OnceLock<String> = OnceLock::new();

/// The exit code of work that failed.
const FAILED: libc::c_int = 1;

/// From now on the process ends with these words, and with exit code 1, where it would end with SIGBUS. Only the first
/// words count.
pub fn end_with_words(words: String) {
    if WORDS.set(words).is_err() {
        return;
    }
    // SAFETY: the struct is plain data, for which zeros are a value: no flags, an empty mask.
    let mut action: libc::sigaction = unsafe { std::mem::zeroed() };
    action.sa_sigaction = say as extern "C" fn(libc::c_int) as libc::sighandler_t;
    // SAFETY: the handler calls nothing but write(2) and _exit(2), which a signal handler may.
    unsafe { libc::sigaction(libc::SIGBUS, &raw const action, std::ptr::null_mut()) };
}

extern "C" fn say(_: libc::c_int) {
    if let Some(words) = WORDS.get() {
        // SAFETY: the bytes are those of a string that is never dropped.
        unsafe { libc::write(libc::STDERR_FILENO, words.as_ptr().cast(), words.len()) };
    }
    // SAFETY: it ends the process and returns to nobody.
    unsafe { libc::_exit(FAILED) }
}
