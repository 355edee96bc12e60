//! A working day rehearsed, and what keeping one costs, by the built program.
//!
//! `cargo bench -p sophron --bench replay`. Goals: a day of 10 hours, 300 processes and a sample every 2 s is rehearsed
//! with the shipped rules in 1.5 s of CPU, and twice the day takes no more memory; the report of the demo day takes 1 s, and of
//! three days of lookback 3 s; the lookback takes 0.1% of a core, and so does it with the history of usage.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use sophron_core::recording::{Header, Ours, Writer};
use sophron_testkit::{World, process};

const PROCESSES: u32 = 300;
const EVERY: Duration = Duration::from_secs(2);

fn main() {
    let folder = tempfile::tempdir().unwrap();
    println!("rehearsing {PROCESSES} processes, a sample every {} s", EVERY.as_secs());
    let mut of_half = 0;
    for hours in [5, 10] {
        let file = day(folder.path(), hours);
        let size = std::fs::metadata(&file).unwrap().len() as f64 / 1048576.0;
        let (cpu, memory, reading) = rehearsed(&file);
        println!(
            "  {hours:>2} h, {size:.1} MiB: {cpu:.2} s of CPU ({:.2} of reading it alone), {:.1} MiB at most",
            cpu / reading,
            memory as f64 / 1024.0
        );
        match hours {
            5 => of_half = memory,
            _ => println!(
                "  goal: 1.5 s, {}; memory of twice the day {:.2} (goal 1.1)",
                verdict(cpu <= 1.5),
                memory as f64 / of_half as f64
            ),
        }
    }
    reports(folder.path());
    let alone = lookback(folder.path(), "[usage]\nkeep = \"0s\"\n");
    let both = lookback(folder.path(), "");
    println!("  with the history of usage {:.3}% of a core more", both - alone);
}

/// What reports take, against looking at the last sample of the same.
fn reports(folder: &Path) {
    let state = folder.join("kept");
    let begun = lookback_of_days(&state);
    let (state, since) = (state.to_str().unwrap(), begun.to_string());
    let days = ["--state", state, "--since", &since];
    let demo = ["--from", "demo"];
    for (name, source, goal) in
        [("the demo day", demo.as_slice(), 1.0), ("three days of lookback", days.as_slice(), 3.0)]
    {
        let with = |command: &[&'static str]| [command, source].concat();
        let (cpu, memory, took) = used(&with(&["report", "--format", "html"]));
        let (reading, ..) = used(&with(&["list", "--limit", "1"]));
        println!(
            "report of {name}: {took:.2} s, {cpu:.2} s of CPU ({:.1} of reading it alone), {:.1} MiB at most; goal {goal} s, {}",
            cpu / reading,
            memory as f64 / 1024.0,
            verdict(took <= goal)
        );
    }
}

/// Three days as a watcher keeps them: a piece an hour, a sample every 10 s. When they begin.
fn lookback_of_days(state: &Path) -> jiff::Timestamp {
    let folder = state.join("lookback");
    std::fs::create_dir_all(&folder).unwrap();
    let mut first = None;
    made_up(72, Duration::from_secs(10), 1, |begun| {
        first.get_or_insert(begun);
        let name = begun.to_zoned(jiff::tz::TimeZone::UTC).strftime("%Y%m%dT%H%M%S.%3f").to_string();
        folder.join(format!("{name}.jsonl.zst"))
    });
    first.unwrap()
}

fn verdict(met: bool) -> &'static str {
    if met { "met" } else { "MISSED" }
}

fn day(folder: &Path, hours: u64) -> PathBuf {
    let path = folder.join(format!("{hours}.jsonl.zst"));
    made_up(hours, EVERY, hours, |_| path.clone());
    path
}

/// Made-up hours in pieces of so many, each a file of its own: a fifth of the processes runs in each interval, and one leaks.
fn made_up(hours: u64, every: Duration, of_piece: u64, mut path: impl FnMut(jiff::Timestamp) -> PathBuf) {
    let apps = ["labelpress", "plantledger", "kioskview", "herbarium", "notepatch", "weathervane"];
    let mut processes: Vec<_> =
        (0..PROCESSES).map(|number| process(1000 + number, apps[number as usize % apps.len()])).collect();
    for process in &mut processes {
        process.cpu = Some(0.0);
    }
    let mut world = World::new(processes);
    let header = |world: &World| Header {
        sophron: "recording".to_owned(),
        format: 1,
        host: world.machine.host.clone(),
        boot: world.machine.boot.to_string(),
        every: every.as_secs_f64(),
        begun: world.moment.wall,
        zone: Some("Europe/London".to_owned()),
        uid: 0,
    };
    let mut random = 88_172_645_463_325_252_u64;
    let samples_of = |hours: u64| hours * 3600 / every.as_secs();
    for piece in 0..hours / of_piece {
        let file = BufWriter::new(File::create(path(world.moment.wall)).unwrap());
        let mut sink = zstd::stream::write::Encoder::new(file, 3).unwrap();
        let mut writer = Writer::new(header(&world));
        let mut keep = |world: &World| {
            let line = writer.line(&world.snapshot(), |_| true, Ours::default()).unwrap();
            sink.write_all(line.as_bytes()).unwrap();
        };
        if piece > 0 {
            // A piece begins with the last sample of the one before.
            keep(&world);
        }
        for sample in piece * samples_of(of_piece)..(piece + 1) * samples_of(of_piece) {
            world.pass(every);
            world.machine.cpu = Some((sample % 400) as f64 / 10.0);
            for process in &mut world.processes {
                random ^= random << 13;
                random ^= random >> 7;
                random ^= random << 17;
                if random.is_multiple_of(5) {
                    process.cpu_time += Duration::from_millis(random % 97);
                    process.memory = Some((random >> 20) % (64 << 20));
                    process.memory_held = process.memory;
                }
            }
            let leak = &mut world.processes[0];
            leak.memory_held = Some((sample % 9000) * (100 << 10));
            keep(&world);
        }
        sink.finish().unwrap().flush().unwrap();
    }
}

/// Seconds of CPU and the most memory, kB, of a rehearsal; and seconds of CPU of a look at the last sample.
fn rehearsed(file: &Path) -> (f64, i64, f64) {
    let rules = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples/mossgate.toml");
    let file = file.to_str().unwrap();
    let rules = std::fs::read_to_string(rules).unwrap().replace("every  = \"10s\"", "every = \"2s\"");
    let own = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(own.path(), rules).unwrap();
    let (cpu, memory, _) = used(&["rehearse", own.path().to_str().unwrap(), "--from", file, "--format", "json"]);
    let (reading, ..) = used(&["list", "--from", file, "--limit", "1"]);
    (cpu, memory, reading)
}

fn used(args: &[&str]) -> (f64, i64, f64) {
    // Others on the machine only make it slower.
    (0..3).map(|_| used_once(args)).min_by(|a, b| a.0.total_cmp(&b.0)).unwrap()
}

fn used_once(args: &[&str]) -> (f64, i64, f64) {
    let began = Instant::now();
    let child = Command::new(env!("CARGO_BIN_EXE_sophron")).args(args).stdout(Stdio::null()).spawn().unwrap();
    let stat = PathBuf::from(format!("/proc/{}/stat", child.id()));
    let status = PathBuf::from(format!("/proc/{}/status", child.id()));
    let mut child = child;
    let (mut memory, mut cpu) = (0, 0.0);
    // A zombie still has its CPU time, and no memory any more.
    loop {
        let text = std::fs::read_to_string(&status).unwrap_or_default();
        let peak =
            text.lines().find_map(|line| line.strip_prefix("VmHWM:")).and_then(|rest| rest.split_whitespace().next());
        memory = peak.and_then(|kb| kb.parse().ok()).unwrap_or(memory);
        let text = std::fs::read_to_string(&stat).unwrap_or_default();
        let fields: Vec<&str> = text.rsplit(')').next().unwrap_or_default().split_whitespace().collect();
        let ticks = |at: usize| fields.get(at).and_then(|field| field.parse::<f64>().ok()).unwrap_or(0.0);
        cpu = f64::max(cpu, (ticks(11) + ticks(12)) / 100.0);
        if fields.first() == Some(&"Z") {
            break;
        }
        std::thread::sleep(Duration::from_millis(5));
    }
    child.wait().unwrap();
    (cpu, memory, began.elapsed().as_secs_f64())
}

/// Ends what it started, whatever happens.
struct Crowd(Vec<Child>);

impl Drop for Crowd {
    fn drop(&mut self) {
        for child in &mut self.0 {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

/// What the lookback's thread uses while 300 processes are there and 20 of them work.
fn lookback(folder: &Path, more: &str) -> f64 {
    let start = |args: &[&str]| {
        let mut command = Command::new(env!("CARGO_BIN_EXE_sophron"));
        command.args(args).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    };
    let sleeper = || Command::new("sleep").arg("600").stdin(Stdio::null()).spawn().unwrap();
    let mut crowd = Crowd((0..280).map(|_| sleeper()).collect());
    crowd.0.extend((0..20).map(|_| start(&["misbehave", "--cpu", "1%", "--for", "600s"])));
    let rules = folder.join("rules.toml");
    let text =
        "format = 1\n[lookback]\nevery = \"1s\"\n[[rule]]\nname = \"a\"\nbreach = 'cpu > 300%'\nlasting = \"5s\"\n";
    std::fs::write(&rules, format!("{text}{more}")).unwrap();
    let state = folder.join(format!("state-{}", more.len()));
    crowd.0.push(start(&["watch", "--rules", rules.to_str().unwrap(), "--state", state.to_str().unwrap()]));
    let pid = crowd.0.last().unwrap().id();
    std::thread::sleep(Duration::from_secs(3));
    let tasks = std::fs::read_dir(format!("/proc/{pid}/task")).unwrap().map(|entry| entry.unwrap().path());
    let is_it = |task: &PathBuf| std::fs::read_to_string(task.join("comm")).is_ok_and(|name| name.trim() == "lookback");
    let task = tasks.into_iter().find(is_it).expect("the thread is there");
    let nanoseconds = || -> f64 {
        let text = std::fs::read_to_string(task.join("schedstat")).unwrap();
        text.split_whitespace().next().unwrap().parse().unwrap()
    };
    let (before, begun) = (nanoseconds(), Instant::now());
    std::thread::sleep(Duration::from_secs(30));
    let sample = (nanoseconds() - before) / 1e6 / begun.elapsed().as_secs_f64();
    let share = sample / 10_000.0 * 100.0;
    println!("lookback of {PROCESSES} processes: {sample:.2} ms a sample, {share:.3}% of a core at one every 10 s");
    println!("  goal: 0.1%, {}", verdict(share <= 0.1));
    share
}
