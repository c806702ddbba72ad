//! Looking at folders with where each file stands, and finding files, through the built program.

use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt;

use serde_json::Value;

use crate::worlds::Desk;

fn desk() -> Desk {
    let desk = Desk::bare(&[]);
    for (at, content) in [
        ("rota.csv", "monday"),
        ("Past/2018/march.txt", "march"),
        ("Past/2019/waltz.txt", "waltz"),
        ("Season/poster.svg", "<svg/>"),
        ("Season/Parts/horn.txt", "horn part"),
    ] {
        desk.write_far(at, content);
    }
    desk.add_account().ends(0);
    desk.tie(&["--skip", "Past", "--leave-out", "*.bak"])
        .ends(0);
    desk.run(&["sync"]).ends(0);
    desk
}

fn member<'a>(answer: &'a Value, name: &str) -> &'a Value {
    let members = answer["members"].as_array().unwrap();
    let named = members.iter().find(|member| member["name"] == name);
    named.unwrap_or_else(|| panic!("no {name} in {answer}"))
}

fn names(answer: &Value) -> Vec<&str> {
    let members = answer["members"].as_array().unwrap();
    members
        .iter()
        .map(|member| member["name"].as_str().unwrap())
        .collect()
}

#[test]
fn a_folder_in_a_lane_is_listed_with_where_each_file_stands() {
    let desk = desk();
    desk.write_near("Season/Parts/oboe.txt", "new here");
    desk.write_near("old.bak", "left out");
    fs::write(desk.near().join(OsStr::from_bytes(b"caf\xe9.txt")), "x").unwrap();
    desk.run(&[
        "shed",
        desk.near().join("Season/poster.svg").to_str().unwrap(),
    ])
    .ends(0);

    let near = desk.near();
    let place = near.to_str().unwrap();
    desk.run(&["list", place])
        .ends(0)
        .says("Lane scores:")
        .says("△ waiting up (1), ◌ stub (1)")
        .says("the rule *.bak leaves it out")
        .says("caf\\xe9.txt")
        .says("2 folders, 6 files");
    let all = desk.run(&["list", place, "--json"]).ends(0).json();
    assert_eq!(all["lane"], "scores");
    assert_eq!(member(&all, "rota.csv")["state"], "settled");
    assert_eq!(member(&all, "old.bak")["state"], "left out");
    let season = member(&all, "Season");
    assert_eq!(
        (&season["files"], &season["bytes"]),
        (&3.into(), &23.into())
    );
    assert_eq!(season["counts"]["settled"], 2);
    assert_eq!(season["lies"]["stub"], 1);

    // The folder that needs a look comes first; and what does not stand so is not shown.
    let first = desk
        .run(&["list", "scores", "--sort", "state", "--json"])
        .json();
    assert_eq!(names(&first)[0], "Season");
    let waiting = desk.run(&["list", "scores", "--state", "waiting", "--json"]);
    assert_eq!(names(&waiting.json()), ["Season"]);
    let season = near.join("Season");
    let stubs = desk.run(&[
        "list",
        season.to_str().unwrap(),
        "--state",
        "stub",
        "--json",
    ]);
    assert_eq!(names(&stubs.json()), ["poster.svg"]);
    desk.run(&["list", season.to_str().unwrap(), "--sort", "size"])
        .ends(0)
        .says("settled, ◌ stub");

    // There, what is not taken is said to be left out, and what no pass saw is said to be that.
    desk.write_far("Past/2018/polka.txt", "polka");
    desk.write_far("news.txt", "news");
    let there = desk
        .run(&["list", "@office/Scores", "--json"])
        .ends(0)
        .json();
    assert_eq!(member(&there, "Past")["state"], "left out");
    assert_eq!(member(&there, "news.txt")["state"], Value::Null);
    assert_eq!(
        member(&there, "news.txt")["reason"],
        "not seen by a pass yet"
    );
    desk.run(&["list", "@office/Scores/Past/2018"])
        .ends(0)
        .says("Past is not taken");
    desk.run(&["list", "scores", "--fresh"])
        .ends(0)
        .says("▽ waiting down");

    // Outside of all lanes nothing stands anywhere.
    let outside = desk.path("home");
    desk.run(&["list", outside.to_str().unwrap()])
        .ends(0)
        .says("katabatic.toml");
    desk.run(&["list", outside.to_str().unwrap(), "--state", "stub"])
        .ends(2)
        .says("in no lane");
}

#[test]
fn a_folder_is_asked_about_with_each_file_in_it() {
    let desk = desk();
    desk.write_near("Season/Parts/oboe.txt", "new here");
    let season = desk.near().join("Season");
    desk.run(&["status", season.to_str().unwrap()])
        .ends(0)
        .says("Parts/")
        .says("△ waiting up (1)")
        .says("poster.svg")
        .says("Season/Parts/oboe.txt  new on this computer");
    // What is settled is named where somebody asks for it.
    let said = desk.run(&["status", "scores"]).ends(0);
    assert!(!said.out.contains("rota.csv"), "{}", said.out);
    desk.run(&["status", "scores", "--state", "settled"])
        .ends(0)
        .says("rota.csv");
    let named = desk.run(&["status", "scores", "--state", "here", "--json"]);
    let named = named.ends(0).json();
    let files = named["lanes"][0]["files"].as_array().unwrap();
    assert!(
        files.iter().any(|file| file["path"] == "rota.csv"),
        "{files:?}"
    );
}

#[test]
fn files_are_found_in_all_lanes_by_what_is_known_of_them() {
    let desk = desk();
    desk.write_near("Season/Parts/Oboe 1.txt", "new here");
    let other = desk.path("other");
    fs::create_dir(&other).unwrap();
    fs::write(other.join("march for horn.txt"), "a march").unwrap();
    fs::write(other.join("large.bin"), vec![0; 300_000]).unwrap();
    let lane = [
        "lane", "add", "drive", "--near", "other", "--far", "drive", "--make",
    ];
    desk.run(&lane).ends(0);
    desk.run(&["sync", "drive"]).ends(0);

    let found = |typed: &[&str]| -> Vec<String> {
        let mut arguments = vec!["find", "--json"];
        arguments.extend(typed);
        let answer = desk.run(&arguments).ends(0).json();
        let found = answer["found"].as_array().unwrap().clone();
        let path = |one: &Value| {
            format!(
                "{}:{}",
                one["lane"].as_str().unwrap(),
                one["path"].as_str().unwrap()
            )
        };
        found.iter().map(path).collect()
    };
    assert_eq!(
        found(&["horn"]),
        ["scores:Season/Parts/horn.txt", "drive:march for horn.txt"]
    );
    assert_eq!(found(&["HORN", "march"]), ["drive:march for horn.txt"]);
    assert_eq!(found(&["oboe ?.txt"]), ["scores:Season/Parts/Oboe 1.txt"]);
    assert_eq!(found(&["--larger", "200kB"]), ["drive:large.bin"]);
    assert_eq!(
        found(&["--state", "waiting"]),
        ["scores:Season/Parts/Oboe 1.txt"]
    );
    assert_eq!(
        found(&["horn", "--in", "drive"]),
        ["drive:march for horn.txt"]
    );
    assert_eq!(
        found(&["horn", "--before", "2001-01-01"]),
        Vec::<String>::new()
    );
    assert_eq!(found(&["horn", "--since", "2001-01-01"]).len(), 2);
    desk.run(&["find"]).ends(2).says("nothing was said");
    desk.run(&["find", "x", "--since", "soon"]).ends(2);
    desk.run(&["find", "piano"])
        .ends(0)
        .says("Nothing in 2 lanes is like that");

    // What was removed is found among the spares, with what brings it back.
    fs::remove_file(desk.near().join("Season/Parts/horn.txt")).unwrap();
    desk.run(&["sync", "scores"]).ends(0);
    desk.run(&["find", "horn", "part"])
        .ends(0)
        .says("Among the spares: 1 version")
        .says("katabatic spares restore NUMBER");

    // A lane that cannot be looked at is said to be one.
    fs::rename(desk.path("other"), desk.path("unplugged")).unwrap();
    desk.run(&["find", "rota"])
        .ends(6)
        .says("rota.csv")
        .says("Not looked at: lane drive");
}

#[test]
fn what_a_choice_fetches_is_reckoned_with_the_speed_that_was_measured() {
    let desk = Desk::bare(&[]);
    desk.write_far("Past/large.wav", &"sound ".repeat(400_000));
    desk.add_account().ends(0);
    desk.tie(&[]).ends(0);
    desk.run(&["sync"]).ends(0);
    desk.run(&["choose", "scores", "--skip", "Past", "--yes"])
        .ends(0);
    desk.run(&["choose", "scores", "--take", "Past", "--preview"])
        .ends(0)
        .says("fetch 1 file, 2.4 MB, at the next sync")
        .says("as in the last runs");
}
