//! What every act hangs on, as it stands now: asked before each signal, since between a decision and its last signal rules are changed,
//! somebody has them stand back, or what breached is calm again.

use std::sync::Arc;
use std::time::Duration;

use super::Dispatcher;
use crate::judge::Choice;
use crate::protect::Protections;
use crate::rules::RuleSet;
use crate::sorted::SortedSet;
use crate::stand_back::StandsBack;

/// By whose leave something is done: as it is after the dispatcher's last step.
#[derive(Debug, Clone, Default)]
pub struct Leave {
    /// The latest tick.
    pub tick: u64,
    /// The cases that were in breach at it, and from which rules did not stand back.
    pub breached: SortedSet<u64>,
    /// All open cases, with whom of several their steps act on.
    pub open: Vec<(u64, Choice)>,
    /// The rules; none where nothing is under way.
    pub rules: Option<Arc<RuleSet>>,
    /// Whom no rule may act on.
    pub protections: Protections,
    /// From whom rules stand back, by somebody's word or since a hand was at work.
    pub back: StandsBack,
    /// Why nothing is done at all.
    pub barred: Option<String>,
}

impl Dispatcher {
    /// By whose leave what is under way goes on. Nobody asks where nothing is.
    pub fn leave_now(&self) -> Leave {
        if self.acting.is_empty() {
            return Leave { tick: self.ticks, ..Leave::default() };
        }
        let mut back = StandsBack::of(&self.stand_backs, self.now);
        back.processes.extend(self.hands.standing_back().map(|id| (id, Duration::MAX)));
        let (tick, breached) = self.breached();
        let ending = self.ending.has_begun().then(|| "the watcher is ending".to_owned());
        Leave {
            tick,
            breached,
            open: self.judge.cases().map(|case| (case.number, case.ladder.choice)).collect(),
            rules: Some(Arc::clone(&self.rules)),
            protections: self.protections.clone(),
            back,
            barred: ending.or_else(|| self.disarmed()),
        }
    }
}
