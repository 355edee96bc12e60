//! What comes to the dispatcher beside samples and outcomes: hands, the trail, the clock, programs, exact memory, and what
//! keeps a step from being taken.

use std::time::Duration;

use sophron_core::act::{Act, Ending, Outcome, Restoring, Verb};
use sophron_core::audit::Kind;
use sophron_core::decide::Verdict;
use sophron_core::dispatch::throttle::{Part, RECORD, Throttle};
use sophron_core::dispatch::{Input, Settings, Trail};
use sophron_core::happening::{News, Next, What};
use sophron_core::protect::Protections;
use sophron_core::rules::{Audit, RuleName};
use sophron_core::sorted::SortedMap;
use sophron_core::state::State;
use sophron_testkit::process;

use crate::happening::scribe;
use crate::script::{MIB, PID, load, rule, seconds};
use crate::watch::{Watch, lowered, settings, suspended};

const LOWER_AT_ONCE: &str = "lasting = '0s'\nladder = [ { at = '0s', do = 'lower' } ]";

/// For a quarter of an hour rules leave alone whom a person has touched; then the step that was due is taken after all.
#[test]
fn rules_stand_back_from_a_hand_and_come_back() {
    let mut watch =
        Watch::new(&rule("lasting = '2s'\nladder = [ { at = '0s', do = 'lower' }, { at = '1h', do = 'terminate' } ]"));
    watch.hand(PID, Verb::Lower, None);
    watch.ticks(10, 800);
    assert_eq!(
        (watch.words(), watch.acts()),
        (vec!["hands".to_owned(), "breach".to_owned(), "back".to_owned()], vec![])
    );
    watch.hand(PID, Verb::Resume, None);
    watch.ticks(1, 800);
    assert_eq!(watch.words(), Vec::<String>::new(), "a second hand is not said again, but counts from then");
    watch.ticks(15 * 60 - 12, 800);
    watch.ticks(20, 100);
    assert_eq!(watch.acts(), Vec::<String>::new());
    watch.ticks(10, 800);
    assert_eq!(watch.acts(), ["lower to nice 10"], "its next case is acted upon");
}

/// A command that suspended somebody and is gone, with its guard, is made good.
#[test]
fn what_a_hand_left_suspended_goes_on() {
    let mut watch = Watch::new(&rule(LOWER_AT_ONCE));
    watch.hand(PID, Verb::Suspend, Some(seconds(10)));
    watch.world.process(PID).state = State::Suspended;
    watch.ticks(14, 100);
    assert_eq!(watch.acts(), Vec::<String>::new(), "its own command has a moment to do so");
    watch.ticks(2, 100);
    assert_eq!(watch.acts(), ["resume"]);
    watch.world.process(PID).state = State::Running;
    watch.came(Outcome::Resumed(None));
    watch.ticks(30, 100);
    assert!(watch.under_way.is_empty());
}

/// Each verdict that is no act leaves the process alone, and says so once.
#[test]
fn what_keeps_a_step_from_being_taken() {
    let ladder = "ladder = [ { at = '0s', do = 'terminate' } ]";
    let armed = rule(&format!("lasting = '0s'\n{ladder}"));
    let shadow = Settings { shadow: true, ..settings() };
    let mut protections = Protections::default();
    protections.terminal.insert(process(PID, "labelpress").id);
    let spent = rule(&format!("lasting = '0s'\nbudget = {{ cases = 1, per = '1h' }}\n{ladder}"));
    for (wanted, rules, settings, protections) in
        [("shadow", &armed, shadow, Protections::default()), ("spared", &armed, settings(), protections)]
    {
        let mut watch = Watch::with(rules, settings, protections);
        watch.ticks(30, 800);
        assert_eq!((watch.verdicts(), watch.acts()), (vec![wanted], vec![]));
    }
    let mut watch = Watch::new(&spent);
    watch.ticks(1, 800);
    watch.came(Outcome::Refused("a test".to_owned()));
    watch.ticks(5, 100);
    watch.ticks(5, 800);
    assert_eq!((watch.verdicts(), watch.acts()), (vec!["act", "over budget"], vec![]), "{:?}", watch.words());
}

/// The cap counts what all rules together do: a rule gone wild acts on no more than that.
#[test]
fn all_rules_together_act_only_so_often() {
    let rules = load(
        "cap = { acts = 2, terminations = 2 }\n[[rule]]\nname = 'a'\nbreach = 'memory.held > 750 MiB'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'terminate' } ]\n",
    );
    let mut watch = Watch::new(&rules);
    watch.world.processes = (1..=5).map(|place| process(PID + place, "labelpress")).collect();
    watch.ticks(1, 800);
    assert_eq!(watch.under_way.len(), 2, "{:?}", watch.acts());
    let capped = watch.verdicts().into_iter().filter(|verdict| *verdict == "capped").count();
    assert_eq!(capped, 3);
}

/// What comes next is counted from the last sample, up to which the ladder's clock has run, however late an outcome is.
#[test]
fn the_next_step_is_told_for_when_it_is_due() {
    let mut watch =
        Watch::new(&rule("lasting = '0s'\nladder = [ { at = '0s', do = 'lower' }, { at = '10s', do = 'terminate' } ]"));
    watch.ticks(3, 800);
    let due = watch.world.moment.wall.checked_add(seconds(8)).unwrap();
    watch.world.pass(Duration::from_millis(700));
    watch.came(lowered(10));
    let next = watch.told.last().unwrap().next;
    assert!(matches!(next, Next::Step { at, .. } if at == due), "{next:?}");
    watch.world.pass(Duration::from_millis(300));
    watch.step(Input::Time);
    watch.ticks(7, 800);
    assert_eq!(watch.acts(), ["terminate"], "and so it is");
}

/// Whoever is no longer of the group is undone, while the case of the others goes on.
#[test]
fn whoever_leaves_his_group_is_undone() {
    let rules = load(
        "[[rule]]\nname = 'presses'\njudge = 'app'\nwhere = 'memory.held > 500 MiB'\nbreach = 'instances > 0'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'lower' } ]\n",
    );
    let mut watch = Watch::new(&rules);
    watch.world.processes.push(process(PID + 1, "labelpress"));
    watch.ticks(1, 800);
    assert_eq!(watch.under_way.len(), 2);
    watch.came(lowered(10));
    watch.came(lowered(10));
    watch.world.pass(seconds(1));
    watch.world.process(PID).memory_held = Some(20 * MIB);
    let snapshot = watch.world.snapshot();
    watch.step(Input::Sample(&snapshot, &watch.beside.clone()));
    let left = watch.told.iter().any(|happening| matches!(happening.what, What::LeftTheGroup { .. }));
    assert!(left, "{:?}", watch.words());
    assert_eq!(watch.under_way[0].order.targets[0].id.pid, PID);
    assert!(matches!(watch.came(Outcome::Restored(Restoring::default())), Act::Restore { .. }));
    watch.world.pass(seconds(1));
    let snapshot = watch.world.snapshot();
    watch.step(Input::Sample(&snapshot, &watch.beside.clone()));
    assert!(watch.under_way.is_empty(), "the other keeps what was done to it: {:?}", watch.acts());
}

/// Two rules let go of one process while a third acts on it: its niceness is put back in the order in which they did, or
/// the part of it that the second still wanted would stay for good.
#[test]
fn what_waits_for_a_busy_process_is_put_back_in_order() {
    let lower =
        |nice| format!("lasting = '0s'\narmed = true\nladder = [ {{ at = '0s', do = 'lower', nice = {nice} }} ]\n");
    let rules = load(&format!(
        "[[rule]]\nname = 'presses'\njudge = 'app'\nwhere = 'memory.held > 500 MiB'\nbreach = 'instances > 0'\n{}\
         [[rule]]\nname = 'mild'\nbreach = 'memory.held > 300 MiB'\n{}\
         [[rule]]\nname = 'hard'\nbreach = 'memory.held > 900 MiB'\nlasting = '0s'\narmed = true\n\
         ladder = [ {{ at = '0s', do = 'suspend', for = '1m' }} ]\n",
        lower(10),
        lower(5)
    ));
    let mut watch = Watch::new(&rules);
    watch.world.processes.push(process(PID + 1, "labelpress"));
    watch.ticks(1, 800);
    while !watch.under_way.is_empty() {
        watch.came(lowered(10));
    }
    let sample = |watch: &mut Watch, held: u64| {
        watch.world.pass(seconds(1));
        watch.world.process(PID).memory_held = Some(held * MIB);
        watch.sample();
    };
    sample(&mut watch, 950);
    assert_eq!(watch.acts(), ["suspend for 1m"]);
    for _ in 0..3 {
        sample(&mut watch, 20);
    }
    watch.came(Outcome::Refused("a test".to_owned()));
    let mut put_back = Vec::new();
    while !watch.under_way.is_empty() {
        let Act::Restore { set, still, .. } = watch.came(Outcome::Restored(Restoring::default())) else { continue };
        put_back.push((set, still));
    }
    assert_eq!(put_back, [(10, Some(5)), (5, None)]);
}

/// A doubted trail disarms until a person accepts the loss, even where it could be written again.
#[test]
fn a_doubted_trail_waits_for_a_person() {
    let mut watch = Watch::new(&rule(LOWER_AT_ONCE));
    watch.step(Input::Trail(Trail::Doubted("record 7 is gone".to_owned(), true)));
    watch.step(Input::Trail(Trail::Back));
    watch.ticks(3, 800);
    assert_eq!(watch.acts(), Vec::<String>::new());
    watch.step(Input::Trail(Trail::Accepted("ines".to_owned())));
    watch.ticks(1, 800);
    assert_eq!(watch.acts(), ["lower to nice 10"]);
    let words = watch.words();
    assert!(words.contains(&"disarmed".to_owned()) && words.contains(&"armed".to_owned()), "{words:?}");
}

/// A rule that flaps is told each time, but recorded at most so often in an hour; the rest is counted.
#[test]
fn a_rule_that_flaps_does_not_fill_the_trail() {
    let mut watch = Watch::new(&rule("lasting = '0s'\ncalm = 'memory.held < 300 MiB'"));
    for _ in 0..80 {
        watch.ticks(2, 800);
        watch.ticks(12, 100);
    }
    assert_eq!(watch.only_said, 150, "of 80 breaches, alerts and calms those of 30 are recorded");
    watch.world.pass(seconds(3600));
    watch.ticks(1, 100);
    let counted = |what: &What| matches!(what, What::Watcher(News::SummedUp(150, 60)));
    assert!(watch.told.iter().any(|happening| counted(&happening.what)), "{:?}", watch.words());
}

/// However many are in breach, only so much of it is recorded; and whoever is acted upon has his whole story in the trail.
#[test]
fn a_flood_of_breaches_leaves_the_acts_their_story() {
    let keys = "lasting = '0s'\nladder = [ { at = '0s', do = 'alert' }, { at = '5s', do = 'terminate' } ]";
    let mut watch = Watch::new(&rule(keys));
    watch.world.processes = (0..500).map(|place| process(PID + place, "labelpress")).collect();
    let mut recorded: Vec<(u64, Kind)> = Vec::new();
    for _ in 0..20 {
        watch.ticks(1, 800);
        let mut told = std::mem::take(&mut watch.recorded);
        while !watch.under_way.is_empty() {
            told.push(watch.under_way[0].announced.clone());
            watch.came(Outcome::Ended(Ending::default()));
        }
        told.append(&mut watch.recorded);
        let drafts = told.iter().filter_map(|happening| scribe().record(happening));
        recorded.extend(drafts.filter_map(|draft| Some((draft.case?, draft.kind))));
    }
    let acted: Vec<u64> = recorded.iter().filter(|(_, kind)| *kind == Kind::Outcome).map(|(case, _)| *case).collect();
    assert!(!acted.is_empty());
    for case in acted {
        let story: Vec<&Kind> = recorded.iter().filter(|(of, _)| *of == case).map(|(_, kind)| kind).collect();
        let place = |kind: &Kind| story.iter().position(|found| *found == kind);
        assert!(place(&Kind::Breach) < place(&Kind::Intent), "case {case} has no beginning: {story:?}");
    }
    assert!(recorded.len() < 150, "{}", recorded.len());
}

/// A program is told of a case; until it has ended the same rule runs no other, and that is told.
#[test]
fn one_program_a_rule_at_a_time() {
    let rules = load(
        "[[rule]]\nname = 'a'\nbreach = 'memory.held > 750 MiB'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'run', run = ['/usr/bin/true'] } ]\n",
    );
    let mut watch = Watch::new(&rules);
    watch.ticks(1, 800);
    assert_eq!(watch.calls.len(), 1);
    watch.world.processes.push(process(PID + 1, "labelpress"));
    watch.ticks(5, 800);
    assert_eq!((watch.calls.len(), watch.words().last().map(String::as_str)), (1, Some("refused")));
    let call = watch.calls.remove(0);
    watch.step(Input::Ran(Box::new(call), Outcome::Ran("it ended with status 0".to_owned())));
    assert_eq!(watch.words(), ["ran"]);
    watch.ticks(5, 800);
    assert_eq!((watch.calls.len(), watch.calls[0].case), (1, 2), "and then it is run for whom it could not be");
}

/// The bound of a group's memory does not decide: it is read, one at a time, and then it does.
#[test]
fn exact_memory_is_asked_for_where_it_decides() {
    let rules = load(
        "[[rule]]\nname = 'presses'\njudge = 'app'\nbreach = 'memory > 100 MiB'\nlasting = '0s'\nladder = [ { at = '0s', do = 'alert' } ]\n",
    );
    let mut watch = Watch::new(&rules);
    watch.world.processes = (0..3).map(|place| process(PID + place, "labelpress")).collect();
    watch.ticks(3, 10);
    assert_eq!((watch.wishes.len(), watch.words()), (1, vec![]), "one at a time, and nothing is claimed before");
    let wish = watch.wishes.remove(0);
    let from = watch.world.moment.monotonic + seconds(1);
    watch.step(Input::Memory(Box::new(wish), Some((110 * MIB, 2)), from));
    watch.ticks(1, 10);
    // The others' sum is a breach by itself, and that it lacks somebody is told once.
    assert_eq!(watch.words(), ["unknown", "alert"]);
}

/// What is suspended stays so while no sample can be taken, and goes on in time all the same.
#[test]
fn without_samples_time_still_passes() {
    let mut watch = Watch::new(&rule(
        "lasting = '0s'\nladder = [ { at = '0s', do = 'suspend', for = '3s' }, { at = '1h', do = 'terminate' } ]",
    ));
    watch.ticks(1, 800);
    watch.came(suspended(watch.world.moment, seconds(3)));
    let _ = watch.words();
    for _ in 0..4 {
        watch.world.pass(seconds(1));
        watch.step(Input::NoSample("too many open files".to_owned()));
        watch.step(Input::Time);
    }
    assert_eq!(watch.acts(), ["resume"]);
    assert!(watch.words().contains(&"blind".to_owned()));
}

/// A clock that is set is told, and moves nothing that is due.
#[test]
fn a_clock_that_is_set_moves_no_step() {
    let mut watch = Watch::new(&rule("lasting = '0s'\nladder = [ { at = '5s', do = 'terminate' } ]"));
    watch.ticks(2, 800);
    watch.world.moment.wall = watch.world.moment.wall.checked_add(seconds(7200)).unwrap();
    watch.ticks(2, 800);
    assert_eq!((watch.words(), watch.acts()), (vec!["breach".to_owned(), "clock".to_owned()], vec![]));
    watch.ticks(2, 800);
    assert_eq!(watch.acts(), ["terminate"]);
    let waits =
        watch.told.iter().any(|happening| matches!(&happening.what, What::Decided { verdict: Verdict::Waits(_), .. }));
    assert!(!waits);
}

#[test]
fn a_rule_that_flaps_is_summed_up_after_an_hour() {
    let mut throttle = Throttle::default();
    let (flapping, other, audit) = (RuleName::from("flapping"), RuleName::from("other"), Audit::default());
    let at = |minutes: u64| Duration::from_secs(60 * minutes);
    let mut takes = |rule: &RuleName, owner, minute| throttle.takes(rule, Some(owner), Part::Turn, at(minute), &audit);
    assert_eq!((0..100).filter(|minute| takes(&flapping, 1001, minute % 59)).count(), 60);
    assert!(takes(&other, 1001, 59) && takes(&flapping, 1002, 59), "each rule and user has a share");
    assert_eq!(throttle.over(at(60)), [(flapping.clone(), 40)]);
    assert!(throttle.takes(&flapping, Some(1001), Part::Turn, at(61), &audit));
    assert_eq!(throttle.over(at(200)), [], "nothing was left out");
}

/// However long one floods, and by however many rules: an eighth of the room at once, an eighth... and in the time that
/// records are kept no more than three eighths of it are his, three quarters all users'.
#[test]
fn a_flood_of_days_leaves_room_for_acts() {
    let day = Duration::from_secs(86_400);
    let audit = Audit { most: 16 << 20, keep: 10 * day, ..Audit::default() };
    let rules: Vec<RuleName> = (0..40).map(|number| RuleName::from(&*format!("rule-{number}"))).collect();
    let mut throttle = Throttle::default();
    let mut written = SortedMap::new();
    for hour in 0..240_u32 {
        let now = Duration::from_secs(3600) * hour;
        throttle.over(now);
        for (rule, owner) in rules.iter().flat_map(|rule| [1001, 1002, 1003].map(|owner| (rule, owner))) {
            let taken = (0..60).filter(|_| throttle.takes(rule, Some(owner), Part::Turn, now, &audit)).count();
            *written.entry(owner).or_insert(0.0) += taken as f64 * RECORD / audit.most as f64;
        }
    }
    assert!(written.values().all(|share| *share < 0.376), "{written:?}");
    assert!(written.values().sum::<f64>() < 0.76, "{written:?}");
}

/// Whom a sample misses for want of descriptors is said, and again after a minute: he is not within his limits.
#[test]
fn whom_a_sample_misses_is_said() {
    let mut watch = Watch::new(&rule("lasting = '1h'"));
    watch.beside.unread = 3;
    watch.ticks(59, 10);
    assert_eq!(watch.words(), ["blind"]);
    watch.ticks(3, 10);
    assert_eq!(watch.words(), ["blind"]);
    watch.beside.unread = 0;
    watch.ticks(120, 10);
    assert_eq!(watch.words(), Vec::<String>::new());
}
