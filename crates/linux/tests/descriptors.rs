//! Out of descriptors nothing can be read, and what cannot be read is not taken for nothing: not for nobody who waits, not for a
//! tree without branches, not for threads that stand still.

#![allow(clippy::unwrap_used, clippy::expect_used, reason = "a test")]

use std::fs::File;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;

use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
use sophron_core::act::{Act, Order, Originals, Outcome};
use sophron_core::model::{Needs, Process, Snapshot};
use sophron_core::sorted::{SortedMap, SortedSet};
use sophron_linux::act::{ActError, Actuator, Commit, Found, Tree};
use sophron_linux::handle::Handle;
use sophron_linux::roles::Roles;
use sophron_linux::{Demand, Sampler};
use sophron_testkit::{Own, eventually, is_suspended};

/// With no more than that many descriptors to be had.
fn with_left<T>(count: usize, what: impl FnOnce() -> T) -> T {
    let mut taken = Vec::new();
    while let Ok(file) = File::open("/dev/null") {
        taken.push(file);
    }
    taken.truncate(taken.len() - count);
    what()
}

/// Agrees to everything.
struct Agrees {
    takes_back: bool,
}

impl Commit for Agrees {
    fn announce(&mut self, _: usize, _: Found) -> Result<(), String> {
        Ok(())
    }

    fn still_right(&mut self, _: usize, _: Process) -> Result<(), String> {
        Ok(())
    }
    fn takes_back(&self) -> bool {
        self.takes_back
    }
}

#[test]
fn what_cannot_be_read_is_not_taken_for_nothing() {
    let limit = getrlimit(Resource::Nofile);
    setrlimit(Resource::Nofile, Rlimit { current: Some(64), ..limit }).unwrap();
    let mut command = Command::new("sh");
    let root = Own(command.args(["-c", "sleep 60 & wait"]).process_group(0).stdin(Stdio::null()).spawn().unwrap());
    let mut sampler = Sampler::new(Path::new("/proc"), Needs::PERIODIC).unwrap();
    let mut find = |found: &dyn Fn(&Process) -> bool| {
        eventually("it runs", || sampler.look().ok()?.processes.iter().find(|process| found(process)).cloned())
    };
    let process = find(&|process| process.id.pid == root.0.id());
    let child = find(&|process| process.parent == root.0.id() && process.app == "sleep");
    drop(sampler);
    let handle = Arc::new(Handle::open(&process.id).unwrap());
    for left in 0..=1 {
        let threads = with_left(left, || handle.threads());
        assert!(threads.is_err(), "with {left} left: {threads:?}");
        let role = with_left(left, || Roles::look().of(&process, &SortedSet::new()));
        assert!(role.as_ref().is_some_and(|why| why.contains("unknown protects")), "with {left} left: {role:?}");
        let mut tree = Tree::of(&[Arc::clone(&handle)], |_| None);
        let came = with_left(left, || tree.terminate(None, &mut |_| Ok(()), &mut || true));
        assert!(matches!(came, Err(ActError::NotWhole(_))), "with {left} left: {came:?}");
        let order = Order::on(process.clone(), Act::Terminate { force_after: None });
        let handles = SortedMap::from([(process.id, Arc::clone(&handle))]);
        let actuator = Actuator { handles, ..Actuator::default() };
        let outcome = with_left(left, || actuator.perform(&order, &mut Agrees { takes_back: false }).outcome().0);
        assert!(!outcome.has_effect(), "with {left} left: {outcome:?}");
    }
    // Without a handle: what was done to it stays in force by the record, and is not taken for ended with it.
    let originals = Originals::default();
    for act in [Act::Restore { set: 10, originals, still: None }, Act::Resume] {
        let order = Order::on(process.clone(), act);
        let outcome =
            with_left(0, || Actuator::default().perform(&order, &mut Agrees { takes_back: true }).outcome().0);
        assert!(matches!(outcome, Outcome::Refused(_)), "{outcome:?}");
    }
    assert!(!handle.has_ended() && !is_suspended(process.id.pid) && !is_suspended(child.id.pid));
    // Nobody is gone from a sample for that: of who is there nothing is known then. It may keep more files than there are.
    setrlimit(Resource::Nofile, Rlimit { current: Some(1024), ..limit }).unwrap();
    let sampler = Sampler::new(Path::new("/proc"), Needs::PERIODIC).unwrap();
    let mut sampler = sampler.on_demand(Demand::default());
    let mut snapshot = Snapshot::default();
    let mut sample = || {
        let _ = sampler.sample(&mut snapshot);
        sampler.read_all(&mut snapshot);
        snapshot.clone()
    };
    sample();
    let all: Vec<_> = [process.id, child.id].into();
    with_left(10, || {
        let mut snapshot = Snapshot::default();
        for tick in 0..30 {
            snapshot = sample();
            assert!(all.iter().all(|id| snapshot.find(id).is_some()), "gone at tick {tick}");
        }
        let known = all.iter().filter(|id| snapshot.find(id).unwrap().memory_held.is_some());
        assert!(known.count() < 2, "it was tried");
    });
    let snapshot = sample();
    assert!(all.iter().all(|id| snapshot.find(id).unwrap().memory_held.is_some()), "known again");
    // Whoever is new then is missed, which is said, and is found once he can be read.
    let mut fresh = Sampler::new(Path::new("/proc"), Needs::PERIODIC).unwrap();
    let mut snapshot = Snapshot::default();
    with_left(1, || fresh.sample(&mut snapshot)).unwrap();
    assert!(fresh.unread() >= 2 && snapshot.find(&process.id).is_none(), "{} are missed", fresh.unread());
    fresh.sample(&mut snapshot).unwrap();
    assert!(fresh.unread() == 0 && all.iter().all(|id| snapshot.find(id).is_some()), "{} are missed", fresh.unread());
    // And with descriptors to be had it is ended, with all that belongs to it.
    let mut tree = Tree::of(&[Arc::clone(&handle)], |_| None);
    tree.terminate(None, &mut |_| Ok(()), &mut || true).unwrap();
    assert_eq!(tree.members().count(), 2);
    assert!(tree.members().all(|member| member.has_ended()));
}
