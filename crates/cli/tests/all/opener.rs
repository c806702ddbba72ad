//! The opener among people who mean no good: real other users of the computer, who speak its protocol without any agent.
//! Root makes them, and the system asks only root before files are opened: `.ci/run` runs these.

use std::fs;
use std::io;
use std::os::fd::{AsRawFd, OwnedFd};
use std::os::unix::fs::{MetadataExt, chown};
use std::os::unix::net::UnixDatagram;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::thread;
use std::time::{Duration, Instant};

use crate::beside::{Beside, until};

mod place;
mod whatever_is_said;

use place::{ONE, OTHER, PROLOGUE, Part, Place};

const EIO: i32 = 5;

fn error_of_reading(at: &Path) -> Option<i32> {
    fs::read(at).err().and_then(|why| why.raw_os_error())
}

#[test]
#[ignore = "needs other users and is asked before files are opened, which root may do: .ci/run"]
fn nobody_is_asked_about_a_file_that_is_not_theirs() {
    let place = Place::new();
    place.stubs(OTHER, &["theirs"]);
    place.agent(OTHER, "goes", &["theirs"]).0.wait().unwrap();
    let marks = r#"
import threading
s, f = connect(), look(ARGS[0])
got = []
def hears():
    while True:
        said, fds = get(s)
        if said['said'] == 'gone':
            return
        if said['said'] == 'asks':
            got.append(os.read(fds[0], 10))
        elif said['failed'] != ['not-yours']:
            got.append(said)
hearing = threading.Thread(target=hears)
hearing.start()
say('begins')
for _ in range(5000):
    send(s, {'do': 'mark'}, [f])
s.shutdown(socket.SHUT_WR)
hearing.join()
say('got', got)
"#;
    let mut thief = place.part(ONE, marks, &["theirs"]);
    assert_eq!(thief.line(), "begins");
    // Root opens it while somebody tries: without its own agent it cannot be read.
    while thief.0.try_wait().unwrap().is_none() {
        assert_eq!(error_of_reading(&place.at("theirs")), Some(EIO));
    }
    assert_eq!(thief.all().trim(), "got []");
}

#[test]
#[ignore = "needs other users and is asked before files are opened, which root may do: .ci/run"]
fn a_file_that_was_taken_over_is_not_handed_to_who_had_it() {
    let place = Place::new();
    place.stubs(ONE, &["taken"]);
    let mut before = place.agent(ONE, "brings", &["taken"]);
    chown(place.at("taken"), Some(0), Some(0)).unwrap();
    for _ in 0..20 {
        assert_eq!(error_of_reading(&place.at("taken")), Some(EIO));
    }
    before.0.kill().unwrap();
    assert_eq!(before.all(), "", "it was asked");
}

#[test]
#[ignore = "needs other users and is asked before files are opened, which root may do: .ci/run"]
fn what_root_forbids_to_write_is_handed_to_nobody() {
    let place = Place::new();
    place.stubs(ONE, &["log"]);
    let chattr = |how: &str, name: &str| {
        let done = Command::new("chattr").arg(how).arg(place.at(name)).status();
        assert!(done.unwrap().success());
    };
    chattr("+a", "log");
    let marks = "say(mark(connect(), [look(ARGS[0])]))";
    let said = place.part(ONE, marks, &["log"]).all();
    assert_eq!(said.trim(), "['guarded']");
    chattr("-a", "log");
}

#[test]
#[ignore = "needs other users and is asked before files are opened, which root may do: .ci/run"]
fn who_has_many_numbers_is_not_let_in() {
    let place = Place::new();
    let connects = "
s = connect()
say(s.recv(100))
";
    let inside = format!("{PROLOGUE}{connects}");
    let said = Command::new("unshare")
        .args([
            "--user",
            "--map-root-user",
            "/usr/bin/python3",
            "-c",
            &inside,
        ])
        .arg(place.desk.path("opener.sock"))
        .current_dir(place.desk.path("files"))
        .output()
        .unwrap();
    assert_eq!(String::from_utf8_lossy(&said.stdout).trim(), "b''");
}

#[test]
#[ignore = "needs other users and is asked before files are opened, which root may do: .ci/run"]
fn what_is_gone_keeps_no_number_from_anybody() {
    let place = Place::new();
    let mut came_again = 0;
    // The disk decides which numbers it gives again.
    for round in 0..20 {
        let many = |of: &str| -> Vec<String> {
            (0..100)
                .map(|number| format!("{of}{round}-{number}"))
                .collect()
        };
        let (first, second) = (many("first"), many("second"));
        let first: Vec<&str> = first.iter().map(String::as_str).collect();
        let second: Vec<&str> = second.iter().map(String::as_str).collect();
        place.stubs(ONE, &first);
        let inode = |name: &&str| fs::metadata(place.at(name)).unwrap().ino();
        let numbers: Vec<u64> = first.iter().map(inode).collect();
        let _agent = place.agent(ONE, "listens", &first);
        for name in &first {
            fs::remove_file(place.at(name)).unwrap();
        }
        place.stubs(OTHER, &second);
        came_again += second
            .iter()
            .map(inode)
            .filter(|it| numbers.contains(it))
            .count();
        let _other = place.agent(OTHER, "listens", &second);
        if came_again > 0 {
            return;
        }
    }
    panic!("no number came again");
}

#[test]
#[ignore = "needs other users and is asked before files are opened, which root may do: .ci/run"]
fn one_who_never_reads_holds_up_nobody_else() {
    let place = Place::new();
    place.stubs(ONE, &["bait"]);
    // Answers that nobody reads, and questions that nobody reads.
    let floods = r#"
s, f = connect(), look(ARGS[0])
s.setblocking(False)
try:
    while True:
        send(s, {'do': 'mark'}, [f])
except BlockingIOError:
    pass
say('full')
time.sleep(1000)
"#;
    let mut flood = place.part(ONE, floods, &["bait"]);
    assert_eq!(flood.line(), "full");
    let sleeps = place.agent(ONE, "sleeps", &["bait"]);
    let readers: Vec<Child> = (0..400)
        .map(|_| {
            let mut reader = place.command(ONE, "cat");
            let reader = reader
                .arg("bait")
                .stdout(Stdio::piped())
                .stderr(Stdio::null());
            reader.spawn().unwrap()
        })
        .collect();
    place.stubs(OTHER, &["theirs"]);
    let _other = place.agent(OTHER, "brings", &["theirs"]);
    let (right, took) = place.reads(OTHER, "theirs");
    assert!(right && took < Duration::from_secs(3), "{right}, {took:?}");
    // And it ends in time, and nobody who waited gets zeros.
    let begun = Instant::now();
    let Place { opener, .. } = place;
    opener.unwrap().end("-TERM");
    assert!(
        begun.elapsed() < Duration::from_secs(13),
        "{:?}",
        begun.elapsed()
    );
    for reader in readers {
        let read = reader.wait_with_output().unwrap();
        assert!(!read.status.success() && read.stdout.is_empty());
    }
    drop((flood, sleeps));
}

#[test]
#[ignore = "needs other users and is asked before files are opened, which root may do: .ci/run"]
fn a_thousand_connections_of_one_person_are_few_and_leave_room_for_others() {
    let mut place = Place::without_opener();
    // With few descriptors, so that those of several people are too many for it.
    let mut opener = Command::new("prlimit");
    opener.args(["--nofile=64:64", env!("CARGO_BIN_EXE_katabatic")]);
    opener
        .args(["opener", "--socket", "opener.sock"])
        .current_dir(place.desk.path(""));
    place.opener = Some(Beside::of(opener, "The opener listens"));
    let connects = r#"
all = []
for _ in range(1000):
    try:
        all.append(connect())
    except OSError:
        break
say('connected')
time.sleep(1000)
"#;
    let crowd = [ONE, 4_003, 4_004, 4_005].map(|user| place.part(user, connects, &[]));
    let opener = place.opener.as_ref().unwrap().0.id();
    // The very last one comes and goes, with each look at who comes.
    let last = format!("/proc/{opener}/fd/62");
    until("it has as many descriptors as it may", || {
        Path::new(&last).symlink_metadata().is_ok()
    });
    place.stubs(OTHER, &["theirs"]);
    drop(crowd);
    let _other = place.agent(OTHER, "brings", &["theirs"]);
    assert!(place.reads(OTHER, "theirs").0);

    // One alone keeps room for everybody, while still there.
    let mut alone = place.part(ONE, connects, &[]);
    assert_eq!(alone.line(), "connected");
    place.stubs(4_003, &["third"]);
    let _third = place.agent(4_003, "brings", &["third"]);
    assert!(place.reads(4_003, "third").0);
}

#[test]
#[ignore = "needs other users and is asked before files are opened, which root may do: .ci/run"]
fn a_program_that_runs_costs_nobody_a_moment() {
    let place = Place::new();
    fs::copy("/usr/bin/sleep", place.at("runs")).unwrap();
    chown(place.at("runs"), Some(ONE), Some(ONE)).unwrap();
    let mut running = place.command(ONE, "./runs").arg("1000").spawn().unwrap();
    let agent = place.agent(ONE, "listens", &["runs"]);
    let opens = "
say('begins')
while True:
    try:
        os.close(os.open(ARGS[0], os.O_RDONLY))
    except OSError:
        pass
";
    let mut openers: Vec<Part> = (0..4).map(|_| place.part(ONE, opens, &["runs"])).collect();
    for opener in &mut openers {
        assert_eq!(opener.line(), "begins");
    }
    let names: Vec<String> = (0..20).map(|number| format!("theirs{number}")).collect();
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    place.stubs(OTHER, &names);
    let _other = place.agent(OTHER, "brings", &names);
    let begun = Instant::now();
    for name in names {
        assert!(place.reads(OTHER, name).0);
    }
    assert!(
        begun.elapsed() < Duration::from_secs(5),
        "{:?}",
        begun.elapsed()
    );
    drop((openers, agent));
    running.kill().unwrap();
    running.wait().unwrap();
}

#[test]
#[ignore = "needs other users and is asked before files are opened, which root may do: .ci/run"]
fn root_is_held_for_seconds_only_and_what_still_is_a_stub_lets_nobody_in() {
    let place = Place::new();
    place.stubs(ONE, &["held", "false"]);
    let _holds = place.agent(ONE, "listens", &["held"]);
    let begun = Instant::now();
    assert_eq!(error_of_reading(&place.at("held")), Some(EIO));
    let took = begun.elapsed();
    assert!((4..9).contains(&took.as_secs()), "{took:?}");
    // An agent that lets in without the content.
    let _lies = place.agent(ONE, "lies", &["false"]);
    assert_eq!(error_of_reading(&place.at("false")), Some(EIO));
}

#[test]
#[ignore = "needs other users and is asked before files are opened, which root may do: .ci/run"]
fn socket_and_folder_have_their_own_rights_and_agents_listen_to_root_alone() {
    let place = Place::without_opener();
    let mut opener = Command::new("sh");
    opener
        .args([
            "-c",
            "umask 077; exec \"$0\" opener --socket run2/opener.sock",
        ])
        .arg(env!("CARGO_BIN_EXE_katabatic"))
        .current_dir(place.desk.path(""));
    let opener = Beside::of(opener, "The opener listens");
    let mode = |at: &str| fs::symlink_metadata(place.desk.path(at)).unwrap().mode() & 0o7777;
    assert_eq!((mode("run2"), mode("run2/opener.sock")), (0o755, 0o666));
    opener.end("-TERM");
    // Where others may write, they could put a socket of theirs.
    place
        .desk
        .run(&["opener", "--socket", "files/opener.sock"])
        .ends(1)
        .says("others may write");
    let listens = "
s = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
s.bind('mine.sock')
s.listen()
os.chmod('mine.sock', 0o666)
say('listens')
time.sleep(1000)
";
    let mut imposter = place.part(ONE, listens, &[]);
    assert_eq!(imposter.line(), "listens");
    let refused = katabatic_opener::client::knock(&place.at("mine.sock")).unwrap_err();
    assert!(refused.to_string().contains("not root"), "{refused}");
}

/// Starts a program as a service manager does, with what it kept.
const STARTS_WITH: &str = r#"
import os, sys
kept, program = int(sys.argv[1]), sys.argv[2:]
if kept >= 0:
    os.dup2(kept, 3)
    os.environ.update(LISTEN_PID=str(os.getpid()), LISTEN_FDS='1', LISTEN_FDNAMES='marks')
os.execv(program[0], program)
"#;

/// What a service manager does: keeps what it is given, and hands it to the next one.
fn kept(manager: &UnixDatagram) -> OwnedFd {
    use rustix::net::{RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags, recvmsg};
    let mut text = [0u8; 1_024];
    loop {
        let mut space = [std::mem::MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(4))];
        let mut along = RecvAncillaryBuffer::new(&mut space);
        let mut into = [io::IoSliceMut::new(&mut text)];
        recvmsg(manager, &mut into, &mut along, RecvFlags::CMSG_CLOEXEC).unwrap();
        let group = along.drain().find_map(|message| match message {
            RecvAncillaryMessage::ScmRights(mut descriptors) => descriptors.next(),
            _ => None,
        });
        if let Some(group) = group {
            return group;
        }
    }
}

#[test]
#[ignore = "needs other users and is asked before files are opened, which root may do: .ci/run"]
fn where_the_marks_are_kept_a_kill_lets_nobody_in() {
    let place = Place::without_opener();
    let manager = UnixDatagram::bind(place.desk.path("notify")).unwrap();
    let start = |kept: Option<&OwnedFd>| {
        let mut opener = Command::new("/usr/bin/python3");
        opener
            .args(["-c", STARTS_WITH])
            .arg(kept.map_or(-1, AsRawFd::as_raw_fd).to_string())
            .arg(env!("CARGO_BIN_EXE_katabatic"))
            .args(["opener", "--socket", "opener.sock"])
            .env("NOTIFY_SOCKET", place.desk.path("notify"))
            .current_dir(place.desk.path(""));
        Beside::of(opener, "The opener listens")
    };
    let opener = start(None);
    let group = kept(&manager);
    // For a child to have it.
    rustix::io::fcntl_setfd(&group, rustix::io::FdFlags::empty()).unwrap();
    place.stubs(ONE, &["waits", "later"]);
    let mut agent = place.agent(ONE, "listens", &["waits", "later"]);
    let read = |name: &'static str| {
        let at = place.at(name);
        thread::spawn(move || error_of_reading(&at))
    };
    let waits = read("waits");
    assert!(agent.line().starts_with("asked"));
    opener.end("-KILL");
    let comes_later = read("later");
    until("both wait", || {
        !waits.is_finished() && !comes_later.is_finished()
    });
    let opener = start(Some(&group));
    assert_eq!(
        waits.join().unwrap(),
        Some(EIO),
        "what was open is answered"
    );
    assert_eq!(
        comes_later.join().unwrap(),
        Some(EIO),
        "no agent is there yet"
    );
    let _agent = place.agent(ONE, "brings", &["waits", "later"]);
    for name in ["waits", "later"] {
        assert!(place.reads(ONE, name).0);
    }
    drop((opener, group));
}
