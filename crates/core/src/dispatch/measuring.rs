//! What a lowering did to the reading: looked at once the next whole interval is over.

use std::time::Duration;

use super::Dispatcher;
use crate::act::{Lever, Lowering, Only};
use crate::happening::{Effect, Happening, Look, Subject, What};
use crate::model::{Field, Process, Snapshot};

/// The effect is measured for at least that long.
const LEAST: Duration = Duration::from_secs(1);

/// A lowering whose effect is being measured.
#[derive(Debug)]
struct Due {
    case: u64,
    /// The process as it was judged, before.
    before: Process,
    whole_session: bool,
    lever: Lever,
    /// Over how long the reading before was taken.
    over: Duration,
    /// When it was first seen after the act, and the CPU time it had used by then.
    since: Option<(Duration, Duration)>,
}

/// Those that are being measured.
#[derive(Debug, Default)]
pub(super) struct Measuring(Vec<Due>);

impl Measuring {
    pub fn begin(&mut self, case: u64, before: Process, lowering: &Lowering, over: Duration) {
        let (whole_session, lever) = (lowering.originals.session.is_some(), lowering.lever.clone());
        self.0.push(Due { case, before, whole_session, lever, over, since: None });
    }
}

impl Dispatcher {
    pub(super) fn say_effects(&mut self, snapshot: &Snapshot) {
        let now = snapshot.moment.monotonic;
        for mut due in std::mem::take(&mut self.measuring.0) {
            let id = due.before.id;
            let Some(process) = snapshot.find(&id) else { continue };
            let Some(case) = self.judge.case(due.case) else { continue };
            // What is suspended meanwhile shows no effect of lowering.
            if self.effects.lowered_to(&id).is_none() || self.effects.suspension(&id).is_some() {
                continue;
            }
            let used = process.cpu_time;
            let (at, before) = *due.since.get_or_insert((now, used));
            if now.saturating_sub(at) < LEAST {
                self.measuring.0.push(due);
                continue;
            }
            let cpu = used.saturating_sub(before).as_secs_f64() / now.saturating_sub(at).as_secs_f64() * 100.0;
            // A rule on the disk wants to know what became of that.
            let on_disk = case.told_by.as_ref().is_some_and(|told_by| {
                matches!(told_by.quantity.field(), Field::Disk | Field::DiskRead | Field::DiskWrite)
            });
            let look = Look {
                before: &due.before,
                after: snapshot,
                cpu: Some(cpu),
                over: (due.over, now.saturating_sub(at)),
                only: if on_disk { Only::Disk } else { Only::Both },
                whole_session: due.whole_session,
                lever: &due.lever,
            };
            let effect = Effect::of(&look, |process| self.effects.lowered_to(&process.id).is_some());
            let happening = Happening::of_case(snapshot.moment.wall, case, What::Measured(effect));
            let happening = happening.on(Subject::one_of(case, process));
            self.tell(happening);
        }
    }
}
