//! The exact memory of groups, read beside the ticks: each page of it costs, so it is read only where the upper bound
//! decides nothing, and for no more than 2% of one core.

use std::path::Path;
use std::time::{Duration, Instant};

use sophron_core::judge::MemoryWish;
use sophron_core::model::{Cost, Needs};
use sophron_linux::{Sampler, here};

/// One process that does not answer in that time makes the group unknown.
const PATIENCE: Duration = Duration::from_millis(500);

/// After reading it rests this many times as long.
const REST: u32 = 49;

/// The longest rest: an answer is worth little when it is late.
pub const LONGEST_REST: Duration = Duration::from_secs(30);

/// The sum over its processes, and from when on the next may be read (monotonic).
pub fn read(wish: &MemoryWish) -> (Option<u64>, Duration) {
    let began = Instant::now();
    let bytes = proportional(wish);
    (bytes, here::monotonic() + (began.elapsed() * REST).min(LONGEST_REST))
}

/// Whoever ended meanwhile has none. `None` where one may not be read.
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
