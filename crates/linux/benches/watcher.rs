//! A watcher of the built program: CPU a tick, against a naive pass over the same processes in the same run, and what is resident of it
//! at the end, with the most that ever was. By the rules that are written most, by every function over time, by every rules file that
//! ships and every rule in the documentation. What a virtual machine's host has taken of the cores counts as CPU of whoever ran just then: where it is more than a
//! hundredth, that is said.
//!
//! `cargo bench -p sophron-linux --bench watcher` measures at 1,000 processes, one in ten of which run, and where all run. `-- 100` or
//! `-- 20000` measures at so many instead, `-- resting` where nobody runs, `-- burners` beside four that burn for each core, `-- 1000 held`
//! only the rows with that word in their name.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]
#![allow(clippy::print_stdout)]

use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

use sophron_core::dispatch::Wants;
use sophron_core::model::Snapshot;
use sophron_linux::{Demand, Sampler};

mod crowd;
mod host;
mod naive;

use crowd::{Crowd, program};
use host::stolen;
use naive::{APART, Naive, mean, timed};

/// Samples are that far apart.
const EVERY: Duration = Duration::from_millis(500);

struct Row {
    name: String,
    /// A rules file, but for its first lines.
    rules: String,
    every: Duration,
    /// Until windows are full.
    warm_up: Duration,
    lookback: bool,
    /// At most so much of a naive pass a tick; 0 where nothing is asked.
    goal: f64,
    /// Whether everybody is read at every tick: the goal is what comes on top of that.
    reads_all: bool,
}

fn row(name: &str, rules: usize, keys: fn(usize) -> String, goal: f64) -> Row {
    let each = (0..rules).map(|number| format!("[[rule]]\nname = 'r{number}'\n{}\nlasting = '10s'\n", keys(number)));
    let name = format!("{rules:>3} rules {name}");
    let warm_up = Duration::from_secs(7);
    Row { name, rules: each.collect(), every: EVERY, warm_up, lookback: true, goal, reads_all: false }
}

/// One rule with windows; they fill while it is measured.
fn filling(breach: &str, goal: f64) -> Row {
    let keys = if breach.starts_with("judge") { breach.to_owned() } else { format!("breach = '{breach}'") };
    let rules = format!("[[rule]]\nname = 'one'\nwhere = 'not kernel'\n{keys}\nlasting = '2m'\n");
    Row {
        name: breach.replace("judge = ", "").replace("breach = ", "").replace('\n', ": "),
        rules,
        ..row("", 0, cpu, goal)
    }
}

/// The same with windows that are full: twenty times shorter, and so are its samples apart.
fn full(of: Row) -> Row {
    let Row { mut rules, name, goal, .. } = of;
    for (window, shorter) in [("30m)", "90s)"), ("10m)", "30s)"), ("5m)", "15s)")] {
        rules = rules.replace(window, shorter);
    }
    let rules = rules.lines().filter(|line| !line.starts_with("settle")).map(|line| format!("{line}\n")).collect();
    let warm_up = Duration::from_secs(if name.contains("30m") || name.contains("starter") { 95 } else { 35 });
    Row { name: format!("{name}, full"), rules, every: EVERY / 5, warm_up, lookback: false, goal, reads_all: false }
}

/// A rules file that ships.
fn shipped(name: &str, goal: f64) -> Row {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples").join(name);
    let text = std::fs::read_to_string(path).unwrap();
    let rules = text.lines().filter(|line| !line.starts_with("format") && !line.starts_with("every"));
    Row { name: name.to_owned(), rules: rules.map(|line| format!("{line}\n")).collect(), ..row("", 0, cpu, goal) }
}

/// Every rule in the documentation.
fn documented() -> Vec<Row> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let pages = std::fs::read_dir(root.join("docs")).unwrap().map(|entry| entry.unwrap().path());
    let pages = pages.filter(|path| path.extension().is_some_and(|kind| kind == "md"));
    let mut rows = Vec::new();
    for path in pages.chain([root.join("README.md")]) {
        let text = std::fs::read_to_string(&path).unwrap();
        let mut lines = text.lines().map(str::trim);
        while let Some(line) = lines.next() {
            if line == "[[rule]]" {
                let keys = lines.by_ref().take_while(|line| !line.is_empty() && *line != "```");
                let rules = format!("[[rule]]\n{}\n", keys.collect::<Vec<_>>().join("\n"));
                let name = rules.lines().find_map(|line| line.strip_prefix("name")).unwrap_or_default().to_owned();
                let page = path.file_name().unwrap().to_string_lossy().into_owned();
                rows.push(Row { name: format!("{page}{name}"), rules, ..row("", 0, cpu, 0.3) });
            }
        }
    }
    rows
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

fn mostly_idle() -> Vec<Row> {
    let leak = "judge = 'app'\nbreach = 'climb(memory.held, 30m) > 200 MiB and memory.held > 500 MiB and avg(disk, 10m) < 100 kB/s'";
    let spin = "avg(cpu, 10m) > 95% and avg(disk, 10m) < 100 kB/s";
    let mut rows = vec![
        row("cpu", 1, cpu, 0.0),
        row("cpu", 20, cpu, 0.30),
        row("cpu", 200, cpu, 0.0),
        row("memory", 1, memory, 0.35),
        Row { lookback: false, ..row("memory, no lookback", 1, memory, 0.0) },
        row("memory", 20, memory, 0.0),
        row("memory", 200, memory, 0.0),
        row("memory and cpu", 20, both, 0.40),
        Row { warm_up: Duration::from_secs(1), ..row("memory and cpu, from the start", 20, both, 0.45) },
        row("memory.held", 1, held, 0.0),
        row("memory.held", 20, held, 0.45),
        row("growth(memory, 4s)", 1, growth, 0.0),
        row("growth(memory, 4s)", 20, growth, 0.9),
        Row { lookback: false, ..row("growth(memory, 4s), no lookback", 20, growth, 0.0) },
        row("an app's memory", 1, of_app, 0.0),
        row("an app's memory", 20, of_app, 0.0),
        row("an owner's memory", 20, of_owner, 0.0),
        row("a tree's cpu", 20, of_tree, 0.0),
        shipped("starter.toml", 0.5),
        full(shipped("starter.toml", 0.5)),
        shipped("mossgate.toml", 0.5),
        shipped("demo.toml", 0.5),
        filling("memory.part > 33%", 0.3),
        filling("judge = 'app'\nbreach = 'cpu.part > 80%'", 0.3),
        filling("memory.held > typical(memory.held) and memory.held > 2 GiB", 0.3),
    ];
    for (breach, goal) in
        [(spin, 0.35), ("avg(cpu.children, 10m) > 80%", 0.35), ("climb(memory.held, 30m) > 200 MiB", 0.4), (leak, 0.5)]
    {
        rows.extend([filling(breach, goal), full(filling(breach, goal))]);
    }
    rows.extend(
        [
            ("avg(faults, 10m) > 50", 0.35),
            ("avg(memory, 10m) > 900 MiB", 0.4),
            ("peak(memory.held, 10m) > 900 MiB", 0.0),
            ("low(memory, 10m) > 900 MiB", 0.4),
            ("growth(memory.held, 10m) > 900 MiB", 0.4),
            ("slope(memory.held, 10m) > 900 MiB/h", 0.4),
            ("until(memory.held, 2 GiB, 10m) < 15m", 0.0),
            ("judge = 'unit'\nbreach = 'growth(memory, 10m) > 900 MiB'", 0.0),
        ]
        .map(|(breach, goal)| full(filling(breach, goal))),
    );
    let open =
        filling("judge = 'owner'\nbreach = 'memory.held > 1 MiB'\nladder = [ { at = '0s', do = 'alert' } ]", 0.0);
    // Within the time that is not measured.
    let rules = open.rules.replace("'2m'", "'1s'");
    let name = "a case open on everybody, beyond reading".to_owned();
    rows.push(Row { name, rules, goal: 0.5, reads_all: true, ..open });
    rows.extend(documented());
    rows
}

fn all_busy() -> Vec<Row> {
    vec![
        row("cpu", 20, cpu, 0.0),
        row("memory", 20, memory, 1.1),
        row("memory.held", 20, held, 0.0),
        row("growth(memory, 4s)", 20, growth, 0.0),
        shipped("starter.toml", 1.0),
        full(shipped("starter.toml", 1.0)),
    ]
}

fn main() {
    if crowd::is_of_it() {
        return;
    }
    let Some(program) = program() else { return };
    let args: Vec<String> = std::env::args().skip(1).filter(|arg| !arg.starts_with('-')).collect();
    let most = args.iter().filter_map(|arg| arg.parse::<usize>().ok()).max().unwrap_or(1000);
    let has = |word: &str| args.iter().any(|arg| arg == word);
    let words =
        args.iter().filter(|arg| arg.parse::<usize>().is_err() && !["resting", "burners"].contains(&arg.as_str()));
    let asked: Vec<&str> = words.map(String::as_str).collect();
    let wanted = |row: &&Row| asked.is_empty() || asked.iter().any(|word| row.name.contains(word));
    let _burners = has("burners").then(|| Crowd::burning(4));
    for (what, idle, rows) in [
        ("mostly idle", if has("resting") { most } else { most - most / 10 }, mostly_idle()),
        ("all busy", 0, all_busy()),
    ] {
        let rows: Vec<&Row> = rows.iter().filter(wanted).collect();
        if rows.is_empty() || (has("resting") && idle == 0) {
            continue;
        }
        println!("{most} processes, {what}{}", if has("burners") { ", beside four burners a core" } else { "" });
        let _crowd = Crowd::new(idle, most - idle);
        rows.into_iter().for_each(|row| measure(&program, row));
    }
}

/// What a watcher does that reads everybody at every tick, and that alone.
struct Reading {
    sampler: Sampler,
    snapshot: Snapshot,
}

impl Reading {
    fn of(rules: &str) -> Reading {
        let rules = Arc::new(sophron_core::rules::load(rules.as_bytes()).unwrap());
        let needs = Wants::of(&rules).of_everybody();
        let sampler = Sampler::new(Path::new("/proc"), needs).unwrap().on_demand(Demand::default());
        let mut reading = Reading { sampler, snapshot: Snapshot::default() };
        for _ in 0..3 {
            reading.pass();
        }
        reading
    }

    fn pass(&mut self) -> f64 {
        self.sampler.sample(&mut self.snapshot).unwrap();
        timed(|| self.sampler.read_all(&mut self.snapshot))
    }
}

fn measure(program: &Path, row: &Row) {
    let folder = tempfile::tempdir().unwrap();
    let rules = folder.path().join("rules.toml");
    let lookback = if row.lookback { "" } else { "[lookback]\nkeep = '0s'\n[usage]\nkeep = '0s'\n" };
    let every = format!("format = 1\nevery = '{}ms'\n", row.every.as_millis());
    std::fs::write(&rules, format!("{every}{}{lookback}", row.rules)).unwrap();
    std::fs::set_permissions(&rules, std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
    let mut watcher = Command::new(program)
        .args(["watch", "--shadow", "--rules"])
        .arg(&rules)
        .arg("--state")
        .arg(folder.path().join("state"))
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    std::thread::sleep(row.warm_up);
    if watcher.try_wait().unwrap().is_some() {
        let said = watcher.wait_with_output().unwrap();
        panic!("{}: {}", row.name, String::from_utf8_lossy(&said.stderr));
    }
    let used = || sophron_linux::sys::process_cpu_time(watcher.id()).unwrap().as_secs_f64();
    let (before, stolen_before, began) = (used(), stolen(), Instant::now());
    // Two whole turns of the lookback, with naive passes all along: a machine's speed changes.
    let (mut naive, mut reading) = (Naive::new(), row.reads_all.then(|| Reading::of(&format!("{every}{}", row.rules))));
    let (mut passes, mut readings) = (Vec::new(), Vec::new());
    while began.elapsed() < Duration::from_secs(20) {
        std::thread::sleep(APART);
        passes.push(naive.timed());
        readings.extend(reading.as_mut().map(Reading::pass));
    }
    let (naive, reading) = (mean(&passes), mean(&readings));
    let tick = (used() - before) / (began.elapsed().as_secs_f64() / row.every.as_secs_f64()) - reading;
    let status = std::fs::read_to_string(format!("/proc/{}/status", watcher.id())).unwrap();
    let [resident, peak] = ["VmRSS:", "VmHWM:"].map(|field| {
        let kib = status.lines().find_map(|line| line.strip_prefix(field));
        kib.and_then(|kib| kib.trim().split(' ').next()?.parse::<f64>().ok()).unwrap() / 1024.0
    });
    let _ = watcher.kill();
    let _ = watcher.wait();
    let taken = (stolen() - stolen_before) as f64
        / (began.elapsed().as_secs_f64() * rustix::param::clock_ticks_per_second() as f64);
    let taken = if taken > 0.01 { format!("  (host took {:.0}% of a core)", taken * 100.0) } else { String::new() };
    let goal = if row.goal > 0.0 { format!("goal {:.2}", row.goal) } else { String::new() };
    println!(
        "{:<60} {:>6.2} ms a tick, naive {:>6.2} ms, ratio {:.2}  {goal:<9}  {resident:.1} MiB, at most {peak:.1}{taken}",
        row.name.chars().take(60).collect::<String>(),
        tick * 1e3,
        naive * 1e3,
        tick / naive,
    );
}
