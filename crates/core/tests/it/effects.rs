//! What is in force on whom, against the plainest account of it: who wants what.

use std::time::Duration;

use proptest::prelude::*;
use sophron_core::act::{Act, Originals, UnitWeight};
use sophron_core::effects::Effects;
use sophron_core::model::{Boot, ProcessId};
use sophron_core::sorted::{SortedMap, SortedSet};
use sophron_testkit::process;

use crate::script::seconds;

#[derive(Debug, Clone)]
enum Change {
    Lower(u32, u64, i32),
    Suspend(u32, u64),
    LetGo(u32, u64),
    Resumed(u32),
    Forget(u32),
}

fn change() -> impl Strategy<Value = Change> {
    let (pid, case) = (1_u32..4, 1_u64..5);
    prop_oneof![
        3 => (pid.clone(), case.clone(), 1_i32..20).prop_map(|(pid, case, nice)| Change::Lower(pid, case, nice)),
        2 => (pid.clone(), case.clone()).prop_map(|(pid, case)| Change::Suspend(pid, case)),
        4 => (pid.clone(), case).prop_map(|(pid, case)| Change::LetGo(pid, case)),
        1 => pid.clone().prop_map(Change::Resumed),
        1 => pid.prop_map(Change::Forget),
    ]
}

#[derive(Default)]
struct Wants {
    lower: SortedMap<u64, i32>,
    suspend: SortedSet<u64>,
}

impl Wants {
    fn nice(&self) -> Option<i32> {
        self.lower.values().copied().max()
    }
}

proptest! {
    /// What is set is the greatest niceness that anybody wants; it goes down with the last who wanted that, and back with the
    /// last of all. Who is suspended stays so until the last lets go, and is resumed once.
    #[test]
    fn what_is_in_force_is_what_somebody_wants(course in prop::collection::vec(change(), 1..80)) {
        let mut effects = Effects::default();
        let mut all: SortedMap<u32, Wants> = SortedMap::new();
        let id = |pid: u32| -> ProcessId { process(pid, "labelpress").id };
        for change in course {
            match change {
                Change::Lower(pid, case, nice) => {
                    effects.lower(id(pid), case, nice, Originals::default());
                    let wanted = all.entry(pid).or_default().lower.entry(case).or_insert(nice);
                    *wanted = nice.max(*wanted);
                }
                Change::Suspend(pid, case) => {
                    effects.suspend(id(pid), case, seconds(60));
                    all.entry(pid).or_default().suspend.insert(case);
                }
                Change::LetGo(pid, case) => {
                    let wants = all.entry(pid).or_default();
                    let (before, stood) = (wants.nice(), !wants.suspend.is_empty());
                    let wanted = wants.lower.remove(&case).is_some();
                    wants.suspend.remove(&case);
                    let undo = effects.let_go(&id(pid), case);
                    let resumed = undo.iter().filter(|act| **act == Act::Resume).count();
                    prop_assert_eq!(resumed, usize::from(stood && wants.suspend.is_empty()));
                    let restored: Vec<_> = undo.iter().filter_map(|act| match act {
                        Act::Restore { set, still, .. } => Some((Some(*set), *still)),
                        _ => None,
                    }).collect();
                    let changes = wanted && wants.nice() != before;
                    prop_assert_eq!(restored, if changes { vec![(before, wants.nice())] } else { vec![] });
                }
                Change::Resumed(pid) => {
                    let told = effects.resumed(&id(pid));
                    prop_assert_eq!(told, std::mem::take(&mut all.entry(pid).or_default().suspend));
                }
                Change::Forget(pid) => {
                    prop_assert_eq!(effects.forget(&id(pid)), None, "what was set ended with it");
                    all.remove(&pid);
                }
            }
            for pid in 1..4 {
                let wants = all.entry(pid).or_default();
                let holds: SortedSet<u64> = wants.lower.keys().chain(&wants.suspend).copied().collect();
                prop_assert_eq!(effects.cases_of(&id(pid)), holds.clone());
                prop_assert_eq!(effects.holds(&id(pid)), !holds.is_empty());
                prop_assert_eq!(effects.suspension(&id(pid)).is_some(), !wants.suspend.is_empty());
            }
        }
    }
}

const ID: ProcessId = ProcessId { pid: 9, start: 1, boot: Boot(1) };

#[test]
fn the_greatest_nice_holds_and_the_last_to_let_go_undoes() {
    let was = Originals::default();
    let mut effects = Effects::default();
    effects.lower(ID, 1, 10, was.clone());
    effects.lower(ID, 2, 15, Originals { was: 10, ..Originals::default() });
    assert_eq!(effects.lowered_to(&ID), Some(15));
    assert_eq!(effects.let_go(&ID, 2), [Act::Restore { set: 15, originals: was.clone(), still: Some(10) }]);
    assert_eq!(effects.let_go(&ID, 2), []);
    assert_eq!(effects.let_go(&ID, 1), [Act::Restore { set: 10, originals: was, still: None }]);
    assert!(effects.processes().is_empty());
}

/// A second, greater lowering moves the unit's weight further; what it had before the first is what is put back.
#[test]
fn the_weight_of_a_unit_outlives_its_process() {
    let weight = |was, set| {
        let (unit, group) = ("sheetlamp.service".to_owned(), "/system.slice/sheetlamp.service".to_owned());
        Some(UnitWeight { unit, group, uid: None, was, set })
    };
    let lowered = |was, set| Originals { weight: weight(was, set), ..Originals::default() };
    let mut effects = Effects::default();
    effects.lower(ID, 1, 10, lowered(None, 11));
    effects.lower(ID, 2, 15, lowered(Some(11), 4));
    let still = Act::Restore { set: 15, originals: lowered(None, 4), still: Some(10) };
    assert_eq!(effects.let_go(&ID, 2), [still]);
    assert_eq!(effects.forget(&ID), Some(Act::Restore { set: 10, originals: lowered(None, 11), still: None }));
    effects.lower(ID, 3, 10, Originals::default());
    assert_eq!(effects.forget(&ID), None);
}

#[test]
fn a_suspension_ends_when_no_case_wants_it() {
    let mut effects = Effects::default();
    effects.suspend(ID, 1, Duration::from_secs(5));
    effects.suspend(ID, 2, Duration::from_secs(3));
    assert_eq!(effects.suspension(&ID).map(|suspend| suspend.until), Some(Duration::from_secs(5)));
    assert_eq!(effects.let_go(&ID, 1), []);
    assert_eq!(effects.let_go(&ID, 2), [Act::Resume]);
}
