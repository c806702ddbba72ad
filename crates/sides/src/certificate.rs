//! What a certificate says, in words a technician can compare with what the server's administrator gives.

use jiff::Timestamp;
use ring::digest::{SHA256, digest};
use x509_parser::extensions::GeneralName;
use x509_parser::prelude::{FromDer, X509Certificate};

/// A server's certificate (RFC 5280), as far as people look at it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Certificate {
    /// Whom it is for.
    pub subject: String,
    /// Who made it.
    pub issuer: String,
    /// From when on it is good, in seconds since 1970.
    pub from: i64,
    /// Until when.
    pub until: i64,
    /// The names and addresses it is for.
    pub names: Vec<String>,
    /// The SHA-256 of all of it.
    pub sha256: [u8; 32],
}

impl Certificate {
    /// Reads one in DER; what cannot be read stays empty, the SHA-256 never does.
    #[must_use]
    pub fn read(der: &[u8]) -> Certificate {
        let sha256 = sha256_of(der);
        let Ok((_, parsed)) = X509Certificate::from_der(der) else {
            return Certificate {
                subject: "(it cannot be read)".into(),
                issuer: String::new(),
                from: 0,
                until: 0,
                names: Vec::new(),
                sha256,
            };
        };
        let names = parsed
            .subject_alternative_name()
            .ok()
            .flatten()
            .map(|extension| {
                extension
                    .value
                    .general_names
                    .iter()
                    .filter_map(name)
                    .collect()
            })
            .unwrap_or_default();
        Certificate {
            subject: parsed.subject().to_string(),
            issuer: parsed.issuer().to_string(),
            from: parsed.validity().not_before.timestamp(),
            until: parsed.validity().not_after.timestamp(),
            names,
            sha256,
        }
    }

    /// The SHA-256 as options write it: `sha256:` and 64 hexadecimal digits.
    #[must_use]
    pub fn pin(&self) -> String {
        pin(&self.sha256)
    }

    /// What people compare, by name.
    #[must_use]
    pub fn facts(&self) -> Vec<(&'static str, String)> {
        let names = if self.names.is_empty() {
            "none".to_owned()
        } else {
            self.names.join(", ")
        };
        vec![
            ("subject", self.subject.clone()),
            ("issuer", self.issuer.clone()),
            (
                "good",
                format!("from {} to {}", day(self.from), day(self.until)),
            ),
            ("names", names),
            ("SHA-256", grouped(&self.sha256)),
        ]
    }
}

/// The SHA-256 of some bytes.
pub(crate) fn sha256_of(bytes: &[u8]) -> [u8; 32] {
    let mut sha256 = [0; 32];
    sha256.copy_from_slice(digest(&SHA256, bytes).as_ref());
    sha256
}

/// A SHA-256 as options write it.
#[must_use]
pub fn pin(sha256: &[u8; 32]) -> String {
    format!("sha256:{}", hex(sha256))
}

/// Reads `sha256:` and 64 hexadecimal digits, with colons or spaces between them as other programs print them.
///
/// # Errors
/// Says how it should be written.
pub fn read_pin(text: &str) -> Result<[u8; 32], String> {
    let wrong = || "a pinned certificate is written sha256: and 64 hexadecimal digits".to_owned();
    let digits: Vec<u32> = text
        .strip_prefix("sha256:")
        .ok_or_else(wrong)?
        .chars()
        .filter(|c| *c != ':' && !c.is_whitespace())
        .map(|c| c.to_digit(16).ok_or_else(wrong))
        .collect::<Result<_, _>>()?;
    let mut sha256 = [0; 32];
    if digits.len() != 64 {
        return Err(wrong());
    }
    for (byte, pair) in sha256.iter_mut().zip(digits.chunks(2)) {
        *byte = (pair[0] * 16 + pair[1]) as u8;
    }
    Ok(sha256)
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// In groups of eight, which people can compare.
fn grouped(bytes: &[u8]) -> String {
    bytes.chunks(4).map(hex).collect::<Vec<_>>().join(" ")
}

fn day(seconds: i64) -> String {
    Timestamp::from_second(seconds)
        .map(|at| at.strftime("%Y-%m-%d").to_string())
        .unwrap_or_else(|_| "?".into())
}

fn name(name: &GeneralName<'_>) -> Option<String> {
    match name {
        GeneralName::DNSName(name) => Some((*name).to_owned()),
        GeneralName::IPAddress(bytes) => match bytes.len() {
            4 => <[u8; 4]>::try_from(*bytes)
                .ok()
                .map(|bytes| std::net::Ipv4Addr::from(bytes).to_string()),
            16 => <[u8; 16]>::try_from(*bytes)
                .ok()
                .map(|bytes| std::net::Ipv6Addr::from(bytes).to_string()),
            _ => None,
        },
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pin_is_read_as_it_is_printed_and_as_others_print_it() {
        let sha256: [u8; 32] = std::array::from_fn(|at| at as u8 * 7);
        assert_eq!(read_pin(&pin(&sha256)), Ok(sha256));
        let others: Vec<String> = sha256.iter().map(|byte| format!("{byte:02X}")).collect();
        assert_eq!(
            read_pin(&format!("sha256:{}", others.join(":"))),
            Ok(sha256)
        );
        assert_eq!(
            read_pin(&format!("sha256:{}", grouped(&sha256))),
            Ok(sha256)
        );
        for wrong in ["", "sha256:", "sha1:00", "sha256:xyz", &"0".repeat(64)] {
            assert!(read_pin(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn what_is_no_certificate_still_has_a_digest() {
        let odd = Certificate::read(b"nonsense");
        assert!(odd.subject.contains("cannot be read"));
        assert_ne!(odd.sha256, [0; 32]);
    }
}
