//! One process and one machine as the values of their fields, and back.

use std::num::NonZeroU32;
use std::time::Duration;

use serde_json::{Map, Value, json};

use crate::facts::Facts;
use crate::model::{CpuSplit, DiskUse, Field, Machine, Origin, Process, Stall, State, Subject};
use crate::text;

/// What a recording holds of a process: not what follows from the rest (`id`, `cpu`, shares, sums, age), and not what is
/// only read on demand.
pub(super) const RECORDED: [Field; 22] = [
    Field::Parent,
    Field::Name,
    Field::App,
    Field::Path,
    Field::Command,
    Field::Owner,
    Field::Uid,
    Field::Session,
    Field::Tty,
    Field::Unit,
    Field::Origin,
    Field::Kernel,
    Field::State,
    Field::CpuTime,
    Field::Memory,
    Field::MemoryHeld,
    Field::MemorySwapped,
    Field::MemoryVirtual,
    Field::DiskRead,
    Field::DiskWrite,
    Field::Threads,
    Field::Nice,
];

/// Most disks of one sample that are taken from a recording.
const MOST_DISKS: usize = 1024;

/// The values of a process, with what has no field of its own.
pub(super) fn of_process(process: &Process, machine: &Machine) -> Map<String, Value> {
    let facts = Facts::new(process, machine);
    let mut row: Map<String, Value> = RECORDED
        .iter()
        .map(|field| (field.name().to_owned(), facts.reading(*field).map_or(Value::Null, |reading| reading.to_json())))
        .collect();
    let rate = |rate: Option<f32>| rate.map_or(Value::Null, |rate| f64::from((rate * 10.0).round() / 10.0).into());
    row.insert("waited".to_owned(), rate(process.waited));
    row.insert("faults".to_owned(), rate(process.faults));
    for flag in ["disk.read", "disk.write"] {
        if let Some(value) = row.get_mut(flag).filter(|value| value.is_number()) {
            *value = (value.as_f64().unwrap_or(0.0).round() as u64).into();
        }
    }
    row.insert("proven".to_owned(), (u8::from(process.app_proven) * 2 + u8::from(process.path_proven)).into());
    row.insert("ancestor".to_owned(), process.ancestor.map_or(Value::Null, |ancestor| ancestor.get().into()));
    row.insert("unread".to_owned(), process.app_unread.into());
    if process.app_unread {
        row.insert("app".to_owned(), process.app.clone().into());
    }
    row.insert("group".to_owned(), process.group.clone().map_or(Value::Null, Value::String));
    row
}

/// Whether that is so of nearly everybody, and left out where a process is new.
pub(super) fn goes_without_saying(key: &str, value: &Value) -> bool {
    matches!((key, value), ("ancestor", Value::Null) | ("unread", Value::Bool(false)))
}

/// The values of the machine.
pub(super) fn of_machine(machine: &Machine) -> Map<String, Value> {
    let nobody = Process::unread(crate::model::ProcessId { pid: 0, start: 0, boot: machine.boot });
    let facts = Facts::new(&nobody, machine);
    let recorded = Field::ALL.iter().filter(|field| {
        let follows = matches!(
            field,
            Field::Host
                | Field::MachineLoadCore
                | Field::MachineMemoryUsed
                | Field::MachineProcesses
                | Field::MachineUptime
        );
        field.info().subject == Subject::Machine && !follows
    });
    let mut row: Map<String, Value> =
        recorded.filter_map(|field| Some((field.name().to_owned(), facts.reading(*field)?.to_json()))).collect();
    let tenth = |share: f64| (share * 10.0).round() / 10.0;
    if let Some(split) = &machine.split {
        let parts = [split.user, split.nice, split.kernel, split.interrupts, split.stolen];
        row.insert("split".to_owned(), parts.map(tenth).to_vec().into());
    }
    for (key, count) in [("running", machine.running), ("blocked", machine.blocked)] {
        row.extend(count.map(|count| (key.to_owned(), count.into())));
    }
    if !machine.disks.is_empty() {
        let disk =
            |disk: &DiskUse| json!([disk.name, tenth(disk.busy), disk.answer.map(|answer| answer.as_secs_f64())]);
        row.insert("disks".to_owned(), machine.disks.iter().map(disk).collect());
    }
    row
}

/// Sets what a recording says of a process; keys that this version does not know are passed over.
pub(super) fn set_process(process: &mut Process, row: &Map<String, Value>) {
    for (key, value) in row {
        let words = || value.as_str().map(|text| text::clean(text.as_bytes()));
        let number = || value.as_u64();
        let small = || value.as_u64().and_then(|number| u32::try_from(number).ok());
        let rate = || value.as_f64().filter(|rate| rate.is_finite() && *rate >= 0.0).map(|rate| rate as f32);
        match key.as_str() {
            "parent" => process.parent = small().unwrap_or(0),
            "ancestor" => process.ancestor = small().and_then(NonZeroU32::new),
            "unread" => process.names_mut().app_unread = value.as_bool().unwrap_or(false),
            "uid" => process.uid = small().unwrap_or(u32::MAX),
            "session" => process.session = small().unwrap_or(0),
            "threads" => process.threads = small().unwrap_or(0),
            "nice" => {
                process.nice = value.as_i64().and_then(|nice| i32::try_from(nice).ok()).unwrap_or(0).clamp(-20, 19)
            }
            "kernel" => process.kernel = value.as_bool().unwrap_or(false),
            "state" => {
                process.state =
                    State::ALL.into_iter().find(|state| Some(state.word()) == value.as_str()).unwrap_or(State::Sleeping)
            }
            "cpu.time" => process.cpu_time = seconds(value).unwrap_or_default(),
            "memory" => process.memory = number(),
            "memory.held" => process.memory_held = number(),
            "memory.swapped" => process.memory_swapped = number(),
            "memory.virtual" => process.memory_virtual = number(),
            "disk.read" => process.disk_read = rate(),
            "disk.write" => process.disk_write = rate(),
            "waited" => process.waited = rate(),
            "faults" => process.faults = rate(),
            "name" => process.names_mut().name = words().unwrap_or_default(),
            "app" => process.names_mut().app = words().unwrap_or_default(),
            "owner" => process.names_mut().owner = words().unwrap_or_default(),
            "tty" => process.names_mut().tty = words().unwrap_or_default(),
            "path" => process.names_mut().path = words(),
            "command" => process.names_mut().command = words(),
            "group" => process.names_mut().group = words(),
            "unit" => process.names_mut().unit = words(),
            "origin" => {
                process.names_mut().origin =
                    Origin::ALL.into_iter().find(|origin| Some(origin.word()) == value.as_str())
            }
            "proven" => {
                let bits = value.as_u64().unwrap_or(0);
                (process.names_mut().app_proven, process.names_mut().path_proven) = (bits & 2 != 0, bits & 1 != 0);
            }
            _ => {}
        }
    }
}

/// Sets what a recording says of the machine.
pub(super) fn set_machine(machine: &mut Machine, row: &Map<String, Value>) {
    for (key, value) in row {
        let number = value.as_f64().filter(|number| number.is_finite());
        let size = value.as_u64();
        let small = || value.as_u64().and_then(|number| u32::try_from(number).ok());
        match key.as_str() {
            "split" => machine.split = split(value),
            "running" => machine.running = small(),
            "blocked" => machine.blocked = small(),
            "disks" => machine.disks = disks(value),
            _ => {}
        }
        let Some(field) = Field::named(key) else { continue };
        let load = machine.load.get_or_insert([0.0; 3]);
        match field {
            Field::MachineLoad1 => load[0] = number.unwrap_or(0.0),
            Field::MachineLoad5 => load[1] = number.unwrap_or(0.0),
            Field::MachineLoad15 => load[2] = number.unwrap_or(0.0),
            Field::MachineCpu => machine.cpu = number,
            Field::MachineCoreFullest => machine.core_fullest = number,
            Field::MachineCores => machine.cores = size.and_then(|cores| u32::try_from(cores).ok()).unwrap_or(1).max(1),
            Field::MachineIowait => machine.iowait = number,
            Field::MachineMemoryTotal => machine.memory_total = size.unwrap_or(0),
            Field::MachineMemoryAvailable => machine.memory_available = size,
            Field::MachineSwapUsed => machine.swap_used = size,
            Field::MachineSwapTraffic => machine.swap_traffic = number,
            Field::MachineStallCpu => machine.stall_cpu = number.map(stall),
            Field::MachineStallMemory => machine.stall_memory = number.map(stall),
            Field::MachineStallIo => machine.stall_io = number.map(stall),
            Field::MachineDiskBusy => machine.disk_busy = number,
            Field::MachineDiskAnswer => machine.disk_answer = seconds(value),
            Field::MachineFilesFull => machine.files_full = number,
            _ => {}
        }
    }
}

fn stall(ten_seconds: f64) -> Stall {
    Stall { ten_seconds, ..Stall::default() }
}

fn split(value: &Value) -> Option<CpuSplit> {
    let share = |at: usize| value.get(at)?.as_f64().filter(|share| (0.0..=100.0).contains(share));
    Some(CpuSplit { user: share(0)?, nice: share(1)?, kernel: share(2)?, interrupts: share(3)?, stolen: share(4)? })
}

fn disks(value: &Value) -> Vec<DiskUse> {
    let disk = |value: &Value| {
        let busy = value.get(1)?.as_f64().filter(|share| (0.0..=100.0).contains(share))?;
        let answer = value.get(2).and_then(seconds);
        Some(DiskUse { name: text::clean(value.get(0)?.as_str()?.as_bytes()), busy, answer })
    };
    value.as_array().into_iter().flatten().take(MOST_DISKS).filter_map(disk).collect()
}

fn seconds(value: &Value) -> Option<Duration> {
    let seconds = value.as_f64()?;
    Duration::try_from_secs_f64(seconds).ok().filter(|duration| duration.as_secs() < 100 * 365 * 86_400)
}
