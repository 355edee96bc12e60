//! Hours, reminders, budgets, returns, settling, picks and the cap.

use std::time::Duration;

use jiff::tz::TimeZone;
use sophron_core::act::{Ending, Outcome};
use sophron_core::decide::{Circumstances, Decision, Ledger, Verdict, decide};
use sophron_core::dispatch::Grants;
use sophron_core::judge::Tick;
use sophron_core::protect::Protections;
use sophron_core::rules::Cap;
use sophron_core::sorted::SortedSet;
use sophron_core::stand_back::StandsBack;
use sophron_testkit::{World, process};

use crate::script::{MIB, PID, Script, load, rule, seconds};
use crate::watch::Watch;

/// The script's world begins on a Monday morning; so many minutes of it are these hours.
fn hours(script: &Script, from: i64, to: i64) -> String {
    let clock = |minutes: i64| {
        let at = script.world.moment.wall + jiff::SignedDuration::from_mins(minutes);
        at.to_zoned(TimeZone::UTC).strftime("%H:%M").to_string()
    };
    format!("[hours]\nshift = ['daily {}-{}']\n", clock(from), clock(to))
}

#[test]
fn outside_the_hours_of_a_rule_its_ladder_stands_still_and_what_it_did_is_undone() {
    let shift = hours(&Script::new(&rule("lasting = '1s'")), 1, 3);
    let mut script = Script::new(&load(&format!(
        "{shift}[[rule]]\nname = 'a'\nbreach = 'memory.held > 750 MiB'\nlasting = '2s'\narmed = true\nhours = 'shift'\n\
         ladder = [ {{ at = '0s', do = 'lower' }}, {{ at = '3m', do = 'terminate' }} ]"
    )));
    let ticks = script.ticks(59, 800);
    assert_eq!(ticks, Vec::<String>::new(), "not yet its hours");
    let ticks = script.ticks(120, 800);
    assert_eq!(ticks, ["1:building", "3:opened 1", "3:lower"]);
    let ticks = script.ticks(600, 800);
    assert_eq!(ticks, ["1:hours ended"], "and no terminate at three minutes: the clock stands still");
    assert_eq!(script.clock().as_secs(), 117);
    assert_eq!(script.ticks(3, 100), ["1:easing", "3:closed 1 Calm"], "calm is judged at any hour");
}

#[test]
fn a_step_outside_its_hours_waits_for_them_and_for_a_fresh_lasting() {
    let shift = hours(&Script::new(&rule("lasting = '1s'")), 2, 4);
    let mut script = Script::new(&load(&format!(
        "{shift}[[rule]]\nname = 'a'\nbreach = 'memory.held > 750 MiB'\nlasting = '5s'\narmed = true\n\
         ladder = [ {{ at = '0s', do = 'alert' }}, {{ at = '10s', do = 'suspend', hours = 'shift' }} ]"
    )));
    assert_eq!(script.ticks(119, 800), ["1:building", "6:opened 1", "6:alert"]);
    assert_eq!(script.ticks(60, 800), ["6:suspend"], "the hours begin, and it holds for 5 s again");
    assert_eq!(script.ticks(120, 800), ["61:hours ended"], "what that step did is undone when they end");
}

#[test]
fn people_are_told_again_after_a_time_and_when_it_has_risen() {
    let again = "again = { after = '20s', risen = '100 MiB' }";
    let mut script = Script::new(&rule(&format!("lasting = '0s'\n{again}")));
    assert_eq!(script.ticks(45, 800), ["1:building", "1:opened 1", "1:alert", "21:remind", "41:remind"]);
    assert_eq!(script.ticks(3, 899), Vec::<String>::new());
    assert_eq!(script.tick(900), ["remind"], "100 MiB more than when they were last told");
    assert_eq!(script.ticks(5, 950), Vec::<String>::new(), "counted from there");
    assert_eq!(script.tick(1000), ["remind"]);
}

const SOON_TERMINATED: &str = "ladder = [ { at = '0s', do = 'alert' }, { at = '5s', do = 'terminate' } ]";

#[test]
fn what_comes_back_is_the_same_case_and_goes_on_at_the_step_reached() {
    let mut script = Script::new(&rule(&format!("lasting = '2s'\n{SOON_TERMINATED}")));
    assert_eq!(script.ticks(8, 800), ["1:building", "3:opened 1", "3:alert", "8:terminate"]);
    back(&mut script, 1, seconds(0));
    assert_eq!(script.ticks(3, 800), ["1:building", "3:opened 1", "3:terminate"], "no second alert, no 5 s");
    assert!(script.judge.case(1).unwrap().returned);
    back(&mut script, 2, seconds(0));
    // Another file is another program.
    script.world.process(PID).names_mut().path = Some("/home/ines/labelpress".to_owned());
    assert_eq!(script.ticks(3, 800), ["1:building", "3:opened 2", "3:alert"]);
}

/// The one is gone, and another of its kind is there that began so long ago.
fn back(script: &mut Script, start: u64, age: Duration) {
    script.world.processes.clear();
    assert_eq!(script.judge_now(), ["closed 1 Ended"]);
    script.world.processes = vec![process(PID, "labelpress")];
    let process = script.world.process(PID);
    (process.id.start, process.age) = (start, age);
}

/// It is no return, whoever is like it: his ladder begins at its first step.
#[test]
fn whoever_ran_beside_it_is_not_its_return() {
    let mut script = Script::new(&rule(&format!("lasting = '0s'\n{SOON_TERMINATED}")));
    assert_eq!(script.ticks(6, 800), ["1:building", "1:opened 1", "1:alert", "6:terminate"]);
    back(&mut script, 1, seconds(3));
    assert_eq!(script.ticks(6, 800), ["1:building", "1:opened 2", "1:alert", "6:terminate"]);
    assert!(!script.judge.case(2).unwrap().returned);
}

/// Whoever forks and exits in time would never come to the next step, if its clock began anew each time.
#[test]
fn the_time_between_steps_goes_on_with_who_comes_back() {
    let ladder = "ladder = [ { at = '0s', do = 'alert' }, { at = '20s', do = 'terminate' } ]";
    let mut script = Script::new(&rule(&format!("lasting = '2s'\n{ladder}")));
    let mut terminated = false;
    for start in 1..=8 {
        terminated |= script.ticks(5, 800).iter().any(|word| word.ends_with("terminate"));
        // It begins within a tick of the other's end.
        back(&mut script, start, seconds(0));
        assert!(!terminated || start >= 4, "20 s are not over after {start} times 5 s");
    }
    assert!(terminated);
}

#[test]
fn past_its_budget_people_are_told_and_nothing_is_done() {
    let keys = "budget = { cases = 2, per = '1h' }\nladder = [ { at = '0s', do = 'terminate' } ]";
    let mut script = Script::new(&rule(&format!("lasting = '0s'\n{keys}")));
    let mut over = Vec::new();
    for start in 0..4 {
        script.world.processes = vec![process(PID, "labelpress")];
        script.world.process(PID).id.start = start;
        if start == 3 {
            script.world.pass(seconds(3600));
        }
        script.tick(800);
        over.push(script.judge.cases().next().unwrap().ladder.is_over_budget());
        script.world.processes.clear();
        script.judge_now();
    }
    assert_eq!(over, [false, false, true, false], "the time slides");
}

#[test]
fn nothing_is_done_right_after_a_start_or_a_nap() {
    let rules = load(
        "settle = '10s'\n[[rule]]\nname = 'a'\nbreach = 'memory.held > 750 MiB'\nlasting = '0s'\narmed = true\n\
         ladder = [ { at = '0s', do = 'alert' }, { at = '0s', do = 'lower' }, { at = '20s', do = 'terminate' } ]",
    );
    let mut script = Script::new(&rules);
    assert_eq!(script.ticks(15, 800), ["1:building", "1:opened 1", "1:alert", "11:lower"], "alerts are no acts");
    script.world.nap(seconds(600));
    assert_eq!(script.ticks(20, 800), ["11:terminate"]);
}

/// On one of several: chosen among the unprotected, kept, and when it ends the next begins at the first step.
#[test]
fn the_machines_offender_is_picked_and_kept() {
    let rules = load(
        "[[rule]]\nname = 'squeeze'\njudge = 'machine'\nwhere = 'not kernel'\nbreach = 'machine.memory.available < 1 GiB'\n\
         pick = 'most memory'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'suspend', for = '2s' }, { at = '5s', do = 'terminate' } ]",
    );
    let mut script = Script::new(&rules);
    script.prompt = false;
    script.world = World::new([10, 11, 12].map(|pid| process(pid, "kioskview")).into());
    for (pid, mib) in [(10, 300), (11, 900), (12, 500)] {
        script.world.process(pid).memory_held = Some(mib * MIB);
    }
    script.world.machine.memory_available = Some(500 * MIB);
    let protections = Protections { own: SortedSet::from([11]), ..Protections::default() };
    let mut ledger = Ledger::default();
    let mut acts = |script: &mut Script| {
        script.world.pass(seconds(1));
        let events = script.events_now();
        let snapshot = script.world.snapshot();
        let circumstances = Circumstances {
            snapshot: &snapshot,
            protections: &protections,
            standing_back: &StandsBack::default(),
            all_in_shadow: false,
            disarmed: false,
            granted: &Grants::default(),
        };
        let decisions = decide(&events, &script.judge, &circumstances, Cap::default(), &mut ledger);
        let target = |decision: &Decision| decision.target.as_ref().unwrap().id;
        for decision in &decisions {
            assert!(decision.picked);
            script.judge.pick(decision.case, target(decision));
            script.judge.settled(decision.case, None, true);
        }
        decisions.iter().map(|decision| (target(decision).pid, decision.action.word())).collect::<Vec<_>>()
    };
    assert_eq!(acts(&mut script), [(12, "suspend")], "11 has most, and is protected");
    script.world.process(10).memory_held = Some(2000 * MIB);
    let mut later: Vec<_> = (0..5).flat_map(|_| acts(&mut script)).collect();
    assert_eq!(later, [(12, "terminate")], "the choice is kept");
    script.world.processes.retain(|process| process.id.pid != 12);
    later = (0..7).flat_map(|_| acts(&mut script)).collect();
    assert_eq!(later, [(10, "suspend"), (10, "terminate")]);
}

#[test]
fn all_rules_together_act_no_more_than_the_cap_allows() {
    let rules = load(
        "[cap]\nacts = 3\nterminations = 1\n[[rule]]\nname = 'a'\nbreach = 'memory.held > 750 MiB'\nlasting = '0s'\narmed = true\n\
         ladder = [ { at = '0s', do = 'terminate' } ]",
    );
    let mut world = World::new((11..=13).map(|pid| process(pid, "labelpress")).collect());
    world.processes.iter_mut().for_each(|process| process.memory_held = Some(800 * MIB));
    let snapshot = world.snapshot();
    let mut judge = sophron_core::judge::Judge::new(&rules, 1);
    let none = SortedSet::new();
    let tick = Tick {
        suspended: &none,
        busy: &none,
        helpers: &SortedSet::new(),
        only: None,
        back: &StandsBack::default(),
        zone: &TimeZone::UTC,
    };
    let events = judge.tick(&snapshot, &tick);
    let circumstances = Circumstances {
        snapshot: &snapshot,
        protections: &Protections::default(),
        standing_back: &StandsBack::default(),
        all_in_shadow: false,
        disarmed: false,
        granted: &Grants::default(),
    };
    let decisions = decide(&events, &judge, &circumstances, rules.cap, &mut Ledger::default());
    let acts = decisions.iter().filter(|decision| matches!(decision.verdict, Verdict::Act(_))).count();
    let capped = decisions.iter().filter(|decision| matches!(decision.verdict, Verdict::Capped(..))).count();
    assert_eq!((acts, capped), (1, 2));
}

/// A group's ladder is not used up by its first member: its last step goes on with those who come, each as an act of its own by the cap,
/// and a budget that is spent stays spent.
#[test]
fn the_last_step_goes_on_with_those_who_come() {
    let text = |keys: &str| {
        format!(
            "cap = {{ acts = 9, terminations = 3 }}\n[[rule]]\nname = 'presses'\njudge = 'app'\nwhere = 'app = \"labelpress\"'\n\
             breach = 'memory.held > 500 MiB'\nlasting = '1s'\narmed = true\n{keys}"
        )
    };
    let run = |keys: &str| {
        let mut watch = Watch::new(&load(&text(keys)));
        let mut acts = Vec::new();
        for second in 0..40 {
            watch.ticks(1, 800);
            while !watch.under_way.is_empty() {
                let one = watch.under_way[0].order.targets[0].id.pid;
                acts.push((second, one));
                watch.came(Outcome::Ended(Ending::default()));
                // The next of the loop is there at once, before the group can be calm.
                watch.world.processes.retain(|process| process.id.pid != one);
                watch.world.processes.push(process(one + 1, "labelpress"));
                watch.world.processes.last_mut().unwrap().memory_held = Some(800 * MIB);
            }
        }
        acts
    };
    let acts = run("ladder = [ { at = '0s', do = 'terminate' } ]");
    assert_eq!(acts.iter().map(|(_, pid)| *pid).collect::<Vec<_>>(), [PID, PID + 1, PID + 2], "{acts:?}");
    assert!(acts.windows(2).all(|two| two[1].0 - two[0].0 >= 5), "with a pause: {acts:?}");
}

/// What several users use up together keeps nobody from being answered one at a time.
#[test]
fn who_finds_the_cap_used_up_by_others_is_answered_a_minute_apart() {
    let rules = load(
        "[cap]\nacts = 5\nterminations = 5\n[[rule]]\nname = 'a'\nbreach = 'memory.held > 750 MiB'\nlasting = '0s'\narmed = true\n\
         ladder = [ { at = '0s', do = 'terminate' } ]",
    );
    let mut watch = Watch::new(&rules);
    watch.world.processes.clear();
    let mut acts: Vec<(u64, u32)> = Vec::new();
    for second in 0..130 {
        for uid in 1001..=1003 {
            if watch.world.processes.iter().all(|process| process.uid != uid) {
                let mut next = process(100 + u32::try_from(second).unwrap() * 3 + uid - 1001, "labelpress");
                (next.uid, next.age, next.memory_held) = (uid, seconds(900), Some(800 * MIB));
                next.names_mut().person = None;
                watch.world.processes.push(next);
            }
        }
        watch.ticks(1, 800);
        while !watch.under_way.is_empty() {
            let one = watch.under_way[0].order.targets[0].clone();
            acts.push((second, one.uid));
            watch.world.processes.retain(|process| process.id != one.id);
            watch.came(Outcome::Ended(Ending::default()));
        }
    }
    for uid in 1001..=1003 {
        let times: Vec<u64> = acts.iter().filter(|(_, of)| *of == uid).map(|(at, _)| *at).collect();
        assert!(times.len() >= 3 && times.last() >= Some(&60), "{uid} is answered on and on: {acts:?}");
    }
    assert!(acts.len() <= 5 + 3 * 3, "{acts:?}");
}

/// A step that was taken on one of two counts, also when the other is refused again and again.
#[test]
fn what_was_taken_on_somebody_counts_whatever_comes_of_the_others() {
    let rules = load(
        "cap = { acts = 2, terminations = 1 }\n[[rule]]\nname = 'presses'\njudge = 'app'\nwhere = 'app in (labelpress, tilebaker)'\n\
         breach = 'memory.held > 500 MiB'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'terminate' } ]",
    );
    let mut watch = Watch::new(&rules);
    watch.world.processes.push(process(PID + 1, "labelpress"));
    watch.ticks(1, 800);
    watch.came(Outcome::Ended(Ending::default()));
    watch.came(Outcome::Refused("it holds a lock".to_owned()));
    watch.world.processes.remove(0);
    watch.ticks(6, 800);
    watch.came(Outcome::Refused("it holds a lock".to_owned()));
    watch.world.processes.push(process(PID + 2, "tilebaker"));
    watch.ticks(3, 800);
    assert_eq!(watch.acts(), Vec::<String>::new(), "the cap is used up: {:?}", watch.verdicts());
}
