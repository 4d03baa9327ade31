//! `cledger get`: one bare value.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::model::Ledger;
use cledger_core::resolve::{Effective, FieldId};
use cledger_core::value::Value;
use cledger_work::Trouble;
use cledger_work::meant::field_address;
use cledger_work::show::{named, one, value};
use serde::Serialize;
use zeroize::Zeroizing;

use crate::app::App;
use crate::complete;
use crate::options::LookOptions;
use crate::output::console::Console;
use crate::output::json;
use crate::output::shown::Shown;

#[derive(Debug, Args)]
pub(crate) struct GetArgs {
    /// The field, such as ticket-desk/bookings-db.host@test or shared/mail.port
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    #[command(flatten)]
    look: LookOptions,
}

pub(crate) fn run(args: &GetArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let address = field_address(&app.at, &args.address, args.look.stage.as_ref())?;
    named(&address)?;
    let opened = app.open_partly(&args.look.scope(&app.at, &address)?)?;
    let field = one(&opened, &address)?;
    let (unmask, assumptions) = args.look.read(&opened.ledger, field.stage)?;
    let resolver = opened.assuming(&assumptions);
    let value = value(&opened, &resolver, field, unmask)?;
    Ok(app.show(&View { ledger: &opened.ledger, field, value, unmask }))
}

/// One value, which may be shown.
struct View<'l> {
    ledger: &'l Ledger,
    field: FieldId,
    value: Effective<'l>,
    unmask: bool,
}

impl Shown for View<'_> {
    fn print(&self, console: &mut Console) {
        let text = Zeroizing::new(self.value.expose().map(Value::to_text).unwrap_or_default());
        console.exact(&text);
    }

    fn document(&self) -> impl Serialize {
        json::show::one(self.ledger, self.field, &self.value, self.unmask)
    }
}
