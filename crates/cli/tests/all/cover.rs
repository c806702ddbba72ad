//! Covering the standard folders, through the built program.

use std::fs;
use std::os::unix::fs::symlink;
use std::path::PathBuf;

use crate::worlds::{Desk, Said, tree, write};

/// A person whose desktop speaks German, and an account.
struct Person {
    desk: Desk,
    home: &'static str,
}

impl Person {
    fn new() -> Person {
        let person = Person {
            desk: Desk::bare(&[]),
            home: "person",
        };
        write(
            &person.at(".config/user-dirs.dirs"),
            "XDG_DESKTOP_DIR=\"$HOME/\"\nXDG_DOCUMENTS_DIR=\"$HOME/Dokumente\"\nXDG_PICTURES_DIR=\"$HOME/Bilder\"\nXDG_MUSIC_DIR=\"$HOME/Musik\"\nXDG_VIDEOS_DIR=\"$HOME/Videos\"\n",
        );
        write(&person.at("Dokumente/rota.csv"), "monday");
        write(&person.at("Dokumente/Old/minutes.txt"), "long minutes");
        write(&person.at("Bilder/poster.svg"), "<svg/>");
        fs::create_dir(person.at("elsewhere")).unwrap();
        symlink(person.at("elsewhere"), person.at("Musik")).unwrap();
        person.desk.add_account().ends(0);
        person
    }

    fn at(&self, path: &str) -> PathBuf {
        self.desk.path(self.home).join(path)
    }

    fn run(&self, arguments: &[&str]) -> Said {
        let mut command = self.desk.command(arguments);
        command
            .env("HOME", self.desk.path(self.home))
            .env_remove("XDG_CONFIG_HOME");
        command.output().unwrap().into()
    }

    fn far(&self, path: &str) -> PathBuf {
        self.desk.path("cloud/librarian").join(path)
    }
}

#[test]
fn standard_folders_are_shown_covered_and_let_go() {
    let person = Person::new();
    person
        .run(&["cover"])
        .ends(0)
        .says("documents")
        .says("Dokumente")
        .says("this person has none")
        .says("Not on this computer: ")
        .says("no: a link to")
        .says("Largest in documents: Old/ 12 B, rota.csv 6 B");
    person
        .run(&[
            "cover",
            "documents",
            "pictures",
            "--as",
            "desk-3",
            "--under",
            "Computers",
            "--yes",
        ])
        .ends(0)
        .says("@office/Computers/desk-3/Documents")
        .says("carry 2 files up")
        .says("The files stay where they are");
    person.run(&["sync"]).ends(0);
    assert_eq!(
        fs::read_to_string(person.far("Computers/desk-3/Documents/Old/minutes.txt")).unwrap(),
        "long minutes"
    );
    assert!(person.far("Computers/desk-3/Pictures/poster.svg").exists());
    person
        .run(&["cover"])
        .ends(0)
        .says("by lane documents since")
        .says("2 of 2");
    let shown = person.run(&["cover", "--json"]).ends(0).json();
    assert_eq!(shown["folders"][1]["agreed"]["bytes"], 18);

    // What is removed here stays there: a cover is no mirror.
    fs::remove_file(person.at("Bilder/poster.svg")).unwrap();
    person.run(&["sync"]).ends(0);
    assert!(person.far("Computers/desk-3/Pictures/poster.svg").exists());

    person
        .run(&["cover", "--off", "pictures", "--yes"])
        .ends(0)
        .says("Every file stays");
    person
        .run(&["cover", "--off", "pictures", "--yes"])
        .ends(2)
        .says("nothing covers it");
    assert!(person.far("Computers/desk-3/Pictures/poster.svg").exists());
}

#[test]
fn what_cannot_be_covered_says_why() {
    let person = Person::new();
    let cover = |word: &str| person.run(&["cover", word, "--as", "desk-3", "--yes"]);
    cover("desktop")
        .ends(2)
        .says("this person has no such folder");
    cover("videos").ends(2).says("there is no folder");
    cover("music").ends(2).says("links are never followed");
    cover("papers")
        .ends(2)
        .says("There are: desktop, documents");
    cover("documents").ends(0);
    cover("documents")
        .ends(0)
        .says("It is so already: covered by documents");
    // Another computer of the same name does not mix its files into these.
    person.run(&["sync"]).ends(0);
    person.run(&["lane", "remove", "documents"]).ends(0);
    cover("documents")
        .ends(2)
        .says("there is a computer called desk-3 there already")
        .says("--take-over desk-3");
}

#[test]
fn what_does_not_fit_into_the_account_is_refused() {
    let mut person = Person::new();
    let listen = person.desk.address.clone();
    let listen = listen.trim_start_matches("http://").trim_end_matches('/');
    person.desk.serve_with(listen, &["--quota", "10"]);
    person
        .run(&["cover", "documents", "--as", "desk-3", "--yes"])
        .ends(1)
        .says("they hold 18 B")
        .says("Nothing was changed");
    assert!(!person.far("desk-3").exists());
}

#[test]
fn a_new_computer_takes_over_what_a_dead_one_had_covered() {
    let mut person = Person::new();
    person
        .run(&[
            "cover",
            "documents",
            "pictures",
            "--as",
            "old-desk",
            "--yes",
        ])
        .ends(0);
    person.run(&["sync"]).ends(0);

    // The new computer: another home of the tool and of the person; one file is there already, another differs.
    fs::rename(person.desk.path("home"), person.desk.path("home-of-old")).unwrap();
    person.home = "successor";
    write(
        &person.at(".config/user-dirs.dirs"),
        "XDG_DOCUMENTS_DIR=\"$HOME/Documents\"\nXDG_PICTURES_DIR=\"$HOME/Pictures\"\n",
    );
    write(&person.at("Documents/rota.csv"), "monday");
    person.desk.add_account().ends(0);
    person
        .run(&["cover", "--take-over", "nobody", "--yes"])
        .ends(6)
        .says("nothing of a computer of that name");
    person
        .run(&["cover", "--take-over", "old-desk", "--yes"])
        .ends(0)
        .says("covered from now on");
    assert_eq!(
        tree(&person.at("Documents"))
            .into_keys()
            .collect::<Vec<_>>(),
        ["Old/minutes.txt", "rota.csv"]
    );
    assert!(person.at("Pictures/poster.svg").exists());
    person.run(&["sync"]).ends(0).says("nothing to carry");
    write(&person.at("Documents/new.txt"), "new");
    person.run(&["sync"]).ends(0);
    assert!(person.far("old-desk/Documents/new.txt").exists());
    person
        .run(&["lane", "show", "documents"])
        .ends(0)
        .says("up: what changes on this computer goes to the other side");
}
