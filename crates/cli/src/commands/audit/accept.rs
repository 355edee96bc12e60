//! `sophron audit accept`: a person has taken note of a loss of the record. Until then no rule acts on the strength of it.

use sophron_core::audit::{ActionRecord, By, Came, Draft, Kind, ResultRecord, Verb};
use sophron_core::command_lines::CommandLines;
use sophron_linux::here;
use sophron_linux::trail::{self, Append, TrailFile};

use super::nothing_there;
use crate::args;
use crate::exit::{Exit, Failure};
use crate::places;
use crate::ui::{self, paragraph, table};
use crate::watcher::{keeping, rules_file, scribe};

const INDENT: usize = 10;

pub fn run(args: &args::AuditAccept) -> Result<Exit, Failure> {
    let failed = |error| Failure::of(Exit::Failed, error);
    let state = places::state(args.state.folder.as_deref())?;
    let Some(latest) = trail::latest(&state, |_| {}).map_err(failed)? else { return nothing_there(&args.state) };
    let Some(loss) = latest.in_force.loss() else {
        ui::out(format_args!("no loss of the record in {} waits to be accepted\n", trail::folder(&state).display()));
        return Ok(Exit::Fine);
    };
    let boot = here::boot(std::path::Path::new("/proc"))
        .map_err(|error| Failure::new(Exit::Failed, "the boot ID cannot be read").because(error))?;
    let (scribe, now) = (scribe(boot, By::Hand, CommandLines::Masked), here::now().wall);
    let because = args.because.as_ref().map(|text| sophron_core::text::clean(text.as_bytes()));
    let action = ActionRecord { because, ..ActionRecord::word(Verb::AcceptTheLoss) };
    let seen = format!("record {}: {}", loss.seq, loss.result.as_ref().map_or("", |result| &result.seen));
    let result = ResultRecord { outcome: Came::Accepted, seen: seen.clone(), took: None };
    let draft = Draft { action: Some(action), result: Some(result), ..scribe.plain(now, Kind::LossAccepted) };
    let keeping = keeping(&rules_file::guidance(None)?.audit())?;
    let mut file = TrailFile::open(&state, scribe.plain(now, Kind::TrailOpened), keeping).map_err(failed)?;
    file.append(std::slice::from_ref(&draft)).map_err(failed)?;
    ui::out(paragraph::under("accepted", INDENT, &seen, table::terminal_width()));
    ui::out("rules act again; what is left of the old record stands beside the new one\n");
    Ok(Exit::Fine)
}
