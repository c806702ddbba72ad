//! `settle --ask`: conflicts one by one, on a terminal.

use std::io::Write;
use std::process::{Command, Stdio};

use crate::worlds::{Desk, tree};

/// Types answers on a terminal that `script` (util-linux) makes.
fn on_a_terminal(desk: &Desk, arguments: &[&str], typed: &str) -> (i32, String) {
    let plain = desk.command(arguments);
    let words = std::iter::once(plain.get_program()).chain(plain.get_args());
    let line: Vec<String> = words
        .map(|word| format!("'{}'", word.to_str().unwrap()))
        .collect();
    let mut child = Command::new("script")
        .args(["-qec", &line.join(" "), "/dev/null"])
        .envs(
            plain
                .get_envs()
                .filter_map(|(key, value)| Some((key, value?))),
        )
        .current_dir(plain.get_current_dir().unwrap_or(desk.dir.path()))
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let mut stdin = child.stdin.take().unwrap();
    stdin.write_all(typed.as_bytes()).unwrap();
    let output = child.wait_with_output().unwrap();
    drop(stdin);
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    (output.status.code().unwrap(), said)
}

fn with_conflicts(names: &[&str]) -> Desk {
    let desk = Desk::tied(&[]);
    for name in names {
        desk.write_near(name, "as agreed\n");
    }
    desk.run(&["sync"]).ends(0);
    for name in names {
        desk.write_near(name, "edited here\n");
        desk.write_far(name, "edited there, too\n");
    }
    desk.run(&["sync"]).ends(3);
    desk
}

#[test]
fn each_is_shown_asked_about_and_settled() {
    let desk = with_conflicts(&["a.txt", "b.txt", "c.txt", "d.txt"]);
    let (code, said) = on_a_terminal(&desk, &["settle", "--ask"], "what?\nn\nfar\nl\nb\n");
    assert_eq!(code, 3, "{said}");
    assert!(said.contains("Conflict: a.txt in lane scores"), "{said}");
    assert!(said.contains("+edited there, too"), "{said}");
    let here = tree(&desk.near());
    assert_eq!(here["a.txt"], b"edited here\n");
    assert_eq!(here["b.txt"], b"edited there, too\n");
    assert_eq!(here["c.txt"], b"edited here\n");
    assert_eq!(here["d.txt"], b"edited here\n");
    assert_eq!(here.len(), 5, "the second version of d.txt is beside it");
    let left = desk.run(&["conflicts", "--json"]).ends(3).json();
    assert_eq!(left["conflicts"].as_array().unwrap().len(), 1);
    // The next one ends it before anything is settled.
    let (code, _) = on_a_terminal(&desk, &["settle", "--ask", "scores"], "e\n");
    assert_eq!(code, 3);
    let (code, said) = on_a_terminal(&desk, &["settle", "--ask", "near/c.txt"], "w\nn\n");
    assert_eq!(code, 3, "when it was edited there is not known: {said}");
    let (code, said) = on_a_terminal(&desk, &["settle", "--ask"], "n\n");
    assert_eq!(code, 0, "{said}");
    assert_eq!(tree(&desk.near()), tree(&desk.far()));
    let (code, said) = on_a_terminal(&desk, &["settle", "--ask"], "");
    assert!(code == 0 && said.contains("No conflicts"), "{said}");
}

#[test]
fn without_a_terminal_it_says_what_to_say() {
    let desk = with_conflicts(&["a.txt"]);
    desk.run(&["settle", "--ask"])
        .ends(2)
        .says("there is no terminal to ask on")
        .says("--keep near|far|both|newest");
    desk.run(&["settle", "scores"]).ends(2).says("--keep");
}
