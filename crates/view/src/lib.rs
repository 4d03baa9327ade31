//! The view of a ledger in the terminal: fields down, stages across, and beside them all about the one that is looked at.
//!
//! [`Screen`] is what is on the screen: keys and news change it, and it says what is wished for. The modules below `draw`
//! draw it. What is read, followed, tried and set is a matter of `cledger_work::browse`; here nobody waits for it.

mod draw;
mod look;
mod run;
mod screen;

pub use draw::draw;
pub use look::Look;
pub use run::{Ended, browse};
pub use screen::Screen;
