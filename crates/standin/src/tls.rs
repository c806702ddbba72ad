//! Certificates of the stand-in's own making: an authority made at the first start, and a server certificate by it.
//!
//! The authority is kept, so that whoever trusts it once goes on trusting; the server certificate is made anew at each
//! start where the kept one is gone, which is how a test makes a pinned certificate change.

use std::fs;
use std::io;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rcgen::{
    BasicConstraints, CertificateParams, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair,
    KeyUsagePurpose,
};
use rustls::ServerConfig;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use tokio_rustls::TlsAcceptor;

/// Where the certificate of the authority lies, below the data folder.
pub(crate) fn authority_file(data: &Path) -> PathBuf {
    data.join(".standin/authority.pem")
}

/// Reads or makes the certificates.
pub(crate) fn acceptor(data: &Path) -> io::Result<TlsAcceptor> {
    let at = |name: &str| data.join(".standin").join(name);
    let (authority, authority_key) = (authority_file(data), at("authority-key.pem"));
    if !authority.exists() || !authority_key.exists() {
        let key = KeyPair::generate().map_err(io::Error::other)?;
        let made = authority_params()
            .self_signed(&key)
            .map_err(io::Error::other)?;
        write_private(&authority_key, &key.serialize_pem())?;
        fs::write(&authority, made.pem())?;
        // A server certificate by an authority that is gone is of no use.
        let _ = fs::remove_file(at("server.pem"));
    }
    let (server, server_key) = (at("server.pem"), at("server-key.pem"));
    if !server.exists() || !server_key.exists() {
        let issuer_key =
            KeyPair::from_pem(&fs::read_to_string(&authority_key)?).map_err(io::Error::other)?;
        let issuer = Issuer::from_ca_cert_pem(&fs::read_to_string(&authority)?, issuer_key)
            .map_err(io::Error::other)?;
        let key = KeyPair::generate().map_err(io::Error::other)?;
        let made = server_params()
            .and_then(|params| params.signed_by(&key, &issuer))
            .map_err(io::Error::other)?;
        write_private(&server_key, &key.serialize_pem())?;
        fs::write(&server, made.pem())?;
    }
    let chain = [&server, &authority]
        .into_iter()
        .map(|file| CertificateDer::from_pem_file(file).map_err(io::Error::other))
        .collect::<io::Result<Vec<_>>>()?;
    let key = PrivateKeyDer::from_pem_file(&server_key).map_err(io::Error::other)?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(io::Error::other)?
        .with_no_client_auth()
        .with_single_cert(chain, key)
        .map_err(io::Error::other)?;
    Ok(TlsAcceptor::from(Arc::new(config)))
}

fn authority_params() -> CertificateParams {
    let mut params = CertificateParams::default();
    params
        .distinguished_name
        .push(DnType::CommonName, "Stand-in practice authority");
    params.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    dates(&mut params, 3650);
    params
}

fn server_params() -> Result<CertificateParams, rcgen::Error> {
    let names = ["localhost", "127.0.0.1", "::1"].map(str::to_owned);
    let mut params = CertificateParams::new(names)?;
    params
        .distinguished_name
        .push(DnType::CommonName, "Stand-in practice server");
    params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
    dates(&mut params, 398);
    Ok(params)
}

fn dates(params: &mut CertificateParams, days: i64) {
    let today = jiff::Timestamp::now()
        .to_zoned(jiff::tz::TimeZone::UTC)
        .date();
    let date = |days: i64| {
        let day = today
            .checked_add(jiff::Span::new().days(days))
            .unwrap_or(today);
        rcgen::date_time_ymd(i32::from(day.year()), day.month() as u8, day.day() as u8)
    };
    // From yesterday on: the clocks of practice rooms are not all right.
    params.not_before = date(-1);
    params.not_after = date(days);
}

fn write_private(path: &Path, text: &str) -> io::Result<()> {
    let mut file = fs::OpenOptions::new()
        .write(true)
        .create(true)
        .truncate(true)
        .mode(0o600)
        .open(path)?;
    io::Write::write_all(&mut file, text.as_bytes())
}
