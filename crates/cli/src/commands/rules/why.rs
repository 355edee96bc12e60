//! `sophron rules why RULE TARGET`: why a rule does or does not act on a process now, part by part.

use std::path::Path;
use std::time::Duration;

use jiff::tz::TimeZone;
use sophron_core::condition::{Condition, InWords, Truth};
use sophron_core::dispatch::Standing;
use sophron_core::facts::Facts;
use sophron_core::model::{Field, Needs, Process, Snapshot};
use sophron_core::rules::Rule;
use sophron_core::subject::Judged;
use sophron_core::units::{Value, scaled_duration};
use sophron_linux::{Sampler, roles, terminal};

use crate::args;
use crate::commands::target;
use crate::exit::{Exit, Failure};
use crate::places;
use crate::source;
use crate::ui::style::{Label, Styled};
use crate::ui::{self, paragraph, table, when};
use crate::watcher::control;
use crate::watcher::rules_file;

const INDENT: usize = 11;

/// A word, how serious it is, and what there is to say.
type Line = (&'static str, Option<Label>, String);

/// Over how long rates are measured.
const MEASURED: Duration = Duration::from_secs(1);

pub fn run(args: &args::Why) -> Result<Exit, Failure> {
    let guidance = rules_file::guidance(Some(&places::rules(args.rules.as_deref())?))?;
    let Some(loaded) = &guidance.loaded else {
        return Err(Failure::new(Exit::Failed, "there is no rules file to ask").hint("name one with --rules FILE"));
    };
    let (_, rule) = super::named(&loaded.rules, &args.rule)?;
    let (snapshot, process) = look(&args.target)?;
    let protections = guidance.protections_now(&snapshot, terminal::holders(snapshot.machine.boot));
    let facts = Facts::new(&process, &snapshot.machine);
    let width = table::terminal_width();
    let asked = control::ask(args.state.folder.as_deref(), &rule.name, &process.id);
    let mut lines: Vec<Line> = Vec::new();
    let covered = rule.covers.as_ref().map_or(Truth::True, |covers| covers.evaluate(&facts));
    let by_tree = rule.judge == Judged::Tree;
    lines.push(match (covered, &rule.covers) {
        (Truth::True, None) => ("covered", None, "the rule covers every process".to_owned()),
        (Truth::True, Some(_)) => ("covered", None, "its `where` is true of it".to_owned()),
        (Truth::False, Some(_)) if by_tree => (
            "covered",
            Some(Label::Notice),
            "by itself it is not; as a descendant of one that is, it would be".to_owned(),
        ),
        (Truth::False, _) => ("not covered", Some(Label::Warning), "its `where` is false of it".to_owned()),
        (Truth::Unknown, _) => (
            "not covered",
            Some(Label::Warning),
            "its `where` cannot be decided, and an unknown one covers nobody".to_owned(),
        ),
    });
    for part in rule.covers.iter().flat_map(Condition::parts) {
        lines.push(("", None, part_words(part, &facts)));
    }
    let standing = asked.as_ref().ok().and_then(|answer| answer.standing.clone());
    lines.extend(breach(rule, &facts, standing.as_ref()));
    lines.extend(state(rule, standing.as_ref()));
    if let Some(why) = protections.reason(&facts) {
        lines.push(("protected", Some(Label::Warning), format!("{why}; rules only ever alert on it")));
    } else if let Some(role) = roles::role(&process) {
        lines.push(("protected", Some(Label::Warning), format!("from suspending and ending: {role}")));
    }
    lines.extend(hours(rule, &snapshot));
    if !rule.armed {
        lines.push(("shadow", Some(Label::Notice), "the rule is in shadow: it would only say what it does".to_owned()));
    }
    if let Err(why) = &asked {
        lines.push(("watcher", Some(Label::Notice), why.clone()));
    }
    let head = [
        Styled(Label::Heading, &snapshot.machine.host).to_string(),
        when::date(snapshot.moment.wall),
        format!("{} on {}", rule.name, process.label()),
    ];
    ui::out(table::flow(&head, width));
    ui::out(paragraph::styled(
        "verdict",
        INDENT,
        &verdict(rule, covered, &facts, standing.as_ref()),
        width,
        Label::Heading,
    ));
    for (word, label, line) in lines {
        ui::out(match label {
            Some(label) => paragraph::styled(word, INDENT, &line, width, label),
            None => paragraph::under(word, INDENT, &line, width),
        });
    }
    Ok(Exit::Fine)
}

/// Two samples, and the process meant: of an app the heaviest.
fn look(text: &str) -> Result<(Snapshot, Process), Failure> {
    let failed = |error| Failure::of(Exit::Failed, error);
    let mut sampler = Sampler::new(Path::new("/proc"), Needs::PERIODIC).map_err(failed)?;
    let mut snapshot = sampler.look().map_err(failed)?;
    target::find(text, &snapshot)?;
    source::measuring(MEASURED);
    std::thread::sleep(MEASURED);
    snapshot = sampler.look().map_err(failed)?;
    source::measured();
    let process = target::find(text, &snapshot)?.heaviest().clone();
    Ok((snapshot, process))
}

/// `memory.held 812 MiB is over 750 MiB: true`.
fn part_words(part: &Condition, facts: &Facts<'_>) -> String {
    let truth = match part.evaluate(facts) {
        Truth::True => "true",
        Truth::False => "false",
        Truth::Unknown => "unknown",
    };
    let now = |field: Field| facts.reading(field).map_or_else(|| unread(field), |value| shown(&value));
    let readings: Vec<String> = part.fields().into_iter().map(|field| format!("{field} is {}", now(field))).collect();
    format!("{}: {truth} ({})", InWords(part), readings.join(", "))
}

fn shown(value: &Value) -> String {
    match value {
        Value::Text(text) if text.is_empty() => "empty".to_owned(),
        value => value.scaled(),
    }
}

fn unread(field: Field) -> String {
    if field.info().rate { "unknown: needs two samples".to_owned() } else { "unknown: it may not be read".to_owned() }
}

fn breach(rule: &Rule, facts: &Facts<'_>, standing: Option<&Standing>) -> Vec<Line> {
    let mut lines = Vec::new();
    if rule.judge != Judged::Process {
        let whose = match standing {
            Some(standing) => standing.subject.clone(),
            None => format!("judged is {}: the watcher knows its sums", rule.judge.with_article()),
        };
        lines.push(("judged", None, whose));
    }
    if let Some(standing) = standing.filter(|standing| !standing.parts.is_empty()) {
        for (place, (words, truth, reading)) in standing.parts.iter().enumerate() {
            let now = match reading {
                Some(reading) => format!("now {reading}"),
                None if words.contains(" in ") => "its window is not full yet, or it may not be read".to_owned(),
                None => "it may not be read".to_owned(),
            };
            let word = if place == 0 { "breach" } else { "" };
            lines.push((word, None, format!("{words}: {truth} ({now})")));
        }
        return lines;
    }
    for (place, part) in rule.breach.parts().into_iter().enumerate() {
        let word = if place == 0 { "breach" } else { "" };
        let text = match (part.series().is_empty(), rule.judge) {
            (false, _) => format!("{}: unknown here (a watcher knows what was before)", InWords(part)),
            (true, Judged::Process) => part_words(part, facts),
            (true, _) => InWords(part).to_string(),
        };
        lines.push((word, None, text));
    }
    lines
}

/// What the watcher knows: building up, an open case, a spent budget.
fn state(rule: &Rule, standing: Option<&Standing>) -> Vec<Line> {
    let Some(standing) = standing else { return Vec::new() };
    let mut lines = Vec::new();
    let seconds = |seconds: f64| scaled_duration(Duration::from_secs_f64(seconds.max(0.0)));
    if let Some(held) = standing.building {
        lines.push((
            "building",
            Some(Label::Notice),
            format!("{} of {}", seconds(held), scaled_duration(rule.lasting)),
        ));
    }
    if let Some(case) = &standing.case {
        let next = case.next.as_ref().map_or("no further step".to_owned(), |next| format!("next: {next}"));
        lines.push((
            "case",
            Some(Label::Notice),
            format!("case {} is open; {} of breach; {next}", case.number, seconds(case.clock)),
        ));
    }
    if let (Some(spent), Some(budget)) = (standing.spent, rule.budget) {
        let (label, rest): (Option<Label>, &str) = if spent >= budget.cases as usize {
            (Some(Label::Warning), "it is spent: people are told, and nothing is done")
        } else {
            (None, "not spent")
        };
        let per = scaled_duration(budget.per);
        lines.push(("budget", label, format!("{spent} of {} cases in {per}: {rest}", budget.cases)));
    }
    if let Some(left) = standing.standing_back {
        lines.push((
            "back",
            Some(Label::Notice),
            format!("a hand was at work: rules stand back for {} more", seconds(left)),
        ));
    }
    if let Some(left) = standing.settling {
        lines.push((
            "settling",
            Some(Label::Notice),
            format!("nothing is done for {} more: the start, or a nap", seconds(left)),
        ));
    }
    lines
}

fn hours(rule: &Rule, snapshot: &Snapshot) -> Vec<Line> {
    let zone = TimeZone::system();
    let mut lines = Vec::new();
    if !rule.hours.covers(snapshot.moment.wall, &zone) {
        lines.push((
            "hours",
            Some(Label::Warning),
            format!("now is outside `{}`: its ladder stands still", rule.hours),
        ));
    }
    for step in rule.ladder.iter().filter(|step| !step.hours.covers(snapshot.moment.wall, &zone)) {
        lines.push(("hours", Some(Label::Notice), format!("now is outside `{}`: {} waits", step.hours, step.action)));
    }
    lines
}

fn verdict(rule: &Rule, covered: Truth, facts: &Facts<'_>, standing: Option<&Standing>) -> String {
    let case = standing.and_then(|standing| standing.case.as_ref());
    match (covered, case) {
        (_, Some(case)) => format!("it acts: case {} is open", case.number),
        (Truth::False, _) if rule.judge != Judged::Tree => "it does not act: the rule does not cover it".to_owned(),
        (Truth::Unknown, _) => "it does not act: whether the rule covers it cannot be told".to_owned(),
        _ if standing.and_then(|standing| standing.building).is_some() => {
            "it does not act yet: the breach has not lasted long enough".to_owned()
        }
        _ if standing.is_some_and(|standing| standing.parts.iter().any(|(_, truth, _)| truth == "unknown")) => {
            "it does not act: the breach cannot be told yet, and an unknown one never acts".to_owned()
        }
        _ if standing.is_some() => "it does not act: there is no breach".to_owned(),
        _ if rule.judge != Judged::Process => "not known: no watcher tells how it stands".to_owned(),
        _ => match rule.breach.evaluate(facts) {
            Truth::True => "it would act, once the breach has lasted: no watcher runs it".to_owned(),
            Truth::False => "it does not act: there is no breach".to_owned(),
            Truth::Unknown => "not known: the breach cannot be decided from one look".to_owned(),
        },
    }
}
