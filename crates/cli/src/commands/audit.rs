//! `audit`: whether both sides really hold the same, byte for byte.

use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::{Kind, words};
use katabatic_engine::audit::{self, Audit, Counted, Finding, Holds, ToRead, Verdict};
use katabatic_engine::config::LaneConfig;
use katabatic_engine::pass::Progress;
use katabatic_engine::{Class, Error};
use serde_json::{Value, json};

use super::account::confirmed;
use super::status;
use crate::app::App;
use crate::draw::listing::Item;
use crate::draw::table::Rows;
use crate::draw::{
    audit_report, error, json, line, listing, progress, sentence, shown, shown_text, time,
};
use crate::{args, exit};

/// As many findings are named for people; JSON and report files have all.
const NAMED: usize = 40;

pub fn audit(app: &App, typed: &args::Audit) -> Result<ExitCode, Error> {
    if let Some(to) = &typed.to {
        audit_report::check(to)?;
    }
    let lanes: Vec<LaneConfig> = match &typed.lane {
        Some(name) => vec![app.config.lane(name)?.clone()],
        None => app.config.lanes.clone(),
    };
    if lanes.is_empty() {
        return Err(Error::usage(
            "comparing both sides",
            "there is no lane yet",
            "Tie a folder first: katabatic lane add NAME --near DIR --far @ACCOUNT/FOLDER",
        ));
    }
    let counted = match typed.quick {
        true => vec![None; lanes.len()],
        false => ask_before_reading(app, typed, &lanes)?,
    };
    let (mut code, mut audits, mut failed) = (0, Vec::new(), Vec::new());
    for (lane, counted) in lanes.into_iter().zip(counted) {
        let drawn = Arc::new(Progress::default());
        let found = app.run(async {
            let pass = app.pass(&lane, Arc::clone(&drawn)).await?;
            let auditing = audit::audit(&pass, typed.quick, counted);
            progress::during(app.style, &lane.name, drawn, auditing).await
        });
        match found {
            Ok(found) => {
                if !app.common.json {
                    say(app, &lane, &found);
                }
                if !found.all_equal() {
                    code = exit::worse(code, exit::NEEDS_A_PERSON);
                }
                audits.push((lane, found));
            }
            // One lane that cannot be read does not keep the others waiting.
            Err(why) => {
                code = exit::worse(code, exit::number(why.class));
                if !app.common.json {
                    error::error(&why, false);
                }
                failed.push(
                    json!({"lane": lane.name, "what": why.what, "why": why.why, "next": why.next}),
                );
            }
        }
        if app.stop.asked() {
            code = exit::number(Class::Stopped);
            break;
        }
    }
    if app.common.json {
        json::print(&json!({
            "audits": audits.iter().map(|(lane, audit)| audit_json(lane, audit)).collect::<Vec<_>>(),
            "failed": failed,
        }));
    }
    if let Some(to) = &typed.to {
        audit_report::write(to, &audits)?;
        if !app.common.json {
            line(format!("The report is in {}", to.display()));
        }
    }
    Ok(ExitCode::from(code))
}

/// Says what reading both sides will cost, and asks where somebody is there to answer.
fn ask_before_reading(
    app: &App,
    typed: &args::Audit,
    lanes: &[LaneConfig],
) -> Result<Vec<Option<ToRead>>, Error> {
    let (mut sum, mut each) = (ToRead::default(), Vec::new());
    for lane in lanes {
        let more = app.run(async {
            let pass = app.pass(lane, Arc::new(Progress::default())).await?;
            audit::to_read(&pass).await
        });
        // What cannot be looked at is told when its turn comes.
        each.push(more.as_ref().ok().copied());
        let Ok(more) = more else { continue };
        sum.files += more.files;
        sum.near = sum.near.saturating_add(more.near);
        sum.far = sum.far.saturating_add(more.far);
    }
    if app.common.json {
        return Ok(each);
    }
    line(format!(
        "To read and compare: {}, {} here and {} there.",
        words::count(sum.files, "file", "files"),
        words::bytes(sum.near),
        words::bytes(sum.far)
    ));
    if confirmed(app, typed.yes, "Read them all?")? {
        return Ok(each);
    }
    Err(Error::new(
        Class::Failed,
        "comparing both sides",
        "nothing is to be read, as was said",
        "By sizes, tags and what is recorded alone: katabatic audit --quick",
    ))
}

fn say(app: &App, lane: &LaneConfig, audit: &Audit) {
    status::heading(app, lane);
    sentence(app.style, 2, &how_words(audit));
    let mut rows = Rows::new(
        app.style,
        &[
            "folder",
            "files here",
            "there",
            "bytes here",
            "there",
            "equal",
        ],
    );
    for (folder, counted) in &audit.folders {
        let name = match folder.is_empty() {
            true => "(in no folder)".to_owned(),
            false => format!("{}/", shown_text(folder)),
        };
        rows.add(cells(name, counted));
    }
    rows.add(cells("in all".into(), &audit.total()));
    (1..6).for_each(|column| rows.numbers(column));
    rows.whole(0);
    rows.print(2);
    for text in also_words(audit) {
        sentence(app.style, 2, &text);
    }
    if !audit.findings.is_empty() {
        line("");
        let items: Vec<Item> = audit.findings.iter().take(NAMED).map(item).collect();
        listing::print(app.style, 2, &items);
        let more = audit.findings.len().saturating_sub(NAMED);
        if more > 0 {
            line(format!(
                "  and {} more: katabatic audit {} --to FILE.csv has all",
                words::count(more as u64, "path", "paths"),
                lane.name
            ));
        }
    }
    sentence(app.style, 2, &verdict_words(lane, audit));
}

fn cells(name: String, counted: &Counted) -> Vec<String> {
    vec![
        name,
        words::grouped(counted.near.files),
        words::grouped(counted.far.files),
        words::bytes(counted.near.bytes),
        words::bytes(counted.far.bytes),
        words::grouped(counted.equal),
    ]
}

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
            "read and compared byte for byte, {} here and {} there: {took}",
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
        "folders: {} here, {} there",
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

fn item(finding: &Finding) -> Item {
    let shows = finding.near.as_ref().or(finding.far.as_ref());
    let folder = shows.is_some_and(|entry| entry.kind == Kind::Folder);
    Item {
        lead: finding.verdict.word().to_owned(),
        name: format!("{}{}", shown(&finding.path), if folder { "/" } else { "" }),
        size: shows
            .filter(|_| !folder)
            .map_or_else(String::new, |entry| words::bytes(entry.size)),
        reason: finding.why.clone(),
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
            parts.push(format!("{} {}", words::grouped(count), verdict.word()));
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
