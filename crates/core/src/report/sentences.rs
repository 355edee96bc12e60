//! What is said of an episode: whom, figures against limits, and what to type next.

use jiff::Timestamp;

use super::cases::Case;
use super::collect::Stretch;
use super::episodes::{Culprit, Episode};
use super::headline::{capital, cores, subject};
use super::page::Frame;
use super::times::{Times, length, long};
use crate::checkup::{FindingKind, Watched};
use crate::text::processes;
use crate::units::{Value, scaled_percent, scaled_size};

/// The title: what it was, and whose doing.
pub(super) fn title(episode: &Episode) -> String {
    let because = match episode.first() {
        Some(first) if !first.owner.is_empty() => format!(" because of {} ({})", first.app, first.owner),
        Some(first) => format!(" because of {}", first.app),
        None => String::new(),
    };
    let owned = |words: String| match episode.first() {
        Some(first) if !first.owner.is_empty() => {
            words.replacen(&first.app, &format!("{} ({})", first.app, first.owner), 1)
        }
        _ => words,
    };
    match episode.kind {
        FindingKind::Grows | FindingKind::Core => owned(subject(episode)),
        FindingKind::Memory | FindingKind::Cpu | FindingKind::Disk => format!("{}{because}", episode.said),
        FindingKind::Files => subject(episode),
        _ => episode.said.clone(),
    }
}

/// When it was.
pub(super) fn when(episode: &Episode, times: &Times) -> String {
    match episode.spans.as_slice() {
        [] => String::new(),
        [one] => format!("{}, {}", times.span(*one), length(episode.length())),
        [one, two] => format!("{}, and again {}", times.span(*one), times.span(*two)),
        [one, .., last] => {
            format!(
                "{} times, {} to {}, {}",
                episode.spans.len(),
                times.clock(one.0),
                times.clock(last.1),
                length(episode.length())
            )
        }
    }
}

/// In sentences.
pub(super) fn told(stretch: &Stretch, episode: &Episode, cases: &[Case]) -> String {
    let mut sentences: Vec<String> = match episode.kind {
        FindingKind::Memory => memory(stretch, episode),
        FindingKind::Disk => disk(stretch, episode),
        FindingKind::Cpu => cpu(stretch, episode),
        FindingKind::Core => core(stretch, episode),
        FindingKind::Grows => grows(stretch, episode),
        FindingKind::Files => files(stretch, episode),
        _ => others(episode),
    };
    sentences.extend(of_cases(stretch, episode, cases));
    sentences.join(" ")
}

fn limit(stretch: &Stretch, watched: Watched, value: f64) -> String {
    let limits = &stretch.setting.checkup.limits;
    format!("limit {}", limits.passed(watched, limits.weigh(watched, value)))
}

/// `programs waited for memory 27% of the time (limit 20%)`: the worst minute, where it was beyond the limit.
fn waited(stretch: &Stretch, episode: &Episode, watched: Watched, what: &str) -> Option<String> {
    let worst = episode.spans.iter().filter_map(|(from, until)| stretch.worst_minute(watched, *from, *until));
    let (_, worst) = worst.max_by(|a, b| a.1.total_cmp(&b.1))?;
    stretch.weigh(watched, worst)?;
    let limit = limit(stretch, watched, worst);
    Some(format!("programs waited for {what} {} of the time ({limit})", scaled_percent(worst)))
}

fn name_and_others(episode: &Episode) -> String {
    let others: Vec<String> =
        episode.culprits.iter().skip(1).map(|culprit| format!("{} ({})", culprit.app, culprit.owner)).collect();
    if others.is_empty() { String::new() } else { format!("Next to it: {}.", others.join(", ")) }
}

fn memory(stretch: &Stretch, episode: &Episode) -> Vec<String> {
    let mut sentences = Vec::new();
    if let Some(first) = episode.first() {
        let before = match first.held_before {
            before if before > 0.0 && first.did.held_high > before * 1.2 => format!(", {} before", scaled_size(before)),
            _ => String::new(),
        };
        let of = if first.did.most > 1 {
            format!("Its {} held", processes(first.did.most as usize))
        } else {
            "It held".to_owned()
        };
        sentences.push(format!("{of} up to {}{before}.", scaled_size(first.did.held_high)));
    }
    let worst = episode.spans.iter().filter_map(|(from, until)| stretch.worst(Watched::MemoryAvailable, *from, *until));
    let available = worst.reduce(f64::min).map(|percent| {
        let total = stretch.machine.memory_total as f64;
        let limit = limit(stretch, Watched::MemoryAvailable, percent);
        format!(
            "at worst {} of {} could still be had ({}, {limit})",
            scaled_size(percent / 100.0 * total),
            scaled_size(total),
            scaled_percent(percent)
        )
    });
    let waited = waited(stretch, episode, Watched::StallMemory, "memory");
    let both: Vec<String> = available.into_iter().chain(waited).collect();
    if !both.is_empty() {
        sentences.push(format!("{}.", capital(&both.join(", and "))));
    }
    if episode.with_disk {
        sentences.push("The disk was busy with it.".to_owned());
    }
    sentences.push(name_and_others(episode));
    sentences.retain(|sentence| !sentence.is_empty());
    sentences
}

fn moved(culprit: &Culprit, seconds: f64) -> Option<String> {
    let (read, written) = (culprit.did.read, culprit.did.written);
    let rate = |bytes: f64| Value::Rate(bytes / seconds.max(1.0)).scaled();
    Some(match (read >= 1e6, written >= 1e6) {
        (true, true) => format!("read {} and wrote {}", scaled_size(read), scaled_size(written)),
        (true, false) => format!("read {}, {}", scaled_size(read), rate(read)),
        (false, true) => format!("wrote {}, {}", scaled_size(written), rate(written)),
        (false, false) => return None,
    })
}

fn disk(stretch: &Stretch, episode: &Episode) -> Vec<String> {
    let seconds = episode.length().as_secs_f64();
    let did = episode.first().and_then(|first| moved(first, seconds));
    let mut sentences = vec![match did {
        Some(did) => format!("It {did}."),
        None => "Nobody was seen to read or write as much: the kernel may have been writing what programs left it."
            .to_owned(),
    }];
    if let Some(waited) = waited(stretch, episode, Watched::StallIo, "the disk") {
        sentences.push(format!("At worst {waited}."));
    }
    sentences.push(name_and_others(episode));
    sentences.retain(|sentence| !sentence.is_empty());
    sentences
}

fn cpu(stretch: &Stretch, episode: &Episode) -> Vec<String> {
    let mut sentences = Vec::new();
    if let Some(first) = episode.first() {
        sentences.push(format!("It used {} of CPU time.", seconds(first.did.accounted())));
    }
    let busy = episode.spans.iter().filter_map(|(from, until)| stretch.worst_minute(Watched::Cpu, *from, *until));
    let busy = busy.map(|(_, value)| value).reduce(f64::max).map(|value| {
        let limit = limit(stretch, Watched::Cpu, value);
        format!("at worst {} of {} cores were busy ({limit})", scaled_percent(value), stretch.machine.cores)
    });
    let waited = waited(stretch, episode, Watched::StallCpu, "a core");
    let both: Vec<String> = busy.into_iter().chain(waited).collect();
    if !both.is_empty() {
        sentences.push(format!("{}.", capital(&both.join(", and "))));
    }
    sentences.extend(episode.at_work.map(|moved| {
        format!("It read and wrote {} as it computed, and seems to have been at work.", scaled_size(moved))
    }));
    sentences.push(name_and_others(episode));
    sentences.retain(|sentence| !sentence.is_empty());
    sentences
}

fn core(stretch: &Stretch, episode: &Episode) -> Vec<String> {
    let Some(first) = episode.first() else { return Vec::new() };
    let mut sentences = Vec::new();
    if episode.by_children {
        sentences.push(format!(
            "Most were never seen: {} of CPU time are what {} collected of them.",
            seconds(first.did.through),
            first.app
        ));
    } else if first.did.read + first.did.written < 1e6 {
        sentences.push("It read and wrote next to nothing as it computed: it looks like a spin.".to_owned());
    } else {
        sentences.extend(moved(first, episode.length().as_secs_f64()).map(|did| format!("It {did} as it computed.")));
    }
    let busy = episode.spans.iter().filter_map(|(from, until)| stretch.mean(Watched::Cpu, *from, *until));
    let free = busy.reduce(f64::max).map(|busy| (100.0 - busy) / 100.0 * f64::from(stretch.machine.cores));
    if let Some(free) = free.filter(|free| *free >= 0.8) {
        let free = free.round();
        sentences.push(format!("{} of {} cores stayed free.", free, stretch.machine.cores));
    }
    sentences
}

fn grows(stretch: &Stretch, episode: &Episode) -> Vec<String> {
    let mut sentences = Vec::new();
    let highest = episode.grew.iter().max_by(|a, b| a.last.total_cmp(&b.last));
    if let Some(grew) = highest {
        sentences.push(format!(
            "{} a minute, from {} to {}.",
            scaled_size(grew.a_minute()),
            scaled_size(grew.first),
            scaled_size(grew.last)
        ));
    }
    match episode.grew.len() {
        0 | 1 => {}
        2 => sentences.push("It was started anew, and grew again.".to_owned()),
        times => sentences.push(format!("It grew {times} times, each time anew.")),
    }
    let short = stretch.weigh(Watched::MemoryAvailable, 0.0).is_some_and(|_| {
        let mut worst =
            episode.spans.iter().filter_map(|(from, until)| stretch.worst(Watched::MemoryAvailable, *from, *until));
        worst.any(|percent| stretch.weigh(Watched::MemoryAvailable, percent).is_some())
    });
    let least = episode.spans.iter().filter_map(|(from, until)| stretch.worst(Watched::MemoryAvailable, *from, *until));
    if let Some(percent) = least.reduce(f64::min) {
        let left = percent / 100.0 * stretch.machine.memory_total as f64;
        let fastest = episode.grew.iter().map(super::growth::Grew::a_minute).fold(0.0, f64::max);
        sentences.push(match short {
            true => format!("At worst {} could still be had.", scaled_size(left)),
            false => {
                let lasts = std::time::Duration::try_from_secs_f64(left / fastest.max(1.0) * 60.0).unwrap_or_default();
                format!(
                    "The machine was not short because of it: at least {} could still be had, enough for {} at that rate.",
                    scaled_size(left),
                    long(lasts)
                )
            }
        });
    }
    sentences
}

fn files(stretch: &Stretch, episode: &Episode) -> Vec<String> {
    let worst = episode.spans.iter().filter_map(|(from, until)| stretch.worst(Watched::FilesFull, *from, *until));
    let words = worst
        .reduce(f64::max)
        .map(|full| format!("At worst {} full ({}).", scaled_percent(full), limit(stretch, Watched::FilesFull, full)));
    words.into_iter().collect()
}

fn others(episode: &Episode) -> Vec<String> {
    let named: Vec<String> =
        episode.culprits.iter().map(|culprit| format!("{} ({})", culprit.app, culprit.owner)).collect();
    if named.is_empty() { Vec::new() } else { vec![format!("{}.", named.join(", "))] }
}

/// `29 minutes`, `40 seconds`, `3.1 hours` of CPU time.
pub(super) fn seconds(seconds: f64) -> String {
    match seconds {
        few if few < 90.0 => format!("{few:.0} seconds"),
        some if some < 5400.0 => format!("{:.0} minutes", some / 60.0),
        many => format!("{:.1} hours", many / 3600.0),
    }
}

/// The cases that are of it: on the same program, or on the machine while it was short of something.
pub(super) fn cases_of<'c>(episode: &Episode, cases: &'c [Case], until: Timestamp) -> Vec<&'c Case> {
    let overlaps =
        |case: &Case| episode.spans.iter().any(|(from, to)| case.opened <= *to && case.until(until) >= *from);
    let shortage = matches!(episode.kind, FindingKind::Memory | FindingKind::Cpu | FindingKind::Disk);
    let is_of = |case: &&Case| match case.app.as_str() {
        "" => shortage,
        app => episode.culprits.iter().any(|culprit| culprit.app == app),
    };
    cases.iter().filter(|case| overlaps(case)).filter(is_of).collect()
}

fn of_cases(stretch: &Stretch, episode: &Episode, cases: &[Case]) -> Option<String> {
    let numbers: Vec<String> =
        cases_of(episode, cases, stretch.until).iter().map(|case| case.number.to_string()).collect();
    Some(match numbers.as_slice() {
        [] => return None,
        [one] => format!("Case {one}."),
        [first @ .., last] => format!("Cases {} and {last}.", first.join(", ")),
    })
}

/// What to type next, with the program's name.
pub(super) fn next(episode: &Episode, frame: &Frame, times: &Times) -> String {
    let (from, until) = episode.spans.first().copied().unwrap_or_default();
    let middle = from + until.duration_since(from) / 2;
    let at = |at: Timestamp| times.typed(at, frame.with_day);
    // The minutes that are typed lie within it.
    let from = from.checked_add(jiff::SignedDuration::from_secs(59)).unwrap_or(from);
    let source = &frame.suffix;
    let simple = |name: &str| {
        !name.is_empty()
            && name.chars().all(|c| c.is_ascii_alphanumeric() || "._+-".contains(c))
            && !name.starts_with('-')
    };
    // A name that a shell would take apart, or that would be an option, is not typed: the process's checked PID is.
    let target = |culprit: &Culprit| match (simple(&culprit.app), culprit.id) {
        (false, Some(id)) => Some(id.checked().to_string()),
        (true, _) => Some(culprit.app.clone()),
        (false, None) => None,
    };
    let first = episode.first().and_then(target);
    let command = match (episode.kind, first) {
        (FindingKind::Memory, Some(who)) => format!("rules draft {who} --trouble memory{source} --at {}", at(middle)),
        (FindingKind::Disk, _) => format!("list{source} --at {} --by disk.read", at(middle)),
        (FindingKind::Core, Some(who)) if !episode.by_children => format!("inspect {who}{source} --at {}", at(middle)),
        (FindingKind::Core | FindingKind::Unseen, _) => format!("list{source} --at {} --group tree", at(middle)),
        (FindingKind::Grows, _) => format!("list{source} --since {} --until {} --by growth", at(from), at(until)),
        _ => format!("checkup{source} --at {}", at(middle)),
    };
    format!("sophron {command}")
}

/// How many cores it kept, for what is fine.
pub(super) fn honest(episode: &Episode, times: &Times) -> Option<String> {
    let (first, moved) = (episode.first()?, episode.at_work.filter(|_| episode.is_honest())?);
    let spans: Vec<String> = episode.spans.iter().map(|span| times.span(*span)).collect();
    Some(format!(
        "{} ({}) kept {} busy, {}. It read and wrote {} as it computed: honest work, as far as can be seen.",
        first.app,
        first.owner,
        cores(episode),
        spans.join(", and "),
        scaled_size(moved)
    ))
}
