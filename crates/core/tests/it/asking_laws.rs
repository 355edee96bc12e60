//! Whatever is answered, and whenever: never an act before the time for it is over, never a veto beyond `keep`, always an outcome.

use std::time::Duration;

use proptest::prelude::*;
use sophron_core::act::{Act, Ending, Outcome};
use sophron_core::answer::{Answer, Turn};
use sophron_core::dispatch::Input;
use sophron_core::happening::What;
use sophron_core::sorted::SortedMap;
use sophron_core::state::State;

use crate::asking::incoming;
use crate::script::{PID, rule, seconds};
use crate::watch::{Watch, suspended};

const ASK: u64 = 6;
const KEEP: u64 = 9;
const TIMES: u32 = 2;

#[derive(Debug, Clone)]
enum Next {
    /// A sample a second later, with so much held.
    Sample(u64),
    Pass,
    Shown(bool),
    /// An answer, to one of the latest questions, by that user.
    Answer(usize, usize, u32),
    Came(bool),
    Reborn,
}

fn next() -> impl Strategy<Value = Next> {
    prop_oneof![
        12 => prop_oneof![9 => Just(800_u64), 1 => Just(100), 1 => Just(1200)].prop_map(Next::Sample),
        1 => Just(Next::Pass),
        4 => prop::bool::weighted(0.8).prop_map(Next::Shown),
        2 => (0_usize..4, 0_usize..2, prop_oneof![4 => Just(1001_u32), 1 => Just(1002), 1 => Just(0)])
            .prop_map(|(which, back, uid)| Next::Answer(which, back, uid)),
        3 => any::<bool>().prop_map(Next::Came),
        1 => Just(Next::Reborn),
    ]
}

/// What is known of a question.
#[derive(Debug, Default, Clone)]
struct Asked {
    case: u64,
    put: Duration,
    shown: Option<Duration>,
    ends: u32,
    answered: Option<Answer>,
}

#[derive(Default)]
struct Laws {
    asked: SortedMap<u64, Asked>,
    /// Until when nothing may be done in a case, and how often that was had.
    kept: SortedMap<u64, (Duration, u32)>,
    suspended: SortedMap<u64, u32>,
}

impl Laws {
    fn look(&mut self, watch: &mut Watch, acts_before: usize) -> Result<(), TestCaseError> {
        let now = watch.world.moment.monotonic;
        for happening in std::mem::take(&mut watch.told) {
            let case = happening.case.unwrap_or_default();
            match happening.what {
                What::Asks(question, _) => {
                    self.asked.insert(question.number, Asked { case, put: now, ..Asked::default() });
                }
                What::Turned(question, turn) => {
                    let asked = self.asked.get_mut(&question.number).expect("what was asked");
                    asked.ends += u32::from(turn.is_the_end());
                    prop_assert!(asked.ends <= 1 || matches!(turn, Turn::TurnedDown(..)), "two outcomes");
                    match turn {
                        Turn::Shown(..) => asked.shown = Some(now),
                        Turn::Unanswered => {
                            prop_assert!(asked.shown.is_some_and(|shown| shown + seconds(ASK) <= now), "too early");
                        }
                        Turn::Answered(answered, _) => {
                            prop_assert!([0, question.person.0].contains(&answered.by.uid), "another's answer");
                            match answered.answer {
                                Answer::LetRun => {
                                    let kept = self.kept.entry(case).or_default();
                                    *kept = (now + seconds(KEEP), kept.1 + 1);
                                    prop_assert!(kept.1 <= TIMES, "a veto beyond `keep`");
                                }
                                Answer::Suspend => {
                                    let count = self.suspended.entry(case).or_default();
                                    *count += 1;
                                    prop_assert!(*count == 1, "suspended twice");
                                }
                                _ => {}
                            }
                            asked.answered = Some(answered.answer);
                        }
                        _ => {}
                    }
                }
                _ => {}
            }
        }
        for commission in watch.under_way.iter().skip(acts_before) {
            let (case, act) = (commission.case().unwrap_or_default(), &commission.order.act);
            if !matches!(act, Act::Terminate { .. }) {
                continue;
            }
            let (_, last) = self.asked.iter().rfind(|(_, asked)| asked.case == case).expect("asked before");
            let at_his_word = last.answered == Some(Answer::End);
            let unasked = last.ends == 1 && last.answered.is_none();
            prop_assert!(at_his_word || unasked, "an act while somebody is asked: {last:?}");
            let over = last.shown.is_none_or(|shown| shown + seconds(ASK) <= now);
            prop_assert!(at_his_word || over, "an act before the time is over: {last:?}");
            let kept = self.kept.get(&case).is_some_and(|(until, _)| now < *until);
            prop_assert!(at_his_word || !kept, "an act while it may run");
        }
        Ok(())
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]
    #[test]
    fn whatever_is_answered(steps in prop::collection::vec(next(), 1..200), leave in any::<bool>()) {
        let unasked = if leave { "leave" } else { "go on" };
        let mut watch = Watch::new(&rule(&format!(
            "lasting = '0s'\nunasked = '{unasked}'\nkeep = {{ for = '{KEEP}s', times = {TIMES} }}\nladder = [ {{ at = '0s', do = 'terminate', ask = '{ASK}s' }} ]"
        )));
        let mut laws = Laws::default();
        // For how long it was in breach without a gap, and nobody has had a hand in it.
        let mut waiting: Option<Duration> = None;
        for step in steps {
            let before = watch.under_way.len();
            match step {
                Next::Sample(held) => watch.ticks(1, held),
                Next::Pass => {
                    watch.world.pass(seconds(1));
                    watch.step(Input::Time);
                }
                Next::Shown(well) if !watch.asks.is_empty() => watch.shown(if well { Ok("at the desk") } else { Err("locked") }),
                Next::Answer(which, back, uid) if watch.asks.len() > back => {
                    let question = watch.asks[watch.asks.len() - 1 - back].question.number;
                    watch.step(Input::Answer(Box::new(incoming(Some(question), Answer::ALL[which].clone(), uid))));
                }
                Next::Came(well) if !watch.under_way.is_empty() => {
                    let now = watch.world.moment;
                    let act = watch.under_way[0].order.act.clone();
                    let outcome = match act {
                        Act::Suspend { .. } if well => {
                            watch.world.process(PID).state = State::Suspended;
                            suspended(now, seconds(3))
                        }
                        Act::Resume => {
                            watch.world.process(PID).state = State::Running;
                            Outcome::Resumed(Some(Duration::ZERO))
                        }
                        Act::Terminate { .. } if well => Outcome::Ended(Ending::default()),
                        _ => Outcome::Refused("a test".to_owned()),
                    };
                    let ended = matches!(outcome, Outcome::Ended(_));
                    let other = watch.under_way[0].target().is_some_and(|target| target.id != watch.world.processes[0].id);
                    watch.came(outcome);
                    if ended && !other {
                        watch.world.process(PID).id.start += 1;
                    }
                }
                Next::Reborn => {
                    watch.world.process(PID).id.start += 1;
                    watch.world.process(PID).state = State::Running;
                }
                _ => {}
            }
            let acts_before = before.min(watch.under_way.len());
            laws.look(&mut watch, acts_before)?;
            // Asked, in breach all the time, and nobody has done anything about it: done in its time.
            let open = laws.asked.values().next_back().filter(|asked| asked.ends == 0).map(|asked| asked.put);
            waiting = open.filter(|_| watch.dispatcher.breached().1.len() == 1).map(|put| waiting.unwrap_or(put).max(put));
            let now = watch.world.moment.monotonic;
            let late = waiting.is_some_and(|put| now > put + seconds(ASK + 5) + seconds(3) && matches!(step, Next::Sample(_)));
            prop_assert!(!late, "the act is held up: {:?}", laws.asked.values().next_back());
        }
        watch.step(Input::End);
        laws.look(&mut watch, usize::MAX)?;
        prop_assert!(laws.asked.values().all(|asked| asked.ends == 1), "a question without an outcome");
    }
}
