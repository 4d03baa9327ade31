//! Stands between a program and a server, and can stop at any moment.

use std::io::{Read as _, Write as _};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;

/// What becomes of something that the program has said.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Heard {
    /// It comes to the server, and the answer back.
    Passed,
    /// Nothing more comes to either side.
    Stopped { passed: bool, closes: bool },
}

/// Listens on a free port for what goes to another, and asks what becomes of each thing that the program says.
pub(crate) fn relay(port: u16, heard: impl Fn(&[u8]) -> Heard + Send + Sync + 'static) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let ours = listener.local_addr().unwrap().port();
    let heard = Arc::new(heard);
    thread::spawn(move || {
        for client in listener.incoming().flatten() {
            let server = TcpStream::connect(("127.0.0.1", port)).unwrap();
            for side in [&client, &server] {
                side.set_nodelay(true).unwrap();
            }
            let is_over = Arc::new(AtomicBool::new(false));
            let (from_server, to_client) = (server.try_clone().unwrap(), client.try_clone().unwrap());
            let ended = Arc::clone(&is_over);
            thread::spawn(move || answers(from_server, to_client, &ended));
            let heard = Arc::clone(&heard);
            thread::spawn(move || requests(client, server, &is_over, &*heard));
        }
    });
    ours
}

fn answers(mut server: TcpStream, mut client: TcpStream, is_over: &AtomicBool) {
    let mut some = [0; 8192];
    while let Ok(count @ 1..) = server.read(&mut some) {
        if is_over.load(Ordering::SeqCst) {
            return;
        }
        if client.write_all(&some[..count]).is_err() {
            break;
        }
    }
    let _ = client.shutdown(Shutdown::Both);
}

fn requests(
    mut client: TcpStream,
    mut server: TcpStream,
    is_over: &AtomicBool,
    heard: &(impl Fn(&[u8]) -> Heard + ?Sized),
) {
    let mut some = [0; 8192];
    while let Ok(count @ 1..) = client.read(&mut some) {
        let Heard::Stopped { passed, closes } = heard(&some[..count]) else {
            if server.write_all(&some[..count]).is_err() {
                break;
            }
            continue;
        };
        is_over.store(true, Ordering::SeqCst);
        if passed {
            server.write_all(&some[..count]).unwrap();
        }
        if closes {
            break;
        }
        // The other side has gone when this one has.
        while matches!(client.read(&mut some), Ok(1..)) {}
        break;
    }
    let _ = server.shutdown(Shutdown::Write);
    let _ = client.shutdown(Shutdown::Both);
}
