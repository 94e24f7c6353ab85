//! A connection over TLS to another program: who it is, is known by certificates that somebody named, never by those of the machine.

use std::io::{Read as _, Write as _};
use std::net::{TcpStream, ToSocketAddrs as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use rustls::{
    CertificateError, ClientConfig, ClientConnection, DigitallySignedStruct, Error, RootCertStore, SignatureScheme,
};
use yestrel_core::{Problem, Result};

/// Bytes that are given to TLS at once.
const CHUNK: usize = 12 * 1024;

/// Whom to trust at the other end, and what to show there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Secure {
    /// A file with certificates (PEM): of authorities, or the other end's own.
    pub trust: PathBuf,
    /// Files with a certificate, with those that sign it, and its private key (PEM).
    pub own: Option<(PathBuf, PathBuf)>,
}

/// What is trusted: authorities, and single certificates by what they are (RFC 5425 section 5.1).
#[derive(Debug)]
struct Trusted {
    named: Vec<CertificateDer<'static>>,
    signed: Option<Arc<WebPkiServerVerifier>>,
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for Trusted {
    fn verify_server_cert(
        &self,
        end: &CertificateDer<'_>,
        between: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        status: &[u8],
        now: UnixTime,
    ) -> std::result::Result<ServerCertVerified, Error> {
        if self.named.iter().any(|named| named.as_ref() == end.as_ref()) {
            return Ok(ServerCertVerified::assertion());
        }
        match &self.signed {
            Some(signed) => signed.verify_server_cert(end, between, name, status, now),
            None => Err(Error::InvalidCertificate(CertificateError::UnknownIssuer)),
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> std::result::Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> std::result::Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

fn certificates(file: &Path) -> Result<Vec<CertificateDer<'static>>> {
    let unread = |error: String| {
        Problem::failed(format!("{} cannot be read as certificates", file.display()))
            .why(error)
            .try_("a file in PEM, as openssl x509 writes it")
    };
    let text = std::fs::read(file).map_err(|error| unread(error.to_string()))?;
    let all: std::result::Result<Vec<_>, _> = CertificateDer::pem_slice_iter(&text).collect();
    match all {
        Ok(all) if !all.is_empty() => Ok(all),
        Ok(_) => Err(unread("it holds none".into())),
        Err(error) => Err(unread(error.to_string())),
    }
}

fn config(secure: &Secure) -> Result<ClientConfig> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let named = certificates(&secure.trust)?;
    let mut roots = RootCertStore::empty();
    // One that signs nobody is no root, and is trusted for itself all the same.
    roots.add_parsable_certificates(named.iter().cloned());
    let signed = match roots.is_empty() {
        true => None,
        false => WebPkiServerVerifier::builder_with_provider(Arc::new(roots), provider.clone()).build().ok(),
    };
    let cannot = |what: &str, error: String| Problem::failed(what.to_owned()).why(error);
    let trusted = Trusted { named, signed, provider: provider.clone() };
    let builder = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|error| cannot("TLS cannot be spoken", error.to_string()))?
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(trusted));
    let Some((certificate, key)) = &secure.own else { return Ok(builder.with_no_client_auth()) };
    let unread = |error: String| cannot(&format!("{} cannot be read as a private key", key.display()), error);
    let bytes = zeroize::Zeroizing::new(std::fs::read(key).map_err(|error| unread(error.to_string()))?);
    let private = PrivateKeyDer::from_pem_slice(&bytes).map_err(|error| unread(error.to_string()))?;
    builder
        .with_client_auth_cert(certificates(certificate)?, private)
        .map_err(|error| cannot("that certificate and that key do not go together", error.to_string()))
}

/// What went wrong at the other end, in words for whoever has to mend it.
fn words(error: &Error) -> String {
    match error {
        Error::InvalidCertificate(CertificateError::UnknownIssuer) => {
            "nothing that is trusted signed its certificate".into()
        }
        Error::InvalidCertificate(
            CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. },
        ) => "its certificate is for another name".into(),
        Error::InvalidCertificate(CertificateError::Expired | CertificateError::ExpiredContext { .. }) => {
            "its certificate has ended".into()
        }
        // One that signed itself, and is not named as what is trusted.
        Error::InvalidCertificate(CertificateError::Other(other)) => {
            format!("its certificate is not what a server shows, and is not trusted for itself: {other}")
        }
        Error::AlertReceived(alert) => format!("it broke off: {alert:?}"),
        Error::InvalidMessage(_) => "it does not speak TLS".into(),
        other => other.to_string(),
    }
}

fn in_words(error: &std::io::Error) -> String {
    match error.get_ref().and_then(|inner| inner.downcast_ref::<Error>()) {
        Some(error) => words(error),
        None if matches!(error.kind(), std::io::ErrorKind::WouldBlock | std::io::ErrorKind::TimedOut) => {
            "it said nothing for too long".into()
        }
        None => error.to_string(),
    }
}

/// Gives a program at `host` and `port` what it is told, over TLS 1.2 or 1.3, and waits until it has taken leave (RFC 5425 section 4.4).
///
/// # Errors
/// It is not there, not the one that is trusted, does not trust us, or breaks off.
pub(crate) fn send(host: &str, port: u16, secure: &Secure, bytes: &[u8], patience: Duration) -> Result<()> {
    let place = format!("{host}:{port}");
    let nobody = |why: String| {
        Problem::failed(format!("nobody takes the record at {place}"))
            .why(why)
            .try_(format!("openssl s_client -connect {place}   shows what answers there"))
    };
    let name = ServerName::try_from(host.to_owned()).map_err(|_| {
        Problem::words(format!("{host:?} is neither a name nor an address")).try_("tls:log.skerry.example:6514")
    })?;
    let config = Arc::new(config(secure)?);
    let addresses = (host, port).to_socket_addrs().map_err(|error| nobody(error.to_string()))?;
    let mut last = nobody("the name has no address".into());
    let mut connected = None;
    for address in addresses {
        match TcpStream::connect_timeout(&address, patience) {
            Ok(stream) => {
                connected = Some(stream);
                break;
            }
            Err(error) => last = nobody(error.to_string()),
        }
    }
    let mut stream = connected.ok_or(last)?;
    let set = stream.set_read_timeout(Some(patience)).and_then(|()| stream.set_write_timeout(Some(patience)));
    set.map_err(|error| nobody(error.to_string()))?;
    let mut tls = ClientConnection::new(config, name).map_err(|error| nobody(words(&error)))?;
    // A peer that says a little ever again does not hold anybody for longer than this.
    let until = Instant::now() + patience;
    while tls.is_handshaking() {
        tls.complete_io(&mut stream).map_err(|error| nobody(in_words(&error)))?;
        if tls.is_handshaking() && Instant::now() >= until {
            return Err(nobody("it did not come to an end with its greeting".into()));
        }
    }
    let broke = |error: &std::io::Error| {
        Problem::partly(format!("{place} broke off"))
            .why(in_words(error))
            .try_("the same again: whoever keeps the messages must know what it has already")
    };
    for chunk in bytes.chunks(CHUNK) {
        let mut open = rustls::Stream::new(&mut tls, &mut stream);
        open.write_all(chunk).and_then(|()| open.flush()).map_err(|error| broke(&error))?;
    }
    tls.send_close_notify();
    while tls.wants_write() {
        tls.write_tls(&mut stream).map_err(|error| broke(&error))?;
    }
    // Only now it is known whether it took us for somebody whom it trusts: in TLS 1.3 it may say so late.
    let until = Instant::now() + patience;
    let mut said = [0; 1024];
    while Instant::now() < until {
        match rustls::Stream::new(&mut tls, &mut stream).read(&mut said) {
            Ok(0) => break,
            Ok(_) => {}
            Err(error) if error.get_ref().is_some_and(|inner| inner.is::<Error>()) => return Err(broke(&error)),
            // It has hung up without a word, or keeps the line: what was sent it has.
            Err(_) => break,
        }
    }
    Ok(())
}
