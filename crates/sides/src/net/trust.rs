//! Which certificates are trusted: those the system trusts, those of an authority given in a file, or one that a
//! person has pinned.
//!
//! What is turned away is kept, since the technician has to see whose it was to decide anything. A pinned certificate
//! is trusted as it is, whatever names and dates it bears, because a person compared it; any other one is not, however
//! good it looks.

use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme,
};

use crate::certificate::{Certificate, pin, sha256_of};
use crate::distrust::{Distrust, Shown};
use crate::host_key;

/// Which certificates are trusted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Trust {
    /// Those that the system trusts.
    System,
    /// Those of the authorities in this PEM file, and no others.
    Authority(PathBuf),
    /// The one with this SHA-256, and no other.
    Pinned([u8; 32]),
    /// The host key with this SHA-256, and no other, where the server is reached by SSH.
    HostKey([u8; 32]),
}

impl Trust {
    /// In a few words.
    #[must_use]
    pub fn describe(&self) -> String {
        match self {
            Trust::System => "certificates that this system trusts".into(),
            Trust::Authority(file) => {
                format!("certificates by the authority in {}", file.display())
            }
            Trust::Pinned(sha256) => format!("one pinned certificate, {}", pin(sha256)),
            Trust::HostKey(sha256) => format!("one pinned host key, {}", host_key::pin(sha256)),
        }
    }
}

/// What the last handshake turned away, if it did.
#[derive(Clone, Debug, Default)]
pub struct TurnedAway(Arc<Mutex<Option<Distrust>>>);

impl TurnedAway {
    /// Why the last certificate was turned away, once.
    pub fn take(&self) -> Option<Distrust> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).take()
    }

    fn note(&self, distrust: Distrust) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(distrust);
    }
}

/// Another client may have installed the provider already; it is the same one.
pub(crate) fn install_provider() {
    let _ = rustls::crypto::ring::default_provider().install_default();
}

impl Trust {
    pub(super) fn tls_config(&self, turned_away: &TurnedAway) -> Result<ClientConfig, String> {
        install_provider();
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let checking = Checking {
            inner: self.verifier(&provider)?,
            trust: self.clone(),
            provider: Arc::clone(&provider),
            turned_away: turned_away.clone(),
        };
        let builder = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(|why| why.to_string())?;
        Ok(builder
            .dangerous()
            .with_custom_certificate_verifier(Arc::new(checking))
            .with_no_client_auth())
    }

    /// What looks at a chain; none where nothing but the pinned certificate counts.
    fn verifier(
        &self,
        provider: &Arc<CryptoProvider>,
    ) -> Result<Option<Arc<WebPkiServerVerifier>>, String> {
        let mut roots = RootCertStore::empty();
        match self {
            Trust::Pinned(_) => return Ok(None),
            Trust::HostKey(_) => {
                return Err("a host key is pinned, and this address is reached by TLS, which shows a certificate".into());
            }
            Trust::System => {
                let found = rustls_native_certs::load_native_certs();
                roots.add_parsable_certificates(found.certs);
                if roots.is_empty() {
                    return Err("this system has no list of trusted certificates (on Debian: the package ca-certificates)".into());
                }
            }
            Trust::Authority(file) => {
                let certificates = CertificateDer::pem_file_iter(file)
                    .and_then(Iterator::collect::<Result<Vec<_>, _>>)
                    .map_err(|why| format!("{}: {why}", file.display()))?;
                for certificate in certificates {
                    roots
                        .add(certificate)
                        .map_err(|why| format!("{}: {why}", file.display()))?;
                }
                if roots.is_empty() {
                    return Err(format!("{} holds no certificate", file.display()));
                }
            }
        }
        WebPkiServerVerifier::builder_with_provider(Arc::new(roots), Arc::clone(provider))
            .build()
            .map(Some)
            .map_err(|why| why.to_string())
    }
}

#[derive(Debug)]
struct Checking {
    inner: Option<Arc<WebPkiServerVerifier>>,
    trust: Trust,
    provider: Arc<CryptoProvider>,
    turned_away: TurnedAway,
}

impl ServerCertVerifier for Checking {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        server_name: &ServerName<'_>,
        ocsp_response: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        let checked = match (&self.trust, &self.inner) {
            (Trust::Pinned(pinned), _) => {
                if sha256_of(end_entity) == *pinned {
                    Ok(ServerCertVerified::assertion())
                } else {
                    Err((
                        format!("another one was pinned, {}", pin(pinned)),
                        CertificateError::ApplicationVerificationFailure.into(),
                    ))
                }
            }
            (_, Some(inner)) => inner
                .verify_server_cert(end_entity, intermediates, server_name, ocsp_response, now)
                .map_err(|error| (reason(&error, server_name), error)),
            (_, None) => Err((
                "nothing is trusted".into(),
                CertificateError::UnknownIssuer.into(),
            )),
        };
        checked.map_err(|(why, error)| {
            self.turned_away.note(Distrust {
                shown: Shown::Certificate(Certificate::read(end_entity)),
                why,
                other_was_known: matches!(self.trust, Trust::Pinned(_)),
            });
            error
        })
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(
            message,
            certificate,
            signature,
            &self.provider.signature_verification_algorithms,
        )
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(
            message,
            certificate,
            signature,
            &self.provider.signature_verification_algorithms,
        )
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider
            .signature_verification_algorithms
            .supported_schemes()
    }
}

fn reason(error: &rustls::Error, server_name: &ServerName<'_>) -> String {
    let rustls::Error::InvalidCertificate(error) = error else {
        return error.to_string();
    };
    match error {
        CertificateError::UnknownIssuer => {
            "nobody that is trusted here has made it (an authority of one's own, or a self-made certificate)".into()
        }
        CertificateError::Expired | CertificateError::ExpiredContext { .. } => {
            "it has expired (or this computer's clock is ahead)".into()
        }
        CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. } => {
            "it is not good yet (or this computer's clock is behind)".into()
        }
        CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. } => {
            format!("it is not for {}", server_name.to_str())
        }
        CertificateError::Revoked => "it was revoked".into(),
        other => other.to_string(),
    }
}
