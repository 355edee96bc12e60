//! A watcher of the built program, by the rules that are written most: CPU a tick, against a naive pass over the same processes in
//! the same run, and the most memory it ever held. What a virtual machine's host has taken of the cores counts as CPU of whoever ran
//! just then: where it is more than a hundredth, that is said.
//!
//! `cargo bench -p sophron-linux --bench watcher` measures at 1,000 processes, `-- 20000` at as many as well; `-- 1000 held` only the
//! rows with that word in their name.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]
#![allow(clippy::print_stdout)]

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

mod crowd;
mod host;
mod naive;

use crowd::{Crowd, program};
use host::stolen;
use naive::{APART, Naive, timed};

/// Samples are that far apart.
const EVERY: Duration = Duration::from_millis(500);

struct Row {
    name: &'static str,
    rules: usize,
    keys: fn(usize) -> String,
    lookback: bool,
    /// At most so much of a naive pass a tick; 0 where nothing is asked.
    goal: f64,
}

const fn row(name: &'static str, rules: usize, keys: fn(usize) -> String, goal: f64) -> Row {
    Row { name, rules, keys, lookback: true, goal }
}

fn cpu(number: usize) -> String {
    format!("breach = 'cpu > {}%'", 80 + number % 100)
}

fn memory(number: usize) -> String {
    format!("breach = 'memory > {} MiB'", 750 + number)
}

fn both(number: usize) -> String {
    format!("breach = 'memory > {} MiB and cpu > {}%'", 750 + number, 50 + number % 40)
}

fn held(number: usize) -> String {
    format!("breach = 'memory.held > {} MiB'", 750 + number)
}

fn growth(number: usize) -> String {
    format!("breach = 'growth(memory, 4s) > {} MiB'", 300 + number)
}

fn of_app(number: usize) -> String {
    format!("judge = 'app'\nbreach = 'memory > {} GiB'", 8 + number)
}

fn of_owner(number: usize) -> String {
    format!("judge = 'owner'\nbreach = 'memory > {} GiB'", 30 + number)
}

fn of_tree(number: usize) -> String {
    format!("judge = 'tree'\nwhere = 'owner = ines'\nbreach = 'cpu > {}%'", 80 + number)
}

const MOSTLY_IDLE: &[Row] = &[
    row("cpu", 1, cpu, 0.0),
    row("cpu", 20, cpu, 0.30),
    row("cpu", 200, cpu, 0.0),
    row("memory", 1, memory, 0.35),
    Row { lookback: false, ..row("memory, no lookback", 1, memory, 0.0) },
    row("memory", 20, memory, 0.0),
    row("memory", 200, memory, 0.0),
    row("memory and cpu", 20, both, 0.40),
    row("memory.held", 1, held, 0.0),
    row("memory.held", 20, held, 0.45),
    row("growth(memory, 4s)", 1, growth, 0.0),
    row("growth(memory, 4s)", 20, growth, 0.9),
    Row { lookback: false, ..row("growth(memory, 4s), no lookback", 20, growth, 0.0) },
    row("an app's memory", 1, of_app, 0.0),
    row("an app's memory", 20, of_app, 0.0),
    row("an owner's memory", 20, of_owner, 0.0),
    row("a tree's cpu", 20, of_tree, 0.0),
];

const ALL_BUSY: &[Row] = &[
    row("all busy: cpu", 20, cpu, 0.0),
    row("all busy: memory", 20, memory, 1.1),
    row("all busy: memory.held", 20, held, 0.0),
    row("all busy: growth(memory, 4s)", 20, growth, 0.0),
];

fn main() {
    if crowd::is_of_it() {
        return;
    }
    let Some(program) = program() else { return };
    let args: Vec<String> = std::env::args().skip(1).filter(|arg| !arg.starts_with('-')).collect();
    let most = args.iter().filter_map(|arg| arg.parse().ok()).max().unwrap_or(1000);
    let asked: Vec<&str> = args.iter().filter(|arg| arg.parse::<usize>().is_err()).map(String::as_str).collect();
    let wanted = |row: &&Row| asked.is_empty() || asked.iter().any(|word| row.name.contains(word));
    let mut at_thousand = Vec::new();
    if MOSTLY_IDLE.iter().any(|row| wanted(&row)) {
        let _crowd = Crowd::new(900, 100);
        at_thousand = MOSTLY_IDLE.iter().filter(wanted).map(|row| measure(&program, row)).collect();
    }
    if ALL_BUSY.iter().any(|row| wanted(&row)) {
        let _crowd = Crowd::new(0, 1000);
        ALL_BUSY.iter().filter(wanted).for_each(|row| {
            measure(&program, row);
        });
    }
    if most > 1000 {
        let _crowd = Crowd::new(most - most / 10, most / 10);
        for (row, before) in MOSTLY_IDLE.iter().filter(wanted).zip(at_thousand) {
            let tick = measure(&program, row);
            println!("    {most} processes cost {:.1} times what 1,000 cost (goal {})", tick / before, most / 1000 + 2);
        }
    }
}

/// CPU time of a tick, seconds.
fn measure(program: &Path, row: &Row) -> f64 {
    let folder = tempfile::tempdir().unwrap();
    let rules = folder.path().join("rules.toml");
    let lookback = if row.lookback { "" } else { "[lookback]\nkeep = '0s'\n[usage]\nkeep = '0s'\n" };
    let each =
        (0..row.rules).map(|number| format!("[[rule]]\nname = 'r{number}'\n{}\nlasting = '10s'\n", (row.keys)(number)));
    std::fs::write(&rules, format!("format = 1\nevery = '500ms'\n{lookback}{}", each.collect::<String>())).unwrap();
    std::fs::set_permissions(&rules, std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
    let mut watcher = Command::new(program)
        .args(["watch", "--rules"])
        .arg(&rules)
        .arg("--state")
        .arg(folder.path().join("state"))
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    std::thread::sleep(Duration::from_secs(7));
    let used = || sophron_linux::sys::process_cpu_time(watcher.id()).unwrap().as_secs_f64();
    let (before, stolen_before, began) = (used(), stolen(), Instant::now());
    // Two whole turns of the lookback, with naive passes all along: a machine's speed changes.
    let mut naive = Naive::new();
    let mut passes = Vec::new();
    while began.elapsed() < Duration::from_secs(20) {
        std::thread::sleep(APART);
        passes.push(timed(|| {
            std::hint::black_box(naive.pass());
        }));
    }
    let naive = passes.iter().sum::<f64>() / passes.len() as f64;
    let tick = (used() - before) / (began.elapsed().as_secs_f64() / EVERY.as_secs_f64());
    let status = std::fs::read_to_string(format!("/proc/{}/status", watcher.id())).unwrap();
    let peak = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
    let peak: f64 = peak.and_then(|kib| kib.trim().split(' ').next()?.parse().ok()).unwrap();
    let _ = watcher.kill();
    let _ = watcher.wait();
    let taken = (stolen() - stolen_before) as f64
        / (began.elapsed().as_secs_f64() * rustix::param::clock_ticks_per_second() as f64);
    let taken = if taken > 0.01 { format!("  (host took {:.0}% of a core)", taken * 100.0) } else { String::new() };
    let goal = if row.goal > 0.0 { format!("goal {:.2}", row.goal) } else { String::new() };
    println!(
        "{:>3} rules {:<34} {:>6.2} ms a tick, naive {:>6.2} ms, ratio {:.2}  {goal:<9}  peak {:.1} MiB{taken}",
        row.rules,
        row.name,
        tick * 1e3,
        naive * 1e3,
        tick / naive,
        peak / 1024.0
    );
    tick
}
