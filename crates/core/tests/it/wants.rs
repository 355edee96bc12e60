//! What has to be read for the rules: all that they name, and nothing that nobody asks for.

use std::sync::Arc;

use sophron_core::dispatch::Wants;
use sophron_core::model::{Cost, Needs};
use sophron_core::rules::RuleSet;

use crate::script::load;

const MOST_OF_IT: [Cost; 8] =
    [Cost::Stat, Cost::Statm, Cost::Status, Cost::Io, Cost::Cgroup, Cost::Family, Cost::Rollup, Cost::Files];

fn rules(rules: &[&str]) -> Arc<RuleSet> {
    let one = |(place, keys): (usize, &&str)| format!("[[rule]]\nname = 'rule-{place}'\nlasting = '0s'\n{keys}\n");
    load(&rules.iter().enumerate().map(one).collect::<String>())
}

fn named(needs: Needs) -> Vec<Cost> {
    MOST_OF_IT.into_iter().filter(|cost| needs.has(*cost)).collect()
}

#[test]
fn a_sample_reads_what_the_rules_name() {
    let of = |keys: &[&str]| Wants::of(&rules(keys)).of_everybody();
    let cpu = of(&["breach = 'cpu > 90%'"]);
    assert_eq!(named(cpu), []);
    assert!(cpu.has(Cost::Command) && cpu.has(Cost::Proof), "a record says who it was");
    let breach = of(&["where = 'unit = \"lamp\"'\nbreach = 'memory > 1 GiB and disk.read < 1 MB/s'"]);
    assert_eq!(named(breach), [Cost::Statm, Cost::Io, Cost::Cgroup]);
    let calm = of(&["breach = 'cpu > 90%'\ncalm = 'memory.held < 1 GiB'"]);
    assert_eq!(named(calm), [Cost::Status]);
    // The choice of a lever, and whether it had an effect, rest on more.
    let lowers = of(&["breach = 'cpu > 90%'", "breach = 'cpu > 95%'\nladder = [ { at = '0s', do = 'lower' } ]"]);
    assert_eq!((named(lowers), lowers.has(Cost::Machine)), (vec![Cost::Stat, Cost::Cgroup], true));
    let for_acts = |keys: &str| {
        let lowers = "ladder = [ { at = '0s', do = 'lower' } ]";
        named(Wants::of(&rules(&[&format!("breach = 'cpu > 95%'\n{keys}\n{lowers}")])).for_acts())
    };
    assert_eq!(for_acts("where = 'not kernel'"), [Cost::Cgroup]);
    for by_group in ["judge = 'unit'", "judge = 'owner'", "where = 'unit = \"lamp\"'", "where = 'origin = login'"] {
        assert_eq!(for_acts(by_group), [], "{by_group}");
    }
    let ends = of(&["breach = 'cpu > 90%'\nladder = [ { at = '0s', do = 'terminate' } ]"]);
    assert_eq!((named(ends), ends.has(Cost::Machine)), (vec![], false));
}

#[test]
fn trees_are_followed_where_somebody_judges_them() {
    let trees = |keys: &str| Wants::of(&rules(&[keys])).trees();
    assert!(trees("judge = 'tree'\nbreach = 'cpu > 90%'"));
    assert!(!trees("breach = 'cpu > 90%'"));
    assert!(!trees("judge = 'app'\nbreach = 'cpu > 90%'"));
}

/// What somebody runs may stay unknown only where nothing goes by it but what is about himself.
#[test]
fn names_of_others_count_where_somebody_goes_by_them() {
    let none = |keys: &str| Wants::of(&rules(&[keys])).none_by_others();
    assert!(none("where = 'app = \"labelpress\"'\nbreach = 'memory > 1 GiB'"));
    assert!(!none("breach = 'instances > 30'") && !none("breach = 'children > 30'"));
    assert!(!none("judge = 'app'\nbreach = 'memory > 1 GiB'"));
    assert!(!none("breach = 'cpu > 50% and machine.cpu.unseen > 20%'"));
}
