//! What people are told of a stub that a program opens: a title, and what happened with the next step.

use std::path::Path;
use std::time::Duration;

use katabatic_core::admission::{TooMuch, WITHIN};
use katabatic_core::{RelPath, words};

/// Its content could not be brought; why.
pub(super) fn failed(
    path: &RelPath,
    far_place: &str,
    program: &str,
    why: &str,
) -> (String, String) {
    let text = format!(
        "{program} opened it, its content is not here, and it could not be brought: {why}. Try again once {far_place} can be reached."
    );
    (format!("{path} could not be opened"), text)
}

/// Its lane does not carry it.
pub(super) fn left_alone(path: &Path, program: &str) -> (String, String) {
    let name = path.file_name().unwrap_or(path.as_os_str());
    let path = path.to_string_lossy();
    let text = format!(
        "{program} opened it, its content is not here, and nothing brings it: its lane leaves it out, or does not know it any more. What it is, and how to let it in: katabatic why {}",
        words::typed(&path)
    );
    let name = name.to_string_lossy();
    (format!("{name} could not be opened"), text)
}

/// It takes long; of so many bytes, so many are here after that time.
pub(super) fn slow(
    path: &RelPath,
    program: &str,
    (all, done): (u64, u64),
    took: Duration,
) -> (String, String) {
    let left = all.saturating_sub(done) as f64 / done.max(1) as f64 * took.as_secs_f64();
    let text = format!(
        "{program} opened it and waits for its content: {} of {} are here, about {} left. It goes on by itself; to see how far it is: katabatic openings",
        words::bytes(done),
        words::bytes(all),
        words::span(left as u64)
    );
    (format!("{path} is on its way"), text)
}

/// A program is kept out for a while.
pub(super) fn too_much(program: &str, much: &TooMuch) -> (String, String) {
    let text = format!(
        "It opened {} ({}) within {}, and gets no more for {}: such a pace fills a disk. Where all of it is wanted here: katabatic fetch FOLDER. Where it only looks at files, keep it out for good: katabatic openings --keep-out {}. To let programs get more: katabatic openings --most-files NUMBER --most-bytes SIZE",
        words::count(much.files, "stub", "stubs"),
        words::bytes(much.bytes),
        words::span(WITHIN.as_secs()),
        words::span(much.again_in.as_secs()),
        words::typed(program)
    );
    (format!("{program} opens very many stubs"), text)
}
