//! `list`: what there is.

use snapbox::str;

use crate::test_ledger::TestLedger;

#[test]
fn list_says_what_the_ledger_has() {
    let ledger = TestLedger::demo();
    ledger.run("list units").code(0).stdout_eq(str![[r#"
unit          stages                              instances  entries  owner      about
crew-roster   all                                 -          6        crew       Who sails when
fare-engine   all                                 -          5        ticketing  Works out what a crossing costs
harbour-gate  test prod-north prod-south          -          4        harbour    Lets lorries and cars onto the quay
night-mail    test staging prod-north prod-south  -          6        ticketing  Mails receipts and tomorrow's sailings, once a night
quay-screens  all                                 -          7        harbour    Departures on the screens at the quays
ticket-desk   all                                 +kiosk     9        ticketing  Sells tickets at the quay and on board
tide-watch    all                                 -          7        harbour    Warns when the water is too low to sail

"#]]).stderr_eq("");
    ledger.run("list stages").code(0).stdout_eq(str![[r#"
stage       class        groups              follows     after    locked  units
dev         development  -                   -           -        -       5
test        test         -                   -           dev      -       7
staging     test         guarded             -           test     -       6
prod-north  production   guarded production  -           staging  locked  7
prod-south  production   guarded production  prod-north  staging  locked  7

"#]]);
    ledger.run("list groups").code(0).stdout_eq(str![[r#"
group       stages                         about
guarded     staging prod-north prod-south  Stages whose secrets come from the strongroom
production  prod-north prod-south          What both production stages share

"#]]);
    ledger.run("list shared").code(0).stdout_eq(str![[r#"
shared entry  kind        used by                                           about
bookings-db   connection  crew-roster fare-engine night-mail ticket-desk    Bookings, seats and fares
events        connection  harbour-gate quay-screens ticket-desk tide-watch  What happens at the quays: departures, delays, sold seats
mail          connection  crew-roster night-mail tide-watch                 Outgoing mail
old-forecast  endpoint    -                                                 The forecast before the tide tables; nobody asks it any more
tide-api      endpoint    quay-screens ticket-desk tide-watch               Tide tables and water levels

"#]]);
}

#[test]
fn list_is_folded_on_a_narrow_terminal() {
    let ledger = TestLedger::demo();
    ledger.run_in_80("list units").code(0).stdout_eq(str![[r#"
unit          stages        instances  entries  owner      about
crew-roster   all           -          6        crew       Who sails when
fare-engine   all           -          5        ticketing  Works out what a
                                                           crossing costs
harbour-gate  test          -          4        harbour    Lets lorries and cars
              prod-north                                   onto the quay
              prod-south
night-mail    test staging  -          6        ticketing  Mails receipts and
              prod-north                                   tomorrow's sailings,
              prod-south                                   once a night
quay-screens  all           -          7        harbour    Departures on the
                                                           screens at the quays
ticket-desk   all           +kiosk     9        ticketing  Sells tickets at the
                                                           quay and on board
tide-watch    all           -          7        harbour    Warns when the water
                                                           is too low to sail

"#]]);
}

#[test]
fn an_empty_ledger_says_what_to_do_next() {
    let ledger = TestLedger::with([("ledger.toml", "format = 1\nname = \"Empty\"\n")]);
    ledger
        .run("list units")
        .code(0)
        .stdout_eq(str![[r#"
There are no units yet: declare one in units/NAME.toml.

"#]])
        .stderr_eq(str![]);
    ledger
        .run("list stages")
        .code(0)
        .stdout_eq(str![[r#"
There are no stages yet: declare one as [[stage]] in ledger.toml.

"#]])
        .stderr_eq(str![]);
    ledger
        .run("check")
        .code(0)
        .stdout_eq(str![[r#"
ok: no findings in 0 units.

"#]])
        .stderr_eq(str![]);
}
