//! `status`: fresh, as a tree, and as a stream of lines.

use std::collections::BTreeMap;
use std::fs;

use crate::worlds::{Desk, tree};
use serde_json::Value;

fn settled() -> Desk {
    let desk = Desk::tied(&[]);
    for name in ["a.txt", "Viola/b.txt", "Viola/deep/c.txt", "Cello/d.txt"] {
        desk.write_near(name, &format!("text of {name}"));
    }
    desk.run(&["sync"]).ends(0);
    desk
}

#[test]
fn a_pass_that_failed_before_it_carried_anything_is_told_until_one_goes_on() {
    let desk = Desk::tied(&[]);
    for number in 0..20 {
        desk.write_near(&format!("Viola/{number}.txt"), "text");
    }
    desk.run(&["sync"]).ends(0);
    desk.run(&["status"]).ends(0).says("20 up (80 B) (run 1)");
    // What is left out makes no run of a pass that has nothing to do.
    desk.write_near("Thumbs.db", "junk");
    desk.run(&["sync"]).ends(0);
    desk.run(&["sync"]).ends(0);
    let count = |desk: &Desk| {
        desk.run(&["runs", "--json"]).ends(0).json()["runs"]
            .as_array()
            .unwrap()
            .len()
    };
    let before = count(&desk);
    desk.run(&["sync"]).ends(0).says("nothing to carry");
    assert_eq!(count(&desk), before);
    fs::rename(
        desk.near().join("Viola"),
        desk.near().with_file_name("aside"),
    )
    .unwrap();
    desk.run(&["sync"]).ends(4);
    desk.run(&["status"])
        .ends(3)
        .says("failed: the brake stopped lane scores")
        .says("--release-brake 20");
    desk.run(&["doctor"])
        .ends(3)
        .says("the last one failed: the brake");
    // As it fails again just so, that is the same news.
    desk.run(&["sync"]).ends(4);
    let runs = desk
        .run(&["runs", "--outcome", "failed", "--json"])
        .ends(0)
        .json();
    assert_eq!(runs["runs"].as_array().unwrap().len(), 1, "{runs:#}");
    let said = desk.run(&["status", "--json"]).ends(3).json();
    let last = &said["lanes"][0]["last_pass"];
    assert_eq!(
        (&last["failed"], &last["run"]),
        (&Value::Bool(true), &Value::Null)
    );
    assert!(last["at"].as_str().unwrap() > runs["runs"][0]["ended"].as_str().unwrap());
    fs::rename(
        desk.near().with_file_name("aside"),
        desk.near().join("Viola"),
    )
    .unwrap();
    desk.write_near("new.txt", "12345");
    let said = desk.run(&["status", "--json"]).ends(3).json();
    assert_eq!(said["lanes"][0]["waiting_bytes"]["up"], 5);
    desk.run(&["sync"]).ends(0);
    desk.run(&["status"]).ends(0).says("1 up (5 B) (run ");
}

#[test]
fn what_waits_for_an_answer_or_has_drifted_is_not_called_settled() {
    let desk = settled();
    desk.run(&["lane", "change", "scores", "--removals", "ask", "--yes"]);
    desk.run(&["sync"]);
    fs::remove_file(desk.near().join("a.txt")).unwrap();
    desk.run(&["sync"]).ends(3);
    let said = desk
        .run(&["status"])
        .ends(3)
        .says("settle PATH --keep near");
    assert!(!said.out.contains("All settled"), "{}", said.out);

    let desk = settled();
    desk.run(&["lane", "change", "scores", "--direction", "up", "--yes"]);
    desk.run(&["sync"]).ends(0);
    desk.write_far("a.txt", "scribbled over, there");
    desk.run(&["sync"]);
    let said = desk.run(&["status"]).says("sync scores --restore-drift");
    assert!(!said.out.contains("All settled"), "{}", said.out);
    desk.run(&["sync", "scores", "--restore-drift"]).ends(0);
    desk.run(&["status"]).ends(0).says("All settled.");
}

#[test]
fn fresh_asks_there_and_the_usual_way_tells_what_a_pass_saw() {
    let mut desk = settled();
    desk.write_far("Viola/b.txt", "edited there, and longer");
    desk.write_far("new.txt", "new there");
    fs::remove_file(desk.far().join("Cello/d.txt")).unwrap();
    desk.run(&["status"]).ends(0).says("All settled.");
    let said = desk.run(&["status", "--fresh", "--json"]).ends(0).json();
    let lane = &said["lanes"][0];
    assert_eq!(lane["counts"]["settled"], 2, "{lane:#}");
    let states: BTreeMap<&str, &str> = lane["files"]
        .as_array()
        .unwrap()
        .iter()
        .map(|file| {
            (
                file["path"].as_str().unwrap(),
                file["state"].as_str().unwrap(),
            )
        })
        .collect();
    assert_eq!(
        states,
        BTreeMap::from([
            ("Cello/d.txt", "waiting down"),
            ("Viola/b.txt", "waiting down"),
            ("new.txt", "waiting down"),
        ])
    );
    assert_eq!(lane["near_seen"], lane["far_seen"]);
    // It changed nothing, and believed nothing for later.
    desk.run(&["status"]).ends(0).says("All settled.");
    desk.run(&["status", "near/Viola", "--fresh"])
        .ends(0)
        .says("waiting down");
    // What cannot be told there is not called removed.
    desk.serve_again(&["unreadable=Scores/Viola"]);
    let said = desk.run(&["status", "--fresh", "--json"]).json();
    let files = said["lanes"][0]["files"].as_array().unwrap();
    let in_viola = files
        .iter()
        .filter(|file| file["path"].as_str().unwrap().starts_with("Viola/"));
    for file in in_viola {
        assert_eq!(file["state"], "stuck", "{file:#}");
    }
    desk.stop_serving();
    desk.run(&["status", "--fresh"]).ends(6);
    desk.run(&["status"])
        .ends(0)
        .says("not reached at ")
        .says("127.0.0.1 does not answer");
    let lane = desk.run(&["status", "--json"]).ends(0).json()["lanes"][0].clone();
    let why = lane["far_failed"]["why"].as_str().unwrap();
    assert!(why.contains("does not answer"), "{lane:#}");
    desk.serve_again(&[]);
    desk.run(&["sync"]).ends(0);
    let lane = desk.run(&["status", "--json"]).ends(0).json()["lanes"][0].clone();
    assert!(lane["far_failed"].is_null(), "{lane:#}");
}

#[test]
fn a_drive_that_is_not_plugged_in_takes_nothing_from_what_is_told() {
    let desk = settled();
    fs::create_dir_all(desk.path("second")).unwrap();
    fs::create_dir_all(desk.path("drive/Second")).unwrap();
    fs::write(desk.path("second/x.txt"), "x").unwrap();
    desk.run(&[
        "lane",
        "add",
        "second",
        "--near",
        "second",
        "--far",
        "drive/Second",
    ])
    .ends(0);
    desk.run(&["sync"]).ends(0);
    fs::rename(desk.path("drive"), desk.path("unplugged")).unwrap();
    fs::remove_file(desk.path("second/x.txt")).unwrap();
    desk.write_near("new.txt", "new here");
    desk.run(&["status"])
        .ends(6)
        .says("scores: new.txt")
        .says("second: x.txt")
        .says("not reached at ")
        .says("once it is reached again, katabatic sync second");
    desk.run(&["status", "second", "--json"]).ends(6).json()["lanes"][0]["far_failed"]["why"]
        .as_str()
        .unwrap();
    desk.run(&["why", "second/x.txt"])
        .ends(0)
        .says("removes it on the far side")
        .says("not reached at ");
    desk.run(&["plan"]).ends(6).says("new.txt");
    desk.run(&["conflicts"]).ends(6);
    let rooms = desk.run(&["room", "--json"]).ends(6).json();
    assert_eq!(rooms["lanes"].as_array().unwrap().len(), 2, "{rooms:#}");
    // A near side that is away can be told nothing of; of the others, all.
    fs::rename(desk.path("unplugged"), desk.path("drive")).unwrap();
    fs::rename(desk.path("second"), desk.path("second, away")).unwrap();
    desk.run(&["status"])
        .ends(6)
        .says("scores: new.txt")
        .says("the near side of lane second");
    let told = desk.run(&["status", "--json"]).ends(6).json();
    assert_eq!(told["lanes"][1]["error"]["exit"], 6, "{told:#}");
    // Nothing of it was taken for removed.
    fs::rename(desk.path("second, away"), desk.path("second")).unwrap();
    assert!(desk.path("drive/Second/x.txt").exists());
}

#[test]
fn of_several_lanes_each_is_told_first_and_then_what_needs_somebody() {
    let desk = settled();
    fs::create_dir(desk.path("second")).unwrap();
    fs::write(desk.path("second/x.txt"), "x").unwrap();
    desk.run(&[
        "lane",
        "add",
        "second",
        "--near",
        "second",
        "--far",
        "@office/Second",
        "--make",
    ])
    .ends(0);
    desk.run(&["sync"]).ends(0);
    desk.write_near("waits.txt", "new here");
    fs::write(desk.path("second/x.txt"), "edited here").unwrap();
    let there = desk.path("cloud/librarian/Second/x.txt");
    fs::write(there, "edited there, too").unwrap();
    desk.run(&["sync", "second"]).ends(3);
    let said = desk.run(&["status", "--plain"]).ends(3);
    let at = |text: &str| {
        let found = said.out.find(text);
        found.unwrap_or_else(|| panic!("{text} is not in\n{}", said.out))
    };
    // The lane that needs somebody comes first, with what to do; then the others, a line each.
    assert!(at("second") < at("katabatic settle PATH"), "{}", said.out);
    assert!(
        at("katabatic settle PATH") < at("scores  two-way"),
        "{}",
        said.out
    );
    assert!(at("scores  two-way") < at("second: x.txt"), "{}", said.out);
    said.says("0 of 2 lanes settled, one waits for you");
    let said = desk.run(&["status", "--plain"]).ends(3);
    let at = |text: &str| said.out.find(text).unwrap();
    // The conflict of the second lane comes before what merely waits in the first.
    assert!(
        at("second: x.txt") < at("scores: waits.txt"),
        "{}",
        said.out
    );
    desk.run(&["status", "scores"]).ends(0).says("waits.txt");
    // At length, each lane is told with its places and counts, in the order they were added in.
    let long = desk.run(&["-v", "status", "--plain"]).ends(3);
    let at = |text: &str| long.out.find(text).unwrap();
    assert!(at("Lane scores: ") < at("Lane second: "), "{}", long.out);
    assert!(at("Lane second: ") < at("second: x.txt"), "{}", long.out);
}

#[test]
fn a_tree_adds_up_each_folder_and_names_what_is_not_settled() {
    let desk = settled();
    desk.write_near("Viola/deep/c.txt", "edited here");
    let said = desk.run(&["status", "scores", "--tree", "--plain"]).ends(0);
    let line = |named: &str| -> String {
        let found = said.out.lines().find(|line| line.contains(named));
        found
            .unwrap_or_else(|| panic!("{named} is not in\n{}", said.out))
            .to_owned()
    };
    assert!(line("(top)").contains("4 files"), "{}", said.out);
    assert!(
        line("Viola/").contains("1 settled, 1 waiting up"),
        "{}",
        said.out
    );
    assert!(line("deep/").contains("1 file"), "{}", said.out);
    assert!(
        line("c.txt").contains("waiting up: changed on this computer"),
        "{}",
        said.out
    );
    let flat = desk
        .run(&["status", "scores", "--tree", "--depth", "1", "--plain"])
        .ends(0);
    assert!(!flat.out.contains(" deep/\n") && flat.out.contains("deep/c.txt"));
    desk.run(&["status", "near/Cello", "--tree", "--plain"])
        .ends(0)
        .says("Cello/  ");
    for how in ["--tree", "--lines", "--json"] {
        desk.run(&["status", "near/Violin", how])
            .ends(2)
            .says("nothing of that name is on this side");
    }
}

#[test]
fn the_stream_has_a_line_for_every_path() {
    let desk = settled();
    desk.write_near("new.txt", "new here");
    let lines = |options: &[&str]| -> BTreeMap<String, String> {
        let all = [&["status", "--lines"], options].concat();
        let said = desk.run(&all).ends(0);
        said.out
            .lines()
            .map(|line| serde_json::from_str::<Value>(line).unwrap())
            .map(|line| {
                assert_eq!(line["lane"], "scores");
                let text = |key: &str| line[key].as_str().unwrap().to_owned();
                (text("path"), text("state"))
            })
            .collect()
    };
    let all = lines(&[]);
    assert_eq!(all.len(), 8, "{all:?}");
    assert_eq!(all["Viola/deep/c.txt"], "settled");
    assert_eq!(all["Viola/deep"], "settled");
    assert_eq!(all["new.txt"], "waiting up");
    assert_eq!(lines(&["--fresh"]), all);
    assert_eq!(lines(&["--state", "waiting"]).len(), 1);
    assert_eq!(lines(&["near/Viola"]).len(), 4);
    desk.run(&["status", "--lines", "--json"]).ends(2);
    let named = |options: &[&str]| -> BTreeMap<String, String> {
        let said = desk.run(&[&["status", "--json"], options].concat()).json();
        let files = said["lanes"][0]["files"].as_array().unwrap().iter();
        let text = |value: &Value| value.as_str().unwrap().to_owned();
        files
            .map(|file| (text(&file["path"]), text(&file["state"])))
            .collect()
    };
    assert_eq!(named(&["--all"]), all);
    assert_eq!(named(&[]).len(), 1);
}

#[test]
fn a_run_tells_what_it_found_and_left_and_the_next_one_does_not_tell_it_again() {
    let desk = settled();
    desk.write_near("c.txt", "one");
    desk.write_far("c.txt", "the other");
    desk.write_near("Viola/new.txt", "new");
    let items = || {
        let run = desk.run(&["sync", "--json"]).ends(3).json()["lanes"][0]["run"].to_string();
        let said = desk.run(&["runs", &run, "--json"]).ends(0).json();
        let all = said["run"]["items"].as_array().unwrap().clone();
        all.iter()
            .map(|item| {
                let text = |key: &str| item[key].as_str().unwrap().to_owned();
                let result = text("result");
                let result = result.split(':').next().unwrap().to_owned();
                (text("path"), text("action"), result)
            })
            .collect::<Vec<_>>()
    };
    let told = |path: &str, action: &str, result: &str| {
        (path.to_owned(), action.to_owned(), result.to_owned())
    };
    let first = items();
    assert!(
        first.contains(&told("Viola/new.txt", "carry up", "done")),
        "{first:?}"
    );
    let conflict = first.iter().filter(|(path, ..)| path == "c.txt").count();
    assert_eq!(conflict, 1, "{first:?}");
    let is_told =
        |(path, _, result): &(String, String, String)| path == "c.txt" && result == "conflict";
    assert!(first.iter().any(is_told), "{first:?}");
    assert_eq!(items(), []);
}

#[test]
fn a_folder_that_stays_there_for_what_is_left_out_is_told_before_the_next_pass_too() {
    let desk = settled();
    desk.run(&["lane", "change", "scores", "--leave-out", "*.bak", "--yes"])
        .ends(0);
    desk.write_far("old/kept.bak", "x");
    desk.run(&["sync"]).ends(0);
    fs::remove_dir(desk.near().join("old")).unwrap();
    let kept = || desk.run(&["status", "--json"]).json()["lanes"][0]["kept_away"].clone();
    assert_eq!(kept(), serde_json::json!(["old"]));
    desk.run(&["sync"]).ends(0);
    assert_eq!(kept(), serde_json::json!(["old"]));
}

#[test]
fn what_waits_while_the_server_is_away_is_no_success() {
    let mut desk = settled();
    desk.stop_serving();
    desk.run(&["sync"]).ends(6);
    desk.run(&["status"]).ends(0).says("not reached");
    desk.write_near("a.txt", "saved while it is away");
    desk.run(&["status"])
        .ends(6)
        .says("△ waiting up")
        .says("not reached");
    desk.run(&["report", "--to", "page.html"]);
    let page = fs::read_to_string(desk.path("page.html")).unwrap();
    assert!(page.contains("1 path waits to be carried"), "{page}");
    assert!(page.contains("The last pass of the lane scores carried nothing"));
    assert!(!page.contains("Nothing needs a person, and nothing is to be mended"));
}

#[test]
fn a_lane_that_was_never_looked_at_is_not_called_empty() {
    let desk = Desk::tied(&[]);
    let said = desk.run(&["status"]).ends(0);
    assert!(!said.out.contains("both sides are empty"), "{}", said.out);
    said.says("nothing is on this computer; what is in the cloud was never looked at");
    desk.run(&["sync"]).ends(0);
    desk.run(&["status"]).says("both sides are empty");
}

#[test]
fn a_folder_that_is_gone_there_is_told_with_what_to_do() {
    let desk = settled();
    fs::rename(desk.far(), desk.path("cloud/librarian/Old scores")).unwrap();
    desk.run(&["sync"])
        .ends(6)
        .says("the folder is not there")
        .says("somebody removed, renamed or moved the folder there")
        .says("katabatic list @office/");
    desk.run(&["status"])
        .ends(3)
        .says("katabatic list @office/");
    desk.run(&["account", "list"]).ends(0);
}

#[test]
fn a_lane_gets_another_name_and_all_that_it_did_follows() {
    let desk = settled();
    fs::remove_file(desk.near().join("a.txt")).unwrap();
    desk.run(&["sync"]).ends(0);
    let before = tree(&desk.far());
    let versions = |lane: &str| {
        let spares = desk.run(&["spares", "list", lane, "--json"]).ends(0).json();
        spares["spares"].as_array().unwrap().len()
    };
    let (runs, spares) = (
        desk.run(&["runs", "scores"]).ends(0).out,
        versions("scores"),
    );
    assert!(spares > 0);
    desk.run(&["lane", "rename", "scores", "music"])
        .ends(0)
        .says("no file was touched");
    assert_eq!(
        desk.run(&["runs", "music"]).ends(0).out.lines().count(),
        runs.lines().count()
    );
    assert_eq!(versions("music"), spares);
    desk.run(&["status", "music"]).ends(0).says("Lane music");
    desk.run(&["status", "scores"]).ends(2);
    // Nothing is looked at as if for the first time, and nothing travels because of it.
    desk.run(&["sync", "music"])
        .ends(0)
        .says("nothing to carry");
    assert_eq!(tree(&desk.far()), before);
    let number =
        desk.run(&["spares", "list", "music", "--json"]).json()["spares"][0]["number"].to_string();
    desk.run(&["spares", "restore", &number]).ends(0);
    desk.run(&["lane", "rename", "music", "music"])
        .ends(0)
        .says("already");
    desk.run(&["lane", "rename", "music", "no good"]).ends(2);
    desk.run(&["lane", "rename", "nope", "other"]).ends(2);
    let config = fs::read_to_string(desk.path("home/katabatic.toml")).unwrap();
    assert!(
        config.contains("[lane.music]") && !config.contains("scores]"),
        "{config}"
    );
}
