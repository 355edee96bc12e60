//! Rules stand back by somebody's word: as outside of hours, and people are told as before.

use serde_json::Value;
use sophron_core::act::{Outcome, Restoring};
use sophron_core::answer::Answer;
use sophron_core::audit::{By, Kind, Who};
use sophron_core::dispatch::{Input, Word};
use sophron_core::open::Open;
use sophron_core::stand_back::Whom;
use sophron_testkit::process;

use crate::happening::scribe;
use crate::script::{PID, load, rule, seconds};
use crate::watch::{Watch, lowered};

const KEYS: &str = "lasting = '2s'\nladder = [ { at = '0s', do = 'lower' }, { at = '6s', do = 'terminate' } ]";

pub fn ines() -> Who {
    Who { uid: 0, user: "root".to_owned(), login_uid: Some(1001), by: Some(By::Hand) }
}

impl Watch {
    pub fn word(&mut self, whom: Vec<Whom>, length: Option<u64>) {
        let because = Some("the month-end run".to_owned());
        let word = Word { ticket: 1, whom, length: length.map(seconds), by: ines(), because };
        self.step(Input::Word(Box::new(word)));
    }
}

/// Whatever was done is undone, the clock stands still, nothing is done until it is over, and then not without a fresh `lasting`.
#[test]
fn while_rules_stand_back_nothing_is_done() {
    let all = [Whom::All, Whom::Rule("press-leak".to_owned()), Whom::process(&process(PID, "labelpress"))];
    for whom in all {
        let mut watch = Watch::new(&rule(KEYS));
        watch.ticks(3, 800);
        watch.came(lowered(10));
        watch.ticks(4, 800);
        watch.words();
        watch.word(vec![whom.clone()], Some(20));
        watch.ticks(1, 800);
        assert_eq!(watch.acts(), ["restore"], "{whom}");
        watch.came(Outcome::Restored(Restoring::default()));
        assert_eq!(watch.words(), ["back", "restored"]);
        watch.ticks(18, 800);
        assert_eq!(watch.acts(), Vec::<String>::new(), "{whom}");
        watch.ticks(2, 800);
        assert_eq!((watch.acts(), watch.words()), (vec![], vec!["acting".to_owned()]), "a fresh `lasting` first");
        watch.ticks(1, 800);
        assert_eq!(watch.acts(), ["terminate"], "{whom}");
    }
}

/// A case still opens, is told, reminds and closes; a step that would have been taken is recorded as stood back from, once.
#[test]
fn people_are_told_as_before() {
    let mut watch = Watch::new(&rule(&format!("again = {{ after = '5s' }}\n{KEYS}")));
    watch.word(vec![Whom::All], Some(60));
    watch.ticks(14, 800);
    assert_eq!(watch.words(), ["back", "breach", "back", "reminder", "reminder"]);
    watch.ticks(4, 100);
    assert_eq!((watch.acts(), watch.words().last().cloned()), (vec![], Some("calm".to_owned())));
}

/// It is his word who said it, with why; its end is recorded too, whatever ends it.
#[test]
fn the_record_has_who_and_why() {
    let mut watch = Watch::new(&rule(KEYS));
    let press = Whom::process(&process(PID, "labelpress"));
    watch.word(vec![Whom::All, press.clone(), Whom::Rule("press-leak".to_owned())], Some(600));
    watch.word(vec![press], None);
    watch.word(vec![Whom::All], None);
    assert_eq!(watch.said, [0, 1, 2]);
    let told: Vec<String> = watch
        .drafts()
        .iter()
        .map(|draft| {
            let (action, result) = (draft.action.as_ref().unwrap(), draft.result.as_ref().unwrap());
            assert_eq!((&draft.who, &action.because), (&ines(), &Some("the month-end run".to_owned())));
            format!("{}: {}", draft.kind, result.seen)
        })
        .collect();
    insta::assert_snapshot!(told.join("\n"), @r"
    stood back: root has rules stand back from everything until 07:40:00: the month-end run
    stood back: root has rules stand back from it until 07:40:00: the month-end run
    stood back: root has rules stand back from rule press-leak until 07:40:00: the month-end run
    acts again: rules stand back from it no longer: root says so: the month-end run
    acts again: rules stand back from everything no longer: root says so: the month-end run
    acts again: rules stand back from rule press-leak no longer: root says so: the month-end run
    ");
}

/// A stand-back from a process ends with it.
#[test]
fn it_ends_with_the_process() {
    let mut watch = Watch::new(&rule(KEYS));
    watch.word(vec![Whom::process(&process(PID, "labelpress"))], Some(600));
    watch.world.processes.clear();
    watch.ticks(1, 800);
    assert_eq!((watch.dispatcher.stand_backs().len(), watch.words()), (0, vec!["back".into(), "acting".into()]));
}

fn next_run(watch: &Watch, text: &str, passed: u64, other_boot: bool) -> Watch {
    let boot = watch.world.processes[0].id.boot;
    let open = watch.dispatcher.open(watch.world.moment, boot);
    let open = Open::read(&serde_json::to_vec(&open).unwrap()).unwrap();
    let mut next = Watch::new(&load(text));
    next.world = watch.world.clone();
    next.world.pass(seconds(passed));
    if other_boot {
        next.world.moment.boottime = seconds(30);
    }
    let boot = if other_boot { sophron_core::model::Boot(7) } else { boot };
    next.step(Input::Earlier(Box::new(open), boot));
    next
}

fn text(keys: &str) -> String {
    format!(
        "[[rule]]\nname = 'press-leak'\nwhere = 'app = \"labelpress\"'\nbreach = 'memory.held > 750 MiB'\narmed = true\n{keys}"
    )
}

/// The next run goes on with the case: at the step whose effect was put back, after a fresh `lasting`, with the same number.
#[test]
fn the_next_run_goes_on() {
    let mut watch = Watch::new(&rule(KEYS));
    watch.ticks(3, 800);
    watch.came(lowered(10));
    watch.ticks(5, 800);
    let mut next = next_run(&watch, &text(KEYS), 60, false);
    assert_eq!(next.fixed.len(), 1, "its process is held by a handle again");
    next.ticks(2, 800);
    assert_eq!(next.acts(), Vec::<String>::new());
    next.ticks(1, 800);
    assert_eq!(next.acts(), ["lower to nice 10"]);
    next.came(lowered(10));
    next.ticks(4, 800);
    assert_eq!(next.acts(), ["terminate"]);
    assert_eq!(next.recorded.iter().filter_map(|told| told.case).max(), Some(1), "no other number");

    let mut calm = next_run(&watch, &text(KEYS), 60, false);
    calm.ticks(4, 100);
    assert_eq!(calm.words(), ["easing", "calm"], "its end is told");
    let mut changed = next_run(&watch, &text(KEYS).replace("750", "760"), 60, false);
    assert_eq!(changed.words(), ["left"]);
    let ladder = text(&KEYS.replace("do = 'lower'", "do = 'suspend', for = '2s'"));
    let mut other = next_run(&watch, &ladder, 60, false);
    other.ticks(4, 800);
    assert_eq!(other.acts(), ["suspend for 2s"]);
    for (passed, other_boot) in [(601, false), (5, true)] {
        let mut anew = next_run(&watch, &text(KEYS), passed, other_boot);
        assert_eq!(anew.dispatcher.judge().cases().count(), 0);
        anew.ticks(3, 800);
        assert_eq!(anew.words(), ["breach"]);
    }
}

/// A step that was in the way of something, or under way, is due in the next run as well; and who was let run by somebody runs on.
#[test]
fn what_was_due_stays_due_in_the_next_run() {
    let lower = "lasting = '2s'\nladder = [ { at = '0s', do = 'lower' } ]";
    let mut watch = Watch::new(&rule(lower));
    watch.ticks(3, 800);
    let mut under_way = next_run(&watch, &text(lower), 5, false);
    under_way.ticks(2, 800);
    assert_eq!(under_way.acts(), Vec::<String>::new(), "a fresh `lasting` first");
    under_way.ticks(1, 800);
    assert_eq!(under_way.acts(), ["lower to nice 10"]);
    watch.came(Outcome::Refused("its control group is frozen".to_owned()));
    let mut refused = next_run(&watch, &text(lower), 5, false);
    let mut once_more = next_run(&refused, &text(lower), 5, false);
    for next in [&mut refused, &mut once_more] {
        next.ticks(4, 800);
        assert_eq!(next.acts(), ["lower to nice 10"]);
    }

    let ask = "lasting = '0s'\nkeep = { for = '60s', times = 1 }\nladder = [ { at = '0s', do = 'terminate', ask = '10s' } ]\n";
    let mut watch = Watch::new(&rule(ask));
    watch.ticks(1, 800);
    watch.shown(Ok("at the desk"));
    watch.answer(Answer::LetRun).unwrap();
    watch.ticks(2, 800);
    let mut next = next_run(&watch, &text(ask), 30, false);
    next.ticks(26, 800);
    assert_eq!((next.asks.len(), next.acts()), (0, vec![]), "it runs on");
    next.ticks(4, 800);
    let offers: Vec<&str> = next.asks[0].question.offers.iter().map(Answer::word).collect();
    assert_eq!(offers, ["suspend", "end"], "it was let run as often as may be");
}

/// By the boot-time clock; after another boot by the wall clock, and then no longer of the processes that were.
#[test]
fn a_word_outlives_the_watcher() {
    let mut watch = Watch::new(&rule(KEYS));
    watch.word(vec![Whom::Rule("press-leak".to_owned()), Whom::process(&process(PID, "labelpress"))], Some(100));
    let left = |next: &Watch| -> Vec<u64> {
        next.dispatcher.stand_backs().iter().map(|one| one.left(next.world.moment).as_secs()).collect()
    };
    assert_eq!(left(&next_run(&watch, &text(KEYS), 40, false)), [60, 60]);
    assert_eq!(left(&next_run(&watch, &text(KEYS), 40, true)), [60]);
    assert_eq!(left(&next_run(&watch, &text(KEYS), 100, false)), Vec::<u64>::new());
    // A clock that was set back makes it no longer than was said.
    watch.world.moment.wall = watch.world.moment.wall.checked_sub(seconds(5000)).unwrap();
    assert_eq!(left(&next_run(&watch, &text(KEYS), 0, true)), [100]);
    let record = watch.drafts().into_iter().find(|draft| draft.kind == Kind::StoodBack).unwrap();
    assert_eq!(record.host, scribe().host);
}

/// Whatever stands in the file: it is refused or bounded, and nothing stops the watch.
#[test]
fn no_number_in_what_was_open_stops_a_watch() {
    fn numbers(value: &mut Value, at: &mut usize, wanted: usize, new: u64) {
        match value {
            Value::Number(_) => {
                if *at == wanted {
                    *value = new.into();
                }
                *at += 1;
            }
            Value::Array(all) => all.iter_mut().for_each(|value| numbers(value, at, wanted, new)),
            Value::Object(all) => all.values_mut().for_each(|value| numbers(value, at, wanted, new)),
            _ => {}
        }
    }
    let keys = "lasting = '1s'\nkeep = { for = '60s', times = 9 }\nladder = [ { at = '0s', do = 'lower' }, { at = '1s', do = 'terminate', ask = '10s' } ]\n";
    let mut watch = Watch::new(&rule(keys));
    watch.word(vec![Whom::Rule("nobodys".to_owned()), Whom::process(&process(PID + 1, "herbarium"))], Some(100));
    watch.ticks(2, 800);
    watch.came(Outcome::Refused("its control group is frozen".to_owned()));
    watch.ticks(1, 800);
    watch.shown(Ok("at the desk"));
    watch.answer(Answer::LetRun).unwrap();
    let boot = watch.world.processes[0].id.boot;
    let open = serde_json::to_value(watch.dispatcher.open(watch.world.moment, boot)).unwrap();
    assert!(open["cases"][0]["asked"]["until"].is_array() && open["cases"][0]["owed"].is_array(), "{open}");
    let mut count = 0;
    numbers(&mut open.clone(), &mut count, usize::MAX, 0);
    for (place, new) in (0..count).flat_map(|place| [0, 1 << 52, u64::MAX].map(|new| (place, new))) {
        let mut changed = open.clone();
        numbers(&mut changed, &mut 0, place, new);
        let Ok(open) = Open::read(&serde_json::to_vec(&changed).unwrap()) else { continue };
        let mut next = Watch::new(&load(&text(keys)));
        next.world = watch.world.clone();
        next.step(Input::Earlier(Box::new(open), boot));
        next.ticks(6, 800);
        next.ticks(4, 100);
    }
}
