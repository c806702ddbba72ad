//! Names that somebody chose to do harm: typed into a shell, and shown on a terminal.

use std::fs;
use std::os::unix::process::ExitStatusExt;
use std::path::Path;
use std::process::{Command, Output};

use crate::worlds::Desk;
use katabatic_core::words::{acts, typed};

/// Shells of this computer that people type into; `.ci/run` sees to it that all are here.
fn shells() -> Vec<&'static str> {
    let all = ["bash", "dash", "zsh"];
    let wanted = std::env::var_os("KATABATIC_EVERY_SHELL").is_some();
    let is_here = |shell: &&str| {
        ["/bin", "/usr/bin"]
            .iter()
            .any(|bin| Path::new(bin).join(shell).exists())
    };
    let here: Vec<&str> = all.into_iter().filter(is_here).collect();
    assert!(!here.is_empty() && (!wanted || here == all), "{here:?}");
    here
}

/// Texts of signs that mean something to a shell, to `printf` or to a terminal, in any order.
fn texts() -> Vec<String> {
    let signs: Vec<char> = ('\u{1}'..='\u{7f}')
        .chain("é🎻\u{80}\u{9b}\u{202e}\u{2066}\u{2028}ⅷ \u{3000}".chars())
        .collect();
    let biting: Vec<char> = "\\'\"`$(){}[]<>|&;!#%*?~^=\n\r\t -+@,:.0123abnrtx"
        .chars()
        .collect();
    let mut random = 88_172_645_463_325_252_u64;
    let mut below = |many: usize| {
        random ^= random << 13;
        random ^= random >> 7;
        random ^= random << 17;
        usize::try_from(random % many as u64).unwrap()
    };
    let mut texts: Vec<String> = signs.iter().map(char::to_string).collect();
    for number in 0..6_000 {
        let from = if number % 2 == 0 { &signs } else { &biting };
        let length = 1 + below(9);
        texts.push((0..length).map(|_| from[below(from.len())]).collect());
    }
    texts.extend(
        [
            "a\n\\';touch INJ;#.txt",
            "%s%n",
            "-rf",
            "-\n",
            "~root/x",
            "~\n",
            "=ls",
            "a!b\u{1b}",
            "\\012\r",
        ]
        .map(str::to_owned),
    );
    texts
}

#[test]
fn every_shell_reads_back_what_is_typed_for_it() {
    let room = tempfile::tempdir().unwrap();
    let texts = texts();
    for shell in shells() {
        // Older ones do not know the only form in which a line's end can stand at the end.
        let knows = |text: &&String| shell != "dash" || !text.ends_with('\n');
        let texts: Vec<&String> = texts.iter().filter(knows).collect();
        for some in texts.chunks(500) {
            let words: Vec<String> = some.iter().map(|text| typed(text)).collect();
            for word in &words {
                assert!(!word.chars().any(acts), "{word:?}");
            }
            let script = format!("printf '%s\\0' {}", words.join(" "));
            let read = Command::new(shell)
                .args(["-c", &script])
                .env("LC_ALL", "C.UTF-8")
                .current_dir(room.path())
                .output()
                .unwrap();
            let errors = String::from_utf8_lossy(&read.stderr);
            assert!(
                read.status.success() && errors.is_empty(),
                "{shell}: {errors}"
            );
            let read = String::from_utf8(read.stdout).unwrap();
            let mut read = read.split('\0');
            for text in some {
                let expected = match text.starts_with('-') {
                    true => format!("./{text}"),
                    false => (*text).clone(),
                };
                assert_eq!(read.next(), Some(&*expected), "{shell}: {}", typed(text));
            }
        }
        assert_eq!(
            std::fs::read_dir(room.path()).unwrap().count(),
            0,
            "{shell}"
        );
    }
}

/// Moves the cursor, ends the line, fakes one, and turns round what follows.
const NAME: &str = "bad\u{1b}[2J\u{9b}31m\rgpj.\u{202e}exe\u{2066}\nAll settled\u{7}";

fn check(said: &Output, of: &[&str]) {
    assert_eq!(said.status.signal(), None, "{of:?}");
    for text in [&said.stdout, &said.stderr] {
        let text = String::from_utf8_lossy(text);
        let acting: Vec<char> = text.chars().filter(|c| acts(*c) && *c != '\n').collect();
        assert!(acting.is_empty(), "{of:?} says {acting:?}: {text:?}");
        assert!(
            !text.lines().any(|line| line.starts_with("All settled\\u")),
            "{of:?}: {text}"
        );
    }
}

#[test]
fn no_command_lets_a_name_act_on_the_terminal() {
    let desk = Desk::tied(&[]);
    let (file, folder) = (format!("{NAME}.txt"), format!("folder {NAME}"));
    desk.write_near(&file, "one");
    desk.write_near(&format!("{folder}/{NAME}"), "two");
    desk.write_near(&format!("{folder}/conflict {NAME}"), "as agreed");
    desk.write_near(&format!("removed {NAME}"), "removed");
    let at = |name: &str| format!("near/{name}");
    let remote = |name: &str| format!("@office/Scores/{name}");
    let (here, there, conflict) = (
        at(&file),
        remote(&file),
        at(&format!("{folder}/conflict {NAME}")),
    );
    let (near_folder, far_folder) = (at(&folder), remote(&folder));
    let copied = remote(&format!("copy {NAME}"));
    let moved = remote(&format!("moved {NAME}"));
    let made = remote(&format!("made {NAME}"));
    let rule = format!("*{NAME}");
    let commands: Vec<Vec<&str>> = vec![
        vec!["plan"],
        vec!["sync"],
        vec!["status"],
        vec!["status", "--lines"],
        vec!["status", &here],
        vec!["why", &here],
        vec!["list", &there],
        vec!["list", "@office/Scores"],
        vec!["list", "near"],
        vec!["sizes", "near"],
        vec!["choose", "scores"],
        vec!["choose", "scores", "--skip", &folder, "--preview", "--yes"],
        vec!["runs"],
        vec!["runs", "1"],
        vec!["audit"],
        vec!["conflicts"],
        vec!["conflicts", &conflict],
        vec!["settle", &conflict, "--keep", "both", "--preview"],
        vec!["settle", &conflict, "--keep", "near"],
        vec!["sync"],
        vec!["spares", "list"],
        vec!["undo", "2"],
        vec!["recover", "near"],
        vec!["recover", &here],
        vec!["shed", &here],
        vec!["status", &near_folder],
        vec!["fetch", &here],
        vec!["hold", &here],
        vec!["room"],
        vec!["copy", &here, &copied],
        vec!["move", &copied, &moved],
        vec!["remove", &moved],
        vec!["make-folder", &made],
        vec!["list", &far_folder],
        vec!["lane", "set", "scores", "--leave-out", &rule],
        vec!["lane", "show", "scores"],
        vec!["lane", "list"],
        vec!["lane", "sweep", "scores"],
        vec![
            "lane",
            "add",
            &file,
            "--near",
            &near_folder,
            "--far",
            &far_folder,
        ],
        vec!["lane", "remove", &file],
        vec!["account", "list"],
        vec!["account", "show", &file],
        vec!["account", "test", "office"],
        vec!["tell", "--program", &file, "--test"],
        vec!["openings", "--keep-out", &file],
        vec!["limits"],
        vec!["cover"],
        vec!["doctor"],
        vec!["agent", "status"],
        vec!["report", "--weeks", "1"],
        vec!["no such command", &file],
        vec!["--home", &file, "status"],
    ];
    for (number, command) in commands.iter().enumerate() {
        for options in [&[][..], &["--json"], &["-vv"]] {
            let said = desk.command(&[command, options].concat()).output().unwrap();
            check(&said, command);
        }
        if number == 1 {
            // As it went on from there.
            let (near, far) = (desk.near().join(&folder), desk.far().join(&folder));
            std::fs::write(near.join(format!("conflict {NAME}")), "edited here").unwrap();
            std::fs::write(far.join(format!("conflict {NAME}")), "edited there").unwrap();
            std::fs::remove_file(desk.near().join(format!("removed {NAME}"))).unwrap();
            desk.write_near(&file, "edited");
            desk.run(&["sync"]);
        }
    }
}

#[test]
fn a_name_that_is_no_text_is_shown_and_asked_for_with_an_answer() {
    use std::ffi::OsStr;
    use std::os::unix::ffi::OsStrExt;
    let desk = Desk::tied(&[]);
    let odd = OsStr::from_bytes(b"near/odd\xffname.txt");
    fs::write(desk.path("").join(odd), "text").unwrap();
    desk.write_near("plain.txt", "text");
    desk.run(&["list", "near"]).ends(0).says(r"odd\xffname.txt");
    desk.run(&["sync"]).ends(0);
    desk.run(&["status"]).says(r"odd\xffname.txt");
    for command in ["why", "status", "list"] {
        let mut asking = desk.command(&[command]);
        let said = crate::worlds::Said::from(asking.arg(odd).output().unwrap());
        said.ends(2)
            .says(r"near/odd\xffname.txt")
            .says("it is no valid UTF-8")
            .says("Rename it");
    }
}
