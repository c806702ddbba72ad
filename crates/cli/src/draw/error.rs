//! Errors: what failed and on which thing, why, what to do next.

use katabatic_engine::Error;
use serde_json::json;

use crate::exit;

/// Writes an error where errors go.
pub fn error(error: &Error, as_json: bool) {
    if as_json {
        crate::draw::line(
            json!({"error": {
                "what": error.what, "why": error.why, "next": error.next, "exit": exit::number(error.class)
            }})
            .to_string(),
        );
        return;
    }
    eprintln!("katabatic: {}", super::shown_text(&error.what));
    eprintln!("  why   {}", super::shown_text(&error.why));
    if !error.next.is_empty() {
        eprintln!("  next  {}", super::shown_text(&error.next));
    }
}
