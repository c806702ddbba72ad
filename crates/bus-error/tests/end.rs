//! The process really ends so: tried in a process of its own, which sends itself the signal.

use std::process::Command;

const CHILD: &str = "KATABATIC_BUS_ERROR_CHILD";

#[test]
fn it_ends_with_words_and_without_a_core() {
    if std::env::var_os(CHILD).is_some() {
        katabatic_bus_error::end_with_words("the disk is full\n".into());
        // What the kernel does where a mapped page cannot be kept.
        let status = Command::new("kill")
            .args(["-BUS", &std::process::id().to_string()])
            .status();
        panic!("it is still here: {status:?}");
    }
    let me = std::env::current_exe().unwrap();
    let ended = Command::new(me)
        .args([
            "--exact",
            "it_ends_with_words_and_without_a_core",
            "--nocapture",
        ])
        .env(CHILD, "1")
        .output()
        .unwrap();
    assert_eq!(ended.status.code(), Some(1), "{ended:?}");
    assert!(String::from_utf8_lossy(&ended.stderr).contains("the disk is full"));
}
