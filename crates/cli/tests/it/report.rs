//! `report`: pages for people without a terminal.

use crate::against::demo_in_git;
use crate::test_ledger::{TestLedger, is_there, written};

fn run(ledger: &TestLedger, arguments: &str, code: i32) -> (String, String) {
    written(&ledger.run(arguments).code(code))
}

#[test]
fn an_overview_says_what_there_is_and_what_is_not_in_it() {
    let ledger = TestLedger::demo();
    let (page, _) = run(&ledger, "report", 1);
    for part in [
        "<h1>Brackwater Ferries</h1>",
        "href=\"#status\"",
        "To do first",
        "cledger check @test",
        "id=\"check\"",
    ] {
        assert!(page.contains(part), "{part}");
    }
    // Nothing was delivered: that is said, and there is no empty table in its place.
    assert!(page.contains("Not in it: deliveries: ") && !page.contains("id=\"history\""), "{page}");
    assert!(page.contains("Not in it: secrets"), "{page}");
}

#[test]
fn parts_go_into_one_file_in_the_form_of_its_name() {
    let ledger = TestLedger::demo();
    let (out, _) =
        run(&ledger, "report matrix ticket-desk compare @prod-north @prod-south --out page.html", 1);
    assert!(out.starts_with("In it: Values of ticket-desk; prod-north and prod-south compared.\n"), "{out}");
    let page = ledger.read("page.html");
    let row = page.split("id=\"matrix-1-seat-hold\"").nth(1).unwrap().split("</tr>").next().unwrap();
    assert!(row.contains("stages/test.toml:21") && row.contains("class=\"doubtful\""), "{row}");
    let (_, err) = run(&ledger, "report check --out page.html", 2);
    assert!(err.contains("is there already"), "{err}");
    let (out, _) = run(&ledger, "report status --out page.md --dry-run", 0);
    assert!(out.contains("Would be written to page.md.") && !ledger.path("page.md").exists(), "{out}");
    let (text, _) = run(&ledger, "report compare fare-engine@test fare-engine@staging --form markdown", 1);
    assert!(text.contains("## test and staging compared\n") && text.contains("| --- |"), "{text}");
    let (out, _) = run(&ledger, "report status --out page.md --json", 0);
    assert!(out.contains("\"parts\":[{\"id\":\"status\",\"title\":\"Status\"}]"), "{out}");
    let (table, _) = run(&ledger, "report matrix fare-engine --form csv", 0);
    assert!(table.starts_with("entry,dev,test,staging,prod-north,prod-south\n"), "{table}");
    for (command, told) in [
        ("report matrix --form csv", "a file of CSV is one table"),
        ("report everything", "`everything` is no part of a report"),
        ("report compare", "two sides are needed"),
        ("report matrix nowhere", "covers nothing"),
        ("report delivery fare-engine@test:9", "nothing was delivered yet"),
    ] {
        let (_, err) = written(&ledger.run(command));
        assert!(err.contains(told), "{command}: {err}");
    }
}

#[test]
fn what_is_new_since_a_revision_is_read_in_a_minute() {
    if !is_there("git") {
        return;
    }
    let ledger = demo_in_git();
    run(&ledger, "set fare-engine/cache@test=65MiB", 0);
    let (text, _) = run(&ledger, "report compare check --against HEAD --form markdown", 0);
    assert!(text.contains("| fare-engine/cache@test | 64MiB | 65MiB |"), "{text}");
    assert!(text.contains("0 errors and 0 warnings new since HEAD.") && text.contains("Revision "), "{text}");
    assert!(text.lines().count() < 40, "{text}");
}

#[test]
fn what_stands_in_a_ledger_is_text_in_a_page() {
    let ledger = TestLedger::small();
    ledger.write("units/desk.toml", ledger.read("units/desk.toml") + "[variables.note]\n");
    let stage = ledger.read("stages/dev.toml");
    ledger.write("stages/dev.toml", stage + "note = \"</script><script>alert(1)</script>\"\n");
    let (page, _) = written(&ledger.run("report matrix check"));
    assert!(page.contains("&lt;/") && !page.contains("<script>alert"), "{page}");
}
