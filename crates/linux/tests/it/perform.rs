//! The one actuator on real processes: no signal before the record is on disk, nothing that is no longer right, the same words
//! for all.

use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::Duration;

use sophron_core::act::{Act, Only, Order, Outcome, same};
use sophron_core::model::{Needs, Process};
use sophron_linux::Sampler;
use sophron_linux::act::{Actuator, Commit, Found, Performed};
use sophron_testkit::{Own, anothers_waiter, eventually, is_suspended, nices};

/// Whoever orders: he says when his record is on disk, and whether it is still right.
struct Orders<'a> {
    order: &'a Order,
    announced: Vec<Found>,
    record: Box<dyn FnMut() -> Result<(), String> + 'a>,
    right: Result<(), String>,
}

impl Commit for Orders<'_> {
    fn announce(&mut self, _: usize, found: Found) -> Result<(), String> {
        (self.record)()?;
        self.announced.push(found);
        Ok(())
    }

    fn still_right(&mut self, target: usize, now: Process) -> Result<(), String> {
        same(&self.order.targets[target], &now)?;
        self.right.clone()
    }
}

fn sleeper() -> Own {
    Own(Command::new("sleep").arg("60").stdin(Stdio::null()).spawn().unwrap())
}

fn seen(child: &Child) -> Process {
    let mut sampler = Sampler::new(Path::new("/proc"), Needs::PERIODIC).unwrap();
    // Between fork and exec it is still us.
    eventually("it runs", || sampler.again(child.id()).filter(|process| process.app == "sleep"))
}

fn perform(order: &Order) -> (Performed, Vec<Found>) {
    let mut orders = Orders { order, announced: Vec::new(), record: Box::new(|| Ok(())), right: Ok(()) };
    let performed = Actuator::default().perform(order, &mut orders);
    (performed, orders.announced)
}

const POLITELY: Act = Act::Terminate { force_after: None };

#[test]
fn no_signal_precedes_the_return_of_the_sync() {
    let mut child = sleeper();
    let order = Order::on(seen(&child.0), POLITELY);
    let (begun, begins): (Sender<()>, Receiver<()>) = channel();
    let (goes, go) = channel::<()>();
    let act = std::thread::spawn(move || {
        let record = Box::new(move || {
            begun.send(()).unwrap();
            go.recv().map_err(|error| error.to_string())
        });
        let mut orders = Orders { order: &order, announced: Vec::new(), record, right: Ok(()) };
        Actuator::default().perform(&order, &mut orders).outcome().0
    });
    begins.recv_timeout(Duration::from_secs(20)).unwrap();
    std::thread::sleep(Duration::from_millis(300));
    assert!(matches!(child.0.try_wait(), Ok(None)), "signalled before its intent was on disk");
    goes.send(()).unwrap();
    assert!(matches!(act.join().unwrap(), Outcome::Ended(_)) && child.0.wait().unwrap().code().is_none());
}

#[test]
fn what_is_not_recorded_or_no_longer_right_is_not_done() {
    let mut child = sleeper();
    let process = seen(&child.0);
    let order = Order::on(process.clone(), POLITELY);
    let record: Box<dyn FnMut() -> Result<(), String>> = Box::new(|| Err("the disk is full".to_owned()));
    let mut orders = Orders { order: &order, announced: Vec::new(), record, right: Ok(()) };
    let unrecorded = Actuator::default().perform(&order, &mut orders).outcome().0;
    assert_eq!(unrecorded.seen(), "no record, no action: the disk is full");

    let right = Err("it is no longer in breach".to_owned());
    let mut orders = Orders { order: &order, announced: Vec::new(), record: Box::new(|| Ok(())), right };
    let dropped = Actuator::default().perform(&order, &mut orders).outcome().0;
    assert_eq!((dropped.came().word(), orders.announced.len()), ("dropped", 1));

    // Another process under its number, and another user's by now.
    let mut another = process.clone();
    another.id.start += 1;
    assert_eq!(perform(&Order::on(another, POLITELY)).0.outcome().0, Outcome::Gone);
    let theirs = Process { uid: process.uid + 1, ..process };
    assert!(
        matches!(perform(&Order::on(theirs, POLITELY)).0.outcome().0, Outcome::Dropped(why) if why.contains("owner"))
    );
    assert!(matches!(child.0.try_wait(), Ok(None)), "and it lives");
}

/// Whoever ends by himself while that is written down is gone: nothing is done to him, and nothing is amiss.
#[test]
fn who_ends_before_the_act_is_gone() {
    for act in [POLITELY, Act::Lower { nice: 19, only: Only::Both }] {
        let mut child = sleeper();
        let order = Order::on(seen(&child.0), act.clone());
        let record =
            Box::new(|| child.0.kill().and_then(|()| child.0.wait()).map(|_| ()).map_err(|error| error.to_string()));
        let mut orders = Orders { order: &order, announced: Vec::new(), record, right: Ok(()) };
        let outcome = Actuator::default().perform(&order, &mut orders).outcome().0;
        assert!(outcome == Outcome::Gone && outcome.is_success() && orders.announced.len() == 1, "{act}: {outcome:?}");
    }
}

/// Of several that are meant together one that cannot be recorded keeps the others from being touched as well.
#[test]
fn several_as_one_are_recorded_all_or_none() {
    let children = [sleeper(), sleeper(), sleeper()];
    let targets: Vec<Process> = children.iter().map(|child| seen(&child.0)).collect();
    let order = Order { targets, ..Order::on(seen(&children[0].0), Act::Suspend { length: Duration::from_secs(30) }) };
    let mut left = 2;
    let record: Box<dyn FnMut() -> Result<(), String>> = Box::new(|| {
        left -= 1;
        if left < 0 { Err("the disk is full".to_owned()) } else { Ok(()) }
    });
    let mut orders = Orders { order: &order, announced: Vec::new(), record, right: Ok(()) };
    let performed = Actuator::default().perform(&order, &mut orders);
    assert!(
        performed
            .outcomes
            .iter()
            .all(|outcome| matches!(outcome, Outcome::Unrecorded(why) if why.contains("any of them")))
    );
    assert!(children.iter().all(|child| !is_suspended(child.0.id())) && performed.standing.is_none());
}

/// What was before is announced, and is what is put back.
#[test]
fn a_lowering_announces_what_it_will_put_back() {
    let child = sleeper();
    let process = seen(&child.0);
    let was = process.nice;
    let nice = (was + 3).min(19);
    let (performed, announced) = perform(&Order::on(process.clone(), Act::Lower { nice, only: Only::Both }));
    let Outcome::Lowered(lowering) = performed.outcome().0 else { panic!("it is ours to lower") };
    assert_eq!(announced[0].originals.as_ref(), Some(&lowering.originals));
    assert_eq!((nices(child.0.id()), lowering.originals.was), (vec![nice], was));
    if !lowering.reversible {
        eprintln!("skipped: nobody may bring niceness down again here");
        return;
    }
    let restore = Act::Restore { set: nice, originals: lowering.originals, still: None };
    assert!(matches!(perform(&Order::on(process.clone(), restore.clone())).0.outcome().0, Outcome::Restored(_)));
    assert_eq!(nices(child.0.id()), [was]);
    assert_eq!(perform(&Order::on(process, restore)).0.outcome().0.seen(), "it was as before");
}

/// Whoever others count on is no target, unless somebody insists: here one whose file lock is waited for.
#[test]
fn a_role_is_looked_at_right_before_the_act() {
    let folder = tempfile::tempdir().unwrap();
    let lock = folder.path().join("lock");
    std::fs::write(&lock, "").unwrap();
    let flock = |command: &str| {
        let spawned = Command::new("flock").arg(&lock).args(["-c", command]).stdin(Stdio::null()).spawn();
        spawned.ok().map(Own)
    };
    let Some(holder) = flock("sleep 60") else {
        eprintln!("skipped: there is no flock here");
        return;
    };
    let pid = holder.0.id();
    eventually("it holds the lock", || (sophron_linux::locks::holds_any(pid) == Some(true)).then_some(()));
    let Some(waiter) = anothers_waiter(&lock) else { return };
    let waits = || sophron_linux::locks::waiting_for(&[pid], Duration::from_secs(5));
    eventually("it is seen", || waits().filter(|waiters| !waiters.is_empty()));
    let mut sampler = Sampler::new(Path::new("/proc"), Needs::PERIODIC).unwrap();
    let process = sampler.again(pid).unwrap();
    let order = Order::on(process, Act::Suspend { length: Duration::from_secs(30) });
    let refused = perform(&order).0.outcome().0;
    assert!(matches!(&refused, Outcome::Refused(why) if why.contains("waits for")), "{refused:?}");
    assert!(!is_suspended(pid));
    let insists =
        Order { heeds_roles: false, act: Act::Terminate { force_after: Some(Duration::from_secs(2)) }, ..order };
    let ended = perform(&insists).0.outcome().0;
    assert!(matches!(&ended, Outcome::Ended(_)), "{ended:?}");
    drop((holder, waiter));
}
