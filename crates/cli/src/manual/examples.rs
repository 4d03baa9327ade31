//! Command lines on the demo ledger, by which the commands are understood.

use super::facts::Fact;

/// A command line, and what it does. A test reads each as the program would.
pub(super) const EXAMPLES: &[Fact] = &[
    (
        "cledger init harbour --name Harbour --stages dev,test,prod",
        "a ledger with three stages in the folder `harbour`",
    ),
    ("cledger demo", "the demo ledger, and a walk through the work on it"),
    (
        "cledger adopt tide-watch dev=old/dev test=old/test",
        "what a unit would be made of files in two folders",
    ),
    ("cledger trust", "what the ledger would reach, each by name"),
    ("cledger trust --write", "says that it may"),
    ("cledger add variable ticket-desk/quiet_hours --type duration --default 5m", "declares a variable"),
    ("cledger add stage qa --class test", "adds a stage"),
    (
        "cledger add stage perf --like staging --copy --swap staging perf --generate",
        "what a copy of a stage would take over",
    ),
    (
        "cledger add outlet spare --kind directory --stages dev --path ../spare",
        "declares where a stage is delivered to",
    ),
    (
        "cledger change ticket-desk/seat_hold --max 30m",
        "what another bound of a field would do to all that is set",
    ),
    ("cledger change @dev --label region=none --behind test", "what saying more of a stage would change"),
    ("cledger list units", "the units, with their kinds of entries"),
    (
        "cledger share crew-roster/retry_limit --with fog-horn",
        "what moving an entry to the shared ones would change",
    ),
    ("cledger rename tide-watch/poll_every ask_every --write", "renames a variable wherever it is mentioned"),
    ("cledger remove shared/old-forecast", "what removing an entry would change"),
    ("cledger remove @staging --with-mentions", "what would go with a stage"),
    ("cledger set fare-engine/listen.port@test=9090", "sets a value, and says what that changes"),
    ("cledger unset fare-engine/listen.port@test", "takes the setting away again"),
    ("cledger search --contains brackwater.example", "where that text stands"),
    (
        "cledger replace @test --swap .test.example .qa.example",
        "what replacing a part of all texts of a stage would change",
    ),
    (
        "cledger replace quay-screens/quays.screens --beside quay=mill-stairs --to 4",
        "what another cell in one row of a lookup table would change",
    ),
    ("cledger fill @prod-north", "the values that a stage lacks"),
    ("cledger key identity", "makes your private key and prints the public one"),
    ("cledger key make @test", "who would be able to read a new key of a stage"),
    ("cledger key list", "keys and their readers"),
    ("cledger resume", "what became of a change that was interrupted"),
    ("cledger show ticket-desk@test", "what the unit gets in the stage, and from where"),
    ("cledger get ticket-desk/seat_hold@test", "one bare value"),
    ("cledger matrix ticket-desk", "the fields of a unit down, the stages across"),
    (
        "cledger trace ticket-desk/SEAT_HOLD@test",
        "every candidate for the value that is live under this name",
    ),
    ("cledger impact shared/bookings-db.host@test", "what depends on a value"),
    ("cledger check", "judges everything"),
    ("cledger check @prod-north --fail-on warning", "one stage, and warnings count as well"),
    ("cledger check --explain not-aligned", "what a code means, and how to mend it"),
    (
        "cledger waive quay-screens/brightness@dev not-allowed --why trial --until 2027-09-30 --write",
        "accepts a finding for a while",
    ),
    ("cledger compare @prod-north @prod-south", "what differs between two stages, as meant and otherwise"),
    ("cledger render @test --out rendered", "the files of all units for a stage"),
    ("cledger run tide-watch@test -- printenv LOW_WATER", "a program with the values of a unit"),
    (
        "cledger rehome exports/tide-board.json --from tide-watch@test --suggest",
        "lists hosts, addresses and identifiers that could become entries",
    ),
    (
        "cledger rehome exports/tide-board.json --from tide-watch@test --to tide-watch@prod-north --out tide-board.json",
        "an exported file with the values of another stage",
    ),
    ("cledger promote @test @staging fare-engine", "what moving a unit up needs"),
    ("cledger deliver fare-engine@test", "what a delivery would change on the outlets"),
    ("cledger deliver bundle:ticketing@test", "what delivering units that go together would change"),
    (
        "cledger deliver fare-engine@test --write --why surcharge",
        "delivers, looks at it again and records it",
    ),
    ("cledger withdraw fare-engine@test", "what would be taken off"),
    ("cledger chores", "what people have to do around deliveries"),
    ("cledger outlet list", "where stages are delivered to"),
    ("cledger outlet put quay-screens@prod-north", "makes up the commands by which a person delivers"),
    ("cledger probe @test", "whether the services of a stage answer"),
    ("cledger capture @prod-north --out before.json", "keeps what the outlets hold now"),
    ("cledger drift @prod-north", "what the outlets hold, compared with the ledger"),
    ("cledger drift --take ticket-desk/seat_hold@prod-north", "takes over what was changed by hand"),
    ("cledger status fare-engine", "a unit on its way through the stages"),
    ("cledger history fare-engine@test", "its deliveries, with reasons"),
    ("cledger history --verify", "whether the chain of records is whole"),
    (
        "cledger folio make bundle:ticketing --from test --out ticketing.folio",
        "units with all that they are made of, as a file for another ledger",
    ),
    (
        "cledger folio enter ticketing.folio --to trial",
        "what taking it in there would mean, and what it needs",
    ),
    ("cledger completions bash", "what a shell needs to complete commands and addresses"),
    ("cledger schema unit", "the JSON Schema of a contract"),
    ("cledger man pages", "writes a page for each command into a folder"),
];
