//! An audit as a file to keep with the ticket: a page to print, a table for a spreadsheet, or JSON.

use std::fmt::Write as _;
use std::path::Path;

use katabatic_core::{EditTime, Kind, words};
use katabatic_engine::Error;
use katabatic_engine::audit::{Audit, Counted};
use katabatic_engine::config::LaneConfig;
use serde_json::json;

use super::new_file;
use super::page::{self, Column, Table};
use super::time;
use crate::draw::audit_words::{also_words, audit_json, how_words, verdict_told, verdict_words};

const KINDS: [&str; 3] = ["html", "csv", "json"];

/// Makes sure, before anything is read, that a report can be written there.
pub fn check(to: &Path) -> Result<(), Error> {
    new_file::check(to, &KINDS)
}

/// Writes it.
pub fn write(to: &Path, audits: &[(LaneConfig, Audit)]) -> Result<(), Error> {
    let text = match new_file::kind_of(to, &KINDS) {
        Some("csv") => csv(audits),
        Some("json") => {
            let audits: Vec<_> = audits
                .iter()
                .map(|(lane, audit)| audit_json(lane, audit))
                .collect();
            format!("{:#}\n", json!({"audits": audits}))
        }
        _ => html(audits),
    };
    new_file::write(to, &text, "The audit itself is done.")
}

/// A field of RFC 4180; what a spreadsheet would take for a formula is marked as text.
fn field(text: &str) -> String {
    let formula = text.starts_with(['=', '+', '-', '@', '\t', '\r']);
    let text = if formula {
        format!("'{text}")
    } else {
        text.to_owned()
    };
    if text.contains(['"', ',', '\n', '\r']) {
        return format!("\"{}\"", text.replace('"', "\"\""));
    }
    text
}

fn csv(audits: &[(LaneConfig, Audit)]) -> String {
    let mut out =
        String::from("lane,what,path,bytes here,bytes there,edited here,edited there,reason\r\n");
    let edited = |at: Option<EditTime>| at.map_or_else(String::new, time::rfc3339);
    for (lane, audit) in audits {
        let mut row = |cells: [&str; 8]| {
            let cells: Vec<String> = cells.iter().map(|cell| field(cell)).collect();
            out.push_str(&cells.join(","));
            out.push_str("\r\n");
        };
        let total = audit.total();
        row([
            &lane.name,
            if audit.all_equal() {
                "all equal"
            } else {
                "not equal"
            },
            "",
            &total.near.bytes.to_string(),
            &total.far.bytes.to_string(),
            "",
            "",
            &format!(
                "{} equal; {}",
                words::count(total.equal, "file", "files"),
                how_words(audit)
            ),
        ]);
        for finding in &audit.findings {
            let size = |entry: &Option<katabatic_core::Entry>| {
                entry
                    .as_ref()
                    .map_or_else(String::new, |entry| entry.size.to_string())
            };
            row([
                &lane.name,
                finding.verdict.word(),
                finding.path.as_str(),
                &size(&finding.near),
                &size(&finding.far),
                &edited(finding.near.as_ref().and_then(|entry| entry.edited)),
                &edited(finding.far.as_ref().and_then(|entry| entry.edited)),
                &finding.why,
            ]);
        }
    }
    out
}

fn html(audits: &[(LaneConfig, Audit)]) -> String {
    let mut body = String::new();
    for (lane, audit) in audits {
        let good = audit.all_equal();
        let _ = write!(
            body,
            "<section><h2>Lane {}</h2><p class=\"places\">{} and {}</p><p class=\"{}\">{}</p><p>{}</p>",
            page::text(&lane.name),
            page::text(&lane.near.to_string()),
            page::text(&lane.far_place().to_string()),
            if good { "good" } else { "bad" },
            page::text(&verdict_words(lane, audit)),
            page::text(&how_words(audit)),
        );
        let mut table = Table::new(&[
            ("folder", Column::Text),
            ("files near", Column::Number),
            ("files far", Column::Number),
            ("bytes near", Column::Number),
            ("bytes far", Column::Number),
            ("equal", Column::Number),
        ]);
        for (folder, counted) in &audit.folders {
            let name = match folder.is_empty() {
                true => "(in no folder)".to_owned(),
                false => format!("{folder}/"),
            };
            row(&mut table, &name, counted);
        }
        table.sums();
        row(&mut table, "in all", &audit.total());
        body.push_str(&table.end());
        page::list(&mut body, &also_words(audit));
        if !audit.findings.is_empty() {
            let mut table = Table::new(&[
                ("what", Column::Text),
                ("path", Column::Text),
                ("near", Column::Number),
                ("far", Column::Number),
                ("reason", Column::Text),
            ]);
            for finding in &audit.findings {
                let size = |entry: &Option<katabatic_core::Entry>| {
                    entry
                        .as_ref()
                        .map_or_else(|| "-".to_owned(), |entry| words::bytes(entry.size))
                };
                let shows = finding.near.as_ref().or(finding.far.as_ref());
                let folder = shows.is_some_and(|entry| entry.kind == Kind::Folder);
                table.row(&[
                    verdict_told(finding.verdict, lane.side_names()),
                    format!("{}{}", finding.path, if folder { "/" } else { "" }),
                    size(&finding.near),
                    size(&finding.far),
                    finding.why.clone(),
                ]);
            }
            body.push_str(&table.end());
        }
        body.push_str("</section>");
    }
    page::whole("Audit: do both sides hold the same?", &body)
}

fn row(table: &mut Table, name: &str, counted: &Counted) {
    table.row(&[
        name.to_owned(),
        words::grouped(counted.near.files),
        words::grouped(counted.far.files),
        words::bytes(counted.near.bytes),
        words::bytes(counted.far.bytes),
        words::grouped(counted.equal),
    ]);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_is_no_formula_and_no_second_cell() {
        assert_eq!(field("plain"), "plain");
        assert_eq!(field("a,b"), "\"a,b\"");
        assert_eq!(field("say \"no\""), "\"say \"\"no\"\"\"");
        assert_eq!(field("=1+1"), "'=1+1");
    }
}
