//! Signing in to a real `sshd` as a technician does: the host's key first, then keys, an agent, aliases and hosts on the way.

use std::fs;
use std::io::BufRead as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use super::setting;
use crate::worlds::Said;

/// A person's computer on which nothing is known of the server yet.
struct Computer {
    dir: tempfile::TempDir,
    host: String,
    port: String,
    folder: String,
}

impl Computer {
    /// None where the server is none of SFTP.
    fn new() -> Option<Computer> {
        let address = setting("ADDRESS");
        let rest = address.strip_prefix("sftp://")?;
        let (host, folder) = rest.split_once('/').unwrap();
        let (host, port) = host.split_once(':').unwrap();
        let dir = tempfile::tempdir().unwrap();
        fs::create_dir(dir.path().join(".ssh")).unwrap();
        Some(Computer {
            host: host.into(),
            port: port.into(),
            folder: folder.into(),
            dir,
        })
    }

    fn ssh(&self, file: &str) -> PathBuf {
        self.dir.path().join(".ssh").join(file)
    }

    fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_katabatic"));
        command
            .args(arguments)
            .current_dir(self.dir.path())
            .env("HOME", self.dir.path())
            .env("KATABATIC_HOME", self.dir.path().join("home"))
            .env("LC_ALL", "C.UTF-8")
            .env_remove("SSH_AUTH_SOCK")
            .env_remove("COLUMNS")
            .stdin(Stdio::null());
        command
    }

    fn run(&self, arguments: &[&str]) -> Said {
        self.command(arguments).output().unwrap().into()
    }

    fn address(&self, host: &str) -> String {
        format!("sftp://{host}/{}", self.folder)
    }

    fn add<'a>(&self, name: &'a str, address: &'a str, more: &[&'a str]) -> Vec<&'a str> {
        let add = ["account", "add", name, "--address", address];
        [&add[..], &["--secrets", "file"], more].concat()
    }

    /// What `known_hosts` says of the host by this key.
    fn knows(&self, public: &Path) {
        let key = fs::read_to_string(public).unwrap();
        let line = format!("[{}]:{} {key}", self.host, self.port);
        fs::write(self.ssh("known_hosts"), line).unwrap();
    }
}

fn keygen(arguments: &[&str]) {
    let made = Command::new("ssh-keygen")
        .args(arguments)
        .arg("-q")
        .output();
    let made = made.unwrap();
    assert!(made.status.success(), "{made:?}");
}

#[test]
#[ignore = "needs a server: .ci/servers"]
fn sftp_trusts_a_host_that_was_pinned_or_is_known_and_no_other() {
    let Some(here) = Computer::new() else {
        return;
    };
    let key = setting("KEY");
    let address = here.address(&format!("{}:{}", here.host, here.port));
    let by_key = ["--user", "root", "--key", &key];
    let unknown = here.run(&here.add("a", &address, &by_key)).ends(5);
    let unknown = unknown.says("this computer does not know the host yet");
    let pin = setting("TRUST");
    unknown
        .says(&format!("--trust {pin}"))
        .says("Nothing was sent to it");
    let wrong = format!("SHA256:{}", "A".repeat(43));
    let pinned = [&by_key[..], &["--trust", &wrong]].concat();
    here.run(&here.add("a", &address, &pinned))
        .ends(5)
        .says("another one was pinned");
    // No certificate is pinned where there is none.
    let certificate = format!("sha256:{}", "0".repeat(64));
    let pinned = [&by_key[..], &["--trust", &certificate]].concat();
    here.run(&here.add("a", &address, &pinned))
        .ends(2)
        .says("ssh-keygen -l");
    let pinned = [&by_key[..], &["--trust", &pin]].concat();
    here.run(&here.add("a", &address, &pinned)).ends(0);
    here.run(&["account", "show", "a"])
        .ends(0)
        .says("one pinned host key");

    // By known_hosts, plain and hashed; then by another key than the host has.
    let host_key = Path::new(&key).with_file_name("host.pub");
    here.knows(&host_key);
    here.run(&here.add("b", &address, &by_key)).ends(0);
    keygen(&["-H", "-f", here.ssh("known_hosts").to_str().unwrap()]);
    let hashed = fs::read_to_string(here.ssh("known_hosts")).unwrap();
    assert!(hashed.starts_with("|1|"), "{hashed}");
    here.run(&here.add("c", &address, &by_key)).ends(0);
    let other = here.ssh("other");
    keygen(&["-t", "ed25519", "-N", "", "-f", other.to_str().unwrap()]);
    here.knows(&here.ssh("other.pub"));
    here.run(&["account", "test", "c"])
        .ends(5)
        .says("this computer knows the host by another one");
    here.run(&["doctor"])
        .ends(3)
        .says("host key is not trusted");
    super::passed("sftp: host keys pinned, known, hashed, changed");
}

#[test]
#[ignore = "needs a server: .ci/servers"]
fn sftp_is_signed_in_to_by_keys_agents_aliases_and_over_other_hosts() {
    let Some(here) = Computer::new() else {
        return;
    };
    let key = setting("KEY");
    here.knows(&Path::new(&key).with_file_name("host.pub"));
    let address = here.address(&format!("{}:{}", here.host, here.port));
    // Nobody can be asked, and there is no key.
    here.run(&here.add("a", &address, &["--user", "root"]))
        .ends(5)
        .says("no key of the SSH agent");
    // A key that is locked, and what opens it.
    let locked = here.ssh("locked");
    fs::copy(&key, &locked).unwrap();
    let locked = locked.to_str().unwrap();
    keygen(&["-p", "-P", "", "-N", "open sesame", "-f", locked]);
    let by_key = ["--user", "root", "--key", locked];
    here.run(&here.add("a", &address, &by_key))
        .ends(2)
        .says("there is no terminal to ask on");
    fs::write(here.dir.path().join("opens"), "open sesame\n").unwrap();
    let opened = [&by_key[..], &["--password-file", "opens"]].concat();
    here.run(&here.add("a", &address, &opened))
        .ends(0)
        .says("by the key in");
    here.run(&["account", "test", "a"]).ends(0).says("let in");
    // Signed in to again, what opened the key does so still.
    here.run(&["account", "sign-in", "a", "--yes"])
        .ends(0)
        .says("its lanes stay as they are");
    // What the config of SSH says of an alias, and over another host.
    let config = format!(
        "Host desk\n  HostName {}\n  Port {}\n  User root\n  IdentityFile {key}\n\
         Host far\n  HostName {0}\n  Port {1}\n  User root\n  IdentityFile {key}\n  ProxyJump desk\n",
        here.host, here.port
    );
    fs::write(here.ssh("config"), config).unwrap();
    for alias in ["desk", "far"] {
        let address = here.address(alias);
        here.run(&here.add(alias, &address, &[])).ends(0);
    }
    here.run(&["account", "test", "far"])
        .ends(0)
        .says("on the way")
        .says("signed in at desk");
    // A key that an agent holds.
    let agent = Agent::with(&key, &here.ssh("agent"));
    let by_agent = here.add("e", &address, &["--user", "root", "--sign-in", "agent"]);
    let mut command = here.command(&by_agent);
    command.env("SSH_AUTH_SOCK", &agent.socket);
    Said::from(command.output().unwrap()).ends(0);
    here.run(&["account", "test", "e"])
        .ends(5)
        .says("SSH_AUTH_SOCK names none");
    // Somebody else's name, and a host that is not there.
    let stranger = ["--user", "nobody-of-this-name", "--key", &key];
    here.run(&here.add("f", &address, &stranger))
        .ends(5)
        .says("does not let nobody-of-this-name in");
    let away = here.address(&format!("{}:1", here.host));
    here.run(&here.add("f", &away, &["--user", "root", "--key", &key]))
        .ends(6)
        .says("does not answer");
    // What goes with no server of SSH.
    let proxy = ["--user", "root", "--key", &key, "--proxy", "none"];
    here.run(&here.add("f", &address, &proxy))
        .ends(2)
        .says("ProxyJump");
    super::passed("sftp: keys, agents, aliases, hosts on the way");
}

#[test]
#[ignore = "needs a server: .ci/servers"]
fn sftp_writes_nothing_to_an_account_that_was_added_read_only() {
    let Some(here) = Computer::new() else {
        return;
    };
    let far = Path::new(&setting("FILES")).join("read only");
    fs::create_dir(&far).unwrap();
    fs::write(far.join("there.txt"), "there").unwrap();
    let near = here.dir.path().join("near");
    fs::create_dir(&near).unwrap();
    fs::write(near.join("here.txt"), "here").unwrap();
    let address = here.address(&format!("{}:{}", here.host, here.port));
    let (key, trust) = (setting("KEY"), setting("TRUST"));
    let signing = ["--user", "root", "--key", &key, "--trust", &trust];
    let options = [&signing[..], &["--read-only"]].concat();
    here.run(&here.add("a", &address, &options)).ends(0);
    let lane = ["lane", "add", "l", "--near", "near"];
    here.run(&[&lane[..], &["--far", "@a/read only"]].concat())
        .ends(0)
        .says("may only be read");
    here.run(&["sync"]).ends(3).says("nothing may be written");
    here.run(&["account", "test", "a"])
        .ends(0)
        .says("added read-only");
    assert_eq!(fs::read(near.join("there.txt")).unwrap(), b"there");
    let names: Vec<_> = fs::read_dir(&far)
        .unwrap()
        .map(|entry| entry.unwrap().file_name())
        .collect();
    assert_eq!(names, ["there.txt"], "not even a folder of our own");
    super::passed("sftp: an account that may only be read");
}

/// An SSH agent that holds one key, until it is dropped.
struct Agent {
    socket: PathBuf,
    agent: std::process::Child,
}

impl Agent {
    fn with(key: &str, socket: &Path) -> Agent {
        let mut command = Command::new("ssh-agent");
        command
            .arg("-D")
            .arg("-a")
            .arg(socket)
            .stdout(Stdio::piped());
        let mut agent = Agent {
            agent: command.spawn().unwrap(),
            socket: socket.to_owned(),
        };
        // It says where its socket is once that is there.
        let mut said = String::new();
        let out = agent.agent.stdout.take().unwrap();
        std::io::BufReader::new(out).read_line(&mut said).unwrap();
        assert!(said.contains("SSH_AUTH_SOCK"), "{said}");
        let mut add = Command::new("ssh-add");
        let added = add.args(["-q", key]).env("SSH_AUTH_SOCK", socket).status();
        assert!(added.unwrap().success());
        agent
    }
}

impl Drop for Agent {
    fn drop(&mut self) {
        let _ = self.agent.kill();
        let _ = self.agent.wait();
    }
}
