//! A watcher for a quarter of an hour: 2,000 processes, 50 forks a second, 20 rules, the lookback, two channels. Its memory is to be flat,
//! and no tick missed.
//!
//! `cargo build --profile dist && cargo bench -p sophron-linux --bench soak` (`-- 3` for three minutes, `-- starter` for 1,000 processes and
//! the starter rules as they ship). Goals: over the last two thirds its own memory (`RssAnon`) stays within 1 MiB; as many samples as there
//! is time for; the starter rules take at most 0.3% of a core, where a naive pass takes 8.3 µs a process.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]
#![allow(clippy::print_stdout)]

use std::io::Read;
use std::net::TcpListener;
use std::os::unix::net::UnixDatagram;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

mod crowd;
mod host;
mod naive;

use crowd::{Crowd, program};
use naive::{APART, Naive, mean};

/// The default. Where watching costs more than 2% of a core it goes slower by itself.
const EVERY: Duration = Duration::from_secs(2);

fn main() {
    if crowd::is_of_it() {
        return;
    }
    // What is forked does nothing.
    if std::env::args().nth(1).as_deref() == Some("short") {
        return;
    }
    let Some(program) = program() else { return };
    let minutes: u64 = std::env::args().skip(1).find_map(|word| word.parse().ok()).unwrap_or(15);
    let starter = std::env::args().any(|word| word == "starter");
    let folder = tempfile::tempdir().unwrap();
    let _crowd = if starter { Crowd::new(900, 100) } else { Crowd::new(1800, 200) };
    let (forked, over) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicBool::new(false)));
    let forker = {
        let (forked, over) = (Arc::clone(&forked), Arc::clone(&over));
        std::thread::spawn(move || {
            let own = std::env::current_exe().unwrap();
            while !over.load(Ordering::Relaxed) {
                let began = Instant::now();
                Command::new(&own).arg("short").stdout(Stdio::null()).status().unwrap();
                forked.fetch_add(1, Ordering::Relaxed);
                std::thread::sleep(Duration::from_millis(20).saturating_sub(began.elapsed()));
            }
        })
    };
    let log = folder.path().join("log");
    let (lines, logged) = (UnixDatagram::bind(&log).unwrap(), Arc::new(AtomicU64::new(0)));
    let collector = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = collector.local_addr().unwrap().port();
    let collected = Arc::new(AtomicU64::new(0));
    listen(lines, &logged, collector, &collected);
    let (rules, state) = (folder.path().join("rules.toml"), folder.path().join("state"));
    let shipped = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples/starter.toml");
    std::fs::write(&rules, if starter { std::fs::read_to_string(shipped).unwrap() } else { rules_text(port) }).unwrap();
    std::fs::set_permissions(&rules, std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
    let mut watcher = Command::new(&program)
        .args(["watch", "--service", "--rules"])
        .arg(&rules)
        .arg("--state")
        .arg(&state)
        .arg("--system-log")
        .arg(&log)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let (began, length) = (Instant::now(), Duration::from_secs(minutes * 60));
    let flat_from = length / 3;
    let mut flat: Vec<f64> = Vec::new();
    println!("after   own MiB  resident  samples  missed  forks/s  of a core  naive passes a tick  messages");
    let (mut next, mut before, mut due) = (Duration::from_secs(10), Duration::ZERO, 0.0);
    let used = || sophron_linux::sys::process_cpu_time(watcher.id()).unwrap().as_secs_f64();
    let (mut naive, mut passes, mut last) = (Naive::new(), Vec::new(), (0.0, Duration::ZERO));
    while began.elapsed() < length {
        std::thread::sleep(next.saturating_sub(began.elapsed()));
        next += Duration::from_secs(10);
        let (own, resident) = memory(watcher.id());
        if began.elapsed() >= flat_from {
            flat.push(own);
        }
        // It may go slower or faster by itself: at each pace as many are due as there is time for.
        let (at, every) = sampled(&program, &state);
        due += at.saturating_sub(before).as_secs_f64() / every;
        before = at;
        // As far apart as in the other benches.
        for _ in 0..2 {
            std::thread::sleep(APART);
            passes.push(naive.timed());
        }
        if next.as_secs() % 60 == 10 {
            let samples = taken(&program, &state);
            let missed = due.floor() as i64 - samples as i64;
            let (forks, sent) =
                (forked.load(Ordering::Relaxed), (logged.load(Ordering::Relaxed), collected.load(Ordering::Relaxed)));
            let now = (used(), began.elapsed());
            let share = (now.0 - last.0) / (now.1 - last.1).as_secs_f64();
            last = now;
            println!(
                "{:>4} s  {own:>7.2}  {resident:>8.2}  {samples:>7}  {missed:>6}  {:>7.0}  {:>8.2}%  {:>19.2}  {} and {}",
                now.1.as_secs(),
                forks as f64 / now.1.as_secs_f64(),
                100.0 * share,
                share * every / mean(&passes),
                sent.0,
                sent.1
            );
        }
    }
    let used = used();
    let missed = due.floor() as i64 - taken(&program, &state) as i64;
    let _ = watcher.kill();
    let _ = watcher.wait();
    over.store(true, Ordering::Relaxed);
    let _ = forker.join();
    let (least, most) = flat.iter().fold((f64::MAX, 0.0_f64), |(least, most), own| (least.min(*own), most.max(*own)));
    let share = 100.0 * used / began.elapsed().as_secs_f64();
    let samples = share / 100.0 * EVERY.as_secs_f64() / mean(&passes);
    println!(
        "{share:.2}% of a core, {samples:.2} naive passes a tick; the host took {} ticks of the cores",
        host::stolen()
    );
    println!(
        "over the last {} s own memory {least:.2} to {most:.2} MiB (goal within 1, {}); missed {missed} (goal 0, {})",
        (length - flat_from).as_secs(),
        verdict(most - least <= 1.0),
        verdict(missed <= 1)
    );
}

fn verdict(met: bool) -> &'static str {
    if met { "met" } else { "MISSED" }
}

/// One rule that is breached all along and tells every ten seconds, and nineteen of all kinds.
fn rules_text(port: u16) -> String {
    let mut text = format!(
        "format = 1\nevery = '{}ms'\n[deliver]\nas = 'nobody'\n[[channel]]\nname = 'machine-log'\nto = 'log'\n[[channel]]\nname = 'office-logs'\nto = 'collector'\n\
         server = '127.0.0.1:{port}'\nover = 'tcp'\n[[tell]]\nby = ['machine-log', 'office-logs']\n\
         [[rule]]\nname = 'busy'\njudge = 'machine'\nbreach = 'machine.memory.available > 1 MiB'\nlasting = '5s'\nagain = {{ after = '10s' }}\n",
        EVERY.as_millis()
    );
    let kinds = [
        "breach = 'cpu > 97%'",
        "breach = 'memory.held > 700 MiB'",
        "breach = 'avg(cpu, 2m) > 90%'",
        "breach = 'growth(memory, 5m) > 300 MiB'",
        "judge = 'app'\nbreach = 'memory > 8 GiB'",
        "judge = 'tree'\nbreach = 'cpu > 300%'",
    ];
    for number in 1..20 {
        text += &format!("[[rule]]\nname = 'r{number}'\n{}\nlasting = '10s'\n", kinds[number % kinds.len()]);
    }
    text
}

fn listen(lines: UnixDatagram, logged: &Arc<AtomicU64>, collector: TcpListener, collected: &Arc<AtomicU64>) {
    let logged = Arc::clone(logged);
    std::thread::spawn(move || {
        let mut bytes = [0; 8192];
        while lines.recv(&mut bytes).is_ok() {
            logged.fetch_add(1, Ordering::Relaxed);
        }
    });
    let collected = Arc::clone(collected);
    std::thread::spawn(move || {
        for mut from in collector.incoming().flatten() {
            let mut bytes = [0; 8192];
            while let Ok(length @ 1..) = from.read(&mut bytes) {
                let begins = bytes[..length].windows(9).filter(|bytes| bytes == b" sophron ").count();
                collected.fetch_add(begins as u64, Ordering::Relaxed);
            }
        }
    });
}

/// MiB that are its own, and all that it has resident.
fn memory(pid: u32) -> (f64, f64) {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status")).unwrap();
    let of = |key: &str| {
        let line = status.lines().find_map(|line| line.strip_prefix(key)).unwrap();
        line.trim().trim_end_matches(" kB").parse::<f64>().unwrap() / 1024.0
    };
    (of("RssAnon:"), of("VmRSS:"))
}

fn watcher_of(program: &Path, state: &Path) -> serde_json::Value {
    let told = Command::new(program).args(["status", "--format", "json", "--state"]).arg(state).output().unwrap();
    let told: serde_json::Value = serde_json::from_slice(&told.stdout).unwrap();
    told["watcher"].clone()
}

/// How long after its start the last sample was taken, and how many seconds lie between two.
fn sampled(program: &Path, state: &Path) -> (Duration, f64) {
    let watcher = watcher_of(program, state);
    let at = |key: &str| watcher[key].as_str().unwrap().parse::<jiff::Timestamp>().unwrap();
    (at("sampled").duration_since(at("began")).unsigned_abs(), watcher["every"].as_f64().unwrap())
}

fn taken(program: &Path, state: &Path) -> u64 {
    watcher_of(program, state)["samples"].as_u64().unwrap()
}
