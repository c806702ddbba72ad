//! What a run did, and how it ended, in words.

use crate::draw::shown_text;
use katabatic_core::words;
use katabatic_ledger::runs::{Run, RunItem};

/// What a run did, in numbers.
pub fn did(run: &Run) -> String {
    let counts = &run.counts;
    let mut did = Vec::new();
    let mut say = |count: u64, what: &str, bytes: Option<u64>| {
        if count > 0 {
            let bytes =
                bytes.map_or_else(String::new, |bytes| format!(" ({})", words::bytes(bytes)));
            did.push(format!("{} {what}{bytes}", words::grouped(count)));
        }
    };
    say(counts.files_up, "up", Some(counts.bytes_up));
    say(counts.files_down, "down", Some(counts.bytes_down));
    say(counts.replaced, "replaced", None);
    say(counts.moved, "moved", None);
    say(counts.stubs, "stubs", None);
    say(counts.shed, "shed", Some(counts.bytes_shed));
    say(counts.dropped, "dropped", None);
    say(counts.removed, "removed", None);
    if did.is_empty() && run.runs_still {
        // It is counted at its end.
        String::new()
    } else if did.is_empty() {
        "nothing carried".into()
    } else {
        did.join(", ")
    }
}

/// How long it took.
pub fn took(run: &Run) -> String {
    match run.ended {
        Some(ended) => match ended.0.saturating_sub(run.began.0) / 1_000_000 {
            short @ ..1000 => format!("{short} ms"),
            long => format!("{:.1} s", long as f64 / 1e3),
        },
        None if run.runs_still => "not over yet".to_owned(),
        None => "-".to_owned(),
    }
}

/// How it ended, in words.
pub fn outcome(run: &Run) -> String {
    let counts = &run.counts;
    match &run.outcome {
        None if run.runs_still => "runs now".to_owned(),
        None => "cut off; the next sync completes it".to_owned(),
        Some(outcome) if counts.conflicts + counts.stuck + counts.kept_back > 0 => {
            let mut parts = Vec::new();
            if counts.conflicts > 0 {
                parts.push(words::count(counts.conflicts, "conflict", "conflicts"));
            }
            if counts.stuck > 0 {
                parts.push(format!("{} stuck", words::grouped(counts.stuck)));
            }
            if counts.kept_back > 0 {
                parts.push(format!("{} kept back", words::grouped(counts.kept_back)));
            }
            format!("{}: {}", words::run_outcome(outcome), parts.join(", "))
        }
        Some(outcome) => shown_text(&words::run_outcome(outcome)),
    }
}

/// How it ended for one path, and why it was to be done.
pub fn result_words(item: &RunItem) -> String {
    let outcome = words::item_outcome(&item.outcome);
    match item.reason.is_empty() {
        true => shown_text(&outcome),
        false => shown_text(&format!("{outcome}; {}", item.reason)),
    }
}
