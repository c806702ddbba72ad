//! The agent through the built program: it follows changes, keeps times, pauses, and takes turns with people.

use std::fs;
use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

use crate::being_written::Writer;
use crate::worlds::{Desk, tree};
use rusqlite::Connection;
use serde_json::Value;

/// An agent that ends with the test.
struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn agent(desk: &Desk) -> Running {
    let running = desk
        .command(&["agent", "run"])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let running = Running(running);
    until("the agent answers", || !status(desk).is_null());
    running
}

fn status(desk: &Desk) -> Value {
    desk.run(&["agent", "status", "--json"]).json()["agent"].clone()
}

fn doing(desk: &Desk) -> String {
    status(desk)["lanes"][0]["doing"]
        .as_str()
        .unwrap_or_default()
        .to_owned()
}

/// Whether its lane carries something, and looks no more.
fn carries(desk: &Desk) -> bool {
    let done = &status(desk)["lanes"][0]["moving"]["bytes"]["done"];
    done.as_u64().is_some_and(|bytes| bytes > 0)
}

#[track_caller]
fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < Duration::from_secs(180), "never: {what}");
        std::thread::sleep(Duration::from_millis(30));
    }
}

/// What a process has used of the processor, in hundredths of a second (proc_pid_stat(5)).
fn processor_time(running: &Running) -> u64 {
    let stat = fs::read_to_string(format!("/proc/{}/stat", running.0.id())).unwrap();
    let fields = stat.rsplit(") ").next().unwrap().split(' ');
    fields
        .skip(11)
        .take(2)
        .map(|ticks| ticks.parse::<u64>().unwrap())
        .sum()
}

fn runs(desk: &Desk) -> usize {
    let all = desk.run(&["runs", "--json", "--last", "999"]).json();
    all["runs"].as_array().unwrap().len()
}

fn settled() -> Desk {
    let desk = Desk::tied(&[]);
    desk.write_near("a.txt", "first");
    desk.run(&["sync"]).ends(0);
    desk
}

#[test]
fn what_is_saved_travels_both_ways_and_a_burst_is_one_pass() {
    let desk = settled();
    let _agent = agent(&desk);
    until("the first pass", || doing(&desk) == "idle");
    // A machine that stands still in the middle makes two bursts of it: then another one is written.
    let mut bursts = 0;
    loop {
        let (before, mut longest, mut last) = (runs(&desk), Duration::ZERO, Instant::now());
        bursts += 1;
        for number in 0..200 {
            let name = format!("burst/{bursts}-{number}.txt");
            desk.write_near(&name, &format!("part {number}"));
            longest = longest.max(last.elapsed());
            last = Instant::now();
        }
        until("the burst is there", || {
            tree(&desk.far()).len() == 200 * bursts + 1
        });
        until("it is idle", || doing(&desk) == "idle");
        if longest < Duration::from_secs(1) {
            assert_eq!(runs(&desk), before + 1, "a burst is one pass");
            break;
        }
        assert!(bursts < 10, "never without a stop of {longest:?}");
    }
    desk.write_far("from there.txt", "new there");
    until("it is here", || desk.near().join("from there.txt").exists());
    fs::rename(desk.near().join("burst"), desk.near().join("moved")).unwrap();
    until("the move is there", || {
        desk.far().join("moved/1-7.txt").exists()
    });
    fs::remove_file(desk.near().join("a.txt")).unwrap();
    until("the removal is there", || {
        !desk.far().join("a.txt").exists()
    });
    until("it is idle", || doing(&desk) == "idle");
    assert_eq!(tree(&desk.near()), tree(&desk.far()));
    // Its own writes are no news: it comes to rest.
    let rest = runs(&desk);
    std::thread::sleep(Duration::from_secs(5));
    assert_eq!(runs(&desk), rest);
    desk.run(&["status"])
        .ends(0)
        .says("runs by the agent, on change");
}

#[test]
fn a_pause_is_kept_over_a_restart_and_ends_when_it_is_told_to() {
    let desk = settled();
    desk.run(&["agent", "pause"]).ends(1).says("no agent runs");
    let first = agent(&desk);
    until("the first pass", || doing(&desk) == "idle");
    desk.run(&["agent", "pause", "nothing"]).ends(2);
    desk.run(&["agent", "pause", "scores", "--lasting", "forever"])
        .ends(2);
    desk.run(&["agent", "pause", "scores", "--lasting", "2h"])
        .ends(0)
        .says("pause until");
    desk.write_near("b.txt", "written while it pauses");
    std::thread::sleep(Duration::from_secs(4));
    assert!(!desk.far().join("b.txt").exists());
    assert_eq!(doing(&desk), "paused");
    desk.run(&["status"]).ends(0).says("paused until");
    // Killed, it leaves its socket behind, and the next one finds the pause.
    drop(first);
    desk.run(&["agent", "status"]).ends(3).says("No agent runs");
    let _second = agent(&desk);
    until("it knows of the pause", || doing(&desk) == "paused");
    desk.run(&["agent", "resume", "scores"]).ends(0);
    until("it is carried", || desk.far().join("b.txt").exists());
    desk.run(&["agent", "pause", "--until", "25:00"]).ends(2);
    desk.run(&["agent", "pause"])
        .ends(0)
        .says("until somebody ends it");
    assert_eq!(status(&desk)["paused"], true);
    // By hand it goes on all the same.
    desk.write_near("c.txt", "by hand");
    desk.run(&["sync"]).ends(0);
    assert!(desk.far().join("c.txt").exists());
}

#[test]
fn one_agent_runs_for_a_home_and_ends_in_order_in_the_middle_of_a_file() {
    let desk = settled();
    desk.run(&["lane", "change", "scores", "--limit-up", "1MB/s", "--yes"])
        .ends(0);
    let mut running = agent(&desk);
    desk.run(&["agent", "run"])
        .ends(1)
        .says("an agent runs there already");
    until("the first pass", || doing(&desk) == "idle");
    // Saved again with the same content: that is to be noted, and no step.
    desk.write_near("a.txt", "first");
    desk.write_near("large.bin", &"0123456789abcdef".repeat(1_500_000));
    until("it is being carried", || carries(&desk));
    // What is being carried is set down, and goes on with the next pass.
    desk.run(&["agent", "stop-pass", "scores"])
        .ends(0)
        .says("sets down");
    until("it is set down", || doing(&desk) == "stopped");
    desk.run(&["agent", "status"])
        .says("ended by somebody with 1 step,")
        .says("left; goes on later, or at once: katabatic agent resume")
        .says("next");
    desk.run(&["status", "scores"])
        .says("△ waiting up")
        .says("ended by somebody");
    desk.run(&["runs"]).says("stopped by Ctrl-C");
    desk.run(&["agent", "stop-pass", "scores"])
        .ends(0)
        .says("No pass of it runs now");
    desk.write_near("large.bin", &"fedcba9876543210".repeat(1_500_000));
    until("it is being carried again", || carries(&desk));
    // A pause sets it down, and its end goes on with it, though nothing new is heard.
    desk.run(&["agent", "pause"]).ends(0);
    until("it pauses", || doing(&desk) == "paused");
    std::thread::sleep(Duration::from_secs(3));
    desk.run(&["agent", "resume"]).ends(0);
    until("it goes on", || carries(&desk));
    let begun = Instant::now();
    desk.run(&["agent", "stop"]).ends(0);
    // The file alone would have taken twenty-four.
    assert!(begun.elapsed() < Duration::from_secs(20));
    assert!(running.0.wait().unwrap().success());
    assert!(!desk.path("home/agent.sock").exists());
    assert!(!desk.far().join("large.bin").exists(), "no half file there");
    desk.run(&["lane", "change", "scores", "--limit-up", "none", "--yes"])
        .ends(0);
    desk.run(&["sync"]).ends(0);
    assert!(tree(&desk.near()) == tree(&desk.far()));
}

#[test]
fn an_agent_that_was_killed_is_told_as_that_and_a_pass_that_runs_as_that() {
    let mut desk = settled();
    let mut running = agent(&desk);
    until("the first pass", || doing(&desk) == "idle");
    desk.run(&["doctor"]).ends(0);
    running.0.kill().unwrap();
    running.0.wait().unwrap();
    desk.run(&["agent", "status"])
        .ends(3)
        .says("was killed, or the computer went down")
        .says("katabatic agent start");
    desk.run(&["status"]).says("was killed");
    desk.run(&["doctor"]).ends(3).says("katabatic agent start");
    // By hand, a pass that runs and one that was killed are not the same either.
    desk.write_near("slow.txt", "on its way");
    desk.serve_again(&["delay=700"]);
    let mut sync = desk
        .command(&["sync"])
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    until("it has begun a run", || {
        desk.run(&["runs", "--json"]).json()["runs"][0]["class"] == "running"
    });
    desk.run(&["runs"]).says("runs now");
    desk.run(&["runs", "--outcome", "running"]).says("runs now");
    sync.kill().unwrap();
    sync.wait().unwrap();
    desk.run(&["runs"])
        .says("cut off; the next sync completes it");
    desk.serve_again(&[]);
    desk.run(&["sync"]).ends(0);
    // An agent that ends in order leaves nothing to tell.
    let mut running = agent(&desk);
    desk.run(&["agent", "stop"]).ends(0);
    running.0.wait().unwrap();
    desk.run(&["agent", "status"]).ends(0).says("by hand alone");
    desk.run(&["doctor"]).ends(0);
}

#[test]
fn what_fails_is_tried_again_and_goes_on_within_seconds_once_the_line_is_back() {
    let mut desk = settled();
    let _agent = agent(&desk);
    until("the first pass", || doing(&desk) == "idle");
    desk.stop_serving();
    desk.write_near("b.txt", "written while nobody answers");
    until("it fails", || doing(&desk) == "failing");
    desk.run(&["agent", "status"])
        .ends(3)
        .says("failed 1 time, tried again");
    desk.serve_again(&[]);
    let begun = Instant::now();
    until("it is carried", || desk.far().join("b.txt").exists());
    assert!(
        begun.elapsed() < Duration::from_secs(60),
        "{:?}",
        begun.elapsed()
    );
    until("it is idle", || doing(&desk) == "idle");
}

#[test]
fn a_server_that_says_nothing_is_not_there_and_its_lane_goes_on_once_it_answers() {
    let mut desk = settled();
    let again = [
        "account",
        "sign-in",
        "office",
        "--password-file",
        "password",
    ];
    desk.run(&[&again[..], &["--patience", "1"]].concat())
        .ends(0);
    let _agent = agent(&desk);
    until("the first pass", || doing(&desk) == "idle");
    desk.serve_again(&["silent"]);
    desk.write_near("b.txt", "written while nobody answers");
    until("it fails", || doing(&desk) == "failing");
    desk.run(&["agent", "status"])
        .ends(3)
        .says("sent nothing for 1 s");
    desk.serve_again(&[]);
    let begun = Instant::now();
    until("it is carried", || desk.far().join("b.txt").exists());
    // Sooner than it would be tried again anyway.
    assert!(
        begun.elapsed() < Duration::from_secs(25),
        "{:?}",
        begun.elapsed()
    );
}

#[test]
fn a_pause_that_the_server_asks_for_is_kept() {
    let mut desk = settled();
    let _agent = agent(&desk);
    until("the first pass", || doing(&desk) == "idle");
    desk.serve_again(&["come-back=3600"]);
    desk.write_near("b.txt", "second");
    until("it fails", || doing(&desk) == "failing");
    let lane = status(&desk)["lanes"][0].clone();
    let next: jiff::Timestamp = lane["next"].as_str().unwrap().parse().unwrap();
    let minutes = (next.as_second() - jiff::Timestamp::now().as_second()) / 60;
    assert!((50..=60).contains(&minutes), "{lane:#}");
    // Somebody who asks by hand is told the same, and nothing is lost.
    desk.run(&["sync"])
        .ends(6)
        .says("is too busy and asks to be left alone for another ")
        .says("Sync again then");
    assert!(!desk.far().join("b.txt").exists());
}

#[test]
fn the_config_is_followed_and_commands_take_turns() {
    let desk = settled();
    let running = agent(&desk);
    until("the first pass", || doing(&desk) == "idle");
    fs::create_dir(desk.path("second")).unwrap();
    fs::write(desk.path("second/x.txt"), "of another lane").unwrap();
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
    let there = desk.path("cloud/librarian/Second/x.txt");
    let second = |desk: &Desk| status(desk)["lanes"][1]["doing"].clone();
    // What a first pass would do is for somebody to see.
    until("the new lane waits for somebody", || {
        second(&desk) == "asking"
    });
    desk.run(&["agent", "status"])
        .ends(3)
        .says("katabatic plan second, then katabatic sync second");
    assert!(!there.exists());
    // Waiting costs next to nothing.
    let before = processor_time(&running);
    std::thread::sleep(Duration::from_secs(4));
    let spent = processor_time(&running) - before;
    assert!(
        spent < 100,
        "{spent} hundredths of a second in four seconds"
    );
    desk.run(&["sync", "second"]).ends(0);
    until("the agent goes on with it", || second(&desk) == "idle");
    fs::write(desk.path("second/z.txt"), "after the first pass").unwrap();
    let there = desk.path("cloud/librarian/Second/z.txt");
    until("the new lane is carried", || there.exists());
    desk.run(&["lane", "change", "second", "--when", "by hand", "--yes"])
        .ends(0)
        .says("by hand");
    until("it is known", || {
        status(&desk)["lanes"][1]["when"][0] == "by hand"
    });
    fs::write(desk.path("second/y.txt"), "not by itself").unwrap();
    std::thread::sleep(Duration::from_secs(4));
    assert!(!desk.path("cloud/librarian/Second/y.txt").exists());
    // Somebody works beside it: no command ever fails because the agent is there.
    for number in 0..12 {
        desk.write_near(&format!("turn/{number}.txt"), "x");
        let said = desk.run(&["sync", "scores"]);
        assert_eq!(said.code, Some(0), "{}{}", said.out, said.err);
    }
    // A config that is not understood changes nothing.
    let config = desk.path("home/katabatic.toml");
    let text = fs::read_to_string(&config).unwrap();
    fs::write(&config, "[lane.broken]\n").unwrap();
    std::thread::sleep(Duration::from_millis(500));
    fs::write(&config, text).unwrap();
    desk.write_near("after.txt", "it goes on");
    until("it goes on", || desk.far().join("after.txt").exists());
}

#[test]
fn a_time_that_was_missed_is_caught_up_once() {
    let desk = settled();
    desk.run(&["lane", "change", "scores", "--when", "daily 00:00", "--yes"])
        .ends(0);
    let ledger = Connection::open(desk.path("home/ledger.db")).unwrap();
    let day = 86_400_000_000_000_i64;
    ledger
        .execute("UPDATE lane SET seen_at = seen_at - ?1", [3 * day])
        .unwrap();
    desk.write_near("b.txt", "written while the computer was off");
    let _agent = agent(&desk);
    until("it is caught up", || desk.far().join("b.txt").exists());
    until("it is idle", || doing(&desk) == "idle");
    let next = status(&desk)["lanes"][0]["next"].clone();
    assert!(next.is_string(), "{next}");
    desk.write_near("c.txt", "for the next time");
    std::thread::sleep(Duration::from_secs(4));
    assert!(!desk.far().join("c.txt").exists());
}

#[test]
fn killed_again_and_again_while_people_work_it_loses_nothing() {
    let desk = settled();
    let mut wanted = tree(&desk.near());
    for round in 0..8_u64 {
        let running = agent(&desk);
        for number in 0..12 {
            let content = format!("round {round}, part {number} ").repeat(2_000);
            let name = format!("{}/{round}-{number}.txt", number % 3);
            let root = if number % 2 == 0 {
                desk.near()
            } else {
                desk.far()
            };
            crate::worlds::write(&root.join(&name), &content);
            wanted.insert(name, content.into_bytes());
        }
        let edited = format!("edited in round {round}");
        desk.write_near("a.txt", &edited);
        wanted.insert("a.txt".into(), edited.into_bytes());
        // In the quiet time, at the beginning of a pass, in the middle of it, behind it.
        std::thread::sleep(Duration::from_millis(1_500 + 200 * round));
        drop(running);
    }
    let _last = agent(&desk);
    until("both sides hold all of it", || {
        tree(&desk.near()) == wanted && tree(&desk.far()) == wanted
    });
    until("it is idle", || doing(&desk) == "idle");
    desk.run(&["status"]).ends(0).says("All settled.");
}

#[test]
fn only_its_owner_may_ask_and_nonsense_is_answered() {
    use std::io::{BufRead, BufReader, Write};
    use std::os::unix::fs::PermissionsExt;
    let desk = settled();
    let _agent = agent(&desk);
    let home = fs::metadata(desk.path("home")).unwrap();
    assert_eq!(home.permissions().mode() & 0o077, 0);
    let folder = fs::File::open(desk.path("home")).unwrap();
    let socket = format!(
        "/proc/self/fd/{}/agent.sock",
        std::os::fd::AsRawFd::as_raw_fd(&folder)
    );
    let mut stream = std::os::unix::net::UnixStream::connect(socket).unwrap();
    let mut answers = BufReader::new(stream.try_clone().unwrap());
    for nonsense in [
        "nonsense",
        "{\"do\":\"delete\"}",
        "{\"do\":\"pause\",\"lane\":7}",
    ] {
        writeln!(stream, "{nonsense}").unwrap();
        let mut line = String::new();
        answers.read_line(&mut line).unwrap();
        let answer: Value = serde_json::from_str(&line).unwrap();
        assert_eq!(answer["done"], false, "{answer}");
    }
    writeln!(stream, "{{\"do\":\"status\"}}").unwrap();
    let mut line = String::new();
    answers.read_line(&mut line).unwrap();
    assert!(line.contains("\"lane\":\"scores\""), "{line}");
    // A line without an end is no question for ever.
    stream.write_all(&vec![b'x'; 200_000]).unwrap();
    let mut line = String::new();
    answers.read_line(&mut line).unwrap();
    assert!(line.contains("\"done\":false"));
}

#[test]
fn who_could_not_be_let_in_is_let_in_once_there_is_room() {
    let desk = settled();
    let running = agent(&desk);
    let process = running.0.id().to_string();
    let may_open = |files: &str| {
        let limit = format!("--nofile={files}:");
        let set = std::process::Command::new("prlimit")
            .args(["--pid", &process, &limit])
            .status();
        assert!(set.unwrap().success());
    };
    may_open("8");
    let begun = std::time::Instant::now();
    desk.run(&["agent", "status"])
        .ends(1)
        .says("it said nothing");
    assert!(begun.elapsed().as_secs() >= 5);
    may_open("512");
    assert_eq!(status(&desk)["process"].to_string(), process);
}

#[test]
fn a_unit_is_written_checked_and_taken_away_and_a_secret_that_needs_a_person_is_told() {
    let desk = settled();
    let config = desk.path("config");
    let install = |options: &[&str]| {
        let all = [&["agent", "install"], options].concat();
        let mut command = desk.command(&all);
        crate::worlds::Said::from(command.env("XDG_CONFIG_HOME", &config).output().unwrap())
    };
    install(&[]).ends(0).says("Written: ");
    let unit = config.join("systemd/user/katabatic-agent.service");
    let text = fs::read_to_string(&unit).unwrap();
    assert!(
        text.contains("Type=notify\n") && text.contains("agent run\n"),
        "{text}"
    );
    assert_eq!(install(&["--print"]).ends(0).out, text);
    install(&["--off"]).ends(0);
    assert!(!unit.exists());
    let home = desk.path("home/katabatic.toml");
    let text = fs::read_to_string(&home).unwrap();
    let locked = text.replace(
        "[account.office]\n",
        "[account.office]\nsecrets = \"passphrase\"\n",
    );
    let locked = locked.replace("secrets = \"file\"\n", "");
    fs::write(&home, locked).unwrap();
    install(&[])
        .ends(3)
        .says("nobody is there to type it")
        .says("--secrets file");
}

#[test]
fn the_unit_of_the_opener_is_written_checked_and_taken_away() {
    let desk = Desk::bare(&[]);
    let units = desk.path("units");
    let install = |options: &[&str]| {
        let folder = ["opener", "install", "--units", units.to_str().unwrap()];
        desk.run(&[&folder, options].concat())
    };
    install(&[]).ends(0).says("Written: ");
    let unit = units.join("katabatic-opener.service");
    let text = fs::read_to_string(&unit).unwrap();
    assert!(
        text.contains(" opener\n") && text.contains("CAP_SYS_ADMIN"),
        "{text}"
    );
    install(&["--off"]).ends(0).says("permission denied");
    assert!(!unit.exists());
    desk.run(&["opener", "--socket", "x.sock", "install"])
        .ends(2);
}

/// Bytes that the running pass has carried so far.
fn carried(desk: &Desk) -> u64 {
    status(desk)["lanes"][0]["moving"]["bytes"]["done"]
        .as_u64()
        .unwrap_or_default()
}

#[test]
fn a_rate_is_kept_and_another_one_counts_at_once_for_what_is_under_way() {
    let desk = settled();
    desk.run(&["limits", "--limit-up", "fast"]).ends(2);
    desk.run(&[
        "limits",
        "--limit-up",
        "00:00-12:00 1MB/s; 12:00-00:00 1MB/s; none",
    ])
    .ends(0)
    .says("00:00-12:00 1MB/s");
    let _agent = agent(&desk);
    until("the first pass", || doing(&desk) == "idle");
    desk.write_near("large.bin", &"0123456789abcdef".repeat(5_000_000));
    until("it is being carried", || carried(&desk) > 0);
    let rate = |wanted: f64| {
        let mut rates = Vec::new();
        // A machine that has other things to do carries less than it may: then it is measured once more.
        for _ in 0..6 {
            let (begun, before) = (Instant::now(), carried(&desk));
            std::thread::sleep(Duration::from_secs(5));
            let (sent, took) = (carried(&desk) - before, begun.elapsed().as_secs_f64());
            rates.push(sent as f64 / took / wanted);
            // Over so short a time, a piece more or less counts.
            if rates.last().is_some_and(|rate| (0.85..1.1).contains(rate)) {
                return;
            }
        }
        panic!("{rates:?} of {wanted}");
    };
    rate(1e6);
    desk.run(&["lane", "change", "scores", "--limit-up", "500kB/s", "--yes"])
        .ends(0);
    std::thread::sleep(Duration::from_secs(1));
    rate(5e5);
    let runs_before = runs(&desk);
    desk.run(&["lane", "change", "scores", "--limit-up", "none", "--yes"])
        .ends(0);
    desk.run(&["limits", "--limit-up", "none"])
        .ends(0)
        .says("have no limit now");
    until("it is there", || desk.far().join("large.bin").exists());
    until("it is idle", || doing(&desk) == "idle");
    assert_eq!(
        runs(&desk),
        runs_before,
        "the same pass went on all the time"
    );
    desk.run(&["lane", "change", "scores", "--transfers", "9", "--yes"])
        .ends(2);
    desk.run(&["lane", "change", "scores", "--transfers", "1", "--yes"])
        .ends(0)
        .says("1 file at a time");
    for number in 0..30 {
        desk.write_near(&format!("few/{number}.txt"), "one by one");
    }
    until("all are there", || tree(&desk.far()).len() == 32);
}

#[test]
fn what_is_written_all_the_time_keeps_nothing_else_waiting() {
    let desk = settled();
    let _agent = agent(&desk);
    until("the first pass", || doing(&desk) == "idle");
    let writer = Writer::of(&desk.near().join("log"));
    for name in ["one.txt", "two.txt", "three.txt"] {
        desk.write_near(name, "saved meanwhile");
        until("it is there", || desk.far().join(name).exists());
        let doing = doing(&desk);
        assert!(!["failing", "asking"].contains(&&*doing), "{doing}");
    }
    desk.run(&["agent", "status"]).ends(0);
    drop(writer);
    until("the rest is there", || {
        tree(&desk.near()) == tree(&desk.far())
    });
}

#[test]
fn an_agent_in_the_background_writes_a_log_that_a_report_takes_along() {
    let desk = settled();
    desk.run(&["agent", "start", "-vv"]).ends(0);
    until("the first pass", || doing(&desk) == "idle");
    desk.write_near("b.txt", "second");
    until("it is carried", || desk.far().join("b.txt").exists());
    desk.run(&["agent", "stop"]).ends(0);
    let log = fs::read_to_string(desk.path("home/agent.log")).unwrap();
    assert!(log.contains("PROPFIND "), "{log}");
    assert!(!log.contains("practice"), "{log}");
    desk.run(&["report", "--to", "plain.html"]).ends(0);
    desk.run(&["report", "--to", "full.html", "--with-log"])
        .ends(0);
    let heads = |page| {
        let page = fs::read_to_string(desk.path(page)).unwrap();
        page.contains("The agent's log")
    };
    assert!(heads("full.html") && !heads("plain.html"));
}
