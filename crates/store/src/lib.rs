//! The ledger on disk: finding it, reading it, and writing files so that none is ever half written.
//!
//! [`read()`] turns a folder into a [`cledger_core::model::Ledger`], or into all the mistakes that
//! keep it from being one.

mod capture;
pub mod daybook;
mod earlier;
mod edit;
mod find;
mod folder;
mod git;
mod keys;
mod kinds;
mod local;
mod locked;
mod mistake;
mod mode;
mod outside;
mod owner;
mod read;
mod state;
mod tree;
pub mod vocabulary;
mod write;

pub use capture::{
    Capture, CapturedContent, CapturedFile, CapturedOutlet, CapturedUnit, CapturedValue, NoCapture, OwnKey,
};
pub use earlier::way_back;
pub use edit::{
    Beside, Edit, EditError, Item, LeftOut, ListedWhat, Mention, Named, OutputList, ProposedOutput, Renaming,
    Target, What, added_to_list, append, apply, entry_block, extend, field_pattern, key, literal, mentions,
    not_adopted_list, output_block, parse_value, patterns, put, references, remove, rename, said, setting,
    setting_of, share, shared_file, swapped, table_text, with_cells, within_setting, without_mentions,
};
pub use find::{FindError, find};
pub use folder::{FileError, Folder, Links, read_named, text_named};
pub use git::{
    GitError, Place as GitPlace, Revision, commit_of, is_bare_repository, is_behind_us, last_before, taken_in,
};
pub use keys::{
    Admitted, AskPassphrase, BadRecipient, DataKey, ExposeSecret, Identity, IdentityError, KeyError, KeyFile,
    Keys, Made, NotDecrypted, READERS, Reader, Readers, Recipient, Resealed, SecretString, Sight, Unsealed,
    Watch, admit, decrypted, encrypted, exclude, key_path, known_recipient, make, move_key, reseal, rotate,
};
pub use local::{Foreign, Local};
pub use locked::{Glance, Interrupted, LockError, Locked, NoPlan, OpenChange, OpenFile, Since};
pub use mistake::Unreadable;
pub use mode::{Mode, Written};
pub use outside::{LARGEST_SECRET, Surroundings, without_final_newline};
pub use read::{Scope, complete, read, read_again, read_partly, unit_names};
pub use state::{Remembered, SeenKey, SeenRecord, State, StateError};
pub use tree::{Changed, Disk, LARGEST_FILE, Memory, Overlay, Tree};
pub use write::{WriteError, write_atomically};

/// The file that makes a folder a ledger.
pub const MANIFEST: &str = "ledger.toml";

/// The file of the ledger's waivers.
pub const WAIVERS: &str = "waivers.toml";
