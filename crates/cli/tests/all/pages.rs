//! Long answers are read by pages on a terminal, and short ones come as ever.

use std::process::{Command, Stdio};

use crate::worlds::Desk;

/// What a terminal of ten rows and eighty columns, which `script` (util-linux) makes, is sent.
fn on_a_terminal(desk: &Desk, typed: &str, pager: &str) -> String {
    let plain = desk.command(&[]);
    let program = plain.get_program().to_str().unwrap();
    let envs = plain.get_envs();
    let out = Command::new("script")
        .args([
            "-qec",
            &format!("stty rows 10 cols 80; '{program}' {typed}"),
            "/dev/null",
        ])
        .envs(envs.filter_map(|(key, value)| Some((key, value?))))
        .env("TERM", "xterm")
        .env("PAGER", pager)
        .env_remove("LESS")
        .current_dir(plain.get_current_dir().unwrap())
        .stdin(Stdio::null())
        .output()
        .unwrap();
    String::from_utf8_lossy(&out.stdout).replace('\r', "")
}

fn desk_of(files: u32) -> Desk {
    let desk = Desk::bare(&[]);
    for number in 0..files {
        desk.write_far(&format!("part {number:02}.txt"), "bars");
    }
    desk.add_account().ends(0);
    desk.tie(&[]).ends(0);
    desk.run(&["sync"]).ends(0);
    desk
}

#[test]
fn an_answer_that_is_longer_than_the_terminal_goes_to_the_pager() {
    let desk = desk_of(20);
    let paged = "sed 's/^/> /'; echo \"with $LESS\"";
    let seen = on_a_terminal(&desk, "list near", paged);
    assert!(
        seen.contains("> part 00.txt") && seen.contains("> part 19.txt"),
        "{seen}"
    );
    assert!(seen.contains("with FRX"), "{seen}");
    // Each line once, and all of them.
    assert_eq!(seen.matches("part 07.txt").count(), 1, "{seen}");
    assert!(seen.contains("20 files"), "{seen}");

    // What fits, what is not wanted by pages, and what is for a program comes as ever.
    for (typed, pager) in [
        ("status", paged),
        ("list near --no-pager", paged),
        ("list near --json", paged),
        ("list near", "cat"),
        ("list near", ""),
    ] {
        let seen = on_a_terminal(&desk, typed, pager);
        assert!(
            !seen.contains("> ") && !seen.contains("with FRX"),
            "{typed}: {seen}"
        );
        assert!(
            seen.contains("part 19.txt") || typed == "status",
            "{typed}: {seen}"
        );
    }
    // In a pipe there are no pages, whatever PAGER says.
    let mut piped = desk.command(&["list", "near"]);
    let out = piped.env("PAGER", paged).output().unwrap();
    assert!(!String::from_utf8_lossy(&out.stdout).contains("> "));
}

#[test]
fn a_pager_that_ends_early_or_is_not_there_changes_nothing() {
    let desk = desk_of(20);
    let seen = on_a_terminal(&desk, "list near; echo code=$?", "head -n 2");
    assert!(seen.contains("code=0"), "{seen}");
    assert!(!seen.contains("part 19.txt"), "{seen}");
    for pager in [
        "no-such-pager --fast",
        "/nowhere/pager",
        "A=b no-such-pager",
    ] {
        let seen = on_a_terminal(&desk, "list near; echo code=$?", pager);
        assert!(
            seen.contains("part 19.txt") && seen.contains("code=0"),
            "{pager}: {seen}"
        );
        assert!(!seen.contains("not found"), "{pager}: {seen}");
    }
    // The code is that of the command.
    desk.write_near("part 01.txt", "edited here");
    desk.write_far("part 01.txt", "edited there, too");
    desk.run(&["sync"]).ends(3);
    let seen = on_a_terminal(
        &desk,
        "list near --sort state; echo code=$?",
        "sed 's/^/> /'",
    );
    assert!(seen.contains("> ") && seen.contains("conflict"), "{seen}");
    // What is wrong is told after what came before it, and nothing is kept back.
    let seen = on_a_terminal(&desk, "list nowhere; echo code=$?", "sed 's/^/> /'");
    assert!(
        seen.contains("code=6") && seen.contains("nowhere"),
        "{seen}"
    );
}
