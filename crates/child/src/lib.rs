//! Programs that are started with nothing of this one: no terminal of its own, no open file, no signal that is ignored or
//! held back.
//!
//! A program that somebody else wrote or chose, or that runs as somebody else, could type into the terminal that this one
//! was started from (`TIOCSTI`), open it by `/dev/tty`, and read what is open here though it has no right to it. In a
//! session of its own it has no terminal but what it is given as standard input and output.
//!
//! This is a crate of its own because the calls are in none of the safe interfaces to the system.
#![deny(unsafe_op_in_unsafe_fn)]

use std::io;
use std::os::unix::process::CommandExt;
use std::process::Command;

/// The first descriptor after standard input, output and error.
const FIRST: libc::c_uint = 3;

/// What is started by this command has a session of its own, and of what is open here its three standard files alone.
pub fn alone(command: &mut Command) -> &mut Command {
    // SAFETY: between fork and exec only system calls are made, which neither allocate nor take a lock.
    unsafe { command.pre_exec(begin) }
}

fn begin() -> io::Result<()> {
    for signal in 1..libc::SIGRTMIN() {
        // Those that cannot be set are never ignored.
        // SAFETY: to set what is usual runs no code of this program.
        unsafe { libc::signal(signal, libc::SIG_DFL) };
    }
    // SAFETY: it changes this process alone, which leads no group of processes yet.
    if unsafe { libc::setsid() } < 0 {
        return Err(io::Error::last_os_error());
    }
    // To be closed at the start of the program, and not before: by one of them it is told whether that failed.
    let on_exec = libc::CLOSE_RANGE_CLOEXEC as libc::c_int;
    // SAFETY: no descriptor changes hands or is closed by this.
    match unsafe { libc::close_range(FIRST, libc::c_uint::MAX, on_exec) } {
        0 => Ok(()),
        _ => Err(io::Error::last_os_error()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::fd::AsRawFd;

    fn says(script: &str, open: i32) -> String {
        let mut command = Command::new("sh");
        command.args(["-c", script, "sh", &open.to_string()]);
        let output = alone(&mut command).output();
        output.map_or_else(
            |why| why.to_string(),
            |output| String::from_utf8_lossy(&output.stdout).trim().to_owned(),
        )
    }

    #[test]
    fn what_is_open_here_is_not_open_there() {
        let Ok(file) = std::fs::File::open("/proc/self/status") else {
            panic!("no such file");
        };
        let number = file.as_raw_fd();
        // SAFETY: no flag is set: a child would have it.
        assert_eq!(unsafe { libc::fcntl(number, libc::F_SETFD, 0) }, 0);
        assert_eq!(
            says(
                "test -e /proc/self/fd/$1 && echo open || echo closed",
                number
            ),
            "closed"
        );
    }

    #[test]
    fn it_leads_a_session_of_its_own() {
        // Session and process are the same number (proc_pid_stat(5), fields 6 and 1).
        assert_eq!(
            says(
                "read a b c d e s rest < /proc/$$/stat; test $s = $$ && echo own",
                0
            ),
            "own"
        );
        // And it has no terminal.
        assert_eq!(
            says(
                "(: < /dev/tty) 2>/dev/null && echo terminal || echo none",
                0
            ),
            "none"
        );
    }
}
