//! What the run before has left open, and what the next one has to know.

use super::asking::Asked;
use super::{Command, Dispatcher};
use crate::happening::{Grounds, Happening, Next, Over, Subject, What};
use crate::model::{Boot, Moment};
use crate::open::{FORMAT, MOST, Open, OpenCase};
use crate::order::InOrder;
use crate::severity::Severity;

impl Dispatcher {
    /// How often something changed that the next run has to know.
    pub fn revision(&self) -> u64 {
        self.revision
    }

    /// What is open, for the next run.
    pub fn open(&self, now: Moment, boot: Boot) -> Open {
        let mut cases: Vec<OpenCase> = self.judge.open().collect();
        cases.order_by_key(|case| std::cmp::Reverse(case.number));
        cases.truncate(MOST);
        for case in &mut cases {
            case.asked = self.asks.cases.get(&case.number).and_then(|asked| asked.answers(now));
        }
        let stand_backs = self.stand_backs.clone();
        Open { format: FORMAT, boot: boot.to_string(), at: now.boottime, cases, stand_backs }
    }

    /// Goes on with what the run before has left open. What was in force has been put back since: a step that had an effect is
    /// taken once more, and what passed in between is a gap.
    pub(super) fn go_on_with(&mut self, now: Moment, open: &Open, boot: Boot) {
        let same = open.is_of(boot);
        let stand_backs = open.stand_backs.iter().cloned().filter_map(|one| one.in_this_boot(same, now));
        self.stand_backs = stand_backs.collect();
        for kept in open.cases.iter().filter(|_| open.counts(boot, now)) {
            if self.judge.restore(kept, boot, now) {
                if let Some(answers) = &kept.asked {
                    let asked = Asked::of(answers, now);
                    self.asks.cases.insert(kept.number, asked);
                    self.judge.wait(kept.number, asked.wait);
                }
                let members = self.judge.case(kept.number).map(|case| case.members.clone()).unwrap_or_default();
                for id in members {
                    if self.held.fix(&kept.rule.as_str().into(), id) {
                        self.out.push(Command::Fix(id));
                    }
                }
                continue;
            }
            let lead = kept.lead.as_ref().map(|lead| lead.process(boot));
            let grounds = Box::new(Grounds {
                severity: Severity::Notice,
                breach: String::new(),
                measure: None,
                disk: None,
                points: crate::judge::Points::new(),
            });
            self.tell(Happening {
                at: now.wall,
                rule: Some(kept.rule.as_str().into()),
                case: Some(kept.number),
                subject: lead.map_or(Subject::Machine, |lead| Subject::process(&lead)),
                what: What::Closed { why: Over::RuleGone, grounds },
                next: Next::Unsaid,
            });
        }
    }
}
