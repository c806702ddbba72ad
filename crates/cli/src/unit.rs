//! systemd's units: written, checked by systemd, enabled, told something, and taken away again.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use katabatic_engine::{Class, Error};
use serde_json::json;

use crate::draw::{json, line};

/// Where the system's units lie.
pub const UNITS: &str = "/etc/systemd/system";

/// A unit, of a person's own manager or of the system's.
pub struct Unit {
    /// Its file.
    pub file: PathBuf,
    /// Whether it is one of the system's.
    pub system: bool,
    /// Whether systemd runs here and reads it.
    pub is_read: bool,
    /// What can be done where systemd cannot.
    pub without: &'static str,
}

/// What became of a unit that was installed.
pub struct Installed {
    /// Whether systemd has checked it.
    pub verified: bool,
    /// Whether it starts with the computer.
    pub enabled: bool,
}

/// Whether systemd runs here.
pub fn systemd_runs() -> bool {
    Path::new("/run/systemd/system").is_dir()
}

impl Unit {
    fn name(&self) -> String {
        self.file
            .file_name()
            .map_or_else(String::new, |name| name.to_string_lossy().into_owned())
    }

    fn systemctl(&self) -> Command {
        let mut command = Command::new("systemctl");
        if !self.system {
            command.arg("--user");
        }
        command
    }

    /// Tells systemd to do something with it.
    pub fn tell(&self, what: &[&str]) -> Result<(), Error> {
        let mut command = self.systemctl();
        let told = command.args(what).arg(self.name()).output();
        self.done(
            told,
            &format!("systemctl {} {}", what.join(" "), self.name()),
        )
    }

    fn done(&self, output: std::io::Result<Output>, what: &str) -> Result<(), Error> {
        let failed = |why: String| Error::new(Class::Failed, what, why, self.without);
        let output = output.map_err(|why| failed(why.to_string()))?;
        if output.status.success() {
            return Ok(());
        }
        let said = String::from_utf8_lossy(&output.stderr).trim().to_owned();
        Err(failed(if said.is_empty() {
            output.status.to_string()
        } else {
            said
        }))
    }

    /// Writes it, and lets it start with the computer where systemd runs; `folder` is one where systemd may put things
    /// while it checks.
    pub fn install(&self, text: &str, folder: &Path) -> Result<Installed, Error> {
        let failed = |why: std::io::Error| {
            let next = match self.system {
                true => "This is for root.",
                false => "Look at the folder's rights.",
            };
            Error::failed(format!("writing {}", self.file.display()), why, next)
        };
        if let Some(folder) = self.file.parent() {
            fs::create_dir_all(folder).map_err(failed)?;
        }
        fs::write(&self.file, text).map_err(failed)?;
        let verified = self.verify(folder)?;
        let enabled = self.is_read;
        if enabled {
            let told = self.systemctl().arg("daemon-reload").output();
            self.done(told, "systemctl daemon-reload")?;
            self.tell(&["enable"])?;
        }
        Ok(Installed { verified, enabled })
    }

    /// Says what became of it; whether more is to be said, for people.
    pub fn say(&self, installed: &Installed, as_json: bool) -> bool {
        let Installed { verified, enabled } = installed;
        if as_json {
            json::print(
                &json!({"unit": self.file.display().to_string(), "verified": verified, "enabled": enabled}),
            );
            return false;
        }
        line(format!("Written: {}", self.file.display()));
        line(match verified {
            true => "  systemd has checked it.",
            false => "  It was not checked: systemd-analyze is not here.",
        });
        true
    }

    /// Stops it and takes it away.
    pub fn remove(&self) -> Result<(), Error> {
        if self.is_read && self.file.exists() {
            self.tell(&["disable", "--now"])?;
        }
        match fs::remove_file(&self.file) {
            Err(why) if why.kind() != std::io::ErrorKind::NotFound => Err(Error::failed(
                format!("removing {}", self.file.display()),
                why,
                "Look at the folder's rights.",
            )),
            _ => Ok(()),
        }
    }

    /// Lets systemd read it; whether it could be asked.
    fn verify(&self, folder: &Path) -> Result<bool, Error> {
        let mut command = Command::new("systemd-analyze");
        command.arg("verify");
        if !self.system {
            command.arg("--user");
        }
        // Who came by root's way has none, and without one nothing is checked.
        if std::env::var_os("XDG_RUNTIME_DIR").is_none() {
            command.env("XDG_RUNTIME_DIR", folder);
        }
        match command.arg(&self.file).output() {
            Err(why) if why.kind() == std::io::ErrorKind::NotFound => Ok(false),
            told => self
                .done(told, &format!("checking {}", self.file.display()))
                .map(|()| true),
        }
    }
}

/// An argument in a unit: nothing in it is a specifier, a variable or the end of the argument (systemd.service(5)).
pub fn quoted(text: &str) -> String {
    let escaped = text
        .replace('\\', "\\\\")
        .replace('"', "\\\"")
        .replace('%', "%%")
        .replace('$', "$$");
    format!("\"{escaped}\"")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_in_a_path_is_read_as_something_else() {
        assert_eq!(
            quoted("/a b/50%/$HOME/\"x\"\\"),
            "\"/a b/50%%/$$HOME/\\\"x\\\"\\\\\""
        );
    }
}
