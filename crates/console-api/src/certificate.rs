//! The console's own certificate, made once and kept.

use std::net::IpAddr;
use std::path::Path;
use std::sync::Arc;

use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use sha2::{Digest, Sha256};

/// Why there is no certificate.
#[derive(Debug, thiserror::Error)]
pub(crate) enum CertificateError {
    /// It cannot be made.
    #[error("no certificate can be made: {0}")]
    Made(#[from] rcgen::Error),
    /// It cannot be kept.
    #[error("the certificate cannot be kept: {0}")]
    Kept(#[from] std::io::Error),
    /// What is kept cannot be read.
    #[error("console.crt or console.key in the data directory cannot be read: {0}")]
    Read(#[from] rustls::pki_types::pem::Error),
    /// What is kept cannot be served with.
    #[error("console.crt and console.key in the data directory cannot be used: {0}")]
    Used(#[from] rustls::Error),
}

/// A certificate ready to serve with, and its fingerprint.
pub(crate) struct Certificate {
    /// The server's configuration.
    pub tls: rustls::ServerConfig,
    /// SHA-256 of the certificate as browsers show it.
    pub fingerprint: String,
}

/// Loads the certificate from the data directory, or makes one for these addresses.
///
/// # Errors
/// [`CertificateError`] when it cannot be made, kept or used.
pub(crate) fn load(data: &Path, addresses: &[IpAddr]) -> Result<Certificate, CertificateError> {
    let (certificate_file, key_file) = (data.join("console.crt"), data.join("console.key"));
    if !certificate_file.exists() || !key_file.exists() {
        let names: Vec<String> = addresses.iter().map(ToString::to_string).collect();
        let made = rcgen::generate_simple_self_signed(names)?;
        std::fs::write(&certificate_file, made.cert.pem())?;
        write_secret(&key_file, made.signing_key.serialize_pem().as_bytes())?;
    }
    let certificate = CertificateDer::from_pem_file(&certificate_file)?;
    let key = PrivateKeyDer::from_pem_file(&key_file)?;
    let digest = Sha256::digest(&certificate);
    let fingerprint = digest.iter().map(|b| format!("{b:02X}")).collect::<Vec<_>>().join(":");
    let tls = rustls::ServerConfig::builder_with_provider(Arc::new(
        rustls::crypto::ring::default_provider(),
    ))
    .with_safe_default_protocol_versions()?
    .with_no_client_auth()
    .with_single_cert(vec![certificate], key)?;
    Ok(Certificate { tls, fingerprint })
}

/// Writes a file that only its owner can read.
pub(crate) fn write_secret(path: &Path, bytes: &[u8]) -> std::io::Result<()> {
    use std::io::Write;
    use std::os::unix::fs::OpenOptionsExt;
    let mut file = std::fs::OpenOptions::new()
        .write(true)
        .create(true)
        .truncate(true)
        .mode(0o600)
        .open(path)?;
    file.write_all(bytes)
}
