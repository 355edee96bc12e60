//! `sophron usage`: who used how much over weeks and months, which hour is bad, and since when something is otherwise.

mod machine_formats;

use jiff::SignedDuration;
use sophron_core::condition::{Condition, Truth};
use sophron_core::facts::Facts;
use sophron_core::model::{Boot, Field, Machine, Process, ProcessId};
use sophron_core::moment::shifted;
use sophron_core::units::exact_duration;
use sophron_core::usage::{self, App, Asked, By, Earlier, Group, all_changes, since};
use sophron_linux::new_files;

use super::condition;
use crate::args::{self, Format, TextOrJson, UsageBy, UsageCommand, UsageGroup};
use crate::exit::{Exit, Failure};
use crate::history;
use crate::ui::{self, document, table};

/// Of this machine so much is told of unless a time is given.
const LATELY: &str = "7d ago";

/// Most rows, unless a number is given: of apps or owners, and of times.
const FIRST: usize = 15;
const MONTH: usize = 31;

/// What a history counts by.
const HOUR: SignedDuration = SignedDuration::from_hours(1);

/// The same for changes, and for what is written to a file.
const LONG: &str = "60d ago";
const ALL: &str = "1970-01-01T00:00:00Z";

/// Fields of which a history tells.
const KNOWN: [Field; 2] = [Field::App, Field::Owner];

pub fn run(args: &args::UsageList, command: Option<UsageCommand>) -> Result<Exit, Failure> {
    match command {
        Some(UsageCommand::Changes(args)) => changes(&args),
        Some(UsageCommand::Export(args)) => export(&args),
        None => told(args),
    }
}

fn told(args: &args::UsageList) -> Result<Exit, Failure> {
    let covers = args.covers.as_deref().map(covering).transpose()?;
    let asked = asked(args, covers.is_some())?;
    let earlier = args.against.map(|against| SignedDuration::try_from(against).unwrap_or(SignedDuration::MAX));
    let (history, since, until) = history::asked(&args.span, LATELY, earlier.unwrap_or(SignedDuration::ZERO))?;
    // Of what is open at its ends: as far as something is known.
    let (first, last) = history.span().unwrap_or_default();
    let (begin, end) = (since.max(first), until.min(last));
    let since = match (earlier, &args.span.since) {
        (Some(earlier), None) => begin.max(shifted(end, -earlier)),
        (Some(earlier), Some(_)) if end.duration_since(begin) > earlier.saturating_add(HOUR) => {
            return Err(overlap(earlier));
        }
        _ => since,
    };
    let of = |part: usage::History| match &covers {
        Some(condition) => part.only(|app| is_covered(condition, app)),
        None => part,
    };
    // The same length, so much earlier, and nothing that is told of now.
    let before = earlier.map(|by| {
        let begin = since.max(first);
        (of(history.within(shifted(begin, -by), shifted(end, -by).min(begin))), by)
    });
    let now = of(history.within(since, until));
    let told = usage::view(&now, asked, before.as_ref().map(|(history, by)| Earlier { history, by: *by }));
    match args.format {
        Format::Text => ui::page(&document::text(&told, table::terminal_width())),
        format => ui::out(machine_formats::of_view(&told, &now, before.as_ref().map(|(history, _)| history), format)),
    }
    Ok(Exit::Fine)
}

fn overlap(earlier: SignedDuration) -> Failure {
    let length = exact_duration(earlier.unsigned_abs());
    Failure::new(
        Exit::Usage,
        format!("that time is longer than {length}: it and the same time {length} earlier are partly one"),
    )
    .hint("leave --since away to compare the last such time with the one before, or give a greater --against")
}

fn asked(args: &args::UsageList, of_some: bool) -> Result<Asked, Failure> {
    let group = match args.group {
        UsageGroup::App => Group::App,
        UsageGroup::Owner => Group::Owner,
        UsageGroup::Hour => Group::Hour,
        UsageGroup::Weekday => Group::Weekday,
        UsageGroup::Day => Group::Day,
    };
    let of_time = matches!(group, Group::Hour | Group::Weekday | Group::Day);
    let by = match args.by {
        Some(UsageBy::Cpu) => By::Cpu,
        Some(UsageBy::Held) => By::Held,
        Some(UsageBy::Read) => By::Read,
        Some(UsageBy::Waiting) => By::Waiting,
        Some(UsageBy::Cases) => By::Cases,
        None if of_time && !of_some => By::Waiting,
        None => By::Cpu,
    };
    if by == By::Waiting && (!of_time || of_some) {
        return Err(Failure::new(
            Exit::Usage,
            "who waited is not known, only that somebody did: waiting is the machine's",
        )
        .hint("ask when it was: --group hour, weekday or day, without --where"));
    }
    Ok(Asked { group, by, of_some, limit: args.limit.unwrap_or(if of_time { MONTH } else { FIRST }) })
}

/// A condition over what a history knows of a program.
fn covering(text: &str) -> Result<Condition, Failure> {
    let condition = condition(text)?;
    if let Some(other) = condition.fields().into_iter().find(|field| !KNOWN.contains(field)) {
        return Err(Failure::new(
            Exit::Usage,
            format!("a history does not know {} of the programs in it", other.name()),
        )
        .hint("it knows app and owner: --where 'app = labelpress and owner = ines'"));
    }
    Ok(condition)
}

fn is_covered(condition: &Condition, app: &App) -> bool {
    let mut process = Process::unread(ProcessId { pid: 1, start: 0, boot: Boot::default() });
    process.uid = app.uid;
    let names = process.names_mut();
    names.app.clone_from(&app.app);
    names.owner.clone_from(&app.owner);
    names.app_rests_on = sophron_core::model::Basis::Proof;
    condition.evaluate(&Facts::new(&process, &Machine::default())) == Truth::True
}

fn changes(args: &args::UsageChanges) -> Result<Exit, Failure> {
    let (history, from, until) = history::asked(&args.span, LONG, SignedDuration::ZERO)?;
    let history = history.within(from, until);
    let changes = all_changes(&history);
    let told = since(&history, &changes);
    match args.format {
        TextOrJson::Text => ui::page(&document::text(&told, table::terminal_width())),
        TextOrJson::Json => ui::out(machine_formats::of_changes(&told, &history, &changes)),
    }
    Ok(if changes.is_empty() { Exit::Fine } else { Exit::Found })
}

fn export(args: &args::UsageExport) -> Result<Exit, Failure> {
    let (history, from, until) = history::asked(&args.span, ALL, SignedDuration::ZERO)?;
    let history = history.within(from, until);
    let name = sophron_core::text::clean(args.file.as_os_str().as_encoded_bytes());
    let failed = |error: std::io::Error| Failure::new(Exit::Failed, format!("{name} cannot be written")).because(error);
    let lines = usage::file::write(&history);
    let packed = args.file.extension().is_some_and(|ending| ending == "zst");
    let bytes = if packed { zstd::encode_all(lines.as_bytes(), 0).map_err(failed)? } else { lines.into_bytes() };
    let written = new_files::write(&args.file, &bytes, new_files::OWNER_ONLY);
    written.map_err(|error| Failure::of(Exit::Failed, error))?;
    let hours = sophron_core::text::counted(history.rows.len(), "hour");
    ui::err(format_args!("sophron: {hours} written to {name}\n"));
    Ok(Exit::Fine)
}
