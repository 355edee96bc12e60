//! `sophron audit`: what happened, the worst first; `sophron audit verify`: whether the record is whole.

use std::path::{Path, PathBuf};

use serde_json::json;
use sophron_core::audit::{self, CaseSummary, Verified};
use sophron_linux::files::PathError;
use sophron_linux::here;
use sophron_linux::trail::{self, TrailError};

use crate::args::{self, TextOrJson};
use crate::exit::{Exit, Failure};
use crate::places;
use crate::ui::style::{Label, Styled};
use crate::ui::table::{self, Column};
use crate::ui::{self, when};

/// A trail that was read and verified.
struct Trail {
    state: PathBuf,
    verified: Verified,
}

fn read(state: &args::State) -> Result<Option<Trail>, Failure> {
    let state = places::state(state.folder.as_deref())?;
    let bytes = trail::read(&state).map_err(|error| {
        let exit =
            if matches!(error, TrailError::Folder(PathError::Unsafe { .. })) { Exit::Refused } else { Exit::Failed };
        Failure::of(exit, error)
    })?;
    Ok(bytes.map(|bytes| Trail { verified: audit::verify(&bytes), state }))
}

/// Whose trail that is, and where the machine's is.
fn nothing_there(state: &args::State) -> Result<Exit, Failure> {
    let folder = places::state(state.folder.as_deref())?;
    let whose = here::who(&mut here::Users::default()).user;
    ui::out(format_args!("no record yet: {} has no audit trail ({whose}'s)\n", folder.display()));
    if state.folder.is_none() && !here::is_privileged() {
        ui::out("the machine's own is in /var/lib/sophron and read by root: sudo sophron audit\n");
    }
    Ok(Exit::Fine)
}

pub fn list(args: &args::AuditList) -> Result<Exit, Failure> {
    let Some(trail) = read(&args.state)? else { return nothing_there(&args.state) };
    let cases = audit::cases(&trail.verified.records);
    match args.format {
        TextOrJson::Json => ui::out(format_args!("{}\n", as_json(&trail, &cases))),
        TextOrJson::Text => ui::out(as_text(&trail, &cases)),
    }
    Ok(if complain(&trail) { Exit::Found } else { Exit::Fine })
}

pub fn verify(state: &args::State) -> Result<Exit, Failure> {
    let Some(trail) = read(state)? else { return nothing_there(state) };
    if complain(&trail) {
        return Ok(Exit::Found);
    }
    let records = trail.verified.records.len();
    let last = trail.verified.records.last();
    let until = last.map(|record| format!(", last at {}", when::date(record.at))).unwrap_or_default();
    ui::out(format_args!(
        "{}: all {records} records are whole and in order{until}\nlast hash {}\n",
        trail::path(&trail.state).display(),
        trail.verified.link.hash,
    ));
    Ok(Exit::Fine)
}

/// Says what is wrong with the chain, if anything is.
fn complain(trail: &Trail) -> bool {
    let Some(fault) = &trail.verified.fault else { return false };
    let path = trail::path(&trail.state);
    let mut text = format!(
        "{} record {} (line {} of {}): {}\n",
        Styled(Label::Critical, "broken:"),
        fault.seq,
        fault.line,
        path.display(),
        fault.what
    );
    match trail.verified.records.last() {
        Some(last) => text.push_str(&format!(
            "  the records up to {} ({}) are whole; what follows cannot be trusted\n",
            last.seq,
            when::date(last.at)
        )),
        None => text.push_str("  nothing before it can be trusted either\n"),
    }
    if trail.verified.torn {
        text.push_str("  a crash leaves such an end; the next watcher cuts it off and records that\n");
    }
    ui::err(text);
    true
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

fn as_text(trail: &Trail, cases: &[CaseSummary]) -> String {
    let records = &trail.verified.records;
    let (host, since) = records.first().map_or((String::new(), String::new()), |record| {
        (record.host.clone(), format!(", since {}", when::date(record.at)))
    });
    let mut text = format!(
        "{}  {}  {} cases in {} records{since}\n",
        Styled(Label::Heading, host),
        trail::path(&trail.state).display(),
        cases.len(),
        records.len(),
    );
    if cases.is_empty() {
        text.push_str("no rule was broken\n");
        text.push_str(&by_hand(records));
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
    text
}

/// Most acts by hand that are listed; the rest is counted.
const MOST_BY_HAND: usize = 10;

/// What people did, the newest first.
fn by_hand(records: &[audit::Record]) -> String {
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
            hand.verb.clone(),
            hand.subject.app.clone(),
            hand.subject.id.clone(),
            hand.subject.owner.clone(),
            hand.outcome.clone(),
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
    let mut words: Vec<(&str, usize)> = Vec::new();
    for word in &case.done {
        match words.iter_mut().find(|(known, _)| known == word) {
            Some((_, times)) => *times += 1,
            None => words.push((word, 1)),
        }
    }
    let counted = words
        .iter()
        .map(|(word, times)| if *times == 1 { (*word).to_owned() } else { format!("{word} {times} times") });
    counted.collect::<Vec<_>>().join(", ")
}

fn as_json(trail: &Trail, cases: &[CaseSummary]) -> serde_json::Value {
    let path: &Path = &trail::path(&trail.state);
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
                "done": case.done,
                "stands": case.story.word(),
            })
        })
        .collect();
    json!({
        "host": trail.verified.records.first().map(|record| record.host.clone()),
        "trail": path.display().to_string(),
        "records": trail.verified.records.len(),
        "whole": trail.verified.fault.is_none(),
        "hands": audit::hands(&trail.verified.records).iter().map(hand_as_json).collect::<Vec<_>>(),
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
