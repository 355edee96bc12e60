//! The arguments of what is asked of the record.

use clap::{Subcommand, ValueEnum};
use clap_complete::engine::ArgValueCompleter;

use super::{State, TextOrJson};
use crate::completing;
use crate::exit::TABLE;

/// Which records are meant.
#[derive(Debug, Clone, Default, clap::Args)]
pub struct AuditFilter {
    /// From that moment on, as 10:00, "yesterday 18:00" or "2h ago"
    #[arg(long, value_name = "TIME")]
    pub since: Option<String>,
    /// Up to that moment
    #[arg(long, value_name = "TIME")]
    pub until: Option<String>,
    /// Only about processes for which this is true, as 'app = labelpress and owner != root'
    #[arg(long = "where", value_name = "CONDITION", add = ArgValueCompleter::new(completing::condition))]
    pub covers: Option<String>,
    /// Only of that rule
    #[arg(long, value_name = "RULE", add = ArgValueCompleter::new(completing::rules))]
    pub rule: Option<String>,
    /// Only about that app
    #[arg(long, value_name = "APP", add = ArgValueCompleter::new(completing::targets))]
    pub app: Option<String>,
    #[command(flatten)]
    pub state: State,
}

#[derive(Debug, clap::Args)]
pub struct AuditList {
    #[command(flatten)]
    pub filter: AuditFilter,
    /// Print the records themselves, a line each
    #[arg(long)]
    pub records: bool,
    /// Go on with what is recorded from now on, until interrupted
    #[arg(long, conflicts_with_all = ["since", "until"])]
    pub follow: bool,
    /// How to print it
    #[arg(long, value_enum, default_value_t = TextOrJson::Text)]
    pub format: TextOrJson,
}

#[derive(Debug, Subcommand)]
pub enum AuditCommand {
    /// Tell the whole story of one case: who it was, why, what was done, what can be undone, and who vouches for it
    #[command(after_help = TABLE, arg_required_else_help = true)]
    Explain(AuditExplain),
    /// Check the chain of records and its stamps, and name the first bad one
    #[command(after_help = TABLE)]
    Verify(AuditVerify),
    /// Print the records for other programs
    #[command(after_help = TABLE)]
    Export(AuditExport),
    /// Take note that the record was cut back or taken away, so that rules may act again
    #[command(after_help = TABLE)]
    Accept(AuditAccept),
    /// Print the JSON Schema of a record
    #[command(after_help = TABLE)]
    Schema,
    /// Count cases, acts and outcomes of each rule and app, with the middle time to calm
    #[command(after_help = TABLE)]
    Stats(AuditStats),
}

#[derive(Debug, clap::Args)]
pub struct AuditAccept {
    /// Why, for the record
    #[arg(long, value_name = "TEXT")]
    pub because: Option<String>,
    #[command(flatten)]
    pub state: State,
}

#[derive(Debug, clap::Args)]
pub struct AuditExplain {
    /// The number of the case
    #[arg(add = ArgValueCompleter::new(completing::cases))]
    pub case: u64,
    /// How to print it
    #[arg(long, value_enum, default_value_t = TextOrJson::Text)]
    pub format: TextOrJson,
    #[command(flatten)]
    pub state: State,
}

#[derive(Debug, clap::Args)]
pub struct AuditVerify {
    /// A public key of its stamps that was kept elsewhere, or the file that holds it
    #[arg(long, value_name = "KEY")]
    pub key: Option<String>,
    /// A stamp that must be there, by the hash of its record
    #[arg(long, value_name = "STAMP")]
    pub expect: Option<String>,
    #[command(flatten)]
    pub state: State,
}

#[derive(Debug, clap::Args)]
pub struct AuditExport {
    #[command(flatten)]
    pub filter: AuditFilter,
    /// How to print it
    #[arg(long, value_enum, default_value_t = ExportFormat::Jsonl)]
    pub format: ExportFormat,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ExportFormat {
    /// The records as they stand, a line each
    Jsonl,
    /// For spreadsheets: the main columns
    Csv,
}

#[derive(Debug, clap::Args)]
pub struct AuditStats {
    #[command(flatten)]
    pub filter: AuditFilter,
    /// How to print it
    #[arg(long, value_enum, default_value_t = TextOrJson::Text)]
    pub format: TextOrJson,
}
