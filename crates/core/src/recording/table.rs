//! What a recording holds of a process and of the machine: one table for both directions, so that what is written is what is
//! read. Not what follows from the rest (`id`, `cpu`, shares, sums, age), and not what is only read on demand.

use std::num::NonZeroU32;
use std::time::Duration;

use serde_json::{Value, json};

use super::LONGEST_TEXT;
use super::row::Row;
use crate::model::{Basis, CpuSplit, DiskUse, GroupUse, Machine, Origin, Passing, Process, Stall};
use crate::state::State;
use crate::text;

/// One key: how it is taken from a sample, and how it is set in one. Unknown is null, and null is unknown.
pub(super) struct Column<T> {
    /// As it stands in the recording: the field's name, where it is one.
    pub key: &'static str,
    get: fn(&T) -> Value,
    set: fn(&mut T, &Value),
}

/// Most disks of one sample that are taken from a recording.
const MOST_DISKS: usize = 1024;

/// Most control groups of one sample.
const MOST_GROUPS: usize = 4096;

/// Of a process.
pub(super) const PROCESS: [Column<Process>; 30] = [
    Column { key: "parent", get: |of| of.parent.into(), set: |of, value| of.parent = small(value).unwrap_or(0) },
    Column {
        key: "ancestor",
        get: |of| of.ancestor.map_or(Value::Null, |ancestor| ancestor.get().into()),
        set: |of, value| of.ancestor = small(value).and_then(NonZeroU32::new),
    },
    Column { key: "name", get: |of| text_of(&of.name), set: |of, value| of.names_mut().name = words(value) },
    Column { key: "app", get: |of| text_of(&of.app), set: |of, value| of.names_mut().app = words(value) },
    Column {
        key: "unread",
        get: |of| of.app_unread().into(),
        set: |of, value| {
            let unread = value.as_bool().unwrap_or(false);
            of.names_mut().app_rests_on = if unread { Basis::Unread } else { Basis::Claim };
        },
    },
    Column {
        key: "proven",
        get: |of| (u8::from(of.app_proven()) * 2 + u8::from(of.path_proven())).into(),
        set: |of, value| {
            let bits = value.as_u64().unwrap_or(0);
            let names = of.names_mut();
            names.path_rests_on = Basis::proven(bits & 1 != 0);
            if !names.app_unread() {
                names.app_rests_on = Basis::proven(bits & 2 != 0);
            }
        },
    },
    Column { key: "path", get: |of| maybe(&of.path), set: |of, value| of.names_mut().path = may_be(value) },
    Column { key: "command", get: |of| maybe(&of.command), set: |of, value| of.names_mut().command = may_be(value) },
    Column { key: "owner", get: |of| text_of(&of.owner), set: |of, value| of.names_mut().owner = words(value) },
    Column { key: "uid", get: |of| of.uid.into(), set: |of, value| of.uid = small(value).unwrap_or(u32::MAX) },
    Column { key: "person", get: |of| count(of.person), set: |of, value| of.names_mut().person = small(value) },
    Column { key: "session", get: |of| of.session.into(), set: |of, value| of.session = small(value).unwrap_or(0) },
    Column { key: "tty", get: |of| text_of(&of.tty), set: |of, value| of.names_mut().tty = words(value) },
    Column { key: "group", get: |of| maybe(&of.group), set: |of, value| of.names_mut().group = may_be(value) },
    Column { key: "unit", get: |of| maybe(&of.unit), set: |of, value| of.names_mut().unit = may_be(value) },
    Column {
        key: "origin",
        get: |of| of.origin.map_or(Value::Null, |origin| origin.word().into()),
        set: |of, value| {
            let origin = Origin::ALL.into_iter().find(|origin| Some(origin.word()) == value.as_str());
            of.names_mut().origin = origin;
        },
    },
    Column { key: "kernel", get: |of| of.kernel.into(), set: |of, value| of.kernel = value.as_bool().unwrap_or(false) },
    Column {
        key: "state",
        get: |of| of.state.word().into(),
        set: |of, value| {
            let state = State::ALL.into_iter().find(|state| Some(state.word()) == value.as_str());
            of.state = state.unwrap_or(State::Sleeping);
        },
    },
    Column {
        key: "cpu.time",
        get: |of| milliseconds(of.cpu_time),
        set: |of, value| of.cpu_time = seconds(value).unwrap_or_default(),
    },
    Column { key: "waited", get: |of| tenths(of.waited), set: |of, value| of.waited = rate(value) },
    Column { key: "memory", get: |of| size(of.memory), set: |of, value| of.memory = bytes(value) },
    Column { key: "memory.held", get: |of| size(of.memory_held), set: |of, value| of.memory_held = bytes(value) },
    Column { key: "memory.shared", get: |of| size(of.memory_shared), set: |of, value| of.memory_shared = bytes(value) },
    Column {
        key: "memory.swapped",
        get: |of| size(of.memory_swapped),
        set: |of, value| of.memory_swapped = bytes(value),
    },
    Column {
        key: "memory.virtual",
        get: |of| size(of.memory_virtual),
        set: |of, value| of.memory_virtual = value.as_u64(),
    },
    Column { key: "disk.read", get: |of| whole(of.disk_read), set: |of, value| of.disk_read = rate(value) },
    Column { key: "disk.write", get: |of| whole(of.disk_write), set: |of, value| of.disk_write = rate(value) },
    Column { key: "faults", get: |of| tenths(of.faults), set: |of, value| of.faults = rate(value) },
    Column { key: "threads", get: |of| of.threads.into(), set: |of, value| of.threads = small(value).unwrap_or(0) },
    Column {
        key: "nice",
        get: |of| of.nice.into(),
        set: |of, value| {
            let nice = value.as_i64().and_then(|nice| i32::try_from(nice).ok());
            of.nice = nice.unwrap_or(0).clamp(-20, 19);
        },
    },
];

/// Of the machine.
pub(super) const MACHINE: [Column<Machine>; 24] = [
    Column { key: "machine.cpu", get: |of| share(of.cpu), set: |of, value| of.cpu = number(value) },
    Column { key: "split", get: |of| of_split(of.split.as_ref()), set: |of, value| of.split = split(value) },
    Column {
        key: "machine.cpu.unseen",
        get: |of| share(of.cpu_unseen),
        set: |of, value| of.cpu_unseen = number(value),
    },
    Column { key: "groups", get: |of| of_groups(&of.groups), set: |of, value| of.groups = groups(value) },
    Column { key: "passing", get: |of| of_passing(&of.passing), set: |of, value| of.passing = passing(value) },
    Column {
        key: "machine.core.fullest",
        get: |of| share(of.core_fullest),
        set: |of, value| of.core_fullest = number(value),
    },
    Column {
        key: "machine.cores",
        get: |of| of.cores.into(),
        set: |of, value| of.cores = small(value).unwrap_or(1).max(1),
    },
    Column { key: "machine.iowait", get: |of| share(of.iowait), set: |of, value| of.iowait = number(value) },
    Column { key: "machine.load1", get: |of| load(of, 0), set: |of, value| set_load(of, 0, value) },
    Column { key: "machine.load5", get: |of| load(of, 1), set: |of, value| set_load(of, 1, value) },
    Column { key: "machine.load15", get: |of| load(of, 2), set: |of, value| set_load(of, 2, value) },
    Column { key: "running", get: |of| count(of.running), set: |of, value| of.running = small(value) },
    Column { key: "blocked", get: |of| count(of.blocked), set: |of, value| of.blocked = small(value) },
    Column {
        key: "machine.memory.total",
        get: |of| of.memory_total.into(),
        set: |of, value| of.memory_total = bytes(value).unwrap_or(0),
    },
    Column {
        key: "machine.memory.available",
        get: |of| size(of.memory_available),
        set: |of, value| of.memory_available = bytes(value),
    },
    Column { key: "machine.swap.used", get: |of| size(of.swap_used), set: |of, value| of.swap_used = bytes(value) },
    Column {
        key: "machine.swap.traffic",
        get: |of| share(of.swap_traffic),
        set: |of, value| of.swap_traffic = number(value),
    },
    Column { key: "machine.stall.cpu", get: |of| ten(of.stall_cpu), set: |of, value| of.stall_cpu = stall(value) },
    Column {
        key: "machine.stall.memory",
        get: |of| ten(of.stall_memory),
        set: |of, value| of.stall_memory = stall(value),
    },
    Column { key: "machine.stall.io", get: |of| ten(of.stall_io), set: |of, value| of.stall_io = stall(value) },
    Column { key: "machine.disk.busy", get: |of| share(of.disk_busy), set: |of, value| of.disk_busy = number(value) },
    Column {
        key: "machine.disk.answer",
        get: |of| of.disk_answer.map_or(Value::Null, milliseconds),
        set: |of, value| of.disk_answer = seconds(value),
    },
    Column { key: "disks", get: |of| of_disks(&of.disks), set: |of, value| of.disks = disks(value) },
    Column {
        key: "machine.files.full",
        get: |of| share(of.files_full),
        set: |of, value| of.files_full = number(value),
    },
];

/// All that is held of it, in the order of the table.
pub(super) fn row<T>(table: &[Column<T>], of: &T) -> Row<'static> {
    table.iter().map(|column| (column.key, (column.get)(of))).collect()
}

/// Sets what a recording says; keys that this version does not know are passed over.
pub(super) fn set<T>(table: &[Column<T>], of: &mut T, row: &Row<'_>) {
    // A row tells of few keys, each by a bit of its place; they are set in the order of the table, in which they mostly come.
    let (mut told, mut from) = (0_u64, 0);
    for key in row.keys() {
        let here = table[from..].iter().position(|column| column.key == key).map(|place| from + place);
        if let Some(place) = here.or_else(|| table[..from].iter().position(|column| column.key == key)) {
            told |= 1 << place;
            from = place + 1;
        }
    }
    while let Some(column) = table.get(told.trailing_zeros() as usize) {
        told &= told - 1;
        if let Some(value) = row.get(column.key) {
            (column.set)(of, value);
        }
    }
}

const _: () = assert!(PROCESS.len() < 64 && MACHINE.len() < 64, "a place is a bit");

/// Whether that is so of nearly everybody, and left out where a process is new.
pub(super) fn goes_without_saying(key: &str, value: &Value) -> bool {
    matches!((key, value), ("ancestor" | "person", Value::Null) | ("unread", Value::Bool(false)))
}

fn text_of(text: &str) -> Value {
    text.into()
}

fn maybe(text: &Option<String>) -> Value {
    text.as_deref().map_or(Value::Null, Value::from)
}

fn may_be(value: &Value) -> Option<String> {
    value.as_str().map(|text| text::clean(text.as_bytes().get(..LONGEST_TEXT).unwrap_or(text.as_bytes())))
}

fn words(value: &Value) -> String {
    may_be(value).unwrap_or_default()
}

fn small(value: &Value) -> Option<u32> {
    value.as_u64().and_then(|number| u32::try_from(number).ok())
}

fn number(value: &Value) -> Option<f64> {
    value.as_f64().filter(|number| number.abs() <= LARGEST)
}

/// No machine has more, and the sum of all processes is a number still.
fn bytes(value: &Value) -> Option<u64> {
    value.as_u64().filter(|bytes| *bytes < 1 << 45)
}

fn rate(value: &Value) -> Option<f32> {
    number(value).filter(|rate| *rate >= 0.0).map(|rate| rate as f32)
}

fn seconds(value: &Value) -> Option<Duration> {
    let seconds = value.as_f64()?;
    Duration::try_from_secs_f64(seconds).ok().filter(|duration| duration.as_secs() < 100 * 365 * 86_400)
}

fn size(bytes: Option<u64>) -> Value {
    bytes.map_or(Value::Null, Value::from)
}

fn count(count: Option<u32>) -> Value {
    count.map_or(Value::Null, Value::from)
}

/// No figure of a machine is greater: beyond it sums and products would not be figures any more.
const LARGEST: f64 = 1e15;

/// To a thousandth.
fn share(share: Option<f64>) -> Value {
    share.map_or(Value::Null, |share| ((share * 1000.0).round() / 1000.0).into())
}

fn tenth(number: f64) -> f64 {
    (number * 10.0).round() / 10.0
}

fn tenths(rate: Option<f32>) -> Value {
    rate.map_or(Value::Null, |rate| f64::from((rate * 10.0).round() / 10.0).into())
}

fn whole(rate: Option<f32>) -> Value {
    rate.map_or(Value::Null, |rate| (rate.round() as u64).into())
}

fn milliseconds(time: Duration) -> Value {
    (time.as_millis() as f64 / 1000.0).into()
}

fn ten(stall: Option<Stall>) -> Value {
    share(stall.map(|stall| stall.ten_seconds))
}

fn stall(value: &Value) -> Option<Stall> {
    number(value).map(|ten_seconds| Stall { ten_seconds, ..Stall::default() })
}

fn load(of: &Machine, which: usize) -> Value {
    let load = of.load.map_or(Value::Null, |load| load[which].into());
    // Whole numbers are written as such.
    match load.as_f64() {
        Some(number) if number.fract() == 0.0 => (number as i64).into(),
        _ => load,
    }
}

/// A load that is not known has none of the three.
fn set_load(of: &mut Machine, which: usize, value: &Value) {
    match number(value) {
        Some(load) => of.load.get_or_insert([0.0; 3])[which] = load,
        None => of.load = None,
    }
}

fn of_split(split: Option<&CpuSplit>) -> Value {
    split.map_or(Value::Null, |split| {
        [split.user, split.nice, split.kernel, split.interrupts, split.stolen].map(tenth).to_vec().into()
    })
}

fn split(value: &Value) -> Option<CpuSplit> {
    let share = |at: usize| value.get(at)?.as_f64().filter(|share| (0.0..=100.0).contains(share));
    Some(CpuSplit { user: share(0)?, nice: share(1)?, kernel: share(2)?, interrupts: share(3)?, stolen: share(4)? })
}

fn of_groups(groups: &[GroupUse]) -> Value {
    if groups.is_empty() {
        return Value::Null;
    }
    groups.iter().map(|of| json!([of.group, of.cpu])).collect()
}

fn groups(value: &Value) -> Vec<GroupUse> {
    let group = |value: &Value| {
        let cpu = value.get(1)?.as_f64().filter(|cpu| (0.0..=LARGEST).contains(cpu))?;
        Some(GroupUse { group: words(value.get(0)?), cpu })
    };
    value.as_array().into_iter().flatten().take(MOST_GROUPS).filter_map(group).collect()
}

fn of_passing(passing: &[Passing]) -> Value {
    if passing.is_empty() {
        return Value::Null;
    }
    passing.iter().map(|of| json!([of.owner, of.uid, of.name, of.count, of.cpu])).collect()
}

fn passing(value: &Value) -> Vec<Passing> {
    let passing = |value: &Value| {
        Some(Passing {
            owner: words(value.get(0)?),
            uid: small(value.get(1)?)?,
            name: words(value.get(2)?),
            count: small(value.get(3)?)?,
            cpu: value.get(4)?.as_f64().filter(|cpu| (0.0..=LARGEST).contains(cpu))?,
        })
    };
    value.as_array().into_iter().flatten().take(MOST_GROUPS).filter_map(passing).collect()
}

fn of_disks(disks: &[DiskUse]) -> Value {
    if disks.is_empty() {
        return Value::Null;
    }
    let disk = |disk: &DiskUse| json!([disk.name, tenth(disk.busy), disk.answer.map(|answer| answer.as_secs_f64())]);
    disks.iter().map(disk).collect()
}

fn disks(value: &Value) -> Vec<DiskUse> {
    let disk = |value: &Value| {
        let busy = value.get(1)?.as_f64().filter(|share| (0.0..=100.0).contains(share))?;
        let answer = value.get(2).and_then(seconds);
        Some(DiskUse { name: words(value.get(0)?), busy, answer })
    };
    value.as_array().into_iter().flatten().take(MOST_DISKS).filter_map(disk).collect()
}
