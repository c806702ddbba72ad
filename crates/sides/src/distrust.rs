//! Who answered in a server's place, or may have: a certificate or a host's key that is not trusted.

use std::fmt;

use crate::certificate::Certificate;
use crate::host_key::HostKey;

/// What a server showed of itself that is not trusted. Nothing was sent to it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Distrust {
    /// What it showed.
    pub shown: Shown,
    /// Why it is not trusted.
    pub why: String,
    /// Whether another one had been pinned, or was known.
    pub other_was_known: bool,
}

/// What a server shows, to be known by.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Shown {
    /// Its certificate, by TLS.
    Certificate(Certificate),
    /// Its host key, by SSH.
    HostKey(HostKey),
}

impl Shown {
    /// Its SHA-256 as the option that pins it takes it.
    #[must_use]
    pub fn pin(&self) -> String {
        match self {
            Shown::Certificate(certificate) => certificate.pin(),
            Shown::HostKey(key) => key.pin(),
        }
    }

    /// What people compare, by name.
    #[must_use]
    pub fn facts(&self) -> Vec<(&'static str, String)> {
        match self {
            Shown::Certificate(certificate) => certificate.facts(),
            Shown::HostKey(key) => key.facts(),
        }
    }
}

impl fmt::Display for Distrust {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let what = match &self.shown {
            Shown::Certificate(_) => "certificate",
            Shown::HostKey(_) => "host key",
        };
        write!(out, "the server's {what} is not trusted: {}", self.why)
    }
}
