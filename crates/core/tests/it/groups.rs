//! Totals: who belongs together, and what is counted once.

use sophron_core::groups::{Amount, Grouping, begins_a_tree, groups};
use sophron_core::model::Process;
use sophron_testkit::process;

/// A baker with two workers, one of which has a helper; another user's baker; a shell above them all.
fn office() -> Vec<Process> {
    let mut all = vec![
        process(10, "shell"),
        process(20, "tilebaker"),
        process(21, "tilebaker"),
        process(22, "tileworker"),
        process(30, "tilebaker"),
    ];
    for (at, parent) in [(1, 10), (2, 20), (3, 21), (4, 10)] {
        all[at].parent = parent;
    }
    all[4].uid = 1002;
    all[4].names_mut().owner = "tomas".to_owned();
    for process in &mut all {
        process.cpu = Some(10.0);
        process.memory = Some(100);
    }
    all[1].waited = Some(55.0);
    all
}

#[test]
fn an_app_is_one_owners_and_a_tree_counts_what_its_children_took_with_them() {
    let all = office();
    let apps = groups(&all, Grouping::App, |_| true);
    let ines = apps.iter().find(|group| group.name == "tilebaker" && group.owner == "ines").unwrap();
    assert_eq!((ines.members.len(), ines.cpu(Grouping::App)), (2, Some(20.0)), "own time only");
    let trees = groups(&all, Grouping::Tree, |process| process.app == "tilebaker");
    let sizes: Vec<(u32, usize)> = trees.iter().map(|group| (group.members[0].id.pid, group.members.len())).collect();
    assert_eq!(sizes, [(20, 3), (30, 1)], "the worker's own name begins no tree of its own below the baker");
    assert_eq!(trees[0].cpu(Grouping::Tree), Some(85.0));
    assert_eq!(groups(&all, Grouping::Tree, begins_a_tree).len(), 1);
    assert_eq!(groups(&all, Grouping::Owner, |_| true).len(), 2);
}

#[test]
fn shared_memory_is_counted_once_or_said_to_be_a_bound() {
    let mut all = office();
    let memory = |all: &[Process]| groups(all, Grouping::Tree, |process| process.id.pid == 20)[0].memory();
    assert_eq!(memory(&all), Some(Amount { bytes: 300, at_most: true }));
    for process in &mut all {
        process.memory_proportional = Some(40);
    }
    assert_eq!(memory(&all), Some(Amount { bytes: 120, at_most: false }));
    all[2].memory_proportional = None;
    assert_eq!(memory(&all), Some(Amount { bytes: 300, at_most: true }), "unknown of one is unknown of all");
}
