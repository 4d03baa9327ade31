//! What holds for every command: how it ends, and what it reads besides its arguments.

/// A name, and what it means.
pub(super) type Fact = (&'static str, &'static str);

/// How a command ends, as DESIGN.md section 7 has it.
pub(super) const EXIT_STATUS: &[Fact] = &[
    ("0", "all is well"),
    ("1", "findings of severity error, differences that are not meant, or drift"),
    ("2", "wrong usage, or input that cannot be read"),
    ("3", "something outside failed: an outlet, a service, the disk, a lock"),
    ("4", "refused: production not countersigned, a locked stage, the order of stages, a ledger not trusted"),
];

/// The files that are read and written.
pub(super) const FILES: &[Fact] = &[
    (
        "ledger.toml",
        "the ledger's frame: its stages, groups, rules and agreements; its folder is the ledger's",
    ),
    ("units/UNIT.toml", "the contract of a unit"),
    ("shared.toml", "entries that several units use"),
    ("stages/STAGE.toml", "settings of a stage; also `stages/STAGE/UNIT.toml`, and the same below `groups/`"),
    ("templates/", "templates that outputs are made by"),
    ("waivers.toml", "findings accepted for a while"),
    ("keys/", "data keys of stages and groups, each wrapped for its readers"),
    (".cledger/", "the lock, an unfinished change, and the embedded daybook; not for version control"),
    ("~/.config/cledger/identity", "your private key, unless `CLEDGER_IDENTITY` names another file"),
    ("~/.local/state/cledger/", "what your ledgers may reach, and their keys as last seen"),
];

/// The environment variables that are read. A test finds the ones in the sources that are not here.
pub(super) const ENVIRONMENT: &[Fact] = &[
    ("CLEDGER_STAGE", "the stage where none is named; stronger than `default_stage` of the ledger"),
    ("CLEDGER_WHO", "who you are, in the daybook and among readers; else `USER`, else `LOGNAME`"),
    ("CLEDGER_TODAY", "the day (YYYY-MM-DD) from which last days are counted; else today (UTC)"),
    ("CLEDGER_TRUST", "`1`: the ledger may reach what it names, as with `--trust`; for pipelines"),
    ("CLEDGER_IDENTITY", "the file with your private key, or the key itself, which is never shown"),
    ("CLEDGER_PASSPHRASE", "the passphrase of that key, where no terminal is there to ask"),
    ("CLEDGER_DAYBOOK", "the address of the daybook in PostgreSQL, where the ledger keeps it there"),
    ("CLEDGER_STATE", "the folder of what is remembered of ledgers; else `cledger` in your state folder"),
    ("CLEDGER_COMPLETE", "set by what `cledger completions` prints, when a shell asks for completions"),
    ("XDG_CONFIG_HOME", "where `cledger/identity` is looked for; else `~/.config`"),
    ("XDG_STATE_HOME", "where `cledger/` with what is remembered is; else `~/.local/state`"),
    ("HOME", "your folder, where the two above are not set"),
    ("USER", "who you are, where `CLEDGER_WHO` does not say"),
    ("LOGNAME", "the same, where `USER` does not say either"),
    ("SUDO_UID", "for root: whose state folder is taken for one's own besides root's"),
    ("PATH", "where programs that a ledger names are found"),
    ("COLUMNS", "the width of the output; else the terminal's, and in a pipe no bound"),
    ("NO_COLOR", "set: no colour, unless `--color always` is given"),
];
