//! Whom an order may touch beyond the process it is on: what belongs to others is neither moved nor started anew.

use std::time::Duration;

use sophron_core::act::{Act, Confined, Lever, Only, Order, Originals, Reach, same};
use sophron_core::model::Process;
use sophron_core::state::State;
use sophron_testkit::process;

use crate::script::seconds;

const LOWER: Act = Act::Lower { nice: 10, only: Only::Both };

/// In a session and in a unit.
fn at(pid: u32, app: &str, session: u32, group: &str) -> Process {
    let mut process = process(pid, app);
    process.session = session;
    process.names_mut().group = Some(group.to_owned());
    process
}

fn order(all: &[Process], act: Act, meant: impl Fn(&Process) -> bool) -> Order {
    Order::among(all, &all[0], act, meant)
}

/// The value of a session acts on all of it: it is changed only where everybody in it is meant.
#[test]
fn a_session_is_moved_only_as_a_whole() {
    let mut all = vec![at(10, "labelpress", 10, "/a"), at(11, "dash", 10, "/b"), at(12, "dash", 12, "/c")];
    let whole = |all: &[Process], meant: &[u32]| {
        order(all, LOWER, |process| meant.contains(&process.id.pid)).reach.whole_session
    };
    assert!(whole(&all, &[10, 11]));
    assert!(!whole(&all, &[10]), "somebody else is in it");
    assert!(!whole(&all, &[11]), "the process itself is not meant");
    all[1].state = State::Zombie;
    assert!(whole(&all, &[10]), "who has ended is nobody");
    all[0].session = 0;
    assert!(!whole(&all, &[10]), "whose session is not known");
}

/// The weight of a unit acts on all of it: it is changed only where everybody in it is meant, or is the same program.
#[test]
fn a_unit_is_weighed_only_as_a_whole() {
    let mut all = vec![at(10, "sheetlamp", 10, "/lamp"), at(11, "sheetlamp", 11, "/lamp"), at(12, "dash", 12, "/lamp")];
    let whole =
        |all: &[Process], meant: &[u32]| order(all, LOWER, |process| meant.contains(&process.id.pid)).reach.whole_unit;
    assert!(!whole(&all, &[10, 11]), "a shell is in it");
    assert!(whole(&all, &[10, 12]), "the other one is the same program");
    all[2].names_mut().group = Some("/desk".to_owned());
    assert!(whole(&all, &[10]), "the shell has moved to another unit");
    all[2] = at(12, "dash", 12, "/lamp");
    all[2].state = State::Zombie;
    assert!(whole(&all, &[10]), "who has ended is nobody");
}

/// A lowering that nobody outside its scheduling group has anything of: who is in the group, and the condition that fits
/// all of them, where anything moves the group as a whole.
#[test]
fn what_a_lowering_does_not_reach_is_known_beforehand() {
    let scope = "/user.slice/user-1001.slice/session-4.scope";
    let app = "/user.slice/user-1001.slice/user@1001.service/app.slice/app-inklane.scope";
    let own = "/user.slice/user-1001.slice/user@1001.service/app.slice/mill.service";
    let all = [
        at(10, "labelpress", 10, "/system.slice/labelpress.service"),
        at(11, "dash", 10, "/system.slice/labelpress.service"),
        at(12, "dash", 12, scope),
        at(13, "inklane", 13, app),
        at(14, "mill", 14, own),
        at(15, "dash", 15, own),
        at(16, "tilebaker", 16, "/system.slice/labelpress.service/tenant"),
    ];
    let told = |at: usize, lever: &Lever, meant: &[u32]| {
        let confined = Confined::of(&all, &all[at], lever, |process| meant.contains(&process.id.pid))?;
        let others: Vec<u32> = confined.others.iter().map(|other| other.id.pid).collect();
        Some((others, confined.all))
    };
    let fits = |condition: &str| Some(condition.to_owned());
    let session = Lever::SessionGroup { group: "/autogroup-41".to_owned() };
    assert_eq!(told(0, &session, &[10]), Some((vec![11], fits("session = 10"))));
    assert_eq!(told(0, &session, &[10, 11]), None);
    assert_eq!(told(0, &Lever::Nice, &[10]), None);
    let weight = |at: usize, meant: &[u32]| {
        let group = all[at].group.clone().unwrap();
        told(at, &Lever::Weight { group, unified: true }, meant)
    };
    assert_eq!(weight(0, &[10]), Some((vec![11], fits("unit = \"labelpress.service\""))));
    assert_eq!(weight(0, &[10, 11]), None);
    assert_eq!(weight(2, &[12]), Some((vec![], None)), "a login's weight is everybody's in it");
    assert_eq!(weight(3, &[13]), None, "a program's own scope");
    assert_eq!(weight(4, &[14]), Some((vec![15], fits("unit = \"mill.service\" and uid = 1001"))));
    assert_eq!(weight(6, &[16]), Some((vec![], None)), "a group that no manager made");
}

/// Whoever is of the unit is started anew with it, and only he; nobody else's act knows of mates.
#[test]
fn who_is_started_anew_is_known_beforehand() {
    let all = [at(10, "sheetlamp", 10, "/lamp"), at(11, "dash", 11, "/lamp"), at(12, "dash", 10, "/desk")];
    let pids = |order: &Order| order.mates.iter().map(|mate| mate.id.pid).collect::<Vec<_>>();
    let restart = order(&all, Act::Restart, |_| true);
    assert_eq!((pids(&restart), restart.reach), (vec![10, 11], Reach::default()));
    for act in [LOWER, Act::Resume, Act::Terminate { force_after: None }] {
        let order = order(&all, act.clone(), |process| process.id.pid == 10);
        assert_eq!((pids(&order), order.targets.len(), order.whole.is_some()), (vec![], 1, false), "{act}");
        assert!(order.heeds_roles && order.targets[0].id == all[0].id, "{act}");
    }
}

/// What others depend on is minded by what stands in their way, and by nothing else; only what goes back takes back.
#[test]
fn acts_are_told_apart_by_what_they_do_to_others() {
    let restore = Act::Restore { set: 10, originals: Originals::default(), still: None };
    let acts = [
        (LOWER, "lower to nice 10", false, false),
        (Act::Lower { nice: 15, only: Only::Cpu }, "lower to nice 15", false, false),
        (Act::Lower { nice: 15, only: Only::Disk }, "lower the disk", false, false),
        (Act::Suspend { length: seconds(90) }, "suspend for 1m30s", true, false),
        (Act::Resume, "resume", false, true),
        (restore, "restore", false, true),
        (Act::Restart, "restart the unit", true, false),
        (Act::Terminate { force_after: None }, "terminate", true, false),
        (
            Act::Terminate { force_after: Some(Duration::from_millis(2500)) },
            "terminate, by force after 2s500ms",
            true,
            false,
        ),
    ];
    for (act, words, stands_in_the_way, is_undo) in acts {
        assert_eq!(
            (act.to_string().as_str(), act.stands_in_the_way(), act.is_undo()),
            (words, stands_in_the_way, is_undo)
        );
    }
}

/// A PID is nobody: who was meant is told by his start, his boot and his owner.
#[test]
fn the_very_process_is_known_again() {
    let meant = process(10, "labelpress");
    assert_eq!(same(&meant, &meant.clone()), Ok(()));
    let mut other = meant.clone();
    other.id.start += 1;
    let ended = Err("it has ended meanwhile".to_owned());
    assert_eq!(same(&meant, &other), ended);
    let mut zombie = meant.clone();
    zombie.state = State::Zombie;
    assert_eq!(same(&meant, &zombie), ended);
    let mut other = meant.clone();
    other.uid = 0;
    other.names_mut().owner = "root".to_owned();
    assert_eq!(same(&meant, &other), Err("its owner is root now".to_owned()));
}
