//! The ladder of a rule, read step by step.

use std::ops::Range;
use std::time::Duration;

use toml::Spanned;
use toml::de::DeValue;

use super::keys::{self, Reading};
use super::options::{self, Names};
use super::section::{Section, Source};
use super::{Action, Step, asking};
use crate::diag::Diagnostic;
use crate::subject::Judged;
use crate::text::nearest;
use crate::units::exact_duration;

const SECOND: Duration = Duration::from_secs(1);
const MINUTE: Duration = Duration::from_secs(60);
const WEEK: Duration = Duration::from_secs(7 * 86_400);
const DEFAULT_SUSPENSION: Duration = MINUTE;
const DEFAULT_NICE: i64 = 10;

/// The steps of a rule; by default one alert.
pub(super) fn ladder(source: &mut Source<'_>, section: &Section<'_>, names: &Names, judge: Judged) -> Vec<Step> {
    let Some(value) = section.get("ladder") else { return vec![Step::new(Duration::ZERO, Action::Alert)] };
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
        let Some(step) = step(source, &section, names, judge) else { continue };
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

fn step(source: &mut Source<'_>, section: &Section<'_>, names: &Names, judge: Judged) -> Option<Step> {
    source.only(section, &keys::STEP, Reading::All);
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
    let hours = options::hours(source, section, "hours", names).unwrap_or_default();
    let run = command(source, section);
    let (action, own) = match word.value.as_str() {
        "alert" => (Action::Alert, ""),
        "lower" => (Action::Lower { nice: nice.unwrap_or(DEFAULT_NICE) as i32 }, "nice"),
        "suspend" => (Action::Suspend { length: length.unwrap_or(DEFAULT_SUSPENSION) }, "for"),
        "terminate" => (Action::Terminate { force_after }, "force_after"),
        "restart" => (Action::Restart, ""),
        "run" => (Action::Run, "run"),
        other => {
            source.error(unknown_action(other, word.span));
            return None;
        }
    };
    if action == Action::Run && section.get("run").is_none() {
        source.missing(section, "run", "[\"/opt/mossgate/tell-desk\"]");
    }
    if action == Action::Restart && !matches!(judge, Judged::Unit | Judged::Process) {
        source.error(
            Diagnostic::at(
                word.span.clone(),
                "only a unit can be restarted",
                format!("this rule judges {}", judge.with_article()),
            )
            .help("write `judge = \"unit\"`"),
        );
    }
    for (key, owner) in [("nice", "lower"), ("for", "suspend"), ("force_after", "terminate"), ("run", "run")] {
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
    let ask = asking::ask(source, section, action, judge);
    Some(Step { at: at?, action, hours, ask, run: run.unwrap_or_default().into() })
}

/// The program of a `run` step: an absolute path and fixed arguments, no shell.
fn command(source: &mut Source<'_>, section: &Section<'_>) -> Option<Vec<String>> {
    let value = section.get("run")?;
    let example = "[\"/opt/mossgate/tell-desk\", \"--short\"]";
    let words: Option<Vec<String>> = match value.get_ref() {
        DeValue::Array(items) => items.iter().map(|item| item.get_ref().as_str().map(str::to_owned)).collect(),
        _ => None,
    };
    let Some(words) = words.filter(|words| !words.is_empty()) else {
        source.wrong_type(value, "run", "a program and its arguments", example);
        return None;
    };
    if !words[0].starts_with('/') {
        source.error(
            Diagnostic::at(value.span(), "the program of `run` is an absolute path", "not from /")
                .help(format!("write `run = {example}`; no shell and no search path are used")),
        );
    }
    Some(words)
}

/// Words that people try are answered with ours.
fn unknown_action(word: &str, span: Range<usize>) -> Diagnostic {
    let shown = crate::text::clean(word.as_bytes());
    let title = format!("`{shown}` is not an action");
    let help = match word {
        "stop" => "write `suspend` (it can go on later) or `terminate` (it ends)".to_owned(),
        "kill" | "end" | "quit" => {
            "write `terminate`; `force_after = \"10s\"` ends by force what does not end by itself".to_owned()
        }
        "pause" | "freeze" => "write `suspend`".to_owned(),
        "nice" | "renice" | "slow" => "write `lower`".to_owned(),
        "notify" | "warn" | "tell" => "write `alert`".to_owned(),
        "exec" | "execute" | "script" | "command" => {
            "write `run`, and `run = [\"/opt/mossgate/tell-desk\"]`".to_owned()
        }
        _ => match nearest(word, keys::WORDS) {
            Some(near) => format!("write `{near}`"),
            None => format!("actions: {}", keys::WORDS.join(", ")),
        },
    };
    Diagnostic::at(span, title, "unknown action").help(help)
}
