//! The key by which an SSH server is known (RFC 4253 §7), in words that can be compared with what its administrator says.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD_NO_PAD;

use crate::certificate::sha256_of;

/// A server's host key, as far as people look at it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HostKey {
    /// The host that showed it, with its port where that is not 22.
    pub host: String,
    /// Its kind, as `ssh-ed25519`.
    pub kind: String,
    /// The SHA-256 of the key as it goes over the line.
    pub sha256: [u8; 32],
}

impl HostKey {
    /// The key of a host, of this kind and these bytes.
    #[must_use]
    pub fn of(host: &str, kind: &str, blob: &[u8]) -> HostKey {
        HostKey {
            host: host.to_owned(),
            kind: kind.to_owned(),
            sha256: sha256_of(blob),
        }
    }

    /// The SHA-256 as options and other programs write it: `SHA256:` and Base64 without padding.
    #[must_use]
    pub fn pin(&self) -> String {
        pin(&self.sha256)
    }

    /// What people compare, by name.
    #[must_use]
    pub fn facts(&self) -> Vec<(&'static str, String)> {
        vec![
            ("host", self.host.clone()),
            ("key", self.kind.clone()),
            ("SHA-256", self.pin()),
        ]
    }
}

/// A SHA-256 as OpenSSH writes it.
#[must_use]
pub fn pin(sha256: &[u8; 32]) -> String {
    format!("SHA256:{}", STANDARD_NO_PAD.encode(sha256))
}

/// Reads what [`pin`] writes.
///
/// # Errors
/// Says how it should be written.
pub fn read_pin(text: &str) -> Result<[u8; 32], String> {
    let wrong = || {
        "a host key is pinned by SHA256: and 43 letters and digits, as ssh-keygen -l prints it"
            .to_owned()
    };
    let digest = text.trim().strip_prefix("SHA256:").ok_or_else(wrong)?;
    let bytes = STANDARD_NO_PAD.decode(digest.trim_end_matches('='));
    bytes
        .ok()
        .and_then(|bytes| bytes.try_into().ok())
        .ok_or_else(wrong)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pin_is_read_as_it_is_printed() {
        let key = HostKey::of("files.example", "ssh-ed25519", b"any bytes");
        assert_eq!(read_pin(&key.pin()), Ok(key.sha256));
        assert_eq!(read_pin(&format!("{}=", key.pin())), Ok(key.sha256));
        for wrong in ["", "SHA256:", "SHA256:short", "sha256:00", "MD5:00"] {
            assert!(read_pin(wrong).is_err(), "{wrong}");
        }
    }
}
