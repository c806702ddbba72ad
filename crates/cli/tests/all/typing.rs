//! What helps while typing: help by groups, examples, manual pages, completion; and weight and colour, which only add.

use std::process::Command;

use crate::worlds::Desk;

/// What a shell is offered for the last of these words.
fn offered(desk: &Desk, words: &[&str]) -> Vec<String> {
    let mut command = Command::new(env!("CARGO_BIN_EXE_katabatic"));
    command
        .env("KATABATIC_HOME", desk.path("home"))
        .env("KATABATIC_COMPLETE", "bash")
        .env("_CLAP_COMPLETE_INDEX", words.len().to_string())
        .env("_CLAP_IFS", "\n")
        .current_dir(desk.path("."))
        .args(["--", "katabatic"])
        .args(words);
    let output = command.output().unwrap();
    assert!(output.status.success(), "{output:?}");
    let text = String::from_utf8(output.stdout).unwrap();
    text.lines().map(str::to_owned).collect()
}

#[test]
fn lanes_accounts_and_paths_are_completed() {
    let desk = Desk::tied(&[]);
    assert_eq!(offered(&desk, &["status", "sco"]), ["scores"]);
    assert_eq!(offered(&desk, &["account", "test", "off"]), ["office"]);
    assert_eq!(offered(&desk, &["list", "@"]), ["@office/"]);
    assert_eq!(offered(&desk, &["status", "nea"]), ["near/"]);
    assert_eq!(offered(&desk, &["audi"]), ["audit"]);
    assert_eq!(
        offered(&desk, &["list", "--sort", "st"]),
        ["state"],
        "what an option may be"
    );
    // Nothing is said of a config that cannot be read, and nothing is made where there is none.
    crate::worlds::write(&desk.path("home/katabatic.toml"), "no toml [");
    assert_eq!(offered(&desk, &["status", "sco"]), Vec::<String>::new());
    for shell in ["bash", "zsh", "fish", "elvish", "powershell"] {
        desk.run(&["completions", shell])
            .ends(0)
            .says("KATABATIC_COMPLETE");
    }
    desk.run(&["completions", "tty"]).ends(2);
}

#[test]
fn a_shell_reads_what_completes_in_it() {
    let desk = Desk::bare(&[]);
    let script = desk.run(&["completions", "bash"]).ends(0).out;
    crate::worlds::write(&desk.path("completes"), &script);
    let output = Command::new("bash")
        .args(["-c", "source ./completes && complete -p katabatic"])
        .current_dir(desk.path("."))
        .output()
        .unwrap();
    assert!(output.status.success(), "{output:?}");
}

#[test]
fn help_shows_the_commands_in_groups_and_examples() {
    let desk = Desk::bare(&[]);
    let help = desk
        .run(&["--help"])
        .ends(0)
        .says("Set up:")
        .says("Settle and bring back:")
        .says("Exit codes:");
    let at = |text: &str| help.out.find(text).unwrap();
    assert!(at("  lane ") < at("  sync ") && at("  sync ") < at("  settle "));
    // What is said of a command goes on below itself, and not below the names.
    for line in help.out[at("Set up:")..at("Options:")].lines() {
        let column = |at: usize| line.as_bytes().get(at);
        let below = column(14) == Some(&b' ') && column(15).is_some_and(|byte| *byte != b' ');
        assert!(
            line.len() <= 80 && (!line.starts_with(' ') || below),
            "{line}"
        );
    }
    for typed in [&["help", "settle"][..], &["settle", "--help"]] {
        desk.run(typed)
            .ends(0)
            .says("Examples:")
            .says("katabatic settle scores --keep newest --preview");
    }
    desk.run(&["help"]).ends(0).says("Look and carry:");
    let pages = desk.path("man");
    desk.run(&["man", "--into", pages.to_str().unwrap()])
        .ends(1)
        .says("Name a folder that is there");
    std::fs::create_dir(&pages).unwrap();
    desk.run(&["man", "--into", pages.to_str().unwrap()])
        .ends(0);
    let page = std::fs::read_to_string(pages.join("katabatic-lane-add.1")).unwrap();
    assert!(page.contains("only up, to the cloud"), "{page}");
    desk.run(&["man"]).ends(0).says(".TH katabatic");
}

#[test]
fn colour_only_adds_and_comes_where_it_is_wanted() {
    let desk = Desk::tied(&[]);
    desk.write_near("a\u{1b}[31m.txt", "a name that would be red");
    desk.run(&[
        "lane",
        "add",
        "more",
        "--near",
        "more",
        "--far",
        "@office/More",
        "--make",
    ])
    .ends(0);
    let bare = desk.run(&["status"]).ends(0);
    assert!(!bare.out.contains('\u{1b}'), "{:?}", bare.out);
    let drawn = desk.run(&["--color", "always", "status"]).ends(0);
    let colours = ["\u{1b}[0m", "\u{1b}[1m", "\u{1b}[2m", "\u{1b}[36m"];
    assert!(drawn.out.contains("\u{1b}[1m"), "{:?}", drawn.out);
    // Without its colour it is the same, and a name has none of its own.
    let mut text = drawn.out;
    for colour in colours {
        text = text.replace(colour, "");
    }
    let without_times = |text: &str| {
        let digits = |c: char| if c.is_ascii_digit() { '0' } else { c };
        text.chars().map(digits).collect::<String>()
    };
    assert_eq!(without_times(&text), without_times(&bare.out));
    for environment in [("NO_COLOR", "1"), ("TERM", "dumb")] {
        let output = desk
            .command(&["status"])
            .env(environment.0, environment.1)
            .output()
            .unwrap();
        assert!(!output.stdout.contains(&0x1b));
    }
    let forced = desk
        .command(&["status"])
        .env("CLICOLOR_FORCE", "1")
        .output();
    assert!(forced.unwrap().stdout.contains(&0x1b));
    let plain = desk
        .run(&["--plain", "--color", "always", "status"])
        .ends(0);
    assert!(!plain.out.contains('\u{1b}'), "{:?}", plain.out);
}
