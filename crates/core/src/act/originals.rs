//! What a lowered process had before, so that it can be put back.

use serde::{Deserialize, Serialize};

/// What threads had before they were lowered: niceness, and I/O priority.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Default)]
pub struct Originals {
    /// What the main thread, and every thread not named below, had.
    pub was: i32,
    /// Threads that had another niceness: thread ID and what it had.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub others: Vec<(u32, i32)>,
    /// The I/O priority (ioprio_get(2)) that the main thread, and every thread not named below, had; `None` where it was
    /// not touched.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub disk: Option<u32>,
    /// Threads that had another I/O priority.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub disk_others: Vec<(u32, u32)>,
    /// The value of the session's scheduling group (`/proc/PID/autogroup`); `None` where it was not touched.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub session: Option<i32>,
    /// The runtime CPU weight of its unit; `None` where it was not touched.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weight: Option<UnitWeight>,
}

/// The CPU weight that a unit had before it was lowered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct UnitWeight {
    /// The unit.
    pub unit: String,
    /// Its control group.
    #[serde(default)]
    pub group: String,
    /// Whose service manager it belongs to; `None` for the machine's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub uid: Option<u32>,
    /// What it had, 1 to 10000; `None` where none was set.
    #[serde(default)]
    pub was: Option<u64>,
    /// What we set.
    pub set: u64,
}

impl UnitWeight {
    /// What a niceness comes to as a weight: each step gives a fifth less, from 100.
    pub fn of_nice(nice: i32) -> u64 {
        (100.0 / 1.25_f64.powi(nice)).round().max(1.0) as u64
    }
}

impl Originals {
    /// The I/O priority that a thread had.
    pub fn disk_of(&self, thread: u32) -> Option<u32> {
        let named = self.disk_others.iter().find(|(id, _)| *id == thread).map(|(_, value)| *value);
        self.disk.map(|was| named.unwrap_or(was))
    }

    /// A later, greater lowering of the same process: what was before the first stays what is put back, and what the
    /// later one has moved is remembered as moved.
    pub fn join(&mut self, later: &Originals) {
        self.session = self.session.or(later.session);
        match (&mut self.weight, &later.weight) {
            (Some(weight), Some(later)) => weight.set = later.set,
            (None, Some(later)) => self.weight = Some(later.clone()),
            (_, None) => {}
        }
    }

    /// Put back in part, to a niceness that is still wanted.
    pub(crate) fn step_back(&mut self, still: i32) {
        if let Some(weight) = &mut self.weight {
            weight.set = UnitWeight::of_nice(still);
        }
    }

    /// What that thread had.
    pub fn of(&self, thread: u32) -> i32 {
        self.others.iter().find(|(id, _)| *id == thread).map_or(self.was, |(_, nice)| *nice)
    }
}
