//! The threads of one process, looked at again and again.

use std::collections::HashMap;
use std::fs;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use sophron_core::inspect::{Sightings, ThreadSeen, Wait};
use sophron_core::order::InOrder;
use sophron_core::state::State;
use sophron_core::text;

use super::waits;
use crate::exec;
use crate::living;
use crate::proc::{number, stat};

/// Most threads that are followed one by one.
const MOST: usize = 512;

/// Whether any of a process's first so many threads waits uninterruptibly at this moment.
pub fn any_waits(pid: u32, most: usize) -> bool {
    if exec::gate(pid).is_err() {
        return false;
    }
    let tasks = fs::read_dir(format!("/proc/{pid}/task")).into_iter().flatten().flatten();
    tasks.take(most).any(|task| {
        let line = fs::read(task.path().join("stat")).unwrap_or_default();
        stat::parse(&line).is_some_and(|stat| State::from_letter(stat.state) == State::Waiting)
    })
}

/// What was seen of one thread so far.
#[derive(Debug)]
pub struct ThreadTrack {
    seen: ThreadSeen,
    /// Run time at the first and at the last look, nanoseconds (`schedstat` field 1).
    run: Option<(u64, u64)>,
    /// When those looks were.
    at: (Instant, Instant),
    /// The same of `voluntary_ctxt_switches` (`status`).
    switches: Option<(u64, u64)>,
    waits: HashMap<Wait, u32>,
}

/// Follows the threads of one process.
#[derive(Debug)]
pub struct Threads {
    pid: u32,
    began: Instant,
    looks: u32,
    tracks: HashMap<u32, ThreadTrack>,
    /// Run time of all threads at the last look, and when that was.
    last: Option<(u64, Instant)>,
    cpu: Vec<f64>,
    /// More threads than are followed.
    pub more: usize,
}

impl Threads {
    /// Begins to follow.
    pub fn of(pid: u32) -> Threads {
        let mut threads = Threads {
            pid,
            began: Instant::now(),
            looks: 0,
            tracks: HashMap::new(),
            last: None,
            cpu: Vec::new(),
            more: 0,
        };
        threads.look();
        // The first look only says where the counting begins.
        threads.tracks.values_mut().for_each(|track| {
            (track.seen.looks, track.seen.running, track.seen.waiting) = (0, 0, 0);
            track.waits.clear();
        });
        threads.looks = 0;
        threads
    }

    /// One more look; `false` when the process is gone.
    pub fn look(&mut self) -> bool {
        let folder = PathBuf::from(format!("/proc/{}", self.pid));
        let Some(tids) = living::threads(&folder) else { return false };
        let mut tids: Vec<u32> = tids.collect();
        tids.sort_unstable_by_key(|tid| (*tid != self.pid, *tid));
        self.more = tids.len().saturating_sub(MOST);
        tids.truncate(MOST);
        let mut all_run = 0;
        for tid in &tids {
            all_run += self.look_at(*tid).unwrap_or(0);
        }
        let now = Instant::now();
        if let Some((before, at)) = self.last {
            let passed = now.duration_since(at).as_nanos() as f64;
            // A thread that ended takes its run time along.
            self.cpu.push(100.0 * all_run.saturating_sub(before) as f64 / passed.max(1.0));
        }
        self.last = Some((all_run, now));
        self.looks += 1;
        !tids.is_empty()
    }

    fn look_at(&mut self, tid: u32) -> Option<u64> {
        let file = |name: &str| fs::read(format!("/proc/{}/task/{tid}/{name}", self.pid)).ok();
        exec::gate(self.pid).ok()?;
        let line = file("stat")?;
        let stat = stat::parse(&line)?;
        let now = Instant::now();
        let run = file("schedstat").and_then(|text| number::<u64>(text.split(|byte| *byte == b' ').next()?));
        let status = file("status").unwrap_or_default();
        let switches = status
            .split(|byte| *byte == b'\n')
            .find_map(|line| line.strip_prefix(b"voluntary_ctxt_switches:"))
            .and_then(number::<u64>);
        let state = State::from_letter(stat.state);
        let wait = match state {
            State::Sleeping | State::Waiting => waits::wait_of(self.pid, tid, state),
            _ => None,
        };
        let track = self.tracks.entry(tid).or_insert_with(|| ThreadTrack {
            seen: ThreadSeen {
                tid,
                name: text::clean(stat.name),
                cpu: None,
                looks: 0,
                running: 0,
                waiting: 0,
                state,
                yields: None,
                waits: Vec::new(),
            },
            run: run.map(|run| (run, run)),
            at: (now, now),
            switches: switches.map(|count| (count, count)),
            waits: HashMap::new(),
        });
        track.seen.state = state;
        track.seen.looks += 1;
        track.seen.running += u32::from(state == State::Running);
        track.seen.waiting += u32::from(state == State::Waiting);
        track.run = track.run.zip(run).map(|((first, _), run)| (first, run));
        track.switches = track.switches.zip(switches).map(|((first, _), count)| (first, count));
        track.at.1 = now;
        if let Some(wait) = wait {
            *track.waits.entry(wait).or_default() += 1;
        }
        run
    }

    /// All that was seen, the main thread first and then those with most CPU.
    pub fn finish(self) -> Sightings {
        let mut threads: Vec<ThreadSeen> = self.tracks.into_values().map(ThreadTrack::finish).collect();
        let cpu = |thread: &ThreadSeen| thread.cpu.unwrap_or(0.0);
        threads.order_by(|a, b| (a.tid != self.pid).cmp(&(b.tid != self.pid)).then(cpu(b).total_cmp(&cpu(a))));
        let length = self.last.map_or(Duration::ZERO, |(_, at)| at.duration_since(self.began));
        Sightings { length, looks: self.looks, cpu: self.cpu, threads, ..Sightings::default() }
    }
}

impl ThreadTrack {
    fn finish(self) -> ThreadSeen {
        let passed = self.at.1.duration_since(self.at.0).as_secs_f64();
        let rate = |pair: Option<(u64, u64)>| {
            pair.filter(|_| passed > 0.0).map(|(first, last)| last.saturating_sub(first) as f64 / passed)
        };
        let mut waits: Vec<(Wait, u32)> = self.waits.into_iter().collect();
        waits.order_by(|(a, x), (b, y)| y.cmp(x).then_with(|| a.cmp(b)));
        ThreadSeen { cpu: rate(self.run).map(|run| run / 1e7), yields: rate(self.switches), waits, ..self.seen }
    }
}
