//! What the benches share: a server, homes, and a stopwatch that also watches memory.

#![allow(dead_code, reason = "each bench uses its own part of it")]

use std::fs;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

fn program() -> Command {
    Command::new(env!("CARGO_BIN_EXE_katabatic"))
}

/// Whether `cargo test --benches` only wants to know that the bench builds.
pub fn only_built() -> bool {
    std::env::args().any(|argument| argument == "--test")
}

/// How long something took, and the most memory it held, in MB.
#[derive(Clone, Copy)]
pub struct Took {
    pub time: Duration,
    pub peak: f64,
}

impl Took {
    /// How many times as long as something else.
    pub fn times(self, other: Took) -> f64 {
        self.time.as_secs_f64() / other.time.as_secs_f64()
    }
}

/// Runs a command to its end, which must be a good one.
pub fn measured(command: &mut Command) -> Took {
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
            return Took {
                time: began.elapsed(),
                peak,
            };
        }
        let text = fs::read_to_string(&status).unwrap_or_default();
        let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let kilobytes =
            line.and_then(|line| line.trim().trim_end_matches(" kB").parse::<f64>().ok());
        peak = peak.max(kilobytes.unwrap_or(0.0) / 1000.0);
        std::thread::sleep(Duration::from_millis(5));
    }
}

/// A WebDAV server: the one that `BENCH_ADDRESS`, `BENCH_USER` and `BENCH_PASSWORD` name, or the stand-in.
pub struct Server {
    pub address: String,
    pub user: String,
    pub password: String,
    child: Option<Child>,
}

impl Server {
    pub fn start(data: &Path, options: &[&str]) -> Server {
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
            .args(options)
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

    /// A curl that signs in here and says nothing.
    pub fn curl(&self, dir: &Path) -> Command {
        let mut command = Command::new("curl");
        command
            .args(["--silent", "--show-error", "--fail", "--user"])
            .arg(format!("{}:{}", self.user, self.password))
            .current_dir(dir);
        command
    }

    /// Makes a folder there.
    pub fn make_folder(&self, dir: &Path, name: &str) {
        let url = format!("{}{}/", self.address, name.replace(' ', "%20"));
        let made = self.curl(dir).args(["--request", "MKCOL", &url]).status();
        assert!(made.expect("curl starts").success(), "MKCOL {url}");
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

/// The program with a home of its own in `dir`.
pub fn at(dir: &Path, home: &str, arguments: &[&str]) -> Command {
    let mut command = program();
    command
        .args(arguments)
        .current_dir(dir)
        .env("KATABATIC_HOME", dir.join(home));
    command
}

/// A new home with an account on the server and the lane `bench` between `near` and `far`.
pub fn tie(dir: &Path, server: &Server, home: &str, near: &str, far: &str) {
    fs::write(dir.join("password"), &server.password).expect("the password file");
    let account = [
        "account",
        "add",
        "office",
        "--address",
        &server.address,
        "--user",
        &server.user,
        "--password-file",
        "password",
        "--secrets",
        "file",
    ];
    let far = format!("@office/{far}");
    let lane = [
        "lane", "add", "bench", "--near", near, "--far", &far, "--make",
    ];
    for arguments in [&account[..], &lane] {
        let output = at(dir, home, arguments)
            .output()
            .expect("the program starts");
        assert!(
            output.status.success(),
            "{}",
            String::from_utf8_lossy(&output.stderr)
        );
    }
}
