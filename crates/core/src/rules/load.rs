//! The rules file: TOML, `format = 1`. All errors of a file are reported in one go.

use std::collections::BTreeMap;
use std::ops::Range;
use std::time::Duration;

use sha2::{Digest, Sha256};
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::checkup;
use super::section::{Keys, Section, Source};
use super::{Action, FORMAT, Rule, RuleSet, Severity, Step};
use crate::condition::Place;
use crate::diag::Diagnostic;
use crate::text::{hex, nearest};
use crate::units::exact_duration;

/// Largest rules file, in bytes.
pub const LARGEST: usize = 1024 * 1024;

const FILE: Keys = Keys {
    known: &["format", "every", "protect", "rule", "checkup"],
    pending: &["hours", "adjust", "settle", "audit", "lookback"],
};
const PROTECT: Keys = Keys { known: &["where"], pending: &[] };
const RULE: Keys = Keys {
    known: &["name", "note", "where", "judge", "breach", "lasting", "calm", "severity", "armed", "ladder"],
    pending: &["hours", "again", "budget", "pick"],
};
const STEP: Keys = Keys { known: &["at", "do", "nice", "for", "force_after"], pending: &["hours", "run"] };

const SECOND: Duration = Duration::from_secs(1);
const MINUTE: Duration = Duration::from_secs(60);
const WEEK: Duration = Duration::from_secs(7 * 86_400);
const DEFAULT_EVERY: Duration = Duration::from_secs(2);
const DEFAULT_SUSPENSION: Duration = MINUTE;
const DEFAULT_NICE: i64 = 10;

/// A rules file that cannot be used: its text as far as it is text, and everything wrong with it.
#[derive(Debug, Clone)]
pub struct Rejected {
    /// The text that the places refer to.
    pub text: String,
    /// At least one.
    pub errors: Vec<Diagnostic>,
}

/// Reads a rules file.
///
/// # Errors
/// Everything wrong with it, each with its place and a mend.
pub fn load(bytes: &[u8]) -> Result<RuleSet, Rejected> {
    let reject = |text: String, errors| Err(Rejected { text, errors });
    if bytes.len() > LARGEST {
        return reject(String::new(), vec![Diagnostic::whole(format!("a rules file is at most {LARGEST} bytes long"))]);
    }
    let text = match str::from_utf8(bytes) {
        Ok(text) => text,
        Err(error) => {
            let at = error.valid_up_to();
            let lossy = String::from_utf8_lossy(bytes).into_owned();
            let byte = bytes.get(at).copied().unwrap_or_default();
            let place = at..(at + char::REPLACEMENT_CHARACTER.len_utf8()).min(lossy.len());
            let diagnostic = Diagnostic::at(place, "the file is not UTF-8", format!("byte {byte:#04x} at offset {at}"))
                .help("save it as UTF-8 in your editor");
            return reject(lossy, vec![diagnostic]);
        }
    };
    let mut source = Source { text, errors: Vec::new() };
    let (table, syntax_errors) = DeTable::parse_recoverable(text);
    for error in &syntax_errors {
        let span = error.span().unwrap_or(0..0);
        let title = format!("not valid TOML: {}", crate::text::clean(error.message().as_bytes()));
        source.error(
            Diagnostic::at(span, title, "here")
                .help("a rules file is TOML: `key = \"value\"` lines under `[[rule]]` headings"),
        );
    }
    // After an error of syntax the rest of the tree is what could be made of it: further errors could be its echo.
    let rules = if syntax_errors.is_empty() { file(&mut source, &table) } else { None };
    match rules {
        Some(rules) if source.errors.is_empty() => Ok(RuleSet { digest: hex(&Sha256::digest(bytes)), ..rules }),
        _ => {
            let mut errors = source.errors;
            errors.sort_by_key(|error| error.span.as_ref().map_or(0, |span| span.start));
            reject(text.to_owned(), errors)
        }
    }
}

fn file(source: &mut Source<'_>, table: &Spanned<DeTable<'_>>) -> Option<RuleSet> {
    let section = Section { table: table.get_ref(), start: 0, name: "the rules file" };
    if !format_is_ours(source, &section) {
        return None;
    }
    source.only(&section, &FILE);
    let every =
        source.duration(&section, "every", [Duration::from_millis(100), MINUTE], "\"2s\"").unwrap_or(DEFAULT_EVERY);
    let protect = section.get("protect").and_then(|value| match value.get_ref() {
        DeValue::Table(table) => {
            let section = Section { table, start: value.span().start, name: "[protect]" };
            source.only(&section, &PROTECT);
            if section.get("where").is_none() {
                source.missing(&section, "where", "'app = \"fernpanel\"'");
            }
            source.condition(&section, "where", Place::Protect)
        }
        _ => {
            source.wrong_type(value, "protect", "a table", "{ where = 'app = \"fernpanel\"' }");
            None
        }
    });
    let checkup = section.get("checkup").map(|value| checkup::settings(source, value)).unwrap_or_default();
    let rules = rules(source, &section);
    Some(RuleSet { every, protect, rules, checkup, digest: String::new() })
}

fn format_is_ours(source: &mut Source<'_>, section: &Section<'_>) -> bool {
    let Some(value) = section.get("format") else {
        source.error(
            Diagnostic::at(0..0, "the rules file lacks `format`", "not the first line")
                .help("begin the file with `format = 1`"),
        );
        return false;
    };
    match source.integer(section, "format", [1, i64::MAX], "1") {
        Some(FORMAT) => true,
        Some(newer) => {
            let title = format!("this rules file has format {newer}, written for a newer version of Sophron");
            source.error(
                Diagnostic::at(value.span(), title, format!("this version reads format {FORMAT}"))
                    .help("update Sophron, or write the file in `format = 1`"),
            );
            false
        }
        None => false,
    }
}

fn rules(source: &mut Source<'_>, section: &Section<'_>) -> Vec<Rule> {
    let Some(value) = section.get("rule") else {
        // A file that only protects is a whole file: the machine's protections bind every user's rules. So is one that
        // only says what checkup goes by.
        if section.get("protect").is_none() && section.get("checkup").is_none() {
            source.error(
                Diagnostic::at(section.place(), "the rules file has no rule and no protection", "nothing in it to watch for").help(
                    "add a table: `[[rule]]`, `name = \"press-leak\"`, `breach = 'memory.held > 750 MiB'`, `lasting = \"20s\"`",
                ),
            );
        }
        return Vec::new();
    };
    let DeValue::Array(tables) = value.get_ref() else {
        source.error(
            Diagnostic::at(value.span(), "a rule stands under `[[rule]]`", "one pair of brackets is missing")
                .help("write `[[rule]]`"),
        );
        return Vec::new();
    };
    let mut names: BTreeMap<String, Range<usize>> = BTreeMap::new();
    let mut rules = Vec::new();
    for value in tables.iter() {
        let DeValue::Table(table) = value.get_ref() else {
            source.wrong_type(value, "rule", "a table", "…` under `[[rule]]");
            continue;
        };
        let section = Section { table, start: value.span().start, name: "a rule" };
        rules.extend(rule(source, &section, &mut names));
    }
    rules
}

fn rule(source: &mut Source<'_>, section: &Section<'_>, names: &mut BTreeMap<String, Range<usize>>) -> Option<Rule> {
    source.only(section, &RULE);
    let name = rule_name(source, section, names);
    let note = source
        .text(section, "note", "\"The label press leaks.\"")
        .map(|text| crate::text::clean(text.value.as_bytes()));
    if let Some(judge) = source.text(section, "judge", "\"process\"")
        && judge.value != "process"
    {
        let later = ["app", "tree", "owner", "unit", "machine"].contains(&judge.value.as_str());
        let shown = crate::text::clean(judge.value.as_bytes());
        let title = if later {
            format!("`judge = \"{shown}\"` is not supported by this version")
        } else {
            format!("`{shown}` is not a subject")
        };
        source.error(Diagnostic::at(judge.span, title, "not judged").help("write `judge = \"process\"`"));
    }
    let covers = source.condition(section, "where", Place::Any);
    let breach = source.condition(section, "breach", Place::Any);
    if section.get("breach").is_none() {
        source.missing(section, "breach", "'memory.held > 750 MiB'");
    }
    let lasting = source.duration(section, "lasting", [Duration::ZERO, WEEK], "\"20s\"");
    if section.get("lasting").is_none() {
        source.missing(section, "lasting", "\"20s\"");
    }
    let calm = source.condition(section, "calm", Place::Any);
    let severity = severity(source, section);
    let armed = source.flag(section, "armed").unwrap_or(false);
    let ladder = ladder(source, section);
    Some(Rule { name: name?, note, covers, breach: breach?, lasting: lasting?, calm, severity, armed, ladder })
}

fn rule_name(
    source: &mut Source<'_>,
    section: &Section<'_>,
    names: &mut BTreeMap<String, Range<usize>>,
) -> Option<String> {
    let Some(name) = source.text(section, "name", "\"press-leak\"") else {
        if section.get("name").is_none() {
            source.missing(section, "name", "\"press-leak\"");
        }
        return None;
    };
    let plain = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_' | '.');
    if name.value.is_empty() || name.value.chars().count() > 64 || !name.value.chars().all(plain) {
        source.error(
            Diagnostic::at(name.span, "a rule's name is 1 to 64 letters, digits, `-`, `_` and `.`", "not a name")
                .help("write `name = \"press-leak\"`"),
        );
        return None;
    }
    if let Some(first) = names.get(&name.value) {
        let (line, _) = crate::diag::line_and_column(source.text, first.start);
        source.error(
            Diagnostic::at(
                name.span,
                format!("two rules are called `{}`", name.value),
                format!("already used in line {line}"),
            )
            .help("give each rule a name of its own: the record goes by it"),
        );
        return None;
    }
    names.insert(name.value.clone(), name.span);
    Some(name.value)
}

fn severity(source: &mut Source<'_>, section: &Section<'_>) -> Severity {
    let Some(text) = source.text(section, "severity", "\"warning\"") else { return Severity::Warning };
    let all = [Severity::Notice, Severity::Warning, Severity::Critical];
    all.into_iter().find(|severity| severity.word() == text.value).unwrap_or_else(|| {
        let shown = crate::text::clean(text.value.as_bytes());
        let near = nearest(&text.value, all.map(Severity::word));
        let help = near.map_or("write notice, warning or critical".to_owned(), |near| format!("write `{near}`"));
        source.error(Diagnostic::at(text.span, format!("`{shown}` is not a severity"), "unknown severity").help(help));
        Severity::Warning
    })
}

fn ladder(source: &mut Source<'_>, section: &Section<'_>) -> Vec<Step> {
    let Some(value) = section.get("ladder") else { return vec![Step { at: Duration::ZERO, action: Action::Alert }] };
    let DeValue::Array(items) = value.get_ref() else {
        source.wrong_type(value, "ladder", "a list of steps", "[ { at = \"0s\", do = \"alert\" } ]");
        return Vec::new();
    };
    if items.is_empty() {
        source.error(
            Diagnostic::at(value.span(), "the ladder has no step", "empty")
                .help("write `[ { at = \"0s\", do = \"alert\" } ]`"),
        );
    }
    let mut steps: Vec<Step> = Vec::new();
    for item in items.iter() {
        let DeValue::Table(table) = item.get_ref() else {
            source.wrong_type(item, "ladder", "a list of steps", "[ { at = \"0s\", do = \"alert\" } ]");
            continue;
        };
        let section = Section { table, start: item.span().start, name: "a step" };
        let Some(step) = step(source, &section) else { continue };
        if let Some(before) = steps.last() {
            check_order(source, &section, before, &step);
        }
        steps.push(step);
    }
    steps
}

fn check_order(source: &mut Source<'_>, section: &Section<'_>, before: &Step, step: &Step) {
    let place = section.get("at").map_or_else(|| section.place(), Spanned::span);
    if step.at < before.at {
        let (at, earlier) = (exact_duration(step.at), exact_duration(before.at));
        source.error(
            Diagnostic::at(place, format!("this step at {at} comes after one at {earlier}"), "out of order")
                .help("put the steps in order of `at`, the mildest first"),
        );
    } else if let Action::Suspend { length } = before.action
        && before.at + length >= step.at
    {
        let ends = exact_duration(before.at + length);
        source.error(
            Diagnostic::at(
                place,
                "the suspension before this step lasts into it",
                format!("suspended until {ends} of breached time"),
            )
            .help(format!("put this step later than {ends}, or suspend for a shorter time")),
        );
    }
}

fn step(source: &mut Source<'_>, section: &Section<'_>) -> Option<Step> {
    source.only(section, &STEP);
    let at = source.duration(section, "at", [Duration::ZERO, WEEK], "\"1m\"");
    if section.get("at").is_none() {
        source.missing(section, "at", "\"1m\"");
    }
    let Some(word) = source.text(section, "do", "\"lower\"") else {
        if section.get("do").is_none() {
            source.missing(section, "do", "\"lower\"");
        }
        return None;
    };
    let ten_minutes = 10 * MINUTE;
    let nice = source.integer(section, "nice", [1, 19], "10");
    let length = source.duration(section, "for", [SECOND, ten_minutes], "\"45s\"");
    let force_after = source.duration(section, "force_after", [SECOND, ten_minutes], "\"10s\"");
    let (action, own) = match word.value.as_str() {
        "alert" => (Action::Alert, ""),
        "lower" => (Action::Lower { nice: nice.unwrap_or(DEFAULT_NICE) as i32 }, "nice"),
        "suspend" => (Action::Suspend { length: length.unwrap_or(DEFAULT_SUSPENSION) }, "for"),
        "terminate" => (Action::Terminate { force_after }, "force_after"),
        other => {
            source.error(unknown_action(other, word.span));
            return None;
        }
    };
    for (key, owner) in [("nice", "lower"), ("for", "suspend"), ("force_after", "terminate")] {
        if let Some(value) = section.get(key)
            && key != own
        {
            source.error(
                Diagnostic::at(
                    value.span(),
                    format!("`{key}` belongs to a step that says `do = \"{owner}\"`"),
                    "has no effect here",
                )
                .help("remove it"),
            );
        }
    }
    Some(Step { at: at?, action })
}

/// Words that people try are answered with ours.
fn unknown_action(word: &str, span: Range<usize>) -> Diagnostic {
    let shown = crate::text::clean(word.as_bytes());
    let title = format!("`{shown}` is not an action");
    let help = match word {
        "restart" | "run" => {
            return Diagnostic::at(
                span,
                format!("the action `{shown}` is not supported by this version"),
                "would do nothing",
            )
            .help("actions: alert, lower, suspend, terminate");
        }
        "stop" => "write `suspend` (it can go on later) or `terminate` (it ends)".to_owned(),
        "kill" | "end" | "quit" => {
            "write `terminate`; `force_after = \"10s\"` ends by force what does not end by itself".to_owned()
        }
        "pause" | "freeze" => "write `suspend`".to_owned(),
        "nice" | "renice" | "slow" => "write `lower`".to_owned(),
        "notify" | "warn" | "tell" => "write `alert`".to_owned(),
        _ => match nearest(word, ["alert", "lower", "suspend", "terminate"]) {
            Some(near) => format!("write `{near}`"),
            None => "actions: alert, lower, suspend, terminate".to_owned(),
        },
    };
    Diagnostic::at(span, title, "unknown action").help(help)
}
