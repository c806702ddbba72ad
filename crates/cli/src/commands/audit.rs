//! `audit`: whether both sides really hold the same, byte for byte.

use crate::draw::audit_words::also_words;
use crate::draw::audit_words::audit_json;
use crate::draw::audit_words::how_words;
use crate::draw::audit_words::{verdict_told, verdict_words};
use clap::Args;
use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::{Kind, SideNames, words};
use katabatic_engine::audit::{self, Audit, Counted, Finding, ToRead};
use katabatic_engine::config::LaneConfig;
use katabatic_engine::pass::Progress;
use katabatic_engine::{Class, Error};
use serde_json::json;

use super::account::confirmed;
use super::status;
use crate::app::App;
use crate::draw::listing::Item;
use crate::draw::table::Rows;
use crate::draw::{
    audit_report, error, json, line, listing, progress, sentence, shown, shown_text,
};
use crate::exit;

/// `audit`.
#[derive(Args, Debug)]
pub struct AuditArgs {
    /// The lane; all lanes where none is named
    pub lane: Option<String>,
    /// Read nothing: compare sizes, tags and what is recorded
    #[arg(long)]
    pub quick: bool,
    /// Write a report here as well: FILE.html, FILE.csv or FILE.json
    #[arg(long, value_name = "FILE")]
    pub to: Option<PathBuf>,
    /// Do not ask before everything is read
    #[arg(long)]
    pub yes: bool,
}

/// As many findings are named for people; JSON and report files have all.
const NAMED: usize = 40;

pub fn audit(app: &App, typed: &crate::commands::audit::AuditArgs) -> Result<ExitCode, Error> {
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
        false => ask_before_reading(app, typed.yes, &lanes)?,
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
pub fn ask_before_reading(
    app: &App,
    yes: bool,
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
    let text = format!(
        "To read and compare: {}, {} on the near side and {} on the far side.",
        words::count(sum.files, "file", "files"),
        words::bytes(sum.near),
        words::bytes(sum.far)
    );
    sentence(app.style, 0, &text);
    if confirmed(app, yes, "Read them all?")? {
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
        &["folder", "files near", "far", "bytes near", "far", "equal"],
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
        let items: Vec<Item> = audit
            .findings
            .iter()
            .take(NAMED)
            .map(|finding| item(lane.side_names(), finding))
            .collect();
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

fn item(sides: SideNames, finding: &Finding) -> Item {
    let shows = finding.near.as_ref().or(finding.far.as_ref());
    let folder = shows.is_some_and(|entry| entry.kind == Kind::Folder);
    Item {
        lead: verdict_told(finding.verdict, sides).into(),
        name: format!("{}{}", shown(&finding.path), if folder { "/" } else { "" }),
        size: shows
            .filter(|_| !folder)
            .map_or_else(String::new, |entry| words::bytes(entry.size)),
        reason: finding.why.clone(),
    }
}
