//! CPU figures against the kernel's own account. One test in a program of its own: the account is that of all children.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};
use sophron_core::groups::{Grouping, groups};
use sophron_core::model::{Cost, Needs, Snapshot};
use sophron_linux::Sampler;
use sophron_linux::proc::stat;
use sophron_testkit::{children, eventually, is_gone, is_suspended};

/// CPU time of our children that were waited for, seconds (own `stat`, in ticks of 10 ms).
fn collected() -> f64 {
    let line = std::fs::read("/proc/self/stat").unwrap();
    stat::parse(&line).unwrap().children_ticks as f64 / 100.0
}

fn shell(script: &str) -> Child {
    Command::new("sh").args(["-c", script]).stdin(Stdio::null()).stdout(Stdio::null()).spawn().unwrap()
}

/// Until it is resumed it uses nothing, however long whoever looks at it is kept waiting for a core.
fn suspend(pid: u32) {
    kill_process(Pid::from_raw(pid.cast_signed()).unwrap(), Signal::STOP).unwrap();
    eventually("it is suspended", || is_suspended(pid).then_some(()));
}

fn end(mut child: Child) {
    child.kill().unwrap();
    child.wait().unwrap();
}

struct Watch {
    sampler: Sampler,
    snapshot: Snapshot,
}

impl Watch {
    fn new() -> Watch {
        let sampler = Sampler::new(Path::new("/proc"), Needs::NONE.with(Cost::Stat)).unwrap();
        Watch { sampler, snapshot: Snapshot::default() }
    }

    fn sample(&mut self) -> &Snapshot {
        self.sampler.sample(&mut self.snapshot).unwrap();
        &self.snapshot
    }

    /// CPU of the tree that begins with that process, percent of one core; what was not seen of it counts as nothing.
    fn tree(&mut self, pid: u32) -> f64 {
        let snapshot = self.sample();
        let trees = groups(&snapshot.processes, Grouping::Tree, |process| process.id.pid == pid);
        trees.first().and_then(|tree| tree.cpu(Grouping::Tree)).unwrap_or(0.0)
    }
}

const SPIN: &str = "while :; do :; done";

#[test]
fn cpu_is_the_kernels_own_account() {
    // One process that spins: what the last sample says is what its end brings in.
    let mut watch = Watch::new();
    let (before, child) = (collected(), shell(SPIN));
    let pid = child.id();
    let began = Instant::now();
    let first = watch.sample().process(pid).unwrap().clone();
    let primed = Instant::now();
    std::thread::sleep(Duration::from_secs(1));
    suspend(pid);
    let stopped = Instant::now();
    let seen = watch.sample().process(pid).unwrap().clone();
    let read = Instant::now();
    end(child);
    let account = collected() - before;
    assert!((seen.cpu_time.as_secs_f64() - account).abs() < 0.05, "{:?} and {account}", seen.cpu_time);
    // Its clock was read at some moment of either sample.
    let used = 100.0 * (seen.cpu_time - first.cpu_time).as_secs_f64();
    let (least, most) = (used / (read - began).as_secs_f64(), used / (stopped - primed).as_secs_f64());
    let bounds = least - 0.1..(most + 0.1).min(101.0);
    assert!(seen.cpu.is_some_and(|cpu| cpu > 0.0 && bounds.contains(&cpu)), "{:?}, {bounds:?}", seen.cpu);

    // Four threads in one process, this one: as much of the cores as it gets.
    let stop = std::sync::atomic::AtomicBool::new(false);
    std::thread::scope(|scope| {
        for _ in 0..4 {
            scope.spawn(|| {
                while !stop.load(std::sync::atomic::Ordering::Relaxed) {
                    std::hint::spin_loop();
                }
            });
        }
        // Each sample with the account just before and just after: on a busy machine all three take their time.
        let account = || {
            let ticks = stat::parse(&std::fs::read("/proc/self/stat").unwrap()).unwrap().cpu_ticks as f64;
            (ticks, Instant::now())
        };
        let mut own = || {
            let before = account();
            let cpu = watch.sample().process(std::process::id()).unwrap().cpu;
            (before, cpu, account())
        };
        let (first, _, first_after) = own();
        std::thread::sleep(Duration::from_secs(1));
        let (last, seen, last_after) = own();
        stop.store(true, std::sync::atomic::Ordering::Relaxed);
        let rate = |from: (f64, Instant), to: (f64, Instant), over: (Instant, Instant)| {
            (to.0 - from.0) / over.1.duration_since(over.0).as_secs_f64()
        };
        let least = rate(first_after, last, (first.1, last_after.1));
        let most = rate(first, last_after, (first_after.1, last.1));
        // A point, and a scheduler's tick (4 ms here) for each thread at either end.
        let (seen, slack) = (seen.unwrap(), 1.0 + 4.0 * 0.8 + 2.0);
        assert!((least - slack..most + slack).contains(&seen), "{least} {seen} {most}");
    });

    // Many short children: hardly one is ever seen, and all of their time is found in the tree.
    let (before, child) =
        (collected(), shell("while :; do sh -c 'i=0; while [ $i -lt 900 ]; do i=$((i+1)); done'; done"));
    let pid = child.id();
    watch.sample();
    let mut found = 0.0;
    for last in [false, false, false, true] {
        std::thread::sleep(Duration::from_millis(700));
        if last {
            suspend(pid);
            let is_over = |child: &u32| is_gone(*child);
            eventually("its last child is over", || children(pid).iter().all(is_over).then_some(()));
        }
        let percent = watch.tree(pid);
        found += percent / 100.0 * watch.snapshot.interval.unwrap().as_secs_f64();
    }
    end(child);
    let account = collected() - before;
    assert!((found - account).abs() < 0.12 * account + 0.05, "found {found} s of {account} s");

    // A parent that collects a child which had worked long: that was counted when it was used, and is no spike.
    let mut child = shell("sh -c 'i=0; while [ $i -lt 700000 ]; do i=$((i+1)); done'; sleep 1; exit 0");
    let pid = child.id();
    let mut highest: f64 = 0.0;
    eventually("it has collected it, and ended", || {
        std::thread::sleep(Duration::from_millis(150));
        highest = highest.max(watch.tree(pid));
        child.try_wait().unwrap()
    });
    assert!(highest > 0.0 && highest < 135.0, "{highest}");
}
