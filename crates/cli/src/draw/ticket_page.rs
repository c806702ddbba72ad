//! The page to keep with a ticket: where all lanes stand, what is wrong, what ran, how all is set, with pictures.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use katabatic_core::{Agreement, EditTime, Side, Tally, words};
use katabatic_engine::doctor::Check;
use katabatic_engine::standing::{LaneStanding, Standing};
use katabatic_ledger::runs::Run;

use super::bars::{self, Bar};
use super::days::{self, Day};
use super::{page, shown, time};
use crate::draw::run_words::{did, outcome, took};
use crate::draw::urgency::urgency;

/// A lane as it stands now.
pub struct LaneNow {
    /// Its name.
    pub name: String,
    /// Its two places.
    pub places: String,
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
    let (class, said) = match said.is_empty() {
        true => (
            "good",
            "Nothing needs a person, and nothing is to be mended.".to_owned(),
        ),
        false => ("bad", format!("{}.", said.join("; "))),
    };
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
    body.push_str("<table><thead><tr><th>lane</th><th>between</th><th class=\"n\">settled</th><th>else</th><th>seen</th></tr></thead><tbody>");
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
                    seen(standing),
                )
            }
            Err(why) => ("not known".to_owned(), why.clone(), String::new()),
        };
        let _ = write!(
            body,
            "<tr><td class=\"w\">{}</td><td>{}</td><td class=\"n\">{}</td><td>{}</td><td class=\"w\">{}</td></tr>",
            page::text(&lane.name),
            page::text(&lane.places),
            page::text(&settled),
            page::text(&other),
            seen
        );
    }
    body.push_str("</tbody></table></section>");
}

/// When each side was looked at, with dates: the page is read on another day.
fn seen(standing: &LaneStanding) -> String {
    let dated = |at: Option<EditTime>| at.map_or_else(|| "never yet".to_owned(), time::dated);
    format!(
        "here {}<br>there {}",
        dated(standing.near_seen),
        dated(standing.far_seen)
    )
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
        bars::svg("Files by state", &bars)
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
        "<section><h2>Lane {}: what is not settled</h2><table><thead><tr><th>state</th><th>path</th><th>why</th></tr></thead><tbody>",
        page::text(&lane.name)
    );
    for one in open.iter().take(NAMED) {
        let _ = write!(
            body,
            "<tr><td>{}</td><td>{}</td><td>{}</td></tr>",
            one.state.agreement.word(),
            page::text(&shown(one.step.path())),
            page::text(&one.reason)
        );
    }
    body.push_str("</tbody></table>");
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
        bars::svg("Space by folder", &bars)
    );
}

fn runs(body: &mut String, days: &[Day], runs: &[Run]) {
    if runs.is_empty() {
        return;
    }
    let _ = write!(
        body,
        "<section><h2>Runs of the last weeks</h2>{}</section><section><h2>The last runs</h2><table><thead><tr><th class=\"n\">run</th><th>lane</th><th>began</th><th class=\"n\">took</th><th>did</th><th>outcome</th></tr></thead><tbody>",
        days::svg(days)
    );
    for run in runs {
        let _ = write!(
            body,
            "<tr><td class=\"n\">{}</td><td>{} {}</td><td>{}</td><td class=\"n\">{}</td><td>{}</td><td>{}</td></tr>",
            run.number,
            page::text(&run.lane),
            page::text(&run.command.to_string()),
            time::dated(run.began),
            took(run),
            page::text(&did(run)),
            page::text(&outcome(run))
        );
    }
    body.push_str("</tbody></table></section>");
}

fn doctor(body: &mut String, checks: &[Check]) {
    body.push_str("<section><h2>Looked at by doctor</h2><table><tbody>");
    for check in checks {
        let mend = check.mend.as_ref().map_or_else(String::new, |mend| {
            format!("<br>mend it: {}", page::text(mend))
        });
        let _ = write!(
            body,
            "<tr><td>{}</td><td>{}</td><td>{}</td><td>{}{mend}</td></tr>",
            page::text(&check.about),
            page::text(check.asked),
            if check.fine {
                "fine"
            } else {
                "<strong>wrong</strong>"
            },
            page::text(&check.found)
        );
    }
    body.push_str("</tbody></table></section>");
}
