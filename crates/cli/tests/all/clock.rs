//! A clock that was set back, or far ahead: what is carried does not depend on it, and the person is told.
//!
//! `faketime` gives the built program another clock; where it is not installed, there is nothing to try.

use std::fs;
use std::process::Command;

use crate::worlds::{Desk, Said, tree};

/// Runs the program with its clock moved by so much.
fn at(desk: &Desk, moved: &str, arguments: &[&str]) -> Said {
    let plain = desk.command(arguments);
    let mut command = Command::new("faketime");
    command
        .args(["-f", moved])
        .arg(plain.get_program())
        .args(plain.get_args());
    for (name, value) in plain.get_envs() {
        match value {
            Some(value) => command.env(name, value),
            None => command.env_remove(name),
        };
    }
    if let Some(dir) = plain.get_current_dir() {
        command.current_dir(dir);
    }
    Said::from(command.output().unwrap())
}

#[test]
#[ignore = "needs faketime; .ci/run installs it"]
fn a_clock_that_jumps_loses_nothing_and_is_told() {
    let desk = Desk::bare(&[]);
    for name in ["a", "b", "c", "d", "both"] {
        desk.write_near(&format!("{name}.txt"), name);
    }
    // So many that the brake has nothing to say.
    for number in 0..200 {
        desk.write_near(&format!("others/{number}.txt"), "another");
    }
    desk.add_account().ends(0);
    desk.tie(&[]).ends(0);
    desk.run(&["sync"]).ends(0);
    for moved in ["-3y", "+3y", "-1d", "-30y", "+0"] {
        let case = |what: &str| format!("{what} {moved}");
        desk.write_near("a.txt", &case("edited here"));
        desk.write_far("b.txt", &case("edited there"));
        fs::remove_file(desk.near().join("c.txt")).unwrap();
        desk.write_near("both.txt", &case("one"));
        desk.write_far("both.txt", &case("the other"));
        let said = at(&desk, moved, &["sync"]).ends(3);
        // Each is compared with the pass before it.
        let behind = moved.starts_with('-');
        assert_eq!(
            said.err.contains("set the clock"),
            behind,
            "{moved}: {}",
            said.err
        );
        at(&desk, moved, &["settle", "scores", "--keep", "both"]).ends(0);
        at(&desk, moved, &["sync"]).ends(0);
        let (near, far) = (tree(&desk.near()), tree(&desk.far()));
        assert_eq!(near, far, "{moved}");
        assert_eq!(near["a.txt"], case("edited here").into_bytes(), "{moved}");
        assert_eq!(near["b.txt"], case("edited there").into_bytes(), "{moved}");
        assert!(!near.contains_key("c.txt"), "{moved}");
        let versions: Vec<&Vec<u8>> = near.values().collect();
        for kept in ["one", "the other"] {
            let kept = case(kept).into_bytes();
            assert!(versions.contains(&&kept), "{moved}");
        }
        desk.write_near("c.txt", "c");
        at(&desk, moved, &["sync"]).ends(0);
    }
}
