//! What is usual of a field, and what to do when it is high: words for the person who reads it.

use super::Field;

/// Words about a field.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FieldHelp {
    /// What is usual on a desktop or a small server.
    pub usual: &'static str,
    /// What to do when it is high, or stands out; empty where there is nothing to do.
    pub when_high: &'static str,
}

impl Field {
    /// What is usual, and what to do when it is high.
    pub const fn help(self) -> FieldHelp {
        let (usual, when_high) = words(self);
        FieldHelp { usual, when_high }
    }
}

#[rustfmt::skip]
const fn words(field: Field) -> (&'static str, &'static str) {
    match field {
        Field::Pid => ("1 to 4194304; numbers are used again after a while", ""),
        Field::Id => ("as 51907-kqm; good for this process only, and until it ends", ""),
        Field::Parent => ("1 for services and for what outlived its parent", ""),
        Field::App => ("a program's own name; a script goes by its file, not by its interpreter", ""),
        Field::Name => ("at most 15 bytes; many programs give their threads names of their own", ""),
        Field::Path => ("below /usr, /opt or a home folder", "a path below /tmp, or one that is gone, is worth a question: `sophron inspect` says whether it is proven"),
        Field::Command => ("the program and its arguments", ""),
        Field::Owner => ("the person at the desk, or a service's own user", ""),
        Field::Uid => ("0 for root, below 1000 for services, 1000 and more for people", ""),
        Field::Session => ("one a login or terminal; services lead their own", ""),
        Field::Tty => ("empty for services and desktop programs", ""),
        Field::Unit => ("a .service or a .scope; empty in containers and on machines without a service manager", ""),
        Field::Origin => ("service, login or desktop", ""),
        Field::Kernel => ("yes for about a hundred threads on every machine", "nothing acts on a kernel thread: look for who gives it the work"),
        Field::State => ("sleeping nearly always; running for the few that work", "waiting for long: a disk or network disk does not answer; zombie for long: its parent does not collect it; suspended: somebody suspended it"),
        Field::Cpu => ("below 5% for what waits for a person; 100% and more for what computes", "`sophron inspect ID --for 5s` says whether it works or spins; lower it if it works and disturbs, suspend or terminate it if it spins"),
        Field::CpuPart => ("below 5%", "as for cpu"),
        Field::CpuChildren => ("0; up to 100% and more while something is built or a script runs", "it starts others that end at once, which listings hardly show: see what it is doing with `sophron inspect`; lowering it lowers those that it starts from then on"),
        Field::CpuTime => ("seconds to minutes a day", "a service that has used hours since yesterday spins at times: watch its cpu"),
        Field::Memory => ("10 to 500 MiB; a browser or an office program 1 GiB and more", "compare memory.held: files that it maps count here and cost nothing"),
        Field::MemoryPart => ("below 5%", "as for memory"),
        Field::MemoryHeld => ("10 to 500 MiB, and steady after the first minutes", "if it keeps rising over an hour it leaks: suspending it keeps the machine usable, only its end frees the memory"),
        Field::MemoryPrivate => ("a little below memory.held", "what its end would free: worth it only if this is large"),
        Field::MemoryProportional => ("below memory, by what it shares", "the one to add up over a family of processes"),
        Field::MemoryVirtual => ("gigabytes, for many programs, without any harm", "nothing: look at memory.held"),
        Field::MemorySwapped => ("0, or what has not been used for long", "harmless at rest; with machine.swap.traffic it slows down everything"),
        Field::Disk => ("0 most of the time, and tens of MiB/s for a moment at a start", "see whether somebody waits for the disk: `sophron checkup`"),
        Field::DiskRead => ("0 most of the time", "a copy or a search is honest work; with machine.stall.io high it disturbs the others"),
        Field::DiskWrite => ("0 most of the time", "a log that grows without end fills the disk: `sophron inspect` names the largest files"),
        Field::Faults => ("0 but for a moment at a start", "it waits for its own pages: the machine, or its control group, is short of memory"),
        Field::Threads => ("1 to 50", "hundreds that keep growing are a leak of their own"),
        Field::Files => ("10 to 300", "near its limit (often 1024) it fails to open more: `sophron inspect` shows the limit"),
        Field::Children => ("0 to 10", "hundreds: it starts more than it collects"),
        Field::Nice => ("0; 10 to 19 for what was made to give way; below 0 for the desktop's sound and the like", ""),
        Field::Age => ("since the login, or since the machine's start", ""),
        Field::Instances => ("1 for most, a dozen for browsers and the like", "far more than usual: something starts it again and again"),
        Field::MachineCpu => ("below 30% on a desktop", "`sophron checkup` says whether anybody waits for it, and because of whom"),
        Field::MachineCpuUnseen => ("below 3%", "somebody starts processes that end before they are seen: `sophron list --group unit`, and a rule that judges owners or units by `cpu` sees them"),
        Field::MachineCoreFullest => ("10 to 60%", "one program keeps a core to itself: `sophron list`"),
        Field::MachineCores => ("2 to 16", ""),
        Field::MachineIowait => ("below 5%", "a disk is slow or overloaded: `sophron list --by disk`"),
        Field::MachineLoad1 => ("below the number of cores", "compare machine.load.core and machine.load5: what falls is over"),
        Field::MachineLoad5 => ("below the number of cores", "as for machine.load1"),
        Field::MachineLoad15 => ("below the number of cores", "as for machine.load1"),
        Field::MachineLoadCore => ("below 0.7", "above 1.2 threads queue for a core or a disk: `sophron checkup` says for which"),
        Field::MachineMemoryTotal => ("4 to 32 GiB", ""),
        Field::MachineMemoryAvailable => ("a third of RAM and more", "LOW is bad: below 15% of RAM look at `sophron list --group app --by memory`"),
        Field::MachineMemoryUsed => ("up to two thirds of RAM", "look at machine.memory.available: that is what counts"),
        Field::MachineSwapUsed => ("0 to 1 GiB at rest", "harmless without machine.swap.traffic"),
        Field::MachineSwapTraffic => ("0", "from 1 MiB/s on somebody waits for pages: find who holds the memory"),
        Field::MachineStallCpu => ("below 5%", "from 25% on people feel it: `sophron checkup`"),
        Field::MachineStallMemory => ("0", "never normal: from 5% on the machine stutters"),
        Field::MachineStallIo => ("below 5%, with peaks when programs start", "from 15% on people feel it: `sophron checkup`"),
        Field::MachineDiskBusy => ("below 20%", "always busy and slow to answer: find who reads or writes with `sophron list --by disk`"),
        Field::MachineDiskAnswer => ("0.1 to 2 ms for a disk without moving parts, 5 to 15 ms for one with", "above 50 ms everything that touches the disk is slow; alone, without much traffic, suspect the disk itself"),
        Field::MachineFilesFull => ("below 80%", "from 96% on programs fail to save: look for logs, caches and deleted files that are still held"),
        Field::MachineFilesFree => ("20 GiB and more", "LOW is bad: below 5 GiB an update may fail"),
        Field::MachineProcesses => ("150 to 500", "thousands: something starts more than ends"),
        Field::MachineUptime => ("hours to weeks", ""),
        Field::Host => ("the machine's name", ""),
    }
}
