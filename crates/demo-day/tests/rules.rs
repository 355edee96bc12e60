//! The office's rules on its recorded day: exactly the steps that the documentation lists.

#![allow(clippy::unwrap_used, clippy::expect_used, reason = "a test")]

use std::fmt::Write;
use std::fs;
use std::path::{Path, PathBuf};

use jiff::tz::TimeZone;
use sophron_core::protect::Protections;
use sophron_core::recording::{Ours, Replay};
use sophron_core::rehearsal::Rehearsal;
use sophron_core::rules::{self, RuleSet};

fn at(path: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(path)
}

/// What the rules do on that day: the very lines that a watcher would have shown, but for those about itself.
fn lines(rules: &RuleSet) -> Vec<[String; 5]> {
    let recording = zstd::stream::decode_all(fs::File::open(at("demo/day.jsonl.zst")).unwrap()).unwrap();
    let mut lines = recording.split_inclusive(|byte| *byte == b'\n');
    let mut replay = Replay::begin(lines.next().unwrap()).unwrap();
    let zone = replay.header().zone.as_deref().map_or(TimeZone::UTC, |zone| TimeZone::get(zone).unwrap());
    let conditions = rules.protect.iter().map(|condition| (condition.clone(), "the rules".to_owned())).collect();
    let protections = Protections { conditions, ..Protections::default() };
    let every = std::time::Duration::from_secs_f64(replay.header().every);
    let mut rehearsal = Rehearsal::new(rules, every, protections, None, zone.clone());
    let mut told = Vec::new();
    for line in lines {
        rehearsal.take(replay.next(line).unwrap(), &Ours::default());
        for happening in rehearsal.happenings().iter().filter(|happening| happening.case.is_some()) {
            let Some(line) = happening.line(&zone) else { continue };
            let rule = happening.rule.as_deref().unwrap_or_default().to_owned();
            let clock = line.at.to_zoned(zone.clone()).strftime("%H:%M:%S").to_string();
            // The rule's note is the same each time.
            let text = line.text.lines().next().unwrap_or_default().to_owned();
            told.push([
                clock,
                format!("{} {rule}", line.case.unwrap_or_default()),
                line.who,
                line.word.to_owned(),
                text,
            ]);
        }
    }
    told
}

#[test]
fn the_offices_rules_do_on_the_demo_day_what_its_page_lists() {
    let rules = rules::load(&fs::read(at("examples/mossgate.toml")).unwrap()).unwrap();
    let heading = "| time | case and rule | subject | happened | in words |\n|---|---|---|---|---|\n";
    let mut table = heading.to_owned();
    for [time, rule, subject, what, words] in lines(&rules) {
        writeln!(table, "| {time} | {rule} | {subject} | {what} | {words} |").unwrap();
    }
    let page = at("docs/demo-day.md");
    let docs = fs::read_to_string(&page).unwrap();
    let (before, rest) = docs.split_once(heading).expect("the table's heading stands in the page");
    let after = rest.split_once("\n\n").map_or(String::new(), |(_, after)| format!("\n{after}"));
    let wanted = format!("{before}{table}{after}");
    if std::env::var_os("UPDATE_DOCS").is_some() {
        fs::write(&page, &wanted).unwrap();
    }
    assert!(
        fs::read_to_string(&page).unwrap() == wanted,
        "docs/demo-day.md is behind; run this test with UPDATE_DOCS=1\n{table}"
    );
}
