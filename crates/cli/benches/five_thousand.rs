//! 5,000 files of a few KB: carried up into an empty account, down into a second folder, and a pass with nothing to do.
//!
//! `cargo bench --bench five_thousand` runs it against the stand-in. To run it against another WebDAV server on this
//! computer, name an empty folder there: `BENCH_ADDRESS=http://127.0.0.1:8081/ BENCH_USER=u BENCH_PASSWORD=p`.

use std::fs;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

const FILES: usize = 5_000;

fn program() -> Command {
    Command::new(env!("CARGO_BIN_EXE_katabatic"))
}

/// Runs a command to its end; how long it took, and the most memory it held, in MB.
fn measured(command: &mut Command) -> (Duration, f64) {
    let began = Instant::now();
    let mut child = command
        .stdout(Stdio::null())
        .spawn()
        .expect("the program starts");
    let status = format!("/proc/{}/status", child.id());
    let mut peak = 0.0f64;
    loop {
        if let Some(ended) = child.try_wait().expect("it can be waited for") {
            assert!(ended.success(), "it ended with {ended}");
            return (began.elapsed(), peak);
        }
        let text = fs::read_to_string(&status).unwrap_or_default();
        let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let kilobytes =
            line.and_then(|line| line.trim().trim_end_matches(" kB").parse::<f64>().ok());
        peak = peak.max(kilobytes.unwrap_or(0.0) / 1000.0);
        std::thread::sleep(Duration::from_millis(5));
    }
}

fn files(root: &Path) {
    for number in 0..FILES {
        let folder = root.join(format!("folder {:02}", number % 50));
        fs::create_dir_all(&folder).expect("a folder is made");
        let line = format!("file {number} of the bench\n");
        fs::write(
            folder.join(format!("{number}.txt")),
            line.repeat(40 + number * 7 % 200),
        )
        .expect("a file is written");
    }
}

struct Server {
    address: String,
    user: String,
    password: String,
    child: Option<Child>,
}

impl Server {
    fn start(data: &Path) -> Server {
        let given = |name: &str| std::env::var(name).ok();
        if let (Some(address), Some(user), Some(password)) = (
            given("BENCH_ADDRESS"),
            given("BENCH_USER"),
            given("BENCH_PASSWORD"),
        ) {
            return Server {
                address,
                user,
                password,
                child: None,
            };
        }
        let mut child = program()
            .args(["standin", "serve", "--data"])
            .arg(data)
            .stdout(Stdio::piped())
            .spawn()
            .expect("the stand-in starts");
        let mut address = String::new();
        let out = child.stdout.take().expect("its output is a pipe");
        BufReader::new(out)
            .read_line(&mut address)
            .expect("it says its address");
        Server {
            address: address.trim().to_owned(),
            user: "librarian".into(),
            password: "practice".into(),
            child: Some(child),
        }
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        if let Some(mut child) = self.child.take() {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

fn main() {
    // `cargo test --benches` passes options of the test harness; there is nothing to test here.
    if std::env::args().any(|argument| argument == "--test") {
        return;
    }
    let dir = tempfile::tempdir().expect("a temporary folder");
    let server = Server::start(&dir.path().join("cloud"));
    fs::write(dir.path().join("password"), &server.password).expect("the password file");
    let at = |home: &str, arguments: &[&str]| {
        let mut command = program();
        command
            .args(arguments)
            .current_dir(dir.path())
            .env("KATABATIC_HOME", dir.path().join(home));
        command
    };
    let tie = |home: &str, near: &str| {
        let account = [
            "account",
            "add",
            "office",
            "--address",
            &server.address,
            "--user",
            &server.user,
        ];
        let password = ["--password-file", "password"];
        let lane = [
            "lane",
            "add",
            "bench",
            "--near",
            near,
            "--far",
            "@office/bench",
            "--make",
        ];
        for arguments in [[&account[..], &password[..]].concat(), lane.to_vec()] {
            let output = at(home, &arguments).output().expect("the program starts");
            assert!(
                output.status.success(),
                "{}",
                String::from_utf8_lossy(&output.stderr)
            );
        }
    };
    files(&dir.path().join("first"));
    tie("home-1", "first");
    let say = |what: &str, (took, peak): (Duration, f64)| {
        println!(
            "{what:<34} {:>7.2} s  {:>7.0} files/s  {peak:>5.0} MB at most",
            took.as_secs_f64(),
            FILES as f64 / took.as_secs_f64()
        );
    };
    say(
        "first pass, 5,000 files up",
        measured(&mut at("home-1", &["sync"])),
    );
    say(
        "the pass right after it",
        measured(&mut at("home-1", &["sync"])),
    );
    tie("home-2", "second");
    say(
        "first pass, 5,000 files down",
        measured(&mut at("home-2", &["sync"])),
    );
    say(
        "a pass with nothing to do",
        measured(&mut at("home-1", &["sync"])),
    );
}
