//! The answers in JSON stay as they are documented: a day's runs, spares, states and stories, held against files.
//!
//! `KATABATIC_GOLDEN=write` writes the files anew; what then changes in them is a change of what scripts read.

use std::fs;
use std::path::Path;

use crate::worlds::Desk;
use serde_json::{Map, Value};

/// Numbers and texts that no two days share.
const OF_THE_DAY: [&str; 10] = [
    "number", "free", "address", "etag", "inode", "took", "home", "version", "computer", "id",
];

/// What is the same on every computer and every day.
fn lasting(value: Value, desk: &str, key: &str) -> Value {
    match value {
        Value::Object(map) => {
            let each = |(key, value): (String, Value)| {
                let value = lasting(value, desk, &key);
                (key, value)
            };
            Value::Object(map.into_iter().map(each).collect::<Map<_, _>>())
        }
        Value::Array(values) => {
            let each = |value| lasting(value, desk, key);
            let mut values: Vec<Value> = values.into_iter().map(each).collect();
            if ["items", "spares"].contains(&key) {
                // Of several files at once, any may be first.
                values.sort_by_key(Value::to_string);
            }
            Value::Array(values)
        }
        Value::String(_) | Value::Number(_) if OF_THE_DAY.contains(&key) => "OF THE DAY".into(),
        Value::String(text) => without_times(&text.replace(desk, "DESK")).into(),
        Value::Null | Value::Bool(_) | Value::Number(_) => value,
    }
}

/// A text without the points in time that are in it.
fn without_times(text: &str) -> String {
    let is_time = |word: &str| {
        let digits = word.chars().filter(char::is_ascii_digit).count();
        let others = word
            .chars()
            .all(|c| c.is_ascii_digit() || "-:.TZ+".contains(c));
        digits >= 4 && others && (word.contains(':') || word.matches('-').count() >= 2)
    };
    let words: Vec<&str> = text.split(' ').collect();
    let told = words.iter().map(
        |word| match is_time(word.trim_matches(['(', ')', ',', ';'])) {
            true => "TIME",
            false => word,
        },
    );
    let told: Vec<&str> = told.collect();
    told.join(" ").replace("TIME TIME", "TIME")
}

fn check(desk: &Desk, name: &str, said: Value) {
    let file = Path::new(env!("CARGO_MANIFEST_DIR"))
        .join("tests/all/golden")
        .join(name)
        .with_extension("json");
    let here = desk
        .path("")
        .to_str()
        .unwrap()
        .trim_end_matches('/')
        .to_owned();
    let said = serde_json::to_string_pretty(&lasting(said, &here, "")).unwrap() + "\n";
    if std::env::var_os("KATABATIC_GOLDEN").is_some_and(|how| how == "write") {
        fs::create_dir_all(file.parent().unwrap()).unwrap();
        fs::write(&file, said).unwrap();
        return;
    }
    let known = fs::read_to_string(&file).unwrap();
    assert_eq!(known, said, "{}", file.display());
}

/// A day with one of everything that a run notes.
fn lived() -> Desk {
    let desk = Desk::tied(&[]);
    for (at, content) in [
        ("carried.txt", "carried up"),
        ("edited.txt", "the first version"),
        ("removed.txt", "to be removed"),
        ("both.txt", "agreed on"),
        ("shed.txt", "dropped to a stub"),
        ("Old/a.txt", "in a folder"),
        ("Old/deep/b.txt", "deeper"),
        ("Skipped/c.txt", "not taken later"),
        ("sweep.tmp", "caught later"),
        (
            "moved.txt",
            "gets another name, and is long enough to be told from others",
        ),
    ] {
        desk.write_near(at, content);
    }
    desk.run(&["sync"]).ends(0);
    desk.write_far("edited.txt", "another version");
    desk.write_far("new there.txt", "carried down");
    fs::remove_file(desk.near().join("removed.txt")).unwrap();
    fs::remove_dir_all(desk.near().join("Old")).unwrap();
    fs::rename(
        desk.near().join("moved.txt"),
        desk.near().join("renamed.txt"),
    )
    .unwrap();
    desk.write_near("both.txt", "changed here");
    desk.write_far("both.txt", "changed there too");
    desk.run(&["sync"]).ends(3);
    desk.run(&["undo", "2", "--yes"]).ends(0);
    desk.run(&["settle", "near/both.txt", "--keep", "near"])
        .ends(0);
    desk.run(&["shed", "scores", "--only", "shed.txt"]).ends(0);
    desk.run(&["choose", "scores", "--skip", "Skipped", "--yes"])
        .ends(0);
    desk.run(&["lane", "change", "scores", "--leave-out", "*.tmp", "--yes"])
        .ends(0);
    desk.run(&["lane", "sweep", "scores", "--yes"]).ends(0);
    desk.run(&["fetch", "scores", "--only", "shed.txt"]).ends(0);
    desk.run(&["copy", "near/carried.txt", "near/copied.txt"])
        .ends(0);
    desk.run(&["move", "near/copied.txt", "near/by hand.txt"])
        .ends(0);
    desk.run(&["copy", "near/carried.txt", "near/by hand.txt", "--replace"])
        .ends(0);
    desk.run(&["remove", "near/by hand.txt"]).ends(0);
    desk
}

#[test]
fn answers_in_json_stay_as_they_are() {
    let desk = lived();
    let answer = |arguments: &[&str]| desk.run(&[arguments, &["--json"]].concat()).json();
    check(&desk, "runs", answer(&["runs"]));
    let numbers = answer(&["runs"]);
    let numbers = numbers["runs"].as_array().unwrap().iter();
    for number in numbers.map(|run| run["number"].to_string()) {
        check(&desk, &format!("run-{number}"), answer(&["runs", &number]));
    }
    check(&desk, "spares", answer(&["spares", "list"]));
    check(&desk, "status", answer(&["status"]));
    let mut plan = answer(&["plan", "scores"]);
    let steps = plan["plans"][0]["steps"].as_array_mut().unwrap();
    // How many stamps are looked at once more depends on how fast the day went by.
    steps.retain(|step| step["action"] != "record");
    check(&desk, "plan", plan);
    check(&desk, "audit", answer(&["audit", "scores"]));
    check(&desk, "conflicts", answer(&["conflicts"]));
    for path in [
        "both.txt",
        "shed.txt",
        "removed.txt",
        "Skipped/c.txt",
        "Old/a.txt",
    ] {
        let name = format!("why-{}", path.replace(['/', '.'], "-"));
        check(&desk, &name, answer(&["why", &format!("near/{path}")]));
    }
}

/// A name may bring a line break, which is printed as an escape; a line break of the program's own is none.
#[test]
fn each_line_is_a_line_of_its_own() {
    let desk = lived();
    desk.write_near("both.txt", "changed here once more");
    desk.write_far("both.txt", "and there once more");
    let told = |arguments: &[&str]| {
        let mut command = desk.command(arguments);
        command.env("COLUMNS", "60");
        let said = command.output().unwrap();
        for text in [said.stdout, said.stderr] {
            let text = String::from_utf8(text).unwrap();
            assert!(!text.contains("\\n"), "{arguments:?}: {text}");
        }
    };
    let looks: [&[&str]; 26] = [
        &["plan"],
        &["sync"],
        &["status"],
        &["status", "--all"],
        &["status", "--tree"],
        &["status", "near/both.txt"],
        &["why", "near/both.txt"],
        &["why", "near/shed.txt"],
        &["conflicts"],
        &["audit", "scores"],
        &["runs"],
        &["runs", "2"],
        &["runs", "--plot"],
        &["spares", "list"],
        &["room"],
        &["cover"],
        &["doctor"],
        &["choose", "scores"],
        &["lane", "list"],
        &["lane", "show", "scores"],
        &["account", "list"],
        &["account", "show", "office"],
        &["account", "test", "office"],
        &["agent", "status"],
        &["sizes", "near"],
        &["list", "near"],
    ];
    for arguments in looks {
        told(arguments);
    }
}
