//! The drawings of a report.

use jiff::{SignedDuration, Timestamp};

use super::cases::Case;
use super::collect::{Minute, Stretch};
use super::episodes::Episode;
use super::felt::Felt;
use super::times::{Times, length, long};
use crate::checkup::{FindingKind, Watched};
use crate::document::{Axis, Drawing, Mark, Plot, Span, Stairs};
use crate::moment::shifted;
use crate::units::{scaled_percent, scaled_size};

/// About so many steps are drawn over the width.
const STEPS: i64 = 340;

/// A figure over time, nothing where it was not seen.
pub(super) type Points = Vec<(Timestamp, Option<f64>)>;

/// The whole stretch, with the hours named.
pub(super) fn axis(stretch: &Stretch, times: &Times) -> Axis {
    let span = stretch.until.duration_since(stretch.from);
    let step = match span.as_hours() {
        ..=2 => SignedDuration::from_mins(15),
        3..=15 => SignedDuration::from_hours(1),
        16..=30 => SignedDuration::from_hours(2),
        31..=80 => SignedDuration::from_hours(6),
        _ => SignedDuration::from_hours(24),
    };
    let minutes = step.as_mins();
    let mut ticks = Vec::new();
    let begun = times.local(stretch.from).start_of_day().map_or(stretch.from, |day| day.timestamp());
    let mut at = begun;
    while at < stretch.until && ticks.len() < 64 {
        if at > stretch.from {
            let local = times.local(at);
            let words = match minutes {
                1440 => local.strftime("%a %-d").to_string(),
                _ if times.several_days() && local.hour() == 0 => local.strftime("%a").to_string(),
                ..60 => local.strftime("%H:%M").to_string(),
                _ => local.strftime("%H").to_string(),
            };
            ticks.push((at, words));
        }
        let Ok(next) = at.checked_add(step) else { break };
        at = next;
    }
    let naps = stretch.naps.iter().map(|(from, until)| (*from, *until, "asleep"));
    let gaps = stretch.gaps.iter().map(|(from, until)| (*from, *until, "not watched"));
    Axis { from: stretch.from, until: stretch.until, ticks, blanks: naps.chain(gaps).collect() }
}

/// How it felt.
pub(super) fn felt(stretch: &Stretch, axis: &Axis) -> Plot {
    let minutes = super::collect::WINDOW;
    let length = SignedDuration::from_mins(minutes);
    let bars = stretch
        .windows
        .iter()
        .map(|window| {
            let (from, until) = (window.start.max(stretch.from), shifted(window.start, length).min(stretch.until));
            (from, until.max(from), window.felt.tone())
        })
        .collect();
    let of = |felt: Felt| {
        let seen = stretch.felt(felt);
        (!seen.is_zero()).then(|| (felt.tone(), format!("{} {}", felt.word(), long(seen))))
    };
    let key: Vec<_> = [Felt::HeldUp, Felt::Slower, Felt::Smooth, Felt::NotCounted].into_iter().filter_map(of).collect();
    let words: Vec<&str> = key.iter().map(|(_, words)| words.as_str()).collect();
    Plot {
        title: "How it felt".to_owned(),
        of: format!("{minutes} minutes a bar, by its worst minute"),
        says: format!(
            "How the machine felt, in bars of {minutes} minutes, each by its worst minute: {}.",
            words.join(", ")
        ),
        axis: axis.clone(),
        drawing: Drawing::Levels { bars, key },
    }
}

/// The cases, side by side.
pub(super) fn lane(cases: &[Case], axis: &Axis) -> Plot {
    let span = |case: &Case| Span {
        from: case.opened.max(axis.from),
        until: case.until(axis.until).min(axis.until),
        severity: case.severity,
        number: case.number,
    };
    Plot {
        title: "Cases".to_owned(),
        of: String::new(),
        says: format!("{} cases.", cases.len()),
        axis: axis.clone(),
        drawing: Drawing::Spans(cases.iter().map(span).collect()),
    }
}

/// How far apart steps are, minutes.
fn step(stretch: &Stretch) -> i64 {
    let minutes = stretch.until.duration_since(stretch.from).as_mins();
    [1, 2, 5, 10, 15, 30, 60].into_iter().find(|step| minutes / step <= STEPS).unwrap_or(minutes / STEPS)
}

/// A figure of the machine over the whole stretch, a step each; `None` where it was not seen.
fn course(stretch: &Stretch, value: impl Fn(&Minute) -> Option<f64>) -> Points {
    let step = step(stretch);
    let first = stretch.from.as_second().div_euclid(60);
    let last = stretch.until.as_second().div_euclid(60);
    let mut points = Vec::new();
    for at in (first..=last).step_by(usize::try_from(step).unwrap_or(1)) {
        let means: Vec<f64> = stretch.minutes.range(at..at + step).filter_map(|(_, minute)| value(minute)).collect();
        let mean = (!means.is_empty()).then(|| means.iter().sum::<f64>() / means.len() as f64);
        points.extend(Timestamp::from_second(at * 60).ok().map(|at| (at.max(stretch.from), mean)));
    }
    points
}

pub(super) fn peak(
    points: &[(Timestamp, Option<f64>)],
    words: impl Fn(f64) -> String,
) -> Option<(Timestamp, f64, String)> {
    let (at, value) =
        points.iter().filter_map(|(at, value)| Some((*at, (*value)?))).max_by(|a, b| a.1.total_cmp(&b.1))?;
    Some((at, value, words(value)))
}

/// The four figures of the machine.
pub(super) fn machine(stretch: &Stretch, episodes: &[Episode], axis: &Axis, times: &Times) -> Vec<Plot> {
    let limits = &stretch.setting.checkup.limits;
    let two = |watched: Watched| {
        let (notice, critical) = limits.levels(watched);
        // Memory is told as taken, so that worse is up.
        let up = |level: f64| if watched.limit().over { level } else { 100.0 - level };
        let both = [notice, critical].into_iter().filter(|level| level.is_finite() && *level > 0.0 && *level < 1000.0);
        both.map(|level| (up(level), scaled_percent(up(level)))).collect::<Vec<_>>()
    };
    let painted = |kinds: &[FindingKind]| {
        let of = |episode: &&Episode| kinds.contains(&episode.kind) && !episode.is_honest();
        let spans = |episode: &Episode| {
            episode.spans.iter().map(|(from, until)| (*from, *until, episode.severity)).collect::<Vec<_>>()
        };
        episodes.iter().filter(of).flat_map(spans).collect::<Vec<_>>()
    };
    let waited = limits.levels(Watched::StallIo).0.min(limits.levels(Watched::StallCpu).0);
    let one = |title: &str, of: String, points: Points, limits: Vec<(f64, String)>, painted| {
        let at = |(at, value, words): (Timestamp, f64, String)| (at, value, format!("{words} at {}", times.clock(at)));
        let peak = peak(&points, scaled_percent).map(at);
        let highest = peak.as_ref().map_or(String::new(), |(_, _, words)| format!("; highest {words}"));
        // What never comes near the top of the scale would be a line at the bottom.
        let highest_value = peak.as_ref().map_or(0.0, |(_, value, _)| *value);
        let full = if highest_value < 45.0 && limits.iter().all(|(limit, _)| *limit < 45.0) { 50.0 } else { 100.0 };
        Plot {
            title: title.to_owned(),
            says: format!("{title}, {of}{highest}."),
            of,
            axis: axis.clone(),
            drawing: Drawing::Stairs(Stairs { points, full, limits, falls: false, painted, marks: Vec::new(), peak }),
        }
    };
    let gone = |minute: &Minute| minute.mean(Watched::MemoryAvailable).map(|part| 100.0 - part);
    let total = scaled_size(stretch.machine.memory_total as f64);
    let mut plots = Vec::new();
    let course_of = |value: &dyn Fn(&Minute) -> Option<f64>| course(stretch, value);
    let waiting = course_of(&Minute::waited);
    if waiting.iter().any(|(_, value)| value.is_some()) {
        let limit = vec![(waited, scaled_percent(waited))];
        let kinds = [FindingKind::Memory, FindingKind::Cpu, FindingKind::Disk];
        plots.push(one(
            "Programs waited",
            "% of the time, for CPU, memory or disk".to_owned(),
            waiting,
            limit,
            painted(&kinds),
        ));
    }
    let cores = format!("% of {} cores", stretch.machine.cores);
    let cpu = course_of(&|minute| minute.mean(Watched::Cpu));
    plots.push(one("CPU", cores, cpu, two(Watched::Cpu), painted(&[FindingKind::Cpu])));
    let memory = course_of(&gone);
    plots.push(one(
        "Memory taken",
        format!("% of {total}"),
        memory,
        two(Watched::MemoryAvailable),
        painted(&[FindingKind::Memory]),
    ));
    let disk = course_of(&|minute| minute.mean(Watched::DiskBusy));
    if disk.iter().any(|(_, value)| value.is_some()) {
        plots.push(one(
            "Disk busy",
            "% of the time".to_owned(),
            disk,
            two(Watched::DiskBusy),
            painted(&[FindingKind::Disk]),
        ));
    }
    plots
}

/// A case with a little before and after it; none without readings.
pub(super) fn case(case: &Case, stretch: &Stretch, times: &Times) -> Option<Plot> {
    let first = case.points.first()?.0;
    let until = case.until(stretch.until);
    let (limit, limit_words) = case.limit.clone()?;
    let around = (until.duration_since(case.opened) / 12).max(SignedDuration::from_secs(5));
    let axis = Axis {
        from: first.min(shifted(case.opened, -around)),
        until: shifted(until, around),
        ticks: Vec::new(),
        blanks: Vec::new(),
    };
    let known = case.points.iter().map(|(at, value)| (*at, Some(*value)));
    // What came after it was over was not measured for it.
    let points: Points = known.chain([(until, None)]).collect();
    let highest = case.points.iter().map(|(_, value)| *value).fold(limit, f64::max);
    let full = if case.falls { limit * 1.7 } else { highest * 1.04 };
    let clock = |at: Timestamp| times.of_step(at, until.duration_since(case.opened));
    let mut marks: Vec<Mark> = case
        .steps
        .iter()
        .map(|(at, word)| Mark { at: *at, word: word.clone(), clock: clock(*at), by_itself: false })
        .collect();
    if let Some((at, word)) =
        case.closed.filter(|(at, _)| case.steps.last().is_none_or(|(last, _)| at.duration_since(*last).as_secs() > 60))
    {
        marks.push(Mark { at, word: word.to_owned(), clock: clock(at), by_itself: true });
    }
    let steps: Vec<String> = marks.iter().map(|mark| format!("{} {}", mark.word, mark.clock)).collect();
    Some(Plot {
        title: String::new(),
        of: String::new(),
        says: format!(
            "Case {}: {}, {}: {}.",
            case.number,
            case.whom,
            length(until.duration_since(case.opened)),
            steps.join(", ")
        ),
        axis,
        drawing: Drawing::Stairs(Stairs {
            points,
            full: full.max(f64::MIN_POSITIVE),
            limits: vec![(limit, limit_words)],
            falls: case.falls,
            painted: vec![(case.opened, until, case.severity)],
            marks,
            peak: None,
        }),
    })
}
