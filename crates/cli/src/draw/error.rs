//! Errors: what failed and on which thing, why, what to do next.

use katabatic_engine::Error;
use serde_json::{Value, json};

use crate::exit;

/// An error in JSON.
pub fn described(error: &Error) -> Value {
    let mut answer = json!({
        "what": error.what, "why": error.why, "next": error.next, "exit": exit::number(error.class)
    });
    if !error.details.is_empty() {
        answer["details"] = json!(error.details);
    }
    for (name, fact) in &error.facts {
        answer["facts"][*name] = json!(fact);
    }
    answer
}

/// Writes an error where errors go.
pub fn error(error: &Error, as_json: bool) {
    if as_json {
        super::json::print(&json!({"error": described(error)}));
        return;
    }
    let width = console::Term::stderr()
        .size_checked()
        .map_or(usize::MAX, |(_, width)| usize::from(width));
    let say = |first: &str, rest: &str, text: &str| {
        let room = width.saturating_sub(first.len()).max(30);
        for (at, part) in super::wrapped(&super::shown_text(text), room)
            .iter()
            .enumerate()
        {
            super::say(format!("{}{part}", if at == 0 { first } else { rest }));
        }
    };
    say("katabatic: ", "  ", &error.what);
    say("  why   ", "        ", &error.why);
    for detail in &error.details {
        super::say(format!("        {detail}"));
    }
    for (name, fact) in &error.facts {
        say(&format!("        {name:<9}"), "                 ", fact);
    }
    if !error.next.is_empty() {
        say("  next  ", "        ", &error.next);
    }
}
