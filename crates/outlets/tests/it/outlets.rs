//! Outlets that are read back and brought to: files and documents, and everything that goes wrong there.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use cledger_outlets::bring::{Content, Load, NewFile, NotBrought, bring};
use cledger_outlets::effect::{self, Masking, Reload};
use cledger_outlets::file::FileError;
use cledger_outlets::held::{Asked, DocumentOf, Held, UnitFiles};
use cledger_outlets::reach::{ClientCertificate, HttpLogin, HttpReach, Reach, Sent};
use cledger_outlets::read_back::{Listing, ReadBack, Source, read_back};
use cledger_outlets::{OAuth, Trust, log_in};
use cledger_standin::{Fault, Options, StandIn};
use cledger_store::Links;
use tempfile::TempDir;
use zeroize::Zeroizing;

use crate::servers::{self, Authority, CLOSED};

const LIMIT: Duration = Duration::from_secs(60);

fn http(url: &str, trust: Trust) -> Reach {
    let over_tls = url.starts_with("https://");
    Reach::Http(HttpReach {
        certificate: None,
        over_tls,
        login: HttpLogin::None,
        proxy: None,
        retries: 1,
        trust,
    })
}

fn source(url: &str, trust: Trust, limit: Duration) -> Source {
    let asked = [("desk".to_owned(), Asked::Document(DocumentOf::at_address(url)))].into();
    Source { reach: http(url, trust), own: BTreeMap::new(), asked, listing: None, limit }
}

/// Why nothing is known of the one unit that was asked for.
fn reason(back: &ReadBack) -> String {
    match back.units.get("desk") {
        Some(Held::NotKnown(reason)) => reason.clone(),
        Some(other) => format!("{other:?}"),
        None => back.trouble.clone().unwrap_or_else(|| "late".to_owned()),
    }
}

#[test]
fn each_bad_service_is_told_by_its_kind_and_the_others_all_the_same() {
    let authority = Authority::new("Brackwater Tests");
    let stranger = Authority::new("Nobody");
    let trust = Trust::of(vec![authority.der.clone()]);
    let good = |_: &str| "HTTP/1.1 200 x\r\nContent-Length: 2\r\nConnection: close\r\n\r\n{}".to_owned();
    let status = |status: &'static str| {
        move |_: &str| format!("HTTP/1.1 {status}\r\nContent-Length: 0\r\nConnection: close\r\n\r\n")
    };
    let (long_ago, far) = ((2020, 1, 1), (2099, 1, 1));
    let signed = authority.sign("localhost", long_ago, far);
    let expired = authority.sign("localhost", long_ago, (2021, 1, 1));
    let of_other_host = authority.sign("elsewhere.example", long_ago, far);
    let unknown = stranger.sign("localhost", long_ago, far);
    let plain = |port: u16| format!("http://localhost:{port}/desk");
    let tls = |port: u16| format!("https://localhost:{port}/desk");
    let cases = [
        (tls(servers::https(&signed, good)), ""),
        (tls(servers::https(&expired, good)), "certificate: it has expired"),
        (tls(servers::https(&of_other_host, good)), "certificate: it is not for this host"),
        (tls(servers::https(&unknown, good)), "certificate: its issuer is not trusted here"),
        (plain(servers::http(good)), ""),
        (plain(servers::http(status("500 x"))), "status 500"),
        (plain(servers::http(status("503 x"))), "status 503"),
        (plain(servers::http(status("403 x"))), "access denied: status 403"),
        (plain(servers::http(|_| "no HTTP at all\r\n\r\n".to_owned())), "it does not speak HTTP as we do"),
        (plain(CLOSED), "refused: nothing listens there"),
        ("http://no-such-host.invalid/desk".to_owned(), "no such host: its name leads nowhere"),
        (plain(servers::silent()), "late"),
    ];
    let limit = |expected: &str| if expected == "late" { Duration::from_secs(2) } else { LIMIT };
    let sources: Vec<Source> =
        cases.iter().map(|(url, expected)| source(url, trust.clone(), limit(expected))).collect();
    let mut heard = 0;
    let backs = read_back(&sources, |count| heard = count);
    assert!(heard >= cases.len() - 1, "{heard} were heard to the end");
    for ((url, expected), back) in cases.iter().zip(&backs) {
        let told = reason(back);
        if expected.is_empty() {
            assert!(matches!(back.units["desk"], Held::Document(..)), "{url}: {told}");
        } else if *expected == "late" {
            // It may say so itself in the last moment.
            assert!(told == "late" || told.contains("no answer"), "{url}: {told}");
        } else {
            assert_eq!(told, *expected, "{url}");
        }
    }
    let nothing = source(&plain(servers::http(status("404 x"))), trust, LIMIT);
    assert!(matches!(read_back(&[nothing], |_| ())[0].units["desk"], Held::NotThere));
}

#[test]
fn a_token_never_follows_a_redirect_to_another_origin() {
    let (sender, heard) = std::sync::mpsc::channel();
    let elsewhere = servers::http(move |request| {
        sender.send(request.to_lowercase()).unwrap();
        "HTTP/1.1 200 x\r\nContent-Length: 2\r\nConnection: close\r\n\r\n{}".to_owned()
    });
    let first = servers::http(move |request| {
        assert!(request.to_lowercase().contains("authorization: bearer low-tide"));
        format!(
            "HTTP/1.1 302 x\r\nLocation: http://localhost:{elsewhere}/x\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
        )
    });
    let url = format!("http://localhost:{first}/desk");
    let login = HttpLogin::Bearer(Sent::new(Zeroizing::new("low-tide".to_owned())));
    let trust = Trust::default();
    let reach = Reach::Http(HttpReach {
        certificate: None,
        over_tls: false,
        login,
        proxy: None,
        retries: 0,
        trust: trust.clone(),
    });
    let back = read_back(&[Source { reach, ..source(&url, trust, LIMIT) }], |_| ());
    assert!(matches!(back[0].units["desk"], Held::Document(..)), "{}", reason(&back[0]));
    let request = heard.recv().unwrap();
    assert!(request.starts_with("get /x") && !request.contains("authorization"), "{request}");
}

#[test]
fn a_certificate_is_shown_to_its_service_and_to_no_other() {
    let (authority, strangers) = (Authority::new("quay"), Authority::new("strangers"));
    let signed = authority.sign("localhost", (2020, 1, 1), (2030, 1, 1));
    let ours = authority.sign("desk", (2020, 1, 1), (2030, 1, 1));
    let theirs = strangers.sign("desk", (2020, 1, 1), (2030, 1, 1));
    let trust = Trust::of(vec![authority.der.clone()]);
    let good = |_: &str| "HTTP/1.1 200 x\r\nContent-Length: 2\r\nConnection: close\r\n\r\n{}".to_owned();
    let port = servers::https_for(&authority, &signed, good);
    let elsewhere = servers::https_for(&authority, &signed, move |_: &str| {
        format!(
            "HTTP/1.1 302 x\r\nLocation: https://localhost:{port}/x\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
        )
    });
    let sent = |text: &str| Sent::new(Zeroizing::new(text.to_owned()));
    let told = |port: u16, shown: Option<(&str, &str)>| {
        let certificate = shown.map(|(chain, key)| ClientCertificate { chain: sent(chain), key: sent(key) });
        let Reach::Http(http) = http("https://localhost", trust.clone()) else { panic!("a service") };
        let reach = Reach::Http(HttpReach { certificate, ..http });
        let url = format!("https://localhost:{port}/desk");
        let back = read_back(&[Source { reach, ..source(&url, trust.clone(), LIMIT) }], |_| ());
        let is_there = matches!(back[0].units.get("desk"), Some(Held::Document(..)));
        if is_there { "there".to_owned() } else { reason(&back[0]) }
    };
    let pair = Some((ours.pem.as_str(), ours.key_pem.as_str()));
    assert_eq!(told(port, pair), "there");
    assert_eq!(told(elsewhere, pair), "status 302");
    for (shown, expected) in [
        (None, "access denied: it asks for a client certificate that it trusts"),
        (
            Some((theirs.pem.as_str(), theirs.key_pem.as_str())),
            "access denied: it asks for a client certificate",
        ),
        (Some((ours.pem.as_str(), theirs.key_pem.as_str())), "not of one another"),
        (Some((ours.key_pem.as_str(), ours.key_pem.as_str())), "no certificate in PEM"),
        (Some((ours.pem.as_str(), ours.pem.as_str())), "no private key in PEM"),
        (Some(("", "")), "no certificate in PEM"),
    ] {
        let told = told(port, shown);
        assert!(told.contains(expected) && !told.contains("PRIVATE"), "{expected}: {told}");
    }
}

#[test]
fn a_database_that_accepts_and_says_nothing_is_given_up() {
    let url = format!("postgresql://keeper@localhost:{}/berths", servers::silent());
    let told = log_in(&Sent::new(Zeroizing::new(url)), None, &Trust::default(), Duration::from_millis(300));
    assert_eq!(
        told.err().map(|failure| failure.to_string()).as_deref(),
        Some("no answer: within the time limit")
    );
    for (url, expected) in [
        ("postgresql://db.invalid/x?sslmode=prefer", "which go on in plain text"),
        ("postgresql://db.invalid/x?sslmode=Require", "none of `disable`"),
        ("host=db.invalid password=low-tide", "no address of PostgreSQL"),
    ] {
        let told = log_in(&Sent::new(Zeroizing::new(url.to_owned())), None, &Trust::default(), LIMIT);
        let said = told.err().unwrap().to_string();
        assert!(said.contains(expected) && !said.contains("low-tide"), "{url}: {said}");
    }
}

/// What is at an address now.
fn held(url: &str) -> Held {
    read_back(&[source(url, Trust::default(), LIMIT)], |_| ()).remove(0).units.remove("desk").unwrap()
}

fn document(url: &str, seen: Held, text: &str) -> Load {
    Load {
        reach: http(url, Trust::default()),
        asked: Asked::Document(DocumentOf::at_address(url)),
        seen,
        content: Content::Document(Zeroizing::new(text.to_owned())),
        limit: LIMIT,
    }
}

#[test]
fn a_document_comes_only_over_what_was_seen_and_once() {
    let folder = TempDir::new().unwrap();
    let options = Options { folder: folder.path().to_owned(), ..Options::default() };
    let standin = StandIn::start(options).unwrap();
    let url = format!("{}/desk", standin.url());
    let file = folder.path().join("desk.json");
    assert_eq!(bring(vec![document(&url, Held::NotThere, "{\"a\": 1}")]), [Ok(())]);
    assert_eq!(fs::read_to_string(&file).unwrap(), "{\"a\": 1}");
    // Nothing was seen there, and something is.
    let late = bring(vec![document(&url, Held::NotThere, "{}")]);
    assert_eq!(late, [Err(NotBrought::ChangedMeanwhile)]);
    let seen = held(&url);
    fs::write(&file, "{\"a\": 2}").unwrap();
    assert_eq!(bring(vec![document(&url, seen, "{}")]), [Err(NotBrought::ChangedMeanwhile)]);
    assert_eq!(fs::read_to_string(&file).unwrap(), "{\"a\": 2}");
    // The service takes it, and its answer is lost: the second try sees that it is there already.
    let seen = held(&url);
    let load = document(&url, seen, "{\"a\": 3}");
    standin.set_fault("/desk", Some(Fault::LoseAnswer));
    assert_eq!(bring(vec![load]), [Ok(())]);
    assert_eq!(fs::read_to_string(&file).unwrap(), "{\"a\": 3}");
    for (fault, said) in [
        (Fault::Down, NotBrought::Failed("status 503".to_owned())),
        (Fault::Refuse, NotBrought::Failed("access denied: status 401".to_owned())),
    ] {
        let load = document(&url, held(&url), "{}");
        standin.set_fault("/desk", Some(fault));
        assert_eq!(bring(vec![load]), [Err(said)], "{fault:?}");
        standin.set_fault("/desk", None);
    }
    let mut load = document(&url, held(&url), "{}");
    load.limit = Duration::from_millis(400);
    standin.set_fault("/desk", Some(Fault::HangWrites));
    let told = bring(vec![load]);
    assert!(matches!(&told[..], [Err(NotBrought::NotKnown(_))]), "{told:?}");
    assert_eq!(fs::read_to_string(&file).unwrap(), "{\"a\": 3}");
}

#[test]
fn parts_of_one_document_without_entity_tags_all_come_there() {
    let text = Arc::new(Mutex::new("{\"others\":[1.50,null]}".to_owned()));
    let kept = text.clone();
    let port = servers::http(move |request| {
        let mut kept = kept.lock().unwrap();
        if let Some(body) = request.starts_with("PUT ").then(|| request.split("\r\n\r\n").nth(1)).flatten() {
            body.clone_into(&mut kept);
            return "HTTP/1.1 204 x\r\nConnection: close\r\n\r\n".to_owned();
        }
        let length = kept.len();
        format!("HTTP/1.1 200 x\r\nContent-Length: {length}\r\nConnection: close\r\n\r\n{kept}")
    });
    let url = format!("http://127.0.0.1:{port}/board");
    let load = |unit: usize| {
        let at = vec!["units".to_owned(), format!("u{unit}")];
        let asked = Asked::Document(DocumentOf { at, ..DocumentOf::at_address(&url) });
        Load { asked, ..document(&url, Held::NotThere, &format!("{{\"n\": {unit}}}")) }
    };
    assert_eq!(bring((0..8).map(load).collect()), vec![Ok(()); 8]);
    let text = text.lock().unwrap();
    assert!(text.starts_with("{\"others\":[1.50,null],\"units\":{"), "{text}");
    assert!((0..8).all(|unit| text.contains(&format!("\"u{unit}\":{{\"n\":{unit}}}"))), "{text}");
}

/// A part of the document at an address.
fn part(url: &str, unit: &str) -> DocumentOf {
    DocumentOf { at: vec!["units".to_owned(), unit.to_owned()], ..DocumentOf::at_address(url) }
}

/// What stands in a part now.
fn held_part(of: &DocumentOf) -> Held {
    let asked = [("desk".to_owned(), Asked::Document(of.clone()))].into();
    let source = Source { asked, ..source(&of.url, Trust::default(), LIMIT) };
    read_back(&[source], |_| ()).remove(0).units.remove("desk").unwrap()
}

#[test]
fn a_part_comes_and_goes_over_what_was_seen_of_it_alone_whatever_becomes_of_the_answer() {
    let folder = TempDir::new().unwrap();
    let options = Options { folder: folder.path().to_owned(), ..Options::default() };
    let standin = StandIn::start(options).unwrap();
    let url = format!("{}/board", standin.url());
    let file = folder.path().join("board.json");
    let around = |part: &str| format!(r#"{{"depth":1.50,"units":{{"mole":{{"a":1}}{part}}},"end":null}}"#);
    let of = part(&url, "desk");
    let load = |seen: Held, content: Content, within: u64| Load {
        reach: http(&url, Trust::default()),
        asked: Asked::Document(of.clone()),
        seen,
        content,
        limit: Duration::from_millis(within),
    };
    let brings = |text: &str| Content::Document(Zeroizing::new(text.to_owned()));
    let new = r#","desk":{"b":2}"#;
    // What is brought, what stands there then, and how it is told; then the same for taking it off.
    for (fault, came, told) in [
        (None, true, Ok(())),
        (Some(Fault::LoseAnswer), true, Ok(())),
        (Some(Fault::LoseWrites), false, Ok(())),
        (Some(Fault::Down), false, Err(NotBrought::Failed("status 503".to_owned()))),
        (Some(Fault::DownWrites), false, Err(NotBrought::NotKnown("status 503".to_owned()))),
        (Some(Fault::Refuse), false, Err(NotBrought::Failed("access denied: status 401".to_owned()))),
    ] {
        for (before, content, after) in
            [(around(""), brings("{\"b\": 2}"), around(new)), (around(new), Content::NoDocument, around(""))]
        {
            fs::write(&file, &before).unwrap();
            let load = load(held_part(&of), content, 60_000);
            standin.set_fault("/board", fault);
            assert_eq!(bring(vec![load]).pop().as_ref(), Some(&told), "{fault:?}");
            standin.set_fault("/board", None);
            let there = fs::read_to_string(&file).unwrap();
            assert_eq!(there, if came { after } else { before }, "{fault:?}");
        }
    }
    // A hanging service is given up, and nobody knows.
    fs::write(&file, around("")).unwrap();
    let hangs = load(held_part(&of), brings("{}"), 400);
    standin.set_fault("/board", Some(Fault::HangWrites));
    assert!(matches!(&bring(vec![hangs])[..], [Err(NotBrought::NotKnown(_))]));
    standin.set_fault("/board", None);
    // What others change around it is no business of it; what somebody changes in it is.
    let seen = held_part(&of);
    fs::write(&file, around("").replace("1.50", "2.50")).unwrap();
    assert_eq!(bring(vec![load(seen, brings("{\"b\": 2}"), 60_000)]), [Ok(())]);
    assert_eq!(fs::read_to_string(&file).unwrap(), around(new).replace("1.50", "2.50"));
    let seen = held_part(&of);
    fs::write(&file, around(r#","desk":{"b":3}"#)).unwrap();
    let late = bring(vec![load(seen, brings("{\"b\": 4}"), 60_000)]);
    assert_eq!(late, [Err(NotBrought::ChangedMeanwhile)]);
    assert_eq!(fs::read_to_string(&file).unwrap(), around(r#","desk":{"b":3}"#));
    // Where it has no place, that shows when it is looked at.
    for (text, said) in [
        (r#"{"units":"none"}"#, "leads through something that has no names"),
        (r#"{"units":[]}"#, "leads through something that has no names"),
        ("{\"units\":", "its document is no JSON"),
    ] {
        fs::write(&file, text).unwrap();
        let Held::NotKnown(reason) = held_part(&of) else { panic!("{text} has a part") };
        assert!(reason.contains(said), "{text}: {reason}");
    }
    // A document that is not there is made with what a new one holds.
    fs::remove_file(&file).unwrap();
    let new = vec![("name".to_owned(), "board".to_owned())];
    let made = Load {
        asked: Asked::Document(DocumentOf { new, ..of.clone() }),
        ..load(Held::NotThere, brings("{}"), 60_000)
    };
    assert_eq!(bring(vec![made]), [Ok(())]);
    assert_eq!(fs::read_to_string(&file).unwrap(), r#"{"name":"board","units":{"desk":{}}}"#);
}

/// The files of the unit `desk` in an outlet's folder.
fn of_desk(paths: &[&str], links: Links) -> Asked {
    let paths = paths.iter().map(|path| (*path).to_owned()).collect();
    Asked::Files(UnitFiles { base: "".into(), below: "desk".into(), paths, links, all: false })
}

fn files(folder: &Path, paths: &[&str]) -> Held {
    files_by(folder, paths, Links::Refused)
}

fn files_by(folder: &Path, paths: &[&str], links: Links) -> Held {
    let source = Source {
        reach: Reach::Local(folder.to_owned()),
        own: BTreeMap::new(),
        asked: [("desk".to_owned(), of_desk(paths, links))].into(),
        listing: Some(Listing::Folders("".into(), links)),
        limit: LIMIT,
    };
    read_back(&[source], |_| ()).remove(0).units.remove("desk").unwrap()
}

fn load_of_files(folder: &Path, seen: Held, texts: &[(&str, &str)], gone: &[&str]) -> Load {
    let new = texts.iter().map(|(path, text)| NewFile {
        path: (*path).to_owned(),
        text: Zeroizing::new((*text).to_owned()),
        secret: path.contains("secret"),
        mode: None,
    });
    Load {
        reach: Reach::Local(folder.to_owned()),
        asked: of_desk(&[], Links::Refused),
        seen,
        content: Content::Files(new.collect(), gone.iter().map(|path| (*path).to_owned()).collect()),
        limit: LIMIT,
    }
}

#[test]
fn files_come_one_whole_after_the_other_and_go_with_their_folders() {
    use std::os::unix::fs::PermissionsExt as _;
    let folder = TempDir::new().unwrap();
    let root = folder.path();
    let paths = ["a.env", "conf/secret.env"];
    let texts = [("a.env", "A=1\n"), ("conf/secret.env", "B=2\n")];
    assert!(matches!(files(root, &paths), Held::NotThere));
    assert_eq!(bring(vec![load_of_files(root, Held::NotThere, &texts, &[])]), [Ok(())]);
    let mode = fs::metadata(root.join("desk/conf/secret.env")).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o600);
    let seen = files(root, &paths);
    fs::write(root.join("desk/a.env"), "A=by hand\n").unwrap();
    let told = bring(vec![load_of_files(root, seen, &texts, &[])]);
    assert_eq!(told, [Err(NotBrought::ChangedMeanwhile)]);
    assert_eq!(fs::read_to_string(root.join("desk/a.env")).unwrap(), "A=by hand\n");
    // A file stands where a folder has to be: what was done before that is told.
    let seen = files(root, &["a.env"]);
    let bad = [("a.env", "A=3\n"), ("a.env/b.env", "B=4\n")];
    let told = bring(vec![load_of_files(root, seen, &bad, &[])]);
    let [Err(NotBrought::InPart(reason))] = &told[..] else { panic!("{told:?}") };
    assert!(reason.contains("cannot be written") && reason.ends_with("done before that: a.env"), "{reason}");
    fs::write(root.join("desk/theirs"), "x").unwrap();
    let told = bring(vec![load_of_files(root, files(root, &paths), &[], &paths)]);
    assert_eq!(told, [Ok(())]);
    assert!(!root.join("desk/conf").exists() && root.join("desk/theirs").exists(), "only ours goes");
    fs::remove_file(root.join("desk/theirs")).unwrap();
    fs::write(root.join("desk/a.env"), "A=1\n").unwrap();
    bring(vec![load_of_files(root, files(root, &["a.env"]), &[], &["a.env"])]);
    assert!(!root.join("desk").exists(), "an empty folder goes, too");
}

#[test]
fn links_below_an_outlets_folder_are_followed_only_where_that_is_said() {
    let (folder, elsewhere) = (TempDir::new().unwrap(), TempDir::new().unwrap());
    fs::write(elsewhere.path().join("a.env"), "A=theirs\n").unwrap();
    std::os::unix::fs::symlink(elsewhere.path(), folder.path().join("desk")).unwrap();
    let load = |links| Load {
        asked: of_desk(&["a.env"], links),
        ..load_of_files(folder.path(), files_by(folder.path(), &["a.env"], links), &[("a.env", "A=1\n")], &[])
    };
    let Held::Files(found) = files(folder.path(), &["a.env"]) else { panic!("it is a link") };
    assert!(matches!(found.files["a.env"], Err(FileError::Link)), "{found:?}");
    let told = bring(vec![load(Links::Refused)]);
    assert!(matches!(&told[..], [Err(NotBrought::Failed(reason))] if reason.contains("link")), "{told:?}");
    assert_eq!(fs::read_to_string(elsewhere.path().join("a.env")).unwrap(), "A=theirs\n");
    assert_eq!(bring(vec![load(Links::Followed)]), [Ok(())]);
    assert_eq!(fs::read_to_string(elsewhere.path().join("a.env")).unwrap(), "A=1\n");
}

#[test]
fn a_reload_ends_in_time_and_takes_what_it_started_with_it() {
    let folder = TempDir::new().unwrap();
    let masking = Masking::of(["low-tide-dev"]);
    // The test's own user; nothing else of it is known.
    let without = ["HOME".to_owned()];
    let reload = |text: &str, within| {
        let words = ["sh", "-c", text].map(str::to_owned);
        let (folder, without) = (folder.path(), &without[..]);
        effect::reload(&Reload { words: &words, folder, within, without, masking: &masking })
    };
    let within = Duration::from_secs(20);
    assert_eq!(reload("test -d . && test -z \"$HOME$CLEDGER_IDENTITY\"", within), Ok(()));
    let told = reload("echo one >&2; echo no login with low-tide-dev >&2; exit 3", within);
    assert_eq!(told, Err("`sh` ended with exit status: 3: one\nno login with (secret)".to_owned()));
    let told = reload("yes tide | head -c 5000000 >&2; echo low-tide-dev >&2; exit 1", within);
    let said = told.unwrap_err();
    assert!(said.ends_with("tide\n(secret)") && said.len() < 2100, "{}", said.len());
    let short = Duration::from_millis(300);
    let told = reload("(sleep 60; touch late) & echo $! > pid; wait", short);
    assert_eq!(told, Err("`sh` did not end within 0.3 s, and was stopped".to_owned()));
    let pid = fs::read_to_string(folder.path().join("pid")).unwrap();
    let about = Path::new("/proc").join(pid.trim()).join("stat");
    // It is gone, or dead and waited for by nobody yet.
    while fs::read_to_string(&about).is_ok_and(|text| !text.contains(") Z")) {
        std::thread::yield_now();
    }
    let stamp = effect::stamp(&folder.path().join("ready"));
    assert!(effect::written_since(folder.path(), "ready", stamp, short).is_err());
    fs::write(folder.path().join("ready"), "").unwrap();
    assert_eq!(effect::written_since(folder.path(), "ready", stamp, short), Ok(()));
}

#[test]
fn what_wakes_a_program_is_done_once_and_says_what_went_wrong() {
    let folder = TempDir::new().unwrap();
    let path = |name: &str| folder.path().join(name);
    // A file that is touched keeps what is in it.
    fs::write(path("stamp"), "as it is").unwrap();
    let old = std::time::SystemTime::UNIX_EPOCH;
    fs::File::options().append(true).open(path("stamp")).unwrap().set_modified(old).unwrap();
    effect::touch(&path("stamp")).unwrap();
    assert_eq!(fs::read_to_string(path("stamp")).unwrap(), "as it is");
    assert!(effect::stamp(&path("stamp")).unwrap() > old);
    effect::touch(&path("new")).unwrap();
    assert!(path("new").exists() && effect::touch(&path("no/such/folder")).is_err());
    // A program that waits for a signal.
    let script = "trap 'echo woken > out; exit 0' HUP; echo $$ > pid; while :; do sleep 0.02; done";
    let mut child =
        std::process::Command::new("bash").args(["-c", script]).current_dir(folder.path()).spawn().unwrap();
    while !fs::read_to_string(path("pid")).is_ok_and(|text| text.ends_with('\n')) {
        std::thread::sleep(Duration::from_millis(5));
    }
    effect::signal(&path("pid"), "HUP").unwrap();
    assert!(child.wait().unwrap().success() && path("out").exists());
    let told = effect::signal(&path("pid"), "HUP").unwrap_err();
    assert!(told.contains("gets no HUP"), "{told}");
    for bad in ["0", "1", "-7", "x", ""] {
        fs::write(path("pid"), bad).unwrap();
        let told = effect::signal(&path("pid"), "USR1").unwrap_err();
        assert!(told.contains("holds no number of a process"), "{bad}: {told}");
    }
    assert!(effect::signal(&path("nobody"), "HUP").unwrap_err().contains("cannot be read"));
    // An address is called once, whatever it says.
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let url = format!("http://{}/reload", listener.local_addr().unwrap());
    let asked = std::thread::spawn(move || {
        ["204 No Content", "503 Busy"].map(|status| {
            use std::io::{Read as _, Write as _};
            let (mut stream, _) = listener.accept().unwrap();
            let mut text = [0; 1024];
            let count = stream.read(&mut text).unwrap();
            write!(stream, "HTTP/1.1 {status}\r\nContent-Length: 0\r\nConnection: close\r\n\r\n").unwrap();
            String::from_utf8_lossy(&text[..count]).into_owned()
        })
    });
    assert_eq!(effect::call(&url, &Trust::default(), LIMIT), Ok(()));
    assert!(effect::call(&url, &Trust::default(), LIMIT).unwrap_err().ends_with("says status 503"));
    assert!(asked.join().unwrap().iter().all(|asked| asked.starts_with("POST /reload HTTP/1.1\r\n")));
    assert!(effect::call(&url, &Trust::default(), LIMIT).unwrap_err().contains("refused"));
}

/// A service that answers each request by what stands in it, and counts those for tokens.
fn small_service(answer: fn(&str) -> (u16, String)) -> String {
    use std::io::{BufRead as _, Read as _, Write as _};
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let mut reader = std::io::BufReader::new(stream.unwrap());
            let mut asked = String::new();
            while reader.read_line(&mut asked).unwrap() > 2 {}
            let length = asked.to_ascii_lowercase();
            let length = length.lines().find_map(|line| line.strip_prefix("content-length: ")?.parse().ok());
            let mut body = vec![0; length.unwrap_or_default()];
            reader.read_exact(&mut body).unwrap();
            asked.push_str(&String::from_utf8(body).unwrap());
            let (status, text) = answer(&asked);
            let length = text.len();
            let head =
                format!("HTTP/1.1 {status} x\r\nContent-Length: {length}\r\nConnection: close\r\n\r\n");
            reader.get_mut().write_all((head + &text).as_bytes()).unwrap();
        }
    });
    url
}

#[test]
fn a_service_is_shown_who_asks_and_a_token_is_fetched_once() {
    let url = small_service(|asked| {
        // `quay:tide/1` and the client `quay office` with the secret `low&tide`, as their headers have them.
        let basic = asked.contains("uthorization: Basic cXVheTp0aWRlLzE=\r\n");
        let client = asked.contains("uthorization: Basic cXVheSUyMG9mZmljZTpsb3clMjZ0aWRl\r\n");
        let is_form = asked.ends_with("\r\n\r\ngrant_type=client_credentials&scope=values%3Aread");
        if asked.starts_with("POST /token ") && client && is_form {
            static GIVEN: std::sync::atomic::AtomicU32 = std::sync::atomic::AtomicU32::new(0);
            let count = GIVEN.fetch_add(1, std::sync::atomic::Ordering::SeqCst);
            (200, format!(r#"{{"access_token": "tide-{count}", "token_type": "Bearer"}}"#))
        } else if basic || asked.contains("uthorization: Bearer tide-0\r\n") {
            (200, "{\"a\": 1}".to_owned())
        } else {
            (401, String::new())
        }
    });
    let secret = |text: &str| Sent::new(Zeroizing::new(text.to_owned()));
    let oauth = |path: &str, secret: Sent| {
        let scope = Some("values:read".to_owned());
        let client =
            OAuth::new(format!("{url}{path}"), "quay office".to_owned(), secret, scope, Trust::default());
        HttpLogin::OAuth(std::sync::Arc::new(client))
    };
    let read = |login: &HttpLogin| {
        let (proxy, trust) = (None, Trust::default());
        let reach = Reach::Http(HttpReach {
            certificate: None,
            over_tls: false,
            login: login.clone(),
            proxy,
            retries: 0,
            trust,
        });
        let mut back =
            read_back(&[Source { reach, ..source(&url, Trust::default(), LIMIT) }], |_| ()).remove(0);
        match (back.units.remove("desk"), back.trouble) {
            (Some(Held::Document(text, _)), _) => text.to_string(),
            (Some(Held::NotKnown(reason)), _) | (_, Some(reason)) => reason,
            other => panic!("{other:?}"),
        }
    };
    assert_eq!(read(&HttpLogin::Basic("quay".to_owned(), secret("tide/1"))), "{\"a\": 1}");
    assert_eq!(read(&HttpLogin::Basic("quay".to_owned(), secret("tide/2"))), "access denied: status 401");
    let kept = oauth("/token", secret("low&tide"));
    assert_eq!([read(&kept), read(&kept)], ["{\"a\": 1}"; 2], "the second token would not do");
    assert_eq!(read(&oauth("/token", secret("high"))), "access denied: no token: status 401");
    let told = read(&oauth("/other", secret("low&tide")));
    assert!(told.contains("no token") && !told.contains("low"), "{told}");
}
