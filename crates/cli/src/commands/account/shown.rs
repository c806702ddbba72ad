//! Whom a sign-in reached, drawn so that the wrong account is seen before it is filled.

use katabatic_core::words;
use katabatic_engine::accounts::reach::Step;
use katabatic_sides::certificate::Certificate;
use katabatic_sides::survey::{Survey, Top};
use serde_json::{Value, json};

use crate::draw::table::Rows;
use crate::draw::{Style, field, shown_text};

/// So many names at the top are shown.
const SHOWN: usize = 8;
/// In nanoseconds.
const MINUTE: u64 = 60_000_000_000;

/// Server, account, space and what lies at the top.
pub fn survey(style: Style, server: &str, survey: &Survey) {
    let software = survey.server.as_ref().map_or_else(String::new, |software| {
        format!(" ({})", shown_text(software))
    });
    field(style, "server", &format!("{server}{software}"));
    field(
        style,
        "account",
        &match &survey.principal {
            Some(principal) => principal.to_string(),
            None => "the server does not say whose it is; look at what lies at the top".into(),
        },
    );
    field(style, "space", &space(survey.used, survey.free));
    field(style, "at the top", &top(&survey.top));
    if survey.may_write == Some(false) {
        field(style, "rights", "at the top one may only read");
    }
    if let Some(ahead) = survey.clock_ahead
        && ahead.unsigned_abs() > MINUTE
    {
        field(style, "clock", &clock(ahead));
    }
}

/// How far a server's clock is off, and what that means.
fn clock(ahead: i64) -> String {
    let way = if ahead > 0 { "ahead of" } else { "behind" };
    let minutes = (ahead.unsigned_abs() + MINUTE / 2) / MINUTE;
    let length = match minutes {
        0..120 => words::count(minutes, "minute", "minutes"),
        120..1_400 => words::count((minutes + 30) / 60, "hour", "hours"),
        _ => words::count((minutes + 720) / 1_440, "day", "days"),
    };
    format!(
        "the server's is about {length} {way} this computer's; its dates are corrected by that. One of the two should be set right"
    )
}

/// Used and free bytes in words.
pub fn space(used: Option<u64>, free: Option<u64>) -> String {
    match (used, free) {
        (Some(used), Some(free)) => {
            format!("{} used, {} free", words::bytes(used), words::bytes(free))
        }
        (Some(used), None) => format!("{} used", words::bytes(used)),
        (None, Some(free)) => format!("{} free", words::bytes(free)),
        (None, None) => "the server does not say".into(),
    }
}

fn top(top: &[Top]) -> String {
    let folders: Vec<&Top> = top.iter().filter(|top| top.folder).collect();
    let files = top.len() - folders.len();
    let names = folders.iter().take(SHOWN).map(|top| {
        let mut notes = Vec::new();
        if let Some(owner) = &top.owner {
            notes.push(format!("of {owner}"));
        }
        if top.may_write == Some(false) {
            notes.push("read only".into());
        }
        let notes = if notes.is_empty() {
            String::new()
        } else {
            format!(" ({})", notes.join(", "))
        };
        format!("{}/{notes}", top.name)
    });
    let mut parts: Vec<String> = names.collect();
    if folders.len() > SHOWN {
        parts.push(format!("and {} more folders", folders.len() - SHOWN));
    }
    if files > 0 || parts.is_empty() {
        parts.push(words::count(files as u64, "file", "files"));
    }
    parts.join("  ")
}

/// The steps of reaching an account, each with its time.
pub fn steps(style: Style, steps: &[Step]) {
    let mut rows = Rows::bare(style, 4);
    for step in steps {
        let fine = if step.fine { "done" } else { "not possible" };
        rows.add(vec![
            step.name.to_owned(),
            milliseconds(step),
            fine.to_owned(),
            shown_text(&step.said),
        ]);
    }
    rows.numbers(1);
    rows.print(2);
}

fn milliseconds(step: &Step) -> String {
    let milliseconds = step.took.as_secs_f64() * 1e3;
    if milliseconds < 10.0 {
        format!("{milliseconds:.1} ms")
    } else {
        format!("{milliseconds:.0} ms")
    }
}

/// All of it as JSON.
pub fn as_json(survey: &Survey, steps: &[Step], certificate: Option<&Certificate>) -> Value {
    let top: Vec<Value> = survey
        .top
        .iter()
        .map(|top| {
            json!({
                "name": top.name, "folder": top.folder, "may_write": top.may_write, "owner": top.owner
            })
        })
        .collect();
    let steps: Vec<Value> = steps
        .iter()
        .map(|step| {
            json!({
                "name": step.name,
                "ms": step.took.as_secs_f64() * 1e3,
                "said": step.said,
                "fine": step.fine,
            })
        })
        .collect();
    json!({
        "server": survey.server,
        "principal": survey.principal.as_ref().map(|principal| &principal.href),
        "principal_name": survey.principal.as_ref().map(|principal| &principal.name),
        "used": survey.used,
        "free": survey.free,
        "may_write": survey.may_write,
        "top": top,
        "steps": steps,
        "certificate": certificate.map(|certificate| json!({
            "subject": certificate.subject,
            "issuer": certificate.issuer,
            "from": certificate.from,
            "until": certificate.until,
            "names": certificate.names,
            "sha256": certificate.pin(),
        })),
    })
}
