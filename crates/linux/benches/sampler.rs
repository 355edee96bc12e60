//! The sampler against a naive pass: list /proc, then open, read, parse and close `stat` of every process, with the same
//! parser. Passes alternate, 300 ms apart, while the busy processes really run. Printed are ratios: what a machine makes
//! of absolute times says little.
//!
//! `cargo bench -p sophron-linux` measures 1,000 processes; `-- 20000` measures as many more.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::alloc::System;
use std::io::Read;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::Instant;

use sophron_core::model::{Needs, Process, Snapshot};
use sophron_linux::proc::stat;
use sophron_linux::{SLICES, Sampler};
use stats_alloc::{INSTRUMENTED_SYSTEM, Region, StatsAlloc};

#[global_allocator]
static ALLOCATOR: &StatsAlloc<System> = &INSTRUMENTED_SYSTEM;

mod crowd;
mod naive;

use crowd::{Crowd, program};
use naive::{APART, Naive, timed};

fn main() {
    let args: Vec<String> = std::env::args().collect();
    if !crowd::is_of_it() {
        measure(args.iter().filter_map(|arg| arg.parse().ok()).max().unwrap_or(0));
    }
}

fn median(mut times: Vec<f64>) -> f64 {
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}

/// Mean over whole rounds of slices, since a tenth is read in turn and one pass in ten lists everybody.
fn compare(label: &str, passes: u32, goal: f64) -> f64 {
    let mut naive = Naive::new();
    let needs = Needs::NONE.with(sophron_core::model::Cost::Stat);
    let mut sampler = Sampler::new(Path::new("/proc"), needs).unwrap();
    let mut snapshot = Snapshot::default();
    for _ in 0..3 {
        sampler.sample(&mut snapshot).unwrap();
        std::hint::black_box(naive.pass());
    }
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for _ in 0..passes {
        std::thread::sleep(APART);
        ours.push(timed(|| sampler.sample(&mut snapshot).unwrap()));
        std::thread::sleep(APART);
        theirs.push(naive.timed());
    }
    // One pass in ten lists everybody, and each slice is another: the median of each of the ten, and their mean. A single
    // disturbed pass on a shared machine does not count.
    let slots = SLICES as usize;
    let of_slot = |slot: usize| median(ours.iter().skip(slot).step_by(slots).copied().collect());
    let (ours, theirs) = ((0..slots).map(of_slot).sum::<f64>() / slots as f64, median(theirs));
    println!(
        "{label:<38} {:>5} processes  ours {:>7.2} ms  naive {:>7.2} ms  ratio {:.2}  (goal {goal:.2})",
        snapshot.processes.len(),
        ours * 1e3,
        theirs * 1e3,
        ours / theirs
    );
    ours
}

fn names(process: &Process) -> usize {
    let text = |text: &Option<String>| text.as_ref().map_or(0, String::capacity);
    let own = process.name.capacity() + process.app.capacity() + process.owner.capacity() + process.tty.capacity();
    // The block that holds the names and its two counters.
    own + text(&process.path)
        + text(&process.command)
        + text(&process.group)
        + text(&process.unit)
        + size_of_val(&*process.names)
        + 16
}

fn memory() {
    let region = Region::new(ALLOCATOR);
    let mut sampler = Sampler::new(Path::new("/proc"), Needs::PERIODIC).unwrap();
    let mut snapshot = Snapshot::default();
    for _ in 0..3 {
        sampler.sample(&mut snapshot).unwrap();
    }
    let change = region.change();
    let held = change.bytes_allocated.saturating_sub(change.bytes_deallocated);
    // Who has the same names shares them.
    let mut different: Vec<&Process> = snapshot.processes.iter().collect();
    different.sort_by_key(|process| Arc::as_ptr(&process.names));
    different.dedup_by_key(|process| Arc::as_ptr(&process.names));
    let names: usize = different.into_iter().map(names).sum();
    let count = snapshot.processes.len();
    println!(
        "memory: {} bytes a process at {count}, names apart (goal 400); row and process are {} bytes",
        held.saturating_sub(names) / count.max(1),
        Sampler::bytes_per_process()
    );
}

fn list() {
    let Some(program) = program() else { return };
    let used = |args: &[&str]| {
        let before = rustix_children();
        let mut child = Command::new(&program).args(args).stdout(Stdio::piped()).spawn().unwrap();
        let mut out = Vec::new();
        child.stdout.take().unwrap().read_to_end(&mut out).unwrap();
        child.wait().unwrap();
        rustix_children() - before
    };
    // Own ticks are 10 ms: ten runs together.
    let mean = |args: &[&str]| (0..10).map(|_| used(args)).sum::<f64>() / 10.0 * 1e3;
    println!(
        "sophron list on this crowd: {:.1} ms of CPU, ranked by memory {:.1} (goal 20)",
        mean(&["list"]),
        mean(&["list", "--by", "memory"])
    );
}

/// What `checkup` and `inspect` take beyond the time that they say they measure for.
fn looks(processes: usize) {
    let Some(program) = program() else { return };
    let own = std::process::id().to_string();
    let over = |args: &[&str], stated: f64| {
        let began = Instant::now();
        Command::new(&program).args(args).stdout(Stdio::null()).status().unwrap();
        (began.elapsed().as_secs_f64() - stated) * 1e3
    };
    let worst = |args: &[&str], stated: f64| (0..3).map(|_| over(args, stated)).fold(0.0, f64::max);
    println!(
        "{processes} processes: beyond the stated time checkup takes {:.0} ms, inspect {:.0}, inspect --for {:.0} (goal 200)",
        worst(&["checkup"], 3.0),
        worst(&["inspect", &own], 1.0),
        worst(&["inspect", &own, "--for", "2s"], 2.0)
    );
}

/// CPU time of children that ended, seconds, from our own stat.
fn rustix_children() -> f64 {
    let line = std::fs::read("/proc/self/stat").unwrap();
    stat::parse(&line).unwrap().children_ticks as f64 / 100.0
}

fn measure(most: usize) {
    let at_thousand = {
        let _crowd = Crowd::new(900, 100);
        compare("90% idle", 60, 0.33)
    };
    {
        let _crowd = Crowd::new(0, 1000);
        compare("all busy", 30, 1.05);
    }
    {
        let _crowd = Crowd::new(1000, 0);
        memory();
        list();
    }
    {
        let _crowd = Crowd::new(1800, 200);
        looks(2000);
    }
    if most > 1000 {
        let _crowd = Crowd::new(most - most / 10, most / 10);
        let ours = compare("90% idle", 30, 0.33);
        println!("{most} processes cost {:.1} times what 1,000 cost (goal {})", ours / at_thousand, most / 1000 + 2);
        memory();
    }
}
