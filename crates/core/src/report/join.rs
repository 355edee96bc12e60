//! Parts of a stretch of time that were gone through beside each other, put together.

use super::collect::{Collector, DIP, GAP, Run, Window};
use crate::usage::Row;

impl Collector {
    /// With what another one has seen afterwards, which began with the last sample of this one, or after a gap.
    #[must_use]
    pub fn and(mut self, mut later: Collector) -> Collector {
        self.close_window();
        later.close_window();
        let (Some((last, _)), Some(first)) = (self.last, later.first) else {
            return if self.first.is_some() { self } else { later };
        };
        if first.duration_since(last.wall) > GAP {
            self.gaps.push((last.wall, first));
        }
        let mut windows = std::mem::take(&mut self.windows);
        windows.append(&mut later.windows);
        later.windows = joined(windows);
        for (at, minute) in std::mem::take(&mut self.minutes) {
            later.minutes.entry(at).or_default().join(&minute);
        }
        for (earlier, later) in self.runs.iter_mut().zip(&mut later.runs) {
            let mut runs: Vec<Run> = std::mem::take(earlier);
            for run in later.drain(..) {
                match runs.last_mut().filter(|(_, until)| run.0.duration_since(*until) <= DIP) {
                    Some((_, until)) => *until = run.1.max(*until),
                    None => runs.push(run),
                }
            }
            *later = runs;
        }
        let rows = |of: &mut Collector| std::mem::take(&mut of.earlier).into_iter().chain(of.tally.rows()).collect();
        let mut all: Vec<Row> = rows(&mut self);
        all.append(&mut later.earlier);
        later.earlier = all;
        later.heights.join(self.heights);
        let before = |earlier: Vec<Run>, later: &mut Vec<Run>| {
            let after = std::mem::replace(later, earlier);
            later.extend(after);
        };
        before(self.naps, &mut later.naps);
        before(self.gaps, &mut later.gaps);
        let unread = self.unread.into_iter().filter(|line| !later.unread.contains(line)).collect::<Vec<_>>();
        later.unread.extend(unread);
        later.first = self.first.min(later.first).or(self.first);
        later.latest = self.latest.max(later.latest);
        // The last one of this is the first one of that.
        later.samples += self.samples - u64::from(first == last.wall);
        later
    }
}

/// A window in which one part ended and the next began is one.
fn joined(windows: Vec<Window>) -> Vec<Window> {
    let mut joined: Vec<Window> = Vec::new();
    for window in windows {
        match joined.last_mut().filter(|last| last.start == window.start) {
            Some(last) => {
                last.until = last.until.max(window.until);
                last.seen += window.seen;
                last.felt = last.felt.max(window.felt);
                last.findings.extend(window.findings);
            }
            None => joined.push(window),
        }
    }
    joined
}

/// Rows of the same stretch are one.
pub(super) fn rows(all: Vec<Row>) -> Vec<Row> {
    let mut rows = std::collections::BTreeMap::new();
    for row in all {
        let known: Option<Row> = rows.remove(&row.start);
        rows.insert(row.start, known.map_or_else(|| row.clone(), |known| known.and(&row)));
    }
    rows.into_values().collect()
}
