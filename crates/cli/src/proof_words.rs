//! What is said of proving what the far side holds, before the last copy of it here goes.

use katabatic_core::words;
use katabatic_engine::proof::Outlook;
use serde_json::{Value, json};

/// What it takes to prove it, a line for each way.
pub fn outlook(outlook: &Outlook) -> Vec<String> {
    let files = |count: u64| words::count(count, "file", "files");
    let mut told = Vec::new();
    if outlook.asked > 0 {
        told.push(format!(
            "proof that the other side has them: the server is asked for the digests of {}",
            files(outlook.asked)
        ));
    }
    if outlook.parts.files > 0 {
        told.push(format!(
            "proof that the other side has them: parts of {} that came from it are read back, {}",
            files(outlook.parts.files),
            words::bytes(outlook.parts.bytes)
        ));
    }
    if outlook.read_back.files > 0 {
        told.push(format!(
            "proof that the other side has them: {} {} read back first, {}",
            files(outlook.read_back.files),
            match outlook.read_back.files {
                1 => "is",
                _ => "are",
            },
            words::bytes(outlook.read_back.bytes)
        ));
    }
    if outlook.believed > 0 {
        told.push(format!(
            "believed to be on the other side, by their version tags alone (the lane has proof = \"tags\"): {}",
            files(outlook.believed)
        ));
    }
    told
}

pub fn outlook_json(outlook: &Outlook) -> Value {
    json!({
        "asked": outlook.asked,
        "parts": {"files": outlook.parts.files, "bytes": outlook.parts.bytes},
        "read_back": {"files": outlook.read_back.files, "bytes": outlook.read_back.bytes},
        "believed": outlook.believed,
    })
}

/// What is said of copies that went on evidence.
pub fn believed(files: u64) -> String {
    format!(
        "{} of these {} believed to be on the other side, by version tags and at most parts of them, and not proven",
        words::grouped(files),
        if files == 1 { "is" } else { "are" },
    )
}

/// What is said of copies that stay because a program may write into them.
pub fn held_open(copies: u64) -> String {
    format!(
        "A program has {} of these files open, or may have: {} kept among the spares, and that room is not free yet \
         (katabatic spares list)",
        words::grouped(copies),
        if copies == 1 { "it is" } else { "they are" },
    )
}
