//! Who may read the secrets of which stages and groups.

mod daybook;
pub mod done;
mod exclude;
mod identity;
mod list;
mod make;
mod protect;
mod readers;
mod rotate;
mod trusted;

pub use self::done::{Compared, Done, KeyChange, KeyReader, KeysChanged, KnownSecret};
pub use self::exclude::exclude;
pub use self::identity::{OwnIdentity, identity};
pub use self::list::{Listed, compare, list};
pub use self::make::{ToMake, make, reader};
pub use self::protect::protect;
pub use self::readers::admit;
pub use self::rotate::rotate;
pub use self::trusted::{KeysTrusted, trust_keys};
