//! A step that could not be taken stays due: it is tried again after growing pauses as long as the breach holds, and what is in
//! its way is told once. Only a step that was taken is spent.

use std::sync::Arc;
use std::time::Duration;

use jiff::tz::TimeZone;
use proptest::prelude::*;
use sophron_core::act::{Ending, Outcome, Verb};
use sophron_core::audit::account;
use sophron_core::rules::RuleSet;
use sophron_testkit::process;

use crate::accounts::sealed;
use crate::dispatch_start::PRESSES;
use crate::happening::scribe;
use crate::script::{PID, load, rule, seconds};
use crate::watch::{Watch, lowered};

const TERMINATE: &str = "lasting = '0s'\nladder = [ { at = '0s', do = 'terminate' } ]";

/// One rule that ends whoever holds too much, of all that no more than so many acts an hour.
fn capped(acts: u32) -> Arc<RuleSet> {
    load(&format!(
        "cap = {{ acts = {acts}, terminations = {acts} }}\n[[rule]]\nname = 'a'\nbreach = 'memory.held > 750 MiB'\narmed = true\n{TERMINATE}"
    ))
}

/// How the oldest act that is under way came out, where nothing was done; not announced, as the actuator tells it.
fn refused(watch: &mut Watch, why: &str) {
    watch.came_unannounced(Outcome::Refused(why.to_owned()));
}

/// The seconds at which an act was handed out, until so many have passed; each is refused.
fn attempts(watch: &mut Watch, ticks: u64, why: impl Fn(u64) -> String) -> Vec<u64> {
    let mut at = Vec::new();
    for tick in 0..ticks {
        watch.ticks(1, 800);
        if !watch.under_way.is_empty() {
            at.push(tick);
            refused(watch, &why(tick));
        }
    }
    at
}

/// After 5 s, then after twice as long each time, at most 5 minutes; told once, and again when the reason is another.
#[test]
fn pauses_grow_and_the_reason_is_told_once() {
    let mut watch = Watch::new(&rule(TERMINATE));
    let at = attempts(&mut watch, 2000, |_| "it serves a mount".to_owned());
    let pauses: Vec<u64> = at.windows(2).map(|pair| pair[1] - pair[0]).collect();
    assert_eq!(pauses, [5, 10, 20, 40, 80, 160, 300, 300, 300, 300, 300]);
    assert_eq!(watch.words(), ["breach", "refused"], "said once");
    let _ = attempts(&mut watch, 310, |_| "others wait for its file lock".to_owned());
    assert_eq!(watch.words(), ["refused"], "another reason");
    let _ = attempts(&mut watch, 310, |_| "it serves a mount".to_owned());
    assert_eq!(watch.words(), ["refused"], "and back");
}

/// Whatever keeps it from being taken: once that is gone it is taken within its pause, and nothing is tried after.
#[test]
fn once_nothing_is_in_its_way_it_is_taken() {
    let mut spared = Watch::new(&rule(TERMINATE));
    spared.beside.own.insert(PID);
    spared.ticks(8, 800);
    assert_eq!((spared.verdicts(), spared.acts()), (vec!["spared"], vec![]));
    spared.beside.own.clear();

    let mut stood_back = Watch::new(&rule(TERMINATE));
    stood_back.hand(PID, Verb::Resume, None);
    stood_back.ticks(15 * 60, 800);
    assert_eq!((stood_back.verdicts(), stood_back.acts()), (vec!["standing back"], vec![]));

    let mut over_the_cap = Watch::new(&capped(1));
    over_the_cap.world.processes.push(process(PID + 1, "labelpress"));
    over_the_cap.ticks(1, 800);
    over_the_cap.came(Outcome::Ended(Ending::default()));
    over_the_cap.world.processes.remove(0);
    over_the_cap.ticks(3600, 800);
    assert_eq!(over_the_cap.verdicts(), ["act", "capped"]);

    let mut dropped = Watch::new(&rule(TERMINATE));
    dropped.ticks(1, 800);
    dropped.came(Outcome::Dropped("it is protected now".to_owned()));

    for (watch, pause) in [(&mut spared, 10), (&mut stood_back, 300), (&mut over_the_cap, 300), (&mut dropped, 5)] {
        watch.ticks(pause, 800);
        assert_eq!(watch.acts(), ["terminate"], "{:?}", watch.words());
        watch.came(Outcome::StillThere(None));
        watch.ticks(700, 800);
        assert_eq!(watch.acts(), Vec::<String>::new(), "taken is spent");
    }
}

/// Time in which the breach does not hold does not count: it is tried again only where it holds well.
#[test]
fn it_is_tried_only_while_the_breach_holds() {
    let keys = "lasting = '4s'\ncalm = 'memory.held < 300 MiB'\nladder = [ { at = '0s', do = 'terminate' } ]";
    let mut watch = Watch::new(&rule(keys));
    watch.ticks(5, 800);
    refused(&mut watch, "a role");
    watch.ticks(20, 500);
    assert_eq!(watch.acts(), Vec::<String>::new(), "between breach and calm nothing is done");
    watch.ticks(4, 800);
    assert_eq!(watch.acts(), Vec::<String>::new(), "first it must have held for `lasting` again");
    watch.ticks(1, 800);
    assert_eq!(watch.acts(), ["terminate"]);
    refused(&mut watch, "a role");
    watch.ticks(30, 100);
    watch.ticks(5, 800);
    assert_eq!(watch.words(), ["breach", "refused", "easing", "calm", "breach"]);
    assert_eq!(watch.acts(), ["terminate"], "another case begins anew");
}

/// The ladder goes on in time; a step that was in somebody's way before is made up for beside it, the furthest first.
#[test]
fn the_ladder_goes_on_without_it() {
    let keys = "lasting = '0s'\nladder = [ { at = '0s', do = 'lower' }, { at = '8s', do = 'suspend' }, { at = '1h', do = 'terminate' } ]";
    let mut watch = Watch::new(&rule(keys));
    watch.ticks(1, 800);
    refused(&mut watch, "no right");
    watch.ticks(5, 800);
    refused(&mut watch, "no right");
    watch.ticks(3, 800);
    assert_eq!(watch.acts(), ["suspend for 1m"], "its time has come");
    refused(&mut watch, "a role");
    // The suspension is due again after 5 s, the lowering 10 s after its last try.
    watch.ticks(5, 800);
    assert_eq!(watch.acts(), ["suspend for 1m"]);
    refused(&mut watch, "a role");
    watch.ticks(2, 800);
    assert_eq!(watch.acts(), ["lower to nice 10"]);
    watch.came(lowered(10));
    watch.ticks(8, 800);
    assert_eq!(watch.acts(), ["suspend for 1m"]);
}

/// Of several it is tried again on those alone on whom it could not be taken, and uses up no more of the cap.
#[test]
fn of_several_only_the_others_are_tried_again() {
    let rules = load(PRESSES);
    let mut watch = Watch::new(&rules);
    watch.world.processes = (0..3).map(|place| process(PID + place, "labelpress")).collect();
    watch.ticks(1, 800);
    watch.came(lowered(10));
    refused(&mut watch, "a role");
    watch.came(lowered(10));
    watch.ticks(5, 800);
    let left: Vec<u32> = watch.under_way.iter().map(|of| of.order.targets[0].id.pid).collect();
    assert_eq!(left, [PID + 1]);
    watch.came(lowered(10));
    watch.ticks(400, 800);
    assert!(watch.under_way.is_empty() && !watch.words().contains(&"capped".to_owned()));
    // Whatever is refused costs nothing: five refusals of a cap of two, and still it is taken.
    let mut watch = Watch::new(&capped(2));
    assert_eq!(attempts(&mut watch, 100, |_| "a role".to_owned()).len(), 5);
    watch.ticks(100, 800);
    assert_eq!(watch.acts(), ["terminate"]);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    /// Whatever the sequence of refusals, and whatever comes between: once nothing is in its way it is taken at the next try,
    /// which comes within its pause; and each reason is told once until it is another.
    #[test]
    fn no_sequence_of_refusals_spends_a_step(reasons in prop::collection::vec(0_u8..3, 0..12), off in 0_u64..900) {
        let mut watch = Watch::new(&rule(TERMINATE));
        let (mut said, mut before, mut pause) = (1, None, 0);
        for reason in &reasons {
            let mut waited = 0;
            while watch.under_way.is_empty() {
                waited += 1;
                prop_assert!(waited <= 301, "nothing in {} s", waited);
                watch.ticks(1, 800);
            }
            prop_assert!(pause == 0 || waited == pause, "after {} s, and not {}", waited, pause);
            refused(&mut watch, &format!("reason {reason}"));
            said += usize::from(before != Some(reason));
            before = Some(reason);
            pause = if pause == 0 { 5 } else { (pause * 2).min(300) };
        }
        prop_assert_eq!(watch.words().len(), if reasons.is_empty() { 0 } else { said });
        // A gap in which nobody looks counts for nothing; then it is taken within the pause, and an interval.
        watch.world.pass(Duration::from_secs(off));
        let mut waited = 0;
        while watch.under_way.is_empty() {
            waited += 1;
            prop_assert!(waited <= pause.max(1) + 2, "nothing in {} s", waited);
            watch.ticks(1, 800);
        }
        watch.came(Outcome::Ended(Ending::default()));
        watch.ticks(700, 800);
        prop_assert!(watch.under_way.is_empty(), "taken is spent");
    }
}

/// The line says when: the step itself, unless another comes first.
#[test]
fn when_it_is_tried_again_is_told() {
    let mut watch = Watch::new(&rule(TERMINATE));
    watch.ticks(1, 800);
    let due = watch.world.moment.wall.checked_add(seconds(5)).unwrap();
    refused(&mut watch, "a role");
    let line = watch.told.last().unwrap().line(&TimeZone::UTC).unwrap().text;
    let clock = due.to_zoned(TimeZone::UTC).strftime("%H:%M:%S").to_string();
    assert!(line.ends_with(&format!("; next: terminate, tried again {clock}")), "{line}");
}

/// Decoys use up no more than their owner's share of the cap: another's runaway is ended at once, and one of his own when its
/// turn comes. What an ordinary user's watcher does to his own, and root's to root's, is held by the cap alone.
#[test]
fn decoys_use_up_no_more_than_their_owners_share() {
    let rules = load(&format!(
        "cap = {{ acts = 20, terminations = 5 }}\n[[rule]]\nname = 'a'\nbreach = 'memory.held > 750 MiB'\narmed = true\n{TERMINATE}"
    ));
    let ended = |watch: &mut Watch, seconds: u64| {
        let mut ended = Vec::new();
        for second in 0..seconds {
            watch.ticks(1, 800);
            while let Some(commission) = watch.under_way.first() {
                let pid = commission.order.targets[0].id.pid;
                ended.push((second, pid - PID));
                let intent = commission.announced.clone();
                watch.recorded.push(intent);
                watch.came(Outcome::Ended(Ending::default()));
                watch.world.processes.retain(|process| process.id.pid != pid);
            }
        }
        ended
    };
    let mut watch = Watch::new(&rules);
    watch.world.processes = (0..6).map(|place| process(PID + place, "labelpress")).collect();
    let decoys = ended(&mut watch, 10);
    assert_eq!(decoys, [(0, 0), (0, 1), (0, 2), (0, 3)], "three are his share, and one stands for all that is more");
    let mut other = process(PID + 9, "sheetlamp");
    (other.uid, other.names_mut().owner) = (1002, "tomas".to_owned());
    watch.world.processes.push(other);
    assert_eq!(ended(&mut watch, 10), [(0, 9)]);
    let rest = ended(&mut watch, 600);
    assert_eq!(rest.iter().map(|(_, pid)| *pid).collect::<Vec<_>>(), [4, 5]);
    assert!(rest[0].0 >= 40 && rest[1].0 >= rest[0].0 + 60, "a minute apart: {rest:?}");
    let told = watch.words();
    assert!(told.iter().filter(|word| *word == "capped").count() <= 3, "{told:?}");
    let drafts: Vec<_> = watch.recorded.iter().filter_map(|happening| scribe().record(happening)).collect();
    let records = sealed(&drafts, |line| line);
    let story = |case| account(&records, case, &TimeZone::UTC, &|_| false).unwrap().json().to_string();
    assert!(story(4).contains("these cases count as one with it: 5, 6"), "{}", story(4));
    assert!(story(6).contains("counts as one with case 4") && !story(3).contains("counts as one"), "{}", story(6));

    let mut watch = Watch::new(&rules);
    watch.world.processes = (0..7).map(|place| process(PID + place, "labelpress")).collect();
    watch.world.processes.iter_mut().for_each(|process| process.uid = 0);
    assert_eq!(ended(&mut watch, 600).len(), 5, "no more of root's own");
}
