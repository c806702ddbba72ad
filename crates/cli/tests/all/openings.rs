//! Stubs that open themselves, read by other programs in all the ways in which programs read. The system asks only root
//! before files are opened, on Linux 6.14 and later: `.ci/run` runs these.

use std::fs;
use std::io::Write;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::thread;
use std::time::{Duration, Instant};

use crate::beside::{Beside, until};
use crate::worlds::Desk;

/// What no compression and no guess makes: each file another content, of several blocks.
fn content(of: &str) -> Vec<u8> {
    let mut content = Vec::new();
    for line in 0..4_000 {
        writeln!(content, "{of}, line {line}").unwrap();
    }
    content
}

fn rights(at: &Path) -> u32 {
    fs::symlink_metadata(at).unwrap().mode() & 0o7777
}

/// A lane of stubs of these names.
fn stubs(names: &[&str]) -> Desk {
    stubs_at(Desk::bare(&[]), names)
}

fn stubs_at(desk: Desk, names: &[&str]) -> Desk {
    for name in names {
        fs::write(desk.far().join(name), content(name)).unwrap();
    }
    desk.add_account().ends(0);
    desk.tie(&["--contents", "stubs", "--when", "by hand"])
        .ends(0);
    desk.run(&["sync"]).ends(0);
    for name in names {
        assert_eq!(fs::metadata(desk.near().join(name)).unwrap().blocks(), 0);
    }
    desk
}

/// Until programs are let in to every one of these.
fn opened(desk: &Desk, names: &[&str]) {
    until("the stubs have rights", || {
        names
            .iter()
            .all(|name| rights(&desk.near().join(name)) != 0)
    });
}

/// How many stubs were brought because a program opened them.
fn openings(desk: &Desk) -> usize {
    let runs = desk.run(&["runs", "--json"]).json();
    let runs = runs["runs"].as_array().unwrap().iter();
    runs.filter(|run| run["command"] == "open").count()
}

fn shell(desk: &Desk, script: &str) -> std::process::Output {
    Command::new("sh")
        .args(["-ec", script])
        .current_dir(desk.near())
        .output()
        .unwrap()
}

#[test]
#[ignore = "asks the system before files are opened, which root may do: .ci/run"]
fn every_way_of_reading_gives_the_right_bytes() {
    let ways = [
        ("cat", "cat NAME > OUT"),
        ("cp", "cp NAME OUT"),
        ("cp sparse", "cp --sparse=always NAME OUT"),
        ("tar", "tar -S -cf - NAME | tar -xOf - > OUT"),
        ("dd", "dd if=NAME of=OUT bs=512 conv=sparse 2>/dev/null"),
        ("sum", "sha256sum < NAME > /dev/null; cp NAME OUT"),
        (
            "mmap",
            "/usr/bin/python3 -c 'import mmap; f = open(\"NAME\", \"rb\"); open(\"OUT\", \"wb\").write(mmap.mmap(f.fileno(), 0, prot=mmap.PROT_READ))'",
        ),
        ("mv", "mv NAME OUT"),
        ("link", "ln NAME ../linked; cat ../linked > OUT"),
        (
            "in place",
            "dd if=/dev/null of=NAME conv=notrunc 2>/dev/null; cp NAME OUT",
        ),
    ];
    let names: Vec<&str> = ways.iter().map(|(name, _)| *name).collect();
    let desk = stubs(&names);
    let _opener = Beside::opener(&desk);
    let agent = Beside::agent(&desk);
    opened(&desk, &names);
    // On another file system, where a move has to read.
    let elsewhere = tempfile::tempdir_in("/dev/shm").unwrap();
    for (name, way) in ways {
        let out = elsewhere.path().join("out");
        let script = way
            .replace(
                "NAME",
                &format!("'{name}'").replace("'", if way.contains("python3") { "" } else { "'" }),
            )
            .replace("OUT", out.to_str().unwrap());
        let done = shell(&desk, &script);
        assert!(
            done.status.success(),
            "{name}: {}",
            String::from_utf8_lossy(&done.stderr)
        );
        assert!(
            fs::read(&out).unwrap() == content(name),
            "{name}: other bytes"
        );
        fs::remove_file(out).unwrap();
    }
    desk.run(&["status"]).ends(0);
    assert_eq!(openings(&desk), names.len());
    agent.end("-TERM");
    // What was moved away is gone here, and what was read is as it was there.
    desk.run(&["sync"]).ends(0);
    assert!(!desk.far().join("mv").exists());
    assert_eq!(fs::read(desk.far().join("cat")).unwrap(), content("cat"));
}

#[test]
#[ignore = "asks the system before files are opened, which root may do: .ci/run"]
fn a_hundred_readers_cost_one_fetch() {
    let desk = stubs(&["score"]);
    let _opener = Beside::opener(&desk);
    let _agent = Beside::agent(&desk);
    opened(&desk, &["score"]);
    let readers: Vec<Child> = (0..100)
        .map(|_| {
            Command::new("cat")
                .arg(desk.near().join("score"))
                .stdout(Stdio::piped())
                .stderr(Stdio::piped())
                .spawn()
                .unwrap()
        })
        .collect();
    // Each is read by a thread of its own: one that is not read does not end.
    let reading: Vec<_> = readers
        .into_iter()
        .map(|reader| thread::spawn(move || reader.wait_with_output().unwrap()))
        .collect();
    for reading in reading {
        let read = reading.join().unwrap();
        let said = String::from_utf8_lossy(&read.stderr);
        assert!(read.status.success(), "{said}");
        assert!(
            read.stdout == content("score"),
            "{} other bytes",
            read.stdout.len()
        );
    }
    assert_eq!(openings(&desk), 1);
}

/// Reads a stub over and over until told to stop; every read gives the whole content or fails. How many failed.
fn read_over_and_over(
    file: PathBuf,
    expected: Vec<u8>,
    readings: usize,
) -> thread::JoinHandle<usize> {
    thread::spawn(move || {
        let mut failed = 0;
        for _ in 0..readings {
            match fs::read(&file) {
                Ok(read) => assert!(
                    read == expected,
                    "a reader got other bytes: {:?}…",
                    &read[..20]
                ),
                Err(_) => failed += 1,
            }
            thread::sleep(Duration::from_millis(5));
        }
        failed
    })
}

#[test]
#[ignore = "asks the system before files are opened, which root may do: .ci/run"]
fn an_agent_that_is_killed_never_yields_zeros() {
    let names = ["a", "b", "c", "d", "e", "f"];
    let mut desk = stubs(&names);
    // So slow that it is killed in the middle.
    desk.serve_again(&["slow=200000"]);
    let _opener = Beside::opener(&desk);
    for name in names {
        let mut agent = Beside::agent(&desk);
        opened(&desk, &[name]);
        let reading = read_over_and_over(desk.near().join(name), content(name), 60);
        thread::sleep(Duration::from_millis(80));
        agent.0.kill().unwrap();
        agent.0.wait().unwrap();
        thread::sleep(Duration::from_millis(100));
        let _again = Beside::agent(&desk);
        reading.join().unwrap();
        until("it can be read", || {
            fs::read(desk.near().join(name)).is_ok_and(|read| read == content(name))
        });
    }
}

#[test]
#[ignore = "asks the system before files are opened, which root may do: .ci/run"]
fn without_a_line_it_cannot_be_read_and_nobody_waits_for_ever() {
    let mut desk = stubs(&["near", "far"]);
    let _opener = Beside::opener(&desk);
    let _agent = Beside::agent(&desk);
    opened(&desk, &["near", "far"]);
    desk.stop_serving();
    let begun = Instant::now();
    let failed = fs::read(desk.near().join("near")).unwrap_err();
    assert_eq!(failed.raw_os_error(), Some(5), "{failed}");
    assert!(begun.elapsed() < Duration::from_secs(60));
    desk.run(&["runs"]).says("open");
    let said = desk.run(&["why", desk.near().join("near").to_str().unwrap()]);
    said.says("could not be brought");
    desk.serve_again(&[]);
    assert!(fs::read(desk.near().join("near")).unwrap() == content("near"));
    // Removed there, it says so.
    fs::remove_file(desk.far().join("far")).unwrap();
    assert!(fs::read(desk.near().join("far")).is_err());
    desk.run(&["why", desk.near().join("far").to_str().unwrap()])
        .says("could not be brought: it is not there any more");
}

#[test]
#[ignore = "asks the system before files are opened, which root may do: .ci/run"]
fn a_stub_that_a_rule_leaves_out_gives_no_zeros_and_somebody_is_told() {
    let desk = stubs(&["kept.txt", "left.wav"]);
    tells_by_mail(&desk);
    desk.run(&["lane", "change", "scores", "--leave-out", "*.wav", "--yes"])
        .ends(0);
    desk.run(&["sync"]).ends(0);
    let _opener = Beside::opener(&desk);
    let _agent = Beside::agent(&desk);
    opened(&desk, &["kept.txt"]);
    assert!(shell(&desk, "cat kept.txt > /dev/null").status.success());
    let left = shell(&desk, "cat left.wav");
    assert!(!left.status.success() && left.stdout.is_empty(), "{left:?}");
    until("it is told", || {
        let told = told(&desk);
        told.contains("left.wav could not be opened") && told.contains("katabatic why")
    });
    desk.run(&["lane", "change", "scores", "--let-in", "*.wav", "--yes"])
        .ends(0);
    desk.run(&["sync"]).ends(0);
    until("it is let in", || {
        fs::read(desk.near().join("left.wav")).is_ok_and(|read| read == content("left.wav"))
    });
}

#[test]
#[ignore = "asks the system before files are opened, which root may do: .ci/run"]
fn rights_go_with_whoever_asks() {
    let desk = stubs(&["score", "other"]);
    let (near, score) = (desk.near(), desk.near().join("score"));
    // Without an opener there are none.
    let agent = Beside::agent(&desk);
    desk.run(&["agent", "status"]).says("no opener is there");
    assert_eq!(rights(&score), 0);
    agent.end("-TERM");

    let opener = Beside::opener(&desk);
    let agent = Beside::agent(&desk);
    opened(&desk, &["score", "other"]);
    desk.run(&["agent", "status"])
        .ends(0)
        .says("open by themselves");
    agent.end("-TERM");
    assert_eq!(rights(&score), 0, "the agent ended in order");
    // Even root reads no zeros of it: the mark is there still.
    assert_eq!(fs::read(&score).unwrap_err().raw_os_error(), Some(5));

    let agent = Beside::agent(&desk);
    opened(&desk, &["score", "other"]);
    opener.end("-TERM");
    assert_eq!(rights(&score), 0, "the opener ended in order");
    // An agent that looks for it at once does not find the one that is about to end.
    until("the agent knows", || {
        let said = desk.run(&["agent", "status"]).out;
        said.contains("no opener is there")
    });
    assert_eq!(rights(&score), 0, "and they stay closed");
    let mut opener = Beside::opener(&desk);
    opened(&desk, &["score", "other"]);
    opener.0.kill().unwrap();
    until("the rights are taken", || {
        rights(&score) == 0 && rights(&near.join("other")) == 0
    });
    drop(opener);
    let _opener = Beside::opener(&desk);
    opened(&desk, &["score", "other"]);

    // A stub that comes while all of it runs, and one that takes the place of a file.
    fs::write(desk.far().join("later"), content("later")).unwrap();
    assert!(fs::read(&score).unwrap() == content("score"));
    desk.run(&["sync"]).ends(0);
    opened(&desk, &["later"]);
    assert!(fs::read(near.join("later")).unwrap() == content("later"));
    desk.run(&["shed", score.to_str().unwrap()])
        .ends(0)
        .says("shed 1 file");
    opened(&desk, &["score"]);
    assert_eq!(fs::metadata(&score).unwrap().blocks(), 0);

    // Edited by a program that opens it to write behind what is there.
    let mut file = fs::File::options().append(true).open(&score).unwrap();
    file.write_all(b"an addition").unwrap();
    drop(file);
    let edited = [content("score"), b"an addition".to_vec()].concat();
    assert!(fs::read(&score).unwrap() == edited);
    agent.end("-TERM");
    desk.run(&["sync"]).ends(0).says("carried up");
    assert!(fs::read(desk.far().join("score")).unwrap() == edited);
}

#[test]
#[ignore = "asks the system before files are opened, which root may do: .ci/run"]
fn an_agent_that_hangs_keeps_nobody_waiting_for_ever() {
    let desk = stubs(&["score"]);
    let score = desk.near().join("score");
    let _opener = Beside::opener(&desk);
    let agent = Beside::agent(&desk);
    opened(&desk, &["score"]);
    agent.signal("-STOP");
    let begun = Instant::now();
    let failed = fs::read(&score).unwrap_err();
    assert_eq!(failed.raw_os_error(), Some(5), "{failed}");
    assert!(begun.elapsed() >= Duration::from_secs(30));
    agent.signal("-CONT");
    until("it can be read", || {
        fs::read(&score).is_ok_and(|read| read == content("score"))
    });
}

/// What the agent told by mail.
fn told(desk: &Desk) -> String {
    let mails = fs::read_dir(desk.path("mail")).unwrap();
    mails
        .map(|mail| fs::read_to_string(mail.unwrap().path()).unwrap())
        .collect()
}

fn tells_by_mail(desk: &Desk) {
    fs::create_dir(desk.path("mail")).unwrap();
    let folder = desk.path("mail");
    desk.run(&["tell", "--mail-folder", folder.to_str().unwrap()])
        .ends(0);
}

#[test]
#[ignore = "asks the system before files are opened, which root may do: .ci/run"]
fn a_program_that_only_looks_is_kept_out_and_one_that_opens_very_many_meets_a_limit() {
    let names = ["a", "b", "c", "d", "e", "f"];
    let desk = stubs(&names);
    tells_by_mail(&desk);
    desk.run(&["openings", "--keep-out", "head", "--most-files", "3"])
        .ends(0)
        .says("6 stubs are on this computer, and no agent runs")
        .says("at most 3 stubs or 10.0 GB within 10 min now");
    let _opener = Beside::opener(&desk);
    let _agent = Beside::agent(&desk);
    opened(&desk, &names);
    let looked = shell(&desk, "head -c 1 a");
    let said = String::from_utf8_lossy(&looked.stderr);
    assert!(said.contains("Operation not permitted"), "{said}");
    assert_eq!(fs::metadata(desk.near().join("a")).unwrap().blocks(), 0);
    desk.run(&["openings"])
        .ends(0)
        .says("a program that opens one waits")
        .says("Kept out: head, 1 time");
    // It is not kept out of what is here.
    assert!(
        shell(&desk, "cat a > /dev/null; head -c 1 a")
            .status
            .success()
    );
    // A search through everything gets so much and no more, and somebody is told.
    let searched = shell(&desk, "grep -rl 'line 7' . || true");
    let said = String::from_utf8_lossy(&searched.stderr);
    assert_eq!(said.matches("Operation not permitted").count(), 2, "{said}");
    let still = |name: &&&str| fs::metadata(desk.near().join(name)).unwrap().blocks() == 0;
    assert_eq!(names.iter().filter(still).count(), 2);
    until("it is told", || {
        told(&desk).contains("grep opens very many stubs")
    });
    assert!(told(&desk).contains("--keep-out grep"), "{}", told(&desk));
    let now = desk.run(&["openings", "--json"]).ends(0).json();
    assert_eq!(now["now"]["kept_out"].as_array().unwrap().len(), 2, "{now}");
    // Another program has its own measure; a wider one counts at once.
    assert!(shell(&desk, "cat ? > /dev/null").status.success());
    desk.run(&["openings", "--let-in", "tail"]).ends(2);
    desk.run(&["openings", "--keep-out", "/usr/bin/head"])
        .ends(2);
    desk.run(&["openings", "--most-files", "none", "--let-in", "head"])
        .ends(0)
        .says("The agent keeps to it at once");
    desk.run(&["shed", desk.near().to_str().unwrap()]).ends(0);
    opened(&desk, &names);
    until("the agent has read its config", || {
        shell(&desk, "head -c 1 a && grep -rl 'line 7' .")
            .status
            .success()
    });
    desk.run(&["openings", "--as-usual"])
        .ends(0)
        .says("tumblerd");
}

#[test]
#[ignore = "asks the system before files are opened, which root may do: .ci/run"]
fn a_slow_opening_is_seen_and_told_of() {
    let mut desk = Desk::bare(&[]);
    let long = content("score").repeat(8);
    fs::write(desk.far().join("score"), &long).unwrap();
    desk = stubs_at(desk, &[]);
    desk.run(&["openings", "--keep-out", "head"]).ends(0);
    tells_by_mail(&desk);
    let _opener = Beside::opener(&desk);
    let _agent = Beside::agent(&desk);
    opened(&desk, &["score"]);
    // Longer than an agent may say nothing.
    desk.serve_again(&[&format!("slow={}", long.len() / 40)]);
    let reading = Command::new("cat")
        .arg(desk.near().join("score"))
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    until("it is on its way", || {
        let said = desk.run(&["status"]).out;
        said.contains("opening scores: score, cat waits: ")
    });
    desk.run(&["openings"])
        .ends(0)
        .says("On its way: scores: score");
    desk.run(&["agent", "status"])
        .says("On its way: scores: score");
    until("some of it is here", || {
        let now = desk.run(&["openings", "--json"]).json();
        now["now"]["under_way"][0]["bytes"]["done"].as_u64() > Some(0)
    });
    // A pass meanwhile takes it neither for an edit nor for a fault, and who only looks does not wait with the others.
    let said = desk.run(&["sync"]).ends(0);
    assert!(!said.out.contains("stuck"), "{}", said.out);
    desk.run(&["why", desk.near().join("score").to_str().unwrap()])
        .says("its content comes just now");
    let looked = shell(&desk, "head -c 1 score");
    let said = String::from_utf8_lossy(&looked.stderr);
    assert!(said.contains("Operation not permitted"), "{said}");
    let now = desk.run(&["openings", "--json"]).json();
    assert_eq!(now["now"]["under_way"].as_array().unwrap().len(), 1);
    until("it is told", || told(&desk).contains("score is on its way"));
    assert!(reading.wait_with_output().unwrap().stdout == long);
    let now = desk.run(&["openings", "--json"]).json();
    assert_eq!(now["now"]["under_way"].as_array().unwrap().len(), 0);
}

#[test]
#[ignore = "mounts file systems, which root may do: .ci/run"]
fn it_is_so_on_every_file_system_that_the_system_asks_about() {
    for make in ["mkfs.ext4 -q", "mkfs.xfs -q", "mkfs.btrfs -q"] {
        let desk = Desk::bare(&[]);
        let image = desk.path("disk.img");
        fs::File::create(&image)
            .unwrap()
            .set_len(330_000_000)
            .unwrap();
        let mounted = Mounted(desk.near());
        let (image, near) = (image.display(), desk.near());
        let script = format!(
            "{make} '{image}'; mount -o loop '{image}' '{}'",
            near.display()
        );
        let made = Command::new("sh").args(["-ec", &script]).output().unwrap();
        assert!(
            made.status.success(),
            "{make}: {}",
            String::from_utf8_lossy(&made.stderr)
        );
        let names = ["read", "removed", "moved", "whole"];
        let desk = stubs_at(desk, &names);
        tells_by_mail(&desk);
        let opener = Beside::opener(&desk);
        let agent = Beside::agent(&desk);
        opened(&desk, &names);
        assert!(
            fs::read(near.join("read")).unwrap() == content("read"),
            "{make}"
        );
        // More than the disk holds: it is told so, and the disk is not filled to the brim.
        let vast = fs::File::create(desk.far().join("vast")).unwrap();
        vast.set_len(400_000_000).unwrap();
        desk.run(&["sync"]).ends(0);
        opened(&desk, &["vast"]);
        assert_eq!(
            fs::read(near.join("vast")).unwrap_err().raw_os_error(),
            Some(5),
            "{make}"
        );
        until("it is told", || {
            told(&desk).contains("katabatic room --free")
        });
        fs::remove_file(near.join("removed")).unwrap();
        fs::rename(near.join("moved"), near.join("moved on")).unwrap();
        desk.run(&["shed", near.join("read").to_str().unwrap()])
            .ends(0);
        assert_eq!(
            fs::metadata(near.join("read")).unwrap().blocks(),
            0,
            "{make}"
        );
        desk.run(&["sync"]).ends(0);
        assert!(!desk.far().join("removed").exists(), "{make}");
        assert!(desk.far().join("moved on").exists(), "{make}");
        desk.run(&["audit", "--quick"]).ends(0);
        agent.end("-TERM");
        opener.end("-TERM");
        drop(mounted);
    }
}

/// What is mounted there is put away with the test.
struct Mounted(PathBuf);

impl Drop for Mounted {
    fn drop(&mut self) {
        // A test that failed before it was mounted has nothing to put away.
        let _ = Command::new("umount").arg("-l").arg(&self.0).output();
    }
}
