//! Who is short of CPU, who keeps a core to himself, and CPU that nobody is seen to use.

use super::findings::{Inquiry, finding, inspections, let_finish};
use super::limits::Watched;
use super::words::{self, worst};
use super::{Finding, FindingKind, Next};
use crate::model::Process;
use crate::severity::Severity;
use crate::units::scaled_percent;

/// CPU that nobody is seen to use, percent of one core, from which on it is said.
const UNSEEN: f64 = 25.0;

/// The same of whom the kernel told of, whose part may have been seen in passing.
const TOLD: f64 = 5.0;

/// CPU of a process that is named with a shortage of CPU, percent of one core.
const SUSPECT: f64 = 10.0;

impl Inquiry<'_> {
    pub(super) fn cpu(&self) -> Option<Finding> {
        let machine = self.machine();
        let watched = [Watched::StallCpu, Watched::Cpu, Watched::LoadCore];
        let figures = self.figures(&watched);
        let severity = |watched: Watched| {
            figures.iter().find(|figure| figure.field == watched.limit().field).and_then(|figure| figure.severity)
        };
        let (stall, busy) = (severity(Watched::StallCpu), severity(Watched::Cpu));
        let known_stall = machine.stall_cpu.is_some();
        let free = machine.cpu.is_some_and(|cpu| cpu < 60.0);
        let (severity, headline) = match (stall, busy) {
            (Some(stall), _) if free => (stall, "some programs wait for CPU although there is some left"),
            (Some(stall), _) => (stall, "short of CPU"),
            (None, Some(_)) if known_stall => (Severity::Notice, "the CPU is used up, and hardly anybody waits for it"),
            (None, Some(busy)) => (busy, "short of CPU"),
            (None, None) => return None,
        };
        let mut remarks = Vec::new();
        if free {
            remarks.push("they may be held to a quota of their control group, or to a single core".to_owned());
        }
        let split = words::split(machine);
        if !split.is_empty() {
            remarks.push(format!("the CPU went to{}", split.replace(['(', ')'], "")));
        }
        remarks.extend(words::load(self.scene, &self.settings.limits));
        remarks.extend(self.unseen());
        let suspects = self.lineup.by_cpu(SUSPECT);
        let mut next = Vec::new();
        next.extend(let_finish(&suspects));
        next.extend(inspections(&suspects, "who it is, and whether it works or hangs"));
        next.extend(self.act(&suspects, "lower", "", "it gives way to the others, as far as that works here"));
        next.push(Next::Type("list --group app".to_owned(), "all programs by CPU"));
        let since = self.since(&watched[..2], machine.stall_cpu);
        Some(finding(FindingKind::Cpu, severity, headline).with(figures, since, suspects).saying(remarks, next))
    }

    /// Where nothing else tells of it: somebody uses CPU, and nobody is seen to.
    pub(super) fn not_attributable(&self) -> Option<Finding> {
        let remark = self.unseen_words(self.unseen_cpu().filter(|unseen| self.stands_out(*unseen))?);
        let most = self.machine().passing.first().filter(|most| most.cpu >= UNSEEN && !most.name.is_empty());
        let headline = match most {
            Some(most) => format!("CPU goes to short-lived processes: {} ({})", most.name, most.owner),
            None => "CPU goes to nobody who is seen".to_owned(),
        };
        let more =
            "what they use is counted with their unit and their owner: a rule that judges those by `cpu` sees it";
        let next = vec![Next::Type("list --group unit".to_owned(), "which unit's processes come and go")];
        let found = finding(FindingKind::Unseen, Severity::Notice, headline);
        Some(found.with(Vec::new(), None, Vec::new()).saying(vec![remark, more.to_owned()], next))
    }

    /// CPU that the machine was busy with and no process shows, percent of one core.
    fn unseen_cpu(&self) -> Option<f64> {
        let machine = self.machine();
        let all = self.busy_cores()?;
        let devices = machine.split.map_or(0.0, |split| (split.interrupts + split.stolen) * f64::from(machine.cores));
        let seen = self.scene.snapshot.processes.iter().map(Process::accounted_cpu);
        Some(all - devices - seen.sum::<f64>() - self.scene.ended)
    }

    /// What the machine was busy with, percent of one core.
    fn busy_cores(&self) -> Option<f64> {
        Some(self.machine().cpu? * f64::from(self.machine().cores))
    }

    /// Whether it is more than figures of different moments may differ by.
    fn stands_out(&self, unseen: f64) -> bool {
        unseen >= UNSEEN.max(self.busy_cores().unwrap_or(0.0) * 0.1)
    }

    /// What is to be said of it: where the kernel told who it was, also a little.
    fn unseen(&self) -> Option<String> {
        let unseen = self.unseen_cpu()?;
        let told: f64 = self.machine().passing.iter().map(|passing| passing.cpu).sum();
        (self.stands_out(unseen) || told.min(unseen) >= TOLD).then(|| self.unseen_words(unseen))
    }

    fn unseen_words(&self, unseen: f64) -> String {
        let (machine, share) = (self.machine(), scaled_percent(unseen));
        if machine.hidden {
            return format!("{share} of a core went to processes that are hidden from you");
        }
        let passing = words::passing(machine, self.scene.length);
        format!(
            "{share} of a core went to processes too short-lived to be seen, whose parents do not ask for them{passing}"
        )
    }

    pub(super) fn core(&self) -> Option<Finding> {
        let limit = self.settings.limits.levels(Watched::CoreFullest).0;
        // Where a core is not full, the threads of one program are spread over several.
        if self.machine().core_fullest.is_some_and(|fullest| fullest < limit) {
            return None;
        }
        let use_of = Process::accounted_cpu;
        let keeper = self.scene.snapshot.processes.iter().filter(|process| !process.kernel && use_of(process) >= limit);
        let keeper = keeper.max_by(|a, b| use_of(a).total_cmp(&use_of(b)))?;
        let cores = (use_of(keeper) / 100.0).floor().max(1.0);
        let cores = if cores < 2.0 { "one core".to_owned() } else { format!("{cores:.0} cores") };
        let by_children = f64::from(keeper.waited.unwrap_or(0.0)) > use_of(keeper) / 2.0;
        let children = if by_children { "'s short-lived children" } else { "" };
        let headline = format!("one program keeps {cores} to itself: {}{children}", keeper.app);
        let figures = self.figures(&[Watched::CoreFullest]);
        let severity = worst(&figures).unwrap_or(Severity::Notice);
        let suspects = self.lineup.by_cpu(limit / 2.0);
        let mut remarks: Vec<String> = words::cpu(self.machine()).into_iter().collect();
        remarks.extend(self.unseen());
        let mut next: Vec<Next> = let_finish(&suspects).into_iter().collect();
        next.extend(inspections(&suspects, "whether it works or hangs"));
        next.extend(self.act(&suspects, "lower", "", "it gives way to the others, as far as that works here"));
        let since = self.since(&[Watched::CoreFullest], None);
        Some(finding(FindingKind::Core, severity, headline).with(figures, since, suspects).saying(remarks, next))
    }
}
