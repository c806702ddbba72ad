//! The keys by which hosts are known here, as OpenSSH keeps them (`sshd(8)`, SSH_KNOWN_HOSTS FILE FORMAT).
//!
//! They are read, never written: a key that nobody compared is pinned with the account, by a person.

use std::path::PathBuf;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use ring::hmac;

/// A key that a file knows a host by.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct KnownKey {
    /// Whether it must never be trusted (`@revoked`).
    pub(super) revoked: bool,
    /// The kind, as `ssh-ed25519`.
    pub(super) kind: String,
    /// The key as it goes over the line.
    pub(super) blob: Vec<u8>,
    /// File and line, for people.
    pub(super) at: String,
}

/// The files that are read: the person's own, and the computer's.
pub(super) fn files() -> Vec<PathBuf> {
    let own = std::env::home_dir().map(|home| home.join(".ssh/known_hosts"));
    own.into_iter()
        .chain([PathBuf::from("/etc/ssh/ssh_known_hosts")])
        .collect()
}

/// All keys that these files know a host by. What is no line of such a file is passed over, as OpenSSH does.
pub(super) fn keys_of(files: &[PathBuf], host: &str, port: u16) -> Vec<KnownKey> {
    let mut keys = Vec::new();
    for file in files {
        // A file that is not there knows nobody.
        let text = std::fs::read(file).unwrap_or_default();
        for (number, line) in String::from_utf8_lossy(&text).lines().enumerate() {
            if let Some(key) = read_line(line, host, port) {
                let at = format!("{}, line {}", file.display(), number + 1);
                keys.push(KnownKey { at, ..key });
            }
        }
    }
    keys
}

fn read_line(line: &str, host: &str, port: u16) -> Option<KnownKey> {
    let mut words = line.split_ascii_whitespace();
    let mut hosts = words.next()?;
    if hosts.starts_with('#') {
        return None;
    }
    let revoked = hosts == "@revoked";
    if hosts.starts_with('@') {
        // An authority of hosts (`@cert-authority`) vouches by certificates, which are not asked for.
        if !revoked {
            return None;
        }
        hosts = words.next()?;
    }
    let (kind, key) = (words.next()?, words.next()?);
    let name = match port {
        22 => host.to_ascii_lowercase(),
        port => format!("[{}]:{port}", host.to_ascii_lowercase()),
    };
    is_of(hosts, &name).then_some(KnownKey {
        revoked,
        kind: kind.to_owned(),
        blob: STANDARD.decode(key).ok()?,
        at: String::new(),
    })
}

/// Whether a list of names and patterns is of this host.
fn is_of(hosts: &str, name: &str) -> bool {
    let mut is_of = false;
    for pattern in hosts.split(',') {
        if let Some(hashed) = pattern.strip_prefix("|1|") {
            is_of |= is_hash_of(hashed, name);
        } else if let Some(but) = pattern.strip_prefix('!') {
            if matches(but, name) {
                return false;
            }
        } else {
            is_of |= matches(pattern, name);
        }
    }
    is_of
}

/// Whether `SALT|HASH` is of this name: its HMAC-SHA-1 under the salt.
fn is_hash_of(hashed: &str, name: &str) -> bool {
    let Some((salt, hash)) = hashed.split_once('|') else {
        return false;
    };
    let (Ok(salt), Ok(hash)) = (STANDARD.decode(salt), STANDARD.decode(hash)) else {
        return false;
    };
    let key = hmac::Key::new(hmac::HMAC_SHA1_FOR_LEGACY_USE_ONLY, &salt);
    hmac::verify(&key, name.as_bytes(), &hash).is_ok()
}

/// Whether a name is as this pattern, in which `*` is anything and `?` one character, whatever their case.
pub(super) fn matches(pattern: &str, name: &str) -> bool {
    let (pattern, name) = (pattern.to_ascii_lowercase(), name.to_ascii_lowercase());
    let (pattern, name) = (pattern.as_bytes(), name.as_bytes());
    let (mut p, mut n) = (0, 0);
    // Where the last `*` stands, and up to where it reaches.
    let mut star: Option<(usize, usize)> = None;
    while n < name.len() {
        match pattern.get(p) {
            Some(b'*') => {
                star = Some((p, n));
                p += 1;
            }
            Some(&c) if c == b'?' || c == name[n] => {
                (p, n) = (p + 1, n + 1);
            }
            _ => match star {
                Some((at, reach)) => {
                    star = Some((at, reach + 1));
                    (p, n) = (at + 1, reach + 1);
                }
                None => return false,
            },
        }
    }
    pattern[p..].iter().all(|c| *c == b'*')
}

#[cfg(test)]
mod tests {
    use super::*;

    const KEY: &str = "AAAAC3NzaC1lZDI1NTE5AAAAIJdD7y3aLq454yWBdwLWbieU1ebz9/cu7/QEXn9OIeZJ";

    fn knows(line: &str, host: &str, port: u16) -> bool {
        read_line(&line.replace("KEY", KEY), host, port).is_some()
    }

    #[test]
    fn a_host_is_known_by_name_pattern_and_hash_with_its_port() {
        let hashed = {
            let key = hmac::Key::new(hmac::HMAC_SHA1_FOR_LEGACY_USE_ONLY, b"salt of the line");
            let tag = hmac::sign(&key, b"[files.example]:2222");
            let [salt, hash] = [b"salt of the line", tag.as_ref()].map(|b| STANDARD.encode(b));
            format!("|1|{salt}|{hash} ssh-ed25519 KEY")
        };
        for (line, host, port, known) in [
            ("files.example ssh-ed25519 KEY", "files.example", 22, true),
            ("files.example ssh-ed25519 KEY", "FILES.example", 22, true),
            (
                "files.example ssh-ed25519 KEY",
                "files.example",
                2222,
                false,
            ),
            (
                "[files.example]:2222 ssh-ed25519 KEY note",
                "files.example",
                2222,
                true,
            ),
            ("a,*.example ssh-ed25519 KEY", "files.example", 22, true),
            (
                "!files.example,*.example ssh-ed25519 KEY",
                "files.example",
                22,
                false,
            ),
            (&hashed, "files.example", 2222, true),
            (&hashed, "other.example", 2222, false),
            (
                "# files.example ssh-ed25519 KEY",
                "files.example",
                22,
                false,
            ),
            (
                "@cert-authority *.example ssh-ed25519 KEY",
                "files.example",
                22,
                false,
            ),
            (
                "files.example ssh-ed25519 no-base64!",
                "files.example",
                22,
                false,
            ),
            ("|1|x files.example", "files.example", 22, false),
            ("", "files.example", 22, false),
        ] {
            assert_eq!(knows(line, host, port), known, "{line} {host}:{port}");
        }
        let revoked = read_line(
            &format!("@revoked * ssh-ed25519 {KEY}"),
            "files.example",
            22,
        );
        assert!(revoked.is_some_and(|key| key.revoked));
    }

    #[test]
    fn patterns_reach_as_far_as_they_say() {
        for (pattern, name, is) in [
            ("*", "", true),
            ("a*c?", "abbbcd", true),
            ("a*c?", "abbbc", false),
            ("a*b*c", "a-b-b-c", true),
            ("192.168.?.1", "192.168.7.1", true),
            ("192.168.?.1", "192.168.77.1", false),
        ] {
            assert_eq!(matches(pattern, name), is, "{pattern} {name}");
        }
    }
}
