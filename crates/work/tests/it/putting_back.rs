//! Captures brought back to the outlets: all of what they had, or a part, over nothing that is somebody else's.

use std::path::PathBuf;

use cledger_work::asking::Nobody;
use cledger_work::capture::SecretsAs;
use cledger_work::deliver::{Edits, history};
use cledger_work::outlet::put_captured::{AllPutBack, ToPutBack, put_captured};
use cledger_work::{Kind, Trouble};

use crate::database::{self, Server};
use crate::quay::{Quay, captured, delivers};
use crate::workplaces::{Place, because, whole};

fn puts(place: &Place, path: &std::path::Path, asked: ToPutBack) -> Result<AllPutBack, Trouble> {
    let asked = ToPutBack { consent: because(&[]), write: true, ..asked };
    put_captured(&place.open(), &whole("@dev"), path, &asked)
}

/// A quay of which a capture was taken, and to which something newer was delivered since.
fn moved_on(server: Option<&Server>) -> (Quay, PathBuf) {
    let quay = Quay::new(server, Nobody);
    quay.says("5m");
    delivers(&quay.place).unwrap();
    let path = captured(&quay.place, SecretsAs::Encrypted);
    quay.says("6m");
    delivers(&quay.place).unwrap();
    (quay, path)
}

/// What files, documents and rows had comes back as it was, is recorded, and counts as brought: the next delivery goes over it.
fn all_comes_back(server: Option<&Server>) {
    let then = {
        let mut quay = Quay::new(server, Nobody);
        quay.says("5m");
        delivers(&quay.place).unwrap();
        quay.there()
    };
    let (mut quay, path) = moved_on(server);
    let now = quay.there();
    assert!(puts(&quay.place, &path, ToPutBack::default()).unwrap().kind().is_none());
    assert_eq!(quay.there(), then);
    let last = history::history(&quay.place.open(), &[], 1).unwrap().records.pop().unwrap().meta;
    assert_eq!((last.number, last.why.as_str()), (3, "trial"));
    quay.is_in_order();
    // Once more there is nothing to do.
    puts(&quay.place, &path, ToPutBack::default()).unwrap();
    assert_eq!(history::history(&quay.place.open(), &[], 9).unwrap().records.len(), 3);
    delivers(&quay.place).unwrap();
    assert_eq!(quay.there(), now);
    quay.is_in_order();
}

#[test]
fn what_was_captured_comes_back_and_the_next_delivery_goes_over_it() {
    all_comes_back(None);
    if let Some(server) = database::postgres(None) {
        all_comes_back(Some(&server));
    }
}

#[test]
fn a_part_comes_back_and_the_rest_stays_as_it_is_there() {
    let fields = |texts: &[&str]| texts.iter().map(|&text| text.to_owned()).collect::<Vec<_>>();
    let env = "../live/dev/desk/desk.env";
    for (asked, hold) in [
        (ToPutBack { only: fields(&["hold"]), ..ToPutBack::default() }, "5m"),
        (ToPutBack { except: fields(&["hold"]), ..ToPutBack::default() }, "6m"),
        (ToPutBack { only: fields(&["gate"]), ..ToPutBack::default() }, "6m"),
    ] {
        let (quay, path) = moved_on(None);
        puts(&quay.place, &path, asked.clone()).unwrap();
        let text = quay.place.read(env);
        assert!(text.contains(hold) && text.contains("plover-dev"), "{asked:?}: {text}");
    }
    let (quay, path) = moved_on(None);
    let nothing = ToPutBack { only: fields(&["nothing"]), ..ToPutBack::default() };
    assert_eq!(puts(&quay.place, &path, nothing).unwrap_err().kind(), Kind::Usage);
}

#[test]
fn nothing_comes_back_over_what_is_not_ours_or_is_not_known() {
    let (quay, path) = moved_on(None);
    let env = "../live/dev/desk/desk.env";
    let edited = quay.place.read(env).replace("6m", "9m");
    quay.place.write(env, &edited);
    assert_eq!(puts(&quay.place, &path, ToPutBack::default()).unwrap_err().kind(), Kind::Refused);
    assert_eq!(quay.place.read(env), edited);
    let overwriting =
        ToPutBack { edits: Edits { overwrite: true, ..Edits::default() }, ..ToPutBack::default() };
    puts(&quay.place, &path, overwriting).unwrap();
    assert!(quay.place.read(env).contains("5m"));
    // Secrets that are not in the capture cannot come back, and what has them stays whole.
    let (mut quay, _) = moved_on(None);
    let path = captured(&quay.place, SecretsAs::LeftOut);
    quay.says("7m");
    delivers(&quay.place).unwrap();
    let there = quay.there();
    assert_eq!(puts(&quay.place, &path, ToPutBack::default()).unwrap_err().kind(), Kind::Refused);
    assert_eq!(quay.there(), there);
    // A capture of another stage is no state of this one.
    let elsewhere = put_captured(&quay.place.open(), &whole("@test"), &path, &ToPutBack::default());
    assert_eq!(elsewhere.unwrap_err().kind(), Kind::Refused);
}
