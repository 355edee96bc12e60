//! `sophron audit explain CASE`: one case from beginning to end, as one stands before a customer with it.

use std::path::Path;

use jiff::tz::TimeZone;
use sophron_core::audit;
use sophron_core::model::ProcessId;
use sophron_linux::handle::Handle;
use sophron_linux::here;

use super::{nothing_there, read};
use crate::args::{self, TextOrJson};
use crate::exit::{Exit, Failure};
use crate::ui::{self, document, table};

pub fn run(args: &args::AuditExplain) -> Result<Exit, Failure> {
    let Some(trail) = read(&args.state)? else { return nothing_there(&args.state) };
    let broken = trail.complain();
    // Of another boot everybody has ended.
    let boot = here::boot(Path::new("/proc")).ok();
    let is_gone = |id: &ProcessId| {
        boot.is_some_and(|boot| id.boot != boot) || Handle::open(id).is_err_and(|error| error.is_gone())
    };
    let account =
        audit::account(&trail.verified.records, args.case, &TimeZone::system(), &is_gone).ok_or_else(|| {
            Failure::new(Exit::Failed, format!("the record has no case {}", args.case))
                .hint("`sophron audit` lists all cases")
        })?;
    match args.format {
        TextOrJson::Text => ui::page(&document::text(&account, table::terminal_width())),
        TextOrJson::Json => ui::out(format_args!("{}\n", account.json())),
    }
    Ok(if broken { Exit::Found } else { Exit::Fine })
}
