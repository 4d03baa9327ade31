//! `report`: pages for people without a terminal.

use std::time::SystemTime;

use serde_json::{Value, json};

use crate::against::{demo_in_git, git, git_at};
use crate::browser::Browser;
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
    let row = page.split("id=\"matrix-1-seat_hold\"").nth(1).unwrap().split("</tr>").next().unwrap();
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
    let (text, _) = run(&ledger, "report flow fare-engine@prod-south --form markdown", 0);
    assert!(text.contains("| ticket-desk | goes to | listen.host, listen.port |"), "{text}");
    assert!(text.contains("| followed prod-north | comes from | "), "{text}");
    let (text, _) = run(&ledger, "report status --live --form markdown", 0);
    assert!(text.contains("what the outlets have now") && text.contains("drifted"), "{text}");
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
fn a_folder_gets_a_page_for_each_unit() {
    let ledger = TestLedger::demo();
    let (out, _) = run(&ledger, "report status matrix --out pages/", 0);
    assert!(out.contains("Written to pages/."), "{out}");
    let index = ledger.read("pages/index.html");
    assert!(index.contains("<a href=\"ticket-desk%2Bkiosk.html\">ticket-desk+kiosk</a>"), "{index}");
    let kiosk = ledger.read("pages/ticket-desk+kiosk.html");
    assert!(kiosk.contains("2m") && !kiosk.contains("tide-watch"), "{kiosk}");
    assert_eq!(ledger.files("pages").len(), 9 + 1);
    let (_, err) = run(&ledger, "report matrix --out pages/", 2);
    assert!(err.contains("`pages/index.html` is there already"), "{err}");
    run(&ledger, "report matrix --out pages/ --overwrite", 0);
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

/// The rows that are shown of a table.
const SHOWN: &str = "[...document.querySelectorAll('#matrix-1 tbody tr')].filter((row) => !row.hidden).map((row) => row.cells[0].textContent)";

/// How well the worst of the texts of a meaning stands out from its ground, as WCAG 2.2 counts it.
const CONTRAST: &str = "(() => {
    const part = (value) => (value /= 255) <= 0.04045 ? value / 12.92 : ((value + 0.055) / 1.055) ** 2.4;
    const light = (color) => { const [r, g, b] = color.match(/[0-9.]+/g).map(Number); return 0.2126 * part(r) + 0.7152 * part(g) + 0.0722 * part(b); };
    const ground = (element) => { const color = getComputedStyle(element).backgroundColor; return /, 0\\)$/.test(color) ? ground(element.parentElement) : color; };
    const ratios = [...document.querySelectorAll('h1, p, a, td, th, summary')].map((element) => {
        const [one, other] = [light(getComputedStyle(element).color), light(ground(element))];
        return (Math.max(one, other) + 0.05) / (Math.min(one, other) + 0.05);
    });
    return Math.min(...ratios);
})()";

#[test]
fn a_page_works_in_a_browser() {
    let Some(mut browser) = Browser::start() else { return };
    let ledger = TestLedger::demo();
    let hostile = "</script><script>window.hacked = 1</script><img src=x onerror='window.hacked = 1'>";
    ledger.write(
        "units/fare-engine.toml",
        ledger.read("units/fare-engine.toml") + "\n[variables.note]\nrequired = false\n",
    );
    ledger.command("set fare-engine/note@dev --stdin").stdin(hostile).assert().code(0);
    run(&ledger, "report matrix */* status check compare @prod-north @prod-south --out page.html", 1);
    let page = ledger.path("page.html");
    browser.opens(&page, "");
    let all = browser.says(SHOWN).as_array().unwrap().len();
    // Filter, and show only what differs.
    let typed = "const search = document.querySelector('#matrix-1 input[type=search]'); \
                 search.value = 'bookings-db.h'; search.dispatchEvent(new Event('input'));";
    browser.says(typed);
    assert_eq!(browser.says(SHOWN), json!(["bookings-db.host"]));
    browser.says("document.querySelector('#matrix-1 input[type=search]').value = ''; document.querySelector('#matrix-1 input[type=checkbox]').click()");
    let differing = browser.says(SHOWN).as_array().unwrap().len();
    assert!(differing > 1 && differing < all, "{differing} of {all}");
    browser.says("document.querySelector('#matrix-1 input[type=checkbox]').click()");
    // Sort both ways.
    browser.says("document.querySelector('#matrix-1 thead button').click()");
    let sorted = browser.says(SHOWN);
    browser.says("document.querySelector('#matrix-1 thead button').click()");
    let back: Vec<Value> = browser.says(SHOWN).as_array().unwrap().iter().rev().cloned().collect();
    assert_eq!((sorted.as_array().unwrap(), sorted.as_array().unwrap().len()), (&back, all));
    assert_eq!(browser.says("document.querySelector('#matrix-1 thead th').ariaSort"), json!("descending"));
    // Fold, and follow the link of a row.
    browser.says("document.querySelector('#status > details > summary').click()");
    assert_eq!(browser.says("document.querySelector('#status > details').open"), json!(false));
    browser.opens(&page, "#matrix-1-bookings-db.host");
    assert_eq!(
        browser.says("document.querySelector(':target').cells[0].textContent"),
        json!("bookings-db.host")
    );
    // What stands in a ledger is text.
    assert_eq!(browser.says("[window.hacked === undefined, document.images.length]"), json!([true, 0]));
    assert!(browser.says("document.body.textContent").as_str().unwrap().contains("window.hacked = 1"));
    for (scheme, width) in [("light", 380), ("dark", 2560)] {
        let media = json!({ "features": [{ "name": "prefers-color-scheme", "value": scheme }] });
        browser.asks("Emulation.setEmulatedMedia", media);
        let size = json!({ "width": width, "height": 900, "deviceScaleFactor": 1, "mobile": false });
        browser.asks("Emulation.setDeviceMetricsOverride", size);
        // Tables move in their own frames, and the page stays as wide as the window.
        assert_eq!(
            browser.says("document.documentElement.scrollWidth <= window.innerWidth"),
            json!(true),
            "{width}"
        );
        assert!(browser.says(CONTRAST).as_f64().unwrap() >= 4.5, "{scheme}: {}", browser.says(CONTRAST));
    }
    let printed = browser.asks("Page.printToPDF", json!({ "paperWidth": 8.27, "paperHeight": 11.69 }));
    assert!(printed["data"].as_str().unwrap().starts_with("JVBERi0"), "a PDF, in base64");
    // All of it is there without the script, too.
    browser.asks("Emulation.setScriptExecutionDisabled", json!({ "value": true }));
    browser.opens(&page, "");
    let without = browser.asks("DOM.getDocument", json!({ "depth": 0 }))["root"]["nodeId"].clone();
    let html = browser.asks("DOM.getOuterHTML", json!({ "nodeId": without }))["outerHTML"]
        .as_str()
        .unwrap()
        .to_owned();
    assert!(html.contains("id=\"matrix-1-bookings-db.host\"") && !html.contains("class=\"tools\""));
    let own = format!("file://{}", page.display());
    assert!(browser.requests.iter().all(|url| url.starts_with(&own)), "{:?}", browser.requests);
    assert_eq!(browser.complaints, Vec::<String>::new());
}

/// The findings of a page of Markdown, by address, with when each began.
fn began(page: &str) -> Vec<(String, String)> {
    let rows = page.lines().filter(|line| line.starts_with("| ") && line.contains("| **error** |"));
    rows.map(|row| {
        let cells: Vec<&str> = row.trim_matches('|').split(" | ").map(str::trim).collect();
        (cells[0].replace('\\', ""), (*cells.last().unwrap()).to_owned())
    })
    .collect()
}

#[test]
fn findings_say_within_which_time_they_began() {
    if !is_there("git") {
        return;
    }
    let ledger = TestLedger::small();
    let folder = ledger.path(".");
    let check = || {
        let run =
            ledger.command("report check --form markdown").env("PATH", std::env::var_os("PATH").unwrap());
        written(&run.assert().code(1)).0
    };
    let says = |region: &str, hold: &str| {
        let shared = "[shared.db]\nhost = \"db.dev.example\"\nuser = \"dev\"\npassword = \"low-tide-dev\"\n";
        ledger.write("stages/dev.toml", format!("{shared}[units.desk]\nregion = \"{region}\"\n{hold}"));
    };
    // Without a history nobody can tell, and nothing is said.
    says("nrth", "");
    assert!(!check().contains("began"), "{}", check());
    git(&folder, &["init", "-q"]);
    let commit = |time: &str| {
        git(&folder, &["add", "-A"]);
        git_at(&folder, &["commit", "-qm", "x"], Some(time));
    };
    // One was there for years, one since some weeks, and one is not committed yet.
    commit("2020-01-01T00:00:00Z");
    let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap().as_secs();
    says("nrth", "hold = \"soon\"\n");
    commit(&format!("{} +0000", now - 10 * 24 * 60 * 60));
    ledger.write("units/desk.toml", ledger.read("units/desk.toml") + "[variables.pier]\n");
    let page = check();
    let at =
        |address: &str| began(&page).into_iter().find(|(known, _)| known == address).unwrap_or_default().1;
    assert_eq!(at("desk/region@dev"), "longer ago than a year", "{page}");
    assert_eq!(at("desk/hold@dev"), "within a month", "{page}");
    assert_eq!(at("desk/pier@dev"), "within a day", "{page}");
    let (html, _) = written(
        &ledger.command("report check").env("PATH", std::env::var_os("PATH").unwrap()).assert().code(1),
    );
    assert!(html.contains("Findings by age") && html.contains("began within a month (error)"));
    // What cannot be read at one of these times is told, and not passed over.
    ledger.write("shared.toml", "[connections.db\n");
    commit("2020-01-02T00:00:00Z");
    ledger.write(
        "shared.toml",
        "[connections.db]\nprotocol = \"postgresql\"\nfields.database.default = \"tides\"\n",
    );
    let page = check();
    assert!(page.contains("How old findings are is not known in full: "), "{page}");
}

#[test]
fn a_comparison_is_of_whatever_has_names_and_of_rows() {
    let ledger = TestLedger::demo();
    ledger.write("one.env", "PORT=1\nNAME=quay\nTOKEN=plover-1\n");
    ledger.write("other.env", "PORT=2\nNAME=quay\nTOKEN=plover-2\nMORE=3\n");
    let (page, _) = run(&ledger, "report compare file:one.env file:other.env --form markdown", 1);
    for row in [
        "| PORT | 1 | 2 | **differs** |",
        "| MORE | none | 3 | **only in the second** |",
        "1 name is the same",
    ] {
        assert!(page.contains(row), "{row}\n{page}");
    }
    assert!(!page.contains("plover"), "{page}");
    let (page, _) = run(&ledger, "report compare quay-screens@dev quay-screens@test --form markdown", 1);
    assert!(page.contains("| row mill-stairs |") && page.contains("| **only in dev** |"), "{page}");
}
