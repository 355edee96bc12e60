//! The exact memory of groups, read beside the ticks: each page of it costs, so it is read only where the upper bound
//! decides nothing, and for no more than 2% of one core.

use std::cell::RefCell;
use std::path::Path;
use std::time::{Duration, Instant};

use sophron_core::judge::MemoryWish;
use sophron_core::model::{Cost, Needs};
use sophron_linux::{Sampler, here};

/// One process that does not answer in that time counts nothing.
const PATIENCE: Duration = Duration::from_millis(500);

/// After reading it rests this many times as long.
const REST: u32 = 49;

/// The longest rest: an answer is worth little when it is late.
pub const LONGEST_REST: Duration = Duration::from_secs(30);

/// The sum over its processes and how many are not in it, and from when on the next may be read (monotonic).
pub fn read(wish: &MemoryWish) -> (Option<(u64, usize)>, Duration) {
    let began = Instant::now();
    let exact = proportional(wish);
    (exact, here::monotonic() + (began.elapsed() * REST).min(LONGEST_REST))
}

thread_local! {
    /// Kept, since whoever hangs its reader keeps one for as long: he is not given another each time.
    static SAMPLER: RefCell<Option<Sampler>> = const { RefCell::new(None) };
}

/// Whoever ended meanwhile has none; of whoever cannot be read now nothing is counted, so that one who hangs his reader does not hide the
/// others. `None` where nobody can be read.
fn proportional(wish: &MemoryWish) -> Option<(u64, usize)> {
    SAMPLER.with_borrow_mut(|kept| {
        let sampler = match kept {
            Some(sampler) => sampler,
            none => none.insert(Sampler::new(Path::new("/proc"), Needs::NONE).ok()?),
        };
        sum(wish, sampler)
    })
}

fn sum(wish: &MemoryWish, sampler: &mut Sampler) -> Option<(u64, usize)> {
    let needs = Needs::NONE.with(Cost::Rollup);
    let (mut sum, mut read, mut unread) = (0u64, false, 0);
    for id in &wish.members {
        let Some(mut process) = sampler.again(id.pid).filter(|process| process.id == *id && !process.has_ended())
        else {
            continue;
        };
        sampler.read_costly(&mut process, needs, PATIENCE);
        match process.memory_proportional {
            Some(bytes) => (sum, read) = (sum + bytes, true),
            None => unread += 1,
        }
    }
    (read || unread == 0).then_some((sum, unread))
}
