//! A pass with nothing to do over many files, told by the stand-in's change tokens, beside `git status` on the same
//! tree; and what people ask about such a lane. `BENCH_FILES` sets how many; 100,000 otherwise.

mod world;

use std::fs;
use std::process::{Command, Stdio};

use world::{Server, Took, at, measured, only_built, tie};

fn main() {
    if only_built() {
        return;
    }
    let files: usize = std::env::var("BENCH_FILES")
        .ok()
        .and_then(|text| text.parse().ok())
        .unwrap_or(100_000);
    let dir = tempfile::tempdir().expect("a temporary folder");
    let dir = dir.path();
    let server = Server::start(&dir.join("cloud"), &[]);
    for number in 0..files {
        let folder = dir.join(format!("first/{:03}/{:02}", number % 250, number % 4));
        fs::create_dir_all(&folder).expect("a folder is made");
        fs::write(
            folder.join(format!("{number}.txt")),
            format!("file {number}\n"),
        )
        .expect("a file is written");
    }
    let git = |arguments: &[&str]| {
        let mut command = Command::new("git");
        command
            .args(arguments)
            .current_dir(dir.join("first"))
            .env("GIT_DIR", dir.join("git"))
            .env("GIT_WORK_TREE", dir.join("first"))
            .stderr(Stdio::null());
        command
    };
    for arguments in [
        &["init", "--quiet"][..],
        &["add", "--all"],
        &[
            "-c",
            "user.name=bench",
            "-c",
            "user.email=bench@localhost",
            "commit",
            "--quiet",
            "--message",
            "all",
        ],
    ] {
        measured(&mut git(arguments));
    }
    let say = |what: &str, took: Took, beside: Option<Took>| {
        let beside = beside.map_or_else(String::new, |git| {
            format!("{:.2} x git status", took.times(git))
        });
        println!(
            "{what:<34} {:>7.2} s  {:>5.0} MB at most  {beside}",
            took.time.as_secs_f64(),
            took.peak
        );
    };
    tie(dir, &server, "home", "first", "bench");
    say(
        "first pass, up",
        measured(&mut at(dir, "home", &["sync"])),
        None,
    );
    // Stamps of the last two seconds are looked at again; the token is taken by a pass that carries nothing.
    std::thread::sleep(std::time::Duration::from_secs(3));
    for _ in 0..2 {
        measured(&mut at(dir, "home", &["sync"]));
    }
    measured(&mut git(&["status"]));
    for _ in 0..3 {
        let status = measured(&mut git(&["status"]));
        say("git status", status, None);
        let pass = measured(&mut at(dir, "home", &["sync"]));
        say("a pass with nothing to do", pass, Some(status));
    }
    let one = format!("first/{:03}/{:02}/{}.txt", 0, 0, 0);
    for (what, arguments) in [
        ("status of the lane", &["status", "bench"][..]),
        ("status of one file", &["status", &one]),
        ("why of one file", &["why", &one]),
        ("plan", &["plan", "bench"]),
        ("audit --quick", &["audit", "bench", "--quick"]),
    ] {
        say(what, measured(&mut at(dir, "home", arguments)), None);
    }
}
