//! Which program waits for a question's answer: with whose rights, and what it calls itself (proc_pid_status(5)).
//!
//! Anybody may read that of any process, so it takes no right; and it asks nobody who could take long. What a program was
//! started from would take the right to look into every process, and may lie on a file system that never answers.

use crate::PROGRAM;
use crate::questions::Waiter;

/// The program of a process; 0 stands for one that cannot be seen from here.
pub(crate) fn of(process: i32) -> Waiter {
    let status = std::fs::read(format!("/proc/{process}/status"));
    status.map_or(Waiter::Mixed, |status| {
        read(&String::from_utf8_lossy(&status))
    })
}

/// Whether the user's number of a process is one that the system gave, and not one of the many thousands that anybody can
/// have in a user namespace of their own (user_namespaces(7)): each of these would count as another person.
pub(crate) fn has_a_number_of_its_own(process: i32) -> bool {
    let map = |process: &str| std::fs::read(format!("/proc/{process}/uid_map")).ok();
    let own = map("self");
    own.is_some() && own == map(&process.to_string())
}

fn read(status: &str) -> Waiter {
    let of = |what: &str| {
        let mut lines = status.lines();
        lines
            .find_map(|line| line.strip_prefix(what))
            .map(str::trim)
    };
    // The rights it was started with, those it has, those it kept, and those that count for files.
    let users = of("Uid:").unwrap_or_default().split_ascii_whitespace();
    let users: Option<Vec<u32>> = users.map(|user| user.parse().ok()).collect();
    match users.as_deref() {
        Some([user, rest @ ..]) if rest.len() == 3 && rest.iter().all(|other| other == user) => {
            Waiter::One {
                user: *user,
                is_ours: of("Name:") == Some(PROGRAM),
            }
        }
        Some(_) | None => Waiter::Mixed,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_program_is_of_one_user_only_if_all_its_rights_are() {
        let status = |name: &str, users: &str| {
            read(&format!(
                "Name:\t{name}\nUmask:\t0022\nUid:\t{users}\nGid:\t0\t0\t0\t0\n"
            ))
        };
        let one = |user, is_ours| Waiter::One { user, is_ours };
        assert_eq!(status("cat", "1000\t1000\t1000\t1000"), one(1000, false));
        assert_eq!(status("katabatic", "0\t0\t0\t0"), one(0, true));
        // Started by somebody as root, under our name.
        assert_eq!(status("katabatic", "1000\t0\t0\t0"), Waiter::Mixed);
        // A file server, for somebody.
        assert_eq!(status("server", "0\t1000\t0\t1000"), Waiter::Mixed);
        assert_eq!(status("cat", "1000"), Waiter::Mixed);
        assert_eq!(status("cat", ""), Waiter::Mixed);
    }

    #[test]
    fn a_process_that_is_gone_has_no_number() {
        let process = i32::try_from(std::process::id()).unwrap();
        assert!(has_a_number_of_its_own(process));
        assert!(!has_a_number_of_its_own(0) && !has_a_number_of_its_own(i32::MAX));
    }

    #[test]
    fn this_process_is_of_one_user() {
        let user = rustix::process::getuid().as_raw();
        let process = i32::try_from(std::process::id()).unwrap();
        assert!(matches!(of(process), Waiter::One { user: there, .. } if there == user));
        assert_eq!(of(0), Waiter::Mixed);
    }
}
