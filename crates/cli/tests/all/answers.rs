//! What comes back from each command: JSON that programs can rely on, lines that fit, words that are plain.

use std::fs;

use crate::worlds::{Desk, tree};
use serde_json::{Value, json};

/// The keys of an object, sorted.
fn keys(value: &Value) -> Vec<&str> {
    let mut keys: Vec<&str> = value
        .as_object()
        .unwrap()
        .keys()
        .map(String::as_str)
        .collect();
    keys.sort_unstable();
    keys
}

/// A lane with one of everything: settled, waiting both ways, a conflict, something stuck, something left out.
fn busy() -> Desk {
    let mut desk = Desk::tied(&[]);
    for at in [
        "settled.txt",
        "here.txt",
        "both.txt",
        "Past seasons/closed.txt",
        "A folder with a long name/and a long file name.txt",
    ] {
        desk.write_near(at, "first\n");
    }
    desk.run(&["sync"]).ends(0);
    desk.write_near("both.txt", "changed here\n");
    desk.write_far("both.txt", "changed there, longer\n");
    std::os::unix::fs::symlink("settled.txt", desk.near().join("a link")).unwrap();
    desk.serve_again(&["unreadable=Scores/Past seasons"]);
    desk.run(&["sync"]).ends(3);
    desk.write_near("here.txt", "changed here\n");
    desk.write_near(
        "A folder with a long name/and another one with a very long file name.txt",
        "new\n",
    );
    desk
}

#[test]
fn accounts_and_lanes_in_json() {
    let desk = Desk::bare(&[]);
    let add = desk
        .run(&[
            "account",
            "add",
            "office",
            "--address",
            &desk.address,
            "--user",
            "librarian",
            "--password-file",
            "password",
            "--json",
        ])
        .ends(0)
        .json();
    let account = json!({
        "name": "office", "address": desk.address, "user": "librarian", "sign_in": "basic", "secrets": "file",
        "principal": "/.standin/principals/librarian/", "principal_name": "librarian", "read_only": false,
        "plain_http": false, "trust": "system", "proxy": null
    });
    assert_eq!(add["account"], account);
    assert_eq!(
        keys(&add["reached"]),
        [
            "certificate",
            "free",
            "may_write",
            "principal",
            "principal_name",
            "server",
            "steps",
            "top",
            "used"
        ]
    );
    assert_eq!(
        add["reached"]["top"],
        json!([{"name": "Scores", "folder": true, "may_write": true, "owner": null}])
    );
    let listed = desk.run(&["account", "list", "--json"]).json()["accounts"][0].clone();
    for (key, value) in account.as_object().unwrap() {
        assert_eq!(&listed[key], value, "{key}");
    }
    assert_eq!(
        (&listed["lanes"], &listed["error"]),
        (&json!([]), &Value::Null)
    );
    assert!(
        listed["reached"].is_string() && listed["used"] == 0,
        "{listed}"
    );
    assert_eq!(
        desk.run(&["account", "show", "office", "--json"]).json()["account"],
        listed
    );
    desk.write_near("a.txt", "12345");
    let add = [
        "lane",
        "add",
        "scores",
        "--near",
        "near",
        "--far",
        "@office/Scores",
        "--json",
    ];
    let lane = desk.run(&add).ends(0).json();
    assert_eq!(lane["first_pass"]["up"], json!({"files": 1, "bytes": 5}));
    let described = json!({
        "name": "scores", "near": desk.near().to_str().unwrap(), "far": "@office/Scores", "direction": "two-way",
        "removals": "carry", "drift": "leave", "updates": "replace", "skip": [], "take": [], "new_folders": "take",
        "leave_out": katabatic_core::rules::USUAL, "names": "any", "by_name_only": false,
        "brake": {"percent": 25, "always_fine": 10, "never_fine": 1000}, "limit_up": null, "limit_down": null, "transfers": 8, "only_on": [], "proof": "content", "tell_unsettled_hours": null,
        "when": ["on change"], "quiet_seconds": 2, "contents": "all", "stubs_in": [], "all_in": [], "hold": [], "max_local": null, "leave_free": null
    });
    assert_eq!(lane["lane"], described);
    assert_eq!(
        desk.run(&["lane", "list", "--json"]).json(),
        json!({"lanes": [described]})
    );
    let shown = desk.run(&["lane", "show", "scores", "--json"]).json();
    assert_eq!(
        (&shown["lane"]["passes"], &shown["lane"]["last_pass"]),
        (&json!(0), &Value::Null)
    );
    let error = desk.run(&["lane", "show", "nope", "--json"]).ends(2).json();
    assert_eq!(keys(&error["error"]), ["exit", "next", "what", "why"]);
    assert_eq!(
        desk.run(&["lane", "remove", "scores", "--json"]).json(),
        json!({"removed": "scores", "stubs_dropped": 0})
    );
    assert_eq!(
        desk.run(&["account", "remove", "office", "--json"]).json(),
        json!({"removed": "office", "lanes": []})
    );
}

#[test]
fn passes_in_json() {
    let desk = busy();
    let plan = &desk.run(&["plan", "--json"]).ends(0).json()["plans"][0];
    assert_eq!(
        keys(plan),
        [
            "brake", "forecast", "id", "lane", "settled", "steps", "totals", "unusable"
        ]
    );
    assert_eq!(
        keys(&plan["brake"]),
        ["last_day", "removed", "replaced", "stops", "why"]
    );
    let step = |path: &str| {
        plan["steps"]
            .as_array()
            .unwrap()
            .iter()
            .find(|step| step["path"] == path)
            .unwrap()
    };
    assert_eq!(step("here.txt")["action"], "replace there");
    assert_eq!(step("both.txt")["action"], "conflict");
    assert_eq!(step("Past seasons/closed.txt")["action"], "hold");
    assert_eq!(step("a link")["near"]["kind"], "other");
    assert_eq!(
        keys(&step("here.txt")["near"]),
        ["edited", "kind", "received", "size"]
    );
    assert_eq!(
        (&plan["totals"]["conflicts"], &plan["totals"]["stuck"]),
        (&json!(1), &json!(2))
    );

    let sync = &desk.run(&["sync", "--json"]).ends(3).json()["lanes"][0];
    assert_eq!(sync["up"]["files"], 2);
    assert_eq!(
        (&sync["conflicts"], &sync["stuck"], &sync["left_out"]),
        (&json!(1), &json!(2), &json!(1))
    );
    assert_eq!(sync["stopped"], false);
    let runs = desk.run(&["runs", "--json"]).ends(0).json();
    assert_eq!(runs["runs"][0]["number"], sync["run"]);
    let run = desk
        .run(&["runs", &sync["run"].to_string(), "--json"])
        .ends(0)
        .json();
    let items = run["run"]["items"].as_array().unwrap();
    let is_here = |item: &&Value| item["path"] == "here.txt" && item["result"] == "done";
    let here = items.iter().find(is_here).unwrap();
    let reason = here["reason"].as_str().unwrap();
    assert!(reason.starts_with("changed on this computer"), "{here}");
    let run = &run["run"];
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    let at = text(&here["at"]);
    assert!(
        text(&run["began"]) <= at && at <= text(&run["ended"]),
        "{run}"
    );
    desk.run(&["runs", "999"])
        .ends(2)
        .says("none of that number");
}

#[test]
fn states_and_conflicts_in_json() {
    let desk = busy();
    let status = &desk.run(&["status", "--json"]).ends(3).json()["lanes"][0];
    let state = |path: &str| {
        let file = status["files"]
            .as_array()
            .unwrap()
            .iter()
            .find(|file| file["path"] == path);
        file.unwrap_or_else(|| panic!("{path}"))["state"].clone()
    };
    assert_eq!(state("here.txt"), "waiting up");
    assert_eq!(state("both.txt"), "conflict");
    assert_eq!(state("Past seasons/closed.txt"), "stuck");
    assert_eq!(
        state("Past seasons"),
        "stuck",
        "the folder that could not be listed is named itself"
    );
    assert_eq!(state("a link"), "left out");
    assert_eq!(status["counts"]["settled"], 2);
    assert!(
        status["files"]
            .as_array()
            .unwrap()
            .iter()
            .all(|file| file["reason"] != "")
    );
    let conflicts = desk.run(&["conflicts", "--json"]).ends(3).json();
    let difference = &conflicts["conflicts"][0]["difference"];
    assert_eq!(difference["line"], 1);
    assert_eq!(difference["near"], "changed here");
    assert_eq!(difference["far"], "changed there, longer");
    assert!(
        difference["unified"]
            .as_str()
            .unwrap()
            .contains("-changed here")
    );
    let settled = desk
        .run(&["settle", "near/both.txt", "--keep", "far", "--json"])
        .ends(0)
        .json();
    assert_eq!(settled["settled"][0]["spares"][0]["side"], "near");
    let number = settled["settled"][0]["spares"][0]["number"].to_string();
    let restored = desk
        .run(&["spares", "restore", &number, "--json"])
        .ends(0)
        .json();
    assert!(
        restored["restored_to"]
            .as_str()
            .unwrap()
            .contains("[spare "),
        "{restored}"
    );
    assert!(
        tree(&desk.near())
            .values()
            .any(|content| content == b"changed here\n")
    );
}

#[test]
fn a_path_is_never_broken_and_lines_fit() {
    let desk = busy();
    let at = |width: &str, arguments: &[&str]| {
        let output = desk
            .command(arguments)
            .env("COLUMNS", width)
            .output()
            .unwrap();
        String::from_utf8(output.stdout).unwrap()
    };
    for arguments in [
        &["status"][..],
        &["plan"],
        &["sync"],
        &["runs"],
        &["spares", "list"],
        &["conflicts"],
        &["why", "near/both.txt"],
        &["doctor"],
        &["spares", "prune"],
        &["settle", "scores", "--keep", "near", "--preview"],
        &["recover", "scores"],
        &["audit", "--quick"],
        &["audit"],
    ] {
        for width in ["80", "140"] {
            let text = at(width, arguments);
            let limit: usize = width.parse().unwrap();
            for line in text.lines() {
                // Paths and commands to be typed are whole, however long; everything else fits.
                let whole = ["/", "Next:", "Plan "]
                    .iter()
                    .any(|sign| line.contains(sign));
                assert!(
                    whole || line.chars().count() <= limit,
                    "{arguments:?} at {width}: {line}"
                );
            }
        }
    }
    let narrow = at("60", &["status"]);
    assert!(narrow.contains("Past seasons/closed.txt\n"), "{narrow}");
}

#[test]
fn quiet_says_only_what_needs_a_person() {
    let desk = Desk::tied(&[]);
    desk.write_near("a.txt", "a");
    assert_eq!(desk.run(&["sync", "--quiet"]).ends(0).out, "");
    desk.write_near("a.txt", "changed here");
    desk.write_far("a.txt", "changed there");
    desk.run(&["sync", "--quiet"]).ends(3).says("conflict");
}

#[test]
fn plain_has_no_marks_whatever_the_locale() {
    let desk = busy();
    for (locale, plain, marks) in [
        ("C.UTF-8", false, true),
        ("C.UTF-8", true, false),
        ("C", false, false),
    ] {
        let mut command = desk.command(&["status"]);
        command.env("LC_ALL", locale);
        if plain {
            command.arg("--plain");
        }
        let text = String::from_utf8(command.output().unwrap().stdout).unwrap();
        assert_eq!(
            text.contains("‡ conflict"),
            marks,
            "{locale} {plain}: {text}"
        );
        assert!(text.contains("conflict"));
    }
}

#[test]
fn names_that_could_fake_a_line_are_written_out() {
    let desk = Desk::tied(&[]);
    desk.write_near("fake\n  · settled  all.txt", "x");
    let plan = desk.run(&["plan"]).ends(0);
    assert!(
        plan.out.contains("fake\\n  · settled  all.txt"),
        "{}",
        plan.out
    );
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&desk.near()), tree(&desk.far()));
}

#[test]
fn everything_of_the_tool_lies_under_its_home() {
    let desk = Desk::tied(&[]);
    desk.write_near("a.txt", "a");
    desk.run(&["sync"]).ends(0);
    let names = |root: &std::path::Path| {
        let mut names: Vec<String> = fs::read_dir(root)
            .unwrap()
            .map(|entry| entry.unwrap().file_name().into_string().unwrap())
            .collect();
        names.sort();
        names
    };
    assert_eq!(
        names(&desk.near()),
        ["a.txt"],
        "no stray file in the person's folder"
    );
    assert_eq!(names(&desk.far()), [".katabatic", "a.txt"]);
    assert_eq!(
        names(&desk.path("")),
        ["cloud", "home", "near", "password", "run"]
    );
    let person = desk.path("person");
    fs::create_dir(&person).unwrap();
    let mut command = desk.command(&["account", "list"]);
    command
        .env_remove("KATABATIC_HOME")
        .env_remove("XDG_CONFIG_HOME")
        .env_remove("XDG_STATE_HOME")
        .env("HOME", &person);
    assert!(command.status().unwrap().success());
    assert!(person.join(".local/state/katabatic/ledger.db").exists());
}

/// Each answer is compared with docs/answers.schema.json as it comes back; here come those that no other test asks for.
#[test]
fn every_command_answers_in_the_form_that_is_written_down() {
    let desk = Desk::bare(&[]);
    let run = |arguments: &[&str], code: i32| {
        desk.run(&[arguments, &["--json"]].concat()).ends(code);
    };
    desk.add_account().ends(0);
    fs::create_dir(desk.path("elsewhere")).unwrap();
    desk.tie(&["--contents", "stubs"]).ends(0);
    desk.write_near("a.txt", "first");
    desk.write_near("Waltz/horn.txt", "a part for the horn");
    run(&["sync"], 0);
    desk.write_near("a.txt", "second, and longer");
    run(&["plan"], 0);
    run(&["sync"], 0);
    run(&["undo", "2"], 3);
    run(&["undo", "2", "--yes"], 0);
    run(&["shed", "scores"], 0);
    run(&["room"], 0);
    run(&["room", "@office"], 0);
    run(&["fetch", "near/a.txt"], 0);
    run(&["hold", "near/a.txt"], 0);
    run(&["hold"], 0);
    run(&["hold", "--off", "near/a.txt"], 0);
    run(&["choose", "scores", "--skip", "Waltz", "--preview"], 0);
    run(&["choose", "scores", "--skip", "Waltz", "--yes"], 0);
    run(&["choose", "scores", "--take", "Waltz", "--yes"], 0);
    run(
        &["lane", "change", "scores", "--leave-out", "*.tmp", "--yes"],
        0,
    );
    run(&["lane", "change", "scores", "--transfers", "2"], 0);
    desk.write_near("odd.tmp", "left out");
    run(&["lane", "sweep", "scores"], 3);
    run(&["lane", "sweep", "scores", "--yes"], 0);
    run(&["lane", "relocate", "scores", "moved", "--yes"], 0);
    run(&["lane", "show", "scores"], 0);
    run(&["account", "rename", "office", "music"], 0);
    run(&["account", "show", "music"], 0);
    run(&["account", "test", "music"], 0);
    run(&["make-folder", "@music/new/deeper"], 0);
    run(&["copy", "moved/a.txt", "@music/new/"], 0);
    run(&["move", "@music/new/a.txt", "@music/new/b.txt"], 0);
    run(&["remove", "@music/new/b.txt"], 0);
    run(&["sizes", "@music"], 0);
    run(&["list", "@music"], 0);
    run(&["spares", "list"], 0);
    run(&["spares", "prune", "--older-than", "7d"], 0);
    run(&["recover", "scores", "--yes"], 0);
    run(&["runs"], 0);
    run(&["runs", "1"], 0);
    run(&["runs", "--plot"], 0);
    run(&["runs", "--forget-older-than", "30d"], 0);
    run(&["limits", "--up", "5MB/s"], 0);
    run(&["tell", "--desktop", "problem"], 0);
    run(&["openings"], 0);
    run(&["report", "--to", "page.html"], 0);
    run(&["audit"], 0);
    run(&["doctor"], 0);
    run(&["agent", "status"], 0);
    run(&["agent", "start"], 0);
    run(&["agent", "status"], 0);
    run(&["agent", "pause", "scores", "--lasting", "2h"], 0);
    run(&["status"], 0);
    run(&["agent", "resume"], 0);
    run(&["agent", "stop-pass", "scores"], 0);
    run(&["agent", "stop"], 0);
    run(&["status", "nope"], 2);
    run(&["lane", "remove", "scores"], 0);
    run(&["account", "remove", "music"], 0);
}
