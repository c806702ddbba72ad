//! `watch`, on a terminal: it draws, obeys its keys, and gives the terminal back as it was.

use std::io::{Read, Write};
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use crate::worlds::Desk;

/// What a terminal of 24 lines would show (ECMA-48: CUP moves, ED and EL clear; what colours is passed over). Where it
/// scrolls, the last line is written anew.
fn screen(text: &str) -> String {
    let mut cells = vec![vec![' '; 80]; 24];
    let (mut row, mut column) = (0, 0);
    let mut chars = text.chars();
    while let Some(c) = chars.next() {
        match c {
            '\u{1b}' => {
                if chars.next() != Some('[') {
                    continue;
                }
                let mut numbers = String::new();
                let end = loop {
                    match chars.next() {
                        Some(c) if c.is_ascii_alphabetic() => break c,
                        Some(c) => numbers.push(c),
                        None => break ' ',
                    }
                };
                if end == 'H' {
                    let mut parts = numbers.split(';').map(|part| part.parse().unwrap_or(1));
                    row = parts.next().unwrap_or(1_usize).clamp(1, 24) - 1;
                    column = parts.next().unwrap_or(1_usize).clamp(1, 80) - 1;
                } else if end == 'J' || numbers.starts_with("?1049") {
                    cells = vec![vec![' '; 80]; 24];
                }
            }
            '\r' => column = 0,
            '\n' => row = (row + 1).min(23),
            c => {
                cells[row][column.min(79)] = c;
                column += 1;
            }
        }
    }
    let rows: Vec<String> = cells.iter().map(|row| row.iter().collect()).collect();
    rows.join("\n")
}

/// The program on a terminal that `script` (util-linux) makes.
struct OnATerminal {
    child: Child,
    keys: ChildStdin,
    seen: Arc<Mutex<String>>,
}

impl OnATerminal {
    fn watch(desk: &Desk) -> OnATerminal {
        let plain = desk.command(&["watch"]);
        let line = format!(
            "stty rows 24 cols 80; echo \"began $$\"; exec '{}' watch",
            plain.get_program().to_str().unwrap()
        );
        let envs = plain.get_envs();
        let mut child = Command::new("script")
            .args(["-qec", &line, "/dev/null"])
            .envs(envs.filter_map(|(key, value)| Some((key, value?))))
            .env("TERM", "xterm")
            .current_dir(plain.get_current_dir().unwrap())
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let keys = child.stdin.take().unwrap();
        let mut out = child.stdout.take().unwrap();
        let seen = Arc::new(Mutex::new(String::new()));
        let writes = Arc::clone(&seen);
        std::thread::spawn(move || {
            let mut buffer = [0; 4096];
            while let Ok(read @ 1..) = out.read(&mut buffer) {
                let text = String::from_utf8_lossy(&buffer[..read]).into_owned();
                writes.lock().unwrap().push_str(&text);
            }
        });
        OnATerminal { child, keys, seen }
    }

    fn seen(&self) -> String {
        self.seen.lock().unwrap().clone()
    }

    #[track_caller]
    fn shows(&self, text: &str) {
        let begun = Instant::now();
        while !screen(&self.seen()).contains(text) {
            let late = begun.elapsed() > Duration::from_secs(150);
            assert!(!late, "never showed {text:?}: {}", screen(&self.seen()));
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    fn press(&mut self, keys: &str) {
        self.keys.write_all(keys.as_bytes()).unwrap();
        self.keys.flush().unwrap();
    }

    #[track_caller]
    fn writes(&self, sequence: &str) {
        let begun = Instant::now();
        while !self.seen().contains(sequence) {
            let late = begun.elapsed() > Duration::from_secs(90);
            assert!(!late, "never wrote {sequence:?}: {:?}", self.seen());
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// How it ended, and whether the screen of before is there again, with a cursor.
    fn ends(mut self) -> i32 {
        let code = self.child.wait().unwrap().code().unwrap();
        self.writes("\u{1b}[?1049l");
        self.writes("\u{1b}[?25h");
        code
    }
}

fn process_of(seen: &str) -> String {
    let number = seen.split("began ").nth(1).unwrap();
    number.chars().take_while(char::is_ascii_digit).collect()
}

fn in_conflict() -> Desk {
    let desk = Desk::tied(&[]);
    desk.write_near("a.txt", "as agreed");
    desk.run(&["sync"]).ends(0);
    desk.write_near("a.txt", "edited here");
    desk.write_far("a.txt", "edited there, too");
    desk.run(&["sync"]).ends(3);
    desk
}

#[test]
fn it_draws_obeys_its_keys_and_gives_the_terminal_back() {
    let desk = in_conflict();
    let mut watch = OnATerminal::watch(&desk);
    watch.shows("1 path needs a person");
    watch.press("p");
    watch.shows("No agent runs, so nothing runs by itself");
    watch.press("\tw");
    watch.writes("a.txt in lane scores");
    watch.writes("Enter goes back.");
    watch.press("\r");
    watch.shows("1 path needs a person");
    watch.press("s");
    watch.writes("edited there, too");
    // The first answer is for the question, the second goes back.
    watch.press("near\r");
    watch.press("\r");
    watch.shows("Nothing needs a person");
    watch.press("q");
    assert_eq!(watch.ends(), 0);
}

#[test]
fn a_signal_gives_the_terminal_back_too() {
    let desk = in_conflict();
    let watch = OnATerminal::watch(&desk);
    watch.shows("1 path needs a person");
    let process = process_of(&watch.seen());
    let killed = Command::new("kill").args(["-TERM", &process]).status();
    assert!(killed.unwrap().success());
    watch.ends();
}

#[test]
fn it_does_not_outlive_its_terminal() {
    let desk = in_conflict();
    let mut watch = OnATerminal::watch(&desk);
    watch.shows("1 path needs a person");
    let process = process_of(&watch.seen());
    watch.child.kill().unwrap();
    watch.child.wait().unwrap();
    let begun = Instant::now();
    while std::path::Path::new(&format!("/proc/{process}")).exists() {
        assert!(begun.elapsed() < Duration::from_secs(90), "it goes on");
        std::thread::sleep(Duration::from_millis(50));
    }
}

#[test]
fn without_a_terminal_it_says_what_scripts_take() {
    let desk = Desk::tied(&[]);
    desk.run(&["watch"]).ends(2).says("agent status --json");
}
