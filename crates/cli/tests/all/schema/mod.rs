//! docs/answers.schema.json, which says what every answer in JSON holds: each answer of the whole suite is compared with it.
//!
//! A key that stands nowhere in it, or a value of another type, fails the test that got it. With `KATABATIC_SCHEMA=learn` it
//! is widened by what comes back instead; what it says then is for a person to read before it is kept.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use serde_json::{Map, Value, json};

/// Objects whose keys are names that people gave, or states, and no part of the form.
const MAPS: [&str; 5] = ["counts", "facts", "folders", "lies", "left_out_by"];

/// Keys that may be null wherever they stand: what is not known, and what has not happened.
const MAY_BE_NULL: [&str; 22] = [
    "at",
    "began",
    "day",
    "edited",
    "ended",
    "far_seen",
    "found",
    "free",
    "last",
    "last_pass",
    "left",
    "near_seen",
    "next",
    "paused_until",
    "reached",
    "received",
    "run",
    "seconds",
    "size",
    "taken",
    "used",
    "why",
];

/// Commands whose second word names what they do.
const IN_TWO_WORDS: [&str; 6] = ["account", "agent", "lane", "opener", "spares", "standin"];

/// Global options that take a value.
const WITH_VALUE: [&str; 5] = ["--color", "--for", "--home", "--log", "--progress"];

static ONE_AT_A_TIME: Mutex<()> = Mutex::new(());

fn file() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/answers.schema.json")
}

/// The command of these arguments, such as `lane add`.
fn command(arguments: &[&str]) -> Option<String> {
    let mut words = arguments.iter();
    let first = loop {
        let word = words.next()?;
        if WITH_VALUE.contains(word) {
            words.next();
        } else if !word.starts_with('-') {
            break *word;
        }
    };
    let second = words.find(|word| !word.starts_with('-'));
    Some(match second {
        Some(second) if IN_TWO_WORDS.contains(&first) => format!("{first} {second}"),
        _ => first.to_owned(),
    })
}

/// Compares what a command answered with the schema.
#[track_caller]
pub fn check(arguments: &[&str], out: &str) {
    if !arguments.contains(&"--json") || arguments.contains(&"--") {
        return;
    }
    let (Ok(answer), Some(command)) = (serde_json::from_str::<Value>(out), command(arguments))
    else {
        return;
    };
    let name = match answer.get("error") {
        Some(_) if answer.get("lanes").is_none() => "failure".to_owned(),
        _ => command,
    };
    if std::env::var_os("KATABATIC_SCHEMA").is_some_and(|how| how == "learn") {
        return learn(&name, &answer);
    }
    let schema: Value = serde_json::from_str(&fs::read_to_string(file()).unwrap()).unwrap();
    let known = schema["$defs"].get(&name).unwrap_or_else(|| {
        panic!("docs/answers.schema.json says nothing of {name}: {answer}");
    });
    let mut wrong = Vec::new();
    compare(known, &answer, &name, &mut wrong);
    assert!(wrong.is_empty(), "{wrong:#?}\nin {answer}");
}

fn type_of(value: &Value) -> &'static str {
    match value {
        Value::Null => "null",
        Value::Bool(_) => "boolean",
        Value::Number(number) if number.is_f64() => "number",
        Value::Number(_) => "integer",
        Value::String(_) => "string",
        Value::Array(_) => "array",
        Value::Object(_) => "object",
    }
}

fn compare(schema: &Value, value: &Value, at: &str, wrong: &mut Vec<String>) {
    let is = type_of(value);
    let may_be = types(schema);
    // A number may turn out to be whole, null stands for what is not known, and where nothing is said, anything may stand.
    let fits = is == "null"
        || may_be.is_empty()
        || may_be.contains(is)
        || (is == "integer" && may_be.contains("number"));
    if !fits {
        return wrong.push(format!("{at}: {is}, where {may_be:?} is said"));
    }
    match value {
        Value::Array(items) => {
            for item in items {
                compare(&schema["items"], item, &format!("{at}[]"), wrong);
            }
        }
        Value::Object(members) => {
            for (key, member) in members {
                let at = format!("{at}.{key}");
                match (
                    schema["properties"].get(key),
                    &schema["additionalProperties"],
                ) {
                    (Some(known), _) | (None, known @ Value::Object(_)) => {
                        compare(known, member, &at, wrong);
                    }
                    (None, _) => wrong.push(format!("{at}: nothing is said of it")),
                }
            }
            for key in schema["required"].as_array().into_iter().flatten() {
                if !members.contains_key(key.as_str().unwrap()) {
                    wrong.push(format!("{at}.{}: it is missing", key.as_str().unwrap()));
                }
            }
        }
        Value::Null | Value::Bool(_) | Value::Number(_) | Value::String(_) => {}
    }
}

fn types(schema: &Value) -> BTreeSet<&str> {
    match &schema["type"] {
        Value::String(one) => BTreeSet::from([one.as_str()]),
        Value::Array(several) => several.iter().filter_map(Value::as_str).collect(),
        _ => BTreeSet::new(),
    }
}

/// Widens what is said of a command by an answer.
fn learn(name: &str, answer: &Value) {
    let _one = ONE_AT_A_TIME.lock().unwrap_or_else(PoisonError::into_inner);
    let text = fs::read_to_string(file()).unwrap_or_default();
    let mut schema: Value = serde_json::from_str(&text).unwrap_or_else(|_| {
        json!({
            "$schema": "https://json-schema.org/draft/2020-12/schema",
            "title": "What katabatic answers with --json, by command",
            "description": "Each member of $defs is what a command prints; `failure` is what any of them prints where it fails. docs/formats.md says what the keys mean.",
            "$defs": {},
        })
    });
    let known = schema["$defs"].get(name).cloned().map(|mut known| {
        each_part(&mut known, &|part| {
            if *part == json!({}) {
                *part = json!({"type": ["null"]});
            }
        });
        known
    });
    let learned = of(answer, "");
    let mut widened = match known {
        None => learned,
        Some(known) => merged(&known, &learned),
    };
    // Of what was never anything, nothing is said.
    each_part(&mut widened, &|part| {
        if *part == json!({"type": ["null"]}) {
            *part = json!({});
        }
    });
    schema["$defs"][name] = widened;
    fs::write(
        file(),
        serde_json::to_string_pretty(&schema).unwrap() + "\n",
    )
    .unwrap();
}

/// Does something to each part of a schema that is one itself, the deeper ones first.
fn each_part(schema: &mut Value, act: &dyn Fn(&mut Value)) {
    if let Some(properties) = schema.get_mut("properties").and_then(Value::as_object_mut) {
        properties
            .values_mut()
            .for_each(|part| each_part(part, act));
    }
    for key in ["items", "additionalProperties"] {
        if let Some(part) = schema.get_mut(key).filter(|part| part.is_object()) {
            each_part(part, act);
        }
    }
    act(schema);
}

/// What can be said of a value that stands at this key.
fn of(value: &Value, key: &str) -> Value {
    let mut schema = match type_of(value) {
        // What it is where it is something is not seen here.
        "null" => json!({"type": ["null"]}),
        is if MAY_BE_NULL.contains(&key) => json!({"type": ["null", is]}),
        is => json!({"type": is}),
    };
    match value {
        Value::Array(items) => {
            let items = items.iter().map(|item| of(item, ""));
            if let Some(items) = items.reduce(|one, other| merged(&one, &other)) {
                schema["items"] = items;
            }
        }
        Value::Object(members) if MAPS.contains(&key) => {
            let members = members.values().map(|member| of(member, ""));
            schema["additionalProperties"] = members
                .reduce(|one, other| merged(&one, &other))
                .unwrap_or_else(|| json!({}));
        }
        Value::Object(members) => {
            let properties: Map<String, Value> = members
                .iter()
                .map(|(key, member)| (key.clone(), of(member, key)))
                .collect();
            schema["required"] = properties.keys().cloned().collect();
            schema["properties"] = Value::Object(properties);
            schema["additionalProperties"] = json!(false);
        }
        Value::Null | Value::Bool(_) | Value::Number(_) | Value::String(_) => {}
    }
    schema
}

/// What fits both.
fn merged(one: &Value, other: &Value) -> Value {
    let types: BTreeSet<&str> = types(one).union(&types(other)).copied().collect();
    let types: Vec<&str> = types
        .iter()
        .copied()
        .filter(|is| *is != "integer" || !types.contains("number"))
        .collect();
    let mut schema = match types[..] {
        [] => json!({}),
        ["null"] => json!({"type": ["null"]}),
        [only] => json!({"type": only}),
        _ => json!({"type": types}),
    };
    let both = |key: &str| match (one.get(key), other.get(key)) {
        (Some(one), Some(other)) if one.is_object() && other.is_object() => {
            Some(merged(one, other))
        }
        (Some(one), _) => Some(one.clone()),
        (None, other) => other.cloned(),
    };
    for key in ["items", "additionalProperties"] {
        if let Some(known) = both(key) {
            schema[key] = known;
        }
    }
    let members = |schema: &Value| {
        schema["properties"]
            .as_object()
            .cloned()
            .unwrap_or_default()
    };
    let (mine, theirs) = (members(one), members(other));
    if one.get("properties").is_some() || other.get("properties").is_some() {
        let mut all = mine.clone();
        for (key, known) in &theirs {
            let known = match mine.get(key) {
                None => known.clone(),
                Some(mine) => merged(mine, known),
            };
            all.insert(key.clone(), known);
        }
        schema["properties"] = Value::Object(all);
        let required = |schema: &Value| -> Option<BTreeSet<String>> {
            let keys = schema.get("required")?.as_array()?.iter();
            Some(
                keys.filter_map(|key| Some(key.as_str()?.to_owned()))
                    .collect(),
            )
        };
        let required = match (required(one), required(other)) {
            (Some(one), Some(other)) => one.intersection(&other).cloned().collect(),
            (Some(only), None) | (None, Some(only)) => only,
            (None, None) => BTreeSet::new(),
        };
        schema["required"] = required.into_iter().collect();
    }
    schema
}

#[test]
fn what_is_said_nowhere_is_found() {
    let known = merged(
        &of(
            &json!({"lanes": [{"lane": "scores", "run": null, "counts": {"settled": 1}}]}),
            "",
        ),
        &of(
            &json!({"lanes": [{"lane": "scores", "run": 3, "more": true}]}),
            "",
        ),
    );
    let wrong = |answer: Value| {
        let mut wrong = Vec::new();
        compare(&known, &answer, "it", &mut wrong);
        wrong
    };
    assert!(wrong(json!({"lanes": []})).is_empty());
    assert!(wrong(json!({"lanes": [{"lane": "a", "run": 1, "counts": {"any": 2}}]})).is_empty());
    for odd in [
        json!({"lanes": [{"lane": "a", "run": "one"}]}),
        json!({"lanes": [{"lane": "a", "run": 1, "new": 2}]}),
        json!({"lanes": [{"run": 1}]}),
        json!({"lanes": [{"lane": "a", "run": 1, "counts": {"any": "two"}}]}),
        json!({}),
        json!([]),
    ] {
        assert!(!wrong(odd.clone()).is_empty(), "{odd}");
    }
    assert_eq!(
        command(&["-q", "--home", "x", "lane", "--json", "add"]),
        Some("lane add".into())
    );
    assert_eq!(
        command(&["status", "scores", "--json"]),
        Some("status".into())
    );
}
