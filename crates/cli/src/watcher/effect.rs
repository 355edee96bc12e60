//! What a lowering did to the reading: looked at once the next whole interval is over.

use std::time::Duration;

use sophron_core::audit::{ActionRecord, Kind};
use sophron_core::model::{Process, Snapshot};
use sophron_linux::act::Only;

use super::Watcher;
use super::drafts::DraftExt;
use crate::lowering::effect::{Measured, words};
use crate::ui::style::Label;

/// A lowering whose effect is being measured.
pub struct Due {
    pub case: u64,
    /// The process as it was judged, before.
    pub before: Process,
    pub whole_session: bool,
    /// Over how long the reading before was taken.
    pub over: Duration,
    /// When it was first seen after the act, and the CPU time it had used by then.
    pub since: Option<(Duration, Duration)>,
}

/// The effect is measured for at least that long.
const LEAST: Duration = Duration::from_secs(1);

impl Watcher<'_> {
    pub(super) fn say_effects(&mut self, snapshot: &Snapshot) {
        let now = snapshot.moment.monotonic;
        for mut due in std::mem::take(&mut self.effects_due) {
            let id = due.before.id;
            let Some(process) = snapshot.process(id.pid).filter(|now| now.id == id) else { continue };
            let Some(case) = self.judge.case(due.case).cloned() else { continue };
            // What is suspended meanwhile shows no effect of lowering.
            if self.effects.lowered_to(&id).is_none() || self.effects.suspension(&id).is_some() {
                continue;
            }
            let used = process.cpu_time;
            let (at, before) = *due.since.get_or_insert((now, used));
            if now.saturating_sub(at) < LEAST {
                self.effects_due.push(due);
                continue;
            }
            let cpu = used.saturating_sub(before).as_secs_f64() / now.saturating_sub(at).as_secs_f64() * 100.0;
            let measured = Measured {
                before: &due.before,
                after: snapshot,
                cpu: Some(cpu),
                over: (due.over, now.saturating_sub(at)),
                only: Only::Both,
                whole_session: due.whole_session,
            };
            let seen = words(&measured, |process| self.effects.lowered_to(&process.id).is_some());
            let draft = self.drafter.of_case(Kind::Effect, &case, self.judge.rule_of(&case));
            self.recorder.note(draft.doing(ActionRecord::word("lower")).came_of_it("effect", seen.clone()));
            self.tell("effect", Label::Faint, Some(due.case), due.before.label(), seen);
        }
    }
}
