//! Who came and went between two samples, and what they used: by whose they were and what they called themselves.

use std::collections::{BTreeMap, HashMap};
use std::time::Duration;

use sophron_core::model::{Passing, Process};
use sophron_core::order::InOrder;
use sophron_core::text;

use crate::exits::{Exit, Exits};
use crate::here::Users;

/// Most that are told of one by one; the rest of an owner's is one more.
const MOST: usize = 16;

/// Whom a sample before had, and no longer: the CPU time that was seen of them, nanoseconds, by PID.
pub(super) type Gone = HashMap<u32, u64>;

#[derive(Debug)]
pub(super) struct Listener(Exits);

impl Listener {
    /// `None` where the kernel tells us nothing.
    pub fn begin() -> Option<Listener> {
        Exits::listen().map(Listener)
    }

    /// All that have passed since it was asked last. Those with a row have been seen, and what threads of theirs used is theirs.
    pub fn passed(&self, processes: &[Process], gone: &Gone, interval: Duration, users: &mut Users) -> Vec<Passing> {
        sum_up(self.0.heard(), processes, gone, interval, users)
    }
}

fn sum_up(heard: Vec<Exit>, processes: &[Process], gone: &Gone, interval: Duration, users: &mut Users) -> Vec<Passing> {
    let lives = |pid: u32| processes.binary_search_by_key(&pid, |process| process.id.pid).is_ok();
    let mut ended: BTreeMap<u32, Exit> = BTreeMap::new();
    for exit in heard.into_iter().filter(|exit| !lives(exit.process)) {
        match ended.get_mut(&exit.process) {
            Some(known) => known.used += exit.used,
            None => _ = ended.insert(exit.process, exit),
        }
    }
    let mut by_name: BTreeMap<(u32, String), (u32, Duration)> = BTreeMap::new();
    for (pid, exit) in ended {
        let seen = Duration::from_nanos(gone.get(&pid).copied().unwrap_or(0));
        let place = by_name.entry((users.person(exit.uid), text::clean(&exit.name))).or_default();
        (place.0, place.1) = (place.0 + 1, place.1 + exit.used.saturating_sub(seen));
    }
    let seconds = interval.as_secs_f64();
    if seconds <= 0.0 {
        return Vec::new();
    }
    // As a recording keeps it: it is judged by the same figure then.
    let share = |used: Duration| (used.as_secs_f64() * 1000.0 / seconds).round() / 10.0;
    let of = |((uid, name), (count, used)): ((u32, String), (u32, Duration)), users: &mut Users| Passing {
        owner: users.name(uid),
        uid,
        name,
        count,
        cpu: share(used),
    };
    let mut most: Vec<_> = by_name.into_iter().collect();
    most.order_by_key(|(_, (_, used))| std::cmp::Reverse(*used));
    let mut rest: BTreeMap<(u32, String), (u32, Duration)> = BTreeMap::new();
    for ((uid, _), (count, used)) in most.split_off(most.len().min(MOST)) {
        let place = rest.entry((uid, String::new())).or_default();
        (place.0, place.1) = (place.0 + count, place.1 + used);
    }
    let all = most.into_iter().chain(rest).map(|one| of(one, users));
    all.filter(|passing| passing.cpu > 0.0).collect()
}

#[cfg(test)]
mod tests {
    use sophron_core::model::ProcessId;

    use super::*;

    /// Threads of the living are theirs, what was seen of the gone is taken off, and a program under a hundred names is still one
    /// owner's.
    #[test]
    fn what_no_sample_has_is_summed_up_by_owner_and_name() {
        let exit = |process: u32, uid: u32, name: &str, milliseconds: u64| Exit {
            process,
            uid,
            name: name.into(),
            used: Duration::from_millis(milliseconds),
        };
        let mut heard = vec![
            exit(20, 990_101, "mill", 40),
            exit(20, 990_101, "mill", 10),
            exit(21, 990_101, "mill", 50),
            exit(30, 990_102, "loom", 500),
            exit(40, 990_102, "loom", 300),
        ];
        heard.extend((0..100).map(|at| exit(100 + at, 990_103, &format!("n{at}"), 1)));
        let alive = [Process::unread(ProcessId { pid: 30, start: 1, boot: Default::default() })];
        let gone = Gone::from([(40, 250_000_000)]);
        let passed = sum_up(heard, &alive, &gone, Duration::from_secs(1), &mut Users::default());
        let told = |uid: u32| {
            let his = passed.iter().filter(|passing| passing.uid == uid);
            his.fold((0, 0.0), |(count, cpu), passing| (count + passing.count, cpu + passing.cpu))
        };
        assert_eq!((told(990_101), told(990_102)), ((2, 10.0), (1, 5.0)));
        let (count, cpu) = told(990_103);
        assert!(count == 100 && (cpu - 10.0).abs() < 0.01 && passed.len() <= MOST + 1, "{passed:?}");
    }
}
