//! Deliveries, withdrawals, chores and rotations that end before one of their steps, each in turn: whoever comes
//! next ends in the same state as if nothing had happened.

use std::collections::BTreeMap;
use std::fs;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use cledger_core::name::Name;
use cledger_standin::{Options, StandIn};
use cledger_work::asking::Stepping;
use cledger_work::deliver::withdraw::{ToWithdraw, withdraw};
use cledger_work::deliver::{ToDeliver, chores, deliver, history};
use cledger_work::keys::{KeyChange, ToMake, identity, make, protect, rotate};
use cledger_work::{Kind, Trouble};
use tempfile::TempDir;

use crate::workplaces::{Answers, Place, address, asked, because};

const DESK: &str = "[variables.hold]\ndefault = \"5m\"\n[credentials.gate]\nform = \"token\"\n\
     [[output]]\npath = \"desk.env\"\nformat = \"dotenv\"\n[[output]]\npath = \"secret/gate.json\"\nformat = \"json\"\n\
     [[chore]]\ntext = \"Tell them\"\nwhen = \"each-delivery\"\n";

/// Ends the work before a step, counted from 1; never for 0.
#[derive(Clone, Default)]
struct Interruption(Arc<AtomicUsize>);

impl Stepping for Interruption {
    fn before(&self, step: &'static str) -> Result<(), Trouble> {
        let left = self.0.load(Ordering::SeqCst);
        if left > 0 {
            self.0.store(left - 1, Ordering::SeqCst);
        }
        if left == 1 { Err(Trouble::outside(format!("interrupted before: {step}"))) } else { Ok(()) }
    }
}

/// A place with a key, two files and a document, where work may be interrupted.
struct Quay {
    place: Place,
    boards: TempDir,
    _standin: StandIn,
    interruption: Interruption,
}

impl Quay {
    fn new() -> Self {
        let boards = TempDir::new().unwrap();
        let folder = boards.path().to_owned();
        let standin = StandIn::start(Options { folder, ..Options::default() }).unwrap();
        let interruption = Interruption::default();
        let place = Place::with(&[("units/desk.toml", DESK)], Answers::default(), interruption.clone());
        let outlet = format!(
            "[[outlet]]\nname = \"boards\"\nkind = \"http\"\nstages = [\"*\"]\nurl = \"{}\"\nretries = 0\n",
            standin.url()
        );
        place.write("ledger.toml", &(place.read("ledger.toml") + &outlet));
        identity(&place.at).unwrap();
        let change = KeyChange { stages: vec!["@dev".to_owned()], consent: because(&[]), write: true };
        let name = Some(Name::parse("ada").unwrap());
        make(&place.change(), &ToMake { change, name, readers: Vec::new(), passphrase: None }).unwrap();
        place.write("stages/dev.toml", "[units.desk]\ngate.token = \"plover-17\"\n");
        let change = KeyChange { stages: vec!["@dev".to_owned()], consent: because(&[]), write: true };
        protect(&place.change(), &change).unwrap();
        Self { place, boards, _standin: standin, interruption }
    }

    fn deliver(&self) -> Result<(), Trouble> {
        let delivered = deliver(&self.place.open(), &asked(&["desk"], "dev"))?;
        assert_eq!(delivered.kind(), None);
        Ok(())
    }

    fn withdraw(&self) -> Result<(), Trouble> {
        let asked = ToWithdraw { consent: because(&[]), write: true, ..ToWithdraw::default() };
        withdraw(&self.place.open(), &address("desk@dev"), &asked).map(drop)
    }

    fn chore(&self) -> Result<(), Trouble> {
        chores::done(&self.place.open(), &address("desk@dev"), "Tell").map(drop)
    }

    fn rotate(&self) -> Result<(), Trouble> {
        let change = KeyChange { stages: vec!["@dev".to_owned()], consent: because(&[]), write: true };
        rotate(&self.place.change(), &change).map(drop)
    }

    /// What lies at the outlets.
    fn there(&self) -> BTreeMap<String, String> {
        let files = ["desk.env", "secret/gate.json"].map(|path| format!("../live/dev/desk/{path}"));
        let files = files.map(|path| (path.clone(), fs::read_to_string(self.place.path(&path))));
        let document = ("document".to_owned(), fs::read_to_string(self.boards.path().join("desk.json")));
        let all = files.into_iter().chain([document]);
        all.filter_map(|(path, text)| Some((path, text.ok()?))).collect()
    }

    /// Nothing is open, the chain holds, and all of its secrets open.
    fn is_in_order(&self) {
        let opened = self.place.open();
        let verified = history::verified(&opened).unwrap();
        assert_eq!((verified.broken, verified.not_readable), (Vec::<String>::new(), 0));
        assert!(history::history(&opened, None, 50).unwrap().opened.is_empty());
    }
}

/// Something that is done, and may be interrupted.
type Doing = fn(&Quay) -> Result<(), Trouble>;

#[test]
fn whatever_is_interrupted_before_any_step_is_done_by_whoever_comes_next() {
    for (name, doing) in [
        ("deliver", Quay::deliver as Doing),
        ("withdraw", Quay::withdraw),
        ("chore", Quay::chore),
        ("rotate", Quay::rotate),
    ] {
        let prepared = || {
            let quay = Quay::new();
            quay.deliver().unwrap();
            let path = "units/desk.toml";
            quay.place.write(path, &quay.place.read(path).replace("\"5m\"", "\"6m\""));
            quay
        };
        let expected = {
            let quay = prepared();
            doing(&quay).unwrap();
            quay.there()
        };
        let mut steps = 0;
        for step in 1.. {
            let quay = prepared();
            quay.interruption.0.store(step, Ordering::SeqCst);
            let ended = doing(&quay);
            quay.interruption.0.store(0, Ordering::SeqCst);
            let Err(trouble) = ended else { break };
            assert!(trouble.to_string().starts_with("interrupted before: "), "{name}: {trouble}");
            steps += 1;
            doing(&quay).unwrap_or_else(|error| panic!("{name}, {trouble}: {error}"));
            assert_eq!(quay.there(), expected, "{name}, {trouble}");
            quay.is_in_order();
            // What was interrupted does not stand in the way of anything else either.
            quay.rotate().unwrap();
            quay.is_in_order();
        }
        assert!(steps >= if name == "chore" { 1 } else { 3 }, "{name}: {steps}");
    }
}

#[test]
fn what_is_left_open_is_never_brought_over_what_came_later() {
    let quay = Quay::new();
    quay.deliver().unwrap();
    let path = "units/desk.toml";
    quay.place.write(path, &quay.place.read(path).replace("\"5m\"", "\"6m\""));
    // Interrupted when all of it was brought, and nothing recorded.
    quay.interruption.0.store(4, Ordering::SeqCst);
    let trouble = quay.deliver().unwrap_err();
    quay.interruption.0.store(0, Ordering::SeqCst);
    assert_eq!(trouble.to_string(), "interrupted before: record");
    // Neither a withdrawal nor a rotation passes it over; and somebody's edit since is not overwritten.
    assert_eq!(quay.withdraw().unwrap_err().kind(), Kind::Refused);
    assert_eq!(quay.rotate().unwrap_err().kind(), Kind::Refused);
    let env = "../live/dev/desk/desk.env";
    quay.place.write(env, &quay.place.read(env).replace("6m", "9m"));
    let refused = deliver(&quay.place.open(), &asked(&["desk"], "dev")).unwrap_err();
    assert!(
        refused.to_string().contains("edited by hand") && quay.place.read(env).contains("9m"),
        "{refused}"
    );
    let leaving = cledger_work::deliver::Edits { leave: vec!["HOLD".to_owned()], overwrite: false };
    deliver(&quay.place.open(), &ToDeliver { edits: leaving, ..asked(&["desk"], "dev") }).unwrap();
    assert!(quay.place.read(env).contains("9m"));
    quay.is_in_order();
}
