//! The options that say what is searched for.

use clap::Args;
use cledger_core::types::Type;
use cledger_work::conditions::SearchTexts;

#[derive(Debug, Clone, Default, Args)]
#[expect(clippy::struct_excessive_bools, reason = "each is an option that is given or not")]
pub(crate) struct ConditionOptions {
    /// Where to look, as a pattern of addresses, like `ticket-desk`, `*/*.host@prod-*` or `*@default`
    pattern: Option<String>,
    /// Only entries of this kind
    #[arg(long, value_parser = ["variable", "connection", "endpoint", "credential", "table"])]
    kind: Option<String>,
    /// Only fields of this type
    #[arg(long = "type", value_name = "TYPE", value_parser = Type::names().collect::<Vec<_>>())]
    this_type: Option<String>,
    /// Only stages of this class
    #[arg(long, value_parser = ["development", "test", "production"])]
    class: Option<String>,
    /// Only what stands in this layer; follow and derived with --effective
    #[arg(long, value_parser = ["default", "group", "stage", "follow", "derived"])]
    layer: Option<String>,
    /// Only units that this team looks after
    #[arg(long, value_name = "NAME")]
    owner: Option<String>,
    /// Only fields that an output of their unit calls so, as `SEAT_HOLD`
    #[arg(long, value_name = "NAME")]
    output_name: Option<String>,
    /// Only values that are exactly this
    #[arg(long, value_name = "TEXT")]
    equals: Vec<String>,
    /// Only values that contain this
    #[arg(long, value_name = "TEXT")]
    contains: Vec<String>,
    /// Only values that match this regular expression somewhere
    #[arg(long, value_name = "REGEX")]
    matches: Vec<String>,
    /// Only numbers, durations, sizes and days above this
    #[arg(long, value_name = "VALUE", allow_hyphen_values = true)]
    over: Vec<String>,
    /// Only numbers, durations, sizes and days below this
    #[arg(long, value_name = "VALUE", allow_hyphen_values = true)]
    under: Vec<String>,
    /// Only beside another field of the same entry, unit or row: FIELD=TEXT, FIELD~TEXT (contains), FIELD=~REGEX,
    /// FIELD>VALUE, FIELD<VALUE; FIELD is a name, or ENTRY.FIELD
    #[arg(long, value_name = "FIELD=TEXT")]
    beside: Vec<String>,
    /// Only secrets; their values are not shown
    #[arg(long, conflicts_with = "no_secret")]
    secret: bool,
    /// Only what is no secret
    #[arg(long)]
    no_secret: bool,
    /// Only settings with a reason
    #[arg(long)]
    with_why: bool,
    /// Only settings past their last day
    #[arg(long)]
    past_until: bool,
    /// The day to count from, instead of `CLEDGER_TODAY` or today (UTC)
    #[arg(long, value_name = "YYYY-MM-DD", requires = "past_until")]
    today: Option<String>,
}

impl ConditionOptions {
    /// What is searched for.
    pub(crate) fn texts(&self) -> SearchTexts {
        let Self {
            pattern,
            kind,
            this_type,
            class,
            layer,
            owner,
            output_name,
            equals,
            contains,
            matches,
            over,
            under,
            beside,
            secret,
            no_secret,
            with_why,
            past_until,
            today,
        } = self.clone();
        SearchTexts {
            pattern,
            kind,
            this_type,
            class,
            layer,
            owner,
            output_name,
            equals,
            contains,
            matches,
            over,
            under,
            beside,
            secret,
            no_secret,
            with_why,
            past_until,
            today,
        }
    }
}
