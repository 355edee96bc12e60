//! By what a process can be made milder to the others here. Niceness acts only inside a scheduling group.

use std::fs;

use sophron_core::act::Lever;

use crate::cgroups;

/// The lever that works for a process.
pub fn lever(pid: u32) -> Lever {
    let place = cgroups::place(pid, "cpu").filter(|place| {
        let weight = if place.unified { "cpu.weight" } else { "cpu.shares" };
        place.group != "/" && place.folder.join(weight).exists()
    });
    if let Some(place) = place {
        return Lever::Weight { group: place.group, unified: place.unified };
    }
    let enabled = fs::read("/proc/sys/kernel/sched_autogroup_enabled").is_ok_and(|value| value.starts_with(b"1"));
    // `/autogroup-41 nice 0`; a process of the root's own group has none.
    let group = fs::read_to_string(format!("/proc/{pid}/autogroup")).ok().filter(|_| enabled);
    match group.as_deref().and_then(|line| line.split_whitespace().next()) {
        Some(group) if group.starts_with("/autogroup-") => {
            Lever::SessionGroup { group: sophron_core::text::clean(group.as_bytes()) }
        }
        _ => Lever::Nice,
    }
}
