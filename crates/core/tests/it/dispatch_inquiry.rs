//! How a rule stands to a process, as a running watcher answers: always of that rule and that very subject.

use jiff::tz::TimeZone;
use sophron_core::act::{Outcome, Verb};
use sophron_core::dispatch::{Command, Input, Inquiry, Standing, Story};
use sophron_core::facts::Facts;
use sophron_core::protect::Protections;
use sophron_testkit::process;

use crate::script::{PID, load, rule, seconds};
use crate::watch::{Watch, lowered, settings};

/// What is answered, by the ticket of the question.
fn asked(watch: &mut Watch, rule: &str, pid: u32) -> Option<Standing> {
    let (process, machine) = (watch.world.process(pid).clone(), watch.world.machine.clone());
    let inquiry = Inquiry { ticket: u64::from(pid) + 7, rule: rule.into(), process, machine };
    let mut commands = watch.dispatcher.step(watch.world.moment, Input::Inquiry(Box::new(inquiry)));
    match (commands.pop(), commands.is_empty()) {
        (Some(Command::Reply(ticket, standing)), true) => {
            assert_eq!(ticket, u64::from(pid) + 7);
            standing.map(|standing| *standing)
        }
        other => panic!("{other:?}"),
    }
}

fn story(standing: &Standing) -> Story {
    standing.story.clone().unwrap()
}

/// From before a breach to the last step: what holds, for how long, and what comes when.
#[test]
fn each_stage_of_a_story_is_answered() {
    let keys = "lasting = '3s'\nbudget = { cases = 2, per = '1h' }\nladder = [ { at = '0s', do = 'alert' }, { at = '4s', do = 'lower' } ]";
    let mut watch = Watch::new(&rule(keys));
    watch.ticks(1, 100);
    assert!(asked(&mut watch, "nobodys", PID).is_none(), "there is no such rule");
    let standing = asked(&mut watch, "press-leak", PID).unwrap();
    assert!(standing.subject.starts_with("labelpress 51907-"), "{standing:?}");
    assert!(story(&standing).building.is_none() && story(&standing).case.is_none(), "{standing:?}");
    let held = |words: &str, reading: &str| {
        vec![("memory.held over 750 MiB".to_owned(), words.to_owned(), Some(format!("now {reading}")))]
    };
    assert_eq!((standing.parts.clone(), story(&standing).spent), (held("false", "100 MiB"), Some(0)));
    watch.ticks(3, 800);
    let standing = asked(&mut watch, "press-leak", PID).unwrap();
    assert_eq!((story(&standing).building, standing.parts.clone()), (Some(2.0), held("true", "800 MiB")));
    watch.ticks(2, 800);
    let case = story(&asked(&mut watch, "press-leak", PID).unwrap()).case.unwrap();
    assert_eq!((case.number, case.clock, case.next.as_deref()), (1, 1.0, Some("lower to nice 10 in 3 s of breach")));
    watch.ticks(3, 800);
    watch.came(Outcome::Refused("not permitted".to_owned()));
    let standing = asked(&mut watch, "press-leak", PID).unwrap();
    let next = story(&standing).case.unwrap().next;
    assert_eq!((next.as_deref(), story(&standing).spent), (Some("lower to nice 10, tried again in 5 s"), Some(1)));
    watch.ticks(5, 800);
    watch.came(lowered(10));
    let next = story(&asked(&mut watch, "press-leak", PID).unwrap()).case.unwrap().next;
    assert_eq!(next, None, "its last step is taken");
    // Somebody of whom nothing is known yet.
    watch.world.processes.push(process(PID + 1, "labelpress"));
    let standing = asked(&mut watch, "press-leak", PID + 1).unwrap();
    assert!(
        story(&standing).case.is_none() && standing.parts.iter().all(|(_, truth, _)| truth == "false"),
        "{standing:?}"
    );
}

/// Two rules, two processes, four stories: none is told for another.
#[test]
fn stories_are_not_mixed_up() {
    let one = |name: &str, limit: u32| {
        format!("[[rule]]\nname = '{name}'\nbreach = 'memory.held > {limit} MiB'\nlasting = '0s'\n")
    };
    let mut watch = Watch::new(&load(&(one("low", 500) + &one("high", 700))));
    watch.world.processes.push(process(PID + 1, "herbarium"));
    watch.ticks(1, 800);
    let mut number = |rule: &str, pid: u32| story(&asked(&mut watch, rule, pid).unwrap()).case.unwrap().number;
    let numbers = [number("low", PID), number("low", PID + 1), number("high", PID), number("high", PID + 1)];
    let mut sorted = numbers;
    sorted.sort_unstable();
    assert_eq!(sorted, [1, 2, 3, 4], "{numbers:?}");
    for (case, (rule, pid)) in numbers.iter().zip([("low", PID), ("low", PID + 1), ("high", PID), ("high", PID + 1)]) {
        let found = watch.dispatcher.judge().case(*case).unwrap();
        assert_eq!((&*found.rule, found.lead.as_ref().unwrap().id.pid), (rule, pid));
    }
}

/// Why nothing is done though the rule is armed: a hand was at work on it, or the watch has only begun.
#[test]
fn what_holds_it_back_is_answered() {
    let rules = format!(
        "settle = '30s'\n[[rule]]\nname = 'a'\nbreach = 'memory.held > 750 MiB'\nlasting = '0s'\narmed = true\n{}",
        "ladder = [ { at = '0s', do = 'lower' } ]\n"
    );
    let mut watch = Watch::new(&load(&rules));
    watch.ticks(11, 800);
    let standing = asked(&mut watch, "a", PID).unwrap();
    assert_eq!((story(&standing).settling, story(&standing).standing_back), (Some(20.0), None));
    watch.hand(PID, Verb::Lower, None);
    watch.ticks(20, 800);
    let standing = asked(&mut watch, "a", PID).unwrap();
    assert_eq!(
        (story(&standing).settling, story(&standing).standing_back),
        (None, Some(881.0)),
        "19 s of a quarter of an hour are over"
    );
    watch.world.pass(seconds(881));
    assert_eq!(story(&asked(&mut watch, "a", PID).unwrap()).standing_back, None);
}

/// Of a group it is the group that is told of, by its own readings.
#[test]
fn of_a_member_the_group_is_told() {
    let rules = "[[rule]]\nname = 'bakers'\njudge = 'app'\nwhere = 'app = \"tilebaker\"'\nbreach = 'instances > 1'\nlasting = '0s'\n";
    let mut watch = Watch::new(&load(rules));
    watch.world.processes = (0..3).map(|place| process(PID + place, "tilebaker")).collect();
    watch.ticks(1, 100);
    for pid in [PID, PID + 2] {
        let standing = asked(&mut watch, "bakers", pid).unwrap();
        assert_eq!(standing.subject, "tilebaker (ines), 3 processes");
        assert_eq!(standing.parts[0].2.as_deref(), Some("now 3"));
    }
}

/// Of a group is said how many it has, also while its breach only builds up.
#[test]
fn a_group_is_told_with_all_its_processes() {
    let rules = "[[rule]]\nname = 'app'\njudge = 'app'\nwhere = 'app = \"labelpress\"'\nbreach = 'memory.held > 750 MiB'\nlasting = '5s'\n";
    let mut watch = Watch::new(&load(rules));
    watch.world.processes.extend((1..4).map(|place| process(PID + place, "labelpress")));
    watch.ticks(2, 800);
    assert_eq!(asked(&mut watch, "app", PID).unwrap().subject, "labelpress (ines), 4 processes");
}

/// The verdict says what holds it back, in shadow as armed, with and without a watcher; it never says that it acts where it does not.
#[test]
fn the_verdict_agrees_with_what_is_below_it() {
    let rules = |more: &str| {
        load(&format!(
            "settle = '0s'\n[protect]\nwhere = 'app = \"gatekeys\"'\n[[rule]]\nname = 'a'\nwhere = 'app in (\"labelpress\", \"gatekeys\")'\n\
             breach = 'memory.held > 750 MiB'\nlasting = '3s'\nladder = [ {{ at = '0s', do = 'lower' }} ]\n{more}"
        ))
    };
    let mut told = Vec::new();
    let mut note = |when: &str, watch: &mut Watch| {
        let verdict = asked(watch, "a", PID).unwrap().verdict();
        told.push(format!("{when}: {verdict}"));
    };
    for (how, more) in [("shadow", ""), ("armed", "armed = true\nbudget = { cases = 1, per = '1h' }\n")] {
        let mut watch = Watch::new(&rules(more));
        watch.ticks(1, 100);
        note(&format!("{how}, calm"), &mut watch);
        watch.ticks(2, 800);
        note(&format!("{how}, building up"), &mut watch);
        watch.ticks(3, 800);
        note(&format!("{how}, open"), &mut watch);
        if how == "armed" {
            watch.came(lowered(10));
            watch.ticks(1, 800);
            note("armed, the last step taken", &mut watch);
            watch.ticks(40, 100);
            while !watch.under_way.is_empty() {
                watch.came(Outcome::Restored(Default::default()));
            }
            watch.ticks(6, 800);
            note("armed, the budget spent", &mut watch);
            watch.hand(PID, Verb::Lower, None);
            note("armed, after a hand", &mut watch);
        }
        let names = watch.world.process(PID).names_mut();
        names.app = "gatekeys".to_owned();
        watch.ticks(6, 800);
        note(&format!("{how}, protected"), &mut watch);
        let names = watch.world.process(PID).names_mut();
        names.app = "sheetlamp".to_owned();
        watch.ticks(6, 800);
        note(&format!("{how}, another program"), &mut watch);
    }
    let watch = Watch::new(&rules("armed = true\n"));
    let mut process = process(PID, "labelpress");
    for held in [800, 100] {
        process.memory_held = Some(held << 20);
        let facts = Facts::new(&process, &watch.world.machine);
        let rule = &watch.dispatcher.judge().rule(&"a".into()).unwrap();
        let (protections, now) = (Protections::default(), watch.world.moment);
        let standing = Standing::of(rule, &facts, process.label(), &protections, now, &TimeZone::UTC);
        told.push(format!("no watcher, {held} MiB: {}", standing.verdict()));
    }
    insta::assert_snapshot!(told.join("\n"));
}

/// What cannot be read for want of a right is said and shown, a rate too; a rate that is only unknown at a first sample is not.
#[test]
fn who_cannot_be_judged_is_told() {
    let rules = load(
        "[[rule]]\nname = 'herbarium-disk'\nwhere = 'app = labelpress'\nbreach = 'disk.write > 20 MiB/s'\n\
         lasting = '2s'\n",
    );
    for (to_read, service, said) in [
        (Some("run as root"), 1000, "disk.write cannot be read (run as root)"),
        // Of his own he may read it, and of anybody with every right: it is not known yet.
        (Some("run as root"), 1001, ""),
        (None, 0, ""),
    ] {
        let protections = Protections { to_read, service, ..Protections::default() };
        let mut watch = Watch::with(&rules, settings(), protections);
        watch.world.processes[0].disk_write = None;
        watch.ticks(2, 0);
        let status = watch.dispatcher.status(watch.world.moment, &watch.world.snapshot());
        let rule = &status.rules[0];
        assert_eq!(rule.unknown.as_deref().unwrap_or_default(), said);
        let expected = if said.is_empty() { ("within", vec![]) } else { ("unknown", vec!["unknown".to_owned()]) };
        assert_eq!((rule.state.as_str(), watch.words()), expected);
    }
}

/// Whoever ends while it is read could not be read, and that is no want of a right; nor is a window that is not full, or what nobody had
/// a reason to read.
#[test]
fn who_is_gone_is_not_unreadable() {
    let rules = load(
        "[[rule]]\nname = 'held'\nbreach = 'memory.held > 750 MiB'\nlasting = '2s'\n[[rule]]\nname = 'grown'\n\
         breach = 'growth(memory, 5m) > 300 MiB'\nlasting = '2s'\n",
    );
    let mut watch = Watch::new(&rules);
    for tick in 0..5 {
        let mut short = process(PID + 10 + tick, "short");
        short.memory_held = None;
        watch.world.processes.push(short);
        watch.world.pass(seconds(1));
        watch.sample();
        watch.world.processes.pop();
    }
    let status = watch.dispatcher.status(watch.world.moment, &watch.world.snapshot());
    let states: Vec<&str> = status.rules.iter().map(|rule| rule.state.as_str()).collect();
    assert_eq!((states, watch.words()), (vec!["within", "within"], vec![]));
}
