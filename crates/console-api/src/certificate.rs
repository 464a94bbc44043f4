//! The console's own certificate: made, kept, and made anew before it ends or when it lacks an
//! address.

use std::collections::BTreeSet;
use std::net::{IpAddr, Ipv4Addr};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use rustls::crypto::ring;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use sha2::{Digest, Sha256};
use time::{Duration, OffsetDateTime};
use x509_parser::prelude::{FromDer as _, GeneralName, X509Certificate};

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
    /// What is kept is no certificate.
    #[error("console.crt in the data directory is no certificate")]
    Malformed,
    /// What is kept cannot be served with.
    #[error("console.crt and console.key in the data directory cannot be used: {0}")]
    Used(#[from] rustls::Error),
}

/// What a certificate says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct CertificateFacts {
    /// SHA-256 of the certificate as browsers show it.
    pub fingerprint: String,
    /// From when it counts, in Unix seconds.
    begins: i64,
    /// Until when it counts, in Unix seconds.
    pub ends: i64,
    /// The addresses that it names.
    addresses: BTreeSet<Ipv4Addr>,
    /// Whether it was made here; one that a person put there is theirs.
    is_ours: bool,
}

/// Who issued what was made here, now and by earlier versions.
const ISSUERS: [&str; 2] = ["Mostra console", "rcgen self signed cert"];
/// How long a certificate counts. Some phones take none that counts for longer than 398 days.
const LIFE: Duration = Duration::days(397);
/// How long before its end it is made anew.
const EARLY: Duration = Duration::days(30);
/// Addresses named at most: those of now, and earlier ones, so that a network that gives two by
/// turns makes no new certificate each time.
const ADDRESSES: usize = 16;

impl CertificateFacts {
    fn read(certificate: &CertificateDer<'_>) -> Result<CertificateFacts, CertificateError> {
        let digest = Sha256::digest(certificate);
        let fingerprint = digest.iter().map(|b| format!("{b:02X}")).collect::<Vec<_>>().join(":");
        let (_, parsed) =
            X509Certificate::from_der(certificate).map_err(|_| CertificateError::Malformed)?;
        let names = parsed.subject_alternative_name().ok().flatten();
        let addresses = names.iter().flat_map(|names| &names.value.general_names);
        let addresses = addresses.filter_map(|name| match name {
            GeneralName::IPAddress(bytes) => <[u8; 4]>::try_from(*bytes).ok().map(Ipv4Addr::from),
            _ => None,
        });
        let issuer = parsed.issuer().iter_common_name().next().and_then(|name| name.as_str().ok());
        Ok(CertificateFacts {
            fingerprint,
            begins: parsed.validity().not_before.timestamp(),
            ends: parsed.validity().not_after.timestamp(),
            addresses: addresses.collect(),
            is_ours: issuer.is_some_and(|name| ISSUERS.contains(&name)),
        })
    }

    /// Whether another is to be made, at `now` in Unix seconds. A clock that was set back makes one
    /// that does not count yet.
    fn is_due(&self, addresses: &[Ipv4Addr], now: i64) -> bool {
        let counts = self.begins <= now && now < self.ends - EARLY.whole_seconds();
        let for_longer = self.ends - now > LIFE.whole_seconds() + Duration::DAY.whole_seconds();
        let lacks = addresses.iter().any(|address| !self.addresses.contains(address));
        self.is_ours && (!counts || for_longer || lacks)
    }
}

/// The certificate that is served with, and its place.
pub(crate) struct Certificate {
    data: PathBuf,
    facts: CertificateFacts,
    served: Arc<ServedKey>,
}

/// What new connections are served with.
#[derive(Debug)]
struct ServedKey(Mutex<Arc<CertifiedKey>>);

impl ResolvesServerCert for ServedKey {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(self.0.lock().unwrap_or_else(PoisonError::into_inner).clone())
    }
}

impl Certificate {
    /// Loads the certificate from the data directory, or makes one for these addresses.
    ///
    /// # Errors
    /// [`CertificateError`] when it cannot be made, kept or used.
    pub(crate) fn load(
        data: &Path,
        addresses: &[Ipv4Addr],
        now: i64,
    ) -> Result<Certificate, CertificateError> {
        let (file, key) = files(data);
        let facts = if file.exists() && key.exists() {
            let facts = CertificateFacts::read(&CertificateDer::from_pem_file(&file)?)?;
            if facts.is_due(addresses, now) {
                make(data, addresses, &facts.addresses, now)?
            } else {
                facts
            }
        } else {
            make(data, addresses, &BTreeSet::new(), now)?
        };
        let served = Arc::new(ServedKey(Mutex::new(Arc::new(certified(data)?))));
        Ok(Certificate { data: data.to_owned(), facts, served })
    }

    /// Makes another if this one ends soon or lacks an address, and serves new connections with it;
    /// whether it did.
    ///
    /// # Errors
    /// [`CertificateError`]; then the one until now is served with.
    pub(crate) fn renew_if_due(
        &mut self,
        addresses: &[Ipv4Addr],
        now: i64,
    ) -> Result<bool, CertificateError> {
        if !self.facts.is_due(addresses, now) {
            return Ok(false);
        }
        self.facts = make(&self.data, addresses, &self.facts.addresses, now)?;
        let fresh = Arc::new(certified(&self.data)?);
        *self.served.0.lock().unwrap_or_else(PoisonError::into_inner) = fresh;
        Ok(true)
    }

    /// What it says.
    pub(crate) fn facts(&self) -> &CertificateFacts {
        &self.facts
    }

    /// How to serve with it; also with those that come after it.
    ///
    /// # Errors
    /// [`CertificateError`] when TLS cannot be set up.
    pub(crate) fn tls(&self) -> Result<rustls::ServerConfig, CertificateError> {
        let provider = Arc::new(ring::default_provider());
        Ok(rustls::ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()?
            .with_no_client_auth()
            .with_cert_resolver(self.served.clone()))
    }
}

fn files(data: &Path) -> (PathBuf, PathBuf) {
    (data.join("console.crt"), data.join("console.key"))
}

fn certified(data: &Path) -> Result<CertifiedKey, CertificateError> {
    let (file, key) = files(data);
    let certificate = CertificateDer::from_pem_file(&file)?;
    let key = PrivateKeyDer::from_pem_file(&key)?;
    Ok(CertifiedKey::from_der(vec![certificate], key, &ring::default_provider())?)
}

/// Makes a certificate for the addresses of now and as many of `before` as there is room for.
fn make(
    data: &Path,
    addresses: &[Ipv4Addr],
    before: &BTreeSet<Ipv4Addr>,
    now: i64,
) -> Result<CertificateFacts, CertificateError> {
    let (file, key_file) = files(data);
    let kept = std::fs::read_to_string(&key_file).ok();
    let key = match kept.and_then(|pem| rcgen::KeyPair::from_pem(&pem).ok()) {
        Some(key) => key,
        None => rcgen::KeyPair::generate()?,
    };
    let earlier = before.iter().filter(|address| !addresses.contains(address));
    let named = addresses.iter().chain(earlier).take(ADDRESSES);
    let mut wanted = rcgen::CertificateParams::new(Vec::<String>::new())?;
    wanted.subject_alt_names =
        named.map(|address| rcgen::SanType::IpAddress(IpAddr::V4(*address))).collect();
    let begins = OffsetDateTime::from_unix_timestamp(now).unwrap_or(OffsetDateTime::UNIX_EPOCH)
        - Duration::DAY;
    (wanted.not_before, wanted.not_after) = (begins, begins + LIFE);
    wanted.distinguished_name = rcgen::DistinguishedName::new();
    wanted.distinguished_name.push(rcgen::DnType::CommonName, ISSUERS[0]);
    wanted.extended_key_usages = vec![rcgen::ExtendedKeyUsagePurpose::ServerAuth];
    // Browsers refuse a second certificate of one issuer under the same number.
    wanted.serial_number = Some(rcgen::SerialNumber::from(now.unsigned_abs()));
    let made = wanted.self_signed(&key)?;
    write_secret(&key_file, key.serialize_pem().as_bytes())?;
    replace(&file, made.pem().as_bytes(), 0o644)?;
    CertificateFacts::read(made.der())
}

/// Writes a file that only its owner can read; whole or not at all.
pub(crate) fn write_secret(path: &Path, bytes: &[u8]) -> std::io::Result<()> {
    replace(path, bytes, 0o600)
}

fn replace(path: &Path, bytes: &[u8], mode: u32) -> std::io::Result<()> {
    use std::io::Write;
    use std::os::unix::fs::OpenOptionsExt;
    let part = path.with_extension("part");
    let _ = std::fs::remove_file(&part);
    let mut file =
        std::fs::OpenOptions::new().write(true).create_new(true).mode(mode).open(&part)?;
    file.write_all(bytes)?;
    file.sync_all()?;
    std::fs::rename(part, path)
}

#[cfg(test)]
mod tests {
    use super::*;

    const DAY: i64 = 86_400;
    const NOW: i64 = 1_790_000_000;
    const LAN: Ipv4Addr = Ipv4Addr::new(10, 0, 0, 2);

    #[test]
    fn one_is_kept_until_it_ends_or_lacks_an_address() {
        let data = tempfile::tempdir().unwrap();
        let first = Certificate::load(data.path(), &[LAN], NOW).unwrap();
        let mut again = Certificate::load(data.path(), &[LAN], NOW + 300 * DAY).unwrap();
        assert_eq!(first.facts, again.facts, "the same over starts");
        assert!(first.facts.ends - NOW < 398 * DAY);
        let mut known = BTreeSet::from([first.facts.fingerprint.clone()]);
        let wifi = Ipv4Addr::new(10, 0, 1, 2);
        for (addresses, now, due) in [
            (&[LAN][..], NOW + 365 * DAY, false),
            (&[LAN], NOW + 368 * DAY, true),
            (&[LAN, wifi], NOW + 368 * DAY + 1, true),
            (&[LAN], NOW + 370 * DAY, false),
            (&[wifi], NOW + 371 * DAY, false),
            // The clock was a year ahead.
            (&[LAN], NOW + 5 * DAY, true),
        ] {
            assert_eq!(again.renew_if_due(addresses, now).unwrap(), due, "{addresses:?} {now}");
            let fresh = known.insert(again.facts.fingerprint.clone());
            assert_eq!(fresh, due, "{addresses:?} {now}");
        }
        assert!(again.facts.addresses.contains(&wifi), "earlier addresses stay");
        let kept = Certificate::load(data.path(), &[LAN], NOW + 6 * DAY).unwrap();
        assert_eq!(kept.facts, again.facts);
    }

    #[test]
    fn what_a_person_put_there_is_left_alone() {
        let data = tempfile::tempdir().unwrap();
        let key = rcgen::KeyPair::generate().unwrap();
        let mut theirs = rcgen::CertificateParams::new(vec!["house.example".into()]).unwrap();
        theirs.distinguished_name = rcgen::DistinguishedName::new();
        theirs.distinguished_name.push(rcgen::DnType::CommonName, "house.example");
        let made = theirs.self_signed(&key).unwrap();
        let (file, key_file) = files(data.path());
        std::fs::write(&file, made.pem()).unwrap();
        std::fs::write(&key_file, key.serialize_pem()).unwrap();
        let mut loaded = Certificate::load(data.path(), &[LAN], NOW).unwrap();
        assert!(!loaded.renew_if_due(&[LAN], NOW * 2).unwrap());
        assert_eq!(std::fs::read_to_string(&file).unwrap(), made.pem());
    }
}
