//! Control groups: where their files are, and what they allow (cgroups(7)). Old, mixed and unified hierarchies.

use std::fs;
use std::path::{Path, PathBuf};

use sophron_core::checkup::GroupMemory;
use sophron_core::text;

/// Where a process's group stands, for one controller.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    /// The group's path, as `/system.slice/sheetlamp.service`.
    pub group: String,
    /// Its folder.
    pub folder: PathBuf,
    /// Whether it is in the unified hierarchy.
    pub unified: bool,
}

/// The group of a process by which the controller (`memory`, `cpu`) acts on it; `None` where none does.
pub fn place(pid: u32, controller: &str) -> Option<Place> {
    let groups = fs::read_to_string(format!("/proc/{pid}/cgroup")).ok()?;
    let mounts = fs::read_to_string("/proc/self/mountinfo").ok()?;
    place_in(&groups, &mounts, controller)
}

/// Whether a process is held with its control group, in the unified hierarchy (`cgroup.events`) or the older freezer
/// (`freezer.state`).
pub fn is_frozen(pid: u32) -> bool {
    let frozen = || {
        let groups = fs::read_to_string(format!("/proc/{pid}/cgroup")).ok()?;
        let mounts = fs::read_to_string("/proc/self/mountinfo").ok()?;
        let unified = groups.lines().find_map(|line| line.strip_prefix("0::"));
        let unified = unified.and_then(|path| below(&mounts, path, None));
        let events = unified.and_then(|place| fs::read_to_string(place.folder.join("cgroup.events")).ok());
        if events.is_some_and(|events| events.lines().any(|line| line == "frozen 1")) {
            return Some(true);
        }
        let freezer = place_in(&groups, &mounts, "freezer").filter(|place| !place.unified)?;
        let state = fs::read_to_string(freezer.folder.join("freezer.state")).ok()?;
        Some(state.trim() != "THAWED")
    };
    frozen().unwrap_or(false)
}

fn place_in(groups: &str, mounts: &str, controller: &str) -> Option<Place> {
    let mut unified = None;
    for line in groups.lines() {
        let mut fields = line.splitn(3, ':');
        let (_, controllers, path) = (fields.next()?, fields.next()?, fields.next()?);
        if controllers.is_empty() {
            unified = Some(path);
        } else if controllers.split(',').any(|name| name == controller) {
            return below(mounts, path, Some(controller));
        }
    }
    below(mounts, unified?, None)
}

/// A group of the hierarchy of a controller, or of the unified one.
fn below(mounts: &str, path: &str, controller: Option<&str>) -> Option<Place> {
    at(mounts, path, controller.is_none(), |kind, options| match controller {
        None => kind == "cgroup2",
        Some(controller) => kind == "cgroup" && options.split(',').any(|name| name == controller),
    })
}

fn at(mounts: &str, path: &str, unified: bool, is_it: impl Fn(&str, &str) -> bool) -> Option<Place> {
    mounts.lines().find_map(|line| {
        let (before, after) = line.split_once(" - ")?;
        let mut fields = after.split(' ');
        let (kind, options) = (fields.next()?, fields.nth(1)?);
        if !is_it(kind, options) {
            return None;
        }
        let mut before = before.split(' ');
        let (root, point) = (before.nth(3)?, before.next()?);
        // In a container the mount shows a part of the tree only.
        let below = path.strip_prefix(root).unwrap_or(path).trim_start_matches('/');
        Some(Place { group: text::clean(path.as_bytes()), folder: Path::new(point).join(below), unified })
    })
}

/// Where the hierarchy of a controller is mounted, or the unified one, with its root group.
pub(crate) fn root_of(mounts: &str, controller: Option<&str>) -> Option<PathBuf> {
    below(mounts, "/", controller).map(|place| place.folder)
}

/// The memory limit that binds a process, of its group or of one above it, with what that group uses. `None` where none
/// binds.
pub fn memory(pid: u32) -> Option<GroupMemory> {
    let place = place(pid, "memory")?;
    let (limit_file, use_file) = if place.unified {
        ("memory.max", "memory.current")
    } else {
        ("memory.limit_in_bytes", "memory.usage_in_bytes")
    };
    let number = |folder: &Path, file: &str| fs::read_to_string(folder.join(file)).ok()?.trim().parse::<u64>().ok();
    let mut folder = place.folder.as_path();
    let mut group = place.group.as_str();
    let mut tightest: Option<GroupMemory> = None;
    loop {
        // The older hierarchy writes no limit as nearly 2^63.
        let limit = number(folder, limit_file).filter(|limit| *limit < 1 << 60);
        if let Some((limit, used)) = limit.zip(number(folder, use_file)) {
            let left = |of: &GroupMemory| of.limit.saturating_sub(of.used);
            if tightest.as_ref().is_none_or(|tightest| limit.saturating_sub(used) < left(tightest)) {
                tightest = Some(GroupMemory { group: group.to_owned(), limit, used, members: vec![pid] });
            }
        }
        match (folder.parent(), group.rsplit_once('/')) {
            (Some(above), Some((above_group, _))) if !above_group.is_empty() => (folder, group) = (above, above_group),
            _ => return tightest,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const OLD: &str = "35 34 0:30 / /sys/fs/cgroup/memory rw - cgroup cgroup rw,memory\n36 34 0:31 / /sys/fs/cgroup/cpu rw - cgroup cgroup rw,cpu\n";
    const NEW: &str = "29 23 0:26 / /sys/fs/cgroup rw,nosuid shared:4 - cgroup2 cgroup2 rw,nsdelegate\n";

    #[test]
    fn the_folder_of_a_group_in_both_hierarchies() {
        let old = place_in("4:memory:/press\n1:cpu:/\n0::/\n", OLD, "memory").unwrap();
        assert_eq!((old.folder.to_str(), old.unified), (Some("/sys/fs/cgroup/memory/press"), false));
        let new = place_in("0::/system.slice/sheetlamp.service\n", NEW, "memory").unwrap();
        assert_eq!(new.folder.to_str(), Some("/sys/fs/cgroup/system.slice/sheetlamp.service"));
        assert!(new.unified);
        assert_eq!(place_in("4:memory:/press\n", "", "memory"), None);
    }
}
