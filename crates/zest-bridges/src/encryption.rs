//! Which sessions are encrypted, and how the server's certificate is verified (TLS 1.2 and 1.3).

use std::net::IpAddr;
use std::path::{Path, PathBuf};

use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::{ClientConfig, RootCertStore};

/// Whether a session is encrypted.
///
/// # Example
/// ```
/// use zest_bridges::{Certificates, Encryption};
/// let roots = Certificates { roots: Some("lanternsound-ca.pem".into()), client: None };
/// assert!(Encryption::Always(roots).covers("127.0.0.1"));
/// assert!(!Encryption::Never.covers("192.0.2.7"));
/// ```
#[derive(Clone, Debug, Default)]
pub enum Encryption {
    /// Wherever it leaves this machine: all but sockets and loopback addresses, with the certificates that the system trusts.
    #[default]
    BeyondThisMachine,
    /// Always, over sockets excepted.
    Always(Certificates),
    /// Never: the way to the server is protected otherwise.
    Never,
}

/// Which certificates are trusted, and which one is shown.
///
/// # Example
/// ```
/// use zest_bridges::{Certificates, Encryption, mariadb::Target};
/// let mine = Certificates {
///     roots: Some("/etc/lanternsound/ca.pem".into()),
///     client: Some(("/etc/lanternsound/auditor.pem".into(), "/etc/lanternsound/auditor.key".into())),
/// };
/// let target = Target { host: "db-1.lanternsound.example".into(), encryption: Encryption::Always(mine), ..Target::default() };
/// assert!(target.encryption.covers(&target.host));
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Certificates {
    /// A file in PEM with those that are trusted; the system's where none is stated. Sessions on MariaDB trust the public ones besides.
    pub roots: Option<PathBuf>,
    /// Our own certificate and its key, both in PEM, where the server wants one.
    pub client: Option<(PathBuf, PathBuf)>,
}

impl Encryption {
    /// Returns whether a session with a host is encrypted.
    ///
    /// # Example
    /// ```
    /// use zest_bridges::Encryption;
    /// let encryption = Encryption::default();
    /// assert!(encryption.covers("db-1.lanternsound.example") && encryption.covers("192.0.2.7"));
    /// assert!(!encryption.covers("127.0.0.1") && !encryption.covers("::1") && !encryption.covers("/run/postgresql"));
    /// ```
    #[must_use]
    pub fn covers(&self, host: &str) -> bool {
        self.with(host).is_some()
    }

    /// Returns the certificates for a session with a host, if it is to be encrypted.
    pub(crate) fn with(&self, host: &str) -> Option<Certificates> {
        if host.starts_with('/') {
            return None;
        }
        let is_loopback = host.eq_ignore_ascii_case("localhost") || host.parse().is_ok_and(|address: IpAddr| address.is_loopback());
        match self {
            Self::BeyondThisMachine => (!is_loopback).then(Certificates::default),
            Self::Always(certificates) => Some(certificates.clone()),
            Self::Never => None,
        }
    }
}

/// What is said where a server cannot be spoken with in secret.
pub(crate) const HINT: &str = "the session would be encrypted: state the certificates that are trusted, use the server's socket or a tunnel, \
                               or say that the way is protected otherwise";

impl Certificates {
    /// Returns the file with the certificates that are trusted.
    pub(crate) fn roots(&self) -> Result<PathBuf, String> {
        let of_system = || openssl_probe::probe().cert_file.ok_or("the system keeps no file of certificates that it trusts".to_owned());
        self.roots.clone().map_or_else(of_system, Ok)
    }

    /// Makes what a session on PostgreSQL is encrypted with.
    pub(crate) fn config(&self) -> Result<ClientConfig, String> {
        let roots = self.roots()?;
        let mut store = RootCertStore::empty();
        let (taken, _) = store.add_parsable_certificates(certificates(&roots)?);
        if taken == 0 {
            return Err(format!("{} holds no certificate in PEM", roots.display()));
        }
        let config = ClientConfig::builder().with_root_certificates(store);
        let Some((certificate, key)) = &self.client else { return Ok(config.with_no_client_auth()) };
        let key_file = key.display().to_string();
        let key = PrivateKeyDer::from_pem_file(key).map_err(|e| format!("{key_file}: {e}"))?;
        config.with_client_auth_cert(certificates(certificate)?, key).map_err(|e| format!("{}: {e}", certificate.display()))
    }
}

fn certificates(path: &Path) -> Result<Vec<CertificateDer<'static>>, String> {
    let fail = |e: rustls::pki_types::pem::Error| format!("{}: {e}", path.display());
    CertificateDer::pem_file_iter(path).map_err(fail)?.collect::<Result<_, _>>().map_err(fail)
}
