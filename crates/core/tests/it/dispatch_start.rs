//! A start forgets nothing that binds: the cap on acts, budgets, from whom rules stand back, and what hands left suspended.

use std::sync::Arc;
use std::time::Duration;

use sophron_core::act::{Act, Outcome, Verb};
use sophron_core::audit::{By, Draft, InForce, Who};
use sophron_core::happening::{Happening, What};
use sophron_core::model::{Boot, Process};
use sophron_core::rules::RuleSet;
use sophron_core::state::State;
use sophron_testkit::process;

use crate::accounts::sealed;
use crate::happening::scribe;
use crate::script::{PID, load, rule, seconds};
use crate::watch::Watch;

const MINUTE: u64 = 60;

pub const PRESSES: &str = "cap = { acts = 2, terminations = 2 }\n[[rule]]\nname = 'presses'\njudge = 'app'\nwhere = 'memory.held > 500 MiB'\nbreach = 'instances > 0'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'lower' } ]\n";

/// The next run, that many minutes after the other, with what the trail tells of it. Who was there is gone.
fn next(before: &Watch, rules: &Arc<RuleSet>, drafts: &[Draft], minutes: u64) -> Watch {
    let mut next = Watch::new(rules);
    next.world = before.world.clone();
    next.world.pass(seconds(minutes * MINUTE));
    next.world.processes.clear();
    let in_force = InForce::of(&sealed(drafts, |line| line));
    let boot = next.world.machine.boot;
    next.dispatcher.remember(&in_force, next.world.moment, boot);
    next
}

/// A step counts once, on however many processes it acted, and for an hour.
#[test]
fn the_cap_goes_on() {
    let rules = load(PRESSES);
    let mut before = Watch::new(&rules);
    before.world.processes.push(process(PID + 1, "labelpress"));
    before.ticks(1, 800);
    assert_eq!(before.under_way.len(), 2);
    let drafts = before.drafts();
    for (minutes, allowed) in [(10, 1), (59, 1), (61, 2)] {
        let mut next = next(&before, &rules, &drafts, minutes);
        next.world.processes = vec![process(PID + 2, "tilebaker"), process(PID + 3, "herbarium")];
        next.ticks(1, 800);
        assert_eq!(next.under_way.len(), allowed, "after {minutes} minutes: {:?}", next.verdicts());
        assert_eq!(next.verdicts().contains(&"capped"), allowed == 1);
    }
    // An act of the time before the machine's own clock began is not older than that.
    let mut next = next(&before, &rules, &drafts, 0);
    next.world.processes = vec![process(PID + 2, "tilebaker"), process(PID + 3, "herbarium")];
    next.ticks(1, 800);
    assert_eq!(next.under_way.len(), 1);
}

/// The same program of the same owner, under whatever PID; another's has its own.
#[test]
fn a_budget_goes_on() {
    let rules =
        rule("lasting = '0s'\nbudget = { cases = 1, per = '1h' }\nladder = [ { at = '0s', do = 'terminate' } ]");
    let mut before = Watch::new(&rules);
    before.ticks(1, 800);
    let drafts = before.drafts();
    let foreign = || {
        let mut process = process(PID + 5, "labelpress");
        process.uid = 1002;
        process.names_mut().owner = "tomas".to_owned();
        process
    };
    for (who, minutes, verdict) in [
        (process(PID + 5, "labelpress"), 30, "over budget"),
        (process(PID + 5, "labelpress"), 61, "act"),
        (foreign(), 30, "act"),
    ] {
        let mut next = next(&before, &rules, &drafts, minutes);
        next.world.processes.push(who);
        next.ticks(1, 800);
        assert_eq!(next.verdicts(), [verdict], "after {minutes} minutes");
    }
}

/// Rules stand back for what is left of a quarter of an hour, and only from that very process.
#[test]
fn hands_are_remembered() {
    let rules = rule("lasting = '0s'\nladder = [ { at = '0s', do = 'terminate' } ]");
    let mut before = Watch::new(&rules);
    let by_hand = |process: &Process, act: Act| {
        let what = What::Announced(Box::new(act), Box::default());
        let mut scribe = scribe();
        scribe.who = Who { by: Some(By::Hand), ..scribe.who };
        scribe.record(&Happening::about(before.world.moment.wall, process, what)).unwrap()
    };
    let drafts = [by_hand(&before.world.processes[0], Act::Resume)];
    let acts_after = |minutes: u64, who: Process, boot: Option<Boot>| {
        let mut next = Watch::new(&rules);
        next.world.pass(seconds(minutes * MINUTE));
        next.world.processes = vec![who];
        let in_force = InForce::of(&sealed(&drafts, |line| line));
        let boot = boot.unwrap_or(next.world.machine.boot);
        next.dispatcher.remember(&in_force, next.world.moment, boot);
        next.ticks(1, 800);
        next.under_way.len()
    };
    let (same, mut other) = (process(PID, "labelpress"), process(PID, "labelpress"));
    other.id.start += 1;
    assert_eq!(acts_after(14, same.clone(), None), 0);
    assert_eq!(acts_after(15, same.clone(), None), 1, "the time is over");
    assert_eq!(acts_after(14, other, None), 1, "another has the PID by now");
    assert_eq!(acts_after(14, same, Some(Boot(1))), 1, "the machine was started anew since");
    before.ticks(1, 800);
    assert_eq!(before.under_way.len(), 1, "without a hand it is acted upon");
}

/// What a person's command left suspended is resumed at its time, and not before: once, and only if it still stands.
#[test]
fn what_hands_left_suspended_is_remembered() {
    for (state, resumed) in [(State::Suspended, 1), (State::Running, 0)] {
        let mut watch = Watch::new(&rule("lasting = '0s'"));
        let until = watch.world.moment.monotonic + seconds(5);
        let process = watch.world.process(PID).clone();
        watch.dispatcher.remember_suspension_by_hand(process, until);
        watch.world.process(PID).state = state;
        watch.ticks(4, 100);
        assert_eq!(watch.under_way.len(), 0);
        watch.ticks(1, 100);
        assert_eq!(watch.under_way.len(), resumed, "{state:?}");
        if resumed > 0 {
            assert_eq!(watch.under_way[0].order.act.verb(), Verb::Resume);
            watch.world.process(PID).state = State::Running;
            watch.came(Outcome::Resumed(Some(Duration::ZERO)));
        }
        watch.ticks(20, 100);
        assert!(watch.under_way.is_empty() && watch.dispatcher.is_settled());
    }
}
