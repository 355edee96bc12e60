//! What a checkup says of the machine's figures.

use std::time::Duration;

use super::limits::{Limits, Watched};
use super::{Figure, Scene};
use crate::facts::Facts;
use crate::model::{Cost, Field, Machine, Passing, Process};
use crate::severity::Severity;
use crate::units::{Value, scaled_percent, scaled_size};

/// A figure of the machine with its limit; `None` where it is unknown.
pub(super) fn figure(machine: &Machine, limits: &Limits, watched: Watched) -> Option<Figure> {
    let value = watched.of(machine)?;
    let severity = limits.weigh(watched, value);
    let shown = watched.limit().shown(value);
    let words = match watched {
        Watched::StallCpu => format!("{shown} of the time somebody waited for a core"),
        Watched::StallMemory => format!("{shown} of the time somebody waited for memory"),
        Watched::StallIo => format!("{shown} of the time somebody waited for a disk"),
        Watched::Cpu => format!("{shown} of the CPU was busy"),
        Watched::CoreFullest => format!("the fullest core was busy {shown} of the time"),
        Watched::LoadCore => format!("load {shown} for each core"),
        Watched::MemoryAvailable => {
            let bytes = scaled_size(machine.memory_available.unwrap_or(0) as f64);
            format!("{bytes}, {shown} of RAM, can still be had")
        }
        Watched::SwapTraffic => format!("{shown} were swapped in and out"),
        Watched::Iowait => format!("{shown} of the cores' time was idle, waiting for a disk"),
        Watched::DiskBusy => {
            let name = machine.disks.first().map_or("the busiest disk", |disk| disk.name.as_str());
            let answer = machine.disk_answer.map(|answer| format!(", a request took {}", milliseconds(answer)));
            format!("{name} was busy {shown} of the time{}", answer.unwrap_or_default())
        }
        Watched::FilesFull => format!("the fullest file system is {shown} full"),
        Watched::FilesFree => format!("{shown} free"),
    };
    Some(Figure { field: watched.limit().field, value, words, limit: limits.passed(watched, severity), severity })
}

/// `0.8 ms`, `24 ms`, `1.2 s`.
fn milliseconds(answer: Duration) -> String {
    match answer.as_secs_f64() {
        long if long >= 1.0 => format!("{long:.1} s"),
        short if short < 0.01 => format!("{:.1} ms", short * 1000.0),
        middle => format!("{:.0} ms", middle * 1000.0),
    }
}

/// Which way the load goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Trend {
    Rising,
    Easing,
    /// It was beyond its limit within the last minutes, and is not now.
    Over,
    Steady,
}

pub(super) fn trend(machine: &Machine, limits: &Limits) -> Option<Trend> {
    let [one, five, _] = machine.load?;
    let cores = f64::from(machine.cores.max(1));
    let beyond = |load: f64| limits.weigh(Watched::LoadCore, load / cores).is_some();
    Some(match () {
        () if beyond(five) && !beyond(one) => Trend::Over,
        () if one > five * 1.15 + 0.1 => Trend::Rising,
        () if one < five * 0.85 - 0.1 => Trend::Easing,
        () => Trend::Steady,
    })
}

impl Trend {
    fn words(self) -> &'static str {
        match self {
            Trend::Rising => "rising",
            Trend::Easing => "easing",
            Trend::Over => "the rush of the last minutes is over",
            Trend::Steady => "steady",
        }
    }
}

/// `load 6.2, 5.1 and 2.0 over 1, 5 and 15 minutes on 4 cores: rising; of those that wait, 2 in 7 wait for a disk`.
pub(super) fn load(scene: &Scene, limits: &Limits) -> Option<String> {
    let machine = &scene.snapshot.machine;
    let [one, five, fifteen] = machine.load?;
    let trend = trend(machine, limits)?.words();
    let mut text = format!(
        "load {one:.1}, {five:.1} and {fifteen:.1} over 1, 5 and 15 minutes on {} cores: {trend}",
        machine.cores
    );
    if let Some(share) = disk_share_of_load(scene).filter(|share| *share >= 0.1) {
        text.push_str(&format!("; {} of it only waits for a disk", scaled_percent(share * 100.0)));
    }
    Some(text)
}

/// Which part of the load is threads that wait for a disk.
pub(super) fn disk_share_of_load(scene: &Scene) -> Option<f64> {
    let [running, blocked] = scene.queues;
    let (running, blocked) = (running?, blocked?);
    (running + blocked >= 0.5).then(|| blocked / (running + blocked))
}

/// `cpu 26% of 4 cores (programs 20%, kernel 5%), the fullest core 93%`.
pub(super) fn cpu(machine: &Machine) -> Option<String> {
    let busy = scaled_percent(machine.cpu?);
    let fullest = machine.core_fullest.map(|core| format!("; the fullest core {}", scaled_percent(core)));
    Some(format!("cpu {busy} of {} cores{}{}", machine.cores, split(machine), fullest.unwrap_or_default()))
}

/// ` (programs 20%, kernel 5%)`, as far as it is known.
pub(super) fn split(machine: &Machine) -> String {
    let Some(split) = &machine.split else { return String::new() };
    let parts = [
        ("programs", split.user),
        ("mild programs", split.nice),
        ("kernel", split.kernel),
        ("devices", split.interrupts),
        ("taken by other machines on this hardware", split.stolen),
    ];
    let shown: Vec<String> = parts
        .iter()
        .filter(|(_, share)| *share >= 0.5)
        .map(|(name, share)| format!("{name} {}", scaled_percent(*share)))
        .collect();
    if shown.is_empty() { String::new() } else { format!(" ({})", shown.join(", ")) }
}

/// `memory 3.4 GiB of 8 GiB can still be had; swap 102 MiB in use, no traffic`.
pub(super) fn memory(machine: &Machine) -> Option<String> {
    let available = scaled_size(machine.memory_available? as f64);
    let total = scaled_size(machine.memory_total as f64);
    let swap = machine.swap_used.filter(|used| *used > 0).map(|used| {
        let traffic = machine.swap_traffic.filter(|traffic| *traffic >= 1.0);
        let traffic = traffic.map_or("no traffic".to_owned(), |traffic| Value::Rate(traffic).scaled());
        format!("; swap {} in use, {traffic}", scaled_size(used as f64))
    });
    Some(format!("memory {available} of {total} can still be had{}", swap.unwrap_or_default()))
}

/// Who came and went most, of those that the kernel told of.
pub(super) fn passing(machine: &Machine, length: Duration) -> String {
    let seconds = length.as_secs_f64().max(f64::MIN_POSITIVE);
    let one = |passing: &Passing| {
        let who = match passing.name.as_str() {
            "" => format!("others of {}", passing.owner),
            name => format!("{name} ({})", passing.owner),
        };
        let often = (f64::from(passing.count) / seconds).round().max(1.0);
        format!("{who}, {often:.0} a second, {}", scaled_percent(passing.cpu))
    };
    let most: Vec<String> = machine.passing.iter().take(3).filter(|passing| passing.cpu >= 1.0).map(one).collect();
    if most.is_empty() {
        String::new()
    } else {
        format!("; of what came and went, most was used by {}", most.join("; "))
    }
}

/// `disks vda 2% busy, answers in 0.8 ms; sdb 0% busy`.
pub(super) fn disks(machine: &Machine) -> Option<String> {
    if machine.disks.is_empty() {
        return machine.disk_busy.map(|busy| format!("disks the busiest {} busy", scaled_percent(busy)));
    }
    let disk = |disk: &crate::model::DiskUse| {
        let answer = disk.answer.map(|answer| format!(", answers in {}", milliseconds(answer)));
        format!("{} {} busy{}", disk.name, scaled_percent(disk.busy), answer.unwrap_or_default())
    };
    let shown: Vec<String> = machine.disks.iter().take(4).map(disk).collect();
    let more = machine.disks.len().saturating_sub(4);
    let more = if more > 0 { format!("; {more} more, less busy") } else { String::new() };
    Some(format!("disks {}{more}", shown.join("; ")))
}

/// `file systems / 71% full, 24 GiB free`.
pub(super) fn volumes(machine: &Machine) -> Option<String> {
    if machine.volumes.is_empty() {
        return machine.files_full.map(|full| format!("file systems the fullest {} full", scaled_percent(full)));
    }
    let volume = |volume: &crate::model::Volume| {
        format!("{} {} full, {} free", volume.point, scaled_percent(volume.full()), scaled_size(volume.free as f64))
    };
    let shown: Vec<String> = machine.volumes.iter().take(4).map(volume).collect();
    let more = machine.volumes.len().saturating_sub(4);
    let more = if more > 0 { format!("; {more} more") } else { String::new() };
    Some(format!("file systems {}{more}", shown.join("; ")))
}

/// Over how long, longer than the measuring, a stall share is beyond its limit on average: not since when.
pub(super) fn lasted(stall: Option<crate::model::Stall>, notice: f64) -> Option<Duration> {
    let stall = stall?;
    let beyond = |average: Option<f64>| average.is_some_and(|average| average >= notice);
    match () {
        () if beyond(stall.five_minutes) => Some(Duration::from_secs(300)),
        () if beyond(stall.minute) => Some(Duration::from_secs(60)),
        () => None,
    }
}

/// What of the processes could be read of some only, and the right that is wanting.
pub(super) fn partly_read(processes: &[Process], privileged: bool) -> Vec<String> {
    let machine = Machine::default();
    let alive: Vec<&Process> = processes.iter().filter(|process| !process.has_ended() && !process.kernel).collect();
    let mut lines = Vec::new();
    for (field, what) in
        [(Field::DiskRead, "disk rates"), (Field::Path, "files they run"), (Field::MemoryHeld, "memory held")]
    {
        let read = alive.iter().filter(|process| Facts::new(process, &machine).reading(field).is_some()).count();
        if read < alive.len() {
            let why = match (field.info().cost, privileged) {
                (Cost::Io | Cost::Free, false) => ": those of others are for root to read",
                _ => "",
            };
            lines.push(format!("{what} of {} of {} processes{why}", alive.len() - read, alive.len()));
        }
    }
    lines
}

/// The worst of these figures by themselves.
pub(super) fn worst<'f>(figures: impl IntoIterator<Item = &'f Figure>) -> Option<Severity> {
    figures.into_iter().filter_map(|figure| figure.severity).max()
}
