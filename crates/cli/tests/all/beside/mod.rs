//! Programs that run beside a test: the opener, the agent.

use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::thread;
use std::time::{Duration, Instant};

use super::worlds::Desk;

/// A program of the tool's that runs beside the test.
pub struct Beside(pub Child);

impl Beside {
    /// Starts it, and waits until it says that it is ready.
    pub fn start(desk: &Desk, arguments: &[&str], ready: &str) -> Beside {
        Beside::of(desk.command(arguments), ready)
    }

    /// The same of any command.
    pub fn of(mut command: Command, ready: &str) -> Beside {
        let mut child = command.stderr(Stdio::piped()).spawn().unwrap();
        let mut said = BufReader::new(child.stderr.take().unwrap()).lines();
        let line = said.next().unwrap().unwrap();
        assert!(line.contains(ready), "{line}");
        // What else it says is read, so that it never waits for a reader.
        thread::spawn(move || said.for_each(drop));
        Beside(child)
    }

    /// With no more rights than the unit gives it.
    pub fn opener(desk: &Desk) -> Beside {
        let bare = desk.command(&["opener", "--socket", "opener.sock"]);
        let mut command = Command::new("setpriv");
        command
            .args(["--bounding-set", "-all,+sys_admin,+dac_read_search"])
            .arg("--no-new-privs")
            .arg(bare.get_program())
            .args(bare.get_args())
            .current_dir(desk.path(""))
            .env("KATABATIC_HOME", desk.path("home"));
        Beside::of(command, "The opener listens")
    }

    pub fn agent(desk: &Desk) -> Beside {
        Beside::start(
            desk,
            &["agent", "run", "--opener", "opener.sock"],
            "The agent runs",
        )
    }

    pub fn signal(&self, name: &str) {
        let process = self.0.id().to_string();
        let sent = Command::new("kill")
            .args([name, &process])
            .status()
            .unwrap();
        assert!(sent.success());
    }

    pub fn end(mut self, signal: &str) {
        self.signal(signal);
        self.0.wait().unwrap();
    }
}

impl Drop for Beside {
    fn drop(&mut self) {
        // One that has ended already cannot be ended.
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

pub fn until(what: &str, holds: impl Fn() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed().as_secs() < 90, "never: {what}");
        thread::sleep(Duration::from_millis(20));
    }
}
