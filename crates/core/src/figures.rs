//! Figures of the watcher for others' monitoring, as OpenMetrics text (1.0): what is counted is what stands in the trail since the watcher
//! began, and beside it how the watcher itself does.

use std::fmt::Write;
use std::time::Duration;

use jiff::Timestamp;

use crate::audit::{Kind, Record, ToldWord};
use crate::rules::RuleSet;
use crate::sorted::{SortedMap, SortedSet};

/// Rules with figures of their own; those behind them in the file are counted as one.
const MOST_RULES: usize = 100;

/// As what the rest is counted.
const OTHER: &str = "other";

/// What is sent as.
pub const CONTENT_TYPE: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

/// How the watcher does.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Pulse {
    /// When it began.
    pub began: Timestamp,
    /// When it last took a sample.
    pub sampled: Option<Timestamp>,
    /// How many it has taken.
    pub samples: u64,
    /// What sampling and deciding took, all together.
    pub spent: Duration,
    /// CPU time that it has used.
    pub cpu: Duration,
    /// Resident memory, bytes.
    pub memory: u64,
    /// Whether it could act: the trail can be written.
    pub can_act: bool,
}

/// What was counted.
#[derive(Debug)]
pub struct Figures {
    /// Rules with figures of their own, and how serious each is.
    rules: SortedMap<String, &'static str>,
    cases: SortedMap<(String, String), u64>,
    open: SortedMap<u64, (String, String)>,
    acts: SortedMap<(String, String, String), u64>,
    told: SortedMap<(String, String), u64>,
    up: SortedMap<String, bool>,
}

impl Figures {
    /// Of nothing yet: each rule and channel has its figures from the beginning. `down`: the channels that are.
    pub fn new(rules: &RuleSet, down: &SortedSet<String>) -> Figures {
        let own = rules.rules.iter().take(MOST_RULES);
        let known: SortedMap<String, &'static str> =
            own.map(|rule| (rule.name.to_string(), rule.severity.word())).collect();
        let rest = (rules.rules.len() > MOST_RULES).then(|| (OTHER.to_owned(), OTHER.to_owned()));
        let each = known.iter().map(|(rule, severity)| (rule.clone(), (*severity).to_owned()));
        let channels = rules.telling.channels.iter().map(|channel| channel.name.clone());
        Figures {
            cases: each.chain(rest).map(|labels| (labels, 0)).collect(),
            rules: known,
            open: SortedMap::new(),
            acts: SortedMap::new(),
            told: SortedMap::new(),
            up: channels.map(|name| (name.clone(), !down.contains(&name))).collect(),
        }
    }

    /// One more record.
    pub fn note(&mut self, record: &Record) {
        if let Some(told) = &record.told
            && let Some(up) = self.up.get_mut(&told.channel)
        {
            let count = told.records.len() as u64;
            match told.outcome {
                ToldWord::Down => *up = false,
                ToldWord::Back => *up = true,
                _ if count == 0 => {}
                _ => *self.told.entry((told.channel.clone(), told.outcome.word().to_owned())).or_default() += count,
            }
        }
        let Some(name) = record.rule.as_deref() else { return };
        let (rule, severity) = match self.rules.get(name) {
            Some(severity) => (name.to_owned(), (*severity).to_owned()),
            None => (OTHER.to_owned(), OTHER.to_owned()),
        };
        match (&record.kind, record.case) {
            // One that is back is open already.
            (Kind::Breach, Some(case)) if self.open.insert(case, (rule.clone(), severity.clone())).is_none() => {
                *self.cases.entry((rule, severity)).or_default() += 1;
            }
            (Kind::Calm | Kind::Ended | Kind::Left, Some(case)) => {
                self.open.remove(&case);
            }
            (Kind::Outcome | Kind::Refused | Kind::Restored | Kind::Superseded | Kind::Shadow, _) => {
                let (Some(verb), Some(came)) = (record.verb(), record.came()) else { return };
                *self.acts.entry((rule, verb.to_string(), came.to_string())).or_default() += 1;
            }
            _ => {}
        }
    }

    /// All of it, as text.
    pub fn text(&self, pulse: &Pulse) -> String {
        let mut text = Text(String::new());
        text.family("watcher", "info", "", "The watcher's version.");
        text.sample("watcher_info", &[("version", env!("CARGO_PKG_VERSION"))], 1);
        text.family("start_timestamp_seconds", "gauge", "seconds", "When the watcher began, since 1970.");
        text.sample("start_timestamp_seconds", &[], seconds(pulse.began));
        if let Some(sampled) = pulse.sampled {
            text.family("sample_timestamp_seconds", "gauge", "seconds", "When it last took a sample, since 1970.");
            text.sample("sample_timestamp_seconds", &[], seconds(sampled));
        }
        text.family("samples", "counter", "", "Samples taken.");
        text.sample("samples_total", &[], pulse.samples);
        text.family("sampling_seconds", "counter", "seconds", "Time that sampling and deciding took.");
        text.sample("sampling_seconds_total", &[], pulse.spent.as_secs_f64());
        text.family("own_cpu_seconds", "counter", "seconds", "CPU time that the watcher itself has used.");
        text.sample("own_cpu_seconds_total", &[], pulse.cpu.as_secs_f64());
        text.family("own_memory_bytes", "gauge", "bytes", "Resident memory of the watcher itself.");
        text.sample("own_memory_bytes", &[], pulse.memory);
        text.family("can_act", "gauge", "", "1 while rules may act; 0 while the audit trail cannot be written.");
        text.sample("can_act", &[], u8::from(pulse.can_act));
        text.family("cases", "counter", "", "Cases opened.");
        for ((rule, severity), count) in &self.cases {
            text.sample("cases_total", &[("rule", rule), ("severity", severity)], count);
        }
        text.family("open_cases", "gauge", "", "Cases that are open.");
        for labels in self.cases.keys() {
            let count = self.open.values().filter(|open| *open == labels).count();
            text.sample("open_cases", &[("rule", &labels.0), ("severity", &labels.1)], count);
        }
        text.family(
            "acts",
            "counter",
            "",
            "What rules did, would have done or did not get to do, and what came of it.",
        );
        for ((rule, act, outcome), count) in &self.acts {
            text.sample("acts_total", &[("rule", rule), ("act", act), ("outcome", outcome)], count);
        }
        text.family("told", "counter", "", "Messages to people, and what became of them.");
        for ((channel, outcome), count) in &self.told {
            text.sample("told_total", &[("channel", channel), ("outcome", outcome)], count);
        }
        text.family("channel_up", "gauge", "", "1 while a channel is up, 0 while it counts as down.");
        for (channel, up) in &self.up {
            text.sample("channel_up", &[("channel", channel)], u8::from(*up));
        }
        text.0.push_str("# EOF\n");
        text.0
    }
}

fn seconds(at: Timestamp) -> f64 {
    at.as_duration().as_secs_f64()
}

struct Text(String);

impl Text {
    fn family(&mut self, name: &str, kind: &str, unit: &str, help: &str) {
        // Writing to a text never fails.
        let _ = writeln!(self.0, "# TYPE sophron_{name} {kind}");
        if !unit.is_empty() {
            let _ = writeln!(self.0, "# UNIT sophron_{name} {unit}");
        }
        let _ = writeln!(self.0, "# HELP sophron_{name} {help}");
    }

    fn sample(&mut self, name: &str, labels: &[(&str, &str)], value: impl std::fmt::Display) {
        let _ = write!(self.0, "sophron_{name}");
        for (at, (label, value)) in labels.iter().enumerate() {
            let value = value.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n");
            let _ = write!(self.0, "{}{label}=\"{value}\"", if at == 0 { '{' } else { ',' });
        }
        let _ = writeln!(self.0, "{} {value}", if labels.is_empty() { "" } else { "}" });
    }
}
