//! What has to be read for the rules: all that they name, and nothing that nobody asks for.

use std::collections::BTreeSet;
use std::sync::Arc;

use sophron_core::dispatch::Wants;
use sophron_core::model::{Cost, Machine, Needs, Process};
use sophron_core::rules::RuleSet;
use sophron_testkit::{World, process};

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

fn machine() -> Machine {
    World::new(Vec::new()).machine
}

#[test]
fn a_sample_reads_what_the_rules_name() {
    let of = |keys: &[&str]| Wants::of(&rules(keys), None).of_everybody();
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
    let ends = of(&["breach = 'cpu > 90%'\nladder = [ { at = '0s', do = 'terminate' } ]"]);
    assert_eq!((named(ends), ends.has(Cost::Machine)), (vec![], false));
}

#[test]
fn of_a_process_is_fresh_what_the_rules_that_may_cover_it_name() {
    let rules = rules(&[
        "where = 'app = \"labelpress\"'\nbreach = 'memory > 1 GiB'",
        "where = 'owner = \"tomas\"'\nbreach = 'disk.read > 1 MB/s'",
        "where = 'cpu > 5% and app = \"labelpress\"'\nbreach = 'memory.held > 1 GiB'",
    ]);
    let of = |wants: &Wants, process: &Process| named(wants.of_one(process, &machine()));
    let wants = Wants::of(&rules, None);
    let press = process(10, "labelpress");
    assert_eq!(of(&wants, &press), [Cost::Statm, Cost::Status], "a use of the CPU may change");
    assert_eq!(of(&wants, &process(11, "herbarium")), []);
    let mut of_tomas = process(12, "herbarium");
    of_tomas.names_mut().owner = "tomas".to_owned();
    assert_eq!(of(&wants, &of_tomas), [Cost::Io]);
    let wants = Wants::of(&rules, Some(BTreeSet::from([press.id])));
    assert_eq!((of(&wants, &press).len(), of(&wants, &of_tomas)), (2, vec![]), "he is not judged");
}

#[test]
fn trees_are_followed_where_somebody_judges_them() {
    let trees = |keys: &str| Wants::of(&rules(&[keys]), None).trees();
    assert!(trees("judge = 'tree'\nbreach = 'cpu > 90%'"));
    assert!(!trees("breach = 'cpu > 90%'"));
    assert!(!trees("judge = 'app'\nbreach = 'cpu > 90%'"));
}

/// What is costly is read of whom it decides on, and of nobody else.
#[test]
fn what_is_costly_is_read_where_all_hangs_on_it() {
    let rules = rules(&[
        "breach = 'cpu > 90%'",
        "where = 'app = \"labelpress\"'\nbreach = 'cpu > 50% and memory.private > 100 MiB'",
        "breach = 'files > 1000'",
        "judge = 'app'\nbreach = 'memory > 1 GiB'",
    ]);
    let wants = Wants::of(&rules, None);
    let costly: Vec<_> = wants.costly().map(|(rule, needs)| (rule.name.to_string(), named(needs))).collect();
    let expected = [("rule-1".to_owned(), vec![Cost::Rollup]), ("rule-2".to_owned(), vec![Cost::Files])];
    assert_eq!(costly, expected, "of a group's memory the judge says when it wants to know more");
    let rule = &rules.rules[1];
    let hangs = |cpu: f64, private: Option<u64>, app: &str| {
        let mut process = process(10, app);
        (process.cpu, process.memory_private) = (Some(cpu), private);
        Wants::hangs_on_it(rule, &process, &machine())
    };
    assert!(hangs(60.0, None, "labelpress"));
    assert!(!hangs(40.0, None, "labelpress"), "the CPU decides");
    assert!(!hangs(60.0, Some(1), "labelpress"), "it is known");
    assert!(!hangs(60.0, None, "herbarium"), "he is not covered");
}
