//! Homes that are damaged, old, or a copy: whatever happens to config, ledger and secrets, nothing is removed, nothing is
//! lost, and the message says what to do.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use crate::worlds::{Desk, Said, tree};

/// The same on every run.
struct Dice(u64);

impl Dice {
    fn next(&mut self, below: usize) -> usize {
        self.0 = self
            .0
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) as usize % below
    }
}

/// A lane that went through a few passes, with something in the spares.
fn lived_in() -> Desk {
    let desk = Desk::bare(&[]);
    for number in 0..40 {
        desk.write_near(
            &format!("{}/{number}.txt", number % 5),
            &format!("part {number}"),
        );
        desk.write_far(
            &format!("there {}/{number}.txt", number % 3),
            &format!("{number}"),
        );
    }
    desk.add_account().ends(0);
    desk.tie(&[]).ends(0);
    desk.run(&["sync"]).ends(0);
    desk.write_near("0/5.txt", "part 5, edited");
    fs::remove_file(desk.near().join("1/6.txt")).unwrap();
    desk.run(&["sync"]).ends(0);
    desk
}

type Files = BTreeMap<String, Vec<u8>>;

fn files(desk: &Desk) -> (Files, Files) {
    (tree(&desk.near()), tree(&desk.far()))
}

/// A copy of the home as it is.
fn snapshot(desk: &Desk, name: &str) -> PathBuf {
    let to = desk.path(name);
    copy(&desk.path("home"), &to);
    to
}

fn copy(from: &Path, to: &Path) {
    let done = std::process::Command::new("cp")
        .args(["-a", "--"])
        .args([from, to])
        .status()
        .unwrap();
    assert!(done.success());
}

fn bring_back(desk: &Desk, snapshot: &Path) {
    fs::remove_dir_all(desk.path("home")).unwrap();
    copy(snapshot, &desk.path("home"));
}

#[track_caller]
fn no_panic(said: &Said, case: &str) {
    assert!(!said.err.contains("panicked"), "{case}: {}", said.err);
    assert!(said.code.is_some(), "{case}: killed by a signal");
}

/// Ruins the first bytes of the ledger, which no program can overlook; where, and how many.
fn damage_the_head(home: &Path, dice: &mut Dice) -> String {
    let file = home.join("ledger.db");
    drop(fs::remove_file(home.join("ledger.db-wal")));
    let mut bytes = fs::read(&file).unwrap();
    let length = 1 + dice.next(16);
    for byte in &mut bytes[..length] {
        *byte = !*byte;
    }
    fs::write(&file, bytes).unwrap();
    format!("{} at 0, {length} bytes", file.display())
}

/// Overwrites a few bytes somewhere; where, and how many.
fn damage(home: &Path, dice: &mut Dice) -> String {
    // What was written last may lie in the file beside it; that one is ruined, or gone, or as it was.
    let (mut file, beside) = (home.join("ledger.db"), home.join("ledger.db-wal"));
    match dice.next(3) {
        0 if beside.exists() => file = beside,
        1 => drop(fs::remove_file(beside)),
        _ => {}
    }
    let mut bytes = fs::read(&file).unwrap();
    // Half of the time in the first pages, where the structure is.
    let below = if dice.next(2) == 0 {
        4096.min(bytes.len())
    } else {
        bytes.len()
    };
    let longest = [40, 2000][dice.next(2)];
    let (at, length) = (dice.next(below), 1 + dice.next(longest));
    let end = (at + length).min(bytes.len());
    for byte in &mut bytes[at..end] {
        *byte = dice.next(256) as u8;
    }
    fs::write(&file, bytes).unwrap();
    format!("{} at {at}, {length} bytes", file.display())
}

/// As many rounds, or as the environment says for a longer trial, which then begins elsewhere too.
fn rounds(usual: usize) -> (usize, Dice) {
    let said = std::env::var("KATABATIC_ROUNDS").ok();
    let rounds = said.and_then(|text| text.parse().ok()).unwrap_or(usual);
    (rounds, Dice(20_261_125 + (rounds - usual) as u64))
}

#[test]
fn a_ledger_damaged_anywhere_removes_nothing_and_is_got_over() {
    let desk = lived_in();
    let whole = snapshot(&desk, "whole");
    let before = files(&desk);
    let (rounds, mut dice) = rounds(60);
    for round in 0..rounds {
        bring_back(&desk, &whole);
        // What damage anywhere hits depends on how long the file became; a ruined head is found out on every machine.
        let sure = round % 6 == 0;
        let place = if sure {
            damage_the_head(&desk.path("home"), &mut dice)
        } else {
            damage(&desk.path("home"), &mut dice)
        };
        let case = format!("round {round}: {place}");
        let mut set_aside = false;
        let mut last = None;
        for _ in 0..3 {
            let said = desk.run(&["sync"]);
            no_panic(&said, &case);
            set_aside |= said.err.contains("set aside");
            last = Some(said);
        }
        let last = last.unwrap();
        // Settled, or a root or a conflict that a person has to look at; never an error for ever.
        assert!(
            matches!(last.code, Some(0 | 3 | 6)),
            "{case}: {:?}\n{}\n{}",
            last.code,
            last.out,
            last.err
        );
        assert!(
            before == files(&desk),
            "{case}: files changed\n{}",
            last.out
        );
        assert!(set_aside || !sure, "{case}: not noticed\n{}", last.err);
    }
}

#[test]
fn a_ledger_that_is_no_ledger_is_set_aside_and_its_spares_are_taken_over() {
    let desk = lived_in();
    let before = files(&desk);
    // The header is gone, as after a disk that wrote zeros.
    let file = desk.path("home/ledger.db");
    let good = fs::read(&file).unwrap();
    for bad in [
        vec![0; good.len()],
        good[..good.len() / 2].to_vec(),
        b"not a database at all".repeat(500),
    ] {
        for beside in ["ledger.db-wal", "ledger.db-shm"] {
            let _ = fs::remove_file(desk.path("home").join(beside));
        }
        fs::write(&file, &bad).unwrap();
        let said = desk.run(&["sync"]);
        no_panic(&said, "no ledger");
        if said.code == Some(1) {
            // Found out in the middle: the same again sets it aside.
            said.says("Say the same again");
            desk.run(&["sync"]).ends(0).says("was set aside as");
        } else {
            said.ends(0);
        }
        assert!(before == files(&desk));
    }
    let aside = fs::read_dir(desk.path("home")).unwrap();
    let aside = aside.filter(|entry| {
        let name = entry.as_ref().unwrap().file_name();
        name.to_string_lossy().contains("[damaged ")
    });
    assert!(aside.count() >= 1, "nothing of the old ones was kept");
    desk.run(&["sync"]).ends(0).says("nothing to carry");
}

#[test]
fn what_was_kept_is_still_known_after_the_rows_are_ruined() {
    let desk = lived_in();
    let file = desk.path("home/ledger.db");
    let spares = desk.run(&["spares", "list", "--json"]).json();
    let number = spares["spares"][0]["number"].to_string();
    // As a program would find it out in the middle.
    fs::write(desk.path("home/ledger.damaged"), "").unwrap();
    assert!(file.exists());
    desk.run(&["spares", "list"])
        .ends(0)
        .says("2 spares were taken over")
        .says("compares both sides, and removes nothing");
    assert_eq!(spares, desk.run(&["spares", "list", "--json"]).json());
    desk.run(&["spares", "restore", &number]).ends(0);
    desk.run(&["sync"]).ends(0);
    assert_eq!(files(&desk).0, files(&desk).1);
}

#[test]
fn a_value_that_is_ruined_in_any_row_that_is_taken_over_ruins_no_second_ledger() {
    let desk = lived_in();
    let whole = snapshot(&desk, "whole");
    let before = files(&desk);
    // No text at all, where the program wrote text.
    let ruined = "CAST(x'61ff62' AS TEXT)";
    for set in [
        format!("lane SET terms = {ruined}, selection = {ruined}"),
        format!("lane SET near_root = {ruined}"),
        format!("lane SET id = {ruined}"),
        format!("spare SET cause = {ruined}"),
        "spare SET cause = 'in no form'".to_owned(),
        "run SET outcome = 'in no form'".to_owned(),
        format!("spare SET slot = {ruined}"),
        format!("run SET outcome = {ruined}, command = {ruined}"),
        "spare SET key = x'2f2f00', size = 'much'".to_owned(),
        "run SET began = 'then'".to_owned(),
    ] {
        bring_back(&desk, &whole);
        let ledger = rusqlite::Connection::open(desk.path("home/ledger.db")).unwrap();
        ledger.execute(&format!("UPDATE {set}"), []).unwrap();
        drop(ledger);
        fs::write(desk.path("home/ledger.damaged"), "").unwrap();
        for round in 0..2 {
            let said = desk.run(&["sync"]);
            no_panic(&said, &set);
            assert_eq!(said.code, Some(0), "{set}, round {round}: {}", said.err);
        }
        for arguments in [&["spares", "list"][..], &["runs"], &["status"], &["doctor"]] {
            let said = desk.run(arguments);
            no_panic(&said, &set);
            assert!(!said.err.contains("damaged"), "{set}: {}", said.err);
        }
        assert!(before == files(&desk), "{set}: files changed");
    }
}

#[test]
fn a_ledger_from_an_old_backup_is_noticed_and_brings_nothing_back() {
    let desk = lived_in();
    let old = snapshot(&desk, "old");
    for round in 0..4 {
        desk.write_near("2/7.txt", &format!("round {round}"));
        fs::remove_file(desk.near().join(format!("3/{}.txt", 8 + 5 * round))).unwrap();
        desk.write_far(&format!("new {round}.txt"), "new");
        desk.run(&["sync"]).ends(0);
    }
    let before = files(&desk);
    assert_eq!(before.0, before.1);
    bring_back(&desk, &old);
    desk.run(&["sync"])
        .ends(0)
        .says("restored from a backup")
        .says("removes nothing");
    assert!(before == files(&desk));
    // Told once, and then it goes on as ever.
    let said = desk.run(&["sync"]).ends(0);
    assert!(!said.err.contains("backup"), "{}", said.err);
    fs::remove_file(desk.near().join("new 0.txt")).unwrap();
    desk.run(&["sync"]).ends(0);
    assert!(!desk.far().join("new 0.txt").exists());
}

#[test]
fn a_copy_of_the_computer_gets_a_name_of_its_own() {
    let desk = lived_in();
    fs::write(desk.path("machine"), "0123456789abcdef\n").unwrap();
    let on = |machine: &str, arguments: &[&str]| -> Said {
        fs::write(desk.path("machine"), machine).unwrap();
        let mut command = desk.command(arguments);
        command.env("KATABATIC_MACHINE_ID", desk.path("machine"));
        command.output().unwrap().into()
    };
    let before = files(&desk);
    let names = || fs::read_dir(desk.far().join(".katabatic")).unwrap().count();
    assert_eq!(names(), 1);
    let said = on("ffff0000ffff0000", &["sync"]).ends(0);
    let said = said.says("another computer").says("removes nothing");
    assert!(before == files(&desk), "{}", said.out);
    assert_eq!(names(), 2, "both computers stage in one folder");
    let again = on("ffff0000ffff0000", &["sync"]).ends(0);
    assert!(!again.err.contains("another computer"), "{}", again.err);
}

#[test]
fn a_config_damaged_anywhere_changes_no_file() {
    let desk = lived_in();
    let whole = snapshot(&desk, "whole");
    let before = files(&desk);
    let (rounds, mut dice) = rounds(60);
    let mut refused = 0;
    for round in 0..rounds {
        bring_back(&desk, &whole);
        let file = desk.path("home/katabatic.toml");
        let mut bytes = fs::read(&file).unwrap();
        let at = dice.next(bytes.len());
        match dice.next(3) {
            0 => bytes[at] = dice.next(256) as u8,
            1 => drop(bytes.remove(at)),
            _ => bytes.truncate(at),
        }
        fs::write(&file, &bytes).unwrap();
        let case = format!("round {round}, at {at}");
        for arguments in [&["status"][..], &["plan"], &["sync"]] {
            let said = desk.run(arguments);
            no_panic(&said, &case);
            refused += usize::from(said.code == Some(2));
            assert!(
                said.code == Some(0) || !said.err.is_empty() || !said.out.is_empty(),
                "{case}: it failed and said nothing"
            );
        }
        assert!(before == files(&desk), "{case}: files changed");
    }
    assert!(refused > 30, "{refused}");
}

#[test]
fn a_secret_that_is_ruined_is_a_sign_in_that_is_refused() {
    let desk = lived_in();
    let before = files(&desk);
    let secrets = desk.path("home/secrets");
    let file = fs::read_dir(&secrets)
        .unwrap()
        .next()
        .unwrap()
        .unwrap()
        .path();
    for bad in [&b""[..], b"\xff\xfe\x00", b"another password"] {
        fs::write(&file, bad).unwrap();
        let said = desk.run(&["sync"]);
        no_panic(&said, "secret");
        assert_eq!(said.code, Some(5), "{bad:?}: {}\n{}", said.out, said.err);
        said.says("sign");
    }
    assert!(before == files(&desk));
}
