//! The readings of one process on its machine, by field.

use std::borrow::Cow;

use std::time::Duration;

use crate::condition::Comparison;
use crate::model::{Field, Machine, Needs, Process, Promise};
use crate::subject::Totals;
use crate::units::Value;
use crate::window::Quantity;
use crate::window::{Bounds, Feed, Function, History, Series};

/// What a condition is evaluated on: one subject on its machine.
#[derive(Debug, Clone, Copy)]
pub struct Facts<'a> {
    /// The process; of a group the one that stands for it; none for a machine that no process stands for.
    pub process: Option<&'a Process>,
    /// The machine it runs on.
    pub machine: &'a Machine,
    /// What of the process is no reading of this sample.
    stale: Needs,
    /// Only what lasts is known: what may change from one sample to the next counts as unknown.
    lasting_only: bool,
    /// The sums of a group.
    totals: Option<&'a Totals>,
    /// The windows of the subject.
    history: Option<&'a History>,
}

impl<'a> Facts<'a> {
    /// All readings.
    pub fn new(process: &'a Process, machine: &'a Machine) -> Facts<'a> {
        Facts {
            process: Some(process),
            machine,
            stale: process.stale,
            lasting_only: false,
            totals: None,
            history: None,
        }
    }

    /// The machine's own figures.
    pub fn of_machine(machine: &'a Machine) -> Facts<'a> {
        Facts { process: None, machine, stale: Needs::NONE, lasting_only: false, totals: None, history: None }
    }

    /// Only what lasts.
    pub fn lasting(process: &'a Process, machine: &'a Machine) -> Facts<'a> {
        Facts { lasting_only: true, ..Facts::new(process, machine) }
    }

    /// A group: its sums, and what all its members have in common.
    pub fn of_group(lead: &'a Process, machine: &'a Machine, totals: &'a Totals) -> Facts<'a> {
        Facts { totals: Some(totals), stale: totals.stale(), ..Facts::new(lead, machine) }
    }

    /// The same where what is carried over of whoever has not run since counts as what he has.
    #[must_use]
    pub(crate) fn carrying(self) -> Facts<'a> {
        Facts { stale: self.outrun(), ..self }
    }

    /// What of the process was read before it last ran; of a group of one of its members.
    fn outrun(&self) -> Needs {
        match (self.totals, self.process) {
            (Some(totals), _) => totals.outrun(),
            (None, Some(process)) => process.outrun,
            (None, None) => Needs::NONE,
        }
    }

    /// The same with the windows of the subject.
    #[must_use]
    pub fn with_history(self, history: Option<&'a History>) -> Facts<'a> {
        Facts { history, ..self }
    }

    /// The reading of a field, or the value of a function over time; `None` is unknown.
    pub fn quantity(&self, quantity: &Quantity) -> Option<Value> {
        match quantity {
            Quantity::Now(field) => self.reading(*field),
            Quantity::Over(series) if series.function == Function::Typical => self.typical(series.field),
            Quantity::Over(series) => self.history.filter(|_| !self.lasting_only)?.value(series, self),
        }
    }

    /// What is usual of its app here: of a group that of all its processes together.
    fn typical(&self, field: Field) -> Option<Value> {
        let app = self.text(Field::App).or_else(|| Some(Cow::Borrowed(self.process?.app.as_str())))?;
        self.machine.usual.as_ref()?.value(&app, field, self.totals.is_some())
    }

    /// An upper bound of a reading that is not known.
    pub fn bound(&self, field: Field) -> Option<Value> {
        if self.lasting_only {
            return None;
        }
        if let Some(totals) = self.totals {
            return totals.bound(field, self.machine);
        }
        let process = self.process?;
        match field {
            Field::Memory => process.at_most(false).map(Value::Size),
            Field::MemoryPart => process.at_most(false).map(|most| Value::Percent(self.machine.share_of_memory(most))),
            Field::MemoryHeld => process.at_most(true).map(Value::Size),
            _ => None,
        }
    }

    /// What is known of a field of the process, or was when it was last read, if it has not run since: that is what it has, but for
    /// what others do to it.
    pub(crate) fn carried(&self, field: Field) -> Option<Value> {
        self.carrying().reading(field)
    }

    /// Between what a quantity lies that is not known.
    pub(crate) fn bounds(&self, quantity: &Quantity) -> Bounds {
        match quantity {
            Quantity::Now(field) => Bounds { least: None, most: self.bound(*field) },
            Quantity::Over(series) => {
                let history = self.history.filter(|_| !self.lasting_only);
                history.map(|history| history.bounds(series, self)).unwrap_or_default()
            }
        }
    }

    /// Until when a comparison of a function over time with a limit stays false, that is false.
    pub(crate) fn stays_as_it_is(&self, series: &Series, comparison: Comparison, limit: &Value) -> Promise {
        let known = self.history.zip(self.process).filter(|_| self.totals.is_none());
        known.map_or(Promise::NONE, |(history, process)| {
            let upward = comparison.is_upward().then_some(limit);
            history.stays_as_it_is(series, upward, process, &self.carrying())
        })
    }

    /// Until when a function over time stays unknown because its window fills.
    pub(crate) fn stays_unfilled(&self, series: &Series) -> Promise {
        let history = self.history.filter(|_| self.totals.is_none());
        history.map_or(Promise::NONE, |history| history.stays_unfilled(series))
    }

    /// What has to be read so that a quantity is known that is not.
    pub(crate) fn lacking(&self, quantity: &Quantity) -> Needs {
        let field = quantity.field();
        let helps = match quantity {
            Quantity::Now(_) => true,
            Quantity::Over(series) => self.history.is_some_and(|history| history.wants_reading(series)),
        };
        if helps { Needs::of([&field]) } else { Needs::NONE }
    }

    /// The reading of a text field, without a copy where it has one; `None` is unknown (or no text).
    pub fn text(&self, field: Field) -> Option<Cow<'a, str>> {
        let borrowed = |text: &'a str| Some(Cow::Borrowed(text));
        if field == Field::Host {
            return borrowed(&self.machine.host);
        }
        let process = self.process?;
        if self.is_stale(field) {
            return None;
        }
        match field {
            Field::Id => Some(Cow::Owned(process.id.checked().to_string())),
            Field::App => Some(&process.app).filter(|_| !process.app_unread()).map(|app| Cow::Borrowed(app.as_str())),
            Field::Name => borrowed(&process.name),
            // A kernel thread runs no file, and nobody gave it a command line.
            Field::Path => process.path.as_deref().or(process.kernel.then_some("")).map(Cow::Borrowed),
            Field::Command => process.command.as_deref().or(process.kernel.then_some("")).map(Cow::Borrowed),
            Field::Owner => borrowed(&process.owner),
            Field::Tty => borrowed(&process.tty),
            Field::Unit => process.unit.as_deref().map(Cow::Borrowed),
            Field::Origin => process.origin.map(|origin| Cow::Borrowed(origin.word())),
            _ => None,
        }
    }

    /// The reading of a field; `None` is unknown.
    pub fn reading(&self, field: Field) -> Option<Value> {
        if self.lasting_only && !field.is_lasting() {
            return None;
        }
        if self.is_stale(field) {
            return None;
        }
        if let Some(reading) = self.totals.and_then(|totals| totals.reading(field, self.machine)) {
            return reading;
        }
        self.of_the_machine(field).or_else(|| self.of_the_process(field, self.process?))
    }

    /// Whether that is only carried over from an earlier sample. Of who has not run since, rates are known: he did nothing.
    pub(crate) fn is_stale(&self, field: Field) -> bool {
        if self.stale.is_none() {
            return false;
        }
        let info = field.info();
        self.stale.has(info.cost) && !(info.rate && self.stood_still())
    }

    fn stood_still(&self) -> bool {
        match self.totals {
            Some(totals) => totals.stood_still(),
            None => self.process.is_some_and(Process::stood_still),
        }
    }

    fn of_the_process(&self, field: Field, process: &Process) -> Option<Value> {
        let machine = self.machine;
        let count = |number: u32| Some(Value::Count(f64::from(number)));
        let size = |bytes: Option<u64>| bytes.map(Value::Size);
        let rate = |rate: Option<f32>| rate.map(|rate| Value::Rate(f64::from(rate)));
        match field {
            Field::Pid => count(process.id.pid),
            Field::Parent => count(process.parent),
            Field::Uid => count(process.uid),
            Field::Session => count(process.session),
            Field::Kernel => Some(Value::Flag(process.kernel)),
            Field::State => Some(Value::State(process.state)),
            Field::Cpu => process.cpu.map(Value::Percent),
            Field::CpuPart => process.cpu.map(|cpu| Value::Percent(cpu / f64::from(machine.cores.max(1)))),
            Field::CpuChildren => process.children_cpu().map(|cpu| Value::Percent(f64::from(cpu))),
            Field::CpuTime => Some(Value::Duration(process.cpu_time)),
            Field::Memory => size(process.memory),
            Field::MemoryPart => process.memory.map(|memory| Value::Percent(machine.share_of_memory(memory))),
            Field::MemoryHeld => size(process.memory_held),
            Field::MemoryPrivate => size(process.memory_private),
            Field::MemoryProportional => size(process.memory_proportional),
            Field::MemoryVirtual => size(process.memory_virtual),
            Field::MemorySwapped => size(process.memory_swapped),
            Field::Disk => rate(process.disk_read.zip(process.disk_write).map(|(read, write)| read + write)),
            Field::DiskRead => rate(process.disk_read),
            Field::DiskWrite => rate(process.disk_write),
            Field::Faults => process.faults.map(|faults| Value::Count(f64::from(faults))),
            Field::Threads => count(process.threads),
            Field::Files => process.files.and_then(count),
            Field::Children => count(process.children),
            Field::Nice => Some(Value::Count(f64::from(process.nice))),
            Field::Age => Some(Value::Duration(process.age)),
            Field::Instances => count(process.instances),
            _ => self.text(field).map(|text| Value::Text(text.into_owned())),
        }
    }

    fn of_the_machine(&self, field: Field) -> Option<Value> {
        let machine = self.machine;
        let count = |number: u32| Some(Value::Count(f64::from(number)));
        let size = |bytes: Option<u64>| bytes.map(Value::Size);
        match field {
            Field::MachineCpu => machine.cpu.map(Value::Percent),
            Field::MachineCpuUnseen => machine.cpu_unseen.map(Value::Percent),
            Field::MachineCoreFullest => machine.core_fullest.map(Value::Percent),
            Field::MachineCores => count(machine.cores),
            Field::MachineIowait => machine.iowait.map(Value::Percent),
            Field::MachineLoad1 => machine.load.map(|load| Value::Count(load[0])),
            Field::MachineLoad5 => machine.load.map(|load| Value::Count(load[1])),
            Field::MachineLoadCore => machine.load_per_core().map(Value::Count),
            Field::MachineLoad15 => machine.load.map(|load| Value::Count(load[2])),
            Field::MachineMemoryTotal => Some(Value::Size(machine.memory_total)),
            Field::MachineMemoryAvailable => size(machine.memory_available),
            Field::MachineMemoryUsed => size(machine.memory_used()),
            Field::MachineSwapUsed => size(machine.swap_used),
            Field::MachineSwapTraffic => machine.swap_traffic.map(Value::Rate),
            Field::MachineStallCpu => machine.stall_cpu.map(|stall| Value::Percent(stall.ten_seconds)),
            Field::MachineStallMemory => machine.stall_memory.map(|stall| Value::Percent(stall.ten_seconds)),
            Field::MachineStallIo => machine.stall_io.map(|stall| Value::Percent(stall.ten_seconds)),
            Field::MachineDiskBusy => machine.disk_busy.map(Value::Percent),
            Field::MachineDiskAnswer => machine.disk_answer.map(Value::Duration),
            Field::MachineFilesFull => machine.files_full.map(Value::Percent),
            Field::MachineFilesFree => size(machine.volumes.iter().map(|volume| volume.free).min()),
            Field::MachineProcesses => count(machine.processes),
            Field::MachineUptime => Some(Value::Duration(machine.uptime)),
            _ => None,
        }
    }

    /// Whether that field tells only what the process is called, by itself or by where its file stands.
    pub(crate) fn is_a_mere_name(&self, field: Field) -> bool {
        match field {
            Field::Unit => self.process.and_then(Process::unit_of).is_some_and(|unit| unit.is_a_claim()),
            other => other.is_a_name(),
        }
    }
}

impl Feed for Facts<'_> {
    fn reading(&self, field: Field) -> Option<Value> {
        self.carried(field)
    }

    fn at_most(&self, field: Field) -> Option<Value> {
        self.carried(field).or_else(|| self.bound(field))
    }

    fn count(&self, field: Field) -> Option<u64> {
        match self.totals {
            Some(totals) => totals.count_behind(field, true),
            None => self.process.filter(|_| !self.outrun().has(field.info().cost))?.count_behind(field),
        }
    }

    fn counted_at_least(&self, field: Field) -> Option<u64> {
        match self.totals {
            Some(totals) => totals.count_behind(field, false),
            None => self.process?.count_behind(field),
        }
    }

    fn cpu_time(&self) -> Option<Duration> {
        self.totals.map(|totals| totals.used).or_else(|| self.process.map(|process| process.cpu_time))
    }

    fn cores(&self) -> u32 {
        self.machine.cores
    }
}
