//! Whether a host that shows a key is the one that is meant.

use std::sync::{Arc, Mutex, PoisonError};

use russh::keys::{Algorithm, PublicKeyOrCertificate};
use russh::{Preferred, client};

use super::known_hosts::KnownKey;
use crate::distrust::{Distrust, Shown};
use crate::host_key::{self, HostKey};
use crate::net::Trust;

/// The kinds of host keys in the order in which they are asked for: those that the host is known by, then `first`.
pub(super) fn in_order(known: &[KnownKey], first: &[&str]) -> Vec<Algorithm> {
    let mut kinds: Vec<Algorithm> = Preferred::DEFAULT.key.to_vec();
    let name = |algorithm: &Algorithm| match algorithm {
        Algorithm::Rsa { .. } => "ssh-rsa".to_owned(),
        other => other.to_string(),
    };
    kinds.sort_by_key(|algorithm| {
        let name = name(algorithm);
        let is_known = known.iter().any(|key| !key.revoked && key.kind == name);
        let is_first = first.iter().any(|word| name.starts_with(word));
        (!is_known, !is_first)
    });
    kinds
}

/// A key that is trusted, and by what; or why it is not.
pub(super) type Verdict = Result<(HostKey, String), Distrust>;

/// Looks at a host's key as it is shown.
pub(super) struct Checking {
    pub(super) host: String,
    pub(super) trust: Trust,
    pub(super) known: Vec<KnownKey>,
    pub(super) verdict: Arc<Mutex<Option<Verdict>>>,
}

impl client::Handler for Checking {
    type Error = russh::Error;

    async fn check_server_key(
        &mut self,
        shown: &PublicKeyOrCertificate,
    ) -> Result<bool, russh::Error> {
        let PublicKeyOrCertificate::PublicKey { key, .. } = shown else {
            // None is asked for.
            return Ok(false);
        };
        let blob = key.to_bytes().map_err(russh::Error::from)?;
        let kind = match key.algorithm() {
            Algorithm::Rsa { .. } => "ssh-rsa".to_owned(),
            other => other.to_string(),
        };
        let shown = HostKey::of(&self.host, &kind, &blob);
        let judged = judge(&self.trust, &self.known, &shown, &blob);
        let is_trusted = judged.is_ok();
        let verdict = match judged {
            Ok(by) => Ok((shown, by)),
            Err((why, other_was_known)) => Err(Distrust {
                shown: Shown::HostKey(shown),
                why,
                other_was_known,
            }),
        };
        *self.verdict.lock().unwrap_or_else(PoisonError::into_inner) = Some(verdict);
        Ok(is_trusted)
    }
}

/// By what a key is trusted; or why not, and whether another one was known.
pub(super) fn judge(
    trust: &Trust,
    known: &[KnownKey],
    shown: &HostKey,
    blob: &[u8],
) -> Result<String, (String, bool)> {
    if let Some(revoked) = known.iter().find(|key| key.revoked && key.blob == blob) {
        return Err((format!("it is revoked ({})", revoked.at), false));
    }
    match trust {
        Trust::HostKey(pinned) if *pinned == shown.sha256 => Ok("the one that was pinned".into()),
        Trust::HostKey(pinned) => Err((
            format!("another one was pinned, {}", host_key::pin(pinned)),
            true,
        )),
        Trust::System => {
            let mut good = known.iter().filter(|key| !key.revoked);
            match (good.clone().find(|key| key.blob == blob), good.next()) {
                (Some(same), _) => Ok(format!("known ({})", same.at)),
                (None, Some(other)) => Err((
                    format!(
                        "this computer knows the host by another one ({}); either the server was set up anew, or somebody answers in its place",
                        other.at
                    ),
                    true,
                )),
                (None, None) => Err(("this computer does not know the host yet".into(), false)),
            }
        }
        Trust::Authority(_) | Trust::Pinned(_) => Err((
            "a certificate is pinned with this account, or an authority of them, and SSH has host keys"
                .into(),
            false,
        )),
    }
}
