//! Folios that somebody has signed: nobody else's passes for theirs.

use std::fs;
use std::io::{Cursor, Read as _};
use std::path::Path;
use std::process::{Command, Stdio};

use cledger_work::Kind;
use cledger_work::folio::{Folio, SignedBy, Signer, ToEnter};
use cledger_work::keys::identity;
use ssh_key::private::Ed25519Keypair;
use ssh_key::{LineEnding, PrivateKey};

use crate::folios::{enters, forged, signed, source, to_enter};
use crate::workplaces::Place;

/// Somebody's key, in a file beside a ledger.
fn signer(place: &Place, seed: u8) -> Signer {
    let key = PrivateKey::from(Ed25519Keypair::from_seed(&[seed; 32]));
    let path = place.path(&format!("../key-{seed}"));
    fs::write(&path, key.to_openssh(LineEnding::LF).unwrap().as_bytes()).unwrap();
    fs::write(path.with_extension("pub"), key.public_key().to_openssh().unwrap()).unwrap();
    Signer::read(&path, &|| None).unwrap()
}

/// The members of a folio, by path.
fn members(bytes: &[u8]) -> Vec<(String, String)> {
    let mut archive = zip::ZipArchive::new(Cursor::new(bytes)).unwrap();
    let count = archive.len();
    let member = |at| {
        let mut member = archive.by_index(at).unwrap();
        let mut text = String::new();
        member.read_to_string(&mut text).unwrap();
        (member.name().unwrap().into_owned(), text)
    };
    (0..count).map(member).collect()
}

fn packed(members: &[(String, String)]) -> Vec<u8> {
    forged(&members.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect::<Vec<_>>())
}

/// What OpenSSH says of a folio's signature, where the public key of the file beside it is the one that may sign.
fn openssh_says(place: &Place, bytes: &[u8], public: &Path) -> bool {
    let text = |name: &str| members(bytes).into_iter().find(|(path, _)| path == name).unwrap().1;
    let (allowed, signature, list) = (place.path("../allowed"), place.path("../sig"), place.path("../list"));
    fs::write(&allowed, format!("ada {}\n", fs::read_to_string(public).unwrap())).unwrap();
    fs::write(&signature, text("folio.json.sig")).unwrap();
    fs::write(&list, text("folio.json")).unwrap();
    let mut verify = Command::new("ssh-keygen");
    verify.args(["-Y", "verify", "-I", "ada", "-n", "copper-ledger-folio"]).arg("-f").arg(&allowed).arg("-s");
    verify.arg(&signature).stdin(fs::File::open(&list).unwrap()).stdout(Stdio::null()).stderr(Stdio::null());
    verify.status().unwrap().success()
}

#[test]
fn a_signature_is_one_of_openssh_and_the_same_folio_has_the_same() {
    let place = source();
    let (ada, ben) = (signer(&place, 7), signer(&place, 8));
    let (made, path) = signed(&place, &["desk"], (None, None), Some(&ada));
    assert_eq!(made.bytes, signed(&place, &["desk"], (None, None), Some(&ada)).0.bytes);
    assert_ne!(made.bytes, signed(&place, &["desk"], (None, None), Some(&ben)).0.bytes);
    fs::write(&path, &made.bytes).unwrap();
    let public = fs::read_to_string(place.path("../key-7.pub")).unwrap();
    assert_eq!(Folio::read(&path).unwrap().signed_by, Some(SignedBy::parse(&public).unwrap()));
    let has_it = Command::new("ssh-keygen").arg("-?").output().is_ok();
    assert!(has_it || std::env::var_os("CI").is_none(), "ssh-keygen is not there");
    if has_it {
        assert!(openssh_says(&place, &made.bytes, &place.path("../key-7.pub")));
        assert!(!openssh_says(&place, &made.bytes, &place.path("../key-8.pub")));
    }
}

#[test]
fn what_is_signed_vouches_for_every_member_and_nothing_else() {
    let (place, other) = (source(), Place::new(&[]));
    identity(&other.at, true).unwrap();
    place.write(
        "units/desk.toml",
        &(place.read("units/desk.toml") + "[credentials.gate]\nform = \"token\"\n"),
    );
    place.write("stages/dev.toml", "[units.desk]\nplace = \"quay\"\ngate.token = \"plover\"\n");
    let ada = signer(&place, 7);
    let (made, path) = signed(&place, &["desk"], (Some("dev"), Some(&other)), Some(&ada));
    let again = signed(&place, &["desk"], (Some("dev"), Some(&other)), Some(&ada)).0;
    let (ours, theirs) = (members(&made.bytes), members(&again.bytes));
    let swapped = |name: &str| {
        let all = ours.iter().map(|(path, text)| {
            let other = theirs.iter().find(|(path, _)| path == name).filter(|_| path == name);
            (path.clone(), other.map_or_else(|| text.clone(), |(_, text)| text.clone()))
        });
        packed(&all.collect::<Vec<_>>())
    };
    fs::write(&path, packed(&ours)).unwrap();
    assert!(Folio::read(&path).is_ok());
    // Encrypted members differ each time, and so do what lists them and its signature.
    for name in ["secrets.age", "folio.json", "folio.json.sig"] {
        fs::write(&path, swapped(name)).unwrap();
        let error = Folio::read(&path).err().unwrap();
        assert_eq!(error.kind(), Kind::Usage, "{name}: {error}");
    }
    let cut = ours.iter().map(|(path, text)| match path.as_str() {
        "folio.json.sig" => (path.clone(), text[..text.len() / 2].to_owned()),
        _ => (path.clone(), text.clone()),
    });
    fs::write(&path, packed(&cut.collect::<Vec<_>>())).unwrap();
    assert!(Folio::read(&path).is_err());
}

#[test]
fn a_ledger_remembers_who_has_signed_and_takes_nobody_elses() {
    let (place, other) = (source(), Place::new(&[]));
    let (ada, ben) = (signer(&place, 7), signer(&place, 8));
    let key = |seed: u8| {
        SignedBy::parse(&fs::read_to_string(place.path(&format!("../key-{seed}.pub"))).unwrap()).unwrap()
    };
    let open = ToEnter { leave_open: true, ..to_enter(&["dev"]) };
    let by = |seed: u8| ToEnter { signed_by: vec![key(seed)], ..open.clone() };
    let path_of = |signer: Option<&Signer>| signed(&place, &["desk"], (None, None), signer).1;
    let came = || fs::read_to_string(other.path("folios.toml")).ok();
    // Who is named must have signed, and an unsigned one is nobody's.
    for signer in [None, Some(&ben)] {
        let path = path_of(signer);
        let before = came();
        assert_eq!(enters(&other, &path, &by(7)).unwrap_err().kind(), Kind::Refused);
        assert_eq!(came(), before);
    }
    let entered = enters(&other, &path_of(Some(&ada)), &open).unwrap();
    assert_eq!(entered.signed_by, Some((key(7), false)));
    let entered = enters(&other, &path_of(Some(&ada)), &open).unwrap();
    assert_eq!(entered.signed_by, Some((key(7), true)));
    // From now on another key, and none, is asked about.
    for signer in [None, Some(&ben)] {
        let path = path_of(signer);
        let before = came();
        assert_eq!(enters(&other, &path, &open).unwrap_err().kind(), Kind::Refused);
        assert_eq!(came(), before);
    }
    enters(&other, &path_of(Some(&ben)), &by(8)).unwrap();
    assert_eq!(enters(&other, &path_of(Some(&ada)), &open).unwrap_err().kind(), Kind::Refused);
}
