//! A MariaDB that a test starts on a free local port in a folder of its own, and stops again.

use std::fs;
use std::path::Path;

use tempfile::TempDir;

use crate::database::{Server, as_nobody, found, free_port, wait_for};

/// A MariaDB with a user `keeper`, its password `tide-1`, and a database `berths`. With a certificate and its key, both as
/// PEM, it also speaks TLS.
pub(crate) fn mariadb(certificate: Option<(&str, &str)>) -> Option<Server> {
    let server = Path::new("/usr/sbin/mariadbd");
    let server = found(server.exists().then(|| server.to_owned()), "MariaDB")?;
    let folder = TempDir::new().unwrap();
    let (data, socket) = (folder.path().join("data"), folder.path().join("socket"));
    let data = format!("--datadir={}", data.display());
    let first = folder.path().join("first.sql");
    let statements = "CREATE USER keeper@'127.0.0.1' IDENTIFIED BY 'tide-1';\n\
                      GRANT ALL ON *.* TO keeper@'127.0.0.1';\n\
                      CREATE DATABASE berths CHARACTER SET utf8mb4;\n";
    fs::write(&first, statements).unwrap();
    let mut encrypted = vec!["--skip-ssl".to_owned()];
    if let Some((pem, key)) = certificate {
        let paths = [("cert", pem), ("key", key)].map(|(name, text)| {
            let path = folder.path().join(name);
            fs::write(&path, text).unwrap();
            format!("--ssl-{name}={}", path.display())
        });
        encrypted = paths.to_vec();
    }
    let mut made = as_nobody(folder.path(), Path::new("/usr/bin/mariadb-install-db"));
    made.args(["--no-defaults", "--auth-root-authentication-method=normal", "--skip-test-db"]).arg(&data);
    assert!(made.status().unwrap().success(), "mariadb-install-db");
    let port = free_port();
    let mut child = as_nobody(folder.path(), &server)
        .args(["--no-defaults", "--bind-address=127.0.0.1", "--skip-name-resolve", "--skip-log-bin"])
        .args(["--innodb-flush-log-at-trx-commit=0", "--innodb-buffer-pool-size=8M"])
        .args(encrypted)
        .arg(data)
        .arg(format!("--port={port}"))
        .arg(format!("--socket={}", socket.display()))
        .arg(format!("--init-file={}", first.display()))
        .spawn()
        .unwrap();
    wait_for(port, &mut child);
    Some(Server { child, port, _folder: folder })
}
