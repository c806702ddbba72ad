//! Whether this computer may be wiped or given away, through the built program.

use std::fs;
use std::path::Path;

use crate::worlds::{Desk, Said, write};

/// Asked as the person whose home folder is `person` in the desk.
fn asked(desk: &Desk, arguments: &[&str]) -> Said {
    let mut typed = vec!["hand-over"];
    typed.extend(arguments);
    let output = desk
        .command(&typed)
        .env("HOME", desk.path("person"))
        .output()
        .unwrap();
    let said = Said::from(output);
    crate::schema::check(&typed, &said.out);
    said
}

fn desk() -> Desk {
    let desk = Desk::bare(&[]);
    for (name, content) in [
        ("Scores/Rota.csv", "Mon,Ann"),
        ("Scores/Suite/Viola.txt", "bars 1 to 40"),
    ] {
        write(&desk.path("person").join(name), content);
    }
    desk.add_account().ends(0);
    desk.run(&[
        "lane",
        "add",
        "scores",
        "--near",
        "person/Scores",
        "--far",
        "@office/Scores",
        "--make",
    ])
    .ends(0);
    desk
}

#[test]
fn a_yes_is_said_only_when_nothing_is_lost_with_the_computer() {
    let desk = desk();
    asked(&desk, &["--yes"])
        .ends(3)
        .says("2 files, 19 B not proven to be in the cloud")
        .says("Rota.csv: only on this computer")
        .says("No: not yet.");
    desk.run(&["sync"]).ends(0);
    asked(&desk, &["--yes"])
        .ends(0)
        .says("2 of 2 files, 19 B proven to be in the cloud")
        .says("Yes: nothing that a lane covers")
        .says("katabatic lane remove scores")
        .says("katabatic account remove office");

    // A tag that says so is believed by no hand-over: the content there is read.
    let there = desk.path("cloud/librarian/Scores/Rota.csv");
    let time = fs::metadata(&there).unwrap().modified().unwrap();
    fs::write(&there, "Mon,Bob").unwrap();
    fs::File::options()
        .write(true)
        .open(&there)
        .unwrap()
        .set_modified(time)
        .unwrap();
    asked(&desk, &["--yes"]).ends(3).says("Rota.csv: different");
    fs::write(&there, "Mon,Ann").unwrap();

    // What lies beside all lanes is as lost as the rest, unless somebody says that it need not be kept.
    write(&desk.path("person/Letters/to Ann.txt"), "Dear Ann");
    write(&desk.path("person/.mail/inbox"), "a mail");
    asked(&desk, &["--yes"])
        .ends(3)
        .says("In the home folder, and in no lane:")
        .says("Letters/  1 file, 8 B")
        .says("hidden folder .mail/: 1 file");
    write(&desk.path("person/loose.txt"), "loose");
    asked(&desk, &["--yes", "--except", "Letters"])
        .ends(3)
        .says("(in no folder)");
    asked(&desk, &["--yes", "--except", "Letters", "--except", "."]).ends(0);
    fs::remove_file(desk.path("person/loose.txt")).unwrap();
    asked(&desk, &["--yes", "--except", "Nothing"])
        .ends(2)
        .says("no folder right in");
    let page = desk.path("answer.html");
    asked(
        &desk,
        &[
            "--yes",
            "--except",
            "Letters",
            "--to",
            page.to_str().unwrap(),
        ],
    )
    .ends(0)
    .says("Written: ");
    let page = fs::read_to_string(page).unwrap();
    assert!(page.contains("<p class=\"good\">Yes"), "{page}");

    // A name that no lane carries, and a version that was never carried.
    let odd = Path::new(std::ffi::OsStr::new("person/Scores")).join("con\u{1}tract.txt");
    write(&desk.path(odd.to_str().unwrap()), "signed");
    write(&desk.path("person/Scores/Rota.csv"), "Mon,Cleo");
    let answer = asked(&desk, &["--yes", "--json", "--except", "Letters"])
        .ends(3)
        .json();
    assert_eq!(answer["may_go"], false, "{answer:#}");
    let page = desk.path("no.html");
    let to = [
        "--yes",
        "--except",
        "Letters",
        "--to",
        page.to_str().unwrap(),
    ];
    asked(&desk, &to).ends(3);
    let page = fs::read_to_string(page).unwrap();
    // A command and what follows it are not to be read as one.
    assert!(page.contains("katabatic sync scores; Rota.csv: "), "{page}");
    let whats: Vec<&str> = answer["lanes"][0]["obstacles"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["what"].as_str().unwrap())
        .collect();
    assert!(whats.contains(&"not there"), "{answer:#}");
}

#[test]
fn a_side_that_is_away_and_a_copy_on_the_same_disk_are_no_yes() {
    let mut desk = desk();
    desk.run(&["sync"]).ends(0);
    write(&desk.path("person/Photos/a.jpg"), "a picture");
    desk.run(&[
        "lane",
        "add",
        "photos",
        "--near",
        "person/Photos",
        "--far",
        "copies",
        "--make",
        "--direction",
        "up",
    ])
    .ends(0);
    desk.run(&["sync"]).ends(0);
    asked(&desk, &["--yes"])
        .ends(3)
        .says("both of its sides lie on the same disk, and go with it");
    desk.stop_serving();
    asked(&desk, &["--yes"])
        .ends(3)
        .says("it could not be compared")
        .says("No: not yet.");
    let answer = asked(&desk, &["--yes", "--json"]).ends(3).json();
    assert_eq!(
        answer["lanes"][0]["obstacles"][0]["about"]["exit"], 6,
        "{answer:#}"
    );
}
