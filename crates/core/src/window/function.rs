//! The functions over time: what each takes, and what its slots keep.

use std::fmt;
use std::time::Duration;

use crate::model::Field;
use crate::units::{Kind, Value, exact_duration};

/// A function over time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Function {
    /// The mean.
    Avg,
    /// The highest.
    Peak,
    /// The lowest.
    Low,
    /// Now minus the beginning.
    Growth,
    /// How far the low-water mark rose.
    Climb,
    /// The straight line through it.
    Slope,
    /// Time until a level is reached at that slope.
    Until,
    /// What is usual for this app on this machine.
    Typical,
}

/// Which of its readings a slot keeps.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Keep {
    /// Their mean.
    Mean,
    /// The highest.
    Highest,
    /// The lowest.
    Lowest,
    /// The first: of what costs a file no more than one reading a slot is taken.
    First,
    /// Of what is behind a rate what was counted up to the first reading, and when that was.
    Count,
    /// The CPU time used up to the first, and when that was.
    CpuTime,
    /// Only the very first reading of all: no slots.
    FirstOfAll,
    /// Nothing: no history of usage exists.
    Nothing,
}

impl Keep {
    /// Whether a slot takes one reading and no more.
    pub fn takes_one(self) -> bool {
        matches!(self, Keep::First | Keep::Count)
    }

    /// Whether it keeps what was counted, and when.
    pub(super) fn counts(self) -> bool {
        matches!(self, Keep::CpuTime | Keep::Count)
    }
}

impl Function {
    /// Every function, in the order of the documentation.
    pub const ALL: [Function; 8] = [
        Function::Avg,
        Function::Peak,
        Function::Low,
        Function::Growth,
        Function::Climb,
        Function::Slope,
        Function::Until,
        Function::Typical,
    ];

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Function::Avg => "avg",
            Function::Peak => "peak",
            Function::Low => "low",
            Function::Growth => "growth",
            Function::Climb => "climb",
            Function::Slope => "slope",
            Function::Until => "until",
            Function::Typical => "typical",
        }
    }

    /// The function of that name.
    pub fn named(name: &str) -> Option<Function> {
        Function::ALL.into_iter().find(|function| function.name() == name)
    }

    /// How it is written.
    pub fn form(self) -> &'static str {
        match self {
            Function::Avg => "avg(cpu, 2m)",
            Function::Peak => "peak(memory, 10m)",
            Function::Low => "low(cpu, 5m)",
            Function::Growth => "growth(memory.held, 30m)",
            Function::Climb => "climb(memory, 20m)",
            Function::Slope => "slope(memory.held, 10m)",
            Function::Until => "until(machine.memory.available, 256 MiB, 10m)",
            Function::Typical => "typical(memory.held)",
        }
    }

    /// Its definition over the slots, for the documentation.
    pub fn definition(self) -> &'static str {
        match self {
            Function::Avg => {
                "the mean over the window: of CPU, of disk traffic and of faults what was used, moved or waited for since the oldest slot's first reading, over the time since then; of everything else the mean of the slots"
            }
            Function::Peak => "the highest of all readings",
            Function::Low => "the lowest of the slots",
            Function::Growth => {
                "the reading now minus the first reading of the oldest slot; without a window, minus the first reading since the subject was first seen. A size or a duration that fell has grown by 0"
            }
            Function::Climb => {
                "how far the low-water mark rose: the lowest of the newest quarter of the slots minus the lowest of the oldest quarter, at least 0. What fills and empties again does not raise it"
            }
            Function::Slope => "of sizes: the least-squares line through the slots, as a rate; falling is negative",
            Function::Until => {
                "the time until the level is reached at the present least-squares slope: 0 when it is past the level, never when it does not approach it. `machine.memory.available` and `machine.files.free` are past a level below it, everything else above it"
            }
            Function::Typical => {
                "the median for this app on this machine, over all hours in which it was there, by the history of usage: of a process that of one of its processes, of a group that of all of them together. Of cpu, memory.held, disk.read and disk.write; unknown before it was there for 8 hours"
            }
        }
    }
}

/// A function of a field over a window.
#[derive(Debug, Clone, PartialEq)]
pub struct Series {
    /// The function.
    pub function: Function,
    /// Of what.
    pub field: Field,
    /// Over how long; `None` for `typical`, and for `growth` since the subject was first seen.
    pub window: Option<Duration>,
    /// The level that `until` asks for.
    pub level: Option<Value>,
    /// Which window of its rule it reads.
    pub(crate) place: usize,
}

impl Series {
    /// The kind of its readings.
    pub fn kind(&self) -> Kind {
        match self.function {
            Function::Slope => Kind::Rate,
            Function::Until => Kind::Duration,
            _ => self.field.kind(),
        }
    }

    /// What the slots of its window keep.
    pub fn keep(&self) -> Keep {
        match (self.function, self.window) {
            (Function::Typical, _) => Keep::Nothing,
            (Function::Growth, None) => Keep::FirstOfAll,
            (Function::Avg, _) if matches!(self.field, Field::Cpu | Field::CpuPart) => Keep::CpuTime,
            (Function::Avg, _) if self.field.counted().is_some() => Keep::Count,
            (Function::Growth, _) => Keep::First,
            (Function::Peak, _) => Keep::Highest,
            // A level that costs a file is read once a slot; a peak may be at any time, and so may be what a rate comes to.
            _ if self.field.info().cost.is_a_file() && !self.field.info().rate => Keep::First,
            (Function::Avg | Function::Slope | Function::Until, _) => Keep::Mean,
            (Function::Low | Function::Climb, _) => Keep::Lowest,
        }
    }
}

impl fmt::Display for Series {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}({}", self.function.name(), self.field)?;
        if let Some(level) = &self.level {
            write!(f, ", {level}")?;
        }
        if let Some(window) = self.window {
            write!(f, ", {}", exact_duration(window))?;
        }
        f.write_str(")")
    }
}
