//! The sampler against a naive pass: list /proc, then open, read, parse and close `stat` of every process, with the same
//! parser. Passes alternate, 300 ms apart, while the busy processes really run. Printed are ratios: what a machine makes
//! of absolute times says little.
//!
//! `cargo bench -p sophron-linux` measures 1,000 processes; `-- 20000` measures as many more.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::alloc::System;
use std::io::Read;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use rustix::fs::{CWD, Dir, Mode, OFlags};
use sophron_core::model::{Needs, Process, Snapshot};
use sophron_linux::proc::stat;
use sophron_linux::{SLICES, Sampler};
use stats_alloc::{INSTRUMENTED_SYSTEM, Region, StatsAlloc};

#[global_allocator]
static ALLOCATOR: &StatsAlloc<System> = &INSTRUMENTED_SYSTEM;

const APART: Duration = Duration::from_millis(300);

fn main() {
    let args: Vec<String> = std::env::args().collect();
    match args.get(1).map(String::as_str) {
        Some("idle") => std::thread::sleep(Duration::from_secs(600)),
        Some("busy") => busy(),
        _ => {
            let most = args.iter().filter_map(|arg| arg.parse().ok()).max().unwrap_or(0);
            measure(most);
        }
    }
}

/// Runs a little, often: between any two passes its clock moves.
fn busy() {
    let end = Instant::now() + Duration::from_secs(600);
    while Instant::now() < end {
        std::hint::black_box((0..2000).sum::<u64>());
        std::thread::sleep(Duration::from_millis(100));
    }
}

struct Crowd(Vec<Child>);

impl Crowd {
    fn new(idle: usize, busy: usize) -> Crowd {
        let start = |role: &str| {
            let own = std::env::current_exe().unwrap();
            Command::new(own).arg(role).stdin(Stdio::null()).stdout(Stdio::null()).spawn().unwrap()
        };
        let crowd = Crowd((0..idle).map(|_| start("idle")).chain((0..busy).map(|_| start("busy"))).collect());
        // The last of them has to come to rest.
        std::thread::sleep(Duration::from_millis(1500 + idle as u64 / 4));
        crowd
    }
}

impl Drop for Crowd {
    fn drop(&mut self) {
        for child in &mut self.0 {
            let _ = child.kill();
        }
        for child in &mut self.0 {
            let _ = child.wait();
        }
    }
}

/// One descriptor of /proc, one buffer of 4 KiB, the same parser.
struct Naive {
    proc: OwnedFd,
    buffer: Vec<u8>,
}

impl Naive {
    fn new() -> Naive {
        let proc =
            rustix::fs::openat(CWD, "/proc", OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty());
        Naive { proc: proc.unwrap(), buffer: vec![0; 4096] }
    }

    fn pass(&mut self) -> u64 {
        let mut ticks = 0;
        for entry in Dir::read_from(&self.proc).unwrap() {
            let entry = entry.unwrap();
            let name = entry.file_name().to_bytes();
            if !name.iter().all(u8::is_ascii_digit) {
                continue;
            }
            let path = format!("{}/stat", str::from_utf8(name).unwrap());
            let Ok(file) = rustix::fs::openat(&self.proc, path, OFlags::RDONLY | OFlags::CLOEXEC, Mode::empty()) else {
                continue;
            };
            let Ok(length) = rustix::io::read(&file, &mut self.buffer[..]) else { continue };
            ticks += stat::parse(&self.buffer[..length]).map_or(0, |stat| stat.cpu_ticks);
        }
        ticks
    }
}

/// CPU time of this thread for one run: what others do on the machine does not count.
fn timed(mut work: impl FnMut()) -> f64 {
    let now = || {
        let time = rustix::time::clock_gettime(rustix::time::ClockId::ThreadCPUTime);
        time.tv_sec as f64 + time.tv_nsec as f64 / 1e9
    };
    let began = now();
    work();
    now() - began
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
        sampler.sample(&mut snapshot, |_| Needs::NONE).unwrap();
        std::hint::black_box(naive.pass());
    }
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for _ in 0..passes {
        std::thread::sleep(APART);
        ours.push(timed(|| sampler.sample(&mut snapshot, |_| Needs::NONE).unwrap()));
        std::thread::sleep(APART);
        theirs.push(timed(|| {
            std::hint::black_box(naive.pass());
        }));
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
        sampler.sample(&mut snapshot, |_| Needs::NONE).unwrap();
    }
    let change = region.change();
    let held = change.bytes_allocated.saturating_sub(change.bytes_deallocated);
    let names: usize = snapshot.processes.iter().map(names).sum();
    let count = snapshot.processes.len();
    println!(
        "memory: {} bytes a process at {count}, names apart (goal 400); row and process are {} bytes",
        held.saturating_sub(names) / count.max(1),
        Sampler::bytes_per_process()
    );
}

/// The program is built with the workspace; without it there is nothing to time.
fn program() -> Option<PathBuf> {
    let own = std::env::current_exe().ok()?;
    let program = own.parent()?.parent()?.join("sophron");
    if !program.exists() {
        println!("list and watch: build the program first with `cargo build --release`");
        return None;
    }
    Some(program)
}

/// Twenty rules, eight of which cover every process, so many of them with a window of 10 minutes; twelve one app each.
fn twenty_rules(windows: usize) -> String {
    let mut rules = "format = 1\nevery = \"500ms\"\n".to_owned();
    for number in 0..8 {
        let limit = 90 + number;
        let cpu = if number < windows { "avg(cpu, 10m)" } else { "cpu" };
        rules += &format!("[[rule]]\nname = \"all-{number}\"\nbreach = '{cpu} > {limit}%'\nlasting = \"10s\"\n");
    }
    for number in 0..12 {
        rules += &format!(
            "[[rule]]\nname = \"app-{number}\"\nwhere = 'app = \"press{number}\" and owner != root'\n\
             breach = 'memory.held > 750 MiB'\nlasting = \"20s\"\n"
        );
    }
    rules
}

/// What a watcher uses for a tick, and what it holds.
fn watch(windows: usize) {
    let Some(program) = program() else { return };
    let folder = tempfile::tempdir().unwrap();
    let rules = folder.path().join("rules.toml");
    std::fs::write(&rules, twenty_rules(windows)).unwrap();
    std::fs::set_permissions(&rules, std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
    let mut watcher = Command::new(program)
        .args(["watch", "--rules"])
        .arg(&rules)
        .arg("--state")
        .arg(folder.path().join("state"))
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    std::thread::sleep(Duration::from_secs(6));
    let used = || sophron_linux::sys::process_cpu_time(watcher.id()).unwrap().as_secs_f64();
    let (before, began) = (used(), Instant::now());
    std::thread::sleep(Duration::from_secs(20));
    let tick = (used() - before) / (began.elapsed().as_secs_f64() / 0.5);
    let statm = std::fs::read(format!("/proc/{}/statm", watcher.id())).unwrap();
    let resident = sophron_linux::proc::status::parse_pages(&statm).unwrap().1 * rustix::param::page_size() as u64;
    let _ = watcher.kill();
    let _ = watcher.wait();
    let mut naive = Naive::new();
    let passes = (0..10).map(|_| {
        std::thread::sleep(APART);
        timed(|| {
            std::hint::black_box(naive.pass());
        })
    });
    let naive = median(passes.collect());
    println!(
        "sophron watch, 20 rules, {windows} windows of 10 minutes, 1,000 idle: {:.2} ms a tick, {:.2} of a naive pass (goal 0.50), {:.1} MiB resident (goal 16)",
        tick * 1e3,
        tick / naive,
        resident as f64 / 1048576.0
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
        watch(0);
        watch(4);
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
