//! What use cases give, each with how people and programs see it.

use cledger_work::add::Added;
use cledger_work::adopt::adoption::Adoption;
use cledger_work::cells::TakenIn;
use cledger_work::declare::Declared;
use cledger_work::deliver::Delivered;
use cledger_work::deliver::chores::{ChoresDone, OpenChore};
use cledger_work::deliver::dropping::Dropped;
use cledger_work::deliver::history::{History, Verified};
use cledger_work::deliver::overwritten::{BroughtBack, Overwritten};
use cledger_work::drift::Taken;
use cledger_work::fill::Filled;
use cledger_work::folio::Entered;
use cledger_work::impact::Impact;
use cledger_work::keys::{Compared, KeysChanged, KeysTrusted, Listed as ListedKey, OwnIdentity};
use cledger_work::outlet::list::Listed as ListedOutlet;
use cledger_work::outlet::lookup::LookedUp;
use cledger_work::outlet::put::Put;
use cledger_work::outlet::put_captured::AllPutBack;
use cledger_work::probe::ProbeReport;
use cledger_work::promote::Promoted;
use cledger_work::rehome::RehomeReport;
use cledger_work::rehome::suggest::Suggested;
use cledger_work::remove::Removed;
use cledger_work::rename::Renamed;
use cledger_work::render::Rendered;
use cledger_work::replace::Replacement;
use cledger_work::resume::Resumed;
use cledger_work::set::SettingsChanged;
use cledger_work::share::Shared;
use cledger_work::trust::Trusted;
use cledger_work::trust::daybook::DaybookTrusted;
use cledger_work::waive::{Unwaived, Waived};
use cledger_work::{Kind, Trouble};
use serde::Serialize;

use super::console::Console;
use super::shown::Shown;
use super::{json, text};

/// Says of each type how people see it, how programs see it, and, where there may be any, what trouble there was.
macro_rules! shown {
    ($($type:ty, |$it:ident, $console:ident| $text:expr, $json:expr
        $(, kind $kind:expr)? $(, trouble $trouble:expr)?;)*) => {$(
        impl Shown for $type {
            fn print(&self, $console: &mut Console) {
                let $it = self;
                $text;
            }

            fn document(&self) -> impl Serialize {
                let $it = self;
                $json
            }
            $(
                fn kind(&self) -> Option<Kind> {
                    let $it = self;
                    $kind
                }
            )?
            $(
                fn trouble(&self) -> Option<&Trouble> {
                    let $it = self;
                    $trouble
                }
            )?
        }
    )*};
}

shown! {
    Added, |it, console| text::add::print(console, it), json::add::document(it);
    Adoption, |it, console| text::adopt::print(console, it), json::adopt::document(it),
        kind it.kind();
    ChoresDone, |it, console| text::chores::done(console, it), json::chores::done(it);
    DaybookTrusted, |it, console| text::trust::daybook(console, it), json::trust::daybook(it);
    Delivered, |it, console| text::deliver::print(console, it), json::deliver::document(it),
        kind it.kind(), trouble it.trouble.as_ref();
    BroughtBack, |it, console| text::history::brought_back(console, it), json::history::brought_back(it),
        kind it.kind();
    Overwritten, |it, console| text::history::overwritten(console, it), json::history::overwritten(it);
    Declared, |it, console| text::declare::print(console, it), json::declare::document(it);
    Dropped, |it, console| text::deliver::dropped(console, it), json::deliver::dropped(it);
    Filled, |it, console| text::fill::print(console, it), json::fill::document(it), kind it.kind();
    Entered, |it, console| text::folio::entered(console, it), json::folio::entered(it), kind it.kind(),
        trouble it.delivered.iter().find_map(|delivered| delivered.trouble.as_ref());
    Impact<'_>, |it, console| text::impact::print(console, it.ledger, &it.address, &it.affected),
        json::impact::document(it.ledger, &it.address, &it.affected);
    History, |it, console| text::history::print(console, it), json::history::document(it);
    KeysChanged, |it, console| text::key::done(console, it), json::key::document(it), kind it.kind();
    KeysTrusted, |it, console| text::key::trusted(console, it),
        json::key::compared(&it.keys, Some(it.written));
    LookedUp<'_>, |it, console| text::outlet::looked_up(console, &it.lookups, it.written),
        json::outlet::looked_up(&it.lookups, it.written), kind it.kind();
    OwnIdentity, |it, console| text::key::identity(console, it), json::key::identity(it);
    ProbeReport, |it, console| text::probe::print(console, it), json::probe::document(it), kind it.kind();
    Promoted, |it, console| text::promote::print(console, it), json::promote::document(it),
        kind it.kind(), trouble it.delivered.as_ref().and_then(|delivered| delivered.trouble.as_ref());
    AllPutBack, |it, console| text::outlet::put_back(console, it), json::outlet::put_back(it), kind it.kind();
    Put, |it, console| text::outlet::put(console, it), json::outlet::put(it), kind it.kind();
    RehomeReport, |it, console| text::rehome::print(console, it), json::rehome::document(it), kind it.kind();
    Suggested, |it, console| text::rehome::suggested(console, it), json::rehome::suggested(it);
    Removed, |it, console| text::remove::print(console, it), json::remove::document(it);
    Renamed, |it, console| text::rename::renamed(console, it), json::rename::renamed(it);
    Rendered, |it, console| text::render::print(console, it), json::render::document(it), kind it.kind();
    Replacement, |it, console| text::replace::print(console, it), json::replace::document(it);
    SettingsChanged, |it, console| text::change::at_once(console, it), json::change::document(it);
    Shared, |it, console| text::rename::print(console, "shared", (&it.from, &it.to), &it.files, it.written),
        json::rename::document((&it.from, &it.to), &it.files, it.written);
    Taken, |it, console| text::change::taken(console, it), json::change::taken(it), kind it.kind();
    TakenIn, |it, console| text::change::taken_in(console, it), json::change::taken_in(it), kind it.kind();
    Trusted, |it, console| text::trust::print(console, it), json::trust::document(it);
    Verified, |it, console| text::history::verified(console, it), json::history::verified(it), kind it.kind();
    Waived, |it, console| text::waive::print(console, it), json::waive::document(it);
    Unwaived, |it, console| text::waive::removed(console, it), json::waive::removed(it);
    Option<Resumed>, |it, console| text::resume::print(console, it.as_ref()),
        json::resume::document(it.as_ref());
    Vec<Compared>, |it, console| text::key::compared(console, it), json::key::compared(it, None);
    Vec<ListedKey>, |it, console| text::key::listed(console, it), json::key::listed(it);
    Vec<ListedOutlet>, |it, console| text::outlet::print(console, it), json::outlet::document(it),
        kind it.iter().any(|outlet| outlet.trouble.is_some()).then_some(Kind::Outside);
    Vec<OpenChore>, |it, console| text::chores::print(console, it), json::chores::document(it);
}
