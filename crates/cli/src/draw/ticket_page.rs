//! The page to keep with a ticket: where all lanes stand, what is wrong, what ran, how all is set, with pictures.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use katabatic_core::{Agreement, EditTime, RunClass, Side, SideNames, Tally, words};
use katabatic_engine::doctor::Check;
use katabatic_engine::standing::{LaneStanding, Standing};
use katabatic_ledger::runs::Run;

use super::bars::{self, Bar};
use super::days::{self, Day};
use super::page::{Column, Table};
use super::{page, shown, time};
use crate::draw::run_words::{did, outcome, took};
use crate::draw::urgency::urgency;

/// A lane as it stands now.
pub struct LaneNow {
    /// Its name.
    pub name: String,
    /// Its two places.
    pub places: String,
    /// What its sides are called.
    pub sides: SideNames,
    /// Where its files stand, or why that cannot be told.
    pub standing: Result<LaneStanding, String>,
    /// Its folders and what they hold, as was agreed.
    pub folders: BTreeMap<String, Tally>,
}

/// What the page says.
pub struct Report {
    /// The computer's name.
    pub computer: String,
    /// Whose files they are.
    pub person: String,
    /// The lanes.
    pub lanes: Vec<LaneNow>,
    /// What doctor found.
    pub checks: Vec<Check>,
    /// The last runs, the newest first.
    pub runs: Vec<Run>,
    /// The last weeks.
    pub days: Vec<Day>,
    /// Where the settings are kept.
    pub config_file: String,
    /// The settings, without comments.
    pub settings: String,
    /// The agent's log: where it is, and its last lines, where they were asked for.
    pub log: Option<(String, Vec<String>)>,
}

/// As many paths are named a lane.
const NAMED: usize = 40;

/// As many folders are drawn.
const FOLDERS: usize = 12;

/// The whole page.
pub fn page(report: &Report) -> String {
    let mut body = String::new();
    in_short(&mut body, report);
    files_by_state(&mut body, report);
    for lane in &report.lanes {
        needs_somebody(&mut body, lane);
    }
    space(&mut body, report);
    runs(&mut body, &report.days, &report.runs);
    doctor(&mut body, &report.checks);
    let _ = write!(
        body,
        "<section><h2>Settings</h2><p class=\"places\">{}, without comments; no secret is kept in it</p><pre>{}</pre></section>",
        page::text(&report.config_file),
        page::lines(&report.settings)
    );
    if let Some((place, lines)) = &report.log {
        let _ = write!(
            body,
            "<section><h2>The agent's log</h2><p class=\"places\">{}; no secret is written into it</p><pre>{}</pre></section>",
            page::text(place),
            page::lines(&lines.join("\n"))
        );
    }
    page::whole(&format!("Katabatic on {}", report.computer), &body)
}

fn in_short(body: &mut String, report: &Report) {
    let wrong = report.checks.iter().filter(|check| !check.fine).count() as u64;
    let open: u64 = report.lanes.iter().map(needing).sum();
    let unread = report.lanes.iter().filter(|lane| lane.standing.is_err());
    let unread = unread.count() as u64;
    let mut said = Vec::new();
    if open > 0 {
        let verb = if open == 1 { "needs" } else { "need" };
        said.push(format!(
            "{} {verb} a person",
            words::count(open, "path", "paths")
        ));
    }
    if unread > 0 {
        said.push(format!(
            "{} could not be looked at",
            words::count(unread, "lane", "lanes")
        ));
    }
    if wrong > 0 {
        said.push(format!(
            "{} to be mended",
            words::count(wrong, "thing is", "things are")
        ));
    }
    let waits: u64 = report.lanes.iter().map(waiting).sum();
    let unfinished: Vec<String> = report.lanes.iter().filter_map(unfinished).collect();
    let (class, mut said) = match said.is_empty() {
        true if waits == 0 && unfinished.is_empty() => (
            "good",
            "Nothing needs a person, and nothing is to be mended.".to_owned(),
        ),
        true => ("", "Nothing needs a person now.".to_owned()),
        false => ("bad", format!("{}.", said.join("; "))),
    };
    if waits > 0 {
        let wait = if waits == 1 { "waits" } else { "wait" };
        let _ = write!(
            said,
            " {} {wait} to be carried.",
            words::count(waits, "path", "paths")
        );
    }
    for one in unfinished {
        let _ = write!(said, " {one}");
    }
    let _ = write!(
        body,
        "<section><h2>In short</h2><p class=\"{class}\">{}</p><p>The lanes of {}.</p>",
        page::text(&said),
        page::text(&report.person)
    );
    if report.lanes.is_empty() {
        body.push_str("<p>No lane ties anything yet.</p></section>");
        return;
    }
    let mut table = Table::new(&[
        ("lane", Column::Word),
        ("between", Column::Text),
        ("settled", Column::Number),
        ("else", Column::Text),
        ("seen", Column::Word),
    ]);
    for lane in &report.lanes {
        let (settled, other, seen) = match &lane.standing {
            Ok(standing) => {
                let settled = standing
                    .counts
                    .get(&Agreement::Settled)
                    .copied()
                    .unwrap_or(0);
                let other: Vec<String> = standing
                    .counts
                    .iter()
                    .filter(|(agreement, _)| **agreement != Agreement::Settled)
                    .map(|(agreement, count)| {
                        format!("{} {}", words::grouped(*count), agreement.word())
                    })
                    .collect();
                (
                    format!(
                        "{}, {}",
                        words::count(settled, "file", "files"),
                        words::bytes(standing.settled_bytes)
                    ),
                    other.join(", "),
                    seen(lane.sides, standing),
                )
            }
            Err(why) => ("not known".to_owned(), why.clone(), String::new()),
        };
        table.row(&[&lane.name, &lane.places, &settled, &other, &seen]);
    }
    body.push_str(&table.end());
    body.push_str("</section>");
}

/// When each side was looked at, with dates: the page is read on another day.
fn seen(sides: SideNames, standing: &LaneStanding) -> String {
    let dated = |at: Option<EditTime>| at.map_or_else(|| "never yet".to_owned(), time::dated);
    format!(
        "{} {}\n{} {}",
        sides.label(Side::Near),
        dated(standing.near_seen),
        sides.label(Side::Far),
        dated(standing.far_seen)
    )
}

/// Paths that are known to differ and are not carried yet.
fn waiting(lane: &LaneNow) -> u64 {
    let counts = lane.standing.iter().flat_map(|standing| &standing.counts);
    counts
        .filter(|(agreement, _)| matches!(agreement, Agreement::Waiting(_) | Agreement::Moving(_)))
        .map(|(_, count)| *count)
        .sum()
}

/// That the last pass of a lane did not come to its end, or could not begin.
fn unfinished(lane: &LaneNow) -> Option<String> {
    let standing = lane.standing.as_ref().ok()?;
    if let Some(failed) = &standing.failed {
        return Some(format!(
            "The last pass of the lane {} carried nothing: {}.",
            lane.name, failed.why
        ));
    }
    if standing.far_seen.is_none() {
        return Some(format!(
            "No pass over the whole lane {} has ended yet.",
            lane.name
        ));
    }
    let run = standing.run_of_last_pass()?;
    let how = match run.class() {
        RunClass::Fine | RunClass::NeedsPerson => return None,
        RunClass::Running => "runs now",
        RunClass::Failed => "was stopped, or failed, before it had carried all",
        RunClass::CutOff => "was cut off",
    };
    Some(format!("The last pass of the lane {} {how}.", lane.name))
}

fn needing(lane: &LaneNow) -> u64 {
    let counts = lane.standing.iter().flat_map(|standing| &standing.counts);
    counts
        .filter(|(agreement, _)| agreement.needs_a_person())
        .map(|(_, count)| *count)
        .sum()
}

fn files_by_state(body: &mut String, report: &Report) {
    let mut all: BTreeMap<Agreement, u64> = BTreeMap::new();
    for (agreement, count) in report
        .lanes
        .iter()
        .flat_map(|lane| lane.standing.iter())
        .flat_map(|standing| &standing.counts)
    {
        *all.entry(*agreement).or_default() += count;
    }
    if all.is_empty() {
        return;
    }
    let mut all: Vec<_> = all.into_iter().collect();
    all.sort_by_key(|(agreement, _)| std::cmp::Reverse(urgency(*agreement)));
    let bars: Vec<Bar> = all
        .into_iter()
        .map(|(agreement, count)| Bar {
            name: agreement.word().to_owned(),
            value: count,
            said: words::grouped(count),
            urgent: agreement.needs_a_person(),
        })
        .collect();
    let _ = write!(
        body,
        "<section><h2>Files by state, all lanes</h2>{}</section>",
        page::drawing("Files by state", &bars::svg("Files by state", &bars))
    );
}

fn needs_somebody(body: &mut String, lane: &LaneNow) {
    let Ok(standing) = &lane.standing else {
        return;
    };
    let mut open: Vec<&Standing> = standing
        .standings
        .iter()
        .filter(|one| urgency(one.state.agreement) <= urgency(Agreement::Waiting(Side::Near)))
        .collect();
    if open.is_empty() {
        return;
    }
    open.sort_by_key(|one| urgency(one.state.agreement));
    let _ = write!(
        body,
        "<section><h2>Lane {}: what is not settled</h2>",
        page::text(&lane.name)
    );
    let mut table = Table::new(&[
        ("state", Column::Word),
        ("path", Column::Text),
        ("why", Column::Text),
    ]);
    for one in open.iter().take(NAMED) {
        table.row(&[
            one.state.agreement.word(),
            &shown(one.step.path()),
            &one.reason,
        ]);
    }
    body.push_str(&table.end());
    if open.len() > NAMED {
        let more = (open.len() - NAMED) as u64;
        let _ = write!(
            body,
            "<p>and {} more: katabatic status {} --all</p>",
            words::grouped(more),
            page::text(&lane.name)
        );
    }
    body.push_str("</section>");
}

fn space(body: &mut String, report: &Report) {
    let mut folders: Vec<(String, Tally)> = Vec::new();
    for lane in &report.lanes {
        for (folder, tally) in &lane.folders {
            let name = match folder.is_empty() {
                true => format!("{}: in no folder", lane.name),
                false => format!("{}: {folder}/", lane.name),
            };
            folders.push((name, *tally));
        }
    }
    if folders.is_empty() {
        return;
    }
    folders.sort_by_key(|(_, tally)| std::cmp::Reverse(tally.bytes));
    let more = folders.len().saturating_sub(FOLDERS);
    let bars: Vec<Bar> = folders
        .into_iter()
        .take(FOLDERS)
        .map(|(name, tally)| Bar {
            name,
            value: tally.bytes,
            said: format!(
                "{}, {}",
                words::bytes(tally.bytes),
                words::count(tally.files, "file", "files")
            ),
            urgent: false,
        })
        .collect();
    let more = match more {
        0 => String::new(),
        more => format!(
            "<p>and {}</p>",
            words::count(more as u64, "smaller folder", "smaller folders")
        ),
    };
    let _ = write!(
        body,
        "<section><h2>Space by folder</h2>{}{more}</section>",
        page::drawing("Space by folder", &bars::svg("Space by folder", &bars))
    );
}

fn runs(body: &mut String, days: &[Day], runs: &[Run]) {
    if runs.is_empty() {
        return;
    }
    let _ = write!(
        body,
        "<section><h2>Runs of the last weeks</h2>{}</section><section><h2>The last runs</h2>",
        page::drawing("Runs of the last weeks", &days::svg(days))
    );
    let mut table = Table::new(&[
        ("run", Column::Number),
        ("lane", Column::Text),
        ("began", Column::Text),
        ("took", Column::Number),
        ("did", Column::Text),
        ("outcome", Column::Text),
    ]);
    for run in runs {
        table.row(&[
            run.number.to_string(),
            format!("{} {}", run.lane, run.command),
            time::dated(run.began),
            took(run),
            did(run),
            outcome(run),
        ]);
    }
    body.push_str(&table.end());
    body.push_str("</section>");
}

fn doctor(body: &mut String, checks: &[Check]) {
    body.push_str("<section><h2>Looked at by doctor</h2>");
    let mut table = Table::new(&[
        ("about", Column::Text),
        ("looked at", Column::Text),
        ("is", Column::Word),
        ("found", Column::Text),
    ]);
    for check in checks {
        let mend =
            (check.mend.as_ref()).map_or_else(String::new, |mend| format!("\nmend it: {mend}"));
        let word = if check.fine { "fine" } else { "wrong" };
        let cells = [
            check.about.clone(),
            check.asked.to_owned(),
            word.to_owned(),
            format!("{}{mend}", check.found),
        ];
        match check.fine {
            true => table.row(&cells),
            false => table.wrong_row(&cells),
        }
    }
    body.push_str(&table.end());
    body.push_str("</section>");
}
