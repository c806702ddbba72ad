//! A technician's desk in a temporary folder: the built program, a stand-in, a home of its own, a near folder.

use std::collections::BTreeMap;
use std::fs;
use std::io::{BufRead, BufReader};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};

use serde_json::Value;

pub struct Desk {
    pub dir: tempfile::TempDir,
    pub standin: Option<Child>,
    pub address: String,
}

/// What a command said and how it ended.
pub struct Said {
    pub code: Option<i32>,
    pub out: String,
    pub err: String,
}

impl Said {
    #[track_caller]
    pub fn ends(self, code: i32) -> Said {
        assert_eq!(
            self.code,
            Some(code),
            "out:\n{}\nerr:\n{}",
            self.out,
            self.err
        );
        self
    }

    #[track_caller]
    pub fn says(self, text: &str) -> Said {
        assert!(
            self.out.contains(text) || self.err.contains(text),
            "{text:?} is not in\n{}\n{}",
            self.out,
            self.err
        );
        self
    }

    pub fn json(&self) -> Value {
        let mut answer: Value =
            serde_json::from_str(&self.out).unwrap_or_else(|why| panic!("{why}: {}", self.out));
        // Every answer says which form it has.
        if let Some(object) = answer
            .as_object_mut()
            .filter(|object| !object.contains_key("error"))
        {
            assert_eq!(object.remove("schema"), Some(1.into()), "{}", self.out);
        }
        answer
    }
}

impl From<Output> for Said {
    fn from(output: Output) -> Said {
        Said {
            code: output.status.code(),
            out: String::from_utf8_lossy(&output.stdout).into_owned(),
            err: String::from_utf8_lossy(&output.stderr).into_owned(),
        }
    }
}

impl Desk {
    /// With a stand-in that runs, and nothing else.
    pub fn bare(faults: &[&str]) -> Desk {
        let dir = tempfile::tempdir().unwrap();
        fs::create_dir(dir.path().join("near")).unwrap();
        fs::create_dir_all(dir.path().join("cloud/librarian/Scores")).unwrap();
        fs::write(dir.path().join("password"), "practice\n").unwrap();
        fs::create_dir(dir.path().join("run")).unwrap();
        fs::set_permissions(dir.path().join("run"), fs::Permissions::from_mode(0o700)).unwrap();
        let mut desk = Desk {
            dir,
            standin: None,
            address: String::new(),
        };
        desk.serve("127.0.0.1:0", faults);
        desk
    }

    /// With an account and a lane.
    pub fn tied(faults: &[&str]) -> Desk {
        let desk = Desk::bare(faults);
        desk.add_account().ends(0);
        desk.tie(&[]).ends(0);
        desk
    }

    /// Adds the lane `scores`.
    pub fn tie(&self, options: &[&str]) -> Said {
        let lane = [
            "lane",
            "add",
            "scores",
            "--near",
            "near",
            "--far",
            "@office/Scores",
        ];
        self.run(&[&lane[..], options].concat())
    }

    /// Starts the stand-in, again where it ran before.
    pub fn serve(&mut self, listen: &str, faults: &[&str]) {
        let faults: Vec<&str> = faults.iter().flat_map(|fault| ["--fault", fault]).collect();
        self.serve_with(listen, &faults);
    }

    /// Starts the stand-in with options of its own.
    pub fn serve_with(&mut self, listen: &str, options: &[&str]) {
        self.stop_serving();
        let mut command =
            self.command(&["standin", "serve", "--data", "cloud", "--listen", listen]);
        command.args(options);
        let mut child = command.stdout(Stdio::piped()).spawn().unwrap();
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
        self.address = lines.next().unwrap().unwrap();
        assert_eq!(
            lines.next().unwrap().unwrap(),
            format!("librarian {}", self.path("cloud/librarian").display())
        );
        if options.contains(&"--control") {
            let control =
                lines.find_map(|line| line.unwrap().strip_prefix("control ").map(str::to_owned));
            fs::write(self.path("control"), control.unwrap()).unwrap();
        }
        self.standin = Some(child);
    }

    /// The same stand-in at the same address, with other faults.
    pub fn serve_again(&mut self, faults: &[&str]) {
        let listen = self
            .address
            .trim_start_matches("https://")
            .trim_start_matches("http://")
            .trim_end_matches('/')
            .to_owned();
        self.serve(&listen, faults);
    }

    pub fn stop_serving(&mut self) {
        if let Some(mut child) = self.standin.take() {
            child.kill().unwrap();
            child.wait().unwrap();
        }
    }

    pub fn path(&self, at: &str) -> PathBuf {
        self.dir.path().canonicalize().unwrap().join(at)
    }

    pub fn near(&self) -> PathBuf {
        self.path("near")
    }

    pub fn far(&self) -> PathBuf {
        self.path("cloud/librarian/Scores")
    }

    pub fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_katabatic"));
        // Whatever keyring or proxy the computer has that runs the tests is none of theirs.
        for name in [
            "DBUS_SESSION_BUS_ADDRESS",
            "HTTP_PROXY",
            "HTTPS_PROXY",
            "ALL_PROXY",
            "http_proxy",
            "https_proxy",
            "all_proxy",
        ] {
            command.env_remove(name);
        }
        command
            .args(arguments)
            .current_dir(self.path(""))
            .env("KATABATIC_HOME", self.path("home"))
            .env("LC_ALL", "C.UTF-8")
            .env("XDG_RUNTIME_DIR", self.path("run"))
            .env_remove("COLUMNS")
            .stdin(Stdio::null());
        command
    }

    #[track_caller]
    pub fn run(&self, arguments: &[&str]) -> Said {
        let said = Said::from(self.command(arguments).output().unwrap());
        crate::schema::check(arguments, &said.out);
        said
    }

    pub fn add_account(&self) -> Said {
        self.run(&[
            "account",
            "add",
            "office",
            "--address",
            &self.address,
            "--user",
            "librarian",
            "--password-file",
            "password",
        ])
    }

    pub fn write_near(&self, at: &str, content: &str) {
        write(&self.near().join(at), content);
    }

    pub fn write_far(&self, at: &str, content: &str) {
        write(&self.far().join(at), content);
    }
}

impl Drop for Desk {
    fn drop(&mut self) {
        self.stop_serving();
    }
}

pub fn write(path: &Path, content: &str) {
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(path, content).unwrap();
}

/// Files below a root and their contents, the tool's own folder left out.
pub fn tree(root: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut found = BTreeMap::new();
    let mut folders = vec![root.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let entry = entry.unwrap();
            if entry.file_type().unwrap().is_dir() {
                if entry.file_name() != ".katabatic" {
                    folders.push(entry.path());
                }
            } else if entry.file_type().unwrap().is_file() {
                let name = entry
                    .path()
                    .strip_prefix(root)
                    .unwrap()
                    .to_string_lossy()
                    .into_owned();
                found.insert(name, fs::read(entry.path()).unwrap());
            }
        }
    }
    found
}
