//! The console's own certificate, made once and kept.

use std::net::IpAddr;
use std::path::Path;
use std::sync::Arc;

use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use sha2::{Digest, Sha256};

/// A certificate ready to serve with, and its fingerprint.
pub struct Certificate {
    /// The server's configuration.
    pub tls: rustls::ServerConfig,
    /// SHA-256 of the certificate as browsers show it.
    pub fingerprint: String,
}

/// Loads the certificate from the data directory, or makes one for these addresses.
///
/// # Errors
/// A sentence that says what failed.
pub fn load(data: &Path, addresses: &[IpAddr]) -> Result<Certificate, String> {
    let (certificate_file, key_file) = (data.join("console.crt"), data.join("console.key"));
    if !certificate_file.exists() || !key_file.exists() {
        let names: Vec<String> = addresses.iter().map(ToString::to_string).collect();
        let made = rcgen::generate_simple_self_signed(names).map_err(|e| e.to_string())?;
        std::fs::write(&certificate_file, made.cert.pem()).map_err(|e| e.to_string())?;
        write_secret(&key_file, made.signing_key.serialize_pem().as_bytes())
            .map_err(|e| e.to_string())?;
    }
    let certificate =
        CertificateDer::from_pem_file(&certificate_file).map_err(|e| e.to_string())?;
    let key = PrivateKeyDer::from_pem_file(&key_file).map_err(|e| e.to_string())?;
    let digest = Sha256::digest(&certificate);
    let fingerprint = digest.iter().map(|b| format!("{b:02X}")).collect::<Vec<_>>().join(":");
    let tls = rustls::ServerConfig::builder_with_provider(Arc::new(
        rustls::crypto::ring::default_provider(),
    ))
    .with_safe_default_protocol_versions()
    .map_err(|e| e.to_string())?
    .with_no_client_auth()
    .with_single_cert(vec![certificate], key)
    .map_err(|e| e.to_string())?;
    Ok(Certificate { tls, fingerprint })
}

/// Writes a file that only its owner can read.
pub fn write_secret(path: &Path, bytes: &[u8]) -> std::io::Result<()> {
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
