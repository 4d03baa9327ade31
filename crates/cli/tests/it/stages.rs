//! A stage like another, and one that goes.

use snapbox::str;

use crate::test_ledger::{TestLedger, written};

fn ledger() -> TestLedger {
    let ledger = TestLedger::small();
    let manifest = "format = 1\nname = \"Small\"\ndefault_stage = \"dev\"\n\n[[stage]]\nname = \"dev\"\nclass = \"development\"\nlabels = { zone = \"dev-1\" }\nown = [\"*/region\"]\n\n[[stage.chore]]\ntext = \"sing\"\nwhen = \"first-delivery\"\n\n[[stage]]\nname = \"prod\"\nclass = \"production\"\nafter = [\"dev\"]\n";
    ledger.write("ledger.toml", manifest);
    ledger.write("units/gate.toml", "stages = [\"dev\"]\n[variables.word]\ndefault = \"x\"\n");
    let text = "[shared.db]\nhost = \"db.dev.example\" # dev\nuser = \"dev\"\npassword = \"low-tide-dev\"\n\n[units.desk]\nregion = \"north\"\nhold = { value = \"dev-1m\", why = \"dev wants it\" }\n";
    ledger.write("stages/dev.toml", text.replace("dev-1m", "1m"));
    ledger
}

#[test]
fn a_copy_has_what_the_other_has_but_its_secrets() {
    let ledger = ledger();
    let before = ledger.read("ledger.toml");
    let command = "add stage perf --like dev --copy --swap dev perf --before prod --class test";
    ledger
        .run(command)
        .code(0)
        .stdout_eq(str![[r#"
would add: stage perf like dev, in ledger.toml and stages/perf.toml.
It takes over 4 settings.

1 field needs a value now:
  desk/db.password@perf
Nothing is written yet. To do it, add --write.

"#]])
        .stderr_eq(str![[r#"
Not in perf, by their `stages`: gate (["dev"]). `cledger change UNIT --stages …` lets them in.
Not taken over, since they are secrets: shared/db.password (--with-secrets takes them over).

"#]]);
    assert_eq!(ledger.read("ledger.toml"), before, "it was only shown");
    ledger.run(&format!("{command} --write")).code(0);
    snapbox::assert_data_eq!(
        ledger.read("ledger.toml"),
        str![[r#"
format = 1
name = "Small"
default_stage = "dev"

[[stage]]
name = "dev"
class = "development"
labels = { zone = "dev-1" }
own = ["*/region"]

[[stage.chore]]
text = "sing"
when = "first-delivery"

[[stage]]
name = "perf"
class = "test"
own = ["*/region"]
labels = { zone = "perf-1" }
chore = [{ text = "sing", when = "first-delivery" }]

[[stage]]
name = "prod"
class = "production"
after = ["dev"]

"#]]
    );
    snapbox::assert_data_eq!(
        ledger.read("stages/perf.toml"),
        str![[r#"
[shared.db]
host = "db.perf.example" # dev
user = "perf"

[units.desk]
region = "north"
hold = { value = "1m", why = "dev wants it" }

"#]]
    );
    // Without a trace it goes again.
    ledger.run("remove @perf --write").code(0);
    assert_eq!(ledger.read("ledger.toml"), before);
    assert!(!ledger.path("stages/perf.toml").exists());
}

#[test]
fn secrets_are_made_or_taken_over_under_a_key_of_their_own_and_the_rest_is_asked_for() {
    let ledger = ledger().with_keys(&["dev"]);
    ledger.write("stages/dev.toml", ledger.read("stages/dev.toml").replace("region = \"north\"\n", ""));
    let made = "add stage perf --like dev --copy --generate --answers ../form.toml --write";
    let (out, err) = written(&ledger.run(made).code(0));
    assert!(
        out.contains("Made for it: shared/db.password@perf.") && out.contains("form.toml has a place"),
        "{out}"
    );
    assert!(err.contains("A key is made for perf, for those who read that of dev."), "{err}");
    let secret = |stage: &str| {
        written(&ledger.run(&format!("get shared/db.password@{stage} --unmask=always")).code(0)).0
    };
    assert_eq!(secret("dev"), "low-tide-dev\n");
    assert_eq!(secret("perf").trim().len(), 32);
    // The form is that of `fill`, too.
    let form = ledger.read("../form.toml");
    ledger.write(
        "../form.toml",
        form.replace("\"desk/region@perf\" = \"\"", "\"desk/region@perf\" = \"west\""),
    );
    let (_, err) = written(&ledger.run("fill @perf --answers ../form.toml --write").code(2));
    assert!(err.contains("it must be"), "{err}");
    ledger.write(
        "../form.toml",
        form.replace("\"desk/region@perf\" = \"\"", "\"desk/region@perf\" = \"south\""),
    );
    ledger.run("fill @perf --answers ../form.toml --write").code(0);
    assert_eq!(written(&ledger.run("get desk/region@perf").code(0)).0, "south\n");
    ledger.run("add stage late --like dev --copy --with-secrets --write").code(0);
    assert_eq!(secret("late"), "low-tide-dev\n");
    assert_ne!(
        ledger.read("stages/late.toml"),
        ledger.read("stages/dev.toml"),
        "another key has another text"
    );
    // What a production stage keeps secret is not handed out unseen.
    ledger.run("add stage prod-b --like prod --copy --with-secrets --write").code(4);
    ledger.run("add stage prod-b --like prod --copy --with-secrets").code(4);
    ledger.run("add stage other --like nowhere --copy").code(2);
    ledger.run("add stage other --like dev --copy --swap dev").code(2);
}

#[test]
fn every_line_of_a_new_stage_can_be_uncommented_and_goes_when_it_is_set() {
    let ledger = TestLedger::demo();
    ledger.run("add stage qa --like test").code(0);
    let text = ledger.read("stages/qa.toml");
    let is_value =
        |line: &&str| line.starts_with("# ") && line.contains(" = ") && !line.contains("# Settings");
    let lines: Vec<&str> = text.lines().filter(is_value).collect();
    assert!(lines.len() > 40, "{text}");
    for line in &lines {
        ledger.write("stages/qa.toml", text.replacen(line, &line[2..], 1));
        let (_, err) = written(&ledger.run("list units").code(0));
        assert_eq!(err, "", "{line}");
    }
    let all = lines.iter().fold(text.clone(), |text, line| text.replacen(line, &line[2..], 1));
    ledger.write("stages/qa.toml", all);
    assert_eq!(written(&ledger.run("list units").code(0)).1, "");
    ledger.write("stages/qa.toml", &text);
    ledger.run("set shared/mail.host@qa=mail.qa.example ticket-desk/region@qa=none").code(0);
    let set = ledger.read("stages/qa.toml");
    assert_eq!(set.lines().filter(is_value).count(), lines.len() - 2, "{set}");
    ledger.run("unset shared/mail.host@qa ticket-desk/region@qa").code(0);
}

#[test]
fn a_stage_goes_with_its_chores_and_with_all_that_mentions_it_where_that_is_wanted() {
    let ledger = ledger().with_keys(&["dev"]);
    let manifest = ledger.read("ledger.toml")
        + "\n[[outlet]]\nname = \"live\"\nkind = \"directory\"\nstages = [\"dev\"]\npath = \"../live\"\n\n[[aligned]]\nstages = [\"dev\", \"prod\"]\n\n[[rule]]\nname = \"brief\"\nfields = \"*/*\"\nmax_length = 99\nstages = [\"dev\", \"prod\"]\n";
    ledger.write("ledger.toml", &manifest);
    ledger.write(
        "waivers.toml",
        "[[waiver]]\ncode = \"default-in-use\"\naddress = \"desk@dev\"\nwhy = \"so\"\nuntil = 2099-01-01\n",
    );
    ledger.run("remove @dev").code(4).stdout_eq("").stderr_eq(str![[r#"
error: @dev cannot go: it is mentioned elsewhere
  ledger.toml:3  default_stage = "dev"
  ledger.toml:18  after = ["dev"]
  ledger.toml:23  stages = ["dev"]
  ledger.toml:27  stages = ["dev", "prod"]
  ledger.toml:33  stages = ["dev", "prod"]
  units/gate.toml:1  stages = ["dev"]
  waivers.toml:3  address = "desk@dev"
help: --with-mentions takes these along; or let go what they stand in, too

"#]]);
    let signed = "--with-mentions --write --countersign prod";
    std::fs::create_dir(ledger.path("../live")).unwrap();
    ledger.run("chores done desk@dev sing").code(0);
    ledger.run("deliver desk@dev --write --why first").code(0);
    ledger.run(&format!("remove @dev {signed}")).code(4).stdout_eq("").stderr_eq(str![[r#"
error: @dev cannot go: it is still delivered
  desk@dev:1
help: take it off first: cledger withdraw desk@dev --write; or --keep-delivered leaves it there

"#]]);
    let (out, _) = written(&ledger.run("remove @dev --with-mentions").code(0));
    assert!(out.contains("still delivered: desk@dev:1"), "{out}");
    ledger.run(&format!("remove @dev {signed} --keep-delivered")).code(0).stdout_eq(str![[r#"
goes     keys/readers.toml
goes     keys/stages/dev.age
changes  ledger.toml
goes     stages/dev.toml
changes  units/gate.toml
goes     waivers.toml

mentioned in, and goes there, too:
  ledger.toml:3  default_stage = "dev"
  ledger.toml:18  after = ["dev"]
  ledger.toml:23  stages = ["dev"]
  ledger.toml:27  stages = ["dev", "prod"]
  ledger.toml:33  stages = ["dev", "prod"]
  units/gate.toml:1  stages = ["dev"]
  waivers.toml:3  address = "desk@dev"

still delivered: desk@dev:1

removed: @dev, with 10 effective values.

"#]]);
    snapbox::assert_data_eq!(
        ledger.read("ledger.toml"),
        str![[r#"
format = 1
name = "Small"

[[stage]]
name = "prod"
class = "production"

[[rule]]
name = "brief"
fields = "*/*"
max_length = 99
stages = ["prod"]

"#]]
    );
    assert_eq!(ledger.read("units/gate.toml"), "stages = []\n[variables.word]\ndefault = \"x\"\n");
    assert!(!ledger.path("waivers.toml").exists() && !ledger.path("stages/dev.toml").exists());
}

#[test]
fn errors_that_were_there_and_comments_hold_nothing_back() {
    let ledger = TestLedger::small();
    let text = ledger.read("stages/dev.toml");
    ledger.write(
        "stages/dev.toml",
        text.replace("region = \"north\"", "region = \"nowhere\"\nhodl = 1")
            + "\n# held\n\n# so long\nhold = \"9m\"\n# by hand\n",
    );
    ledger.write("groups/low.toml", "[shared.db]\n# none yet\n\n[units.desk]\n");
    ledger.write("ledger.toml", ledger.read("ledger.toml") + "groups = [\"low\"]\n");
    ledger.run("check").code(1);
    ledger.run("remove desk/hold --write --countersign prod").code(0);
    assert!(!ledger.read("stages/dev.toml").contains("hold ="));
    ledger.run("remove shared/db --with-mentions --write --countersign prod").code(0);
    for path in ["shared.toml", "groups/low.toml", "stages/dev.toml", "units/desk.toml"] {
        let text = if ledger.path(path).exists() { ledger.read(path) } else { String::new() };
        assert!(!text.contains("db"), "{path}: {text}");
    }
    // A stage in a folder goes with it.
    ledger
        .write("ledger.toml", ledger.read("ledger.toml") + "[[stage]]\nname = \"late\"\nclass = \"test\"\n");
    ledger.write("stages/late/desk.toml", "region = \"north\"\n");
    ledger.run("remove @late --write").code(0);
    assert!(!ledger.path("stages/late").exists());
    // What was a secret is not shown by a change that says it is none.
    ledger.write("units/safe.toml", "[variables.word]\nsecret = true\n");
    ledger.run("set safe/word@dev --generate --plain-secrets").code(0);
    let secret = written(&ledger.run("get safe/word@dev --unmask=always").code(0)).0;
    let (shown, _) = written(&ledger.run("change safe/word --secret=false").code(0));
    assert!(!shown.contains(secret.trim()) && shown.contains("(secret)"), "{shown}");
    // A unit is there as long as its contract is, with nothing in it, too.
    ledger.write("units/gate.toml", "[variables.word]\n");
    ledger.run("remove gate/word --write --countersign prod").code(0);
    assert!(written(&ledger.run("list units").code(0)).0.contains("gate"));
    ledger.run("remove gate --write").code(0);
    assert!(!ledger.path("units/gate.toml").exists());
}
