//! Command lines by which the commands are understood. Each works on the demo ledger, in its folder and in this order:
//! a test runs them.

use clap::Command;

/// The most that the help of a command shows.
const MOST: usize = 3;

/// A command line, and what it does.
const EXAMPLES: &[(&str, &str)] = &[
    (
        "cledger init ../mill --name Mill --stages dev,test,prod",
        "a ledger with three stages in the folder `../mill`",
    ),
    ("cledger demo", "the demo ledger, and a walk through the work on it"),
    ("cledger demo ../trip --files-only", "its files alone, in a folder of this name"),
    (
        "cledger adopt deck-signs dev=../legacy/deck-signs/dev",
        "what a unit would be made of the files in a folder",
    ),
    ("cledger adopt night-shifts test=../legacy/night-shifts/test.properties", "the same of one file"),
    ("cledger adopt old-gate prod-north=outlet:servers", "the same of what an outlet has"),
    ("cledger trust", "what the ledger would reach, each by name"),
    ("cledger trust --list", "what was trusted before"),
    ("cledger trust --write", "says that it may"),
    ("cledger add variable ticket-desk/quiet_hours --type duration --default 5m", "declares a variable"),
    ("cledger add stage prod-west --like prod-north", "adds a stage, with a list of what it has to set"),
    (
        "cledger add outlet spare --kind directory --stages dev --path ../spare",
        "declares where a stage is delivered to",
    ),
    (
        "cledger change ticket-desk/seat_hold --max 30m",
        "what another bound of a field would do to all that is set",
    ),
    ("cledger change @dev --label region=none --behind test", "what saying more of a stage would change"),
    ("cledger list stages", "the stages, in the order in which changes move up"),
    ("cledger list units", "the units, with their kinds of entries"),
    (
        "cledger share crew-roster/retry_limit --with night-mail",
        "what moving an entry to the shared ones would change",
    ),
    (
        "cledger rename tide-watch/poll_every ask_every",
        "where a variable is mentioned that gets another name",
    ),
    ("cledger rename tide-watch/poll_every ask_every --write", "renames it there"),
    ("cledger remove night-mail/batch", "what removing an entry would change"),
    ("cledger remove @staging --with-mentions", "what would go with a stage"),
    ("cledger set ticket-desk/seat_hold@test=45s", "sets a value, and says what that changes"),
    ("cledger set shared/events.password@test --generate=24", "sets a secret that nobody has seen"),
    (
        "cledger set ticket-desk/seat_hold@test=50s fare-engine/cache@test=65MiB",
        "sets two values, or none of them",
    ),
    ("cledger unset ticket-desk/seat_hold@test", "takes the setting away again"),
    (
        "cledger fill @prod-south --answers ../prod-south.toml",
        "writes a form of the values that a stage lacks, and takes it in once it is filled",
    ),
    ("cledger search '*@prod-north' --contains brackwater", "where that text stands in a stage"),
    ("cledger search --type duration --over 10s --effective", "all values that are longer than ten seconds"),
    (
        "cledger replace '*@test' --swap .test.brackwater.example .qa.brackwater.example",
        "what replacing a part of all texts of a stage would change",
    ),
    (
        "cledger replace quay-screens/quays.screens --beside quay=mill-stairs --to 4",
        "what another cell in one row of a lookup table would change",
    ),
    ("cledger key identity", "makes your private key and prints the public one"),
    ("cledger key make @test --as ada", "who would be able to read a new key of a stage"),
    ("cledger key make @test --as ada --write", "makes it"),
    (
        "cledger key admit ben @test --recipient age1zl3pvzjg52aysunzkxh8d6qg3raq45lt7nzr94uflurzpngqfy6snujd9m --write",
        "lets a reader in, and encrypts the key for them",
    ),
    ("cledger key protect @test", "the secrets that lie in plain text, and would be encrypted"),
    ("cledger key list", "keys and their readers"),
    ("cledger key rotate @test", "what a new key would encrypt anew"),
    ("cledger key exclude ben @test", "what letting out a reader would encrypt anew, and ask for"),
    ("cledger resume", "what became of a change that was interrupted"),
    ("cledger show ticket-desk@test", "what the unit gets in the stage, and from where"),
    (
        "cledger show ticket-desk/bookings-db@prod-north --origins",
        "one of its entries, with the files and lines in full",
    ),
    ("cledger show quay-screens/quays@test", "the rows of a lookup table"),
    ("cledger get ticket-desk/fare_service@test", "one bare value"),
    (
        "cledger get ticket-desk/fare_service@test --assume fare-engine/listen.port=9999",
        "the same if another one were set",
    ),
    ("cledger matrix ticket-desk", "the fields of a unit down, the stages across"),
    ("cledger matrix '*/*.host@prod-*' --differing", "where two stages have other hosts"),
    ("cledger matrix --csv", "everything, for a spreadsheet"),
    ("cledger trace ticket-desk+kiosk/seat_hold@prod-south", "every candidate for a value"),
    ("cledger trace ticket-desk/SEAT_HOLD@test", "the same by the name that is live"),
    ("cledger impact fare-engine/listen.host@test", "what depends on a value"),
    ("cledger browse ticket-desk", "one unit in all stages, with all about each value beside it"),
    ("cledger browse '*/*@prod-*'", "everything in two stages"),
    ("cledger check", "judges everything"),
    ("cledger check @prod-north --fail-on warning", "one stage, and warnings count as well"),
    ("cledger check --explain not-aligned", "what a code means, and how to mend it"),
    (
        "cledger waive quay-screens/brightness@dev not-allowed --why \"a trial\" --until 2099-01-31",
        "what accepting a finding for a while would do",
    ),
    ("cledger compare @prod-north @prod-south", "what differs between two stages, as meant and otherwise"),
    ("cledger compare fare-engine@staging fare-engine@prod-north", "the same of one unit"),
    ("cledger render fare-engine@test --out ../rendered-test", "the files of a unit for a stage"),
    ("cledger render ticket-desk@test", "which files there would be, and what they lack"),
    ("cledger run fare-engine@test -- printenv CACHE", "a program with the values of a unit"),
    (
        "cledger rehome ../exports/tide-board.json --from tide-watch@test --suggest",
        "lists hosts, addresses and identifiers that could become entries",
    ),
    (
        "cledger rehome ../exports/tide-board.json --from tide-watch@test --to tide-watch@staging",
        "an exported file with the values of another stage",
    ),
    ("cledger promote @dev @test fare-engine", "what moving a unit up needs"),
    ("cledger promote fare-engine@test @staging --draft-why", "the same, with a reason made of what changes"),
    ("cledger deliver fare-engine@test", "what a delivery would change on the outlets"),
    (
        "cledger deliver fare-engine@test --write --why surcharge",
        "delivers, looks at it again and records it",
    ),
    ("cledger withdraw fare-engine@test", "what would be taken off"),
    ("cledger chores", "what people have to do around deliveries"),
    ("cledger chores @test", "the same of one stage"),
    ("cledger outlet list", "where stages are delivered to"),
    ("cledger outlet prepare", "which tables are not there yet"),
    ("cledger outlet lookup @prod-north", "values that the other side assigns, compared with the ledger"),
    ("cledger outlet put ticket-desk@staging", "what bringing one unit by hand would change"),
    ("cledger probe @test", "whether the services of a stage answer"),
    ("cledger probe @test fare-engine", "the same of one unit"),
    ("cledger capture @prod-north --secrets left-out", "keeps what the outlets hold now"),
    (
        "cledger capture @prod-north --with-ledger --secrets left-out --out ../north.json",
        "the same, with what the ledger says",
    ),
    ("cledger drift @prod-north", "what the outlets hold, compared with the ledger"),
    ("cledger drift @prod-north --differing", "the same, without what is as the ledger says"),
    (
        "cledger drift --take ticket-desk/seat_hold@prod-north",
        "what taking over would change that was done by hand",
    ),
    ("cledger status", "units on their way through the stages, and what to do first"),
    ("cledger status --live", "the same, with what has drifted"),
    ("cledger status --todo", "what to do first alone"),
    ("cledger history fare-engine@test", "its deliveries, with reasons"),
    ("cledger history --verify", "whether the chain of records is whole"),
    ("cledger report --out ../overview.html", "an overview of the ledger as a page"),
    ("cledger report compare @prod-north @prod-south --out ../prod.md", "two stages compared, for a wiki"),
    ("cledger report matrix ticket-desk check ticket-desk --out ../desk.html", "two parts on one page"),
    (
        "cledger folio make fare-engine --from test --out ../fares.folio",
        "units with all that they are made of, as a file for another ledger",
    ),
    ("cledger folio show ../fares.folio", "what is inside of it"),
    ("cledger folio enter ../fares.folio --to test", "what taking it in would mean, and what it needs"),
    ("cledger completions bash", "what a shell needs to complete commands and addresses"),
    ("cledger schema unit", "the JSON Schema of a contract"),
    ("cledger man ../pages", "writes a page for each command into a folder"),
];

/// The examples of a command, or of all below it, by its whole name: command lines, and what each does.
pub(crate) fn of(name: &str) -> Vec<&'static (&'static str, &'static str)> {
    let is_of_it = |(line, _): &&(&str, &str)| {
        line.strip_prefix(name).is_some_and(|rest| rest.is_empty() || rest.starts_with(' '))
    };
    if name.contains(' ') { EXAMPLES.iter().filter(is_of_it).collect() } else { Vec::new() }
}

/// The command tree, with examples at the end of each command's help. What is below a command is put together only
/// where it is meant, and gets them by [`below`].
pub(crate) fn with_examples(root: Command) -> Command {
    let name = root.get_name().to_owned();
    root.mut_subcommands(|command| ending(command, &name))
}

/// The same of what is below a command.
pub(crate) fn below(command: Command) -> Command {
    let name = format!("cledger {}", command.get_name());
    command.mut_subcommands(|inner| ending(inner, &name))
}

fn ending(command: Command, above: &str) -> Command {
    let examples = of(&format!("{above} {}", command.get_name()));
    if examples.is_empty() {
        return command;
    }
    let lines = examples.iter().take(MOST).map(|(line, what)| format!("\n  {line}\n      {what}"));
    command.after_help(format!("Examples:{}", lines.collect::<String>()))
}
