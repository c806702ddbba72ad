//! `doctor`: what is well is said to be, and what is not comes with the command that mends it.

use std::fs;

use crate::worlds::Desk;

fn settled() -> Desk {
    let desk = Desk::tied(&[]);
    desk.write_near("a.txt", "a");
    desk.write_near("b/c.txt", "c");
    desk.run(&["sync"]).ends(0);
    desk
}

#[test]
fn a_healthy_desk_is_said_to_be() {
    let desk = settled();
    let said = desk.run(&["doctor", "--json"]);
    let checks = said.json();
    let asked = |about: &str| -> Vec<String> {
        let all = checks["checks"].as_array().unwrap().iter();
        all.filter(|check| check["about"] == about)
            .map(|check| check["asked"].as_str().unwrap().to_owned())
            .collect()
    };
    for (about, wanted) in [
        ("this computer", "ledger"),
        ("account office", "clock"),
        ("lane scores", "there"),
    ] {
        assert!(asked(about).iter().any(|asked| asked == wanted), "{about}");
    }
    // Room on the disk of a test is not for this test to say.
    let all = checks["checks"].as_array().unwrap();
    let wrong = all.iter().filter(|check| {
        check["fine"] == false && check["asked"] != "room" && check["asked"] != "here"
    });
    assert_eq!(wrong.count(), 0, "{}", said.out);
}

#[test]
fn what_is_wrong_comes_with_what_mends_it() {
    let mut desk = settled();
    desk.write_near("a.txt", "one");
    desk.write_far("a.txt", "the other one");
    desk.run(&["sync"]).ends(3);
    desk.run(&["doctor"])
        .ends(3)
        .says("1 path is in conflict")
        .says("mend it: katabatic conflicts scores");
    desk.run(&[
        "lane",
        "change",
        "scores",
        "--leave-out",
        ":smaller 1MB",
        "--yes",
    ])
    .ends(0);
    desk.run(&["sync"]).ends(0);
    desk.run(&["doctor"])
        .ends(3)
        .says("leave out all there is")
        .says("katabatic lane show scores");
    fs::rename(desk.near(), desk.path("away")).unwrap();
    desk.run(&["doctor"]).ends(3).says("WRONG");
    fs::rename(desk.path("away"), desk.near()).unwrap();
    desk.stop_serving();
    desk.run(&["doctor"])
        .ends(3)
        .says("account office")
        .says("does not answer");
}

#[test]
fn a_lane_that_never_ran_is_no_safe_copy() {
    let desk = Desk::tied(&[]);
    desk.run(&["doctor"])
        .ends(3)
        .says("no pass over the whole lane has ended yet")
        .says("katabatic plan scores, then katabatic sync scores");
}

#[test]
fn two_computers_that_send_into_one_folder_are_told_and_two_that_share_it_are_fine() {
    let desk = settled();
    desk.run(&["doctor", "-v"])
        .ends(0)
        .says("all that the lane needs, on this computer and in the cloud");
    desk.write_far(".katabatic/laptop-0a1b2c/0123/staging/x", "x");
    let shared = desk.run(&["doctor", "--json"]).ends(0).json();
    let computers = |value: &serde_json::Value| {
        let all = value["checks"].as_array().unwrap().iter();
        let mut of = all.filter(|check| check["asked"] == "computers");
        let one = of.next().unwrap();
        assert!(of.next().is_none());
        one.clone()
    };
    let told = computers(&shared);
    assert_eq!(told["fine"], true);
    let found = "1 other computer is or was tied to @office/Scores, too: laptop-0a1b2c";
    assert_eq!(told["found"], found);
    desk.run(&["lane", "change", "scores", "--direction", "up", "--yes"])
        .ends(0);
    desk.run(&["sync"]).ends(0);
    let sent = desk.run(&["doctor", "--json"]).ends(3).json();
    let told = computers(&sent);
    assert_eq!(told["fine"], false);
    assert!(told["mend"].as_str().unwrap().contains("cover --as NAME"));
}

#[test]
fn a_pass_that_was_cut_off_is_whole_once_a_later_one_finds_nothing_more_to_carry() {
    let desk = Desk::tied(&[]);
    desk.write_near("a.txt", "one");
    desk.run(&["sync"]).ends(0);
    // As a pass leaves it that was killed when all was carried and nothing of its end was written yet.
    let ledger = rusqlite::Connection::open(desk.path("home/ledger.db")).unwrap();
    ledger
        .execute_batch(
            "UPDATE run SET ended = NULL, outcome = NULL, process = NULL;
             UPDATE lane SET seen_at = (SELECT MAX(began) FROM run) - 1;",
        )
        .unwrap();
    drop(ledger);
    desk.run(&["doctor"])
        .ends(3)
        .says("the last pass was cut off in the middle");
    desk.run(&["sync"]).ends(0).says("nothing to carry");
    desk.run(&["doctor"]).ends(0);
}
