//! What was looked at and is fine, and what was not seen.

use super::collect::{Run, Stretch};
use super::episodes::Episode;
use super::page::Frame;
use super::sentences;
use super::times::Times;
use crate::checkup::{FindingKind, NOT_EXAMINED, Watched};
use crate::severity::Severity;
use crate::units::{scaled_percent, scaled_size};

/// Most naps that are told one by one.
const MOST: usize = 12;

/// What is fine.
pub(super) fn fine(stretch: &Stretch, episodes: &[Episode], times: &Times) -> Vec<String> {
    let found = |kind: FindingKind| episodes.iter().any(|episode| episode.kind == kind);
    let worst = |watched: Watched| {
        let (_, value) = stretch.worst_minute(watched, stretch.from, stretch.until)?;
        Some((value, stretch.setting.checkup.limits.passed(watched, None::<Severity>)))
    };
    let mut lines = Vec::new();
    if !found(FindingKind::Cpu)
        && let Some((busy, limit)) = worst(Watched::Cpu)
    {
        let cores = stretch.machine.cores;
        let waited = worst(Watched::StallCpu).map(|(share, limit)| {
            format!("programs waited for a core at most {} of a minute (limit {limit}); ", scaled_percent(share))
        });
        lines.push(format!(
            "CPU: {}at most {} of {cores} cores were busy (limit {limit})",
            waited.unwrap_or_default(),
            scaled_percent(busy)
        ));
    }
    lines.extend(episodes.iter().filter_map(|episode| sentences::honest(episode, times)));
    if !found(FindingKind::Memory)
        && let Some((share, limit)) = worst(Watched::MemoryAvailable)
    {
        let total = stretch.machine.memory_total as f64;
        lines.push(format!(
            "memory: at least {} of {} could be had, {} (limit {limit})",
            scaled_size(share / 100.0 * total),
            scaled_size(total),
            scaled_percent(share)
        ));
    }
    if !found(FindingKind::Disk)
        && let Some((share, limit)) = worst(Watched::StallIo)
    {
        lines.push(format!(
            "disk: programs waited for it at most {} of a minute (limit {limit})",
            scaled_percent(share)
        ));
    }
    if !found(FindingKind::Load)
        && let Some((load, _)) = worst(Watched::LoadCore)
            .filter(|(load, _)| *load < stretch.setting.checkup.limits.levels(Watched::LoadCore).0)
    {
        let cores = f64::from(stretch.machine.cores);
        let limit = stretch.setting.checkup.limits.levels(Watched::LoadCore).0 * cores;
        lines.push(format!("load: at most {:.1} on {cores} cores (limit {limit:.1})", load * cores));
    }
    if !found(FindingKind::Files)
        && let Some((full, limit)) = worst(Watched::FilesFull)
    {
        lines.push(format!("file systems: the fullest at most {} full (limit {limit})", scaled_percent(full)));
    }
    let none: Vec<&str> = [
        (FindingKind::Stuck, "stuck"),
        (FindingKind::Frozen, "frozen"),
        (FindingKind::Suspended, "suspended"),
        (FindingKind::Zombies, "left as a zombie"),
    ]
    .into_iter()
    .filter(|(kind, _)| !found(*kind))
    .map(|(_, word)| word)
    .collect();
    if let Some((last, first)) = none.split_last() {
        let list = if first.is_empty() { (*last).to_owned() } else { format!("{} or {last}", first.join(", ")) };
        lines.push(format!("processes: none {list}"));
    }
    lines
}

/// What was not seen.
pub(super) fn not_seen(stretch: &Stretch, frame: &Frame, times: &Times) -> Vec<String> {
    let of = |list: &[Run], what: &str| -> Vec<String> {
        let more = list.len().saturating_sub(MOST);
        let named = list.iter().take(MOST).map(|run| format!("{}: {what}", times.span(*run)));
        named.chain((more > 0).then(|| format!("{more} times more: {what}"))).collect()
    };
    let mut lines = of(&stretch.naps, "the machine slept");
    lines.extend(of(&stretch.gaps, "nobody watched"));
    let (busy, unseen) = stretch
        .rows
        .iter()
        .fold((0.0, 0.0), |(busy, unseen), row| (busy + row.machine.cpu, unseen + row.machine.unseen));
    if unseen > busy / 1000.0 {
        lines.push(format!(
            "{} of the CPU time used could not be put down to anybody",
            scaled_percent(100.0 * unseen / busy)
        ));
    }
    let recorded =
        |line: &String| if frame.recorded { line.clone() } else { line.replace(" (not in this recording)", "") };
    lines.extend(stretch.unread.iter().map(recorded));
    lines.push(NOT_EXAMINED.to_owned());
    lines
}
