//! One pass over the samples of a stretch of time: windows of five minutes with a checkup each, minutes of the machine, and who
//! used how much.

use std::time::Duration;

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

use super::felt::Felt;
use super::growth::Heights;
use super::join;
use crate::checkup::{self, Finding, FindingKind, LIMITS, Observation, Settings, Surroundings, Watched};
use crate::model::{Machine, Moment, Snapshot};
use crate::moment::shifted;
use crate::order::InOrder;
use crate::rules::Hours;
use crate::severity::Severity;
use crate::sorted::SortedMap;
use crate::usage::{Row, Slot, Tally};

/// Minutes of a window.
pub(super) const WINDOW: i64 = 5;

/// A dip of up to that long does not end what was beyond its limit.
pub(super) const DIP: SignedDuration = SignedDuration::from_secs(60);

/// Samples further apart than that, and than three intervals, leave a gap.
pub(super) const GAP: SignedDuration = SignedDuration::from_secs(180);

/// What a report is made by.
#[derive(Debug, Clone)]
pub struct Setting {
    /// Limits and what is known.
    pub checkup: Settings,
    /// The clock by which it is told.
    pub zone: TimeZone,
    /// The hours in which people work there, with their name; none where nothing is known of that.
    pub hours: Option<Hours>,
}

/// A window and what a checkup found in it.
#[derive(Debug, Clone)]
pub struct Window {
    /// When it begins.
    pub start: Timestamp,
    /// Its last sample.
    pub until: Timestamp,
    /// For how long it was seen.
    pub seen: Duration,
    /// What was found.
    pub findings: Vec<Finding>,
    /// How its worst minute felt.
    pub felt: Felt,
}

/// The machine in one minute.
#[derive(Debug, Clone, Copy, Default)]
pub struct Minute {
    seconds: f64,
    sums: [f64; LIMITS.len()],
    known: [f64; LIMITS.len()],
    /// The worst single reading of each figure.
    worst: [Option<f64>; LIMITS.len()],
}

impl Minute {
    fn add(&mut self, machine: &Machine, seconds: f64) {
        self.seconds += seconds;
        for (place, limit) in LIMITS.iter().enumerate() {
            let Some(value) = limit.watched.of(machine) else { continue };
            self.sums[place] += value * seconds;
            self.known[place] += seconds;
            let worse = |known: f64| if limit.over { known.max(value) } else { known.min(value) };
            self.worst[place] = Some(self.worst[place].map_or(value, worse));
        }
    }

    /// The same minute, seen in another part.
    pub(super) fn join(&mut self, other: &Minute) {
        self.seconds += other.seconds;
        for (place, limit) in LIMITS.iter().enumerate() {
            self.sums[place] += other.sums[place];
            self.known[place] += other.known[place];
            self.worst[place] = match (self.worst[place], other.worst[place]) {
                (Some(a), Some(b)) => Some(if limit.over { a.max(b) } else { a.min(b) }),
                (a, b) => a.or(b),
            };
        }
    }

    /// For how long it was seen.
    pub fn seen(&self) -> Duration {
        Duration::try_from_secs_f64(self.seconds).unwrap_or_default()
    }

    /// The mean of a figure.
    pub fn mean(&self, watched: Watched) -> Option<f64> {
        let place = watched as usize;
        (self.known[place] > 0.0).then(|| self.sums[place] / self.known[place])
    }

    /// Its worst reading.
    pub fn worst(&self, watched: Watched) -> Option<f64> {
        self.worst[watched as usize]
    }

    /// Share of the time in which somebody waited: the greatest of the three, percent.
    pub fn waited(&self) -> Option<f64> {
        super::felt::WAITING.iter().filter_map(|watched| self.mean(*watched)).reduce(f64::max)
    }
}

/// For how long a figure was beyond its limit.
pub type Run = (Timestamp, Timestamp);

/// Everything that was seen in a stretch of time.
#[derive(Debug, Clone)]
pub struct Stretch {
    /// The first sample.
    pub from: Timestamp,
    /// The last one.
    pub until: Timestamp,
    /// How many.
    pub samples: u64,
    /// The machine at the last sample.
    pub machine: Machine,
    /// The windows.
    pub windows: Vec<Window>,
    /// The minutes, by their number since 1970.
    pub minutes: SortedMap<i64, Minute>,
    /// For how long each figure was beyond its limit.
    pub runs: [Vec<Run>; LIMITS.len()],
    /// Who used how much in each window.
    pub rows: Vec<Row>,
    /// When it napped.
    pub naps: Vec<Run>,
    /// When nobody watched.
    pub gaps: Vec<Run>,
    /// Whose memory grew.
    pub grown: Vec<super::growth::Grew>,
    /// What could not be read.
    pub unread: Vec<String>,
    /// By what it was made.
    pub setting: Setting,
}

/// Takes samples in.
#[derive(Debug)]
pub struct Collector {
    pub(super) setting: Setting,
    pub(super) tally: Tally,
    /// Rows of parts that were before.
    pub(super) earlier: Vec<Row>,
    pub(super) heights: Heights,
    pub(super) window: Option<(Timestamp, Observation, Duration)>,
    pub(super) windows: Vec<Window>,
    pub(super) minutes: SortedMap<i64, Minute>,
    pub(super) runs: [Vec<Run>; LIMITS.len()],
    pub(super) naps: Vec<Run>,
    pub(super) gaps: Vec<Run>,
    pub(super) unread: Vec<String>,
    pub(super) first: Option<Timestamp>,
    pub(super) latest: Option<Timestamp>,
    pub(super) last: Option<(Moment, Duration)>,
    pub(super) samples: u64,
    pub(super) machine: Machine,
}

impl Collector {
    /// An empty one.
    pub fn new(setting: Setting) -> Collector {
        Collector {
            tally: Tally::new(Slot::Minutes(WINDOW), setting.zone.clone(), setting.checkup.limits.clone()),
            setting,
            earlier: Vec::new(),
            heights: Heights::default(),
            window: None,
            windows: Vec::new(),
            minutes: SortedMap::new(),
            runs: Default::default(),
            naps: Vec::new(),
            gaps: Vec::new(),
            unread: Vec::new(),
            first: None,
            latest: None,
            last: None,
            samples: 0,
            machine: Machine::default(),
        }
    }

    /// The next sample, in the order of time.
    pub fn take(&mut self, snapshot: &Snapshot) {
        let (moment, wall) = (snapshot.moment, snapshot.moment.wall);
        self.samples += 1;
        // A clock that was set back makes the first sample a later one.
        self.first = Some(self.first.map_or(wall, |first| first.min(wall)));
        self.latest = self.latest.max(Some(wall));
        let interval = snapshot.interval.unwrap_or_default();
        self.blank(moment, interval);
        self.last = Some((moment, interval));
        self.tally.take(snapshot);
        let middle = wall.checked_sub(SignedDuration::try_from(interval / 2).unwrap_or_default()).unwrap_or(wall);
        let start = Slot::Minutes(WINDOW).start(middle, &self.setting.zone);
        if self.window.as_ref().is_some_and(|(begun, ..)| *begun != start) {
            self.close_window();
        }
        let minute = middle.as_second().div_euclid(60);
        self.heights.take(snapshot, minute);
        if self.samples == 1 {
            // What it tells of was before the time that is told of.
            self.machine.clone_from(&snapshot.machine);
            return;
        }
        if snapshot.interval.is_some() {
            self.minutes.entry(minute).or_default().add(&snapshot.machine, interval.as_secs_f64());
            self.note_runs(&snapshot.machine, wall, interval);
            self.machine.clone_from(&snapshot.machine);
        }
        let (_, observation, seen) = self.window.get_or_insert_with(|| (start, Observation::default(), Duration::ZERO));
        observation.add(snapshot);
        *seen += interval;
    }

    /// Naps, and gaps in watching.
    fn blank(&mut self, now: Moment, interval: Duration) {
        let Some((last, before)) = self.last else { return };
        let passed = now.wall.duration_since(last.wall);
        let most = GAP.max(SignedDuration::try_from(interval.max(before) * 3).unwrap_or(GAP));
        if passed <= most {
            return;
        }
        let awake = now.monotonic.saturating_sub(last.monotonic);
        let napped = now.boottime.saturating_sub(last.boottime).saturating_sub(awake);
        let is_nap = now.monotonic >= last.monotonic && napped.as_secs_f64() * 2.0 > passed.as_secs_f64();
        let until = now.wall.checked_sub(SignedDuration::try_from(interval).unwrap_or_default()).unwrap_or(now.wall);
        let list = if is_nap { &mut self.naps } else { &mut self.gaps };
        list.push((last.wall, until.max(last.wall)));
    }

    fn note_runs(&mut self, machine: &Machine, wall: Timestamp, interval: Duration) {
        let began = wall.checked_sub(SignedDuration::try_from(interval).unwrap_or_default()).unwrap_or(wall);
        for (limit, runs) in LIMITS.iter().zip(&mut self.runs) {
            let value = limit.watched.of(machine);
            if value.and_then(|value| self.setting.checkup.limits.weigh(limit.watched, value)).is_none() {
                continue;
            }
            match runs.last_mut().filter(|(_, until)| began.duration_since(*until) <= DIP) {
                Some((_, until)) => *until = wall,
                None => runs.push((began, wall)),
            }
        }
    }

    pub(super) fn close_window(&mut self) {
        let Some((start, observation, seen)) = self.window.take() else { return };
        let scene = observation.finish();
        let until = scene.snapshot.moment.wall;
        let around = Surroundings { recorded: true, privileged: true, ..Surroundings::default() };
        let report = checkup::check(&scene, &self.setting.checkup, &around);
        for line in report.unread {
            if !self.unread.contains(&line) {
                self.unread.push(line);
            }
        }
        let number = start.as_second().div_euclid(60);
        let minutes = self.minutes.range(number..number + WINDOW);
        let felt = minutes.map(|(at, minute)| super::felt::of_minute(*at, minute, &self.setting)).max();
        let felt = felt.unwrap_or(Felt::Smooth);
        // Growth is told over the whole stretch, and what is known is not told again.
        let told = |finding: &Finding| finding.kind != FindingKind::Grows && finding.known.is_none();
        let findings = report.findings.into_iter().filter(told).collect();
        self.windows.push(Window { start, until, seen, findings, felt });
    }

    /// What was seen; none without a sample.
    pub fn finish(mut self) -> Option<Stretch> {
        self.close_window();
        let (from, until) = (self.first?, self.latest?);
        self.windows.order_by_key(|window| window.start);
        self.runs.iter_mut().for_each(|runs| runs.order());
        let grown = self.heights.grown();
        Some(Stretch {
            from,
            until,
            samples: self.samples,
            machine: self.machine,
            windows: self.windows,
            minutes: self.minutes,
            runs: self.runs,
            rows: join::rows(self.earlier.into_iter().chain(self.tally.rows()).collect()),
            naps: self.naps,
            gaps: self.gaps,
            grown,
            unread: self.unread,
            setting: self.setting,
        })
    }
}

impl Stretch {
    /// For how long the machine was seen.
    pub fn seen(&self) -> Duration {
        self.windows.iter().map(|window| window.seen).sum()
    }

    /// The minutes of a part of it.
    pub fn minutes_of(&self, from: Timestamp, until: Timestamp) -> impl Iterator<Item = (&i64, &Minute)> {
        let number = |at: Timestamp| at.as_second().div_euclid(60);
        let (from, until) = (number(from), number(until));
        self.minutes.range(from..=until.max(from))
    }

    /// The worst reading of a figure in a part of it.
    pub fn worst(&self, watched: Watched, from: Timestamp, until: Timestamp) -> Option<f64> {
        let worst = self.minutes_of(from, until).filter_map(|(_, minute)| minute.worst(watched));
        worst.reduce(|a, b| if watched.limit().over { a.max(b) } else { a.min(b) })
    }

    /// The worst minute of a figure, by its mean, and which minute that is.
    pub fn worst_minute(&self, watched: Watched, from: Timestamp, until: Timestamp) -> Option<(Timestamp, f64)> {
        let means = self.minutes_of(from, until).filter_map(|(at, minute)| Some((*at, minute.mean(watched)?)));
        let worse = |a: (i64, f64), b: (i64, f64)| {
            let is_worse = if watched.limit().over { b.1 > a.1 } else { b.1 < a.1 };
            if is_worse { b } else { a }
        };
        let (at, value) = means.reduce(worse)?;
        Some((Timestamp::from_second(at * 60).ok()?, value))
    }

    /// The mean of a figure over a part of it.
    pub fn mean(&self, watched: Watched, from: Timestamp, until: Timestamp) -> Option<f64> {
        let means =
            self.minutes_of(from, until).filter_map(|(_, minute)| Some((minute.mean(watched)?, minute.seconds)));
        let (sum, seconds) =
            means.fold((0.0, 0.0), |(sum, all), (mean, seconds)| (sum + mean * seconds, all + seconds));
        (seconds > 0.0).then(|| sum / seconds)
    }

    /// How serious the worst minute of a figure is.
    pub fn weigh(&self, watched: Watched, value: f64) -> Option<Severity> {
        self.setting.checkup.limits.weigh(watched, value)
    }

    /// The windows of a part of it.
    pub fn rows_of(&self, from: Timestamp, until: Timestamp) -> impl Iterator<Item = &Row> {
        let length = SignedDuration::from_mins(WINDOW);
        self.rows.iter().filter(move |row| shifted(row.start, length) > from && row.start < until)
    }
}
