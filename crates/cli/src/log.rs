//! The log: warnings by default, more on request; on standard error, or in a file of the person's own.
//!
//! Under systemd standard error is the journal. An agent that is started in the background writes into a file in its
//! home, which is begun anew before it is large; the one before it is kept beside it. No secret is ever written: requests
//! are told without their headers.

use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use katabatic_engine::Error;
use katabatic_sides::net::REQUESTS;
use tracing_subscriber::EnvFilter;

use crate::draw;

/// A file is begun anew once it has so many bytes.
const MOST: u64 = 1_000_000;

/// Begins to write the log of this program, of so many words as `verbose` says, into a file where there is one.
///
/// # Errors
/// Where the file cannot be written.
pub fn start(verbose: u8, file: Option<&Path>) -> Result<(), Error> {
    let filter = EnvFilter::new(level(verbose));
    let log = tracing_subscriber::fmt()
        .with_env_filter(filter)
        // They would be written where the log cannot be written either.
        .log_internal_errors(false)
        .with_ansi(false);
    match file {
        Some(file) => {
            let file = LogFile::open(file).map_err(|why| {
                Error::failed(
                    format!("writing the log {}", file.display()),
                    why,
                    "Name another file: --log FILE",
                )
            })?;
            log.with_writer(Mutex::new(file)).init();
        }
        // A warning stands among the sentences of a command.
        None if verbose == 0 => log
            .with_writer(|| draw::Log("katabatic: "))
            .with_target(false)
            .with_level(false)
            .without_time()
            .init(),
        None => log.with_writer(|| draw::Log("")).without_time().init(),
    }
    Ok(())
}

fn level(verbose: u8) -> String {
    const OURS: &str = "katabatic_agent=debug,katabatic_engine=debug,katabatic_ledger=debug,katabatic_opener=debug,katabatic_sides=debug,katabatic_standin=info";
    match verbose {
        0 => "katabatic=warn,katabatic_agent=warn,katabatic_engine=warn,katabatic_ledger=warn,katabatic_opener=warn,katabatic_sides=warn".into(),
        1 => OURS.into(),
        _ => format!("{OURS},{REQUESTS}=trace"),
    }
}

/// The file into which an agent writes that was started in the background.
pub fn of_agent(state: &Path) -> PathBuf {
    state.join("agent.log")
}

/// The file that was begun before this one.
fn older(file: &Path) -> PathBuf {
    let mut name = file.as_os_str().to_owned();
    name.push(".1");
    name.into()
}

/// The last lines of a log, the newest last.
pub fn last_lines(file: &Path, most: usize) -> Vec<String> {
    let read = |file: &Path| std::fs::read(file).unwrap_or_default();
    let all = [read(&older(file)), read(file)].concat();
    let text = String::from_utf8_lossy(&all);
    let lines: Vec<&str> = text.lines().collect();
    let from = lines.len().saturating_sub(most);
    lines[from..]
        .iter()
        .map(|line| (*line).to_owned())
        .collect()
}

/// A log in a file.
struct LogFile {
    path: PathBuf,
    file: File,
    bytes: u64,
}

impl LogFile {
    fn open(path: &Path) -> io::Result<LogFile> {
        // Relative to where the program was started, wherever it goes.
        let path = std::path::absolute(path)?;
        let file = open(&path)?;
        let bytes = file.metadata()?.len();
        Ok(LogFile { path, file, bytes })
    }
}

fn open(path: &Path) -> io::Result<File> {
    let mut options = OpenOptions::new();
    options.create(true).append(true).mode(0o600).open(path)
}

impl Write for LogFile {
    fn write(&mut self, text: &[u8]) -> io::Result<usize> {
        if self.bytes >= MOST {
            std::fs::rename(&self.path, older(&self.path))?;
            self.file = open(&self.path)?;
            self.bytes = 0;
        }
        let line = draw::shown_text(String::from_utf8_lossy(text).trim_end_matches('\n'));
        writeln!(self.file, "{line}")?;
        self.bytes += line.len() as u64 + 1;
        Ok(text.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_log_is_begun_anew_before_it_is_large_and_its_end_can_be_read() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("agent.log");
        let mut log = LogFile::open(&path).unwrap();
        let lines = 30_000;
        for number in 0..lines {
            let text =
                format!("line {number}, long enough that a file of them is soon full, \u{1b}[2J\n");
            log.write_all(text.as_bytes()).unwrap();
        }
        let size = |path: &Path| std::fs::metadata(path).unwrap().len();
        assert!(size(&path) < MOST + 200 && size(&older(&path)) < MOST + 200);
        let last = last_lines(&path, 3);
        assert!(
            last[2].starts_with(&format!("line {}", lines - 1)),
            "{last:?}"
        );
        assert!(
            !last[2].contains('\u{1b}'),
            "nothing in it acts on a terminal"
        );
        assert_eq!(
            last_lines(&dir.path().join("none"), 3),
            Vec::<String>::new()
        );
    }
}
