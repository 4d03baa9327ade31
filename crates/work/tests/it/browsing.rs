//! Looking through a ledger: what is told, tried, made and asked on the way.

use std::fs;
use std::time::Duration;

use cledger_work::browse::{Browser, Change, Findings, News, Outcome, Rows, Say, Wish};
use cledger_work::matrix::ToTabulate;
use cledger_work::shown::Tone;
use zeroize::Zeroizing;

use crate::workplaces::Place;

/// Longer than anything takes that does not hang.
const LONGEST: Duration = Duration::from_secs(60);

const DESK: (&str, &str) = (
    "units/desk.toml",
    "[variables.hold]\ntype = \"duration\"\ndefault = \"5m\"\n[variables.region]\n[credentials.gate]\nform = \"token\"\n\
     [variables.base]\ndefault = \"http://${region}/v1\"\n[[output]]\npath = \"desk.env\"\nformat = \"dotenv\"\n",
);
const DEV: (&str, &str) = ("stages/dev.toml", "[units.desk]\nregion = \"quay\"\n");

fn browser(place: &Place) -> Browser {
    Browser::start(&place.at, ToTabulate::default(), None)
}

/// The first news that this finds something in; what comes before it is passed over.
fn until<T>(browser: &Browser, mut wanted: impl FnMut(News) -> Option<T>) -> T {
    loop {
        let news = browser.wait(LONGEST).unwrap();
        if let Some(found) = wanted(news) {
            return found;
        }
    }
}

fn rows(browser: &Browser) -> Rows {
    until(browser, |news| match news {
        News::Rows(rows) => Some(*rows),
        _ => None,
    })
}

fn findings(browser: &Browser) -> Findings {
    until(browser, |news| match news {
        News::Findings(findings) => Some(*findings),
        _ => None,
    })
}

fn outcome(browser: &Browser) -> Outcome {
    until(browser, |news| match news {
        News::Change(outcome) => Some(*outcome),
        News::Refused(wish, trouble) => unreachable!("{}: {trouble}", wish.words()),
        _ => None,
    })
}

fn refusal(browser: &Browser) -> String {
    until(browser, |news| match news {
        News::Refused(wish, trouble) => Some(format!("{}: {trouble}", wish.words())),
        _ => None,
    })
}

fn text(lines: &[(String, Tone)]) -> String {
    lines.iter().map(|(line, _)| line.as_str()).collect::<Vec<_>>().join("\n")
}

fn change(address: &str, say: Say) -> Change {
    Change { address: address.to_owned(), say, why: None }
}

#[test]
fn what_is_missing_and_wrong_is_told_beside_the_values() {
    let place = Place::new(&[DESK, DEV, ("units/boat.toml", "[variables.x\n")]);
    let browser = browser(&place);
    let notice = until(&browser, |news| match news {
        News::Notice(text) => Some(text),
        _ => None,
    });
    assert!(notice.contains("units/boat.toml"), "{notice}");
    let rows = rows(&browser);
    let names: Vec<&str> = rows.lines.iter().map(|line| line.entry.as_str()).collect();
    let region = names.iter().position(|name| *name == "region").unwrap();
    assert_eq!(rows.address(region, 1).as_deref(), Some("desk/region@test"));
    assert_eq!((rows.lacks[region], rows.differs[region]), (true, true));
    let findings = findings(&browser);
    let said = text(&findings.at("desk", "region", "test"));
    assert!(said.starts_with("error missing-value: "), "{said}");
    assert!(findings.is_any_at("desk", "region", "test") && !findings.is_any_at("desk", "region", "dev"));
    browser.wish(Wish::Detail("desk/base@dev".to_owned()));
    let detail = until(&browser, |news| match news {
        News::Detail(detail) => Some(detail),
        _ => None,
    });
    assert_eq!(detail.written.as_deref(), Some("http://${region}/v1"), "the text, and not what it comes to");
    let of = |title: &str| {
        let block = detail.blocks.iter().find(|block| block.title.starts_with(title)).unwrap();
        block.lines.iter().map(|(_, text, _)| text.as_str()).collect::<Vec<_>>()
    };
    assert_eq!(of("value")[0], "http://quay/v1");
    assert_eq!(of("refers to"), ["region: quay"]);
    assert_eq!(of("ends up as"), ["BASE in desk.env"]);
    assert_eq!(of("what depends on")[0], "desk/base@dev");
    browser.wish(Wish::Detail("boat/x@dev".to_owned()));
    assert!(refusal(&browser).starts_with("show boat/x@dev: "));
}

#[test]
fn a_change_is_made_as_it_was_shown_or_not_at_all() {
    let place = Place::new(&[DESK, DEV]);
    let browser = browser(&place);
    browser.wish(Wish::Make);
    assert_eq!(refusal(&browser), "make the change: no change was tried before");
    browser.wish(Wish::Try(change("desk/region@dev", Say::Text("pier".to_owned()))));
    let Outcome::Tried(tried) = outcome(&browser) else { unreachable!("only tried") };
    assert!(text(&tried).contains("desk/base@dev: http://quay/v1 becomes http://pier/v1"), "{tried:?}");
    assert_eq!(place.read("stages/dev.toml"), DEV.1, "trying writes nothing");
    // Somebody else is faster.
    place.write("stages/dev.toml", "[units.desk]\nregion = \"dock\"\n");
    browser.wish(Wish::Make);
    let Outcome::Otherwise(otherwise) = outcome(&browser) else { unreachable!("not as shown") };
    assert!(text(&otherwise).contains("http://dock/v1 becomes http://pier/v1"), "{otherwise:?}");
    assert_eq!(place.read("stages/dev.toml"), "[units.desk]\nregion = \"dock\"\n");
    browser.wish(Wish::Make);
    assert!(matches!(outcome(&browser), Outcome::Made { .. }));
    assert_eq!(place.read("stages/dev.toml"), "[units.desk]\nregion = \"pier\"\n");
    let cells = &rows(&browser).lines.iter().find(|line| line.entry == "region").unwrap().cells.clone();
    assert_eq!(cells[0].text, "pier", "and is read anew");
    for say in [Say::Absent, Say::Nothing] {
        browser.wish(Wish::Try(change("desk/region@dev", say.clone())));
        assert!(matches!(outcome(&browser), Outcome::Tried(_)));
        browser.wish(Wish::Make);
        assert!(matches!(outcome(&browser), Outcome::Made { .. }));
        let said = fs::read_to_string(place.path("stages/dev.toml")).unwrap_or_default();
        assert_eq!(said.contains("region = { absent = true }"), say == Say::Absent, "{said}");
        assert_eq!(said.contains("region"), say == Say::Absent, "{said}");
    }
    browser.wish(Wish::Try(change("desk/hold@dev", Say::Text("soon".to_owned()))));
    assert!(refusal(&browser).starts_with("set desk/hold@dev: "));
}

#[test]
fn whoever_looks_is_asked_for_production_stages_and_secrets() {
    let place = Place::new(&[DESK, DEV]);
    let browser = browser(&place);
    let answered = |browser: &Browser, answer: &str| {
        let question = until(browser, |news| match news {
            News::Question(question) => Some(question),
            News::Change(_) => unreachable!("nobody was asked"),
            _ => None,
        });
        let asked = (question.what.clone(), question.hidden, question.twice);
        question.answer(Some(Zeroizing::new(answer.to_owned())));
        asked
    };
    browser.wish(Wish::Try(change("desk/region@prod", Say::Text("pier".to_owned()))));
    assert!(matches!(outcome(&browser), Outcome::Tried(_)));
    browser.wish(Wish::Make);
    let (what, ..) = answered(&browser, "test");
    assert_eq!(what, "This changes prod, a production stage. Type its name to go on");
    assert_eq!(refusal(&browser), "make the change: this changes prod, a production stage");
    browser.wish(Wish::Try(change("desk/region@prod", Say::Text("pier".to_owned()))));
    browser.wish(Wish::Make);
    assert!(matches!(outcome(&browser), Outcome::Tried(_)));
    answered(&browser, "prod");
    assert!(matches!(outcome(&browser), Outcome::Made { .. }));
    assert!(place.read("stages/prod.toml").contains("region = \"pier\""));
    // A secret goes where nobody sees it, and only where there is a key for it.
    browser.wish(Wish::Try(change("desk/gate.token@dev", Say::Secret)));
    assert_eq!(answered(&browser, "plover-9"), ("desk/gate.token@dev".to_owned(), true, true));
    let refused = refusal(&browser);
    assert!(refused.starts_with("set desk/gate.token@dev: ") && !refused.contains("plover-9"), "{refused}");
    assert_eq!(place.read("stages/dev.toml"), DEV.1);
}

#[test]
fn outlets_are_looked_at_on_demand() {
    let place = Place::new(&[
        DESK,
        ("stages/dev.toml", "[units.desk]\nregion = \"quay\"\ngate.token = { from = \"env:NO_SUCH\" }\n"),
    ]);
    fs::create_dir_all(place.path("../live/dev/desk")).unwrap();
    fs::write(place.path("../live/dev/desk/desk.env"), "HOLD=9m\nREGION=quay\nBASE=http://quay/v1\n")
        .unwrap();
    let browser = browser(&place);
    browser.wish(Wish::Look("desk@dev".to_owned()));
    let looked = until(&browser, |news| match news {
        News::Looked(looked) => Some(looked),
        _ => None,
    });
    let told = &looked.units["desk@dev"];
    let hold = told.iter().find(|told| told.address.as_deref() == Some("desk/hold@dev")).unwrap();
    assert_eq!(hold.sides, ["5m", "9m"]);
    browser.wish(Wish::Look("desk@nowhere".to_owned()));
    assert!(refusal(&browser).starts_with("look at the outlets of desk@nowhere: "));
}

#[test]
fn what_is_found_where_a_value_is_written_is_told_where_it_counts() {
    let place = Place::new(&[
        ("shared.toml", "[credentials.gate]\nform = \"token\"\n[variables.level]\ntype = \"integer\"\n"),
        ("units/desk.toml", "uses = [\"gate\", \"level\"]\n[instances.kiosk]\n"),
        ("units/lamp.toml", "[variables.level]\ndefault = \"1\"\n"),
        ("stages/dev.toml", "[shared]\nlevel = \"high\"\ngate.token = \"plover\"\n"),
    ]);
    let browser = browser(&place);
    let findings = findings(&browser);
    let at = |owner: &str, entry: &str, stage: &str| {
        let found = findings.at(owner, entry, stage);
        found.iter().map(|(text, _)| text.split(':').next().unwrap().to_owned()).collect::<Vec<_>>()
    };
    for owner in ["desk", "desk+kiosk"] {
        assert_eq!(at(owner, "level", "dev"), ["error wrong-type at shared/level@dev"]);
        assert!(at(owner, "gate.token", "dev")[0].contains("plain-secret at shared/gate.token@dev"));
    }
    // Another unit has an entry of the same name, and nothing to do with it.
    assert_eq!(at("lamp", "level", "dev"), Vec::<String>::new());
}

#[test]
fn what_is_made_stays_made_whatever_comes_after_it() {
    let place = Place::new(&[DESK, DEV]);
    let browser = browser(&place);
    browser.wish(Wish::Try(change("desk/region@dev=quay", Say::Absent)));
    assert!(refusal(&browser).contains("is no address"));
    browser.wish(Wish::Try(change("desk/region@prod", Say::Text("pier".to_owned()))));
    assert!(matches!(outcome(&browser), Outcome::Tried(_)));
    browser.wish(Wish::Make);
    let question = until(&browser, |news| match news {
        News::Question(question) => Some(question),
        _ => None,
    });
    // Somebody breaks another file while the name is typed.
    place.write("ledger.toml", "format = \n");
    question.answer(Some(Zeroizing::new("prod".to_owned())));
    assert!(matches!(outcome(&browser), Outcome::Made { .. }));
    assert!(place.read("stages/prod.toml").contains("region = \"pier\""));
    assert!(refusal(&browser).starts_with("read the ledger: "), "and only that is refused");
}
