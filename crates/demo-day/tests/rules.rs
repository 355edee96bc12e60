//! The office's rules on its recorded day: exactly the steps that the documentation lists.

#![allow(clippy::unwrap_used, clippy::expect_used, reason = "a test")]

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::tz::TimeZone;
use sophron_core::decide::{Circumstances, Ledger, Verdict, decide};
use sophron_core::judge::{Case, Event, Judge, Tick};
use sophron_core::protect::Protections;
use sophron_core::recording::Replay;
use sophron_core::rules::{self, RuleSet};

fn at(path: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(path)
}

/// What the rules do on that day, one line a step. An act is taken for done; the recording does not know of it.
fn steps(rules: &Arc<RuleSet>) -> Vec<[String; 5]> {
    let recording = zstd::stream::decode_all(fs::File::open(at("demo/day.jsonl.zst")).unwrap()).unwrap();
    let mut lines = recording.split_inclusive(|byte| *byte == b'\n');
    let mut replay = Replay::begin(lines.next().unwrap()).unwrap();
    let zone = replay.header().zone.as_deref().map_or(TimeZone::UTC, |zone| TimeZone::get(zone).unwrap());
    let protections = Protections {
        conditions: rules.protect.iter().map(|condition| (condition.clone(), "the rules".to_owned())).collect(),
        ..Protections::default()
    };
    let mut judge = Judge::new(Arc::clone(rules), 1);
    let (none, mut ledger) = (BTreeSet::new(), Ledger::default());
    let mut told = Vec::new();
    for line in lines {
        let snapshot = replay.next(line).unwrap();
        let clock = snapshot.moment.wall.to_zoned(zone.clone()).strftime("%H:%M:%S").to_string();
        let mut tell = |case: &Case, rule: &str, what: String| {
            let reading = case.measure.as_ref().and_then(|measure| Some(measure.reading.as_ref()?.scaled()));
            told.push([clock.clone(), rule.to_owned(), case.label(), what, reading.unwrap_or_default()]);
        };
        let tick = Tick { snapshot, suspended: &none, busy: &none, only: None, zone: &zone };
        let events = judge.tick(&tick);
        let circumstances = Circumstances {
            snapshot,
            protections: &protections,
            standing_back: &BTreeMap::new(),
            all_in_shadow: false,
            disarmed: false,
        };
        let decisions = decide(&events, &mut judge, &circumstances, rules.cap, &mut ledger);
        for event in &events {
            match event {
                Event::Opened { case } => {
                    let case = judge.case(*case).unwrap();
                    tell(case, &judge.rule_of(case).name, format!("case {} opens", case.number));
                }
                Event::Remind { case } => {
                    let case = judge.case(*case).unwrap();
                    tell(case, &judge.rule_of(case).name, "told again".to_owned());
                }
                Event::Closed { case, why } => {
                    tell(
                        case,
                        &judge.rule_of(case).name,
                        format!("case {} closes: {why:?}", case.number).to_lowercase(),
                    );
                }
                _ => {}
            }
        }
        // A step on several processes is one line.
        let mut of_step: BTreeMap<u64, Vec<_>> = BTreeMap::new();
        decisions.iter().for_each(|decision| of_step.entry(decision.case).or_default().push(decision));
        for (number, decisions) in of_step {
            let (case, first) = (judge.case(number).unwrap(), decisions[0]);
            let on = match decisions.len() {
                1 if first.subject.id == case.subject.id => String::new(),
                1 => format!(": {}", first.subject.label()),
                many => format!(": {many} processes"),
            };
            let what = match &first.verdict {
                Verdict::Act(action) => format!("{action}{on}"),
                Verdict::Alert => "alert".to_owned(),
                other => format!("{other:?}"),
            };
            tell(case, &judge.rule_of(case).name, what);
        }
        decisions.iter().for_each(|decision| judge.settled(decision.case, matches!(decision.verdict, Verdict::Act(_))));
    }
    told
}

#[test]
fn the_offices_rules_do_on_the_demo_day_what_its_page_lists() {
    let rules = Arc::new(rules::load(&fs::read(at("examples/mossgate.toml")).unwrap()).unwrap());
    let heading = "| time | rule | subject | what | reading |\n|---|---|---|---|---|\n";
    let mut table = heading.to_owned();
    for [time, rule, subject, what, reading] in steps(&rules) {
        writeln!(table, "| {time} | {rule} | {subject} | {what} | {reading} |").unwrap();
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
