//! Servers that a test starts on free local ports, and stops again.

use std::fs;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::os::unix::fs::chown;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::thread;
use std::time::Duration;

use rcgen::{BasicConstraints, CertificateParams, DnType, IsCa, Issuer, KeyPair};
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::{ServerConfig, ServerConnection, StreamOwned};
use tempfile::TempDir;

/// The user `nobody` of Debian: PostgreSQL does not run as root.
const NOBODY: u32 = 65534;

pub(crate) fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

/// A program that goes when the test does.
pub(crate) struct Server {
    child: Child,
    pub(crate) port: u16,
    _folder: TempDir,
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Whether a server is installed. In CI it must be.
fn found(path: Option<PathBuf>, name: &str) -> Option<PathBuf> {
    assert!(path.is_some() || std::env::var_os("CI").is_none(), "{name} is not installed");
    path
}

fn wait_for(port: u16, child: &mut Child) {
    while TcpStream::connect(("127.0.0.1", port)).is_err() {
        assert!(child.try_wait().unwrap().is_none(), "the server has ended");
        thread::sleep(Duration::from_millis(20));
    }
}

/// The newest PostgreSQL of Debian, or the one in the path.
fn postgres_programs() -> Option<PathBuf> {
    let versions = fs::read_dir("/usr/lib/postgresql").ok()?.flatten();
    versions.map(|version| version.path().join("bin")).filter(|bin| bin.join("initdb").exists()).max()
}

/// A PostgreSQL with a superuser `keeper`, its password `tide-1`, a database `berths`, and a role `guest`
/// that may not use it. With a certificate it also speaks TLS.
pub(crate) fn postgres(certificate: Option<&Signed>) -> Option<Server> {
    let programs = found(postgres_programs(), "PostgreSQL")?;
    let folder = TempDir::new().unwrap();
    let (data, password) = (folder.path().join("data"), folder.path().join("password"));
    fs::write(&password, "tide-1").unwrap();
    let mut more = String::new();
    if let Some(signed) = certificate {
        fs::write(folder.path().join("server.pem"), &signed.pem).unwrap();
        fs::write(folder.path().join("server.key"), &signed.key_pem).unwrap();
        let at = folder.path().display();
        more = format!("ssl = on\nssl_cert_file = '{at}/server.pem'\nssl_key_file = '{at}/server.key'\n");
    }
    let is_root =
        fs::metadata("/proc/self").is_ok_and(|about| std::os::unix::fs::MetadataExt::uid(&about) == 0);
    if is_root {
        for path in fs::read_dir(folder.path()).unwrap().flatten() {
            chown(path.path(), Some(NOBODY), Some(NOBODY)).unwrap();
        }
        chown(folder.path(), Some(NOBODY), Some(NOBODY)).unwrap();
    }
    set_mode(&folder.path().join("server.key"), 0o600);
    let run = |program: &str| {
        let path = programs.join(program);
        let mut command = if is_root { Command::new("setpriv") } else { Command::new(&path) };
        if is_root {
            command.args(["--reuid=65534", "--regid=65534", "--clear-groups", "--"]).arg(&path);
        }
        command.current_dir(folder.path()).stdout(Stdio::null()).stderr(Stdio::null());
        command
    };
    let made = run("initdb")
        .arg("-D")
        .arg(&data)
        .arg("--pwfile")
        .arg(&password)
        .args(["-U", "keeper", "--auth=scram-sha-256", "--no-sync"])
        .status()
        .unwrap();
    assert!(made.success(), "initdb");
    let port = free_port();
    let settings = data.join("postgresql.auto.conf");
    let at = folder.path().display();
    let text = format!(
        "listen_addresses = '127.0.0.1'\nport = {port}\nunix_socket_directories = '{at}'\nfsync = off\n{more}"
    );
    fs::write(settings, text).unwrap();
    let mut child = run("postgres").arg("-D").arg(&data).spawn().unwrap();
    wait_for(port, &mut child);
    let server = Server { child, port, _folder: folder };
    let mut config = postgres::Config::new();
    config.host("127.0.0.1").port(port).user("keeper").password("tide-1").dbname("postgres");
    // It listens before it lets anybody in.
    let mut client = loop {
        match config.connect(postgres::NoTls) {
            Ok(client) => break client,
            Err(_) => thread::sleep(Duration::from_millis(20)),
        }
    };
    for statement in [
        "CREATE DATABASE berths",
        "REVOKE CONNECT ON DATABASE berths FROM PUBLIC",
        "CREATE ROLE guest LOGIN PASSWORD 'guest-1'",
    ] {
        client.batch_execute(statement).unwrap();
    }
    Some(server)
}

fn set_mode(path: &Path, mode: u32) {
    use std::os::unix::fs::PermissionsExt as _;
    if path.exists() {
        fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
    }
}

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
