//! docs/recipes.md stays true: every command in it is run, and what it says comes back is compared.
//!
//! Each recipe has a desk of its own. A comment `<!-- write Scores/Rota.csv: text -->` is what people do in between;
//! a line that begins with `$` is a command; the lines after it must come back in this order, with `…` for anything.

use std::fs;
use std::os::unix::ffi::OsStringExt;
use std::path::Path;

use crate::being_written::Writer;
use crate::worlds::{Desk, Said, write};

fn desk() -> Desk {
    let desk = Desk::bare(&[]);
    for (name, content) in [
        ("Harbour Suite/Viola.txt", "bars 1 to 40"),
        ("Harbour Suite/Cello.txt", "bars 1 to 36"),
        ("Recordings/Concert.wav", &"a long evening ".repeat(2_000)),
        ("Rota.csv", "Mon,Ann\nTue,Ben\n"),
    ] {
        desk.write_far(name, content);
    }
    desk.add_account().ends(0);
    let tie = [
        "lane",
        "add",
        "scores",
        "--near",
        "Scores",
        "--far",
        "@office/Scores",
        "--make",
    ];
    desk.run(&tie).ends(0);
    desk.run(&["sync"]).ends(0);
    desk
}

/// What people do between two commands.
fn act(desk: &mut Desk, writer: &mut Option<Writer>, act: &str) {
    let (what, about) = act.split_once(' ').unwrap_or((act, ""));
    let content = || about.split_once(": ").unwrap();
    match what {
        "write" => write(&desk.path(content().0), content().1),
        "move" => fs::rename(desk.path(content().0), desk.path(content().1)).unwrap(),
        "many" => (0..content().1.parse::<u32>().unwrap()).for_each(|number| {
            let name = format!("{}/{number:02}.txt", content().0);
            write(&desk.path(&name), &format!("part {number}"));
        }),
        // One byte of Latin-1, which is no UTF-8.
        "odd-name" => {
            let text = about.replace("\\xe9", "\u{e9}");
            let name = std::ffi::OsString::from_vec(text.chars().map(|c| c as u8).collect());
            fs::write(desk.path("").join(name), "odd").unwrap();
        }
        "write-there" => desk.write_far(content().0, content().1),
        "remove" => {
            let path = desk.path(about);
            match path.is_dir() {
                true => fs::remove_dir_all(path).unwrap(),
                false => fs::remove_file(path).unwrap(),
            }
        }
        "unreadable-there" => desk.serve_again(&[&format!("unreadable=Scores/{about}")]),
        "readable-there" => desk.serve_again(&[]),
        "offline" => desk.stop_serving(),
        "quota-there" => {
            let listen = desk.address.trim_start_matches("http://").to_owned();
            desk.serve_with(listen.trim_end_matches('/'), &["--quota", about]);
        }
        "remove-there" => fs::remove_file(desk.far().join(about)).unwrap(),
        "writing" => *writer = Some(Writer::of(&desk.path(about))),
        "quiet" => *writer = None,
        "days" => {
            let ago = about.parse::<i64>().unwrap() * 86_400_000_000_000;
            let ledger = rusqlite::Connection::open(desk.path("home/ledger.db")).unwrap();
            ledger
                .execute("UPDATE spare SET taken_at = taken_at - ?1", [ago])
                .unwrap();
        }
        other => panic!("nobody knows how to {other}"),
    }
}

/// Splits a line as a shell does, as far as recipes need it.
fn split(line: &str) -> Vec<String> {
    let mut words = vec![String::new()];
    let mut quoted = false;
    for c in line.chars() {
        match c {
            '\'' => quoted = !quoted,
            ' ' if !quoted => words.push(String::new()),
            c => words.last_mut().unwrap().push(c),
        }
    }
    words
}

fn matches(wanted: &str, line: &str) -> bool {
    let parts: Vec<&str> = wanted.split('…').collect();
    let mut rest = line.trim_end();
    for (number, part) in parts.iter().enumerate() {
        let at = match number {
            0 => rest.starts_with(part).then_some(0),
            _ if number + 1 == parts.len() && part.is_empty() => return true,
            _ => rest.find(part),
        };
        let Some(at) = at else { return false };
        rest = &rest[at + part.len()..];
    }
    rest.is_empty()
}

#[test]
fn every_recipe_comes_out_as_it_says() {
    let text =
        fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/recipes.md"));
    let text = text.unwrap();
    let (mut world, mut recipe, mut fenced, mut commands) = (None::<Desk>, String::new(), false, 0);
    let mut came: Vec<String> = Vec::new();
    let mut next = 0;
    let mut writer = None;
    let mut wrong = Vec::new();
    for line in text.lines() {
        if let Some(name) = line.strip_prefix("## ") {
            writer = None;
            world = Some(desk());
            name.clone_into(&mut recipe);
        } else if let Some(about) = line.strip_prefix("<!-- ") {
            let about = about.trim_end_matches(" -->");
            act(world.as_mut().unwrap(), &mut writer, about);
        } else if line.starts_with("```") {
            fenced = !fenced;
        } else if let Some(command) = line.strip_prefix("$ katabatic ").filter(|_| fenced) {
            let address = world.as_ref().unwrap().address.clone();
            let words = split(&command.replace("ADDRESS", &address));
            let words: Vec<&str> = words.iter().map(String::as_str).collect();
            let desk = world.as_ref().unwrap();
            let said = match words[0] {
                // It looks at all of the person's home folder.
                "hand-over" => {
                    let mut command = desk.command(&words);
                    command.env("HOME", desk.path(""));
                    Said::from(command.output().unwrap())
                }
                _ => desk.run(&words),
            };
            assert!(
                !said.err.contains("panicked"),
                "{recipe}: {command}: {}",
                said.err
            );
            came = said
                .out
                .lines()
                .chain(said.err.lines())
                .map(str::to_owned)
                .collect();
            next = 0;
            commands += 1;
        } else if fenced {
            let found = came.iter().skip(next).position(|came| matches(line, came));
            match found {
                Some(found) => next += found + 1,
                None => wrong.push(format!(
                    "{recipe}: nothing like {line:?} comes back:\n{}",
                    came.join("\n")
                )),
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
    assert!(commands > 25, "only {commands} commands were run");
}
