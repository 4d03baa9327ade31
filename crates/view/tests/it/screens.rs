//! Every screen, as it is drawn, and what keys do on it.

use std::fs;

use cledger_view::Look;
use cledger_work::browse::{News, Question};
use crossterm::event::KeyCode;
use ratatui::style::{Color, Modifier};

use crate::looker::Looker;

const PUMP: (&str, &str) = (
    "units/pump.toml",
    "[variables.level]\ntype = \"integer\"\ndefault = 3\n[variables.site]\n[variables.motd]\nrequired = false\n\
     [credentials.gate]\nform = \"token\"\n[variables.url]\ndefault = \"http://${site}/v1\"\n\
     [[output]]\npath = \"pump.env\"\nformat = \"dotenv\"\n",
);
const LOCK: (&str, &str) = ("units/lock.toml", "[variables.depth]\ntype = \"integer\"\ndefault = 2\n");
const DEV: (&str, &str) = (
    "stages/dev.toml",
    "[units.pump]\nsite = \"pump.dev.example\"\ngate.token = { from = \"env:NONE\" }\n\
     motd = \"\\u001b[31mred\\u202e 水門\"\n",
);
const TEST: (&str, &str) = (
    "stages/test.toml",
    "[units.pump]\nsite = \"pump.test.example\"\ngate.token = { from = \"env:NONE\" }\nlevel = 9\n",
);

fn looker(width: u16, height: u16) -> Looker {
    let mut looker = Looker::at(&[PUMP, LOCK, DEV, TEST], (width, height), Look { colors: true });
    // All is known: of the ledger, and of the first field.
    looker.until("lock/depth@dev");
    looker.until("value\n");
    looker
}

/// Goes to the field in the stage with this address, of which all is known then.
fn go(looker: &mut Looker, downs: usize, rights: usize, known: &str) -> String {
    looker.types(&"j".repeat(downs));
    looker.types(&"l".repeat(rights));
    looker.until(known)
}

#[test]
fn fields_and_all_about_one() {
    let mut looker = looker(80, 24);
    let shown = go(&mut looker, 4, 1, "pump.test.example, wins");
    let expected = "\
Locks and Pumps                  3 errors, 0 warnings, read 2026-11-28 10:00 UTC
6 fields
              dev                           test                       north
lock
  depth       2  everywhere, default
pump
  gate.token  (secret)                      (secret)                   missing !
  level       3                          d  9                       ≠  3       d
  motd        \\u{1b}[31mred\\u{202e} 水門 ≠  not set                    not set
  site        pump.dev.example              pump.test.example          missing !
  url         http://pump.dev.example/v1 d  http://pump.test…       d  missing !
 pump/site@test ────────────────────────────────────────────────────────────────
value
  pump.test.example
  stages/test.toml:2
candidates, weakest first
  stage test, for pump: stages/test.toml:2:8
    pump.test.example, wins
ends up as
  SITE in pump.env
what depends on stages/test.toml:2:8
2 more lines: J
d default, ≠ not as in most stages, ! finding
? keys  / filter  m missing  d differing  s set  o outlets  r read  q leave
";
    assert_eq!(shown, expected, "{shown}");
    looker.types("JJJ");
    assert!(looker.shown().contains("pump/url@test through pump/site@test\n"));
    // What is missing says so in red, what is chosen stands out without a colour.
    looker.types("l");
    let buffer = looker.drawn();
    let cells = || buffer.content.iter();
    assert!(cells().any(|cell| cell.fg == Color::Indexed(1)));
    assert!(cells().any(|cell| cell.modifier.contains(Modifier::REVERSED)));
    // Beside the fields, where there is room.
    looker.resize(140, 12);
    let shown = looker.until("findings");
    assert!(shown.contains("│findings\n"), "{shown}");
    looker.types("p");
    assert!(!looker.shown().contains("findings\n"));
    looker.resize(29, 20);
    assert!(looker.shown().contains("Too small a window"));
}

#[test]
fn nothing_is_wider_than_the_window_or_has_colors_that_nobody_wants() {
    let long = format!("[units.pump]\nsite = \"{}\"\n", "水/".repeat(2500));
    let files = [PUMP, ("stages/dev.toml", long.as_str())];
    let mut looker = Looker::at(&files, (60, 20), Look { colors: false });
    looker.until("value\n");
    for (width, height) in [(30, 8), (60, 20), (80, 24), (119, 30), (120, 30), (200, 50)] {
        looker.resize(width, height);
        let shown = looker.shown();
        for line in shown.lines() {
            assert!(unicode_width::UnicodeWidthStr::width(line) <= usize::from(width), "{line}");
        }
        assert!(width < 60 || shown.contains("dev"), "{shown}");
        assert!(looker.drawn().content.iter().all(|cell| cell.fg == Color::Reset));
    }
    // A stage that does not fit is told, and reached.
    looker.resize(50, 20);
    assert!(looker.shown().contains("stages 1 to 2 of 3"));
    looker.types("ll");
    assert!(looker.shown().contains("stages 2 to 3 of 3"));
}

#[test]
fn filters_leave_what_they_say() {
    let mut looker = looker(80, 24);
    looker.types("/");
    assert!(looker.shown().contains("show fields with"));
    looker.types("EXAMPLE");
    let shown = looker.shown();
    assert!(shown.contains("2 of 6 fields: with `EXAMPLE`"), "{shown}");
    assert!(shown.contains("  site ") && shown.contains("  url ") && !shown.contains("  level "), "{shown}");
    looker.key(KeyCode::Enter);
    looker.types("m");
    assert!(looker.shown().contains("2 of 6 fields: with `EXAMPLE`, missing somewhere"));
    looker.types("/x");
    let shown = looker.shown();
    assert!(shown.contains("0 of 6 fields") && shown.contains("No such field."), "{shown}");
    looker.key(KeyCode::Esc);
    looker.types("md");
    let shown = looker.shown();
    assert!(shown.contains("5 of 6 fields: differing") && !shown.contains("depth"), "{shown}");
    // What was looked at before is looked at again.
    looker.types("G");
    looker.until("pump/url@dev");
    looker.types("d");
    assert!(looker.shown().contains("pump/url@dev"));
    for (key, address) in [('g', "lock/depth@dev"), ('G', "pump/url@dev"), ('k', "pump/site@dev")] {
        looker.types(&key.to_string());
        assert!(looker.shown().contains(address), "{address}");
    }
    for (key, address) in [(KeyCode::PageUp, "lock/depth@dev"), (KeyCode::PageDown, "pump/url@dev")] {
        looker.key(key);
        assert!(looker.shown().contains(address), "{address}");
    }
}

#[test]
fn a_value_is_set_from_the_form() {
    let mut looker = looker(80, 24);
    go(&mut looker, 4, 0, "pump.dev.example, wins");
    looker.types("s");
    let shown = looker.shown();
    assert!(shown.contains("│address  pump/site@dev "), "{shown}");
    assert!(shown.contains("│It is written now in stage dev, for pump: stages/dev.toml:2:8 "), "{shown}");
    // The value is ready to be changed, and a bad address is told in the form.
    looker.types("!");
    looker.key(KeyCode::BackTab);
    looker.key(KeyCode::BackTab);
    looker.types("x");
    looker.key(KeyCode::Enter);
    looker.until("there is no stage `devx`");
    looker.key(KeyCode::Backspace);
    looker.key(KeyCode::Enter);
    let shown = looker.until("This would change.");
    for line in [
        "│  from  pump.dev.example ",
        "│  to    pump.dev.example! ",
        "│2 effective values change: ",
        "│  pump/url@dev: http://pump.dev.example/v1 becomes ",
    ] {
        assert!(shown.contains(line), "{line}\n{shown}");
    }
    assert_eq!(fs::read_to_string(looker.path("stages/dev.toml")).unwrap(), DEV.1);
    looker.key(KeyCode::Enter);
    looker.until("Made. Esc goes back.");
    assert!(
        fs::read_to_string(looker.path("stages/dev.toml")).unwrap().contains("site = \"pump.dev.example!\"")
    );
    assert_eq!(
        looker.screen.made(),
        ["pump/site@dev: pump.dev.example became pump.dev.example!, in stages/dev.toml"]
    );
    looker.key(KeyCode::Esc);
    looker.until("pump.dev.example!, wins");
    // That there is none, and that nothing is said.
    for (right, said) in [(1, "absent"), (2, "not set")] {
        looker.types("s");
        looker.key(KeyCode::Up);
        (0..right).for_each(|_| looker.key(KeyCode::Right));
        looker.key(KeyCode::Enter);
        let shown = looker.until("This would change.");
        assert!(shown.contains(&format!("│  to    {said} ")), "{shown}");
        looker.key(KeyCode::Esc);
    }
    assert_eq!(looker.screen.made().len(), 1);
}

#[test]
fn questions_are_asked_on_the_screen_and_secrets_are_not_shown() {
    let mut looker = looker(80, 24);
    go(&mut looker, 4, 2, "Nothing is set for it");
    looker.types("spier");
    looker.key(KeyCode::Enter);
    looker.until("This would change.");
    looker.key(KeyCode::Enter);
    looker.until("This changes north, a production stage.");
    // While it is asked, nothing else is done.
    looker.types("nq");
    assert!(looker.shown().contains("│nq"), "what is typed is the answer");
    looker.key(KeyCode::Esc);
    looker.until("Not made.");
    assert!(!looker.path("stages/north.toml").exists());
    looker.key(KeyCode::Esc);
    looker.types("gj");
    looker.until("pump/gate.token@north");
    looker.until("Nothing is set for it");
    looker.types("s");
    assert!(looker.shown().contains("a secret, which is asked for and never shown"));
    looker.key(KeyCode::Enter);
    let shown = looker.until("pump/gate.token@north:");
    assert!(shown.contains("(hidden)"), "{shown}");
    looker.types("plover-9");
    looker.key(KeyCode::Enter);
    let shown = looker.until("once more:");
    assert!(!shown.contains("plover") && !format!("{:?}", looker.screen).contains("plover"));
    looker.types("plover-8");
    looker.key(KeyCode::Enter);
    looker.until("The two were not the same");
    looker.types("plover-9");
    looker.key(KeyCode::Enter);
    looker.until("once more:");
    looker.types("plover-9");
    looker.key(KeyCode::Enter);
    // There is no key here.
    let shown = looker.until("Cannot set pump/gate.token@north");
    assert!(!shown.contains("plover"), "{shown}");
}

#[test]
fn outlets_notices_and_keys() {
    let mut looker = looker(100, 30);
    let there = looker.folder.path().join("live/dev/pump");
    fs::create_dir_all(&there).unwrap();
    fs::write(there.join("pump.env"), "SITE=elsewhere\nLEVEL=3\n").unwrap();
    go(&mut looker, 4, 0, "pump.dev.example, wins");
    looker.types("o");
    let shown = looker.until("pump@dev: 1 of 1 drifted.");
    assert!(shown.contains("files: pump.env SITE: differs\n"), "{shown}");
    assert!(shown.contains("in the ledger pump.dev.example, there elsewhere\n"), "{shown}");
    assert!(shown.contains("pump.dev.example           *"), "{shown}");
    // What outlets had was compared with what was read before.
    fs::write(looker.path("units/lock.toml"), "[variables.depth\n").unwrap();
    looker.types("r");
    let shown = looker.until("Passed over");
    assert!(shown.contains("units/lock.toml"), "{shown}");
    looker.until_so("at outlets", false);
    looker.types("n");
    assert!(looker.shown().contains("what was told, the last first"));
    looker.types("x?");
    let shown = looker.shown();
    assert!(shown.contains("keys and marks") && shown.contains("leave"), "{shown}");
    looker.resize(60, 12);
    assert!(!looker.shown().contains("otherwise at an outlet"));
    looker.types(&"j".repeat(30));
    assert!(looker.shown().contains("not as in most stages"), "{}", looker.shown());
    looker.types("x");
    assert!(!looker.screen.is_over());
    looker.types("q");
    assert!(looker.screen.is_over());
}

#[test]
fn questions_wait_for_each_other() {
    let mut looker = looker(80, 24);
    let (first, first_answer) = Question::new("Passphrase of the key of dev", true, false);
    let (second, second_answer) = Question::new("Passphrase of the key of test", true, false);
    looker.screen.news(News::Question(first));
    looker.screen.news(News::Question(second));
    assert!(looker.shown().contains("the key of dev:"));
    looker.types("tide");
    looker.key(KeyCode::Enter);
    assert!(looker.shown().contains("the key of test:"));
    looker.key(KeyCode::Esc);
    assert!(looker.shown().contains("6 fields") && !looker.shown().contains("Passphrase"));
    assert_eq!(first_answer.recv().unwrap().as_deref().map(String::as_str), Some("tide"));
    assert_eq!(second_answer.recv().unwrap(), None);
}

#[test]
fn why_nothing_is_known_of_a_field_is_told_of_that_field_alone() {
    let broken = ("stages/dev.toml", "[units.pump\n");
    let mut looker = Looker::at(&[PUMP, LOCK, broken, TEST], (80, 24), Look { colors: true });
    let shown = looker.until("not known");
    assert!(shown.contains("Cannot show lock/depth@dev"), "{shown}");
    looker.types("l/url");
    let shown = looker.until("pump/url@test");
    assert!(!shown.contains("lock/depth"), "{shown}");
    looker.until("http://pump.test.example/v1\n");
}
