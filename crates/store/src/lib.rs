//! The ledger on disk: finding it, reading it, and writing files so that none is ever half written.
//!
//! [`read()`] turns a folder into a [`cledger_core::model::Ledger`], or into all the mistakes that
//! keep it from being one.

mod capture;
pub mod daybook;
mod edit;
mod find;
mod git;
mod keys;
mod locked;
mod mistake;
mod outside;
mod read;
mod tree;
mod write;

pub use capture::{
    Capture, CapturedContent, CapturedFile, CapturedOutlet, CapturedUnit, CapturedValue, NoCapture,
};
pub use edit::{
    Changed, Edit, EditError, Named, Overlay, ProposedOutput, Renaming, Target, What, append, apply,
    entry_block, extend, field_pattern, key, literal, output_block, parse_value, patterns, put, remove,
    rename, setting, setting_of, share, shared_file, with_cells,
};
pub use find::{FindError, find};
pub use git::{GitError, at_revision, commit_of, is_bare_repository};
pub use keys::{
    Admitted, AskPassphrase, BadRecipient, DataKey, Identity, IdentityError, KeyError, KeyFile, Keys, Made,
    MakeError, READERS, Reader, Readers, Recipient, Resealed, SecretString, admit, exclude, key_path, make,
    move_key, reseal, rotate,
};
pub use locked::{LockError, Locked, finish_interrupted};
pub use mistake::{Mistake, Unreadable};
pub use outside::Surroundings;
pub use read::{Scope, read, unit_names};
pub use tree::{Disk, FileError, Memory, Tree};
pub use write::{Mode, WriteError, Written, write_atomically};

/// The file that makes a folder a ledger.
pub const MANIFEST: &str = "ledger.toml";

/// The file of the ledger's waivers.
pub const WAIVERS: &str = "waivers.toml";
