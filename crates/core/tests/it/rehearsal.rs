//! Rehearsing: acts taken for done, whom to spare, what cannot be judged, two files compared, a setting varied.

use std::sync::Arc;

use jiff::tz::TimeZone;
use sophron_core::condition::{Condition, Place};
use sophron_core::happening::Over;
use sophron_core::protect::Protections;
use sophron_core::recording::Ours;
use sophron_core::rehearsal::{Change, Rehearsal, StepWord, compare, vary};
use sophron_core::rules::{Action, RuleSet};
use sophron_testkit::{World, process};

use crate::script::{MIB, PID, load, seconds};

const LEAK: &str = "[[rule]]\nname = 'leak'\nwhere = 'app = labelpress'\nbreach = 'memory.held > 750 MiB'\nlasting = '2s'\n\
    ladder = [ { at = '0s', do = 'alert' }, { at = '3s', do = 'suspend', for = '4s' }, { at = '10s', do = 'terminate' } ]\n";

fn rehearsal(rules: &Arc<RuleSet>, spare: Option<&str>) -> Rehearsal {
    let spare = spare.map(|text| Condition::parse(text, Place::Look).unwrap());
    Rehearsal::new(rules, rules.every, Protections::default(), spare, TimeZone::UTC)
}

/// So many seconds of a world in which the press holds that much at each of them.
fn play(rehearsal: &mut Rehearsal, seconds_: u64, held: impl Fn(u64) -> Option<u64>) {
    let mut world = World::new(vec![process(7, "postbox"), process(PID, "labelpress")]);
    for second in 0..seconds_ {
        world.pass(seconds(1));
        world.process(PID).memory_held = held(second).map(|mib| mib * MIB);
        rehearsal.take(&world.snapshot(), &Ours::default());
    }
}

fn words(rehearsal: &Rehearsal) -> Vec<String> {
    let steps = rehearsal.stories().flat_map(|story| {
        story.steps.iter().map(|step| match &step.word {
            StepWord::Done(action) => action.word().to_owned(),
            other => format!("{other:?}"),
        })
    });
    steps.collect()
}

/// A rule in shadow is taken for armed; who would have been ended is not seen again, and who would have been suspended is
/// not judged meanwhile, whatever the recording shows of them.
#[test]
fn an_act_is_taken_for_done() {
    let mut rehearsal = rehearsal(&load(LEAK), None);
    play(&mut rehearsal, 60, |second| Some(if (6..9).contains(&second) { 1 } else { 800 }));
    assert_eq!(words(&rehearsal), ["Told", "suspend", "terminate"], "calm while suspended is no calm");
    let story = rehearsal.stories().next().unwrap();
    assert_eq!((rehearsal.stories().count(), story.closed.map(|(_, why)| why)), (1, Some(Over::EndedByUs)));
    let sum = &rehearsal.sums()[0];
    let acts = |word: &str| sum.acts.get(word).copied();
    assert_eq!((sum.cases, sum.alerts, acts("suspend"), acts("terminate")), (1, 3, Some(1), Some(1)));
    assert!(sum.cannot_be_judged().is_none());
}

#[test]
fn what_calms_by_itself_is_counted_and_who_is_to_be_spared_is_named() {
    let mut calm = rehearsal(&load(LEAK), Some("app = labelpress"));
    play(&mut calm, 30, |second| Some(if second < 5 { 800 } else { 100 }));
    assert_eq!((calm.sums()[0].calmed, calm.hits().len(), words(&calm)), (1, 0, vec!["Told".to_owned()]));
    let mut hit = rehearsal(&load(LEAK), Some("app = labelpress"));
    play(&mut hit, 30, |_| Some(800));
    let actions: Vec<&str> = hit.hits().iter().map(|hit| hit.action.word()).collect();
    assert_eq!(actions, ["suspend", "terminate"]);
    assert!(hit.hits().iter().all(|hit| hit.whom.starts_with("labelpress ")));
}

/// A field that the recording lacks is said, and is no quiet.
#[test]
fn a_rule_that_cannot_be_judged_says_what_it_lacks() {
    let rules = load(&format!("{LEAK}[[rule]]\nname = 'files'\nbreach = 'files > 100'\nlasting = '2s'\n"));
    let mut rehearsal = rehearsal(&rules, None);
    play(&mut rehearsal, 20, |second| (second % 9 != 3).then_some(100));
    assert!(rehearsal.sums()[0].cannot_be_judged().is_none(), "a gap now and then is no lack");
    let lacking: Vec<&str> = rehearsal.sums()[1].cannot_be_judged().unwrap().iter().map(|field| field.name()).collect();
    assert_eq!(lacking, ["files"]);
}

/// However long the recording, a story keeps a bounded number of readings, from its beginning to its end.
#[test]
fn a_story_keeps_no_more_than_can_be_drawn() {
    let alert =
        "[[rule]]\nname = 'leak'\nwhere = 'app = labelpress'\nbreach = 'memory.held > 750 MiB'\nlasting = '2s'\n";
    let mut rehearsal = rehearsal(&load(alert), None);
    play(&mut rehearsal, 5000, |second| Some(800 + second));
    let story = rehearsal.stories().next().unwrap();
    assert!(story.points.len() <= 256 && story.points.len() > 100, "{}", story.points.len());
    let lasted = story.points.last().unwrap().0.duration_since(story.points[0].0);
    assert!(lasted.as_secs() > 4900, "{lasted}");
    assert_eq!(story.worst.as_ref().unwrap().scaled(), "5.66 GiB");
}

#[test]
fn two_files_are_compared_case_by_case() {
    let more = "[[rule]]\nname = 'post'\nwhere = 'app = postbox'\nbreach = 'memory.held > 1 MiB'\nlasting = '1s'\n";
    let (old, new) = (load(LEAK), load(&format!("{}{more}", LEAK.replace("'2s'", "'6s'"))));
    let (mut old, mut new) = (rehearsal(&old, None), rehearsal(&new, None));
    for rehearsal in [&mut old, &mut new] {
        play(rehearsal, 30, |_| Some(800));
    }
    let changes: Vec<(String, Change)> =
        compare(&old, &new).into_iter().map(|difference| (difference.rule, difference.change)).collect();
    let later = jiff::SignedDuration::from_secs(4);
    let moved = Change::Moved { opens: later, acts: Some(later) };
    assert_eq!(changes, [("post".to_owned(), Change::New), ("leak".to_owned(), moved)]);
    let back = compare(&new, &old);
    assert_eq!(back.iter().filter(|difference| difference.change == Change::Gone).count(), 1);
    assert!(compare(&old, &old).iter().all(|difference| difference.change == Change::Same));
}

#[test]
fn one_setting_is_varied_and_the_present_value_is_among_them() {
    let rules = load(LEAK);
    let varied = vary(&rules, 0, "memory.held=500 MiB..1200 MiB").unwrap();
    let present: Vec<&str> = varied.iter().filter(|one| one.present).map(|one| one.shown.as_str()).collect();
    assert_eq!((varied.len(), present), (9, vec!["750 MiB"]));
    assert_eq!(varied[0].rules.rules[0].breach.to_string(), "memory.held > 500 MiB");
    let cases: Vec<u32> = varied
        .iter()
        .map(|one| {
            let mut rehearsal = rehearsal(&Arc::new(one.rules.clone()), None);
            play(&mut rehearsal, 20, |_| Some(800));
            rehearsal.sums()[0].cases
        })
        .collect();
    assert_eq!(cases, [1, 1, 1, 1, 0, 0, 0, 0, 0], "800 MiB is not over 800 MiB");
    assert_eq!(vary(&rules, 0, "lasting=1s..8s").unwrap().len(), 8, "the present 2 s is one of the eight");
    for wrong in ["lasting", "lasting=x..9s", "cpu=1%..5%", "memory.held=1%..5%"] {
        assert!(vary(&rules, 0, wrong).is_err(), "{wrong}");
    }
    assert_eq!(rules.rules[0].ladder[2].action, Action::Terminate { force_after: None });
}
