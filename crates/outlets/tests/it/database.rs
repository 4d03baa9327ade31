//! A PostgreSQL that a test starts on a free local port in a folder of its own, and stops again.

use std::fs;
use std::net::{TcpListener, TcpStream};
use std::os::unix::fs::chown;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};
use std::thread;
use std::time::Duration;

use tempfile::TempDir;

/// The user `nobody` of Debian: database servers do not run as root.
const NOBODY: u32 = 65534;

/// A port for a server. It is none that the system gives to who asks for any: such a one may be gone again before the
/// server is there.
pub(crate) fn free_port() -> u16 {
    static ASKED: AtomicU32 = AtomicU32::new(0);
    let first = std::process::id() * 101;
    let ports = std::iter::repeat_with(|| first.wrapping_add(ASKED.fetch_add(1, Ordering::Relaxed)) % 18_000);
    let mut ports = ports.map(|port| 12_000 + u16::try_from(port).unwrap());
    ports.find(|port| TcpListener::bind(("127.0.0.1", *port)).is_ok()).unwrap()
}

/// A program that goes when the test does.
pub(crate) struct Server {
    pub(crate) child: Child,
    pub(crate) port: u16,
    pub(crate) _folder: TempDir,
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Whether a server is installed. In CI it must be.
pub(crate) fn found(path: Option<PathBuf>, name: &str) -> Option<PathBuf> {
    assert!(path.is_some() || std::env::var_os("CI").is_none(), "{name} is not installed");
    path
}

pub(crate) fn wait_for(port: u16, child: &mut Child) {
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
/// that may not use it. With a certificate and its
/// key, both as PEM, it also speaks TLS.
pub(crate) fn postgres(certificate: Option<(&str, &str)>) -> Option<Server> {
    let programs = found(postgres_programs(), "PostgreSQL")?;
    let folder = TempDir::new().unwrap();
    let (data, password) = (folder.path().join("data"), folder.path().join("password"));
    fs::write(&password, "tide-1").unwrap();
    let mut more = String::new();
    if let Some((pem, key)) = certificate {
        fs::write(folder.path().join("server.pem"), pem).unwrap();
        fs::write(folder.path().join("server.key"), key).unwrap();
        let at = folder.path().display();
        more = format!("ssl = on\nssl_cert_file = '{at}/server.pem'\nssl_key_file = '{at}/server.key'\n");
    }
    set_mode(&folder.path().join("server.key"), 0o600);
    let run = |program: &str| as_nobody(folder.path(), &programs.join(program));
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
    // What it shares with its own is in its folder, too, and goes with that: it is killed in the end.
    let text = format!(
        "listen_addresses = '127.0.0.1'\nport = {port}\nunix_socket_directories = '{at}'\nfsync = off\n\
         dynamic_shared_memory_type = mmap\n{more}"
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

/// A program that owns a folder and runs in it, as a user without rights where this one is root.
pub(crate) fn as_nobody(folder: &Path, program: &Path) -> Command {
    let is_root =
        fs::metadata("/proc/self").is_ok_and(|about| std::os::unix::fs::MetadataExt::uid(&about) == 0);
    let mut command = if is_root { Command::new("setpriv") } else { Command::new(program) };
    if is_root {
        for path in
            fs::read_dir(folder).unwrap().flatten().map(|entry| entry.path()).chain([folder.to_owned()])
        {
            chown(path, Some(NOBODY), Some(NOBODY)).unwrap();
        }
        command.args(["--reuid=65534", "--regid=65534", "--clear-groups", "--"]).arg(program);
    }
    command.current_dir(folder).env("TMPDIR", folder).stdout(Stdio::null()).stderr(Stdio::null());
    command
}

fn set_mode(path: &Path, mode: u32) {
    use std::os::unix::fs::PermissionsExt as _;
    if path.exists() {
        fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
    }
}
