//! A rule for one offender that somebody is looking at, with limits from what it has done so far.

use super::figures::{Figures, Minute, middle};
use super::rule::{Written, percent, size};
use super::{LEAST_OF_APP, SPREADS};
use crate::model::{Process, Snapshot};
use crate::units::quoted;
use crate::units::{Value, scaled_size};

/// The limit stands at that part of what it does now.
const OF_NOW: f64 = 0.75;
/// The present is the mean of so many minutes.
const PRESENT: usize = 5;
/// From there on it is its CPU, or its disk, that is the trouble.
const BUSY: f64 = 50.0;
const HEAVY: f64 = 5e6;

/// What the trouble is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Trouble {
    /// What it holds.
    Memory,
    /// What it computes.
    Cpu,
    /// What it reads and writes.
    Disk,
}

/// What an offender has done so far.
#[derive(Debug, Clone)]
pub struct Course {
    process: Process,
    figures: Figures,
    /// What it held at the first sample that has it, bytes.
    first: Option<u64>,
}

impl Course {
    /// Of that process, as it is now.
    pub fn of(process: Process) -> Course {
        Course { process, figures: Figures::default(), first: None }
    }

    /// A sample, the oldest first.
    pub fn take(&mut self, snapshot: &Snapshot) {
        let target = &self.process;
        if self.first.is_none() {
            let now = snapshot.find(&target.id);
            self.first = now.and_then(|now| now.memory_held);
        }
        self.figures.take(snapshot, |process| process.uid == target.uid && process.app == target.app);
    }

    fn minutes(&self) -> Vec<Minute> {
        self.figures.apps.values().flat_map(|app| app.minutes.values().copied()).collect()
    }
}

/// What its limit rests on.
struct Ground {
    now: f64,
    /// The highest that is normal; `None` where too little was seen.
    normal: Option<f64>,
}

impl Ground {
    fn of(now: f64, minutes: &[Minute], figure: fn(&Minute) -> f64) -> Ground {
        let all: Vec<f64> = minutes.iter().map(figure).collect();
        let recent = &all[all.len().saturating_sub(PRESENT)..];
        let mean = recent.iter().sum::<f64>() / recent.len().max(1) as f64;
        let known = (all.len() >= LEAST_OF_APP).then(|| middle(&all)).flatten();
        let normal = known.map(|(middle, spread)| middle + SPREADS * spread);
        Ground { now: if recent.len() == PRESENT { mean.max(now) } else { now }, normal }
    }

    /// Below what it does now, and above what is normal where both can be.
    fn limit(&self) -> f64 {
        let of_now = self.now * OF_NOW;
        self.normal.filter(|normal| *normal < self.now * 0.95).map_or(of_now, |normal| normal.max(of_now))
    }

    fn why(&self, words: impl Fn(f64) -> String) -> String {
        match self.normal {
            None => format!("{} now; too little was seen to know what is normal", words(self.now)),
            Some(normal) if normal >= self.now * 0.95 => {
                format!("{} now, which is not much for it: up to {} is normal", words(self.now), words(normal))
            }
            Some(normal) => format!("{} now; up to {} is normal for it", words(self.now), words(normal)),
        }
    }
}

impl Trouble {
    fn word(self) -> &'static str {
        match self {
            Trouble::Memory => "memory",
            Trouble::Cpu => "cpu",
            Trouble::Disk => "disk",
        }
    }

    /// What to do about it, as it is written, and why.
    fn ladder(self) -> (&'static str, &'static str) {
        match self {
            Trouble::Memory => (
                "[ { at = \"0s\", do = \"alert\" } ]",
                "lowering or suspending frees no memory: { at = \"10m\", do = \"terminate\" } would; rehearse it first",
            ),
            Trouble::Cpu => ("[ { at = \"0s\", do = \"alert\" }, { at = \"5m\", do = \"lower\" } ]", "mildest first"),
            Trouble::Disk => (
                "[ { at = \"0s\", do = \"alert\" }, { at = \"3m\", do = \"lower\" } ]",
                "lowered it gives way at the disk as well",
            ),
        }
    }
}

/// The rule, in shadow. Without a trouble it is the one that shows most.
pub fn draft(course: &Course, trouble: Option<Trouble>) -> Written {
    let process = &course.process;
    let disk = f64::from(process.disk_read.unwrap_or(0.0)) + f64::from(process.disk_write.unwrap_or(0.0));
    let trouble = trouble.unwrap_or(match process.cpu {
        Some(cpu) if cpu >= BUSY => Trouble::Cpu,
        _ if disk >= HEAVY => Trouble::Disk,
        _ => Trouble::Memory,
    });
    let app = &process.app;
    let whom = format!("app = {} and owner = {}", quoted(app), quoted(&process.owner));
    let named = Written::new(&format!("{app}-{}", trouble.word()), "it stands in every alert and record");
    let minutes = course.minutes();
    let rule = |note: &str| {
        named
            .clone()
            .text("note", note, "people see this: say what it does to them")
            .text("where", &whom, "whom it covers: `sophron rules explain` lists them")
            .text("judge", "process", "each process by itself")
    };
    let written = match trouble {
        Trouble::Memory => memory(course, &minutes, rule(&format!("{app} holds more memory than it should."))),
        Trouble::Cpu => {
            let ground = Ground::of(process.cpu.unwrap_or(0.0), &minutes, Minute::cpu);
            rule(&format!("{app} keeps a core busy."))
                .text(
                    "breach",
                    &format!("avg(cpu, 2m) > {}", percent(ground.limit())),
                    &ground.why(|of| format!("{of:.0}%")),
                )
                .text("lasting", "3m", "a burst is over sooner")
        }
        Trouble::Disk => {
            let writes = process.disk_write > process.disk_read;
            let field = if writes { "disk.write" } else { "disk.read" };
            let ground = Ground::of(disk, &minutes, Minute::disk);
            let limit = (ground.limit() / 1e6).ceil().max(1.0);
            rule(&format!("{app} keeps the disk busy."))
                .text("breach", &format!("avg({field}, 2m) > {limit} MB/s"), &ground.why(|of| Value::Rate(of).scaled()))
                .text("lasting", "2m", "a file that is saved or loaded is done sooner")
        }
    };
    let (ladder, why) = trouble.ladder();
    written
        .text("severity", "warning", "notice, warning or critical")
        .raw("armed", "false".to_owned(), "shadow: it only says what it would do, until you have seen that it is right")
        .raw("ladder", ladder.to_owned(), why)
}

fn memory(course: &Course, minutes: &[Minute], rule: Written) -> Written {
    let held = course.process.memory_held.or(course.process.memory).unwrap_or(0) as f64;
    let ground = Ground::of(held, minutes, |minute| minute.held);
    let grown = course.first.filter(|first| held > *first as f64 * 1.2);
    // While it grows nothing is normal.
    let ground = Ground { now: held, normal: ground.normal.filter(|_| grown.is_none()) };
    let limit = ground.limit();
    let why = match grown {
        Some(first) => format!("{} now; it has grown from {}", scaled_size(held), scaled_size(first as f64)),
        None => ground.why(scaled_size),
    };
    rule.text("breach", &format!("memory.held > {}", size(limit)), &why)
        .text("lasting", "2m", "a moment's need is over sooner")
        .text("calm", &format!("memory.held < {}", size(limit * 0.7)), "well below, so that it does not flap")
}
