//! `sophron audit`: what happened, the worst first; and everything that can be asked of the record.

mod accept;
mod explain;
mod export;
mod follow;
mod verify;

use std::path::{Path, PathBuf};

use serde_json::json;
use sophron_core::audit::{self, CaseSummary, Fault, Filter, Record, Verified};
use sophron_core::text::counted;
use sophron_linux::files::PathError;
use sophron_linux::here;
use sophron_linux::trail::{self, TrailError};

use crate::args::{self, AuditCommand, TextOrJson};
use crate::exit::{Exit, Failure};
use crate::places;
use crate::ui::style::{Label, Styled};
use crate::ui::table::{self, Column};
use crate::ui::{self, paragraph, when};

/// Columns of the word before what is broken.
const BROKEN: usize = 8;

/// A trail that was read and verified.
struct Trail {
    state: PathBuf,
    paths: Vec<PathBuf>,
    verified: Verified,
}

/// Records that were picked out of a trail.
struct Picked {
    state: PathBuf,
    records: Vec<Record>,
    /// Whether the chain was found broken; not known where only a part was read.
    broken: bool,
    checked: bool,
}

pub fn run(list: &args::AuditList, command: Option<AuditCommand>) -> Result<Exit, Failure> {
    match command {
        None if list.follow => follow::run(list),
        None => cases(list),
        Some(AuditCommand::Accept(args)) => accept::run(&args),
        Some(AuditCommand::Verify(args)) => verify::run(&args),
        Some(AuditCommand::Explain(args)) => explain::run(&args),
        Some(AuditCommand::Export(args)) => export::run(&args),
        Some(AuditCommand::Stats(args)) => export::stats(&args),
        Some(AuditCommand::Schema) => {
            ui::out(format_args!("{}\n", serde_json::to_string_pretty(&audit::schema()).unwrap_or_default()));
            Ok(Exit::Fine)
        }
    }
}

fn files(state: &args::State, filter: &Filter) -> Result<(PathBuf, Option<trail::Files>), Failure> {
    let state = places::state(state.folder.as_deref())?;
    let files = trail::read(&state, filter.since, filter.until).map_err(|error| {
        let exit =
            if matches!(error, TrailError::Folder(PathError::Unsafe { .. })) { Exit::Refused } else { Exit::Failed };
        Failure::of(exit, error)
    })?;
    Ok((state, files))
}

fn read(state: &args::State) -> Result<Option<Trail>, Failure> {
    let (state, files) = files(state, &Filter::default())?;
    Ok(files.map(|files| Trail { verified: files.verify(), paths: files.paths, state }))
}

/// The records that were asked for. All of them are verified; a part is found by its time, and only picked.
fn pick(asked: &args::AuditFilter, marks: bool) -> Result<Option<Picked>, Failure> {
    let filter = filter(asked)?;
    if filter.since.is_some() {
        let (state, files) = files(&asked.state, &filter)?;
        let picked = |files: trail::Files| {
            let records = files.bytes.iter().flat_map(|bytes| filter.pick(bytes, marks)).collect();
            Picked { state, records, broken: false, checked: false }
        };
        return Ok(files.map(picked));
    }
    let Some(trail) = read(&asked.state)? else { return Ok(None) };
    let broken = trail.complain();
    let mark = |record: &Record| marks && filter.is_mark(&record.kind, record.at);
    let mut records = trail.verified.records;
    if !filter.is_open() {
        records.retain(|record| mark(record) || filter.takes(record));
    }
    Ok(Some(Picked { state: trail.state, records, broken, checked: true }))
}

fn filter(asked: &args::AuditFilter) -> Result<Filter, Failure> {
    use sophron_core::moment::Anchor;
    let anchor = Anchor::Now(jiff::Zoned::now());
    let time = |text: &String| crate::moments::read(text, &anchor);
    Ok(Filter {
        since: asked.since.as_ref().map(time).transpose()?,
        until: asked.until.as_ref().map(time).transpose()?,
        rule: asked.rule.clone(),
        app: asked.app.clone(),
        case: None,
        covers: asked.covers.as_deref().map(super::condition).transpose()?,
    })
}

/// Whose trail that is, and where the machine's is.
fn nothing_there(state: &args::State) -> Result<Exit, Failure> {
    let folder = places::state(state.folder.as_deref())?;
    let whose = here::Users::default().name(here::uid());
    ui::out(format_args!("no record yet: {} has no audit trail ({whose}'s)\n", folder.display()));
    if state.folder.is_none() && !here::is_privileged() {
        ui::out("the machine's own is in /var/lib/sophron and read by root: sudo sophron audit\n");
    }
    Ok(Exit::Fine)
}

fn cases(args: &args::AuditList) -> Result<Exit, Failure> {
    let Some(picked) = pick(&args.filter, true)? else { return nothing_there(&args.filter.state) };
    if args.records {
        let text: String = picked.records.iter().map(export::line).collect();
        ui::page(&text);
    } else {
        let cases = audit::cases(&picked.records);
        match args.format {
            TextOrJson::Json => ui::out(format_args!("{}\n", as_json(&picked, &cases))),
            TextOrJson::Text => ui::page(&as_text(&picked, &cases)),
        }
    }
    Ok(if picked.broken { Exit::Found } else { Exit::Fine })
}

impl Trail {
    /// Says what is wrong with the chain, if anything is.
    fn complain(&self) -> bool {
        let Some(fault) = &self.verified.fault else { return false };
        broken(fault, self.verified.records.last(), self.verified.torn, &self.paths, &self.state);
        true
    }
}

/// Names the first bad record and the last trustworthy one.
fn broken(fault: &Fault, last: Option<&Record>, torn: bool, paths: &[PathBuf], state: &Path) {
    let path = paths.get(fault.file).cloned().unwrap_or_else(|| trail::folder(state));
    let width = table::terminal_width();
    let found = format!("record {} (line {} of {}): {}", fault.seq, fault.line, path.display(), fault.what);
    let mut text = paragraph::styled("broken:", BROKEN, &found, width, Label::Critical);
    text.push_str(&match last {
        Some(last) => format!(
            "  the records up to {} ({}) are whole; what follows cannot be trusted\n",
            last.seq,
            when::date(last.at)
        ),
        None => "  nothing before it can be trusted either\n".to_owned(),
    });
    if torn {
        text.push_str("  a crash leaves such an end; the next watcher cuts it off and records that\n");
    }
    ui::err(text);
}

fn columns() -> [Column; 9] {
    [
        Column::number("case"),
        Column::text("severity"),
        Column::text("began"),
        Column::text("app").gives_way(),
        Column::text("id"),
        Column::text("owner").gives_way(),
        Column::text("rule").gives_way(),
        Column::text("what was done").gives_way(),
        Column::text("stands"),
    ]
}

fn as_text(picked: &Picked, cases: &[CaseSummary]) -> String {
    let records = &picked.records;
    let (host, since) = records.first().map_or((String::new(), String::new()), |record| {
        (record.host.clone(), format!(", since {}", when::date(record.at)))
    });
    let mut text = format!(
        "{}  {}  {} in {}{since}\n",
        Styled(Label::Heading, host),
        trail::folder(&picked.state).display(),
        counted(cases.len(), "case"),
        counted(records.len(), "record"),
    );
    if cases.is_empty() {
        text.push_str("no rule was broken\n");
        text.push_str(&by_hand(records));
        text.push_str(unchecked(picked));
        return text;
    }
    let rows: Vec<Vec<String>> = cases
        .iter()
        .map(|case| {
            vec![
                case.case.to_string(),
                case.severity.word().to_owned(),
                when::short_date(case.began),
                case.app.clone(),
                case.id.clone(),
                case.owner.clone(),
                case.rule.clone(),
                done(case),
                case.story.word().to_owned(),
            ]
        })
        .collect();
    text.push_str(&table::render(&columns(), &rows, table::terminal_width()));
    text.push_str(&by_hand(records));
    text.push_str(unchecked(picked));
    text
}

/// A part of the chain proves nothing.
fn unchecked(picked: &Picked) -> &'static str {
    if picked.checked { "" } else { "only this part was read: `sophron audit verify` checks the whole\n" }
}

/// Most acts by hand that are listed; the rest is counted.
const MOST_BY_HAND: usize = 10;

/// What people did, the newest first.
fn by_hand(records: &[Record]) -> String {
    let hands = audit::hands(records);
    if hands.is_empty() {
        return String::new();
    }
    let columns = [
        Column::text("by hand"),
        Column::text("who").gives_way(),
        Column::text("did"),
        Column::text("app").gives_way(),
        Column::text("id"),
        Column::text("owner").gives_way(),
        Column::text("outcome").gives_way(),
        Column::text("because").gives_way(),
    ];
    let row = |hand: &audit::HandSummary| {
        vec![
            when::short_date(hand.at),
            hand.who.user.clone(),
            hand.verb.to_string(),
            hand.subject.app.clone(),
            hand.subject.id.clone(),
            hand.subject.owner.clone(),
            hand.outcome.to_string(),
            hand.because.clone().unwrap_or_default(),
        ]
    };
    let rows: Vec<Vec<String>> = hands.iter().take(MOST_BY_HAND).map(row).collect();
    let more = hands.len().saturating_sub(MOST_BY_HAND);
    let more = if more > 0 { format!("and {more} earlier ones by hand\n") } else { String::new() };
    format!("\n{}{more}", table::render(&columns, &rows, table::terminal_width()))
}

/// `lowered, suspended, resumed, ended`; the same thing several times is counted.
fn done(case: &CaseSummary) -> String {
    if case.done.is_empty() {
        return "alerted".to_owned();
    }
    let mut words: Vec<(&audit::Done, usize)> = Vec::new();
    for word in &case.done {
        match words.iter_mut().find(|(known, _)| *known == word) {
            Some((_, times)) => *times += 1,
            None => words.push((word, 1)),
        }
    }
    let counted =
        words.iter().map(|(word, times)| if *times == 1 { word.to_string() } else { format!("{word} {times} times") });
    counted.collect::<Vec<_>>().join(", ")
}

fn as_json(picked: &Picked, cases: &[CaseSummary]) -> serde_json::Value {
    let path = trail::folder(&picked.state);
    let rows: Vec<serde_json::Value> = cases
        .iter()
        .map(|case| {
            json!({
                "case": case.case,
                "severity": case.severity,
                "began": case.began.to_string(),
                "app": case.app,
                "id": case.id,
                "owner": case.owner,
                "rule": case.rule,
                "evidence": case.why,
                "done": case.done.iter().map(ToString::to_string).collect::<Vec<_>>(),
                "stands": case.story.word(),
            })
        })
        .collect();
    json!({
        "host": picked.records.first().map(|record| record.host.clone()),
        "trail": path.display().to_string(),
        "records": picked.records.len(),
        "whole": picked.checked.then_some(!picked.broken),
        "hands": audit::hands(&picked.records).iter().map(hand_as_json).collect::<Vec<_>>(),
        "rows": rows,
    })
}

fn hand_as_json(hand: &audit::HandSummary) -> serde_json::Value {
    json!({
        "at": hand.at.to_string(),
        "who": hand.who.user,
        "login_uid": hand.who.login_uid,
        "did": hand.verb,
        "app": hand.subject.app,
        "id": hand.subject.id,
        "owner": hand.subject.owner,
        "outcome": hand.outcome,
        "because": hand.because,
    })
}
