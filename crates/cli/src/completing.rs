//! What a shell offers at the tab key: besides commands and options also what there is on this machine. The shell's script asks the
//! program, by a variable. What cannot be read offers nothing, and says nothing: somebody is typing.

use std::collections::BTreeMap;
use std::env;
use std::ffi::OsStr;
use std::path::PathBuf;

use clap_complete::CompleteEnv;
use clap_complete::engine::CompletionCandidate;
use sophron_core::audit::Kind;
use sophron_core::model::{Field, Process};
use sophron_core::rules::RuleSet;
use sophron_core::text::{clean, processes};
use sophron_linux::{here, trail};

use crate::watcher::rules_file;
use crate::{places, source};

/// The variable by which a shell's script asks: the name of the shell.
pub const VARIABLE: &str = "SOPHRON_COMPLETE";

/// So many cases, the newest first.
const CASES: usize = 50;

/// Answers a shell that asks; whether one did.
pub fn asked_for() -> bool {
    if env::var_os(VARIABLE).is_none() {
        return false;
    }
    let folder = env::current_dir().ok();
    let completing = CompleteEnv::with_factory(crate::command).var(VARIABLE).bin("sophron");
    // What went wrong shows as nothing offered.
    completing.try_complete(env::args_os(), folder.as_deref()).unwrap_or(true)
}

/// The word behind an option of the line that is typed.
fn told(option: &str) -> Option<PathBuf> {
    let mut words = env::args_os().skip_while(|word| word != "--").skip(1);
    words.find(|word| word == option)?;
    words.next().map(PathBuf::from)
}

fn state() -> Option<PathBuf> {
    let machine = here::is_privileged().then(|| PathBuf::from(places::MACHINE_STATE));
    told("--state").or(machine).or_else(|| places::state(None).ok())
}

/// The rules that are meant: of the file on the line, else those that `watch` reads.
fn rule_set() -> Option<RuleSet> {
    let is_file = |word: &PathBuf| word.extension().is_some_and(|end| end == "toml") && word.is_file();
    let typed = env::args_os().map(PathBuf::from).find(is_file);
    let machine = here::is_privileged().then(|| PathBuf::from(places::MACHINE_RULES));
    let path = typed.or(machine).or_else(|| places::rules(None).ok())?;
    Some(rules_file::load_anew(&path).ok()?.rules)
}

fn beginning(current: &OsStr) -> &str {
    current.to_str().unwrap_or("\0")
}

fn offer(value: impl Into<String>, help: impl Into<String>) -> CompletionCandidate {
    CompletionCandidate::new(value.into()).help(Some(help.into().into()))
}

/// The fields of conditions.
pub fn fields(current: &OsStr) -> Vec<CompletionCandidate> {
    fields_after("", beginning(current))
}

fn fields_after(before: &str, begun: &str) -> Vec<CompletionCandidate> {
    let fitting = Field::ALL.iter().filter(|field| field.name().starts_with(begun));
    fitting.map(|field| offer(format!("{before}{}", field.name()), field.info().meaning)).collect()
}

/// The last word of a condition, where it begins a field.
pub fn condition(current: &OsStr) -> Vec<CompletionCandidate> {
    let text = beginning(current);
    let begun = text.rfind(|c: char| c.is_whitespace() || c == '(').map_or(0, |at| at + 1);
    let (before, begun) = text.split_at(begun);
    fields_after(before, begun)
}

/// The names of rules.
pub fn rules(current: &OsStr) -> Vec<CompletionCandidate> {
    let Some(rules) = rule_set() else { return Vec::new() };
    let fitting = rules.rules.iter().filter(|rule| rule.name.starts_with(beginning(current)));
    fitting.map(|rule| offer(&*rule.name, rule.note.clone().unwrap_or_default())).collect()
}

/// The names of channels.
pub fn channels(current: &OsStr) -> Vec<CompletionCandidate> {
    let Some(rules) = rule_set() else { return Vec::new() };
    let fitting = rules.telling.channels.iter().filter(|channel| channel.name.starts_with(beginning(current)));
    fitting.map(|channel| offer(channel.name.clone(), "")).collect()
}

/// Cases of the last file of the record, the newest first.
pub fn cases(current: &OsStr) -> Vec<CompletionCandidate> {
    let mut cases: BTreeMap<u64, String> = BTreeMap::new();
    let read = state().map(|state| {
        trail::latest(&state, |record| {
            if let (Kind::Breach, Some(case)) = (&record.kind, record.case) {
                let whom = record.subject.as_ref().map_or("", |subject| subject.app.as_str());
                cases.insert(
                    case,
                    format!("{} on {}", record.rule.as_deref().unwrap_or_default(), clean(whom.as_bytes())),
                );
            }
        })
    });
    if !matches!(read, Some(Ok(_))) {
        return Vec::new();
    }
    let all = cases.into_iter().rev().take(CASES).map(|(case, words)| (case.to_string(), words));
    all.filter(|(case, _)| case.starts_with(beginning(current))).map(|(case, words)| offer(case, words)).collect()
}

/// Whether a shell takes it for one word and nothing else: anybody may call his program what he likes, and what is offered may be
/// root's next command.
fn is_plain(app: &str) -> bool {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '_' | '-' | '+' | '@');
    app.starts_with(|c: char| c.is_ascii_alphanumeric()) && app.chars().all(plain)
}

/// Whom a command may be about: apps by their names, and from the first digit on processes by their checked PIDs.
pub fn targets(current: &OsStr) -> Vec<CompletionCandidate> {
    let Ok(snapshot) = source::present() else { return Vec::new() };
    let begun = beginning(current);
    let somebody = |process: &&Process| !process.has_ended() && !process.kernel && !process.app_unread();
    let there = snapshot.processes.iter().filter(somebody);
    if begun.starts_with(|c: char| c.is_ascii_digit()) {
        let checked = there.map(|process| (process.id.checked().to_string(), process));
        let fitting = checked.filter(|(checked, _)| checked.starts_with(begun));
        return fitting
            .map(|(checked, process)| offer(checked, format!("{}, {}", clean(process.app.as_bytes()), process.owner)))
            .collect();
    }
    let mut apps: BTreeMap<&str, usize> = BTreeMap::new();
    for process in there.filter(|process| process.app.starts_with(begun) && is_plain(&process.app)) {
        *apps.entry(&process.app).or_default() += 1;
    }
    apps.into_iter().map(|(app, count)| offer(app, processes(count))).collect()
}

/// A rule, or whom a command may be about.
pub fn rules_and_targets(current: &OsStr) -> Vec<CompletionCandidate> {
    let mut all = rules(current);
    all.extend(targets(current));
    all
}
