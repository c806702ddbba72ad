//! A place where an opener runs, and the parts that other users play there.

use std::fs::{self, Permissions};
use std::io::{BufRead, BufReader, Read};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::process::CommandExt;
use std::path::PathBuf;
use std::process::{Child, ChildStdout, Command, Stdio};
use std::time::{Duration, Instant};

use crate::beside::Beside;
use crate::worlds::Desk;

/// Two people with an agent each, who have no account on this computer: a number is enough for the system.
pub(super) const ONE: u32 = 4_001;
pub(super) const OTHER: u32 = 4_002;

/// What all parts begin with: `S` connects, `mark` has files marked, `get` hears.
pub(super) const PROLOGUE: &str = r#"
import json, os, random, socket, stat, subprocess, sys, time
OPENER, ARGS = sys.argv[1], sys.argv[2:]
LABEL = 'user.katabatic.stub'
def connect():
    s = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    s.connect(OPENER)
    return s
def look(path):
    return os.open(path, os.O_PATH)
def send(s, what, fds=[]):
    socket.send_fds(s, [json.dumps(what).encode()], fds)
def get(s):
    text, fds, flags, _ = socket.recv_fds(s, 8192, 100)
    return (json.loads(text) if text else {'said': 'gone'}), fds
def mark(s, fds):
    send(s, {'do': 'mark'}, fds)
    while True:
        said, asked = get(s)
        for fd in asked:
            os.close(fd)
        if said['said'] == 'marked':
            return said['failed']
def say(*words):
    print(*words, flush=True)
"#;

/// Makes stubs of these names.
const STUBS: &str = r#"
for path in ARGS:
    with open(path, 'wb') as f:
        f.truncate(100000)
    os.setxattr(path, LABEL, b'1')
    # Whoever holds the marks has no right of its own to read it.
    os.chmod(path, 0o600)
"#;

/// An agent that says that it is ready, and then answers as its first argument says.
const AGENT: &str = r#"
how, paths = ARGS[0], ARGS[1:]
s, fds = connect(), [look(path) for path in paths]
say('marked', mark(s, fds))
for fd in fds:
    os.close(fd)
if how == 'goes':
    sys.exit()
if how == 'sleeps':
    time.sleep(1000)
while True:
    said, fds = get(s)
    if said['said'] == 'gone':
        sys.exit()
    if said['said'] == 'ending':
        send(s, {'do': 'closed'})
        continue
    say('asked', said['process'], os.fstat(fds[0]).st_uid)
    if how == 'brings':
        os.pwrite(fds[0], b'content' * 15000, 0)
        os.removexattr(fds[0], LABEL)
    if how != 'listens':
        send(s, {'do': 'allow', 'question': said['question']})
    os.close(fds[0])
"#;

/// An opener, and a folder where anybody may make files.
pub(super) struct Place {
    pub(super) desk: Desk,
    pub(super) opener: Option<Beside>,
}

/// A part that another user plays.
pub(super) struct Part(pub(super) Child, BufReader<ChildStdout>);

impl Part {
    pub(super) fn line(&mut self) -> String {
        let mut line = String::new();
        self.1.read_line(&mut line).unwrap();
        line.trim().to_owned()
    }

    /// Everything it says, to its end.
    pub(super) fn all(mut self) -> String {
        let mut all = String::new();
        self.1.read_to_string(&mut all).unwrap();
        all
    }
}

impl Drop for Part {
    fn drop(&mut self) {
        // One that has ended already cannot be ended.
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

impl Place {
    pub(super) fn new() -> Place {
        let mut place = Place::without_opener();
        place.opener = Some(Beside::opener(&place.desk));
        place
    }

    pub(super) fn without_opener() -> Place {
        let desk = Desk::bare(&[]);
        fs::set_permissions(desk.path(""), Permissions::from_mode(0o755)).unwrap();
        fs::create_dir(desk.path("files")).unwrap();
        fs::set_permissions(desk.path("files"), Permissions::from_mode(0o1777)).unwrap();
        Place { desk, opener: None }
    }

    pub(super) fn at(&self, name: &str) -> PathBuf {
        self.desk.path("files").join(name)
    }

    /// A command of this user's.
    pub(super) fn command(&self, user: u32, program: &str) -> Command {
        let mut command = Command::new(program);
        command
            .current_dir(self.desk.path("files"))
            .uid(user)
            .gid(user)
            .stdin(Stdio::null());
        command
    }

    pub(super) fn part(&self, user: u32, script: &str, arguments: &[&str]) -> Part {
        let mut child = self
            .command(user, "/usr/bin/python3")
            .args(["-c", &format!("{PROLOGUE}{script}")])
            .arg(self.desk.path("opener.sock"))
            .args(arguments)
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let out = child.stdout.take().unwrap();
        Part(child, BufReader::new(out))
    }

    pub(super) fn stubs(&self, user: u32, names: &[&str]) {
        assert!(self.part(user, STUBS, names).0.wait().unwrap().success());
    }

    pub(super) fn agent(&self, user: u32, how: &str, names: &[&str]) -> Part {
        let mut agent = self.part(user, AGENT, &[&[how], names].concat());
        let marked = agent.line();
        assert!(!marked.contains('\''), "{marked}");
        assert!(marked.starts_with("marked"), "{marked}");
        agent
    }

    /// A person's own program reads a file; how long that took.
    pub(super) fn reads(&self, user: u32, name: &str) -> (bool, Duration) {
        let begun = Instant::now();
        let read = self.command(user, "cat").arg(name).output().unwrap();
        (read.stdout == b"content".repeat(15_000), begun.elapsed())
    }
}
