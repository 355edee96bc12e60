//! On the real machine: who reads only what something hangs on opens the same cases at the same ticks as who reads everything at
//! every tick. Processes that do as they are told live at random between two ticks: they grow in bursts of threads, shrink,
//! compute, become another program, and have their memory written from outside.
//!
//! `LAZILY_TICKS=2400 cargo test -p sophron-linux --test it lazily -- --nocapture` does so for ten minutes.

use std::collections::BTreeSet;
use std::io::{BufRead, BufReader, Write};
use std::os::fd::AsRawFd;
use std::os::unix::fs::FileExt;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::sync::Arc;
use std::time::Duration;

use jiff::tz::TimeZone;
use sophron_core::dispatch::{Beside, Dispatcher, Input, Settings, Wants};
use sophron_core::judge::Case;
use sophron_core::model::{Cost, Moment, Needs, ProcessId, Snapshot};
use sophron_core::protect::Protections;
use sophron_core::rules;
use sophron_core::sorted::SortedSet;
use sophron_linux::{Demand, SLICES, Sampler};
use sophron_testkit::eventually;

const RULES: &str = "format = 1\nevery = '250ms'\n\
    [[rule]]\nname = 'memory'\nbreach = 'memory > 60 MiB'\nlasting = '0s'\n\
    [[rule]]\nname = 'both'\nbreach = 'memory.held > 30 MiB and cpu > 0%'\nlasting = '250ms'\n\
    [[rule]]\nname = 'held'\nbreach = 'memory.held > 90 MiB or threads > 6'\nlasting = '500ms'\n\
    [[rule]]\nname = 'growth'\nbreach = 'growth(memory, 1s) > 20 MiB'\nlasting = '0s'\n\
    [[rule]]\nname = 'peak'\nbreach = 'peak(memory.held, 1s) > 50 MiB'\nlasting = '0s'\n\
    [[rule]]\nname = 'climb'\nbreach = 'climb(memory.held, 1m) > 15 MiB'\nlasting = '0s'\n\
    [[rule]]\nname = 'mean'\nwhere = 'not kernel'\nbreach = 'avg(cpu, 4s) > 3% and avg(disk, 4s) < 100 kB/s'\nlasting = '0s'\n\
    [[rule]]\nname = 'risen'\njudge = 'owner'\nbreach = 'growth(memory.held, 1m) > 60 MiB and avg(faults, 1m) < 100'\nlasting = '0s'\n\
    [[rule]]\nname = 'together'\njudge = 'owner'\nbreach = 'memory.held > 400 MiB'\nlasting = '0s'\n";

const MANY: usize = 8;

/// What a process of this test does that was started to be told: this test binary, run for this one function.
#[test]
fn told() {
    if std::env::var_os("LAZILY_TOLD").is_none() {
        return;
    }
    let (mut held, mut threads, mut file) = (Vec::new(), Vec::new(), None);
    // What others are to write into: address space that nobody has touched.
    let untouched: Vec<u8> = Vec::with_capacity(64 << 20);
    println!("\nready {}", untouched.as_ptr() as usize);
    for line in std::io::stdin().lines() {
        let line = line.unwrap();
        let (what, number) = line.split_once(' ').unwrap();
        let number: usize = number.parse().unwrap();
        match what {
            "grow" => {
                let burst: Vec<_> = (0..4).map(|_| std::thread::spawn(move || vec![1_u8; number << 18])).collect();
                held.extend(burst.into_iter().map(|part| part.join().unwrap()));
            }
            // As large as before, and more of it its own: pages of a file that it has read are written to.
            "map" => file = Some(Mapped::read(number)),
            "write" => file.as_mut().unwrap().write(number),
            "shrink" => held.truncate(held.len().saturating_sub(number)),
            "spin" => {
                let end = std::time::Instant::now() + Duration::from_millis(number as u64);
                while std::time::Instant::now() < end {}
            }
            "threads" => {
                threads.clear();
                for _ in 0..number {
                    let (stop, stopped) = std::sync::mpsc::channel::<()>();
                    threads.push(stop);
                    std::thread::spawn(move || stopped.recv());
                }
            }
            _ => {
                let error = Command::new(std::env::current_exe().unwrap())
                    .args(["--exact", "lazily::told", "--nocapture"])
                    .exec();
                panic!("{error}");
            }
        }
        println!("done {number}");
    }
}

/// A file that is mapped, and no other's to write to.
struct Mapped(*mut u8);

impl Mapped {
    fn read(pages: usize) -> Mapped {
        let file = tempfile::tempfile().unwrap();
        file.write_all_at(&vec![1; pages * 4096], 0).unwrap();
        let (may, private) = (libc::PROT_READ | libc::PROT_WRITE, libc::MAP_PRIVATE);
        // SAFETY: a new mapping, as long as the file; it stays until the process ends.
        let at = unsafe { libc::mmap(std::ptr::null_mut(), pages * 4096, may, private, file.as_raw_fd(), 0) };
        assert_ne!(at, libc::MAP_FAILED);
        // SAFETY: within that mapping.
        (0..pages).for_each(|page| assert_eq!(unsafe { at.cast::<u8>().add(page * 4096).read_volatile() }, 1));
        Mapped(at.cast())
    }

    fn write(&mut self, pages: usize) {
        // SAFETY: within that mapping, of which nobody asks for more than was mapped.
        (0..pages).for_each(|page| unsafe { self.0.add(page * 4096).write_volatile(2) });
    }
}

struct Told {
    child: Child,
    stdin: ChildStdin,
    stdout: BufReader<ChildStdout>,
    untouched: u64,
    written: u64,
}

impl Drop for Told {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Told {
    fn new() -> Told {
        let mut child = Command::new(std::env::current_exe().unwrap())
            .args(["--exact", "lazily::told", "--nocapture"])
            .env("LAZILY_TOLD", "1")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let (stdin, stdout) = (child.stdin.take().unwrap(), BufReader::new(child.stdout.take().unwrap()));
        let mut told = Told { child, stdin, stdout, untouched: 0, written: 0 };
        told.is_ready();
        told
    }

    fn is_ready(&mut self) {
        self.untouched = self.answer("ready ");
        self.written = 0;
    }

    fn answer(&mut self, word: &str) -> u64 {
        let mut line = String::new();
        while self.stdout.read_line(&mut line).unwrap() > 0 {
            if let Some(number) = line.trim().strip_prefix(word) {
                return number.parse().unwrap();
            }
            line.clear();
        }
        panic!("it has ended")
    }

    fn does(&mut self, what: &str, number: u64) {
        writeln!(self.stdin, "{what} {number}").unwrap();
        if what == "exec" {
            self.is_ready();
        } else {
            self.answer("done ");
        }
    }

    /// From outside, without a moment of its own clock.
    fn is_written(&mut self, bytes: u64) -> bool {
        let memory = std::fs::OpenOptions::new().write(true).open(format!("/proc/{}/mem", self.child.id()));
        let Some(memory) = memory.ok().filter(|_| self.written + bytes <= 64 << 20) else { return false };
        let page = vec![1_u8; bytes as usize];
        let done = memory.write_all_at(&page, self.untouched + self.written).is_ok();
        self.written += bytes;
        done
    }
}

/// A watcher.
struct Watching {
    sampler: Sampler,
    dispatcher: Dispatcher,
    snapshot: Snapshot,
    everything: bool,
}

impl Watching {
    fn new(only: SortedSet<ProcessId>, everything: bool) -> Watching {
        let rules = Arc::new(rules::load(RULES.as_bytes()).unwrap());
        let wants = Wants::of(&rules);
        let demand = Demand { unnamed: wants.none_by_others(), whole: everything, for_acts: wants.for_acts() };
        let sampler = Sampler::new(Path::new("/proc"), wants.of_everybody()).unwrap().on_demand(demand);
        let settings = Settings { shadow: true, assumed: false, own: None, only: Some(only), zone: TimeZone::UTC };
        let dispatcher = Dispatcher::new(settings, rules, Protections::default(), 1);
        Watching { sampler, dispatcher, snapshot: Snapshot::default(), everything }
    }

    /// What is open after a sample. The one looks a moment after the other; both count from the same.
    fn tick(&mut self, at: Option<Moment>) -> BTreeSet<String> {
        self.sampler.sample(&mut self.snapshot).unwrap();
        self.snapshot.moment = at.unwrap_or(self.snapshot.moment);
        if self.everything {
            self.sampler.read_all(&mut self.snapshot);
            for process in &mut self.snapshot.processes {
                process.quiet = false;
            }
        }
        let moment = self.snapshot.moment;
        let input = Input::Look(&mut self.snapshot, &mut self.sampler, &BESIDE);
        let _ = self.dispatcher.step(moment, input);
        let story = |case: &Case| format!("{} {:?}, in breach: {}", case.rule, case.key, case.breached);
        self.dispatcher.judge().cases().map(story).collect()
    }
}

static BESIDE: std::sync::LazyLock<Beside> = std::sync::LazyLock::new(Beside::default);

/// The same numbers every time.
struct Dice(u64);

impl Dice {
    fn up_to(&mut self, most: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % most
    }
}

/// Of who rests `status` is read only where its size has changed: not so of whoever has run since it was last read.
#[test]
fn what_it_came_to_hold_as_it_ran_is_seen_though_it_is_as_large_as_before() {
    const PAGES: u64 = 2000;
    let mut told = Told::new();
    let pid = told.child.id();
    told.does("map", PAGES);
    let demand = Demand { unnamed: true, whole: false, for_acts: Needs::NONE };
    let needs = Needs::NONE.with(Cost::Stat).with(Cost::Status);
    let (mut sampler, mut snapshot) =
        (Sampler::new(Path::new("/proc"), needs).unwrap().on_demand(demand), Snapshot::default());
    let mut held = || {
        (0..SLICES).for_each(|_| sampler.sample(&mut snapshot).unwrap());
        snapshot.process(pid).unwrap().memory_held.unwrap()
    };
    let before = (0..3).map(|_| held()).last().unwrap();
    told.does("write", PAGES);
    eventually("what it holds is seen", || (held() >= before + PAGES * 4096).then_some(()));
}

#[test]
fn a_lazy_watcher_opens_the_same_cases_at_the_same_ticks() {
    let ticks: u32 = std::env::var("LAZILY_TICKS").ok().and_then(|ticks| ticks.parse().ok()).unwrap_or(45);
    let mut dice = Dice(11);
    let mut many: Vec<Told> = (0..MANY).map(|_| Told::new()).collect();
    let mut finder = Sampler::new(Path::new("/proc"), Needs::NONE).unwrap();
    let only: SortedSet<ProcessId> = many.iter().map(|told| finder.again(told.child.id()).unwrap().id).collect();
    let (mut lazy, mut full) = (Watching::new(only.clone(), false), Watching::new(only, true));
    let (mut opened, mut written, mut before) = (0, 0, BTreeSet::new());
    // Who was written into from outside is seen later by the one: until everybody has been read again they may differ.
    let mut unsettled = 0_u32;
    for tick in 0..ticks {
        for told in &mut many {
            match dice.up_to(20) {
                0..=2 => told.does("grow", 1 + dice.up_to(25)),
                3..=5 => told.does("shrink", 4 + dice.up_to(40)),
                6..=7 => told.does("spin", dice.up_to(40)),
                8 => told.does("threads", dice.up_to(9)),
                9 if tick > 0 => told.does("exec", 0),
                _ => {}
            }
        }
        if tick % 45 == 20 && many[0].is_written(40 << 20) {
            (written, unsettled) = (written + 1, SLICES + 8);
        }
        std::thread::sleep(Duration::from_millis(400));
        let by_full = full.tick(None);
        let by_lazy = lazy.tick(Some(full.snapshot.moment));
        opened += by_full.difference(&before).count();
        unsettled = unsettled.saturating_sub(1);
        assert!(unsettled > 0 || by_full == by_lazy, "at tick {tick}: {by_full:#?}, but {by_lazy:#?}");
        before = by_full;
    }
    println!("{ticks} ticks, {opened} changes of cases, {written} times written from outside");
    assert!(opened as u32 > ticks, "too little happened: {opened}");
}
