//! The table of fields: one name for one quantity, for conditions, columns and machine formats alike.

use std::fmt;

use crate::units::Kind;

/// What a field describes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Subject {
    /// One process.
    Process,
    /// The machine.
    Machine,
}

/// What has to be read for a field, beyond the CPU clock of every process.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Cost {
    /// Nothing more.
    Free,
    /// `/proc/PID/stat`: 3 to 5 µs.
    Stat,
    /// `/proc/PID/statm`: 2.5 µs more.
    Statm,
    /// `/proc/PID/status`: 6 µs more.
    Status,
    /// `/proc/PID/io`: 3 µs more, the owner's or root's to read.
    Io,
    /// `/proc/PID/cgroup`: 4.5 µs more.
    Cgroup,
    /// `/proc/PID/smaps_rollup`: 20 µs to 76 ms by size, the owner's or root's to read; never in the periodic pass.
    Rollup,
    /// The list of `/proc/PID/fd`: 9 µs and more, the owner's or root's to read.
    Files,
    /// Counted over all processes.
    Family,
    /// `/proc/PID/cmdline`, once a program: 4 µs. It is read of interpreters in any case.
    Command,
    /// Whether the path is proven, once a program: 4 µs.
    Proof,
    /// A machine file that is read once a sample, if at all.
    Machine,
    /// The CPU clock of every control group: 5 µs each, and only where rules judge units or owners by their CPU.
    Groups,
    /// File-system figures: a system call for each mounted disk, which can take its time.
    Disks,
}

impl Cost {
    /// Whether a file of the process has to be read for it.
    pub const fn is_a_file(self) -> bool {
        Needs::FILES.has(self)
    }
}

/// A set of [`Cost`]s: what a sample has to read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Needs(u16);

impl Needs {
    /// Nothing but the clocks.
    pub const NONE: Needs = Needs(0);
    /// All that the periodic pass may read: everything but proportional memory and the list of open files.
    pub const PERIODIC: Needs = Needs::NONE
        .with(Cost::Stat)
        .with(Cost::Statm)
        .with(Cost::Status)
        .with(Cost::Io)
        .with(Cost::Cgroup)
        .with(Cost::Family)
        .with(Cost::Command)
        .with(Cost::Proof)
        .with(Cost::Machine);

    /// With that as well.
    #[must_use]
    pub const fn with(self, cost: Cost) -> Needs {
        Needs(self.0 | 1 << cost as u16)
    }

    /// Both.
    #[must_use]
    pub const fn and(self, other: Needs) -> Needs {
        Needs(self.0 | other.0)
    }

    /// What is in both.
    #[must_use]
    pub const fn only(self, other: Needs) -> Needs {
        Needs(self.0 & other.0)
    }

    /// What is in this one only.
    #[must_use]
    pub const fn without(self, other: Needs) -> Needs {
        Needs(self.0 & !other.0)
    }

    /// Whether it is in the set.
    pub const fn has(self, cost: Cost) -> bool {
        self.0 & 1 << cost as u16 != 0
    }

    /// What is read of a process again and again: the files of the periodic pass.
    pub const FILES: Needs =
        Needs::NONE.with(Cost::Stat).with(Cost::Statm).with(Cost::Status).with(Cost::Io).with(Cost::Cgroup);

    /// What is read only where something hangs on it.
    pub const COSTLY: Needs = Needs::NONE.with(Cost::Rollup).with(Cost::Files);

    /// Whether nothing is in it.
    pub const fn is_none(self) -> bool {
        self.0 == 0
    }

    /// Whether anything but the clock is to be read of a process.
    pub const fn of_process(self) -> bool {
        !self.only(Needs::FILES).is_none()
    }

    /// Of several the one that costs least: they are in that order.
    #[must_use]
    pub(crate) const fn cheapest(self) -> Needs {
        Needs(self.0 & self.0.wrapping_neg())
    }

    /// What a program is, in full: its command line, and whether its path is proven.
    pub const IDENTITY: Needs = Needs::NONE.with(Cost::Command).with(Cost::Proof);

    /// What these fields need.
    pub fn of<'f>(fields: impl IntoIterator<Item = &'f Field>) -> Needs {
        fields.into_iter().fold(Needs::NONE, |needs, field| needs.with(field.info().cost))
    }
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
    /// What has to be read for it.
    pub cost: Cost,
    /// What it means and where it is read.
    pub meaning: &'static str,
}

macro_rules! fields {
    ($($variant:ident $name:literal $kind:ident $subject:ident $rate:literal $cost:ident $meaning:literal;)*) => {
        /// A field of the table.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum Field {
            $(#[doc = $meaning] $variant,)*
        }

        impl Field {
            /// Every field, in the order of the table.
            pub const ALL: &'static [Field] = &[$(Field::$variant,)*];

            /// What is known of the field itself.
            pub const fn info(self) -> &'static FieldInfo {
                &INFOS[self as usize]
            }
        }

        static INFOS: [FieldInfo; Field::ALL.len()] = [$(FieldInfo {
            name: $name,
            kind: Kind::$kind,
            subject: Subject::$subject,
            rate: $rate,
            cost: Cost::$cost,
            meaning: $meaning,
        },)*];
    };
}

fields! {
    Pid "pid" Count Process false Free "process ID; reused by the kernel, so `id` is what acting goes by";
    Id "id" Text Process false Free "checked PID: the PID with three check letters, as every listing prints it";
    Parent "parent" Count Process false Stat "PID of the parent process (/proc/PID/stat field 4)";
    App "app" Text Process false Free "the program as a person would call it: base name of its file, or of the script that an interpreter runs";
    Name "name" Text Process false Free "the kernel's short name, settable by the process itself (/proc/PID/stat field 2)";
    Path "path" Text Process false Free "the file it runs (/proc/PID/exe)";
    Command "command" Text Process false Command "command line, secrets masked (/proc/PID/cmdline)";
    Owner "owner" Text Process false Free "name of the user it runs as; of a subordinate user ID, of the user whose it is (/etc/subuid)";
    Uid "uid" Count Process false Free "number of the user it runs as (owner of /proc/PID)";
    Session "session" Count Process false Free "its session: the PID of the session's leader (/proc/PID/stat field 6)";
    Tty "tty" Text Process false Free "its terminal, as `pts/3`; empty for none (/proc/PID/stat field 7)";
    Unit "unit" Text Process false Cgroup "the service manager's unit or scope that it belongs to; empty for none (/proc/PID/cgroup)";
    Origin "origin" Text Process false Cgroup "what it came from: kernel, service, login, desktop, container or other, by its control group (/proc/PID/cgroup)";
    Kernel "kernel" Flag Process false Free "whether it is a kernel thread (/proc/PID/stat field 9)";
    State "state" State Process false Stat "running, sleeping, waiting, suspended, frozen, traced, zombie or idle (/proc/PID/stat field 3; frozen: cgroup.events)";
    Cpu "cpu" Percent Process true Free "CPU used over the sampling interval, percent of ONE core: 400% is possible (the process's CPU clock, clock_gettime(2))";
    CpuPart "cpu.part" Percent Process true Free "CPU used over the sampling interval, percent of the whole machine";
    CpuChildren "cpu.children" Percent Process true Stat "CPU of ended children that were too short-lived to be seen, over the sampling interval, percent of ONE core; 0 for a service manager, which collects everybody's (/proc/PID/stat fields 16 and 17, less what was seen of them)";
    CpuTime "cpu.time" Duration Process false Free "CPU time used since the start, all threads (the process's CPU clock, clock_gettime(2))";
    Memory "memory" Size Process false Statm "resident memory (/proc/PID/statm field 2)";
    MemoryPart "memory.part" Percent Process false Statm "resident memory, percent of RAM";
    MemoryHeld "memory.held" Size Process false Status "anonymous, shared resident and swapped memory: what a leak holds, swapped out or not (/proc/PID/status RssAnon + RssShmem + VmSwap)";
    MemoryPrivate "memory.private" Size Process false Rollup "memory that is this process's alone: what its end would free (/proc/PID/smaps_rollup Private_Clean + Private_Dirty)";
    MemoryProportional "memory.proportional" Size Process false Rollup "its share of resident memory, shared pages divided among those who share them (/proc/PID/smaps_rollup Pss)";
    MemoryVirtual "memory.virtual" Size Process false Statm "address space, used or not: says little (/proc/PID/statm field 1)";
    MemorySwapped "memory.swapped" Size Process false Status "swapped-out memory (/proc/PID/status VmSwap)";
    Disk "disk" Rate Process true Io "read from and written to disks (/proc/PID/io read_bytes + write_bytes)";
    DiskRead "disk.read" Rate Process true Io "read from disks (/proc/PID/io read_bytes)";
    DiskWrite "disk.write" Rate Process true Io "written to disks, as far as it was this process's doing (/proc/PID/io write_bytes)";
    Faults "faults" Count Process true Stat "page faults that had to wait for a disk, a second (/proc/PID/stat field 12)";
    Threads "threads" Count Process false Stat "number of threads (/proc/PID/stat field 20)";
    Files "files" Count Process false Files "open files (entries of /proc/PID/fd)";
    Children "children" Count Process false Family "processes whose parent it is";
    Nice "nice" Count Process false Stat "niceness of the main thread, -20 to 19; higher is milder to others (/proc/PID/stat field 19)";
    Age "age" Duration Process false Free "time since its start, naps of the machine included (/proc/PID/stat field 22)";
    Instances "instances" Count Process false Family "processes of the same app and owner";
    MachineCpu "machine.cpu" Percent Machine true Machine "busy share of all cores together over the interval (/proc/stat line cpu)";
    MachineCpuUnseen "machine.cpu.unseen" Percent Machine true Machine "share of all cores' time over the interval that went neither to a process that was seen, or to one whose parent has taken its time, nor to devices (/proc/stat line cpu, less the CPU of all processes)";
    MachineCoreFullest "machine.core.fullest" Percent Machine true Machine "busy share of the busiest single core over the interval (/proc/stat lines cpuN)";
    MachineCores "machine.cores" Count Machine false Free "cores online (/proc/stat)";
    MachineIowait "machine.iowait" Percent Machine true Machine "share of all cores' time that was idle with a disk request outstanding (/proc/stat line cpu)";
    MachineLoad1 "machine.load1" Count Machine false Free "processes running or waiting in the kernel, mean over 1 minute (/proc/loadavg)";
    MachineLoad5 "machine.load5" Count Machine false Free "the same over 5 minutes (/proc/loadavg)";
    MachineLoad15 "machine.load15" Count Machine false Free "the same over 15 minutes (/proc/loadavg)";
    MachineLoadCore "machine.load.core" Count Machine false Machine "load over 1 minute for each core (/proc/loadavg, cores of /proc/stat)";
    MachineMemoryTotal "machine.memory.total" Size Machine false Free "RAM (/proc/meminfo MemTotal)";
    MachineMemoryAvailable "machine.memory.available" Size Machine false Machine "RAM that programs can still get (/proc/meminfo MemAvailable)";
    MachineMemoryUsed "machine.memory.used" Size Machine false Machine "RAM minus what is available (/proc/meminfo MemTotal - MemAvailable)";
    MachineSwapUsed "machine.swap.used" Size Machine false Machine "swap in use (/proc/meminfo SwapTotal - SwapFree)";
    MachineSwapTraffic "machine.swap.traffic" Rate Machine true Machine "swapped in and out over the interval (/proc/vmstat pswpin + pswpout)";
    MachineStallCpu "machine.stall.cpu" Percent Machine false Machine "share of the last 10 s in which some process waited for a core (/proc/pressure/cpu some avg10)";
    MachineStallMemory "machine.stall.memory" Percent Machine false Machine "share of the last 10 s in which some process waited for memory (/proc/pressure/memory some avg10)";
    MachineStallIo "machine.stall.io" Percent Machine false Machine "share of the last 10 s in which some process waited for a disk (/proc/pressure/io some avg10)";
    MachineDiskBusy "machine.disk.busy" Percent Machine true Machine "share of the interval in which the busiest disk had a request outstanding (/proc/diskstats field 13)";
    MachineDiskAnswer "machine.disk.answer" Duration Machine true Machine "mean time a request to that disk took (/proc/diskstats fields 7, 11 over 4, 8)";
    MachineFilesFull "machine.files.full" Percent Machine false Disks "used share of the fullest mounted disk (statvfs(3))";
    MachineFilesFree "machine.files.free" Size Machine false Disks "free space of the mounted disk that has least of it (statvfs(3))";
    MachineProcesses "machine.processes" Count Machine false Free "processes, kernel threads included";
    MachineUptime "machine.uptime" Duration Machine false Free "time since the start of the machine, naps included (CLOCK_BOOTTIME)";
    Host "host" Text Machine false Free "the machine's name";
}

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

    /// Whether it stays as it is for as long as the process runs one program, but for rare and deliberate changes.
    pub(crate) fn is_lasting(self) -> bool {
        use Field::{
            App, Command, Host, Id, Kernel, MachineCores, MachineMemoryTotal, Name, Origin, Owner, Path, Pid, Session,
            Tty, Uid, Unit,
        };
        matches!(
            self,
            App | Command
                | Host
                | Id
                | Kernel
                | MachineCores
                | MachineMemoryTotal
                | Name
                | Origin
                | Owner
                | Path
                | Pid
                | Session
                | Tty
                | Uid
                | Unit
        )
    }

    /// Those that are the pace of something that is counted, and read as a count.
    pub(crate) const COUNTED: [Field; 5] =
        [Field::Disk, Field::DiskRead, Field::DiskWrite, Field::Faults, Field::CpuChildren];

    /// Its place among those that are counted.
    pub(crate) fn counted(self) -> Option<usize> {
        Field::COUNTED.iter().position(|counted| *counted == self)
    }

    /// Whether little of it is the trouble, and not much.
    pub(crate) fn is_floor(self) -> bool {
        matches!(self, Field::MachineMemoryAvailable | Field::MachineFilesFree)
    }

    /// Whether it is what a process is called: good for covering, never alone for protecting.
    pub(crate) fn is_a_name(self) -> bool {
        matches!(self, Field::App | Field::Name | Field::Path | Field::Command)
    }

    /// Whether it says whose a process is, whatever program it runs.
    pub(crate) fn is_whose(self) -> bool {
        let by_group = matches!(self, Field::Unit | Field::Origin);
        by_group || matches!(self, Field::Owner | Field::Uid | Field::Session | Field::Tty | Field::Kernel)
    }
}

impl fmt::Display for Field {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}
