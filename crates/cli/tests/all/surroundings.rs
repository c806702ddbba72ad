//! What is around the computer decides when the agent runs a lane, and people are told what happened: mocked services
//! on a real bus, by python3-dbusmock, which `.ci/run` installs.

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt;
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use crate::worlds::Desk;
use serde_json::Value;

/// A system bus and a session bus of their own, with what lives on them.
struct Buses {
    child: Child,
    orders: Option<ChildStdin>,
    said: BufReader<ChildStdout>,
    system: String,
    session: String,
}

impl Buses {
    fn start() -> Buses {
        let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/all/surroundings/bus.py");
        let mut child = Command::new("/usr/bin/python3")
            .arg(script)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let orders = child.stdin.take();
        let mut said = BufReader::new(child.stdout.take().unwrap());
        let mut address = || {
            let mut line = String::new();
            said.read_line(&mut line).unwrap();
            line.trim().to_owned()
        };
        let (system, session) = (address(), address());
        Buses {
            child,
            orders,
            said,
            system,
            session,
        }
    }

    /// What it said before it was done.
    fn order(&mut self, order: &str) -> Vec<String> {
        writeln!(self.orders.as_mut().unwrap(), "{order}").unwrap();
        let mut said = Vec::new();
        loop {
            let mut line = String::new();
            assert!(
                self.said.read_line(&mut line).unwrap() > 0,
                "{order}: it broke off"
            );
            match line.trim() {
                "done" => return said,
                line => said.push(line.to_owned()),
            }
        }
    }
}

impl Drop for Buses {
    fn drop(&mut self) {
        // Its end of orders is the end of its buses.
        self.orders = None;
        let _ = self.child.wait();
    }
}

struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn agent(desk: &Desk, buses: Option<&Buses>) -> Running {
    let mut command = desk.command(&["agent", "run"]);
    match buses {
        Some(buses) => command
            .env("DBUS_SYSTEM_BUS_ADDRESS", &buses.system)
            .env("DBUS_SESSION_BUS_ADDRESS", &buses.session),
        None => command.env("DBUS_SYSTEM_BUS_ADDRESS", "unix:path=/nowhere"),
    };
    let running = command
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let running = Running(running);
    until("the agent answers", || !lane(desk).is_null());
    running
}

fn lane(desk: &Desk) -> Value {
    desk.run(&["agent", "status", "--json"]).json()["agent"]["lanes"][0].clone()
}

fn waits_for(desk: &Desk, what: &str) -> bool {
    let lane = lane(desk);
    lane["doing"] == "unfit" && lane["why"].as_str().unwrap().contains(what)
}

#[track_caller]
fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < Duration::from_secs(180), "never: {what}");
        std::thread::sleep(Duration::from_millis(30));
    }
}

fn settled(change: &[&str]) -> Desk {
    let desk = Desk::tied(&[]);
    desk.write_near("a.txt", "first");
    desk.run(&["sync"]).ends(0);
    if !change.is_empty() {
        desk.run(&[&["lane", "change", "scores", "--yes"], change].concat())
            .ends(0);
    }
    desk
}

#[test]
#[ignore = "needs python3-dbusmock: .ci/run"]
fn a_lane_waits_for_its_network_and_for_mains_power_and_says_so() {
    let desk = settled(&[
        "--only-on",
        "unmetered",
        "--only-on",
        "network Office",
        "--only-on",
        "mains",
    ]);
    let mut buses = Buses::start();
    let _agent = agent(&desk, Some(&buses));
    until("nothing answers yet", || waits_for(&desk, "not known here"));
    desk.write_near("b.txt", "written meanwhile");
    buses.order("services");
    buses.order("metered 1");
    until("it is metered", || {
        waits_for(&desk, "not metered; this one is")
    });
    buses.order("metered 2");
    until("there is no network", || {
        waits_for(&desk, "none is connected")
    });
    buses.order("networks Café,Cable");
    until("it is another one", || {
        waits_for(&desk, "connected is Café, Cable")
    });
    buses.order("battery yes");
    buses.order("networks Café,Office");
    until("it runs on its battery", || waits_for(&desk, "mains power"));
    desk.run(&["status"]).ends(0).says("waits for mains power");
    assert!(!desk.far().join("b.txt").exists());
    buses.order("battery no");
    until("it is carried", || desk.far().join("b.txt").exists());
    // What is under way is set down where the power goes, and goes on later.
    desk.run(&["lane", "change", "scores", "--limit-up", "1MB/s", "--yes"])
        .ends(0);
    desk.write_near("large.bin", &"0123456789abcdef".repeat(500_000));
    until("it is being carried", || lane(&desk)["doing"] == "running");
    buses.order("battery yes");
    until("it is set down", || waits_for(&desk, "mains power"));
    assert!(!desk.far().join("large.bin").exists());
    desk.run(&["limits", "--limit-up", "none"]).ends(0);
    buses.order("battery no");
    until("it went on", || desk.far().join("large.bin").exists());
}

#[test]
#[ignore = "needs python3-dbusmock: .ci/run"]
fn it_runs_when_nobody_sits_there_and_before_the_computer_is_shut_down() {
    let desk = settled(&["--when", "when idle 10m", "--when", "at end"]);
    let mut buses = Buses::start();
    buses.order("services");
    let _agent = agent(&desk, Some(&buses));
    until("it is idle", || lane(&desk)["doing"] == "idle");
    desk.write_near("b.txt", "somebody sits there");
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap();
    let minutes_ago = |minutes: u64| (now - Duration::from_secs(minutes * 60)).as_micros();
    buses.order(&format!("idle {}", minutes_ago(2)));
    std::thread::sleep(Duration::from_secs(2));
    assert!(!desk.far().join("b.txt").exists());
    buses.order(&format!("idle {}", minutes_ago(11)));
    until("it is carried", || desk.far().join("b.txt").exists());
    buses.order("idle no");
    desk.write_near("c.txt", "and is about to leave");
    std::thread::sleep(Duration::from_secs(2));
    assert!(!desk.far().join("c.txt").exists());
    buses.order("shutdown");
    until("it is carried before the end", || {
        desk.far().join("c.txt").exists()
    });
}

#[test]
#[ignore = "needs python3-dbusmock: .ci/run"]
fn the_desktop_is_told() {
    let desk = settled(&[]);
    let mut buses = Buses::start();
    buses.order("desktop");
    desk.run(&["tell", "--desktop", "problem,success"])
        .ends(0)
        .says("of problem, success");
    let tried = desk
        .command(&["tell", "--test"])
        .env("DBUS_SESSION_BUS_ADDRESS", &buses.session)
        .output()
        .unwrap();
    assert!(tried.status.success());
    let _agent = agent(&desk, Some(&buses));
    desk.write_near("a.txt", "edited here");
    desk.write_far("a.txt", "edited there, too");
    until("the conflict is told", || {
        let told = buses.order("told");
        let conflicts = told.iter().filter(|said| said.contains("1 in conflict"));
        conflicts.count() == 1 && told[0].contains("a test")
    });
}

#[test]
fn without_a_bus_a_condition_does_not_hold_and_a_signal_runs_a_last_pass() {
    let desk = settled(&["--only-on", "mains"]);
    let mut running = agent(&desk, None);
    until("it says so", || waits_for(&desk, "UPower does not answer"));
    desk.run(&[
        "lane",
        "change",
        "scores",
        "--only-on",
        "any",
        "--when",
        "at end",
        "--yes",
    ])
    .ends(0)
    .says("at end");
    until("it is idle", || lane(&desk)["doing"] == "idle");
    desk.write_near("b.txt", "written before the log-off");
    std::thread::sleep(Duration::from_secs(3));
    assert!(!desk.far().join("b.txt").exists());
    let process = running.0.id().to_string();
    assert!(
        Command::new("kill")
            .arg(&process)
            .status()
            .unwrap()
            .success()
    );
    assert!(running.0.wait().unwrap().success());
    assert!(desk.far().join("b.txt").exists());
    desk.run(&["lane", "change", "scores", "--only-on", "sunshine", "--yes"])
        .ends(2)
        .says("write `unmetered`, `network NAME` or `mains`");
}

/// One request that a server of its own gets: its body.
fn request(listener: &TcpListener) -> String {
    let (mut stream, _) = listener.accept().unwrap();
    let mut reader = BufReader::new(stream.try_clone().unwrap());
    let mut length = 0;
    loop {
        let mut line = String::new();
        reader.read_line(&mut line).unwrap();
        if let Some(text) = line.to_ascii_lowercase().strip_prefix("content-length:") {
            length = text.trim().parse().unwrap();
        }
        if line.trim().is_empty() {
            break;
        }
    }
    let mut body = vec![0; length];
    reader.read_exact(&mut body).unwrap();
    stream
        .write_all(b"HTTP/1.1 204 No Content\r\n\r\n")
        .unwrap();
    String::from_utf8(body).unwrap()
}

#[test]
fn a_program_an_address_and_a_folder_for_mails_are_told_each_what_it_wants_to_hear() {
    let desk = settled(&[]);
    let (told, mails) = (desk.path("told"), desk.path("mails"));
    fs::create_dir(&mails).unwrap();
    let program = desk.path("hook");
    fs::write(
        &program,
        format!("#!/bin/sh\ncat >> '{}'\n", told.display()),
    )
    .unwrap();
    fs::set_permissions(&program, fs::Permissions::from_mode(0o755)).unwrap();
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("http://{}/secret-token", listener.local_addr().unwrap());
    desk.run(&["tell"]).ends(0).says("Nobody is told");
    desk.run(&["tell", "--program", "nowhere"])
        .ends(2)
        .says("it is not there");
    desk.run(&["tell", "--mail-for", "problem"]).ends(2);
    desk.run(&["tell", "--desktop", "gossip"]).ends(2);
    let said = desk
        .run(&[
            "tell",
            "--program",
            "hook",
            "--program-for",
            "changes",
            "--address",
            &address,
            "--mail-folder",
            "mails",
            "--mail-for",
            "problem,success",
            "--quiet-hours",
            "none",
        ])
        .ends(0);
    assert!(!said.out.contains("secret-token"), "{}", said.out);
    let _agent = agent(&desk, None);
    until("the first pass", || lane(&desk)["doing"] == "idle");
    desk.write_near("b.txt", "new");
    until("the program is told", || {
        fs::read_to_string(&told).is_ok_and(|text| text.contains("1 up, 0 down"))
    });
    desk.write_near("a.txt", "edited here");
    desk.write_far("a.txt", "edited there, too");
    let body: Value = serde_json::from_str(&request(&listener)).unwrap();
    assert_eq!(
        (&body["kind"], &body["lane"]),
        (&"problem".into(), &"scores".into())
    );
    assert!(
        body["title"].as_str().unwrap().contains("1 in conflict"),
        "{body}"
    );
    let mail_of = |kind: &str| {
        let all = fs::read_dir(&mails).unwrap().flatten();
        let mut of = all.filter(|mail| mail.file_name().to_str().unwrap().ends_with(kind));
        of.next()
            .map(|mail| fs::read_to_string(mail.path()).unwrap())
    };
    until("the mail is there", || mail_of("problem.eml").is_some());
    let mail = mail_of("problem.eml").unwrap();
    assert!(
        mail.starts_with("Date: ") && mail.contains("\r\nSubject: =?utf-8?B?"),
        "{mail}"
    );
    assert!(mail.contains("katabatic status scores"), "{mail}");
    desk.run(&["settle", "scores", "--keep", "near"]).ends(0);
    desk.write_near("c.txt", "the agent hears of it");
    until("its end is told", || mail_of("success.eml").is_some());
    assert!(!fs::read_to_string(&told).unwrap().contains("conflict"));
}
