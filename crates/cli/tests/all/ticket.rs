//! A technician's first ticket, through the built program: connect, tie, look, carry, settle, bring back.

use std::fs;
use std::process::Stdio;

use crate::worlds::{Desk, tree};
use rustix::process::Signal;

#[test]
fn the_demo_runs_clean() {
    let dir = tempfile::tempdir().unwrap();
    let into = dir.path().join("demo");
    let demo = |into: &std::path::Path| {
        std::process::Command::new(env!("CARGO_BIN_EXE_katabatic"))
            .args(["demo", "--into"])
            .arg(into)
            .output()
            .unwrap()
    };
    let output = demo(&into);
    let text = String::from_utf8_lossy(&output.stdout);
    assert!(
        output.status.success(),
        "{text}\n{}",
        String::from_utf8_lossy(&output.stderr)
    );
    assert!(text.contains("Every step ended as it should"), "{text}");
    assert_eq!(
        tree(&into.join("librarian/Scores")),
        tree(&into.join("cloud/librarian/Scores"))
    );
    assert_eq!(
        demo(&into).status.code(),
        Some(2),
        "a folder that is not empty is refused"
    );
}

#[test]
fn an_account_is_tested_before_it_is_saved() {
    let desk = Desk::bare(&[]);
    let add = |address: &str, password: &str| {
        crate::worlds::write(&desk.path("pass"), password);
        desk.run(&[
            "account",
            "add",
            "office",
            "--address",
            address,
            "--user",
            "librarian",
            "--password-file",
            "pass",
        ])
    };
    add(&desk.address, "wrong")
        .ends(5)
        .says("does not accept the user name librarian");
    add("http://127.0.0.1:9/", "practice")
        .ends(6)
        .says("does not answer");
    add("https://no-such-host.invalid/", "practice").ends(6);
    add(&format!("{}Nowhere/", desk.address), "practice")
        .ends(3)
        .says("nothing at this path")
        .says(&format!("--address {}", desk.address));
    crate::worlds::write(&desk.path("cloud/librarian/file.txt"), "x");
    add(&format!("{}file.txt", desk.address), "practice").ends(3);
    add(&desk.address, "").ends(2).says("it is empty");
    add("http://cloud.example/", "practice")
        .ends(2)
        .says("plain http");
    desk.run(&["account", "list"])
        .ends(0)
        .says("no accounts yet");
    assert_eq!(fs::read_dir(desk.path("home/secrets")).unwrap().count(), 0);

    desk.add_account().ends(0).says("Scores");
    desk.add_account().ends(2).says("of that name already");
    desk.run(&["account", "test", "office"])
        .ends(0)
        .says("answers");
    desk.run(&["account", "show", "@office"])
        .ends(0)
        .says(&desk.address);
    let config = fs::read_to_string(desk.path("home/katabatic.toml")).unwrap();
    assert!(!config.contains("practice"), "{config}");
    desk.run(&["account", "remove", "office"]).ends(0);
    assert_eq!(fs::read_dir(desk.path("home/secrets")).unwrap().count(), 0);
}

#[test]
fn a_password_comes_from_standard_input_too() {
    use std::io::Write;
    let desk = Desk::bare(&[]);
    let arguments = [
        "account",
        "add",
        "office",
        "--address",
        &desk.address,
        "--user",
        "librarian",
        "--password-stdin",
    ];
    let mut child = desk
        .command(&arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    child
        .stdin
        .take()
        .unwrap()
        .write_all(b"practice\n")
        .unwrap();
    assert!(child.wait().unwrap().success());
}

#[test]
fn a_lane_is_checked_before_it_is_added() {
    let desk = Desk::bare(&[]);
    let add = |name: &str, near: &str, far: &str, more: &[&str]| {
        desk.run(&[&["lane", "add", name, "--near", near, "--far", far], more].concat())
    };
    add("scores", "near", "@office/Scores", &[])
        .ends(2)
        .says("there is no account @office");
    desk.add_account().ends(0);
    add("scores", "near", "@ofice/Scores", &[])
        .ends(2)
        .says("there are @office");
    add("scores", "near", "office/Scores", &[])
        .ends(2)
        .says("Did you mean @office/Scores?");
    add("scores", "missing", "@office/Scores", &[])
        .ends(6)
        .says("--make");
    add("scores", "near", "@office/Missing", &[])
        .ends(6)
        .says("--make");
    add("scores", "home", "@office/Scores", &[])
        .ends(2)
        .says("own things");
    add("scores", "near", "near/copy", &["--make"])
        .ends(2)
        .says("lies around its far side");
    desk.run(&["lane", "list"]).ends(0).says("no lanes yet");

    desk.write_near("one.txt", "12345");
    add("scores", "near", "@office/Scores", &[])
        .ends(0)
        .says("carry 1 file up, 5 B");
    assert!(tree(&desk.far()).is_empty(), "nothing is carried by adding");
    add("again", "near", "@office/Other", &["--make"])
        .ends(2)
        .says("is ");
    add("inside", "near/sub", "@office/Other", &["--make"])
        .ends(2)
        .says("lies inside");
    add("around", ".", "@office/Other", &["--make"]).ends(2);
    // Another name for the same account is the same place.
    desk.run(&[
        "account",
        "add",
        "twin",
        "--address",
        &desk.address,
        "--user",
        "librarian",
        "--password-file",
        "password",
    ])
    .ends(0);
    add("twin", "other", "@twin/Scores/sub", &["--make"])
        .ends(2)
        .says("lies inside");
    add("fine", "other", "@twin/Other", &["--make"]).ends(0);
    desk.run(&["account", "remove", "twin"])
        .ends(2)
        .says("lanes still use it: fine");
    desk.run(&["lane", "remove", "fine"])
        .ends(0)
        .says("Every file stays");
    desk.run(&["lane", "show", "scores"])
        .ends(0)
        .says("two-way");
}

#[test]
fn a_conflict_is_shown_and_settled_in_each_way() {
    let desk = Desk::tied(&[]);
    for name in ["near.txt", "far.txt", "both.txt", "newest.txt"] {
        desk.write_near(name, "Title\nold line\n");
    }
    desk.run(&["sync"]).ends(0);
    for name in ["near.txt", "far.txt", "both.txt", "newest.txt"] {
        desk.write_near(name, "Title\nchanged here\n");
        desk.write_far(name, "Title\nchanged there, too\n");
    }
    desk.run(&["sync"]).ends(3).says("conflict");
    desk.run(&["conflicts"])
        .ends(3)
        .says("line 2: changed here")
        .says("line 2: changed there, too");
    desk.run(&["status"]).ends(3).says("conflict");
    desk.run(&["settle", "near/newest.txt", "--keep", "newest"])
        .ends(3)
        .says("received");
    desk.run(&["settle", "near/near.txt", "--keep", "near"])
        .ends(0)
        .says("spares restore");
    desk.run(&[
        "settle",
        "@office/Scores/far.txt",
        "near/newest.txt",
        "--keep",
        "far",
    ])
    .ends(0);
    desk.run(&["settle", "near/both.txt", "--keep", "both"])
        .ends(0)
        .says("both.txt")
        .says("[@office ");
    desk.run(&["settle", "near/both.txt", "--keep", "near"])
        .ends(2)
        .says("not in conflict");
    desk.run(&["conflicts"]).ends(0);
    desk.run(&["status"]).ends(0).says("All settled");
    let near = tree(&desk.near());
    assert_eq!(near, tree(&desk.far()));
    assert_eq!(near.len(), 5);
    assert_eq!(near["near.txt"], b"Title\nchanged here\n");
    assert_eq!(near["far.txt"], b"Title\nchanged there, too\n");
    assert_eq!(near["both.txt"], b"Title\nchanged here\n");
}

#[test]
fn a_file_against_a_folder_is_settled_whole() {
    let desk = Desk::tied(&[]);
    desk.write_near("thing", "a file");
    desk.run(&["sync"]).ends(0);
    fs::remove_file(desk.near().join("thing")).unwrap();
    desk.write_near("thing/inside.txt", "in a folder");
    desk.write_far("thing", "a file, edited");
    desk.run(&["sync"]).ends(3);
    desk.run(&["settle", "near/thing", "--keep", "far"]).ends(0);
    assert_eq!(tree(&desk.near())["thing"], b"a file, edited");
    assert_eq!(tree(&desk.near()), tree(&desk.far()));
    // The whole folder is in the spares and comes back under a dated name.
    let spares = desk.run(&["spares", "list", "--json"]).ends(0).json();
    let folder = spares["spares"]
        .as_array()
        .unwrap()
        .iter()
        .find(|spare| spare["folder"] == true)
        .unwrap();
    desk.run(&["spares", "restore", &folder["number"].to_string()])
        .ends(0);
    assert!(
        tree(&desk.near())
            .iter()
            .any(|(at, content)| at.contains("[spare ") && content == b"in a folder")
    );
}

#[test]
fn what_was_replaced_comes_back() {
    let desk = Desk::tied(&[]);
    desk.write_near("a.txt", "first");
    desk.write_near("gone.txt", "was here");
    desk.run(&["sync"]).ends(0);
    desk.write_near("a.txt", "second");
    fs::remove_file(desk.far().join("gone.txt")).unwrap();
    desk.run(&["sync"]).ends(0).says("removed");
    let spares = desk.run(&["spares", "list", "--json"]).ends(0).json();
    let number = |path: &str| {
        let all = spares["spares"].as_array().unwrap();
        all.iter().find(|spare| spare["path"] == path).unwrap()["number"].to_string()
    };
    desk.run(&["spares", "restore", &number("gone.txt")])
        .ends(0);
    assert_eq!(tree(&desk.near())["gone.txt"], b"was here");
    desk.run(&[
        "spares",
        "restore",
        &number("a.txt"),
        "--to",
        "elsewhere.txt",
    ])
    .ends(0);
    assert_eq!(fs::read(desk.path("elsewhere.txt")).unwrap(), b"first");
    desk.run(&[
        "spares",
        "restore",
        &number("a.txt"),
        "--to",
        "elsewhere.txt",
    ])
    .ends(1);
    desk.run(&["spares", "restore", &number("a.txt")])
        .ends(0)
        .says("[spare ");
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&desk.near()), tree(&desk.far()));
    assert_eq!(tree(&desk.far()).len(), 3);
}

#[test]
fn plans_say_why_and_can_be_held_to() {
    let desk = Desk::tied(&[]);
    for number in 0..60 {
        desk.write_near(&format!("many/{number}.txt"), "x");
    }
    let plan = desk
        .run(&["plan"])
        .ends(0)
        .says("Folded by folder")
        .says("carry 60 files up, 60 B");
    assert!(!plan.out.contains("many/7.txt"));
    desk.run(&["plan", "--all"])
        .ends(0)
        .says("many/7.txt")
        .says("new on this computer");
    let id = desk.run(&["plan", "--json"]).json()["plans"][0]["id"]
        .as_str()
        .unwrap()
        .to_owned();
    desk.write_near("late.txt", "late");
    desk.run(&["sync", "--exactly", &id])
        .ends(3)
        .says("things have changed since");
    assert!(tree(&desk.far()).is_empty());
    desk.run(&["sync", "near/many/7.txt"]).ends(0);
    assert_eq!(tree(&desk.far()).keys().collect::<Vec<_>>(), ["many/7.txt"]);
    desk.run(&["sync", "scores"]).ends(0);
    assert_eq!(tree(&desk.far()).len(), 61);
    desk.run(&["plan"]).ends(0).says("nothing to do");
    desk.write_far("many/7.txt", "changed there");
    desk.run(&["plan"])
        .ends(0)
        .says("changed in the cloud")
        .says("unchanged on this computer");
}

#[test]
fn the_status_says_where_a_file_stands_and_why() {
    use std::os::unix::fs::symlink;
    let desk = Desk::tied(&[]);
    desk.write_near("a.txt", "first");
    symlink("a.txt", desk.near().join("link")).unwrap();
    desk.run(&["status"]).ends(0).says("never looked at yet");
    desk.run(&["sync"]).ends(0);
    desk.run(&["status"])
        .ends(0)
        .says("settled")
        .says("a symbolic link, which is never followed");
    desk.run(&["status", "near/a.txt"])
        .ends(0)
        .says("settled")
        .says("5 B");
    desk.write_near("a.txt", "second");
    let status = desk.run(&["status", "near/a.txt", "--json"]).ends(0).json();
    assert_eq!(status["lanes"][0]["files"][0]["state"], "waiting up");
    desk.run(&["status", "near/nothing.txt"])
        .ends(2)
        .says("nothing of that name");
    desk.run(&["status", "elsewhere"])
        .ends(2)
        .says("neither a lane nor in one");
    let plain = desk.run(&["status", "--plain"]).ends(0);
    assert!(plain.out.is_ascii(), "{}", plain.out);
}

#[test]
fn the_brake_asks_for_the_number() {
    let desk = Desk::tied(&[]);
    for number in 0..20 {
        desk.write_near(&format!("Viola/{number}.txt"), "x");
    }
    desk.run(&["sync"]).ends(0);
    for number in 0..15 {
        fs::remove_file(desk.near().join(format!("Viola/{number}.txt"))).unwrap();
    }
    desk.run(&["sync"])
        .ends(4)
        .says("remove 15 files")
        .says("Viola (15)")
        .says("--release-brake 15");
    assert_eq!(tree(&desk.far()).len(), 20);
    desk.run(&["sync", "scores", "--release-brake", "14"])
        .ends(4);
    desk.run(&["sync", "scores", "--release-brake", "15"])
        .ends(0);
    assert_eq!(tree(&desk.far()).len(), 5);
    // Removed files lie in the spares there; the runs say what was done.
    let run = desk.run(&["runs", "--json"]).ends(0).json();
    assert_eq!(run["runs"][0]["removed"], 15);
    desk.run(&["runs", &run["runs"][0]["number"].to_string()])
        .ends(0)
        .says("remove there");
}

#[test]
fn a_side_that_is_not_there_ends_with_six() {
    let mut desk = Desk::tied(&[]);
    desk.write_near("a.txt", "a");
    desk.run(&["sync"]).ends(0);
    fs::rename(desk.far(), desk.path("cloud/librarian/Moved")).unwrap();
    desk.run(&["sync"]).ends(6).says("Nothing was removed");
    fs::rename(desk.path("cloud/librarian/Moved"), desk.far()).unwrap();
    fs::rename(desk.near(), desk.path("unplugged")).unwrap();
    desk.run(&["sync"]).ends(6);
    fs::create_dir(desk.near()).unwrap();
    desk.run(&["sync"]).ends(6).says("an empty mount point");
    fs::remove_dir(desk.near()).unwrap();
    fs::rename(desk.path("unplugged"), desk.near()).unwrap();
    desk.stop_serving();
    desk.run(&["sync"]).ends(6).says("does not answer");
    let error = desk.run(&["sync", "--json"]).ends(6).json();
    assert_eq!(error["lanes"][0]["error"]["exit"], 6);
    assert_eq!(tree(&desk.near()), tree(&desk.far()));
}

#[test]
fn a_server_that_answers_500_to_half_of_it_ends_with_three() {
    let mut desk = Desk::tied(&[]);
    for number in 0..30 {
        desk.write_near(&format!("{number}.txt"), "x");
    }
    desk.serve_again(&["broken=0.5"]);
    let said = desk.run(&["sync"]).ends(3).says("stuck").says("500");
    assert!(said.out.contains("  Next: "), "{}", said.out);
    let carried = tree(&desk.far()).len();
    assert!(carried < 30, "some of it is stuck");
    desk.serve_again(&[]);
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&desk.near()), tree(&desk.far()));
}

#[test]
fn a_signal_to_end_stops_in_order() {
    for signal in [Signal::INT, Signal::TERM, Signal::HUP] {
        // Where the tests themselves run so that a closed terminal does not end them, the program is left alone as well.
        if !(signal == Signal::HUP && is_ignored_here(signal)) {
            stops_in_order(signal);
        }
    }
}

/// Whether this program ignores a signal, and so what it starts (proc_pid_status(5)).
fn is_ignored_here(signal: Signal) -> bool {
    let status = fs::read_to_string("/proc/self/status").unwrap();
    let ignored = status
        .lines()
        .find_map(|line| line.strip_prefix("SigIgn:"))
        .unwrap();
    let ignored = u64::from_str_radix(ignored.trim(), 16).unwrap();
    ignored & (1 << (signal.as_raw() - 1)) != 0
}

fn stops_in_order(signal: Signal) {
    let mut desk = Desk::tied(&[]);
    for number in 0..200 {
        desk.write_near(&format!("{number}.txt"), "some text");
    }
    // So slow that it takes half a minute, however late it is looked at here.
    desk.serve_again(&["delay=200"]);
    let child = desk
        .command(&["sync"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    // Once something has arrived, it is in the middle of carrying.
    while tree(&desk.far()).is_empty() {
        std::thread::yield_now();
    }
    let process = rustix::process::Pid::from_raw(child.id() as i32).unwrap();
    rustix::process::kill_process(process, signal).unwrap();
    let said = crate::worlds::Said::from(child.wait_with_output().unwrap());
    said.ends(130).says("set down for the next sync");
    let carried = tree(&desk.far()).len();
    assert!(carried < 200);
    desk.serve_again(&[]);
    let again = desk.run(&["sync", "--json"]).ends(0).json();
    assert_eq!(
        again["lanes"][0]["up"]["files"],
        200 - carried,
        "what has arrived is not carried again"
    );
    assert_eq!(tree(&desk.near()), tree(&desk.far()));
}

#[test]
fn wrong_use_is_two_and_says_what_to_do() {
    let desk = Desk::bare(&[]);
    desk.run(&["sync"]).ends(2).says("lane add");
    desk.run(&["lane", "show", "nope"]).ends(2);
    desk.run(&["no-such-command"]).ends(2);
    desk.run(&["standin", "serve", "--data", "x", "--fault", "teapot"])
        .ends(2)
        .says("is no fault");
    desk.run(&["standin", "serve", "--data", "x", "--listen", "0.0.0.0:0"])
        .ends(1)
        .says("this computer alone");
    crate::worlds::write(&desk.path("home/katabatic.toml"), "[acount.x]\n");
    desk.run(&["account", "list"])
        .ends(2)
        .says("`acount` means nothing here");
}

#[test]
fn a_file_that_is_no_ledger_is_set_aside_as_it_is() {
    const THEIRS: &[u8] = b"this is no database at all, but somebody's file";
    let desk = Desk::tied(&[]);
    for journal in ["ledger.db-wal", "ledger.db-shm"] {
        let _ = fs::remove_file(desk.path("home").join(journal));
    }
    fs::write(desk.path("home/ledger.db"), THEIRS).unwrap();
    desk.run(&["sync"])
        .ends(0)
        .says("was set aside as")
        .says("removes nothing");
    let aside = fs::read_dir(desk.path("home")).unwrap().find(|entry| {
        let name = entry.as_ref().unwrap().file_name();
        name.to_string_lossy().starts_with("ledger.db [damaged ")
    });
    assert_eq!(fs::read(aside.unwrap().unwrap().path()).unwrap(), THEIRS);
}

#[test]
fn no_password_shows_anywhere() {
    let mut desk = Desk::tied(&[]);
    desk.write_near("a.txt", "a");
    let mut said = String::new();
    for faults in [&[][..], &["broken=0.5"]] {
        desk.serve_again(faults);
        for arguments in [
            &["sync", "-vv"][..],
            &["account", "test", "office", "-vv"],
            &["account", "show", "office", "--json"],
        ] {
            let output = desk.run(arguments);
            said.push_str(&output.out);
            said.push_str(&output.err);
        }
    }
    for file in [
        "home/katabatic.toml",
        "home/ledger.db",
        "home/ledger.db-wal",
    ] {
        said.push_str(&String::from_utf8_lossy(
            &fs::read(desk.path(file)).unwrap_or_default(),
        ));
    }
    assert!(
        said.contains("PROPFIND") || said.contains("127.0.0.1"),
        "the log was on"
    );
    // As it is, and as Basic sign-in sends it.
    for secret in ["practice", "bGlicmFyaWFuOnByYWN0aWNl"] {
        assert!(!said.contains(secret), "{secret} shows in {said}");
    }
    use std::os::unix::fs::PermissionsExt;
    let mode = fs::metadata(desk.path("home/secrets/office"))
        .unwrap()
        .permissions()
        .mode();
    assert_eq!(mode & 0o077, 0, "only the owner may read it");
}

#[test]
fn conflicts_are_settled_by_the_folder_and_by_the_lane_and_tried_first() {
    let desk = Desk::tied(&[]);
    for name in ["a/1.txt", "a/2.txt", "b/3.txt"] {
        desk.write_near(name, "before");
    }
    desk.run(&["sync"]).ends(0);
    for name in ["a/1.txt", "a/2.txt", "b/3.txt"] {
        desk.write_near(name, &format!("{name}, from here"));
        desk.write_far(name, &format!("{name}, from there, longer"));
    }
    desk.run(&["sync"]).ends(3);
    desk.run(&["settle", "near/a", "--keep", "near", "--preview"])
        .ends(0)
        .says("a/1.txt in lane scores")
        .says("would keep the version on this computer (18 B");
    assert_eq!(
        fs::read(desk.far().join("a/1.txt")).unwrap(),
        b"a/1.txt, from there, longer"
    );
    desk.run(&["settle", "near/a", "--keep", "near"]).ends(0);
    for name in ["a/1.txt", "a/2.txt"] {
        let kept = fs::read_to_string(desk.far().join(name)).unwrap();
        assert_eq!(kept, format!("{name}, from here"));
    }
    assert_eq!(
        fs::read(desk.near().join("b/3.txt")).unwrap(),
        b"b/3.txt, from here"
    );
    desk.run(&["settle", "scores", "--keep", "far"]).ends(0);
    assert_eq!(
        fs::read(desk.near().join("b/3.txt")).unwrap(),
        b"b/3.txt, from there, longer"
    );
    desk.run(&["settle", "scores", "--keep", "far"])
        .ends(0)
        .says("No conflicts were found");
    assert_eq!(
        desk.run(&["spares", "list", "--json"]).json()["spares"]
            .as_array()
            .unwrap()
            .len(),
        3
    );
}

#[test]
fn a_conflict_shows_how_its_versions_differ() {
    let desk = Desk::tied(&[]);
    for name in ["Rota.csv", "Poster.gif"] {
        desk.write_near(name, "before");
    }
    desk.run(&["sync"]).ends(0);
    desk.write_near("Rota.csv", "Mon,Ann\nTue,Ben\nWed,Cleo\n");
    desk.write_far("Rota.csv", "Mon,Ann\nTue,Dora\nWed,Cleo\n");
    fs::write(
        desk.near().join("Poster.gif"),
        b"GIF89a\x03\x00\x02\x00\x00\x00\x00",
    )
    .unwrap();
    fs::write(
        desk.far().join("Poster.gif"),
        b"GIF89a\x04\x00\x02\x00\x00\x00\x00\xff",
    )
    .unwrap();
    desk.run(&["sync"]).ends(3);
    desk.run(&["conflicts"])
        .ends(3)
        .says("line 2: Tue,Ben")
        .says("    -Tue,Ben")
        .says("    +Tue,Dora")
        .says("a picture of 3 x 2 pixels")
        .says("they differ from byte 6 on; 85.7 % of 14 B are equal");
}

#[test]
fn mistakes_in_the_config_are_told_all_at_once_with_their_lines() {
    let desk = Desk::tied(&[]);
    let file = desk.path("home/katabatic.toml");
    let config = fs::read_to_string(&file).unwrap();
    let changed = config
        .replace("direction = \"two-way\"", "direction = \"sideways\"")
        .replace(
            "[account.office]",
            "keep_run_days = 3\n\n[account.office]\npatiense = 5",
        )
        + "quiet_seconds = \"long\"\n";
    fs::write(&file, &changed).unwrap();
    let line = |text: &str| {
        let at = changed
            .lines()
            .position(|line| line.contains(text))
            .unwrap()
            + 1;
        format!("line {at}, column 1: ")
    };
    let said = desk
        .run(&["status"])
        .ends(2)
        .says("4 mistakes are in it")
        .says(&format!(
            "{}`keep_run_days` means nothing here; did you mean `keep_runs_days`?",
            line("keep_run_days")
        ))
        .says(&format!("{}`patiense`", line("patiense")))
        .says("did you mean `patience`?")
        .says(&line("sideways"))
        .says("    direction = \"sideways\"")
        .says(&line("quiet_seconds"));
    assert!(
        said.err.find("keep_run_days") < said.err.find("sideways"),
        "in their order"
    );
    let told = desk.run(&["status", "--json"]).ends(2).json();
    assert_eq!(told["error"]["details"].as_array().unwrap().len(), 8);
    fs::write(&file, config.replace("[account.office]", "[account.office")).unwrap();
    desk.run(&["status"])
        .ends(2)
        .says("it is not written as TOML wants it")
        .says("line ")
        .says("    [account.office");
    fs::write(&file, config).unwrap();
    desk.run(&["status", "score"])
        .ends(2)
        .says("Did you mean scores?");
    desk.run(&["account", "test", "offcie"])
        .ends(2)
        .says("Did you mean office?");
    desk.run(&["list", "@offcie/Scores"])
        .ends(2)
        .says("did you mean @office?");
}

#[test]
fn the_log_shows_each_request_and_no_secret() {
    let desk = Desk::tied(&[]);
    desk.write_near("a.txt", "first");
    let said = desk.run(&["sync", "-vv"]).ends(0);
    assert!(
        said.err.contains("PUT ") && said.err.contains(" bytes there, "),
        "{}",
        said.err
    );
    for number in 0..300 {
        desk.write_near(&format!("part {number}.txt"), "a part");
    }
    desk.run(&["sync"]).ends(0);
    desk.write_near("b.txt", "second");
    // A listing of so many does not say before how long it is: what came is counted.
    let said = desk.run(&["status", "--fresh", "-vv"]).ends(0);
    let listed = said.err.lines().filter(|line| line.contains("PROPFIND "));
    let came = listed.filter_map(|line| {
        let (before, _) = line.split_once(" bytes back")?;
        before.rsplit(' ').next()?.parse::<u64>().ok()
    });
    assert!(came.max() > Some(100_000), "{}", said.err);
    assert!(!said.err.contains("? bytes"), "{}", said.err);
    let said = desk.run(&["sync", "-vv", "--log", "the.log"]).ends(0);
    assert_eq!(said.err, "");
    let log = fs::read_to_string(desk.path("the.log")).unwrap();
    assert!(log.contains("PROPFIND ") && log.contains(" 207, "), "{log}");
    for told in [&log, &said.err] {
        assert!(
            !told.contains("practice") && !told.contains("Basic "),
            "{told}"
        );
    }
    desk.run(&["sync", "--log", "not/there/the.log"])
        .ends(1)
        .says("writing the log");
}
