//! The CPU clocks of control groups: what processes used that ended before they were seen is in them (cgroups(7)).

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use sophron_core::model::{GroupUse, Process, slice_of};

use crate::cgroups;
use crate::here;
use crate::proc::number;

/// Most groups that are read in one sample.
const MOST_GROUPS: usize = 4096;

/// What is known of the groups from one sample to the next.
#[derive(Debug)]
pub(super) struct GroupClocks {
    /// Where the unified hierarchy and that of `cpuacct` are mounted.
    unified: Option<PathBuf>,
    accounted: Option<PathBuf>,
    /// CPU time used, and when that was read, nanoseconds.
    before: BTreeMap<String, (u64, u64)>,
}

impl GroupClocks {
    /// Of the machine whose /proc that is.
    pub fn new(root: &Path) -> GroupClocks {
        let mounts = fs::read_to_string(root.join("self/mountinfo")).unwrap_or_default();
        let of = |controller| cgroups::root_of(&mounts, controller);
        GroupClocks { unified: of(None), accounted: of(Some("cpuacct")), before: BTreeMap::new() }
    }

    /// The CPU since the sample before of every group with a process in it, and of the slices of their owners.
    pub fn read(&mut self, processes: &[Process]) -> Vec<GroupUse> {
        let mut paths: BTreeSet<&str> = BTreeSet::new();
        let mut owners: BTreeSet<u32> = BTreeSet::new();
        for process in processes.iter().filter(|process| !process.kernel) {
            paths.extend(process.group.as_deref().filter(|group| group.len() > 1));
            owners.insert(process.person());
        }
        let slices: Vec<String> = owners.into_iter().map(slice_of).collect();
        paths.extend(slices.iter().map(String::as_str));
        let mut now = BTreeMap::new();
        let mut used = Vec::new();
        for path in paths.into_iter().take(MOST_GROUPS) {
            let Some(clock) = self.clock(path) else { continue };
            let at = here::monotonic().as_nanos() as u64;
            if let Some((before, then)) = self.before.get(path)
                && at > *then
            {
                let cpu = clock.saturating_sub(*before) as f64 * 100.0 / (at - then) as f64;
                // As a recording keeps it: it is judged by the same figure then.
                let cpu = (cpu * 10.0).round() / 10.0;
                if cpu > 0.0 {
                    used.push(GroupUse { group: path.to_owned(), cpu });
                }
            }
            now.insert(path.to_owned(), (clock, at));
        }
        self.before = now;
        used
    }

    /// CPU time that a group has used, nanoseconds.
    fn clock(&self, path: &str) -> Option<u64> {
        let below = path.trim_start_matches('/');
        if below.split('/').any(|part| part == "..") {
            return None;
        }
        let unified = self.unified.as_ref().and_then(|root| fs::read(root.join(below).join("cpu.stat")).ok());
        let microseconds = unified.as_deref().and_then(|stat| {
            let mut lines = stat.split(|byte| *byte == b'\n');
            number::<u64>(lines.find_map(|line| line.strip_prefix(b"usage_usec "))?)
        });
        let of_unified = microseconds.map(|microseconds| microseconds * 1000);
        of_unified.or_else(|| {
            let accounted = fs::read(self.accounted.as_ref()?.join(below).join("cpuacct.usage")).ok()?;
            number(&accounted)
        })
    }
}
