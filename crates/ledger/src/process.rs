//! Which process began a run, so that one that runs still is told from one that was cut off.
//!
//! A process is known by its number, by when it began and by the boot that both count from: the number alone is given to
//! another one later.

use std::fs;

/// This process, as the ledger notes it; none where the system does not tell.
pub(crate) fn this_one() -> Option<String> {
    of(std::process::id())
}

/// Whether the process that is noted so runs still.
pub(crate) fn runs_still(noted: &str) -> bool {
    let number = noted
        .split(' ')
        .next()
        .and_then(|number| number.parse().ok());
    number.is_some_and(|number: u32| of(number).as_deref() == Some(noted))
}

fn of(number: u32) -> Option<String> {
    let stat = fs::read_to_string(format!("/proc/{number}/stat")).ok()?;
    // The name of the program may hold anything; behind it come plain numbers (proc_pid_stat(5)).
    let fields: Vec<&str> = stat.rsplit(") ").next()?.split(' ').collect();
    let (state, began) = (fields.first()?, fields.get(19)?);
    let boot = fs::read_to_string("/proc/sys/kernel/random/boot_id").ok()?;
    (*state != "Z").then(|| format!("{number} {began} {}", boot.trim()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_process_runs_until_it_has_ended() {
        assert!(runs_still(&this_one().unwrap()));
        let mut child = std::process::Command::new("sleep")
            .arg("600")
            .spawn()
            .unwrap();
        let noted = of(child.id()).unwrap();
        assert!(runs_still(&noted));
        child.kill().unwrap();
        child.wait().unwrap();
        assert!(!runs_still(&noted));
        // Another one has the number now, or another boot.
        let other = noted.replacen(' ', " 1", 1);
        for noted in [&*other, "", "x", "0 0 0"] {
            assert!(!runs_still(noted), "{noted:?}");
        }
    }
}
