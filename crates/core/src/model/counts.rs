//! What a process has done in all, as far as it was read: figures that only rise, of which rates are the pace.

use super::Field;

/// Not known.
const UNKNOWN: u64 = u64::MAX;

/// Bytes read and written, page faults that waited for a disk, and CPU time of ended children that nobody had seen: each up to the
/// last time that it was read. What is counted from (the start of the process, or of a recording) says nothing; differences do.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Counts {
    read: u64,
    written: u64,
    faults: u64,
    children: u64,
}

impl Counts {
    /// Nothing.
    pub const UNKNOWN: Counts = Counts { read: UNKNOWN, written: UNKNOWN, faults: UNKNOWN, children: UNKNOWN };

    /// Bytes read from and written to disks (`io` read_bytes and write_bytes).
    pub fn set_disk(&mut self, moved: Option<(u64, u64)>) {
        (self.read, self.written) = moved.unwrap_or((UNKNOWN, UNKNOWN));
    }

    /// Bytes read from and written to disks.
    pub fn disk(&self) -> Option<(u64, u64)> {
        (self.read != UNKNOWN).then_some((self.read, self.written))
    }

    /// Page faults that waited for a disk (`stat` field 12).
    pub fn set_faults(&mut self, faults: u64) {
        self.faults = faults;
    }

    /// Page faults that waited for a disk.
    pub fn faults(&self) -> Option<u64> {
        (self.faults != UNKNOWN).then_some(self.faults)
    }

    /// CPU time of ended children that nobody had seen, nanoseconds (`stat` fields 16 and 17, less what was seen of them).
    pub fn set_children(&mut self, nanoseconds: u64) {
        self.children = nanoseconds;
    }

    /// CPU time of ended children that nobody had seen, nanoseconds.
    pub fn children(&self) -> Option<u64> {
        (self.children != UNKNOWN).then_some(self.children)
    }

    /// What is behind a rate: bytes, faults, nanoseconds; `None` where that is not known, or the field is no such rate.
    pub(crate) fn behind(&self, field: Field) -> Option<u64> {
        match field {
            Field::Disk => self.disk().map(|(read, written)| read.saturating_add(written)),
            Field::DiskRead => self.disk().map(|(read, _)| read),
            Field::DiskWrite => self.disk().map(|(_, written)| written),
            Field::Faults => self.faults(),
            Field::CpuChildren => self.children(),
            _ => None,
        }
    }

    /// The same after an interval of so many seconds at these rates: bytes read and written a second, faults a second, percent of
    /// one core. What has no rate has not moved as far as is known.
    pub fn after(
        &mut self,
        seconds: f64,
        (read, written): (Option<f32>, Option<f32>),
        faults: Option<f32>,
        cpu: Option<f32>,
    ) {
        let rise = |count: &mut u64, rate: Option<f32>, each: f64| {
            let rise = f64::from(rate.unwrap_or(0.0)) * seconds * each;
            *count = (if *count == UNKNOWN { 0 } else { *count }).saturating_add(rise.max(0.0) as u64).min(UNKNOWN - 1);
        };
        if read.is_some() || self.read != UNKNOWN {
            rise(&mut self.read, read, 1.0);
            rise(&mut self.written, written, 1.0);
        }
        if faults.is_some() || self.faults != UNKNOWN {
            rise(&mut self.faults, faults, 1.0);
        }
        if cpu.is_some() || self.children != UNKNOWN {
            rise(&mut self.children, cpu, 1e7);
        }
    }
}
