//! What is kept with a ticket: the report, the picture of the runs; and runs that are forgotten.

use std::fs;

use crate::worlds::Desk;
use rusqlite::Connection;

fn settled() -> Desk {
    let desk = Desk::tied(&[]);
    desk.write_near("a.txt", "a");
    desk.write_near("Viola & <b>/c.txt", "c");
    desk.run(&["sync"]).ends(0);
    desk
}

#[test]
fn the_report_is_one_page_with_no_secret_and_nothing_to_fetch() {
    let desk = settled();
    let config = desk.path("home/katabatic.toml");
    let text = fs::read_to_string(&config).unwrap();
    fs::write(&config, format!("# the password is hunter2\n{text}")).unwrap();
    desk.write_near("a.txt", "edited here");
    desk.write_far("a.txt", "edited there, too");
    desk.run(&["sync"]).ends(3);
    let to = desk.path("ticket.html");
    let to_text = to.to_str().unwrap();
    desk.run(&["report", "--to", to_text])
        .ends(3)
        .says("Written: ");
    let page = fs::read_to_string(&to).unwrap();
    for told in [
        "1 path needs a person",
        "Viola &amp; &lt;b&gt;/",
        "neither is touched",
        "<svg ",
        "[lane.scores]",
        "Looked at by doctor",
        "The last runs",
    ] {
        assert!(page.contains(told), "{told:?} is not in it");
    }
    for never in ["hunter2", "secret\"", "<script", "src=", "<link", "url("] {
        assert!(!page.contains(never), "{never:?} is in it");
    }
    let kept = fs::read_dir(desk.path("home/secrets")).unwrap();
    for secret in kept.map(|entry| entry.unwrap().path()) {
        let secret = fs::read_to_string(secret).unwrap();
        assert!(!page.contains(secret.trim()), "a secret is in it");
    }
    // Never over a file that is there, and only as a page.
    desk.run(&["report", "--to", to_text]).ends(2);
    assert_eq!(fs::read_to_string(&to).unwrap(), page);
    desk.run(&["report", "--to", "ticket.txt"]).ends(2);
}

#[test]
fn the_report_is_written_when_nothing_answers() {
    let mut desk = settled();
    desk.stop_serving();
    fs::rename(desk.near(), desk.path("away")).unwrap();
    let to = desk.path("ticket.html");
    desk.run(&["report", "--to", to.to_str().unwrap()]).ends(3);
    let page = fs::read_to_string(to).unwrap();
    assert!(page.contains("1 lane could not be looked at"));
    assert!(page.contains("<tr class=\"wrong\">"));
}

#[test]
fn runs_are_drawn_day_by_day() {
    let desk = settled();
    desk.run(&["runs", "--plot"]).ends(0).says("Carried a day");
    let to = desk.path("runs.svg");
    desk.run(&[
        "runs",
        "--plot",
        "--weeks",
        "2",
        "--to",
        to.to_str().unwrap(),
    ])
    .ends(0);
    assert!(fs::read_to_string(to).unwrap().starts_with("<svg "));
    let days = desk.run(&["runs", "--plot", "--json"]).ends(0).json();
    let days = days["days"].as_array().unwrap();
    assert_eq!(days.len(), 28);
    let files: u64 = days
        .iter()
        .map(|day| day["up"]["files"].as_u64().unwrap())
        .sum();
    assert_eq!(files, 2);
    desk.run(&["runs", "--plot", "--to", "runs.png"]).ends(2);
}

#[test]
fn old_runs_are_forgotten_after_a_pass_and_when_asked() {
    let desk = settled();
    let day = 86_400_000_000_000_i64;
    let ledger = Connection::open(desk.path("home/ledger.db")).unwrap();
    for days in [300, 200, 100, 50, 40] {
        let sql = "INSERT INTO run (lane, lane_name, command, began, ended, outcome)
                   SELECT lane, lane_name, command, began - ?1, ended, outcome FROM run WHERE number = 1";
        ledger.execute(sql, [days * day]).unwrap();
    }
    let count = || -> i64 {
        let sql = "SELECT COUNT(*) FROM run";
        ledger.query_row(sql, [], |row| row.get(0)).unwrap()
    };
    assert_eq!(count(), 6);
    desk.write_near("a.txt", "edited here");
    desk.run(&["sync"]).ends(0);
    assert_eq!(count(), 4, "three were older than ninety days");
    desk.run(&["runs", "--forget-older-than", "45d"])
        .ends(3)
        .says("1 run began more than 45 days ago")
        .says("the same with --yes");
    assert_eq!(count(), 4);
    desk.run(&["runs", "--forget-older-than", "45", "--yes"])
        .ends(0)
        .says("Forgotten.");
    assert_eq!(count(), 3);
    let config = desk.path("home/katabatic.toml");
    let text = fs::read_to_string(&config).unwrap();
    fs::write(&config, format!("keep_runs_days = 30\n{text}")).unwrap();
    desk.run(&["sync"]).ends(0);
    let sql = "SELECT COUNT(*) FROM run WHERE number = 6";
    let forty: i64 = ledger.query_row(sql, [], |row| row.get(0)).unwrap();
    assert_eq!(forty, 0);
    fs::write(&config, format!("keep_runs_days = \"ever\"\n{text}")).unwrap();
    desk.run(&["sync"]).ends(2).says("a number of days");
}

#[test]
fn what_lies_in_the_desktops_trash_is_listed_with_the_spares() {
    let desk = settled();
    let trash = desk.path("data/Trash");
    fs::create_dir_all(trash.join("info")).unwrap();
    fs::create_dir_all(trash.join("files")).unwrap();
    let was = desk.near().join("a.txt");
    fs::rename(&was, trash.join("files/a.2.txt")).unwrap();
    let info = format!(
        "[Trash Info]\nPath={}\nDeletionDate=2026-11-25T17:03:11\n",
        was.display()
    );
    fs::write(trash.join("info/a.2.txt.trashinfo"), info).unwrap();
    let list = |options: &[&str]| {
        let mut command = desk.command(&[&["spares", "list"], options].concat());
        crate::worlds::Said::from(
            command
                .env("XDG_DATA_HOME", desk.path("data"))
                .output()
                .unwrap(),
        )
    };
    list(&[])
        .ends(0)
        .says("In the desktop's trash")
        .says("since 2026-11-25 17:03:11");
    let told = list(&["--json", "--within", "near/a.txt"]).ends(0).json();
    assert_eq!(told["trash"][0]["path"], "a.txt");
    let told = list(&["--json", "--day", "2026-11-24"]).ends(0).json();
    assert_eq!(told["trash"].as_array().unwrap().len(), 0);
}

#[test]
fn a_pass_that_failed_is_no_more_told_once_a_later_one_went_well() {
    let mut desk = Desk::tied(&[]);
    desk.write_near("a.txt", "one");
    desk.run(&["sync"]).ends(0);
    desk.stop_serving();
    desk.run(&["sync"]).ends(6);
    let page = |desk: &Desk, to: &str| {
        let written = desk.path(to);
        desk.run(&["report", "--to", written.to_str().unwrap()]);
        fs::read_to_string(written).unwrap()
    };
    assert!(page(&desk, "away.html").contains("The last pass of the lane scores"));
    desk.serve_again(&[]);
    // It carries nothing, and so is no run of its own.
    desk.run(&["sync"]).ends(0).says("nothing to carry");
    let page = page(&desk, "well.html");
    assert!(!page.contains("The last pass of the lane scores"), "{page}");
    assert!(page.contains("Nothing needs a person, and nothing is to be mended."));
}
