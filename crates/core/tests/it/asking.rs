//! Asking first: who is asked, what he may decide, and what becomes of it when he does not or cannot.

use std::sync::Arc;
use std::time::Duration;

use jiff::tz::TimeZone;
use sophron_core::act::{Act, Ending, Outcome};
use sophron_core::answer::{Answer, Answered, Answerer};
use sophron_core::dispatch::{Incoming, Input};
use sophron_core::happening::What;
use sophron_core::rules::{self, RuleSet};
use sophron_core::state::State;
use sophron_testkit::process;

use crate::happening::scribe;

use crate::script::{PID, load, rule, seconds};
use crate::watch::{Watch, suspended};

const KEEP: &str =
    "lasting = '0s'\nkeep = { for = '20s', times = 1 }\nladder = [ { at = '0s', do = 'terminate', ask = '10s' } ]\n";

pub fn incoming(question: Option<u64>, answer: Answer, uid: u32) -> Incoming {
    let by = Answerer { uid, over: format!("the bus of user {uid}"), session: None, locked: Some(false) };
    Incoming { ticket: 1, question, case: 1, answered: Answered { answer, by }, unsound: None }
}

impl Watch {
    fn asked(rules: &Arc<RuleSet>) -> Watch {
        let mut watch = Watch::new(rules);
        watch.ticks(1, 800);
        assert_eq!((watch.asks.len(), watch.acts()), (1, vec![]), "nothing is done before");
        watch
    }

    pub fn shown(&mut self, came: Result<&str, &str>) {
        let number = self.asks.last().expect("somebody is asked").question.number;
        self.step(Input::Shown(number, came.map(str::to_owned).map_err(str::to_owned)));
    }

    /// An answer of the person who was asked last, and what became of it.
    pub fn answer(&mut self, answer: Answer) -> Result<String, String> {
        let question = &self.asks.last().expect("somebody is asked").question;
        self.answer_of(incoming(Some(question.number), answer, question.person.0))
    }

    fn answer_of(&mut self, incoming: Incoming) -> Result<String, String> {
        self.step(Input::Answer(Box::new(incoming)));
        self.heard.pop().expect("whoever answers hears of it")
    }

    fn offers(&self) -> Vec<&str> {
        self.asks.last().map(|asking| asking.question.offers.iter().map(Answer::word).collect()).unwrap_or_default()
    }
}

#[test]
fn who_does_not_answer_is_not_waited_for_any_longer() {
    let mut watch = Watch::asked(&rule(KEEP));
    assert_eq!(watch.offers(), ["let-run", "suspend", "end"]);
    watch.ticks(2, 800);
    // The time begins when he sees it.
    watch.shown(Ok("at the desk"));
    watch.ticks(9, 800);
    assert!(watch.under_way.is_empty() && watch.asks.len() == 1, "asked once, and still asked");
    watch.ticks(1, 800);
    assert_eq!(watch.acts(), ["terminate"]);
    assert_eq!(watch.words(), ["breach", "asked", "shown", "no answer"]);
    assert_eq!(watch.answer(Answer::LetRun), Err("it came too late".to_owned()));
    watch.came(Outcome::Ended(Ending::default()));
    assert_eq!(watch.words(), ["refused", "ended"]);
}

/// Between the end of the time and the act it may be calm again: then nothing is done.
#[test]
fn a_question_is_off_when_its_case_is_over() {
    let mut watch = Watch::asked(&rule(KEEP));
    watch.shown(Ok("at the desk"));
    watch.ticks(4, 100);
    assert_eq!(watch.words(), ["breach", "asked", "shown", "easing", "withdrawn", "calm"]);
    assert_eq!(watch.answer(Answer::End), Err("it is asked no more".to_owned()));
    watch.ticks(20, 100);
    assert!(watch.under_way.is_empty());
}

#[test]
fn who_cannot_be_asked_is_as_the_rule_says() {
    let mut watch = Watch::asked(&rule(KEEP));
    watch.shown(Err("ines is not logged in at a desktop"));
    watch.ticks(1, 800);
    assert_eq!(watch.acts(), ["terminate"]);

    // Nobody has heard of it in five seconds: the same.
    let mut watch = Watch::asked(&rule(KEEP));
    watch.ticks(5, 800);
    assert_eq!(
        (watch.acts(), watch.words().last().map(String::as_str)),
        (vec!["terminate".to_owned()], Some("unasked"))
    );

    let mut watch = Watch::asked(&rule(&format!("unasked = 'leave'\n{KEEP}")));
    for (pause, asked) in [(5, 2), (10, 3), (20, 4)] {
        watch.shown(Err("the screen is locked"));
        watch.ticks(pause - 1, 800);
        assert_eq!(watch.asks.len(), asked - 1, "not within {pause} s");
        watch.ticks(2, 800);
        assert_eq!(watch.asks.len(), asked);
    }
    watch.shown(Ok("at the desk"));
    watch.ticks(10, 800);
    assert_eq!(watch.acts(), ["terminate"], "now he was asked");
}

/// He may let it run for a while, as often as the rule says, and no longer; reminders go on.
#[test]
fn it_may_be_kept_running_within_bounds() {
    let later =
        KEEP.replace("lasting = '0s'", "lasting = '2s'\nagain = { after = '5s' }").replace("at = '0s'", "at = '1s'");
    let mut watch = Watch::new(&rule(&later));
    watch.ticks(4, 800);
    drop(watch.words());
    watch.shown(Ok("at the desk"));
    assert_eq!(watch.answer(Answer::LetRun), Ok("it runs on until 07:30:24".to_owned()));
    watch.ticks(20, 800);
    assert!(watch.under_way.is_empty() && watch.asks.len() == 1);
    assert_eq!(watch.words(), ["shown", "answered", "reminder", "reminder", "reminder", "reminder"]);
    // The breach has to hold once more, and he is asked again; without that way out.
    watch.ticks(4, 800);
    assert_eq!((watch.asks.len(), watch.offers()), (2, vec!["suspend", "end"]));
    watch.shown(Ok("at the desk"));
    assert!(watch.answer(Answer::LetRun).is_err_and(|why| why.contains("suspend, end")));
    watch.ticks(11, 800);
    assert_eq!(watch.acts(), ["terminate"]);
}

/// What is answered is done by the same actuator, with an intent of its own; it is no veto, and once a case.
#[test]
fn an_answer_is_done_with_an_intent_of_its_own() {
    let mut watch = Watch::asked(&rule(KEEP));
    watch.shown(Ok("at the desk"));
    assert!(watch.answer(Answer::Suspend).is_ok());
    assert!(watch.answer(Answer::End).is_err_and(|why| why == "it was answered before"));
    watch.ticks(1, 800);
    assert_eq!(watch.acts(), ["suspend for 5m"]);
    let What::Announced(_, announced) = &watch.under_way[0].announced.what else { panic!("an intent") };
    assert_eq!((announced.step, announced.because.as_deref()), (None, Some("answered over the bus of user 1001")));
    let check = watch.under_way[0].check.as_ref().unwrap();
    assert_eq!((check.tick, check.wholly_of), (None, Some(1001)), "in breach or not, and only what is wholly his");
    let now = watch.world.moment;
    watch.world.process(PID).state = State::Suspended;
    watch.came(suspended(now, seconds(3)));
    watch.ticks(3, 800);
    watch.world.process(PID).state = State::Running;
    let Act::Resume = watch.came(Outcome::Resumed(Some(Duration::ZERO))) else { panic!("it goes on by itself") };
    watch.ticks(3, 800);
    assert_eq!(
        (watch.asks.len(), watch.offers()),
        (2, vec!["let-run", "end"]),
        "asked again, and suspended once a case"
    );
    watch.shown(Ok("at the desk"));
    assert_eq!(watch.answer(Answer::End).as_deref(), Ok("it is asked to end"), "{:?}", watch.words());
    watch.ticks(1, 100);
    assert_eq!(watch.acts(), ["terminate"], "it is his: in breach or not");
    watch.came(Outcome::Ended(Ending::default()));
    watch.world.processes.clear();
    watch.sample();
    assert!(watch.under_way.is_empty());
}

/// Nothing is done at another's word, at one that is unsound, nor of whoever has a number that was another's.
#[test]
fn an_answer_that_does_not_count_is_recorded_and_does_nothing() {
    let mut watch = Watch::asked(&rule(KEEP));
    watch.shown(Ok("at the desk"));
    assert!(watch.answer_of(incoming(None, Answer::End, 1002)).is_err_and(|why| why.contains("1002")));
    let forged =
        Incoming { unsound: Some("it came from another program".to_owned()), ..incoming(None, Answer::End, 1001) };
    assert!(watch.answer_of(forged).is_err());
    assert_eq!(watch.words(), ["breach", "asked", "shown", "refused", "refused"]);
    for _ in 0..100 {
        let _ = watch.answer_of(incoming(None, Answer::End, 1002));
    }
    assert_eq!(watch.words().len(), 6, "a flood of them is not recorded one by one");
    // Who may on this machine may answer for him.
    assert!(watch.answer_of(incoming(None, Answer::End, 0)).is_ok());
    watch.world.process(PID).id.start += 1;
    watch.sample();
    assert!(watch.under_way.is_empty(), "that process has ended");
    assert!(watch.words().contains(&"gone".to_owned()), "and that is told");
    assert!(
        watch
            .answer_of(Incoming { case: 77, ..incoming(None, Answer::End, 0) })
            .is_err_and(|why| why == "nothing is asked in case 77")
    );
}

/// Of a group he is asked once; one of several people is not asked for the others.
#[test]
fn a_group_is_asked_about_once() {
    let text = "[[rule]]\nname = 'bakers'\njudge = 'JUDGE'\nwhere = 'app = \"tilebaker\"'\nbreach = 'memory.held > 750 MiB'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'terminate', ask = '10s' } ]\n";
    let mut watch = Watch::new(&load(&text.replace("JUDGE", "app")));
    watch.world.processes = (10..13).map(|pid| process(pid, "tilebaker")).collect();
    watch.ticks(1, 800);
    assert_eq!((watch.asks.len(), watch.asks[0].concerned.len()), (1, 3));
    watch.shown(Ok("at the desk"));
    watch.ticks(10, 800);
    assert_eq!(watch.acts(), ["terminate", "terminate", "terminate"]);

    let mut watch = Watch::new(&load(&text.replace("JUDGE", "unit")));
    watch.world.processes = (10..12).map(|pid| process(pid, "tilebaker")).collect();
    for process in &mut watch.world.processes {
        process.names_mut().group = Some("/system.slice/bakery.service".to_owned());
    }
    watch.world.process(11).uid = 1002;
    watch.ticks(2, 800);
    assert_eq!((watch.asks.len(), watch.acts().len()), (0, 2));
    assert_eq!(watch.words(), ["breach", "asked", "unasked"]);
}

/// Nobody is asked about what would not be done: by a rule in shadow, beyond its budget, or on whoever is protected.
#[test]
fn nobody_is_asked_in_vain() {
    let shadow = KEEP.replace("lasting", "severity = 'notice'\nlasting");
    let text = format!(
        "[[rule]]\nname = 'press-leak'\nwhere = 'app = \"labelpress\"'\nbreach = 'memory.held > 750 MiB'\n{shadow}"
    );
    let mut watch = Watch::new(&load(&text));
    watch.ticks(3, 800);
    assert_eq!((watch.asks.len(), watch.verdicts()), (0, vec!["shadow"]));
    let mut watch = Watch::new(&load(&format!("[cap]\nacts = 0\n{text}armed = true\n")));
    watch.ticks(3, 800);
    assert_eq!((watch.asks.len(), watch.verdicts()), (0, vec!["capped"]));
}

/// What cannot be recorded is not asked, and not done for that either; and nobody has more than six questions before him.
#[test]
fn what_cannot_be_recorded_is_not_asked() {
    let mut watch = Watch::asked(&rule(KEEP));
    watch.step(Input::NotRecorded(watch.asks[0].question.number, "no space left".to_owned()));
    watch.ticks(4, 800);
    assert!(watch.under_way.is_empty() && watch.asks.len() == 1);
    watch.ticks(2, 800);
    assert_eq!((watch.asks.len(), watch.acts().len()), (2, 0), "asked once more");

    let mut watch = Watch::new(&rule(&KEEP.replace("ladder", "severity = 'notice'\nladder")));
    watch.world.processes = (10..18).map(|pid| process(pid, "labelpress")).collect();
    watch.ticks(1, 800);
    assert_eq!(watch.asks.len(), 6);
    watch.ticks(1, 800);
    assert_eq!(watch.acts(), ["terminate", "terminate"]);
}

/// The lines that people read, and what the record keeps of each.
#[test]
fn what_is_asked_is_told_and_recorded() {
    let mut watch = Watch::asked(&rule(KEEP));
    watch.shown(Ok("at the desk (session c1)"));
    let _ = watch.answer_of(incoming(None, Answer::End, 1002));
    watch.answer(Answer::LetRun).unwrap();
    watch.ticks(21, 800);
    watch.shown(Ok("at the desk"));
    watch.ticks(10, 800);
    watch.came(Outcome::Refused("a test".to_owned()));
    let mut other = Watch::asked(&rule(&format!("unasked = 'leave'\n{KEEP}")));
    other.shown(Err("the screen is locked".to_owned().as_str()));
    other.ticks(6, 800);
    other.ticks(3, 100);
    let told = watch.told.iter().chain(&other.told);
    let asked = told.filter(|happening| matches!(happening.what, What::Asks(..) | What::Turned(..)));
    let words = asked.filter_map(|happening| {
        let line = happening.line(&TimeZone::UTC)?;
        let record = scribe().record(happening)?;
        let answer =
            record.answer.map(|answer| format!(" {}", serde_json::to_string(&answer).unwrap())).unwrap_or_default();
        let action = serde_json::to_string(&record.action).unwrap();
        Some(format!("{}: {}\n  {} {} {action}{answer}", line.word, line.text, record.kind, record.result?.outcome))
    });
    insta::assert_snapshot!(words.collect::<Vec<_>>().join("\n"));
}

/// Where there is nobody to ask, the file says so, or `rules check` does.
#[test]
fn where_nobody_can_be_asked() {
    let load = |text: &str| rules::load(format!("format = 1\n{text}").as_bytes());
    let rule = |keys: &str| {
        format!("[[rule]]\nname = 'a'\nwhere = 'app = x'\nbreach = 'memory.held > 1 GiB'\nlasting = '1m'\n{keys}")
    };
    let step = "ladder = [ { at = '0s', do = 'alert' }, { at = '1m', do = 'terminate', ask = '60s' } ]\n";
    let errors = |keys: &str| {
        let rejected = load(&rule(keys)).expect_err("nobody can be asked");
        rejected.errors.into_iter().map(|error| error.title).collect::<Vec<_>>()
    };
    assert_eq!(
        errors(&format!("judge = 'machine'\npick = 'newest'\n{step}").replace("memory.held", "machine.load1"))
            .pop()
            .unwrap(),
        "a rule that judges the machine has no person to ask"
    );
    assert_eq!(
        errors(&step.replace("terminate", "alert")),
        ["`alert` does nothing to a program: there is nothing to ask about"]
    );
    assert_eq!(errors("keep = { for = '30m' }"), ["keep lacks `times`"]);
    assert_eq!(errors("unasked = 'wait'"), ["`wait` is no `unasked` of a rule"]);
    let warnings = |text: &str| {
        let rules = load(text).unwrap();
        let found = rules::review(&rules, None).into_iter().map(|warning| warning.what);
        found.filter(|what| what.contains("ask")).collect::<Vec<_>>()
    };
    let desk = "[[channel]]\nname = 'owner'\nto = 'desk'\n[[tell]]\nby = ['owner']\n";
    assert_eq!(warnings(&format!("{desk}{}", rule(step))), Vec::<String>::new());
    let critical = desk.replace("by =", "severity = 'critical'\nby =");
    assert_eq!(warnings(&format!("{critical}{}", rule(step))).len(), 1, "told of graver things only");
    let without = warnings(&rule(&format!("unasked = 'leave'\n{step}")));
    assert_eq!(
        without,
        ["it asks first, and no channel `desk` tells of it: nobody is asked, and the steps that ask are never taken"]
    );
    assert_eq!(
        warnings(&rule("keep = { for = '1h', times = 1 }")),
        ["`keep` says what becomes of asking, and none of its steps asks"]
    );
    let explained = rules::explain(
        &load(&rule(&format!("keep = {{ for = '30m', times = 2 }}\n{step}"))).unwrap().rules[0],
        &Default::default(),
    );
    let asked = explained.into_iter().find(|(word, _)| *word == "asked").unwrap().1;
    assert!(
        asked.contains("may let it run for 30m, 2 times a case") && asked.ends_with("the step is taken all the same"),
        "{asked}"
    );
}

/// A tree is asked about as a whole: suspended whole, ended without whoever of another user has joined it.
#[test]
fn a_tree_is_asked_about_as_a_whole() {
    let text = "[[rule]]\nname = 'bakers'\njudge = 'tree'\nwhere = 'app = \"tilebaker\"'\nbreach = 'memory.held > 750 MiB'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'terminate', ask = '10s' } ]\n";
    let below = |pid: u32, uid: u32| {
        let mut process = process(pid, "kneader");
        (process.parent, process.uid) = (10, uid);
        process
    };
    let bakery = || {
        let mut watch = Watch::new(&load(text));
        watch.world.processes = vec![process(10, "tilebaker"), below(11, 1001)];
        watch.ticks(1, 800);
        assert_eq!((watch.asks.len(), watch.asks[0].concerned.len()), (1, 2));
        watch.shown(Ok("at the desk"));
        watch
    };
    let mut watch = bakery();
    watch.answer(Answer::Suspend).unwrap();
    watch.ticks(1, 800);
    assert_eq!(watch.acts(), ["suspend for 5m", "suspend for 5m"]);

    let mut watch = bakery();
    watch.answer(Answer::End).unwrap();
    watch.world.processes.push(below(12, 1002));
    watch.ticks(1, 800);
    let whole = watch.under_way[0].order.whole.as_ref().unwrap();
    assert_eq!(whole.spared.get(&12).map(String::as_str), Some("it is another user's"));
    assert!(!whole.spared.contains_key(&11));
}

/// Whoever has questions put that he lets nobody show fills nothing.
#[test]
fn questions_without_end_are_not_put() {
    let mut watch = Watch::new(&rule(&format!("unasked = 'leave'\n{KEEP}")));
    watch.world.processes = (10..40).map(|pid| process(pid, "labelpress")).collect();
    let mut put = 0;
    for _ in 0..900 {
        watch.ticks(1, 800);
        for asking in watch.asks.split_off(put) {
            watch.step(Input::Shown(asking.question.number, Err("the screen is locked".to_owned())));
            put += 1;
            watch.asks.push(asking);
        }
    }
    assert!(watch.asks.len() <= 60 && watch.under_way.is_empty(), "{}", watch.asks.len());
    let recorded = watch.recorded.iter().filter(|happening| matches!(happening.what, What::Turned(..))).count();
    assert!(recorded <= 150, "{recorded} records");
}
