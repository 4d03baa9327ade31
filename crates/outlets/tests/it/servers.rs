//! Servers that a test starts on free local ports, and stops again.

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::thread;

use rcgen::{BasicConstraints, CertificateParams, DnType, IsCa, Issuer, KeyPair};
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::{ServerConfig, ServerConnection, StreamOwned};
use tempfile::TempDir;

use crate::database::{Server, found, free_port, wait_for};

/// A port where nothing listens, and which nobody is given who asks for any.
pub(crate) const CLOSED: u16 = 1;

/// A Redis with the password `tide-1` and four databases.
pub(crate) fn redis() -> Option<Server> {
    let program = found(Some(PathBuf::from("/usr/bin/redis-server")).filter(|path| path.exists()), "Redis")?;
    let folder = TempDir::new().unwrap();
    let port = free_port();
    let mut child = Command::new(program)
        .args(["--port", &port.to_string(), "--bind", "127.0.0.1", "--requirepass", "tide-1"])
        .args(["--databases", "4", "--save", "", "--appendonly", "no", "--dir"])
        .arg(folder.path())
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    wait_for(port, &mut child);
    Some(Server { child, port, _folder: folder })
}

/// An authority that signs certificates.
pub(crate) struct Authority {
    issuer: Issuer<'static, KeyPair>,
    pub(crate) der: CertificateDer<'static>,
}

/// A certificate with its key.
pub(crate) struct Signed {
    der: CertificateDer<'static>,
    key: PrivateKeyDer<'static>,
    pub(crate) pem: String,
    pub(crate) key_pem: String,
}

impl Authority {
    pub(crate) fn new(name: &str) -> Self {
        let mut params = CertificateParams::new(Vec::new()).unwrap();
        params.distinguished_name.push(DnType::CommonName, name);
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let key = KeyPair::generate().unwrap();
        let der = params.self_signed(&key).unwrap().der().clone();
        Self { issuer: Issuer::new(params, key), der }
    }

    /// A certificate for a host that is good between these days, as (year, month, day).
    pub(crate) fn sign(&self, host: &str, from: (i32, u8, u8), to: (i32, u8, u8)) -> Signed {
        let mut params = CertificateParams::new(vec![host.to_owned()]).unwrap();
        params.not_before = rcgen::date_time_ymd(from.0, from.1, from.2);
        params.not_after = rcgen::date_time_ymd(to.0, to.1, to.2);
        let key = KeyPair::generate().unwrap();
        let certificate = params.signed_by(&key, &self.issuer).unwrap();
        let (der, pem, key_pem) = (certificate.der().clone(), certificate.pem(), key.serialize_pem());
        Signed { der, key: PrivateKeyDer::try_from(key.serialize_der()).unwrap(), pem, key_pem }
    }
}

/// Answers each connection with what `answer` makes of the request, until the test ends.
pub(crate) fn http(answer: impl Fn(&str) -> String + Send + Sync + 'static) -> u16 {
    serve(answer, None)
}

/// The same over TLS.
pub(crate) fn https(signed: &Signed, answer: impl Fn(&str) -> String + Send + Sync + 'static) -> u16 {
    let config = ServerConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()))
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_no_client_auth()
        .with_single_cert(vec![signed.der.clone()], signed.key.clone_key())
        .unwrap();
    serve(answer, Some(Arc::new(config)))
}

/// The same, for those alone who show a certificate of an authority.
pub(crate) fn https_for(
    clients: &Authority,
    signed: &Signed,
    answer: impl Fn(&str) -> String + Send + Sync + 'static,
) -> u16 {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let mut roots = rustls::RootCertStore::empty();
    roots.add(clients.der.clone()).unwrap();
    let verifier =
        rustls::server::WebPkiClientVerifier::builder_with_provider(Arc::new(roots), provider.clone());
    let config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_client_cert_verifier(verifier.build().unwrap())
        .with_single_cert(vec![signed.der.clone()], signed.key.clone_key())
        .unwrap();
    serve(answer, Some(Arc::new(config)))
}

fn serve(answer: impl Fn(&str) -> String + Send + Sync + 'static, tls: Option<Arc<ServerConfig>>) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let answer = Arc::new(answer);
    thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let (answer, tls) = (answer.clone(), tls.clone());
            thread::spawn(move || {
                let Some(config) = tls else {
                    one(stream, answer.as_ref());
                    return;
                };
                let connection = ServerConnection::new(config).unwrap();
                one(StreamOwned::new(connection, stream), answer.as_ref());
            });
        }
    });
    port
}

fn one(mut stream: impl Read + Write, answer: &dyn Fn(&str) -> String) {
    loop {
        let mut request = Vec::new();
        let mut byte = [0];
        while !request.ends_with(b"\r\n\r\n") {
            match stream.read(&mut byte) {
                Ok(1) => request.push(byte[0]),
                _ => return,
            }
        }
        let head = String::from_utf8_lossy(&request).to_lowercase();
        let length = head.lines().find_map(|line| line.strip_prefix("content-length:")?.trim().parse().ok());
        let mut body = vec![0; length.unwrap_or(0)];
        if stream.read_exact(&mut body).is_err() {
            return;
        }
        request.extend(body);
        let answer = answer(&String::from_utf8_lossy(&request));
        if stream.write_all(answer.as_bytes()).and_then(|()| stream.flush()).is_err() {
            return;
        }
    }
}

/// Listens and never answers.
pub(crate) fn silent() -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    thread::spawn(move || {
        let kept: Vec<TcpStream> = listener.incoming().flatten().collect();
        drop(kept);
    });
    port
}
