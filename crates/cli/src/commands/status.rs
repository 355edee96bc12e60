//! `sophron status`: how the running watcher stands, the worst first.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use serde_json::{Value, json};
use sophron_core::audit::{Kind, Record};
use sophron_core::dispatch::{Request, RuleStanding, Status};
use sophron_core::severity::Severity;
use sophron_core::text::{counted, processes, with_causes};
use sophron_core::units::{scaled_duration, scaled_size};
use sophron_linux::{here, trail};

use super::channels;
use super::stand_back::{in_words, other_version};
use crate::args::{self, TextOrJson};
use crate::exit::{Exit, Failure};
use crate::places;
use crate::ui::style::{Label, Styled};
use crate::ui::{self, paragraph, table, when};
use crate::watcher::control::{self, Reply, Report, Unanswered};
use crate::watcher::rules_file;

const INDENT: usize = 10;

/// Where packages put the unit of the machine's watcher.
const UNIT: &str = "/usr/lib/systemd/system/sophron.service";

/// A watcher that has not looked for so many times the time between two looks is late.
const LATE: f64 = 5.0;

/// The record as it stands.
#[derive(Default)]
struct TheRecord {
    last: Option<Record>,
    stamp: Option<Record>,
    /// What is wrong with its last file, or why it cannot be read.
    fault: Option<String>,
}

/// A channel: its name, how it stands, why it is in trouble, and what waits.
struct OfChannel {
    row: Value,
    down: bool,
    line: String,
}

pub fn run(args: &args::Status) -> Result<Exit, Failure> {
    let folder = args.state.folder.as_deref();
    let report = match control::request(folder, &Request::Status) {
        Ok(Reply::Status(report)) => *report,
        Ok(Reply::Refused(why)) => return Err(Failure::new(Exit::Failed, why)),
        Ok(_) => return Err(other_version()),
        Err(Unanswered::Silent(why)) => return Err(Failure::new(Exit::Found, why)),
        Err(Unanswered::NoWatcher) => return no_watcher(args),
    };
    let state = places::state(folder)?;
    let record = record(&state);
    let channels = of_channels(args.rules.as_deref(), &state);
    let trouble = trouble(&report, &record, &channels);
    match args.format {
        TextOrJson::Json => ui::out(format_args!("{}\n", json(&report, &record, &channels, &trouble))),
        TextOrJson::Text => text(&report, &record, &channels, &trouble),
    }
    Ok(if trouble.is_empty() { Exit::Fine } else { Exit::Found })
}

/// Nobody watches: when the last one ended, as far as the record tells.
fn no_watcher(args: &args::Status) -> Result<Exit, Failure> {
    let state = places::state(args.state.folder.as_deref())?;
    let mut last: Option<Record> = None;
    let told = trail::latest(&state, |record| {
        if matches!(record.kind, Kind::WatcherStarted | Kind::WatcherEnded) {
            last = Some(record.clone());
        }
    });
    let when = match (&told, &last) {
        (Err(error), _) => format!("; its record cannot be read: {}", with_causes(error)),
        (_, Some(record)) if record.kind == Kind::WatcherEnded => {
            format!("; the last one ended at {}", when::date(record.at))
        }
        (_, Some(record)) => format!(
            "; the last one began at {}, and no end of it is recorded: it was killed, or its machine stopped",
            when::date(record.at)
        ),
        (_, None) => String::new(),
    };
    let how = if here::is_root() && Path::new(UNIT).exists() {
        "`systemctl enable --now sophron` starts one with the machine, "
    } else {
        ""
    };
    if args.format == TextOrJson::Json {
        let ended = last.as_ref().filter(|record| record.kind == Kind::WatcherEnded).map(|record| record.at);
        ui::out(format_args!(
            "{}\n",
            json!({ "host": here::host(), "at": here::now().wall, "watcher": null, "ended": ended })
        ));
        return Ok(Exit::Found);
    }
    let of_machine = args.state.folder.is_none() && places::of_machine_may_run();
    let nobody = if of_machine {
        "no watcher of yours runs here; the machine's own, if it runs, answers to root: sudo sophron status"
    } else {
        "no watcher runs here: nobody watches this machine by rules"
    };
    Err(Failure::new(Exit::Found, format!("{nobody}{when}"))
        .hint(format!("{how}`sophron watch` runs one here; one on another state folder is named with --state DIR")))
}

fn record(state: &Path) -> TheRecord {
    let mut record = TheRecord::default();
    let read = trail::latest(state, |one| {
        if one.kind == Kind::Stamp {
            record.stamp = Some(one.clone());
        }
        record.last = Some(one.clone());
    });
    record.fault = match read {
        Ok(Some(latest)) => latest.fault.map(|fault| format!("not sound at record {}: {}", fault.seq, fault.what)),
        Ok(None) => Some("there is none".to_owned()),
        Err(error) => Some(with_causes(&error)),
    };
    record
}

fn of_channels(rules: Option<&Path>, state: &Path) -> Vec<OfChannel> {
    let Some(path) = places::rules(rules).ok().filter(|path: &PathBuf| places::is_there(path)) else {
        return Vec::new();
    };
    // What is wrong with a file says `rules check`, and the line of the rules.
    let Ok(loaded) = rules_file::load_anew(&path) else { return Vec::new() };
    let Ok(all) = channels::standing(&loaded.rules, state) else { return Vec::new() };
    let of = |one: &channels::Standing<'_>| {
        let row = one.row();
        let since = one.since().map(|since| format!(" since {}", when::clock_or_date(since, here::now().wall, None)));
        let why = row.get("why").and_then(Value::as_str).filter(|_| one.state() != "up");
        let why = why.map(|why| format!(": {why}")).unwrap_or_default();
        let line = format!("{} {}{}{why}", one.channel.name, one.state(), since.unwrap_or_default());
        OfChannel { down: one.is_down(), line, row: row.into() }
    };
    all.iter().map(of).collect()
}

/// What is wrong, the worst first.
fn trouble(report: &Report, record: &TheRecord, channels: &[OfChannel]) -> Vec<String> {
    let status = &report.status;
    let mut all = Vec::new();
    if let Some(why) = &status.disarmed {
        let accept =
            if why.contains("is not what it was") { "; `sophron audit accept` once that is understood" } else { "" };
        all.push(format!("disarmed, nothing is done: {why}{accept}"));
    }
    if let Some(late) = late(report) {
        all.push(format!(
            "its last sample is {} old: it hangs, or the machine has no time for it",
            scaled_duration(late)
        ));
    }
    if let Some(why) = &report.rules.refused {
        all.push(format!("the rules file is not used as it is now: {why}"));
    }
    let unknown: Vec<&RuleStanding> =
        status.rules.iter().filter(|rule| rule.unknown.is_some() && rule.not_judged > 0).collect();
    if !unknown.is_empty() {
        let names: Vec<&str> = unknown.iter().map(|rule| rule.rule.as_str()).collect();
        all.push(format!("{} cannot judge everybody: {}", counted(unknown.len(), "rule"), names.join(", ")));
    }
    if let Some(fault) = &record.fault {
        all.push(format!("the record: {fault}"));
    }
    all.extend(channels.iter().filter(|one| one.down).map(|one| format!("channel {}", one.line)));
    all
}

/// How old the last sample is, where that is too long ago.
fn late(report: &Report) -> Option<std::time::Duration> {
    let since = here::now().wall.duration_since(report.sampled.unwrap_or(report.began)).as_secs_f64();
    (since > LATE * report.every.max(1.0)).then(|| std::time::Duration::from_secs_f64(since))
}

fn verdict(status: &Status, trouble: &[String]) -> (Label, String) {
    let breached: Vec<&RuleStanding> = status.rules.iter().filter(|rule| rule.state == "breached").collect();
    let cases: usize = status.rules.iter().map(|rule| rule.cases).sum();
    let open = match (breached.len(), cases) {
        (0, 0) => format!("all quiet by {}", counted(status.rules.len(), "rule")),
        (0, cases) => format!("no rule is breached now, {} open", counted(cases, "case")),
        (rules, cases) => {
            let are = if rules == 1 { "is" } else { "are" };
            format!("{} {are} breached, {} open", counted(rules, "rule"), counted(cases, "case"))
        }
    };
    let severity = breached.iter().filter_map(|rule| Severity::of_word(&rule.severity)).max();
    match (trouble.first(), severity) {
        (Some(worst), _) if status.disarmed.is_some() => (Label::Critical, worst.clone()),
        (Some(worst), severity) => (severity.map_or(Label::Warning, Label::from), format!("{open}; {worst}")),
        (None, Some(severity)) => (severity.into(), open),
        (None, None) => (Label::Heading, open),
    }
}

fn text(report: &Report, record: &TheRecord, channels: &[OfChannel], trouble: &[String]) {
    let (status, now, width) = (&report.status, here::now().wall, table::terminal_width());
    let say = |word: &str, line: &str| ui::out(paragraph::under(word, INDENT, line, width));
    let styled = |word: &str, line: &str, label: Label| ui::out(paragraph::styled(word, INDENT, line, width, label));
    let (label, line) = verdict(status, trouble);
    styled("verdict", &line, label);
    let armed = status.rules.iter().filter(|rule| rule.armed).count();
    let acting = match (status.shadow, armed) {
        (true, _) => "all in shadow, as it was started".to_owned(),
        (false, armed) => format!("{armed} of {} armed", counted(status.rules.len(), "rule")),
    };
    let head = [Styled(Label::Heading, &report.host).to_string(), when::date(now), acting];
    ui::out(table::flow(&head, width));
    for rule in status.rules.iter().filter(|rule| rule.state != "within" || rule.unknown.is_some()) {
        of_rule(rule, now, &styled);
    }
    let within: Vec<String> = status
        .rules
        .iter()
        .filter(|rule| rule.state == "within" && rule.unknown.is_none())
        .map(|rule| {
            let outside = rule.outside.as_ref().map(|hours| format!(", outside `{hours}`")).unwrap_or_default();
            let shadow = if rule.armed { "" } else { ", in shadow" };
            format!("{} (covers {}{shadow}{outside})", rule.rule, processes(rule.covered))
        })
        .collect();
    if !within.is_empty() {
        say("within", &within.join(", "));
    }
    for back in &status.stand_backs {
        styled("back", &format!("rules stand back {}", in_words(back)), Label::Notice);
    }
    if let Some(until) = status.settling {
        styled(
            "settling",
            &format!("nothing is done before {}: the start, or a nap", when::clock(until)),
            Label::Notice,
        );
    }
    if status.in_force > 0 {
        say("in force", &format!("something of ours on {}; `sophron audit` tells what", processes(status.in_force)));
    }
    // The first of it is the verdict's.
    for (place, line) in trouble.iter().enumerate().skip(1) {
        styled(if place == 1 { "trouble" } else { "" }, line, Label::Warning);
    }
    say("rules", &of_rules(report, now));
    say("watcher", &of_watcher(report, now));
    say("record", &of_record(record, now));
    let all: Vec<&str> = channels.iter().map(|one| one.line.as_str()).collect();
    let none = "none: alerts are seen in the record, and where the watcher's lines go".to_owned();
    say("channels", &if all.is_empty() { none } else { all.join(", ") });
}

fn of_rule(rule: &RuleStanding, now: Timestamp, styled: &dyn Fn(&str, &str, Label)) {
    let severity = Severity::of_word(&rule.severity).unwrap_or(Severity::Warning);
    let kind = format!("{}, {}", rule.severity, if rule.armed { "armed" } else { "in shadow" });
    let label = if rule.state == "breached" { severity.into() } else { Label::Notice };
    let mut lines: Vec<String> = rule
        .subjects
        .iter()
        .map(|subject| {
            let since = when::clock_or_date(subject.since, now, None);
            let reading = subject.reading.as_ref().map(|reading| format!(": {reading}")).unwrap_or_default();
            let next = subject.next.as_ref().map_or("; no further step".to_owned(), |next| format!("; next: {next}"));
            format!("{}, case {} since {since}{reading}{next}", subject.subject, subject.case)
        })
        .collect();
    if rule.cases > rule.subjects.len() {
        lines.push(format!("and {} more", counted(rule.cases - rule.subjects.len(), "case")));
    }
    if let Some(outside) = &rule.outside {
        lines.push(format!("now is outside `{outside}`: its ladder stands still"));
    }
    if let Some(why) = rule.unknown.as_ref().filter(|_| rule.not_judged > 0) {
        lines.push(format!("{} it cannot judge: {why}", processes(rule.not_judged)));
    }
    if rule.state == "building" {
        lines.push("a breach builds up, and has not lasted yet".to_owned());
    }
    for (place, line) in lines.iter().enumerate() {
        let line = if place == 0 { format!("{} ({kind}) {line}", rule.rule) } else { line.clone() };
        styled(if place == 0 { &rule.state } else { "" }, &line, label);
    }
}

fn of_rules(report: &Report, now: Timestamp) -> String {
    let rules = &report.rules;
    let loaded = when::clock_or_date(rules.loaded, now, None);
    let digest = rules.digest.get(..12).unwrap_or(&rules.digest);
    format!("{}, of {}; read {loaded} ({}); SHA-256 {digest}…", rules.origin, rules.owner, rules.by)
}

fn of_watcher(report: &Report, now: Timestamp) -> String {
    let running = now.duration_since(report.began).as_secs_f64().max(1.0);
    let share = 100.0 * report.cpu / running;
    let memory = report.memory.map(|memory| format!(", {}", scaled_size(memory as f64))).unwrap_or_default();
    let duration = |seconds: f64| scaled_duration(std::time::Duration::try_from_secs_f64(seconds).unwrap_or_default());
    let sampled = report.sampled.map_or("no sample yet".to_owned(), |at| {
        format!("last sample {} ago", duration(now.duration_since(at).as_secs_f64().max(0.0)))
    });
    let until = report.until.map(|until| format!(", until {}", when::clock(until))).unwrap_or_default();
    let how = if report.service { "a service" } else { "no service" };
    format!(
        "sophron {}, PID {}, {how}, since {}{until}; {sampled}, one every {}; {} of CPU ({share:.2}% of a core){memory}",
        report.version,
        report.pid,
        when::clock_or_date(report.began, now, None),
        duration(report.every),
        duration(report.cpu),
    )
}

fn of_record(record: &TheRecord, now: Timestamp) -> String {
    let last = record.last.as_ref().map_or("empty".to_owned(), |last| {
        format!("record {} at {}", last.seq, when::clock_or_date(last.at, now, None))
    });
    let stamp = record.stamp.as_ref().map(|stamp| format!("signed up to record {}", stamp.seq - 1));
    let stamp = stamp.unwrap_or_else(|| "not signed in its last file yet".to_owned());
    let sound = record
        .fault
        .clone()
        .unwrap_or_else(|| "its last file is sound; `sophron audit verify` looks at all of it".to_owned());
    format!("{last}; {stamp}; {sound}")
}

fn json(report: &Report, record: &TheRecord, channels: &[OfChannel], trouble: &[String]) -> Value {
    let status = &report.status;
    json!({
        "host": report.host,
        "at": here::now().wall,
        "trouble": trouble,
        "disarmed": status.disarmed,
        "rows": status.rules,
        "stand_backs": status.stand_backs,
        "settling": status.settling,
        "in_force": status.in_force,
        "rules": report.rules,
        "watcher": {
            "version": report.version,
            "pid": report.pid,
            "service": report.service,
            "shadow": status.shadow,
            "began": report.began,
            "until": report.until,
            "sampled": report.sampled,
            "samples": report.samples,
            "every": report.every,
            "cpu.time": report.cpu,
            "memory": report.memory,
        },
        "record": {
            "seq": record.last.as_ref().map(|last| last.seq),
            "at": record.last.as_ref().map(|last| last.at),
            "hash": record.last.as_ref().map(|last| last.hash.as_str()),
            "signed": record.stamp.as_ref().map(|stamp| stamp.seq - 1),
            "fault": record.fault,
        },
        "channels": channels.iter().map(|one| &one.row).collect::<Vec<_>>(),
    })
}
