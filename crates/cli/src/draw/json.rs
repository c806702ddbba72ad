//! The one place that writes JSON, and the shapes that several commands share. docs/formats.md describes them.

use katabatic_core::{Decision, EditTime, Entry, Kind, Lies, Side, SideNames, Step, words};
use serde_json::{Value, json};

use super::time::rfc3339;

/// The form of the answers. It grows only where a key goes, or comes to mean something else.
const SCHEMA: u64 = 1;

/// Writes an answer, with the form it has.
pub fn print(value: &Value) {
    let mut value = value.clone();
    if let Some(answer) = value.as_object_mut() {
        answer.insert("schema".into(), json!(SCHEMA));
    }
    super::line(text(&value));
}

/// The text of it; what would act on a terminal is written as JSON writes any character (RFC 8259, section 7).
pub fn text(value: &Value) -> String {
    let text = value.to_string();
    if !text.chars().any(words::acts) {
        return text;
    }
    let written = |c: char| match words::acts(c) {
        true => format!("\\u{:04x}", u32::from(c)),
        false => c.to_string(),
    };
    text.chars().map(written).collect()
}

/// A time, or null.
pub fn time(at: Option<EditTime>) -> Value {
    at.map_or(Value::Null, |at| json!(rfc3339(at)))
}

/// What a side shows at a path, or null where nothing is.
pub fn entry(entry: Option<&Entry>) -> Value {
    let Some(entry) = entry else {
        return Value::Null;
    };
    let kind = match entry.kind {
        Kind::File => "file",
        Kind::Folder => "folder",
        Kind::Odd(_) => "other",
    };
    json!({"kind": kind, "size": entry.size, "edited": time(entry.edited), "received": time(entry.received)})
}

/// A step of a plan.
pub fn step(step: &Step, sides: SideNames) -> Value {
    json!({
        "path": step.path().as_str(),
        "action": katabatic_core::words::action(&step.decision),
        "from": match &step.decision {
            Decision::Move { from, .. } => Some(from.as_str()),
            _ => None,
        },
        "moved_to": match &step.decision {
            Decision::DropHere { moved_to } => Some(moved_to.as_str()),
            _ => None,
        },
        "reason": katabatic_core::words::reason(step, &super::time::telling(sides)),
        "near": entry(step.entry(Side::Near)),
        "far": entry(step.entry(Side::Far)),
    })
}

/// Where content lies.
pub fn lies(lies: Lies) -> &'static str {
    lies.word()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_acts_on_a_terminal_is_read_back_from_json() {
        let name = json!("gpj.\u{202e}exe\u{9b}\n");
        let written = text(&name);
        assert_eq!(written, r#""gpj.\u202eexe\u009b\n""#);
        assert_eq!(serde_json::from_str::<Value>(&written).unwrap(), name);
    }
}
