//! Files of /proc, as they may be on any kernel: figures, or none.

#![no_main]

use libfuzzer_sys::fuzz_target;
use sophron_linux::proc::{cgroup, locks, machine, stat, status};

fuzz_target!(|bytes: &[u8]| {
    let _ = stat::parse(bytes);
    let _ = status::parse_memory(bytes);
    let _ = status::parse_uid(bytes);
    let _ = status::parse_person(bytes);
    let _ = status::parse_pages(bytes);
    let _ = status::parse_rollup(bytes);
    let _ = status::parse_io(bytes);
    if let Some(path) = cgroup::parse_path(bytes) {
        let _ = (cgroup::unit(&path), cgroup::origin(&path));
    }
    if let Ok(text) = std::str::from_utf8(bytes) {
        let _ = locks::parse(text);
    }
    if let Some((times, cores)) = machine::parse_cpu(bytes) {
        for core in &cores {
            let _ = (times.since(core), core.since(&times));
        }
    }
    let _ = machine::parse_queues(bytes);
    let _ = machine::parse_memory(bytes);
    let _ = machine::parse_load(bytes);
    let _ = machine::parse_swapped(bytes);
    let _ = machine::parse_stall(bytes);
    let _ = machine::parse_disks(bytes);
    let _ = sophron_core::text::clean(bytes);
    let _ = sophron_core::text::command_line(bytes);
});
