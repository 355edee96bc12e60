//! Rules read anew: a rule is the same by what it judges by, not by its place or its spelling; and what it does is what the file
//! says now.

use std::sync::Arc;
use std::time::Duration;

use proptest::prelude::*;
use sophron_core::act::{Act, Outcome, Restoring};
use sophron_core::condition::{Condition, Place};
use sophron_core::dispatch::Input;
use sophron_core::happening::{Over, What};
use sophron_core::protect::Protections;
use sophron_core::rules;
use sophron_core::state::State;

use crate::script::{PID, load, seconds};
use crate::watch::{Watch, lowered, suspended};

fn leak(keys: &str) -> String {
    format!(
        "[[rule]]\nname = 'leak'\nwhere = 'app = \"labelpress\"'\nbreach = 'memory.held > 750 MiB'\narmed = true\n{keys}\n"
    )
}

const KEYS: &str = "lasting = '2s'\nladder = [ { at = '0s', do = 'lower' }, { at = '6s', do = 'terminate' } ]";
const OTHER: &str = "[[rule]]\nname = 'other'\nbreach = 'cpu > 90%'\nlasting = '1s'\n";

impl Watch {
    fn adopts(&mut self, text: &str) {
        self.step(Input::Rules(load(text), Protections::default()));
    }

    fn closed(&self) -> Vec<Over> {
        let over = |what: &What| match what {
            What::Closed { why, .. } => Some(*why),
            _ => None,
        };
        self.told.iter().filter_map(|happening| over(&happening.what)).collect()
    }
}

fn under_way() -> Watch {
    let mut watch = Watch::new(&load(&leak(KEYS)));
    watch.ticks(3, 800);
    watch.came(lowered(10));
    watch.told.clear();
    watch
}

/// Whatever is only said otherwise, moved, or measured alike leaves the case, its clock and what it holds as they are.
#[test]
fn what_means_the_same_goes_on() {
    let spelled = [
        leak("lasting = \"2000ms\"\nladder = [ { do = 'lower', at = '0m' }, { do = 'terminate', at = '6s' } ]"),
        leak(&format!("note = 'It leaks.'\n{KEYS}")),
        format!("{OTHER}{}", leak(KEYS)),
        format!("# A comment.\n{}{OTHER}", leak(KEYS)).replace("memory.held > 750 MiB", "memory.held>750MiB"),
    ];
    for text in spelled {
        let mut watch = under_way();
        watch.adopts(&text);
        watch.ticks(5, 800);
        assert_eq!((watch.closed(), watch.acts()), (vec![], vec![]), "{text}");
        watch.ticks(1, 800);
        assert_eq!(watch.acts(), ["terminate"], "at six seconds on the clock it had: {text}");
    }
}

/// Whatever judges by something else closes the case with a record, and takes back what it holds.
#[test]
fn what_judges_by_something_else_ends() {
    let changed = [
        leak(&KEYS.replace("2s", "3s")),
        leak(&format!("calm = 'memory.held < 500 MiB'\n{KEYS}")),
        leak(KEYS).replace("750 MiB", "760 MiB"),
        leak(KEYS).replace("labelpress", "tilebaker"),
        leak(KEYS).replace("name = 'leak'", "name = 'press'"),
        OTHER.to_owned(),
    ];
    for text in changed {
        let mut watch = under_way();
        watch.adopts(&text);
        assert_eq!((watch.closed(), watch.acts()), (vec![Over::RuleGone], vec!["restore".to_owned()]), "{text}");
        let undone = watch.came(Outcome::Restored(Restoring::default()));
        assert!(matches!(undone, Act::Restore { .. }) && watch.dispatcher.is_settled());
    }
}

/// Another ladder goes on with the case: the steps that are as they were count as taken, what the others did is taken back, and
/// the first that is new needs a fresh `lasting`.
#[test]
fn another_ladder_goes_on_with_the_case() {
    let ladder = |steps: &str| leak(&format!("lasting = '2s'\nladder = [ {steps} ]"));
    let lower = "{ at = '0s', do = 'lower' }";
    let cases = [
        (ladder(&format!("{lower}, {{ at = '6s', do = 'suspend', for = '3s' }}")), vec![], 6, "suspend for 3s"),
        (ladder(&format!("{lower}, {{ at = '1s', do = 'terminate' }}")), vec![], 2, "terminate"),
        (ladder("{ at = '0s', do = 'lower', nice = 15 }"), vec!["restore"], 2, "lower to nice 15"),
        (ladder("{ at = '0s', do = 'terminate' }"), vec!["restore"], 2, "terminate"),
        (leak(KEYS).replace("armed = true\n", ""), vec!["restore"], 0, ""),
    ];
    for (text, undone, after, act) in cases {
        let mut watch = under_way();
        watch.adopts(&text);
        assert_eq!(watch.closed(), vec![], "{text}");
        assert_eq!(watch.acts(), undone, "{text}");
        for _ in undone {
            watch.came(Outcome::Restored(Restoring::default()));
        }
        watch.ticks(after.max(1) - 1, 800);
        assert_eq!(watch.acts(), Vec::<String>::new(), "not sooner: {text}");
        watch.ticks(2, 800);
        assert_eq!(watch.acts(), if act.is_empty() { vec![] } else { vec![act] }, "{text}");
    }
}

/// What a rule did in shadow it has not done: armed, it begins with its first act, after a fresh `lasting`, and in good order.
#[test]
fn a_rule_that_is_armed_begins_with_its_first_act() {
    let mut watch = Watch::new(&load(&leak(KEYS).replace("armed = true\n", "")));
    watch.ticks(30, 800);
    assert_eq!(watch.acts(), Vec::<String>::new());
    watch.adopts(&leak(KEYS));
    watch.ticks(1, 800);
    assert_eq!(watch.acts(), Vec::<String>::new(), "it needs a fresh `lasting`");
    watch.ticks(1, 800);
    assert_eq!(watch.acts(), ["lower to nice 10"]);
    watch.came(lowered(10));
    watch.ticks(3, 800);
    assert_eq!(watch.acts(), Vec::<String>::new(), "its clock is that of the first act, and runs while that waits");
    watch.ticks(1, 800);
    assert_eq!(watch.acts(), ["terminate"]);
}

/// An act that is under way when its step is gone is taken back once it is known what came of it.
#[test]
fn an_act_whose_step_is_gone_is_taken_back() {
    let mut watch = Watch::new(&load(&leak(KEYS)));
    watch.ticks(3, 800);
    watch.adopts(&leak("lasting = '2s'\nladder = [ { at = '0s', do = 'alert' } ]"));
    assert_eq!(watch.acts(), ["lower to nice 10"]);
    watch.came(lowered(10));
    assert_eq!(watch.acts(), ["restore"]);
}

/// Windows are made for a pace: with another they begin anew, and the case goes on.
#[test]
fn another_pace_empties_windows_and_keeps_cases() {
    let text = |every: &str| {
        let rule = "[[rule]]\nname = 'mean'\nbreach = 'avg(memory.held, 4s) > 700 MiB'\nlasting = '1s'\n";
        Arc::new(rules::load(format!("format = 1\nevery = '{every}'\n{rule}").as_bytes()).unwrap())
    };
    let mut watch = Watch::new(&text("1s"));
    watch.ticks(8, 800);
    assert_eq!(watch.dispatcher.breached().1.len(), 1);
    watch.step(Input::Rules(text("2s"), Protections::default()));
    watch.ticks(1, 800);
    assert_eq!(watch.dispatcher.breached().1.len(), 0, "unknown, with an empty window");
    watch.ticks(8, 800);
    assert_eq!((watch.dispatcher.breached().1.len(), watch.closed()), (1, vec![]));
}

/// A breach that is only building up, and the readings of windows, are of the rule as well.
#[test]
fn windows_go_on_with_their_rule() {
    let text = "[[rule]]\nname = 'mean'\nbreach = 'avg(memory.held, 10s) > 700 MiB'\nlasting = '1s'\n";
    let mut watch = Watch::new(&load(text));
    watch.ticks(8, 800);
    watch.adopts(&format!("{OTHER}{text}"));
    watch.ticks(4, 800);
    assert_eq!(watch.words(), ["alert"], "the ten seconds are full at the eleventh sample");
    let mut fresh = Watch::new(&load(text));
    fresh.ticks(8, 800);
    fresh.adopts(&text.replace("700", "710"));
    fresh.ticks(4, 800);
    assert_eq!(fresh.words(), Vec::<String>::new(), "another rule begins with nothing");
}

/// What an act that is under way comes to is still told, and taken back where its rule is gone.
#[test]
fn an_act_outlives_its_rule() {
    let mut watch = Watch::new(&load(&leak("lasting = '0s'\nladder = [ { at = '0s', do = 'suspend', for = '1m' } ]")));
    watch.ticks(1, 800);
    assert_eq!(watch.acts(), ["suspend for 1m"]);
    watch.adopts(OTHER);
    watch.ticks(2, 800);
    assert_eq!(watch.acts(), ["suspend for 1m"], "nothing else is done meanwhile");
    watch.came(suspended(watch.world.moment, seconds(60)));
    watch.ticks(1, 800);
    assert_eq!(watch.acts(), ["resume"]);
    watch.came(Outcome::Resumed(None));
    assert!(watch.dispatcher.is_settled());
}

/// A budget that is spent stays spent, and so does what rules stand back from.
#[test]
fn no_new_file_gives_a_new_budget() {
    let text = leak("lasting = '0s'\nbudget = { cases = 1, per = '1h' }\nladder = [ { at = '0s', do = 'terminate' } ]");
    let mut watch = Watch::new(&load(&text));
    watch.ticks(1, 800);
    watch.came(Outcome::Refused("a test".to_owned()));
    watch.ticks(3, 100);
    watch.adopts(&format!("{OTHER}{text}"));
    watch.ticks(2, 800);
    assert_eq!(watch.acts(), Vec::<String>::new());
    assert!(watch.words().contains(&"budget".to_owned()));
}

/// Who is protected from now on is left alone from now on, and let go of.
#[test]
fn protections_bind_at_once() {
    let mut watch = under_way();
    let condition = Condition::parse("app = labelpress and owner = ines", Place::Look).unwrap();
    let protections = Protections { conditions: vec![(condition, "rules.toml".to_owned())], ..Protections::default() };
    watch.step(Input::Rules(load(&leak(KEYS)), protections));
    watch.ticks(1, 800);
    assert_eq!(watch.acts(), ["restore"]);
    watch.came(Outcome::Restored(Restoring::default()));
    watch.ticks(7, 800);
    assert_eq!((watch.acts(), watch.words()), (vec![], vec!["restored".to_owned(), "spared".to_owned()]));
}

const STEPS: [&str; 7] = [
    "{ at = '0s', do = 'alert' }",
    "{ at = '0s', do = 'lower', nice = 5 }",
    "{ at = '2s', do = 'lower', nice = 12 }",
    "{ at = '3s', do = 'suspend', for = '1s' }",
    "{ at = '5s', do = 'alert' }",
    "{ at = '6s', do = 'lower', nice = 19 }",
    "{ at = '8s', do = 'alert' }",
];

/// A file: which of the steps its ladder has, and whether it acts.
fn file() -> impl Strategy<Value = (Vec<bool>, bool)> {
    (prop::collection::vec(prop::bool::weighted(0.7), STEPS.len()), prop::bool::weighted(0.8))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    /// Whatever a file becomes while the case is open: no step is taken twice nor left out, none that is new sooner than a fresh
    /// `lasting` after, nothing stays in force that no step asks for, and it is one case.
    #[test]
    fn edits_neither_repeat_nor_skip(
        files in prop::collection::vec((file(), 0_u64..9), 1..6),
        prompt in any::<bool>(),
    ) {
        let text = |(steps, armed): &(Vec<bool>, bool)| {
            let ladder: Vec<&str> = STEPS.iter().zip(steps).filter(|(step, has)| **has || step.contains("'8s'")).map(|(step, _)| *step).collect();
            let keys = format!("lasting = '2s'\nladder = [ {} ]", ladder.join(", "));
            (ladder, if *armed { leak(&keys) } else { leak(&keys).replace("armed = true\n", "") })
        };
        let mut watch = Watch::new(&load(&text(&files[0].0).1));
        // What counts as taken, by its words, and since when the next may be.
        let (mut taken, mut armed, mut not_before): (Vec<&str>, bool, Duration) = (vec![], files[0].0.1, Duration::ZERO);
        for (place, (file, ticks)) in files.iter().enumerate() {
            let (ladder, text) = text(file);
            if place > 0 {
                let kept = ladder.iter().zip(&taken).take_while(|(now, then)| now == then).count();
                let is_act = |step: &&str| !step.contains("alert");
                let arms = file.1 && !armed;
                let first = if arms { ladder.iter().position(is_act).unwrap_or(kept).min(kept) } else { kept };
                if arms || first == taken.len().min(first) && first < taken.len() {
                    not_before = watch.world.moment.monotonic + seconds(2);
                }
                taken.truncate(first);
                armed = file.1;
                watch.adopts(&text);
            }
            for _ in 0..*ticks {
                if prompt {
                    come(&mut watch);
                }
                watch.ticks(1, 800);
                for happening in std::mem::take(&mut watch.told) {
                    let What::Decided { step, action, .. } = &happening.what else { continue };
                    prop_assert_eq!(*step, taken.len(), "{} is not the next of {:?}", action, ladder);
                    prop_assert!(action.word() == ladder[*step].split('\'').nth(3).unwrap());
                    prop_assert!(watch.world.moment.monotonic >= not_before, "{} came too soon", action);
                    taken.push(ladder[*step]);
                }
            }
        }
        (0..20).for_each(|_| come(&mut watch));
        let lowers = armed && taken.iter().any(|step| step.contains("lower"));
        let holds = watch.dispatcher.effects().processes().len();
        prop_assert!(lowers || holds == 0 || taken.iter().any(|step| step.contains("suspend")), "{:?}", taken);
        prop_assert_eq!(watch.closed(), vec![]);
        prop_assert!(watch.dispatcher.judge().cases().count() <= 1);
    }
}

/// What is under way comes to what was wanted.
fn come(watch: &mut Watch) {
    let Some(commission) = watch.under_way.first() else { return };
    let outcome = match &commission.order.act {
        Act::Lower { nice, .. } => lowered(*nice),
        Act::Suspend { length } => {
            watch.world.process(PID).state = State::Suspended;
            suspended(watch.world.moment, *length)
        }
        Act::Resume => {
            watch.world.process(PID).state = State::Running;
            Outcome::Resumed(None)
        }
        Act::Restore { .. } => Outcome::Restored(Restoring::default()),
        _ => Outcome::Refused("a test".to_owned()),
    };
    watch.came(outcome);
}
