//! What an audit found, in words and for programs.

use crate::draw::{json, shown_text, time};
use katabatic_core::{Side, SideNames, words};
use katabatic_engine::audit::{Audit, Counted, Holds, Verdict};
use katabatic_engine::config::LaneConfig;
use serde_json::{Value, json};

/// How it was compared, when, and how long it took.
pub fn how_words(audit: &Audit) -> String {
    let took = match (audit.began, audit.ended) {
        (Some(began), Some(ended)) => format!(
            "{}, {:.1} s",
            time::exact(began),
            ended.0.saturating_sub(began.0) as f64 / 1e9
        ),
        _ => String::new(),
    };
    match audit.quick {
        true => format!("compared by sizes, tags and what is recorded: {took}"),
        false => format!(
            "read and compared byte for byte, {} near and {} far: {took}",
            words::bytes(audit.read.0),
            words::bytes(audit.read.1)
        ),
    }
}

/// What is not in the lane, what was put right, and folders.
pub fn also_words(audit: &Audit) -> Vec<String> {
    let mut said = Vec::new();
    let total = audit.total();
    said.push(format!(
        "folders: {} near, {} far",
        words::grouped(total.near.folders),
        words::grouped(total.far.folders)
    ));
    for (by, tally) in &audit.left_out {
        said.push(format!(
            "left out by {by}: {}, {}",
            words::count(tally.files, "file", "files"),
            words::bytes(tally.bytes)
        ));
    }
    for name in &audit.unusable {
        said.push(format!(
            "left out: {} ({})",
            shown_text(&name.shown),
            name.why
        ));
    }
    if audit.stubs.files > 0 {
        said.push(format!(
            "stubs: {} of {}, compared by version tags; nothing of their content was read",
            words::grouped(audit.stubs.files),
            words::bytes(audit.stubs.bytes)
        ));
    }
    let (recorded, forgotten) = audit.put_right;
    if recorded > 0 {
        said.push(format!(
            "the ledger did not know that {} equal; it does now",
            words::count(recorded, "file is", "files are")
        ));
    }
    if forgotten > 0 {
        said.push(format!(
            "the ledger called {} settled that {} not; the next pass compares anew",
            words::count(forgotten, "file", "files"),
            if forgotten == 1 { "is" } else { "are" }
        ));
    }
    if !audit.whole {
        said.push("a side could not be listed whole: what was not seen is not proven".to_owned());
    }
    said
}

/// What one path came to, by what the lane's sides are called.
pub fn verdict_told(verdict: Verdict, sides: SideNames) -> String {
    match verdict {
        Verdict::OnlyNear => format!("only {}", sides.at(Side::Near)),
        Verdict::OnlyFar => format!("only {}", sides.at(Side::Far)),
        Verdict::Different | Verdict::Unread | Verdict::Unproven => verdict.word().to_owned(),
    }
}

/// The answer, in a sentence.
pub fn verdict_words(lane: &LaneConfig, audit: &Audit) -> String {
    let equal = words::count(audit.total().equal, "file", "files");
    if audit.all_equal() {
        return match audit.quick {
            true => format!("Equal as far as is recorded: {equal}. Nothing was read."),
            false => format!("Proven: {equal}, equal on both sides to the last byte."),
        } + &stubs_words(audit);
    }
    let mut parts = Vec::new();
    for verdict in [
        Verdict::Different,
        Verdict::OnlyNear,
        Verdict::OnlyFar,
        Verdict::Unread,
        Verdict::Unproven,
    ] {
        let count = audit
            .findings
            .iter()
            .filter(|finding| finding.verdict == verdict);
        let count = count.count() as u64;
        if count > 0 {
            parts.push(format!(
                "{} {}",
                words::grouped(count),
                verdict_told(verdict, lane.side_names())
            ));
        }
    }
    let next = match audit.quick {
        true => format!("katabatic audit {}", lane.name),
        false => format!("katabatic plan {}", lane.name),
    };
    let only_unproven = audit
        .findings
        .iter()
        .all(|finding| finding.verdict == Verdict::Unproven);
    let answer = match only_unproven && audit.whole {
        true => "Nothing is known to differ, but not all is proven",
        false => "Not equal",
    };
    format!(
        "{answer}: {}; {equal} equal. Next: {next}",
        parts.join(", ")
    )
}

/// What the answer says nothing of.
fn stubs_words(audit: &Audit) -> String {
    match audit.stubs.files {
        0 => String::new(),
        1 => " The one stub is as agreed by its version tag.".to_owned(),
        many => format!(
            " The {} stubs are as agreed by their version tags.",
            words::grouped(many)
        ),
    }
}

/// An audit for programs.
pub fn audit_json(lane: &LaneConfig, audit: &Audit) -> Value {
    let holds = |holds: &Holds| json!({"files": holds.files, "bytes": holds.bytes, "folders": holds.folders});
    let counted = |counted: &Counted| {
        json!({
            "near": holds(&counted.near),
            "far": holds(&counted.far),
            "equal": counted.equal,
        })
    };
    let folders: serde_json::Map<String, Value> = audit
        .folders
        .iter()
        .map(|(name, folder)| (name.clone(), counted(folder)))
        .collect();
    json!({
        "lane": lane.name,
        "began": json::time(audit.began),
        "ended": json::time(audit.ended),
        "quick": audit.quick,
        "all_equal": audit.all_equal(),
        "stubs": {"files": audit.stubs.files, "bytes": audit.stubs.bytes},
        "read": {"near": audit.read.0, "far": audit.read.1},
        "total": counted(&audit.total()),
        "folders": folders,
        "findings": audit.findings.iter().map(|finding| json!({
            "path": finding.path.as_str(),
            "verdict": finding.verdict.word(),
            "near": json::entry(finding.near.as_ref()),
            "far": json::entry(finding.far.as_ref()),
            "reason": finding.why,
        })).collect::<Vec<_>>(),
        "left_out": audit.left_out.iter().map(|(by, tally)| json!({
            "by": by, "files": tally.files, "bytes": tally.bytes,
        })).collect::<Vec<_>>(),
        "ledger_recorded": audit.put_right.0,
        "ledger_forgotten": audit.put_right.1,
        "listed_whole": audit.whole,
    })
}
