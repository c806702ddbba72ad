//! `--for USER`: root becomes that user before anything is read or written.
//!
//! The program starts itself again as the user, with their groups, home and folders, so that no part of it has ever
//! seen root's. A file that belongs to root in a person's home is one they cannot change any more.
//!
//! What runs as the user has a session of its own, without root's terminal to control and without anything that is open
//! here: whatever the user has it start, such as a program that is told of things, could type into root's shell
//! otherwise. Root's process stays, hands on the signals that the terminal sends it, and ends as the other one does.

use std::convert::Infallible;
use std::ffi::{CString, OsString};
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::Path;
use std::process::{Command, ExitCode};

use katabatic_engine::Error;
use nix::sys::signal::{SigSet, Signal, kill};
use nix::unistd::{Pid, User, fexecve, geteuid, getuid, initgroups, setgid, setuid};

/// Set in the process that is about to become the user, and has its session already.
const HAS_A_SESSION: &str = "KATABATIC_HAS_A_SESSION";

/// Works as the user; how that ended.
pub fn work_as(name: &str, arguments: Vec<OsString>) -> Result<ExitCode, Error> {
    if std::env::var_os(HAS_A_SESSION).is_some() {
        return become_user(name, arguments).map(|never| match never {});
    }
    let failed = |why: io::Error| {
        Error::failed(
            format!("working for {name}"),
            why,
            "Or sign in as that user, and leave --for out.",
        )
    };
    let mut signals = SigSet::empty();
    for signal in HANDED_ON.into_iter().chain([Signal::SIGCHLD]) {
        signals.add(signal);
    }
    // Before there is a child, so that its end is never missed. Itself it begins with none held back.
    let held = signals.thread_block();
    held.map_err(|why| failed(why.into()))?;
    let mut command = Command::new("/proc/self/exe");
    let mut arguments = arguments.into_iter();
    command.arg0(arguments.next().unwrap_or_else(|| "katabatic".into()));
    command.args(arguments);
    command.env(HAS_A_SESSION, "yes");
    let mut child = katabatic_child::alone(&mut command)
        .spawn()
        .map_err(failed)?;
    let process = i32::try_from(child.id()).map(Pid::from_raw);
    loop {
        if let Some(ended) = child.try_wait().map_err(failed)? {
            let code = ended.code().or_else(|| Some(128 + ended.signal()?));
            let code = code.and_then(|code| u8::try_from(code).ok());
            return Ok(ExitCode::from(code.unwrap_or(1)));
        }
        let signal = signals.wait().map_err(|why| failed(why.into()))?;
        if let (true, Ok(process)) = (signal != Signal::SIGCHLD, process) {
            // One that has just ended is told nothing any more.
            let _ = kill(process, signal);
        }
    }
}

/// What the terminal sends to root's process alone, since the other one has a session of its own.
const HANDED_ON: [Signal; 5] = [
    Signal::SIGINT,
    Signal::SIGTERM,
    Signal::SIGHUP,
    Signal::SIGQUIT,
    Signal::SIGWINCH,
];

/// Becomes the user and starts again; only returns where that fails.
fn become_user(name: &str, arguments: Vec<OsString>) -> Result<Infallible, Error> {
    let what = format!("working for {name}");
    let failed = |why: String| {
        Error::failed(
            what.clone(),
            why,
            "Or sign in as that user, and leave --for out.",
        )
    };
    if !geteuid().is_root() {
        return Err(Error::usage(
            what,
            "only root can become another user",
            "Run it with root's rights (sudo), or leave --for out.",
        ));
    }
    let user = User::from_name(name)
        .map_err(|why| failed(why.to_string()))?
        .ok_or_else(|| {
            Error::usage(
                what.clone(),
                "there is no user of that name",
                "The names are those of: getent passwd",
            )
        })?;
    // Opened as root: once the rights are gone, the program's own file may be out of reach.
    let program: OwnedFd = std::fs::File::open("/proc/self/exe")
        .map_err(|why| failed(why.to_string()))?
        .into();
    let odd = |_| failed("a name holds a NUL".into());
    let login = CString::new(user.name.as_bytes()).map_err(odd)?;
    let arguments = without_for(arguments)
        .into_iter()
        .map(|argument| CString::new(argument.as_bytes()))
        .collect::<Result<Vec<_>, _>>()
        .map_err(odd)?;
    let environment = environment(&user)
        .into_iter()
        .map(CString::new)
        .collect::<Result<Vec<_>, _>>()
        .map_err(odd)?;
    let step = |done: nix::Result<()>| done.map_err(|why| failed(why.to_string()));
    step(initgroups(&login, user.gid))?;
    step(setgid(user.gid))?;
    step(setuid(user.uid))?;
    if getuid() != user.uid
        || geteuid() != user.uid
        || setuid(nix::unistd::Uid::from_raw(0)).is_ok()
    {
        return Err(failed("root's rights could not be given up".into()));
    }
    // What the caller had open as the current folder may be root's alone.
    if std::fs::read_dir(".").is_err() {
        std::env::set_current_dir(&user.dir)
            .or_else(|_| std::env::set_current_dir("/"))
            .map_err(|why| failed(why.to_string()))?;
    }
    match fexecve(program, &arguments, &environment) {
        Ok(never) => Ok(never),
        Err(why) => Err(failed(format!("the program could not start again: {why}"))),
    }
}

/// What was typed, without `--for USER`.
fn without_for(arguments: Vec<OsString>) -> Vec<OsString> {
    let mut kept = Vec::new();
    let mut arguments = arguments.into_iter();
    while let Some(argument) = arguments.next() {
        if argument == "--" {
            // What comes after is no option, whatever it looks like.
            kept.push(argument);
            kept.extend(arguments.by_ref());
        } else if argument == "--for" {
            arguments.next();
        } else if !argument.as_bytes().starts_with(b"--for=") {
            kept.push(argument);
        }
    }
    kept
}

/// The environment of the user: nothing of root's folders, buses or tool homes.
fn environment(user: &User) -> Vec<String> {
    let kept = [
        "PATH",
        "LANG",
        "LC_ALL",
        "LC_CTYPE",
        "TERM",
        "COLUMNS",
        "TZ",
        "HTTPS_PROXY",
        "https_proxy",
        "HTTP_PROXY",
        "http_proxy",
        "ALL_PROXY",
        "all_proxy",
        "NO_PROXY",
        "no_proxy",
        "SSL_CERT_FILE",
        "SSL_CERT_DIR",
        "KATABATIC_PASSPHRASE",
    ];
    let mut environment: Vec<String> = kept
        .iter()
        .filter_map(|name| Some(format!("{name}={}", std::env::var(name).ok()?)))
        .collect();
    environment.push(format!("HOME={}", user.dir.display()));
    environment.push(format!("USER={}", user.name));
    environment.push(format!("LOGNAME={}", user.name));
    let runtime = format!("/run/user/{}", user.uid);
    if Path::new(&runtime).is_dir() {
        environment.push(format!("XDG_RUNTIME_DIR={runtime}"));
        environment.push(format!("DBUS_SESSION_BUS_ADDRESS=unix:path={runtime}/bus"));
    }
    environment
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_option_is_taken_out_in_both_spellings() {
        let typed = |texts: &[&str]| texts.iter().map(OsString::from).collect::<Vec<_>>();
        for with in [
            &["k", "--for", "ada", "status", "x"][..],
            &["k", "status", "--for=ada", "x"],
        ] {
            assert_eq!(without_for(typed(with)), typed(&["k", "status", "x"]));
        }
        let path = typed(&["k", "status", "--", "--for", "x"]);
        assert_eq!(without_for(path.clone()), path);
    }
}
