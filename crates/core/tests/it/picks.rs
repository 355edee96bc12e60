//! On one of several: who is picked has a measured part in the breach, is remembered by the next run, and is given up when the rule
//! picks by something else.

use sophron_core::act::{Outcome, Restoring};
use sophron_core::audit::{Draft, InForce};
use sophron_core::dispatch::Input;
use sophron_core::open::Open;
use sophron_core::protect::Protections;
use sophron_testkit::{World, process};

use crate::accounts::sealed;
use crate::script::{MIB, PID, load, rule, seconds};
use crate::watch::{Watch, lowered};

const LADDER: &str =
    "ladder = [ { at = '0s', do = 'alert' }, { at = '1s', do = 'lower' }, { at = '5s', do = 'terminate' } ]";

fn busy(pick: &str) -> String {
    let keys = "judge = 'machine'\nwhere = 'not kernel'\nbreach = 'machine.cpu > 90%'\nlasting = '1s'\narmed = true";
    format!("[[rule]]\nname = 'busy'\n{keys}\npick = '{pick}'\n{LADDER}")
}

/// Three programs on four cores that are all used, with these parts of a core.
fn watch(rules: &str, cpu: [Option<f64>; 3], unseen: f64) -> Watch {
    let mut watch = Watch::new(&load(rules));
    watch.world = World::new([10, 11, 12].map(|pid| process(pid, "kioskview")).into());
    for (process, cpu) in watch.world.processes.iter_mut().zip(cpu) {
        process.cpu = cpu;
    }
    (watch.world.machine.cpu, watch.world.machine.cpu_unseen) = (Some(99.0), Some(unseen));
    watch
}

fn on(watch: &Watch) -> Vec<(u32, String)> {
    let acts = watch.under_way.iter();
    acts.map(|commission| (commission.order.targets[0].id.pid, commission.order.act.verb().to_string())).collect()
}

/// Whoever has no figure, or too small a part for his end to matter, is not picked, nor anybody where most went to whom nobody sees.
#[test]
fn a_pick_rests_on_a_measured_part() {
    for (cpu, unseen, picked) in [
        ([Some(99.0), Some(6.0), None], 0.0, Some(10)),
        ([None, None, None], 0.0, None),
        ([Some(6.0), Some(0.0), Some(0.0)], 90.0, None),
        // A tenth of the four cores that are used is 40% of one.
        ([Some(38.0), None, Some(1.0)], 0.0, None),
        ([Some(6.0), None, Some(41.0)], 0.0, Some(12)),
        ([Some(41.0), None, None], 11.0, None),
    ] {
        let mut watch = watch(&busy("most cpu"), cpu, unseen);
        watch.ticks(4, 100);
        let expected: Vec<_> = picked.map(|pid| (pid, "lower".to_owned())).into_iter().collect();
        assert_eq!(on(&watch), expected, "{cpu:?} {unseen}");
        if picked.is_none() {
            let line = format!("{:?}", watch.told);
            assert!(line.contains("nobody can be told"), "{line}");
        }
    }
}

/// Memory that another may have filled is not counted as his: it would not be free.
#[test]
fn shared_memory_is_nobodys() {
    let text = busy("most memory").replace("machine.cpu > 90%", "machine.memory.available < 1 GiB");
    let mut watch = watch(&text, [None; 3], 0.0);
    watch.world.machine.memory_available = Some(512 * MIB);
    for (process, (held, shared)) in watch.world.processes.iter_mut().zip([(3000, 2990), (900, 0), (500, 100)]) {
        (process.memory_held, process.memory_shared) = (Some(held * MIB), Some(shared * MIB));
    }
    for _ in 0..4 {
        watch.world.pass(seconds(1));
        watch.sample();
    }
    assert_eq!(on(&watch), [(11, "lower".to_owned())]);
}

/// Who was picked and ends is followed by nobody: the next choice is told and lowered first.
#[test]
fn whoever_is_left_starts_at_the_first_step() {
    let mut watch = watch(&busy("most cpu"), [Some(90.0), Some(80.0), Some(0.0)], 0.0);
    watch.ticks(4, 100);
    watch.came(lowered(10));
    watch.ticks(2, 100);
    watch.world.processes.remove(0);
    let mut steps = Vec::new();
    for second in 0..9 {
        watch.ticks(1, 100);
        steps.extend(on(&watch).into_iter().map(|step| (second, step)));
        if !watch.under_way.is_empty() {
            watch.came(lowered(10));
        }
    }
    assert_eq!(steps, [(2, (11, "lower".to_owned())), (5, (11, "terminate".to_owned()))]);
}

/// What is open when the run ends, and the next run by it.
fn open_after(watch: &Watch) -> Open {
    let boot = watch.world.machine.boot;
    Open::read(&serde_json::to_vec(&watch.dispatcher.open(watch.world.moment, boot)).unwrap()).unwrap()
}

fn next_run(watch: &Watch, text: &str, open: Open) -> Watch {
    let mut next = Watch::new(&load(text));
    next.world = watch.world.clone();
    next.world.pass(seconds(3));
    next.step(Input::Earlier(Box::new(open), watch.world.machine.boot));
    next
}

/// 10 was picked and lowered, and 11 uses more by now; with the records until then.
fn lowered_once() -> (Watch, Vec<Draft>) {
    let mut watch = watch(&busy("most cpu"), [Some(90.0), Some(80.0), Some(0.0)], 0.0);
    watch.ticks(4, 100);
    let drafts = watch.drafts();
    watch.came(lowered(10));
    watch.ticks(2, 100);
    watch.world.process(11).cpu = Some(99.0);
    (watch, drafts)
}

/// The next run goes on with whoever was picked, also where only the trail tells of it. Where nobody knows whom, nobody gets a step
/// that another had reached.
#[test]
fn the_next_run_knows_whom() {
    for (known, in_the_trail) in [(true, false), (false, true), (false, false)] {
        let (before, drafts) = lowered_once();
        let mut open = open_after(&before);
        assert_eq!(open.cases[0].picked.map(|(pid, _)| pid), Some(10));
        open.cases[0].picked = open.cases[0].picked.filter(|_| known);
        let trail = InForce::of(&sealed(&drafts, |line| line));
        open.recall(trail.acts().filter(|_| in_the_trail), before.world.machine.boot, before.world.moment);
        let mut next = next_run(&before, &busy("most cpu"), open);
        let whom = if known || in_the_trail { 10 } else { 11 };
        next.ticks(4, 100);
        assert_eq!(on(&next), [(whom, "lower".to_owned())], "its effect was put back: {known} {in_the_trail}");
        next.came(lowered(10));
        next.ticks(if whom == 10 { 6 } else { 1 }, 100);
        let ended = [(10, "terminate".to_owned())];
        assert_eq!(on(&next), if whom == 10 { &ended[..] } else { &[] });
    }
}

/// A file of a time that has not come yet was not written in this boot.
#[test]
fn what_is_open_in_the_future_is_not() {
    let (before, _) = lowered_once();
    let mut open = open_after(&before);
    open.at += seconds(600);
    let mut next = next_run(&before, &busy("most cpu"), open);
    next.ticks(4, 100);
    assert_eq!(on(&next), [(11, "lower".to_owned())], "a case of its own");
}

/// A rule that picks by something else lets go of whom it had picked, and begins anew.
#[test]
fn who_is_picked_by_another_word_begins_at_the_first_step() {
    let (mut watch, _) = lowered_once();
    for (process, held) in watch.world.processes.iter_mut().zip([10, 20, 3000]) {
        process.memory_held = Some(held * MIB);
    }
    watch.step(Input::Rules(load(&busy("most memory")), Protections::default()));
    assert_eq!(on(&watch), [(10, "restore".to_owned())]);
    watch.came(Outcome::Restored(Restoring::default()));
    let mut steps = Vec::new();
    for second in 0..8 {
        watch.world.pass(seconds(1));
        watch.sample();
        steps.extend(on(&watch).into_iter().map(|step| (second, step)));
        if !watch.under_way.is_empty() {
            watch.came(lowered(10));
        }
    }
    assert_eq!(steps, [(2, (12, "lower".to_owned())), (5, (12, "terminate".to_owned()))]);
}

/// A budget that is changed holds for the case that is open.
#[test]
fn another_budget_holds_at_once() {
    const KEYS: &str = "lasting = '0s'\nladder = [ { at = '0s', do = 'lower' }, { at = '4s', do = 'terminate' } ]";
    let with = |budget: usize| format!("{KEYS}\nbudget = {{ cases = {budget}, per = '1h' }}");
    for (before, after, ends) in [(1, 1, false), (1, 2, true), (2, 2, true), (2, 1, false)] {
        let mut watch = Watch::new(&rule(&with(before)));
        watch.ticks(1, 800);
        watch.came(lowered(10));
        watch.world.processes[0] = process(PID + 1, "labelpress");
        watch.world.processes[0].age = seconds(900);
        watch.ticks(2, 800);
        assert_eq!(watch.under_way.len(), before - 1);
        if !watch.under_way.is_empty() {
            watch.came(lowered(10));
        }
        watch.step(Input::Rules(rule(&with(after)), Protections::default()));
        watch.ticks(5, 800);
        let ended = [(PID + 1, "terminate".to_owned())];
        assert_eq!(on(&watch), if ends { &ended[..] } else { &[] }, "{before} {after}");
    }
}

/// Who was acted on after the open cases were written is whom his case is about, whomever they name; a choice made since stands.
#[test]
fn the_trail_knows_better_than_what_was_saved_before() {
    let (before, drafts) = lowered_once();
    let trail = InForce::of(&sealed(&drafts, |line| line));
    let (mut now, boot) = (before.world.moment, before.world.machine.boot);
    (now.wall, now.boottime) = (now.wall.checked_add(seconds(60)).unwrap(), now.boottime + seconds(60));
    for (age, known) in [(3600, 10), (1, 77)] {
        let mut open = open_after(&before);
        (open.cases[0].picked, open.at) = (Some((77, 770)), now.boottime.saturating_sub(seconds(age)));
        open.recall(trail.acts(), boot, now);
        assert_eq!(open.cases[0].picked.map(|(pid, _)| pid), Some(known), "written {age} s ago");
    }
}
