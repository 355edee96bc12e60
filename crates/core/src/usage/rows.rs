//! What is kept of a stretch of time, usually an hour: one row of the machine and one of each app.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use jiff::Timestamp;

use crate::order::{InOrder, IntoMap};

/// The app under which those are counted who are one too many: names are claims, and an owner can make up any number of them.
pub const OTHERS: &str = "(others)";

/// Whose a row is.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct App {
    /// The app.
    pub app: String,
    /// Its owner's name.
    pub owner: String,
    /// His user ID.
    pub uid: u32,
}

/// What an app did in a stretch of time.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct AppHour {
    /// For how long one of its processes was seen, seconds.
    pub seconds: f64,
    /// CPU time of its processes, seconds, by differences of it (`stat` fields 14 and 15): what was used before first sight is not counted.
    pub cpu: f64,
    /// CPU time of ended children that nobody had seen and that it collected, seconds (`stat` fields 16 and 17).
    pub through: f64,
    /// What its processes held together, bytes: the median of the means of all minutes.
    pub held: f64,
    /// The most that they held together, bytes.
    pub held_high: f64,
    /// Read from disks, bytes.
    pub read: f64,
    /// Written to disks, bytes.
    pub written: f64,
    /// Most processes at once.
    pub most: u32,
    /// Processes that began.
    pub starts: u32,
}

/// What the machine did in a stretch of time.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct MachineHour {
    /// For how long it was seen, seconds; naps apart.
    pub seconds: f64,
    /// For how long it napped, seconds.
    pub napped: f64,
    /// Cores online.
    pub cores: u32,
    /// RAM, bytes.
    pub memory: u64,
    /// Busy time of all cores together, seconds (`/proc/stat`).
    pub cpu: f64,
    /// Of that, what no app is known to have used, seconds.
    pub unseen: f64,
    /// Least memory that could be had, bytes.
    pub available_low: Option<f64>,
    /// Memory that could be had, bytes: the median of the means of all minutes.
    pub available: Option<f64>,
    /// Swapped in and out, bytes.
    pub swapped: f64,
    /// For how long somebody waited for a core, for memory, for a disk, seconds (`/proc/pressure`).
    pub stalled: [f64; 3],
    /// For how long programs waited as much as is felt: minutes in which a stall share was beyond its limit, seconds.
    pub waited: f64,
    /// Of that, beyond the critical one, seconds.
    pub held_up: f64,
    /// For how long the busiest disk had something to do, seconds.
    pub disk_busy: f64,
    /// The fullest file system, percent.
    pub files_full: Option<f64>,
    /// The last moment that is counted in it.
    pub until: Option<Timestamp>,
}

/// A stretch of time with all that is known of it.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Row {
    /// When it begins.
    pub start: Timestamp,
    /// The machine.
    pub machine: MachineHour,
    /// The apps.
    pub apps: Vec<(Arc<App>, AppHour)>,
}

impl Row {
    /// The same stretch, seen in two parts.
    #[must_use]
    pub fn and(&self, other: &Row) -> Row {
        let mut apps: BTreeMap<&Arc<App>, AppHour> = self.apps.iter().map(|(app, hour)| (app, *hour)).into_map();
        for (app, hour) in &other.apps {
            let known = apps.entry(app).or_default();
            *known = known.and(hour);
        }
        let apps = apps.into_iter().map(|(app, hour)| (Arc::clone(app), hour)).collect();
        Row { start: self.start, machine: self.machine.and(&other.machine), apps }
    }
}

impl App {
    /// Nobody of whom anything is known.
    pub(super) fn nobody() -> App {
        App { app: OTHERS.to_owned(), owner: String::new(), uid: u32::MAX }
    }
}

impl AppHour {
    /// CPU that is known to be its doing, seconds.
    pub fn accounted(&self) -> f64 {
        self.cpu + self.through
    }

    /// Two at once: what they hold they hold together, and they were there as long as the longer one.
    #[must_use]
    pub fn beside(&self, other: &AppHour) -> AppHour {
        AppHour {
            held: self.held + other.held,
            held_high: self.held_high + other.held_high,
            seconds: self.seconds.max(other.seconds),
            most: self.most.saturating_add(other.most),
            ..self.and(other)
        }
    }

    /// The same hour, seen in two parts: what it held is weighed by how long it was seen.
    #[must_use]
    pub fn and(&self, other: &AppHour) -> AppHour {
        AppHour {
            seconds: self.seconds + other.seconds,
            cpu: self.cpu + other.cpu,
            through: self.through + other.through,
            held: weighed((self.held, self.seconds), (other.held, other.seconds)),
            held_high: self.held_high.max(other.held_high),
            read: self.read + other.read,
            written: self.written + other.written,
            most: self.most.max(other.most),
            starts: self.starts.saturating_add(other.starts),
        }
    }
}

impl MachineHour {
    /// The same hour, seen in two parts.
    #[must_use]
    pub fn and(&self, other: &MachineHour) -> MachineHour {
        let both = |a: Option<f64>, b: Option<f64>, of: fn(f64, f64) -> f64| match (a, b) {
            (Some(a), Some(b)) => Some(of(a, b)),
            (a, b) => a.or(b),
        };
        let available = match (self.available, other.available) {
            (Some(a), Some(b)) => Some(weighed((a, self.seconds), (b, other.seconds))),
            (a, b) => a.or(b),
        };
        let sum = |of: usize| self.stalled[of] + other.stalled[of];
        MachineHour {
            seconds: self.seconds + other.seconds,
            napped: self.napped + other.napped,
            cores: self.cores.max(other.cores),
            memory: self.memory.max(other.memory),
            cpu: self.cpu + other.cpu,
            unseen: self.unseen + other.unseen,
            available_low: both(self.available_low, other.available_low, f64::min),
            available,
            swapped: self.swapped + other.swapped,
            stalled: [sum(0), sum(1), sum(2)],
            waited: self.waited + other.waited,
            held_up: self.held_up + other.held_up,
            disk_busy: self.disk_busy + other.disk_busy,
            files_full: both(self.files_full, other.files_full, f64::max),
            until: self.until.max(other.until),
        }
    }
}

fn weighed((a, of_a): (f64, f64), (b, of_b): (f64, f64)) -> f64 {
    let all = of_a + of_b;
    if all > 0.0 { (a * of_a + b * of_b) / all } else { a.max(b) }
}

/// What one of several did over many hours.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Total {
    /// The sums; the most and the highest are those of all hours.
    pub sum: AppHour,
    /// What it held in each hour, with how long it was seen.
    held: Vec<(f64, f64)>,
}

impl Total {
    /// One more hour.
    pub fn add(&mut self, hour: &AppHour) {
        self.sum = self.sum.and(hour);
        self.held.push((hour.held, hour.seconds));
    }

    /// What it typically held: the median of all hours in which it was seen, each counted as long as it was.
    pub fn held(&self) -> f64 {
        let mut held = self.held.clone();
        held.order_by(|a, b| a.0.total_cmp(&b.0));
        let half = held.iter().map(|(_, seconds)| seconds).sum::<f64>() / 2.0;
        let mut seen = 0.0;
        for (value, seconds) in &held {
            seen += seconds;
            if seen >= half {
                return *value;
            }
        }
        0.0
    }
}

/// What was used in all, seconds. The kernel counts the machine's time by the tick and a process's to the microsecond: of next to
/// nothing the parts are more.
pub(crate) fn used(rows: &[Row]) -> f64 {
    let accounted = |row: &Row| row.apps.iter().map(|(_, hour)| hour.accounted()).sum::<f64>();
    let add = |(machine, parts): (f64, f64), row: &Row| (machine + row.machine.cpu, parts + accounted(row));
    let (machine, parts) = rows.iter().fold((0.0, 0.0), add);
    f64::max(machine, parts)
}

/// All rows together, by whatever `key` makes of an app.
pub fn total<K: Ord>(rows: &[Row], key: impl Fn(&App) -> K) -> BTreeMap<K, Total> {
    // An app is asked once which key it has, since its rows share it: a year has millions of rows.
    let mut places: HashMap<*const App, usize> = HashMap::new();
    let mut numbers: BTreeMap<K, usize> = BTreeMap::new();
    let mut totals: Vec<Total> = Vec::new();
    let mut hour: Vec<Option<AppHour>> = Vec::new();
    let mut seen: Vec<usize> = Vec::new();
    for row in rows {
        for (app, of) in &row.apps {
            let place = *places.entry(Arc::as_ptr(app)).or_insert_with(|| {
                *numbers.entry(key(app)).or_insert_with(|| {
                    totals.push(Total::default());
                    hour.push(None);
                    totals.len() - 1
                })
            });
            let Some(sum) = hour.get_mut(place) else { continue };
            match sum {
                Some(sum) => *sum = sum.beside(of),
                None => {
                    *sum = Some(*of);
                    seen.push(place);
                }
            }
        }
        for place in seen.drain(..) {
            if let (Some(total), Some(of)) = (totals.get_mut(place), hour[place].take()) {
                total.add(&of);
            }
        }
    }
    numbers.into_iter().map(|(key, place)| (key, std::mem::take(&mut totals[place]))).into_map()
}
