//! The judgement: figures against their limits, and what they mean together.
//!
//! Where the kernel tells how long somebody stood still (the stall shares), that leads: a busy machine on which nobody
//! waits is not short of anything. Figures that cannot be read are left out, never taken for zero.

use super::limits::Watched;
use super::suspects::Lineup;
use super::words::{self, Trend, figure, worst};
use super::{Figure, Finding, FindingKind, Next, Report, Scene, Settings, Since, Surroundings, Suspect};
use crate::model::{Machine, Process, Stall};
use crate::order::InOrder;
use crate::severity::Severity;
use crate::text;
use crate::units::{scaled_percent, scaled_size};

/// A group that uses that part of its limit is at it.
const AT_ITS_LIMIT: f64 = 0.95;

/// Page faults that wait for a disk, a second, of a group that is short of memory.
const THRASHING: f64 = 20.0;

/// A deleted file is named when it takes that part of its file system, or that many bytes.
const HELD_PART: u64 = 200;
const HELD_BYTES: u64 = 256 << 20;

/// One look at everything together.
pub fn check(scene: &Scene, settings: &Settings, around: &Surroundings<'_>) -> Report {
    let inquiry = Inquiry { scene, settings, around, lineup: Lineup::new(scene, around) };
    let mut findings: Vec<Finding> = Vec::new();
    findings.extend(inquiry.memory());
    findings.extend(inquiry.cpu());
    let disk = inquiry.disk(findings.iter().any(|finding| finding.kind == FindingKind::Memory));
    // A shortage of memory that keeps a disk busy does that harm as well.
    if let Some((memory, disk)) =
        findings.iter_mut().find(|finding| finding.kind == FindingKind::Memory).zip(disk.as_ref())
    {
        memory.severity = memory.severity.max(disk.severity);
    }
    findings.extend(disk);
    findings.extend(inquiry.files());
    let busy = findings.iter().any(|finding| finding.kind == FindingKind::Cpu);
    findings.extend(if busy { None } else { inquiry.core() });
    let explained = findings.iter().any(|finding| matches!(finding.kind, FindingKind::Cpu | FindingKind::Disk));
    findings.extend(if explained { None } else { inquiry.load() });
    findings.extend(inquiry.held_up());
    findings.extend(inquiry.grows());
    let told = findings.iter().any(|finding| matches!(finding.kind, FindingKind::Cpu | FindingKind::Core));
    findings.extend(if told { None } else { inquiry.not_attributable() });
    for finding in &mut findings {
        finding.known = settings.known.iter().find(|known| known.is(finding)).map(|known| known.reason.clone());
    }
    findings.order_by_key(|finding| (finding.known.is_some(), std::cmp::Reverse(finding.severity), finding.kind));
    let own = scene.snapshot.processes.iter().filter(|process| around.own.contains(&process.id.pid));
    let own: Vec<f64> = own.filter_map(|process| process.cpu).collect();
    Report {
        verdict: verdict(&findings),
        fine: inquiry.fine(&findings),
        unread: inquiry.unread(),
        findings,
        own: (!own.is_empty()).then(|| own.iter().sum()),
    }
}

/// The second line: every shortage, the worst first; or that nothing is short, and what else is worth knowing.
fn verdict(findings: &[Finding]) -> String {
    let heads = |shortage: bool| {
        let news = findings.iter().filter(|finding| finding.known.is_none());
        let heads: Vec<&str> = news
            .filter(|finding| finding.kind.is_shortage() == shortage)
            .map(|finding| finding.headline.as_str())
            .collect();
        heads.join("; ")
    };
    let (short, other) = (heads(true), heads(false));
    let known = findings.iter().filter(|finding| finding.known.is_some()).count();
    let known = match known {
        0 => String::new(),
        1 => " (but for 1 known finding)".to_owned(),
        many => format!(" (but for {many} known findings)"),
    };
    match (short.is_empty(), other.is_empty()) {
        (false, _) => short,
        (true, true) => format!("nothing is short{known}"),
        (true, false) => format!("nothing is short{known}; {other}"),
    }
}

/// Everything that the judgement looks at.
pub(super) struct Inquiry<'s> {
    pub(super) scene: &'s Scene,
    pub(super) settings: &'s Settings,
    pub(super) around: &'s Surroundings<'s>,
    pub(super) lineup: Lineup<'s>,
}

impl Inquiry<'_> {
    pub(super) fn machine(&self) -> &Machine {
        &self.scene.snapshot.machine
    }

    pub(super) fn figures(&self, watched: &[Watched]) -> Vec<Figure> {
        watched.iter().filter_map(|watched| figure(self.machine(), &self.settings.limits, *watched)).collect()
    }

    /// What could be done about the first suspect. Not to Sophron itself, the kernel, the protected and the honest; and
    /// nothing is done to a recording.
    pub(super) fn act(&self, suspects: &[Suspect], verb: &str, options: &str, what: &'static str) -> Option<Next> {
        let first = suspects.first().filter(|_| !self.around.recorded)?;
        let kernel = self.lineup.process(first.id.pid).is_some_and(|process| process.kernel);
        let spared = first.honest.is_some() || kernel || self.around.own.contains(&first.id.pid);
        (!spared).then(|| Next::Type(format!("{verb} {}{options}", first.id.checked()), what))
    }

    /// By earlier samples, or by the kernel's longer averages.
    pub(super) fn since(&self, watched: &[Watched], stall: Option<Stall>) -> Option<Since> {
        let earliest = watched.iter().filter_map(|watched| self.around.past.since(*watched)).min();
        let lasted = || words::lasted(stall, self.settings.limits.levels(watched[0]).0);
        earliest.map(Since::At).or_else(|| lasted().map(Since::OnAverage))
    }

    fn memory(&self) -> Option<Finding> {
        let machine = self.machine();
        let watched = [Watched::StallMemory, Watched::MemoryAvailable, Watched::SwapTraffic];
        let figures = self.figures(&watched);
        let by = |watched: Watched| figures.iter().find(|figure| figure.field == watched.limit().field);
        let severity = |watched: Watched| by(watched).and_then(|figure| figure.severity);
        let (stall, available, swap) =
            (severity(Watched::StallMemory), severity(Watched::MemoryAvailable), severity(Watched::SwapTraffic));
        // Without stall figures swapping tells it; with them, swapping on which nobody waits is worth knowing only.
        let swap =
            if by(Watched::StallMemory).is_some() && stall.is_none() { swap.map(|_| Severity::Notice) } else { swap };
        let tight = self.tight_group(stall.is_some());
        let of_machine = available.max(swap);
        let severity = stall.max(of_machine).or(tight.map(|_| Severity::Notice))?;
        let mut remarks = Vec::new();
        let (headline, suspects) = match tight {
            Some(group) if of_machine.is_none() => {
                remarks.push(format!(
                    "the control group {} uses {} of the {} that it may have; the machine itself has memory left",
                    group.group,
                    scaled_size(group.used as f64),
                    scaled_size(group.limit as f64)
                ));
                let member = |process: &Process| group.members.contains(&process.id.pid);
                (format!("short of memory in the control group {}", group.group), self.lineup.by_memory(member))
            }
            _ if of_machine.is_none() => {
                remarks.push("the machine itself has memory left: a control group may be at its limit".to_owned());
                ("some programs wait for memory".to_owned(), self.lineup.by_memory(|_| true))
            }
            _ => ("short of memory".to_owned(), self.lineup.by_memory(|_| true)),
        };
        let traffic = machine.swap_traffic.is_some_and(|traffic| traffic > 0.0);
        if let (Some(used), false) = (machine.swap_used.filter(|used| *used > 0), traffic) {
            remarks.push(format!("{} of swap is in use, at rest", scaled_size(used as f64)));
        }
        let mut next: Vec<Next> = let_finish(&suspects).into_iter().collect();
        next.extend(inspections(&suspects, "who it is, and which of its memory is its own"));
        next.extend(self.act(
            &suspects,
            "suspend",
            "",
            "it grows no further, keeps what it has, and goes on after 5 m",
        ));
        next.extend(self.act(&suspects, "terminate", "", "only its end frees the memory"));
        next.push(Next::Type("list --group app --by memory".to_owned(), "all programs by memory"));
        let of = tight.filter(|_| of_machine.is_none()).map(|group| group.group.clone());
        let since = self.since(&watched, machine.stall_memory);
        Some(
            finding(FindingKind::Memory, severity, headline)
                .with(figures, since, suspects)
                .saying(remarks, next)
                .of(of),
        )
    }

    /// The control group at its memory limit whose processes wait for pages.
    fn tight_group(&self, stalled: bool) -> Option<&super::GroupMemory> {
        let faults = |group: &super::GroupMemory| {
            let members = self.scene.snapshot.processes.iter().filter(|p| group.members.contains(&p.id.pid));
            members.filter_map(|process| process.faults).map(f64::from).sum::<f64>()
        };
        let full = |group: &&super::GroupMemory| group.used as f64 >= group.limit as f64 * AT_ITS_LIMIT;
        let tight = self.around.groups.iter().filter(full).filter(|group| stalled || faults(group) >= THRASHING);
        tight.max_by(|a, b| faults(a).total_cmp(&faults(b)))
    }

    fn disk(&self, memory: bool) -> Option<Finding> {
        let machine = self.machine();
        let watched = [Watched::StallIo, Watched::Iowait, Watched::DiskBusy];
        let figures = self.figures(&watched);
        let severity = |watched: Watched| {
            figures.iter().find(|figure| figure.field == watched.limit().field).and_then(|figure| figure.severity)
        };
        let (stall, iowait, busy) =
            (severity(Watched::StallIo), severity(Watched::Iowait), severity(Watched::DiskBusy));
        let known_stall = machine.stall_io.is_some();
        let (severity, headline) = match (stall, iowait.max(busy)) {
            (Some(stall), _) => (stall, "waiting on disk"),
            (None, Some(_)) if known_stall && iowait.is_none() => {
                (Severity::Notice, "a disk is always busy, and hardly anybody waits for it")
            }
            (None, Some(_)) if known_stall => (Severity::Notice, "waiting on disk"),
            (None, Some(other)) => (other, "waiting on disk"),
            (None, None) => return None,
        };
        let mut remarks = Vec::new();
        let suspects = self.lineup.by_disk();
        if memory {
            remarks.push("a shortage of memory keeps a disk busy by itself: mend that first".to_owned());
        } else if suspects.is_empty() {
            remarks.push(
                "nobody is seen to read or write: the kernel may be writing what programs left it a while ago"
                    .to_owned(),
            );
        }
        if let Some(share) = words::disk_share_of_load(self.scene).filter(|share| *share >= 0.3) {
            remarks.push(format!("{} of the load only waits for a disk", scaled_percent(share * 100.0)));
        }
        let mut next: Vec<Next> = let_finish(&suspects).into_iter().collect();
        next.extend(inspections(&suspects, "who it is, and what it waits for"));
        next.extend(self.act(&suspects, "lower", " --only disk", "it gets the disk when nobody else wants it"));
        next.push(Next::Type("list --by disk".to_owned(), "all programs by what they read and write"));
        let since = self.since(&watched, machine.stall_io);
        Some(finding(FindingKind::Disk, severity, headline).with(figures, since, suspects).saying(remarks, next))
    }

    fn files(&self) -> Vec<Finding> {
        let (machine, limits) = (self.machine(), &self.settings.limits);
        if machine.volumes.is_empty() {
            let figures = self.figures(&[Watched::FilesFull]);
            let worst = worst(&figures);
            let found = worst.map(|severity| {
                finding(FindingKind::Files, severity, "a file system is nearly full").with(figures, None, Vec::new())
            });
            return found.into_iter().collect();
        }
        let mut findings = Vec::new();
        for volume in &machine.volumes {
            let full = limits.weigh(Watched::FilesFull, volume.full());
            // Of a small file system little is free by nature.
            let levels = limits.levels(Watched::FilesFree);
            let counts = |level: f64| volume.size as f64 >= 4.0 * level && (volume.free as f64) < level;
            let free = match () {
                () if counts(levels.1) => Some(Severity::Critical),
                () if counts(levels.0) => Some(Severity::Notice),
                () => None,
            };
            let Some(severity) = full.max(free) else { continue };
            let left = scaled_size(volume.free as f64);
            let of_full = full.is_some();
            let watched = if of_full { Watched::FilesFull } else { Watched::FilesFree };
            let figure = Figure {
                field: watched.limit().field,
                value: if of_full { volume.full() } else { volume.free as f64 },
                words: format!(
                    "{} ({}) is {} full, {left} of {} free",
                    volume.point,
                    volume.device,
                    scaled_percent(volume.full()),
                    scaled_size(volume.size as f64)
                ),
                limit: limits.passed(watched, if of_full { full } else { free }),
                severity: Some(severity),
            };
            let held: Vec<_> = self
                .around
                .held
                .iter()
                .filter(|file| file.number == volume.number && file.size >= HELD_BYTES.min(volume.size / HELD_PART))
                .collect();
            let mut suspects = self.lineup.by_held_files(&held);
            let mut remarks = Vec::new();
            if !held.is_empty() {
                // Of a sparse file the size is whatever its owner likes.
                let size = held.iter().map(|file| file.size).fold(0, u64::saturating_add);
                let size = scaled_size(size as f64);
                remarks.push(format!("{size} of it are deleted files that are still open: they come free when their holder closes them, or ends"));
            }
            let writers = self.lineup.by_disk();
            suspects.extend(writers.into_iter().filter(|suspect| !suspect.amount.ends_with("writes 0 B/s")));
            let next = inspections(&suspects, "who it is, and which files it holds");
            let found = finding(FindingKind::Files, severity, format!("{} is nearly full", volume.point));
            let found = found.of(Some(volume.point.clone()));
            findings.push(found.with(vec![figure], None, suspects).saying(remarks, next));
        }
        findings
    }

    /// Neither CPU nor disk is busy, and yet threads queue: a network disk that does not answer, mostly.
    fn load(&self) -> Option<Finding> {
        let figures = self.figures(&[Watched::LoadCore]);
        worst(&figures)?;
        if matches!(words::trend(self.machine(), &self.settings.limits)?, Trend::Easing | Trend::Over) {
            return None;
        }
        let suspects = self.lineup.by_disk();
        let mut remarks: Vec<String> = words::load(self.scene, &self.settings.limits).into_iter().collect();
        remarks.push("neither the CPU nor a disk is busy: threads may wait for a network disk or a device".to_owned());
        let next = inspections(&suspects, "what it waits for");
        let found = finding(FindingKind::Load, Severity::Notice, "the load is high, with neither CPU nor disk busy");
        let since = self.since(&[Watched::LoadCore], None);
        Some(found.with(figures, since, suspects).saying(remarks, next))
    }

    fn fine(&self, findings: &[Finding]) -> Vec<String> {
        let machine = self.machine();
        let found = |kind: FindingKind| findings.iter().any(|finding| finding.kind == kind);
        let mut lines = Vec::new();
        if !found(FindingKind::Cpu) && !found(FindingKind::Core) {
            lines.extend(words::cpu(machine));
        }
        if !found(FindingKind::Cpu) && !found(FindingKind::Load) {
            lines.extend(words::load(self.scene, &self.settings.limits));
        }
        if !found(FindingKind::Memory) {
            lines.extend(words::memory(machine));
        }
        if !found(FindingKind::Disk) {
            lines.extend(words::disks(machine));
        }
        if !found(FindingKind::Files) {
            lines.extend(words::volumes(machine));
        }
        let mut none: Vec<&str> = [
            (FindingKind::Stuck, "stuck"),
            (FindingKind::Frozen, "frozen"),
            (FindingKind::Suspended, "suspended"),
            (FindingKind::Zombies, "a zombie"),
        ]
        .into_iter()
        .filter(|(kind, _)| !found(*kind))
        .map(|(_, word)| word)
        .collect();
        if let Some(last) = none.pop() {
            let list = if none.is_empty() { last.to_owned() } else { format!("{} or {last}", none.join(", ")) };
            lines.push(format!("{}, none {list}", text::processes(machine.processes as usize)));
        }
        lines
    }

    fn unread(&self) -> Vec<String> {
        let machine = self.machine();
        let mut lines = Vec::new();
        let recorded = self.around.recorded;
        let absent = |what: &str, why: &str| {
            if recorded { format!("{what} (not in this recording)") } else { format!("{what}{why}") }
        };
        if machine.hidden {
            lines.push("processes of other users: hidden from you (hidepid); as root they are seen".to_owned());
        }
        if machine.stall_cpu.is_none() && machine.stall_memory.is_none() && machine.stall_io.is_none() {
            lines.push(absent(
                "kernel stall shares",
                ": this kernel has no /proc/pressure, so CPU, memory and disk are judged by how busy they are",
            ));
        }
        if machine.cpu.is_none() {
            lines.push(absent("how busy the CPU is", ""));
        }
        if machine.memory_available.is_none() {
            lines.push(absent("available memory", ""));
        }
        if machine.disk_busy.is_none() {
            lines.push(absent("disk figures", ": /proc/diskstats shows no disk that has done anything"));
        }
        if machine.volumes.is_empty() {
            lines.push(absent("file systems one by one", ": no disk of this machine is mounted here"));
        }
        for point in &self.around.silent {
            lines.push(format!("{point}: its disk did not answer"));
        }
        if !recorded {
            lines.extend(words::partly_read(&self.scene.snapshot.processes, self.around.privileged));
        }
        lines
    }
}

/// For the honest and the protected the first advice is to let them finish.
pub(super) fn let_finish(suspects: &[Suspect]) -> Option<Next> {
    let first = suspects.first()?;
    let why = first.honest.as_ref()?;
    Some(Next::Say(format!("let {} finish: {why}", first.app)))
}

pub(super) fn inspections(suspects: &[Suspect], what: &'static str) -> Vec<Next> {
    let first = suspects.first();
    first.map(|suspect| Next::Type(format!("inspect {} --for 5s", suspect.id.checked()), what)).into_iter().collect()
}

pub(super) fn finding(kind: FindingKind, severity: Severity, headline: impl Into<String>) -> Finding {
    Finding {
        kind,
        severity,
        headline: headline.into(),
        figures: Vec::new(),
        since: None,
        of: None,
        suspects: Vec::new(),
        remarks: Vec::new(),
        next: Vec::new(),
        known: None,
    }
}

impl Finding {
    /// Figures beyond their limits come first.
    pub(super) fn with(mut self, figures: Vec<Figure>, since: Option<Since>, suspects: Vec<Suspect>) -> Finding {
        self.figures = figures;
        self.figures.order_by_key(|figure| std::cmp::Reverse(figure.severity));
        self.since = since;
        self.suspects = suspects;
        self
    }

    pub(super) fn saying(mut self, remarks: Vec<String>, next: Vec<Next>) -> Finding {
        self.remarks = remarks;
        self.next = next;
        self
    }

    fn of(mut self, of: Option<String>) -> Finding {
        self.of = of;
        self
    }
}
