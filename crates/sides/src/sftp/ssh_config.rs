//! What `~/.ssh/config` says of a host (`ssh_config(5)`), as far as an account needs it: the name and port it stands for,
//! who signs in, with which keys, and over which other hosts it is reached.
//!
//! The first value that is found counts, as OpenSSH has it. Of other settings nothing is read; a `Match` block is passed
//! over, but for `Match all`.

use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

use super::known_hosts::matches;
use crate::SideError;
use crate::side_error::Refusal;

/// What is said of one host.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct HostSettings {
    /// Its name or address, where the one that was given only stands for it.
    pub(super) name: Option<String>,
    pub(super) port: Option<u16>,
    pub(super) user: Option<String>,
    /// Files with keys, in order.
    pub(super) keys: Vec<PathBuf>,
    /// The hosts on the way, as `[USER@]HOST[:PORT]`; empty where it is reached directly.
    pub(super) jumps: Option<Vec<String>>,
}

/// So deep may files include each other, as OpenSSH has it.
const DEEPEST: usize = 16;

/// What the person's own file and the computer's say of a host.
///
/// # Errors
/// Where another user of the computer could have written what is read: it names who signs in, where, and by which key.
pub(super) fn of(host: &str) -> Result<HostSettings, SideError> {
    let Some(home) = std::env::home_dir() else {
        return Ok(HostSettings::default());
    };
    let own = home.join(".ssh");
    let mut found = HostSettings::default();
    for (file, folder) in [
        (own.join("config"), own.clone()),
        ("/etc/ssh/ssh_config".into(), "/etc/ssh".into()),
    ] {
        let reading = Reading {
            host,
            home: &home,
            folder: &folder,
        };
        reading.file(&file, &mut found, 0)?;
    }
    Ok(found)
}

/// Makes sure that nobody else can write a file; one that is not there yet is fine.
fn check_writers(file: &Path) -> Result<(), SideError> {
    let Ok(meta) = std::fs::metadata(file) else {
        return Ok(());
    };
    let us = rustix::process::geteuid().as_raw();
    if meta.uid() == 0 || meta.uid() == us {
        if meta.mode() & 0o022 == 0 {
            return Ok(());
        }
        return Err(SideError::refused(
            Refusal::SignIn,
            format!(
                "others can write {}, and could send the sign-in elsewhere; look at what it holds, then take that right away: chmod go-w {}",
                file.display(),
                katabatic_core::words::typed(&file.to_string_lossy())
            ),
        ));
    }
    Err(SideError::refused(
        Refusal::SignIn,
        format!(
            "{} belongs to another user, who could send the sign-in elsewhere",
            file.display()
        ),
    ))
}

struct Reading<'a> {
    host: &'a str,
    home: &'a Path,
    /// From where files that are included are named.
    folder: &'a Path,
}

impl Reading<'_> {
    fn file(&self, file: &Path, found: &mut HostSettings, depth: usize) -> Result<(), SideError> {
        if depth > DEEPEST {
            return Ok(());
        }
        check_writers(file)?;
        match std::fs::read_to_string(file) {
            Ok(text) => self.text(&text, found, depth),
            // None is there, or none that can be read.
            Err(_) => Ok(()),
        }
    }

    fn text(&self, text: &str, found: &mut HostSettings, depth: usize) -> Result<(), SideError> {
        let mut counts = true;
        for line in text.lines() {
            let Some((word, rest)) = word_and_rest(line) else {
                continue;
            };
            match word.as_str() {
                "host" => counts = is_of(&rest, self.host),
                "match" => counts = rest.eq_ignore_ascii_case("all"),
                _ if counts => self.setting(&word, &rest, found, depth)?,
                _ => {}
            }
        }
        Ok(())
    }

    fn setting(
        &self,
        word: &str,
        rest: &str,
        found: &mut HostSettings,
        depth: usize,
    ) -> Result<(), SideError> {
        let first = || words(rest).next().map(str::to_owned);
        match word {
            "hostname" if found.name.is_none() => {
                found.name = first().map(|name| name.replace("%h", self.host));
            }
            "port" if found.port.is_none() => {
                found.port = first().and_then(|port| port.parse().ok());
            }
            "user" if found.user.is_none() => found.user = first(),
            "identityfile" => {
                let file = first().filter(|file| file != "none");
                found.keys.extend(file.map(|file| self.path(&file)));
            }
            "proxyjump" if found.jumps.is_none() => {
                let hosts = rest
                    .split(',')
                    .map(str::trim)
                    .filter(|host| *host != "none");
                found.jumps = Some(hosts.map(str::to_owned).collect());
            }
            "include" => {
                for pattern in words(rest) {
                    for file in self.included(pattern) {
                        self.file(&file, found, depth + 1)?;
                    }
                }
            }
            _ => {}
        }
        Ok(())
    }

    fn path(&self, text: &str) -> PathBuf {
        let home = self.home.to_string_lossy();
        let text = text.replace("%d", &home).replace("%h", self.host);
        match text.strip_prefix("~/") {
            Some(below) => self.home.join(below),
            None => self.folder.join(text),
        }
    }

    /// The files that a name with `*` and `?` in its last part stands for, in the order of names.
    fn included(&self, pattern: &str) -> Vec<PathBuf> {
        let path = self.path(pattern);
        let (Some(folder), Some(last)) = (path.parent(), path.file_name()) else {
            return Vec::new();
        };
        let last = last.to_string_lossy();
        if !last.contains(['*', '?']) {
            return vec![path];
        }
        let mut files: Vec<PathBuf> = std::fs::read_dir(folder)
            .into_iter()
            .flatten()
            .filter_map(Result::ok)
            .filter(|entry| matches(&last, &entry.file_name().to_string_lossy()))
            .map(|entry| entry.path())
            .collect();
        files.sort();
        files
    }
}

/// The setting of a line, in small letters, and what it is set to: after blanks, or after one `=`.
fn word_and_rest(line: &str) -> Option<(String, String)> {
    let line = line.trim();
    if line.is_empty() || line.starts_with('#') {
        return None;
    }
    let end = line.find(|c: char| c.is_whitespace() || c == '=')?;
    let rest = line[end..].trim_start();
    let rest = rest.strip_prefix('=').unwrap_or(rest).trim();
    Some((line[..end].to_ascii_lowercase(), rest.to_owned()))
}

/// The words of a setting, which may stand in quotes.
fn words(text: &str) -> impl Iterator<Item = &str> {
    let mut left = text.trim();
    std::iter::from_fn(move || {
        left = left.trim_start();
        if left.is_empty() {
            return None;
        }
        let (word, rest) = match left.strip_prefix('"') {
            Some(quoted) => quoted.split_once('"').unwrap_or((quoted, "")),
            None => left.split_once(char::is_whitespace).unwrap_or((left, "")),
        };
        left = rest;
        Some(word)
    })
}

fn is_of(patterns: &str, host: &str) -> bool {
    let mut is_of = false;
    for pattern in words(patterns) {
        match pattern.strip_prefix('!') {
            Some(but) if matches(but, host) => return false,
            Some(_) => {}
            None => is_of |= matches(pattern, host),
        }
    }
    is_of
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str, host: &str, folder: &Path) -> HostSettings {
        let mut found = HostSettings::default();
        let reading = Reading {
            host,
            home: Path::new("/home/ada"),
            folder,
        };
        reading.text(text, &mut found, 0).unwrap();
        found
    }

    #[test]
    fn the_first_value_that_is_of_the_host_counts() {
        let text = "\
            # the office\n\
            Host office music-*\n\
              HostName=files.example\n\
              Port 2222\n\
              IdentityFile ~/.ssh/office key\n\
              IdentityFile \"/keys/with blanks\"\n\
              ProxyJump ada@gate.example:2200, second\n\
            Match user root\n\
              User root\n\
            Host * !office\n\
              User other\n\
            Host *\n\
              User ada\n\
              Port 9\n";
        let office = read(text, "office", Path::new("/home/ada/.ssh"));
        assert_eq!(office.name.as_deref(), Some("files.example"));
        assert_eq!(office.port, Some(2222));
        assert_eq!(office.user.as_deref(), Some("ada"));
        assert_eq!(
            office.keys,
            ["/home/ada/.ssh/office", "/keys/with blanks"].map(PathBuf::from)
        );
        let jumps = office.jumps.unwrap();
        assert_eq!(jumps, ["ada@gate.example:2200", "second"]);
        let other = read(text, "elsewhere", Path::new("/"));
        assert_eq!(
            (other.port, other.user.as_deref()),
            (Some(9), Some("other"))
        );
        assert_eq!(read(text, "music-desk", Path::new("/")).port, Some(2222));
    }

    #[test]
    fn files_that_are_included_are_read_in_order_and_not_for_ever() {
        let folder = tempfile::tempdir().unwrap();
        let write = |name: &str, text: &str| std::fs::write(folder.path().join(name), text);
        write("b.conf", "Host office\nUser second\nPort 7\n").unwrap();
        write("a.conf", "Host office\nUser first\nInclude a.conf\n").unwrap();
        let found = read("Include *.conf\nPort 8\n", "office", folder.path());
        assert_eq!(
            (found.user.as_deref(), found.port),
            (Some("first"), Some(7))
        );
    }

    #[test]
    fn what_others_can_write_is_not_believed() {
        use std::os::unix::fs::PermissionsExt as _;
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("config");
        std::fs::write(&file, "User mallory\n").unwrap();
        for (mode, is_believed) in [(0o600, true), (0o644, true), (0o664, false), (0o602, false)] {
            std::fs::set_permissions(&file, std::fs::Permissions::from_mode(mode)).unwrap();
            let reading = Reading {
                host: "office",
                home: folder.path(),
                folder: folder.path(),
            };
            let mut found = HostSettings::default();
            let read = reading.file(&file, &mut found, 0);
            assert_eq!(read.is_ok(), is_believed, "{mode:o} {read:?}");
            assert_eq!(found.user.is_some(), is_believed, "{mode:o}");
        }
    }

    #[test]
    fn fuzz_settings() {
        katabatic_fuzz::each_text("ssh-config", |text| {
            let found = read(text, "office", Path::new("/none"));
            assert!(found.keys.len() <= text.lines().count());
        });
    }
}
