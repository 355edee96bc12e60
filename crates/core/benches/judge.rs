//! The judge: readings a second on one core, the memory of its windows, and that neither grows with the length of the
//! day; and the parser and the check of a rules file, whose time is linear in the text. A reading is one rule on one process at one tick.
//!
//! `cargo bench -p sophron-core`

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::disallowed_methods, clippy::disallowed_macros)]
#![allow(clippy::print_stdout)]

use std::alloc::System;
use std::fmt::Write;
use std::sync::Arc;
use std::time::{Duration, Instant};

use jiff::tz::TimeZone;
use sophron_core::condition::{Condition, Place};
use sophron_core::judge::{Judge, Tick};
use sophron_core::rules::{self, RuleSet};
use sophron_core::sorted::SortedSet;
use sophron_core::stand_back::StandsBack;
use sophron_core::window::{SLOTS, Slots};
use sophron_testkit::{World, process};
use stats_alloc::{INSTRUMENTED_SYSTEM, Region, StatsAlloc};

#[global_allocator]
static ALLOCATOR: &StatsAlloc<System> = &INSTRUMENTED_SYSTEM;

const PROCESSES: usize = 1000;

fn main() {
    println!("judge: 20 rules, 10 of them with windows of 10 minutes, {PROCESSES} processes");
    for (covering, goal) in [(8, 4.0), (20, 2.5)] {
        let speed = readings(&set(covering), 300) / 1e6;
        println!("  {covering:>2} covering every process: {speed:.1} million readings a second (goal {goal})");
    }
    memory();
    parsing();
    checking();
}

/// Twenty rules: the first so many cover everybody, the others one app each; every second one has a window of its own.
fn set(covering: usize) -> Arc<RuleSet> {
    let mut text = "format = 1\nevery = '2s'\n".to_owned();
    for rule in 0..20 {
        let covers = if rule < covering { String::new() } else { format!("where = 'app = \"program{rule}\"'\n") };
        let breach = match rule {
            0 => "avg(cpu, 10m) > 90% and disk.read < 1 MiB/s".to_owned(),
            2 => "climb(memory.held, 10m) > 160 MiB".to_owned(),
            4 => "peak(memory, 10m) > 3 GiB".to_owned(),
            6 => "growth(memory.held, 10m) > 500 MiB".to_owned(),
            rule if rule % 2 == 0 => format!("avg(memory, {}s) > 3 GiB", 600 + rule),
            rule => format!("memory.held > {} MiB and cpu > 90%", 2000 + rule),
        };
        writeln!(text, "[[rule]]\nname = 'r{rule}'\n{covers}breach = '{breach}'\nlasting = '20s'").unwrap();
    }
    Arc::new(rules::load(text.as_bytes()).unwrap())
}

fn world() -> World {
    let app = |pid: usize| format!("program{}", pid % 50);
    World::new((0..PROCESSES).map(|pid| process(pid as u32 + 10, &app(pid))).collect())
}

fn tick(judge: &mut Judge, world: &mut World) -> Duration {
    world.pass(Duration::from_secs(2));
    for (place, process) in world.processes.iter_mut().enumerate() {
        process.cpu_time += Duration::from_millis(place as u64 % 7);
        process.memory_held = process.memory_held.map(|held| held + (place as u64 % 3) * 4096);
    }
    let snapshot = world.snapshot();
    let none = SortedSet::new();
    let tick = Tick {
        suspended: &none,
        busy: &none,
        helpers: &SortedSet::new(),
        only: None,
        back: &StandsBack::default(),
        zone: &TimeZone::UTC,
    };
    let began = Instant::now();
    std::hint::black_box(judge.tick(&snapshot, &tick));
    began.elapsed()
}

fn readings(rules: &Arc<RuleSet>, ticks: u32) -> f64 {
    let (mut judge, mut world) = (Judge::new(rules, 1), world());
    // The windows fill, and the caches warm.
    for _ in 0..350 {
        tick(&mut judge, &mut world);
    }
    let took: Duration = (0..ticks).map(|_| tick(&mut judge, &mut world)).sum();
    f64::from(ticks) * 20.0 * PROCESSES as f64 / took.as_secs_f64()
}

/// What the judge holds after an hour and after twelve; and what one window takes.
fn memory() {
    let held = |covering: usize, ticks: u32| {
        let rules = set(covering);
        let mut world = world();
        let region = Region::new(ALLOCATOR);
        let mut judge = Judge::new(&rules, 1);
        for _ in 0..ticks {
            tick(&mut judge, &mut world);
        }
        let change = region.change();
        change.bytes_allocated as i64 - change.bytes_deallocated as i64
    };
    let (hour, day) = (held(8, 1800), held(8, 12 * 1800));
    println!(
        "  held after 1 hour {} KiB, after 12 hours {} KiB: {:.3} times",
        hour / 1024,
        day / 1024,
        day as f64 / hour as f64
    );
    // Four of the eight that cover everybody have a window, and the six others for 20 processes each.
    let windows = 4 * PROCESSES + 6 * 20;
    let of_window = size_of::<Slots>() + (SLOTS + 1) * size_of::<i64>();
    let all = hour / windows as i64;
    println!(
        "  {of_window} bytes a full window (goal 600); {all} with all else that is kept of a process under a rule"
    );
}

/// Time for a text sixteen times as long, over time for the shorter: 16 is linear.
fn parsing() {
    let text =
        |parts: usize| vec!["memory > 750 MiB and not (app in (\"labelpress\", \"sheetlamp\"))"; parts].join(" or ");
    let time = |text: &str| {
        let runs = 1 + (1 << 22) / text.len();
        let began = Instant::now();
        (0..runs).for_each(|_| drop(std::hint::black_box(Condition::parse(text, Place::Any).unwrap())));
        began.elapsed().as_secs_f64() / runs as f64
    };
    let (short, long) = (text(50), text(800));
    let ratio = time(&long) / time(&short);
    println!("parser: {} bytes take {ratio:.1} times as long as {} (linear: 16)", long.len(), short.len());
}

/// A file of so many rules, read and looked through for what is odd.
fn checking() {
    let text = |rules: usize| {
        let mut text = "format = 1\nevery = '2s'\n".to_owned();
        for rule in 0..rules {
            let (limit, app) = (500 + rule, rule % 40);
            let steps = "[ { at = '0s', do = 'lower' }, { at = '60s', do = 'terminate' } ]";
            writeln!(
                text,
                "[[rule]]\nname = 'r{rule}'\nwhere = 'app = \"program{app}\"'\nbreach = 'memory.held > {limit} MiB'\n\
                 lasting = '20s'\narmed = true\nladder = {steps}"
            )
            .unwrap();
        }
        text
    };
    let time = |rules: usize| {
        let text = text(rules);
        let began = Instant::now();
        std::hint::black_box(rules::review(&rules::load(text.as_bytes()).unwrap(), None));
        began.elapsed().as_secs_f64() * 1e3
    };
    let (few, many) = (time(250), time(4000));
    println!("rules check: 250 rules {few:.1} ms; 4,000 rules take {:.1} times as long (linear: 16)", many / few);
}
