//! TLS by certificate files. Changed files are read again: a renewed certificate needs no restart.

use arc_swap::ArcSwap;
use parking_lot::Mutex;
use rustls::ServerConfig;
use rustls::crypto::ring;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;

/// How long the two sides may take to agree.
const HANDSHAKE: Duration = Duration::from_secs(10);
/// How often the files are looked at, where connections come.
const LOOK: Duration = Duration::from_secs(1);

/// A certificate chain and its private key, both as PEM.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TlsFiles {
    pub certificate: PathBuf,
    pub key: PathBuf,
}

/// By what a file is seen to have changed.
type Stamp = Option<(SystemTime, u64)>;

fn stamp(path: &Path) -> Stamp {
    let about = std::fs::metadata(path).ok()?;
    Some((about.modified().ok()?, about.len()))
}

impl TlsFiles {
    fn stamps(&self) -> [Stamp; 2] {
        [stamp(&self.certificate), stamp(&self.key)]
    }

    /// What the files make; an error names the file.
    pub fn read(&self) -> Result<Arc<ServerConfig>, String> {
        let inside = |path: &Path, what: &str| format!("{}: {what}", path.display());
        let chain = CertificateDer::pem_file_iter(&self.certificate)
            .and_then(Iterator::collect::<Result<Vec<_>, _>>)
            .map_err(|e| inside(&self.certificate, &format!("no certificates in PEM: {e}")))?;
        if chain.is_empty() {
            return Err(inside(&self.certificate, "no certificates in PEM"));
        }
        let key = PrivateKeyDer::from_pem_file(&self.key)
            .map_err(|e| inside(&self.key, &format!("no private key in PEM: {e}")))?;
        let mut config = ServerConfig::builder_with_provider(Arc::new(ring::default_provider()))
            .with_safe_default_protocol_versions()
            .map_err(|e| e.to_string())?
            .with_no_client_auth()
            .with_single_cert(chain, key)
            .map_err(|e| inside(&self.key, &format!("it does not go with the certificate: {e}")))?;
        config.alpn_protocols = vec![b"http/1.1".to_vec()];
        Ok(Arc::new(config))
    }
}

/// What connections are accepted with.
pub struct Tls {
    files: TlsFiles,
    acceptor: ArcSwap<ServerConfig>,
    /// When the files were last looked at, and how they were.
    seen: Mutex<(Instant, [Stamp; 2])>,
}

impl Tls {
    pub fn new(files: TlsFiles) -> Result<Tls, String> {
        let seen = Mutex::new((Instant::now(), files.stamps()));
        Ok(Tls { acceptor: ArcSwap::new(files.read()?), files, seen })
    }

    /// Reads the files again where they have changed. What cannot be read, half-written files too, changes nothing; it is
    /// read at the next look.
    fn renew(&self) {
        let mut seen = self.seen.lock();
        if seen.0.elapsed() < LOOK {
            return;
        }
        seen.0 = Instant::now();
        let now = self.files.stamps();
        if now == seen.1 {
            return;
        }
        match self.files.read() {
            Ok(config) => {
                self.acceptor.store(config);
                seen.1 = now;
                tracing::info!("the certificate is read again from {}", self.files.certificate.display());
            }
            Err(why) => tracing::warn!("the certificate stays as it was: {why}"),
        }
    }

    /// Agrees with the other end of a connection.
    pub async fn accept<S: AsyncRead + AsyncWrite + Unpin>(&self, stream: S) -> io::Result<TlsStream<S>> {
        self.renew();
        let acceptor = TlsAcceptor::from(self.acceptor.load_full());
        match tokio::time::timeout(HANDSHAKE, acceptor.accept(stream)).await {
            Ok(agreed) => agreed,
            Err(_) => Err(io::ErrorKind::TimedOut.into()),
        }
    }
}
