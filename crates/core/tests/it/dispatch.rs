//! The dispatcher, with handed-in time: what is commanded, in which order, and what is told.

use std::time::Duration;

use sophron_core::act::{Act, Ending, Outcome, Restoring, Verb};
use sophron_core::dispatch::{Input, Trail};
use sophron_core::happening::{Over, What};
use sophron_core::protect::Protections;
use sophron_core::sorted::SortedSet;
use sophron_core::state::State;
use sophron_testkit::process;

use crate::script::{PID, load, rule, seconds};
use crate::watch::{Watch, lowered, suspended};

const LADDER: &str = "lasting = '1s'\nladder = [ { at = '0s', do = 'alert' }, { at = '2s', do = 'lower', nice = 10 }, { at = '5s', do = 'suspend', for = '3s' }, { at = '12s', do = 'terminate' } ]";

/// From the first line to the last: what is told reads like the story, and everything is taken back.
#[test]
fn a_case_from_its_opening_to_its_end() {
    let mut watch = Watch::new(&rule(LADDER));
    watch.ticks(4, 800);
    assert_eq!((watch.words(), watch.acts()), (vec!["alert".to_owned()], vec!["lower to nice 10".to_owned()]));
    // Until its outcome is in no other step falls due, however late that is.
    watch.ticks(6, 800);
    assert_eq!(watch.acts(), ["lower to nice 10"]);
    watch.came(lowered(10));
    watch.ticks(1, 800);
    assert_eq!((watch.words(), watch.acts()), (vec!["lowered".to_owned()], vec!["suspend for 3s".to_owned()]));
    let still = suspended(watch.world.moment, seconds(3));
    watch.came(still);
    watch.world.process(PID).state = State::Suspended;
    watch.ticks(3, 1);
    assert_eq!(
        (watch.words(), watch.acts()),
        (vec!["suspended".to_owned()], vec!["resume".to_owned()]),
        "calm while suspended is no calm"
    );
    watch.world.process(PID).state = State::Running;
    watch.came(Outcome::Resumed(Some(Duration::ZERO)));
    watch.ticks(4, 100);
    assert_eq!(watch.words(), ["resumed", "easing", "calm"]);
    assert!(matches!(watch.came(Outcome::Restored(Restoring::default())), Act::Restore { set: 10, .. }));
    assert_eq!((watch.words(), watch.dispatcher.is_settled()), (vec!["restored".to_owned()], true));
}

/// The process ends while its act is under way: the case closes once it is known what came of it.
#[test]
fn a_case_closes_when_the_outcome_is_in() {
    let mut watch = Watch::new(&rule("lasting = '0s'\nladder = [ { at = '0s', do = 'terminate' } ]"));
    watch.ticks(1, 800);
    watch.world.processes.clear();
    watch.ticks(3, 800);
    assert_eq!(watch.words(), ["breach"]);
    watch.came(Outcome::Ended(Ending::default()));
    let closed = watch.told.iter().find_map(|happening| match &happening.what {
        What::Closed { why, .. } => Some(*why),
        _ => None,
    });
    assert_eq!((closed, watch.words()), (Some(Over::EndedByUs), vec!["ended".to_owned()]), "and is told once");
}

/// While nothing can be recorded nothing is done, and nothing is lost: the step is due again.
#[test]
fn what_cannot_be_recorded_waits() {
    let mut watch = Watch::new(&rule("lasting = '0s'\nladder = [ { at = '0s', do = 'lower' } ]"));
    watch.step(Input::Trail(Trail::Lost("no space left".to_owned())));
    watch.ticks(5, 800);
    assert_eq!((watch.words(), watch.acts()), (vec!["disarmed".to_owned(), "breach".to_owned()], vec![]));
    watch.step(Input::Trail(Trail::Back));
    watch.ticks(1, 800);
    assert_eq!(watch.acts(), ["lower to nice 10"]);
    watch.came(Outcome::Unrecorded("no space left".to_owned()));
    watch.ticks(1, 800);
    assert_eq!(
        (watch.words(), watch.acts()),
        (vec!["armed".to_owned(), "dropped".to_owned()], vec!["lower to nice 10".to_owned()])
    );
}

/// Two rules on one process: the greater niceness is set, both hold it, and the last to let go takes it back.
#[test]
fn a_lowering_is_held_by_all_who_want_it() {
    let one = |name: &str, limit: u32, nice: i32| {
        format!(
            "[[rule]]\nname = '{name}'\nbreach = 'memory.held > {limit} MiB'\nlasting = '0s'\narmed = true\nladder = [ {{ at = '0s', do = 'lower', nice = {nice} }} ]\n"
        )
    };
    let mut watch = Watch::new(&load(&(one("mild", 500, 5) + &one("hard", 700, 15))));
    watch.ticks(1, 800);
    // The greater one is done, and the other joins it.
    assert_eq!(watch.acts().len(), 1);
    let Some(Act::Lower { nice, .. }) = watch.under_way.first().map(|under_way| under_way.order.act.clone()) else {
        panic!("{:?}", watch.acts())
    };
    watch.came(lowered(nice));
    let words = watch.words();
    assert!(words.contains(&"overtaken".to_owned()), "{words:?}");
    watch.ticks(3, 600);
    let held = watch.dispatcher.effects().cases_of(&process(PID, "labelpress").id);
    assert_eq!((watch.acts(), held.len()), (vec!["restore".to_owned()], 1), "back to what the other still wants");
    let undo = watch.came(Outcome::Restored(Restoring::default()));
    assert!(matches!(undo, Act::Restore { still: Some(_), .. }), "{undo:?}");
    watch.ticks(3, 100);
    assert!(matches!(watch.came(Outcome::Restored(Restoring::default())), Act::Restore { still: None, .. }));
}

/// A watch whose first step has suspended the process for a minute.
fn suspended_by(keys: &str) -> Watch {
    let mut watch = Watch::new(&rule(keys));
    watch.ticks(1, 800);
    watch.came(suspended(watch.world.moment, seconds(60)));
    watch
}

/// Nobody but a recorded hand keeps what is suspended running: it is suspended once more for the rest of its time, and then its
/// ladder goes on. A guard that is gone is another matter.
#[test]
fn whoever_resumes_it_is_no_way_out_but_a_hand() {
    let keys = "lasting = '0s'\nladder = [ { at = '0s', do = 'suspend', for = '60s' } ]";
    let mut watch = suspended_by(keys);
    watch.world.process(PID).state = State::Suspended;
    watch.ticks(1, 800);
    watch.beside.unguarded = SortedSet::from([process(PID, "labelpress").id]);
    watch.ticks(1, 800);
    assert_eq!(watch.acts(), ["resume"], "a guard that was killed outright has resumed nobody");
    watch.beside.unguarded.clear();
    watch.came(Outcome::Resumed(Some(Duration::ZERO)));
    assert_eq!(watch.words(), ["breach", "suspended", "resumed"]);

    let more =
        "lasting = '0s'\nladder = [ { at = '0s', do = 'suspend', for = '60s' }, { at = '65s', do = 'terminate' } ]";
    let mut watch = suspended_by(more);
    watch.ticks(1, 800);
    assert_eq!(watch.acts(), Vec::<String>::new(), "a hand may have been at work, and not be read yet");
    watch.words();
    watch.ticks(1, 800);
    assert_eq!(watch.acts(), ["suspend for 58s"]);
    assert_eq!(watch.words(), ["resumed"]);
    watch.came(suspended(watch.world.moment, seconds(58)));
    watch.world.process(PID).state = State::Suspended;
    watch.ticks(20, 800);
    watch.world.process(PID).state = State::Running;
    watch.ticks(2, 800);
    let last = watch.told.iter().find(|happening| matches!(happening.what, What::LetLoose { again: false }));
    assert!(last.is_some_and(|last| last.line(&jiff::tz::TimeZone::UTC).unwrap().text.contains("next: terminate")));
    assert!(watch.acts().is_empty() && watch.dispatcher.effects().processes().is_empty());
    watch.ticks(40, 800);
    assert_eq!(watch.acts(), Vec::<String>::new());
    watch.ticks(3, 800);
    assert_eq!(watch.acts(), ["terminate"]);

    // It cannot be suspended once more: over, and the ladder goes on. A hand is left in peace.
    let mut watch = suspended_by(more);
    watch.ticks(2, 800);
    watch.came(Outcome::Refused("it serves others".to_owned()));
    assert!(watch.dispatcher.effects().processes().is_empty() && watch.dispatcher.is_settled());
    watch.ticks(65, 800);
    assert_eq!(watch.acts(), ["terminate"]);

    let mut watch = suspended_by(more);
    watch.ticks(1, 800);
    watch.hand(PID, Verb::Resume, None);
    watch.ticks(100, 800);
    assert!(watch.acts().is_empty() && watch.dispatcher.effects().processes().is_empty());
    assert!(watch.words().contains(&"hands".to_owned()));
}

/// Whoever waits for a file lock of somebody suspended need not wait until his time is over.
#[test]
fn who_is_waited_for_goes_on_at_once() {
    let mut watch = suspended_by("lasting = '0s'\nladder = [ { at = '0s', do = 'suspend', for = '60s' } ]");
    watch.world.process(PID).state = State::Suspended;
    // A process of his own that waits is nobody whom he serves, nor is one that nobody has seen.
    watch.world.processes.push(process(PID + 1, "dash"));
    watch.beside.waits = vec![(PID, PID + 1), (PID, 4711)];
    watch.ticks(2, 100);
    assert_eq!(watch.acts(), Vec::<String>::new());
    let mut other = process(PID + 2, "dash");
    other.uid = 1002;
    watch.world.processes.push(other);
    watch.beside.waits.push((PID, PID + 2));
    watch.ticks(2, 100);
    assert_eq!(watch.acts(), ["resume"]);
}

/// Rules that mean the same go on with their stories, whatever their note and their place; the others' cases are closed.
#[test]
fn a_story_goes_on_where_the_rule_means_the_same() {
    let mut watch = Watch::new(&rule(LADDER));
    watch.ticks(4, 800);
    watch.came(lowered(10));
    let _ = watch.words();
    let press = |keys: &str| {
        format!(
            "[[rule]]\nname = 'press-leak'\nwhere = 'app = \"labelpress\"'\nbreach = 'memory.held > 750 MiB'\narmed = true\n{keys}"
        )
    };
    let first = "[[rule]]\nname = 'first'\nbreach = 'cpu > 50%'\nlasting = '1s'\n";
    let noted = load(&(first.to_owned() + &press(&format!("note = 'It leaks.'\n{LADDER}"))));
    watch.step(Input::Rules(noted, Protections::default()));
    watch.ticks(4, 800);
    assert_eq!(
        (watch.words(), watch.acts()),
        (vec!["effect".to_owned()], vec!["suspend for 3s".to_owned()]),
        "the clock ran on"
    );
    watch.came(Outcome::Refused("a test".to_owned()));
    let _ = watch.words();
    let other = load(&press("lasting = '2s'\nladder = [ { at = '0s', do = 'alert' } ]"));
    watch.step(Input::Rules(other, Protections::default()));
    assert_eq!(
        (watch.words(), watch.acts()),
        (vec!["left".to_owned()], vec!["restore".to_owned()]),
        "and with it what it held"
    );
}

/// What is under way at the end is awaited, and what came of it taken back.
#[test]
fn the_end_takes_everything_back() {
    let mut watch =
        Watch::new(&rule("lasting = '0s'\nladder = [ { at = '0s', do = 'lower' }, { at = '2s', do = 'suspend' } ]"));
    watch.ticks(1, 800);
    watch.came(lowered(10));
    watch.ticks(3, 800);
    assert_eq!(watch.acts(), ["suspend for 1m"]);
    watch.step(Input::End);
    assert!(!watch.dispatcher.is_settled(), "the suspension is under way");
    watch.came(suspended(watch.world.moment, seconds(60)));
    for expected in ["restore", "resume"] {
        assert!(watch.acts().contains(&expected.to_owned()) || expected == "resume", "{:?}", watch.acts());
    }
    while !watch.under_way.is_empty() {
        let outcome = match watch.under_way[0].order.act {
            Act::Resume => Outcome::Resumed(None),
            _ => Outcome::Restored(Restoring::default()),
        };
        watch.came(outcome);
    }
    assert!(watch.dispatcher.is_settled() && watch.dispatcher.effects().processes().is_empty());
    let last = watch.dispatcher.last_words(watch.world.moment);
    assert!(
        matches!(last.what, What::Watcher(sophron_core::happening::News::Ended { open: 1, undone: 1 })),
        "{last:?}"
    );
}
