//! The table of fields: one name for one quantity, for conditions, columns and machine formats alike.

use std::fmt;

use super::{Machine, Process};
use crate::units::{Kind, Value};

/// What a field describes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Subject {
    /// One process.
    Process,
    /// The machine.
    Machine,
}

/// What can be said of a field without a reading.
#[derive(Debug, Clone, Copy)]
pub struct FieldInfo {
    /// Its name, the same everywhere.
    pub name: &'static str,
    /// What kind of quantity it is.
    pub kind: Kind,
    /// Whom it describes.
    pub subject: Subject,
    /// Whether it is a rate over the interval, and so unknown at a first sample.
    pub rate: bool,
    /// What it means and where it is read.
    pub meaning: &'static str,
}

macro_rules! fields {
    ($($variant:ident $name:literal $kind:ident $subject:ident $rate:literal $meaning:literal;)*) => {
        /// A field of the table.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum Field {
            $(#[doc = $meaning] $variant,)*
        }

        impl Field {
            /// Every field, in the order of the table.
            pub const ALL: &'static [Field] = &[$(Field::$variant,)*];

            /// What is known of the field itself.
            pub const fn info(self) -> FieldInfo {
                match self {
                    $(Field::$variant => FieldInfo {
                        name: $name, kind: Kind::$kind, subject: Subject::$subject, rate: $rate, meaning: $meaning,
                    },)*
                }
            }
        }
    };
}

fields! {
    Pid "pid" Count Process false "process ID; reused by the kernel, so `id` is what acting goes by";
    Id "id" Text Process false "checked PID: the PID with three check letters, as every listing prints it";
    Parent "parent" Count Process false "PID of the parent process (/proc/PID/stat field 4)";
    App "app" Text Process false "the program as a person would call it: base name of its file, or of the script that an interpreter runs";
    Name "name" Text Process false "the kernel's short name, settable by the process itself (/proc/PID/stat field 2)";
    Path "path" Text Process false "the file it runs (/proc/PID/exe)";
    Command "command" Text Process false "command line, secrets masked (/proc/PID/cmdline)";
    Owner "owner" Text Process false "name of the user it runs as";
    Uid "uid" Count Process false "number of the user it runs as (owner of /proc/PID)";
    Kernel "kernel" Flag Process false "whether it is a kernel thread (/proc/PID/stat field 9)";
    State "state" State Process false "running, sleeping, waiting, suspended, traced, zombie or idle (/proc/PID/stat field 3)";
    Cpu "cpu" Percent Process true "CPU used over the sampling interval, percent of ONE core: 400% is possible (the process's CPU clock, clock_gettime(2))";
    CpuPart "cpu.part" Percent Process true "CPU used over the sampling interval, percent of the whole machine";
    CpuTime "cpu.time" Duration Process false "CPU time used since the start, all threads (the process's CPU clock, clock_gettime(2))";
    Memory "memory" Size Process false "resident memory (/proc/PID/statm field 2)";
    MemoryPart "memory.part" Percent Process false "resident memory, percent of RAM";
    MemoryHeld "memory.held" Size Process false "anonymous, shared resident and swapped memory: what a leak holds, swapped out or not (/proc/PID/status RssAnon + RssShmem + VmSwap)";
    MemorySwapped "memory.swapped" Size Process false "swapped-out memory (/proc/PID/status VmSwap)";
    Threads "threads" Count Process false "number of threads (/proc/PID/stat field 20)";
    Nice "nice" Count Process false "niceness of the main thread, -20 to 19; higher is milder to others (/proc/PID/stat field 19)";
    Age "age" Duration Process false "time since its start, naps of the machine included (/proc/PID/stat field 22)";
    MachineCpu "machine.cpu" Percent Machine true "busy share of all cores together over the interval (/proc/stat line cpu)";
    MachineCores "machine.cores" Count Machine false "cores online (/proc/stat)";
    MachineMemoryTotal "machine.memory.total" Size Machine false "RAM (/proc/meminfo MemTotal)";
    MachineMemoryAvailable "machine.memory.available" Size Machine false "RAM that programs can still get (/proc/meminfo MemAvailable)";
    MachineMemoryUsed "machine.memory.used" Size Machine false "RAM minus what is available (/proc/meminfo MemTotal - MemAvailable)";
    Host "host" Text Machine false "the machine's name";
}

/// Field names of the language that this version does not measure. Naming one is an error that says so.
pub const PENDING_FIELDS: &[&str] = &[
    "session",
    "tty",
    "unit",
    "origin",
    "memory.private",
    "memory.proportional",
    "memory.virtual",
    "disk",
    "disk.read",
    "disk.write",
    "faults",
    "files",
    "children",
    "instances",
    "machine.core.fullest",
    "machine.iowait",
    "machine.load1",
    "machine.load5",
    "machine.load15",
    "machine.swap.used",
    "machine.swap.traffic",
    "machine.stall.cpu",
    "machine.stall.memory",
    "machine.stall.io",
    "machine.disk.busy",
    "machine.disk.answer",
    "machine.files.full",
    "machine.processes",
    "machine.uptime",
];

/// Functions over time that this version does not evaluate. Using one is an error that says so.
pub const PENDING_FUNCTIONS: &[&str] = &["avg", "peak", "low", "growth", "climb", "slope", "typical", "until"];

impl Field {
    /// The field of that name.
    pub fn named(name: &str) -> Option<Field> {
        Field::ALL.iter().copied().find(|field| field.name() == name)
    }

    /// Its name.
    pub const fn name(self) -> &'static str {
        self.info().name
    }

    /// Its kind.
    pub const fn kind(self) -> Kind {
        self.info().kind
    }

    /// Whether a process can set it to what it likes: good for covering, never alone for protecting.
    pub fn can_be_a_claim(self) -> bool {
        matches!(self, Field::App | Field::Name | Field::Path | Field::Command)
    }
}

impl fmt::Display for Field {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

/// What a condition is evaluated on: one process on its machine.
#[derive(Debug, Clone, Copy)]
pub struct Facts<'a> {
    /// The process.
    pub process: &'a Process,
    /// The machine it runs on.
    pub machine: &'a Machine,
}

impl Facts<'_> {
    /// The reading of a field; `None` is unknown.
    pub fn reading(&self, field: Field) -> Option<Value> {
        let (process, machine) = (self.process, self.machine);
        let count = |number: u32| Some(Value::Count(f64::from(number)));
        let size = |bytes: Option<u64>| bytes.map(Value::Size);
        let text = |text: &str| Some(Value::Text(text.to_owned()));
        match field {
            Field::Pid => count(process.id.pid),
            Field::Id => Some(Value::Text(process.id.checked().to_string())),
            Field::Parent => count(process.parent),
            Field::App => text(&process.app),
            Field::Name => text(&process.name),
            Field::Path => process.path.clone().map(Value::Text),
            Field::Command => process.command.clone().map(Value::Text),
            Field::Owner => text(&process.owner),
            Field::Uid => count(process.uid),
            Field::Kernel => Some(Value::Flag(process.kernel)),
            Field::State => Some(Value::State(process.state)),
            Field::Cpu => process.cpu.map(Value::Percent),
            Field::CpuPart => process.cpu.map(|cpu| Value::Percent(cpu / f64::from(machine.cores.max(1)))),
            Field::CpuTime => Some(Value::Duration(process.cpu_time)),
            Field::Memory => size(process.memory),
            Field::MemoryPart => {
                process.memory.map(|memory| Value::Percent(100.0 * memory as f64 / machine.memory_total.max(1) as f64))
            }
            Field::MemoryHeld => size(process.memory_held),
            Field::MemorySwapped => size(process.memory_swapped),
            Field::Threads => count(process.threads),
            Field::Nice => Some(Value::Count(f64::from(process.nice))),
            Field::Age => Some(Value::Duration(process.age)),
            Field::MachineCpu => machine.cpu.map(Value::Percent),
            Field::MachineCores => count(machine.cores),
            Field::MachineMemoryTotal => Some(Value::Size(machine.memory_total)),
            Field::MachineMemoryAvailable => size(machine.memory_available),
            Field::MachineMemoryUsed => {
                size(machine.memory_available.map(|available| machine.memory_total.saturating_sub(available)))
            }
            Field::Host => text(&machine.host),
        }
    }

    /// Whether the reading of that field is only what the process says of itself.
    pub fn is_claim(&self, field: Field) -> bool {
        match field {
            Field::App => !self.process.app_proven,
            Field::Path => !self.process.path_proven,
            other => other.can_be_a_claim(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_unique_and_found() {
        for field in Field::ALL {
            assert_eq!(Field::named(field.name()), Some(*field));
            assert!(!PENDING_FIELDS.contains(&field.name()));
        }
    }
}
