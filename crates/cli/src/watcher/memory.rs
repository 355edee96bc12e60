//! The exact memory of groups, read beside the ticks: each page of it costs, so it is read only where the upper bound
//! decides nothing, and for no more than 2% of one core.

use std::path::Path;
use std::time::{Duration, Instant};

use sophron_core::judge::MemoryWish;
use sophron_core::model::{Cost, Needs};
use sophron_linux::{Sampler, here};

use super::workers::Report;
use super::{Wake, Watcher};

/// One process that does not answer in that time makes the group unknown.
const PATIENCE: Duration = Duration::from_millis(500);

/// After reading it rests this many times as long.
const REST: u32 = 49;

/// The longest rest: an answer is worth little when it is late.
const LONGEST_REST: Duration = Duration::from_secs(30);

impl Watcher<'_> {
    /// Has what the judge wants to know read by a thread of its own, one round at a time.
    pub(super) fn ask_for_memory(&mut self) {
        let rested = self.memory_from.is_some_and(|from| here::monotonic() >= from);
        let wishes = self.judge.wishes();
        // In turn: one that cannot be fulfilled keeps nobody waiting.
        let turn = usize::try_from(self.ticks).unwrap_or(0).checked_rem(wishes.len()).unwrap_or(0);
        let Some(wish) = wishes.get(turn).filter(|_| rested).cloned() else { return };
        self.memory_from = None;
        let unread = wish.clone();
        let report =
            Report::new(self.wake.clone(), move || Wake::Memory(unread, None, here::monotonic() + LONGEST_REST));
        self.aside.give(move || {
            let began = Instant::now();
            let bytes = proportional(&wish);
            let rest = (began.elapsed() * REST).min(LONGEST_REST);
            report.tell(Wake::Memory(wish, bytes, here::monotonic() + rest));
        });
    }
}

/// The sum over its processes; whoever ended meanwhile has none. `None` where one may not be read.
fn proportional(wish: &MemoryWish) -> Option<u64> {
    let needs = Needs::NONE.with(Cost::Rollup);
    let mut sampler = Sampler::new(Path::new("/proc"), Needs::NONE).ok()?;
    let mut sum = 0u64;
    for id in &wish.members {
        let Some(mut process) = sampler.again(id.pid).filter(|process| process.id == *id && !process.has_ended())
        else {
            continue;
        };
        sampler.read_costly(&mut process, needs, PATIENCE);
        sum += process.memory_proportional?;
    }
    Some(sum)
}
