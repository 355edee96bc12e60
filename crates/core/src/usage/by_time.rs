//! Usage by hour of the day, by weekday and by day; and which hour is bad.

use std::collections::{BTreeMap, BTreeSet};

use jiff::civil::{Date, Weekday};
use jiff::{Timestamp, ToSpan};

use super::against::{Called, Earlier, Side, Watched, compared, shown_or_nothing};
use super::history::History;
use super::rows::{AppHour, MachineHour, Row};
use super::view::{Asked, By, Group, Told, bytes, count, cpu_time, nothing};
use crate::document::{Cell, Table, TableRow};
use crate::order::{InOrder, IntoSet};
use crate::units::scaled_percent;

/// Programs waited for that part of an hour as much as is felt: it is a bad one.
const BAD: f64 = 1.0 / 12.0;

/// An hour that was seen for less than that, seconds, is none that is counted.
const SEEN: f64 = 1200.0;

/// An hour of the day is told when it was bad on so many of its days, and on at least that many days.
const OFTEN: f64 = 0.5;
const DAYS: usize = 3;

/// Figures of one hour of the day, weekday or day.
#[derive(Default)]
struct OfTime {
    machine: MachineHour,
    apps: AppHour,
    /// Typical memory of each hour with how long it was seen: taken, or held by those that are meant.
    memory: Vec<f64>,
    days: BTreeSet<Date>,
    counted: BTreeSet<Date>,
    bad: BTreeSet<Date>,
    cases: f64,
}

/// In their order.
type Times = BTreeMap<i64, (Called, OfTime)>;

impl OfTime {
    fn add(&mut self, row: &Row, date: Date, of_some: bool) {
        let mut hour = AppHour::default();
        for (_, of) in &row.apps {
            hour = hour.beside(of);
        }
        self.apps = self.apps.and(&hour);
        self.machine = self.machine.and(&row.machine);
        match of_some {
            true if hour.seconds > 0.0 => self.memory.push(hour.held),
            true => {}
            false => {
                self.memory.extend(row.machine.available.map(|available| row.machine.memory as f64 - available));
            }
        }
        if !of_some || hour.seconds > 0.0 {
            self.days.insert(date);
        }
        if row.machine.seconds >= SEEN {
            self.counted.insert(date);
        }
        if row.machine.waited > row.machine.seconds.max(1.0) * BAD {
            self.bad.insert(date);
        }
    }

    fn memory(&self) -> f64 {
        super::changes::median(self.memory.clone()).unwrap_or(0.0)
    }

    /// Of how many hours or weekdays it is the sum; a day stands for itself.
    fn parts(&self, asked: Asked) -> f64 {
        if asked.group == Group::Day { 1.0 } else { self.days.len().max(1) as f64 }
    }

    /// What one such hour, weekday or day is like, but for what does not add up, and for cases, of which there is no part.
    fn one(&self, asked: Asked) -> Watched {
        let parts = if is_mean(asked) { self.parts(asked) } else { 1.0 };
        Watched { value: self.value(asked) / parts, seconds: self.machine.seconds / parts }
    }

    fn value(&self, asked: Asked) -> f64 {
        match asked.by {
            By::Cpu if asked.of_some => self.apps.accounted(),
            By::Cpu => self.machine.cpu,
            By::Held => self.memory(),
            By::Read => self.apps.read,
            By::Waiting => self.machine.waited,
            By::Cases => self.cases,
        }
    }
}

/// Whether it is told what one such hour or weekday is like: there need not be as many of each.
fn is_mean(asked: Asked) -> bool {
    !matches!(asked.by, By::Held | By::Cases) && asked.group != Group::Day
}

/// What programs call it: `10:00`, `Monday`, `2026-11-02`.
fn key(group: Group, at: &jiff::Zoned) -> String {
    match group {
        Group::Hour => format!("{:02}:00", at.hour()),
        Group::Weekday => named(group, at),
        _ => at.date().to_string(),
    }
}

/// The place of a time, so that they come in their order: the hour, the weekday or the day.
fn place(group: Group, at: &jiff::Zoned) -> i64 {
    match group {
        Group::Hour => i64::from(at.hour()),
        Group::Weekday => i64::from(at.weekday().to_monday_zero_offset()),
        _ => i64::from(at.date().year()) * 10_000 + i64::from(at.month()) * 100 + i64::from(at.day()),
    }
}

fn named(group: Group, at: &jiff::Zoned) -> String {
    match group {
        Group::Hour => format!("{:02}:00 to {:02}:00", at.hour(), (i32::from(at.hour()) + 1) % 24),
        Group::Weekday => at.strftime("%A").to_string(),
        _ => at.strftime("%a %-d %b").to_string(),
    }
}

/// `days`: each day is told as the one so many days after it, to stand beside that.
fn by_time(history: &History, asked: Asked, days: i64) -> Times {
    let mut times = Times::new();
    let days = if asked.group == Group::Day { days } else { 0 };
    let local = |at: Timestamp| {
        let at = at.to_zoned(history.zone.clone());
        at.checked_add(days.days()).unwrap_or(at)
    };
    for row in &history.rows {
        let at = local(row.start);
        let new = || {
            let (name, key) = ((named(asked.group, &at), String::new()), Some(key(asked.group, &at)));
            (Called { name, key }, OfTime::default())
        };
        let of = times.entry(place(asked.group, &at)).or_insert_with(new);
        of.1.add(row, at.date(), asked.of_some);
    }
    for case in &history.cases {
        let at = local(case.at);
        if let Some((_, of)) = times.get_mut(&place(asked.group, &at)) {
            of.cases += 1.0;
        }
    }
    times
}

pub(super) fn of_times(history: &History, asked: Asked, against: Option<Earlier<'_>>) -> Told {
    let times = by_time(history, asked, 0);
    let what = if asked.group == Group::Hour { "hour" } else { "day" };
    if let Some(earlier) = against {
        let side = |times: Times| {
            let of = times.into_values().map(|(called, of)| (called, of.one(asked))).collect();
            Side { of, absent: None }
        };
        let before = side(by_time(earlier.history, asked, earlier.days()));
        return compared(earlier, asked, &side(times), &before, what);
    }
    let headline = headline_of_times(&times, asked);
    let most = times.values().map(|(_, of)| of.one(asked).value).fold(0.0, f64::max);
    let row = |(called, of): &(Called, OfTime)| {
        // Of an hour or a weekday it is told what one of them is like.
        let days = of.parts(asked);
        let (cpu, cores) = (of.machine.cpu, f64::from(of.machine.cores.max(1)));
        let share = 100.0 * cpu / (of.machine.seconds * cores).max(1.0);
        let shaded = |cell: Cell, is: bool| {
            if is { Cell { share: of.one(asked).value / most.max(f64::MIN_POSITIVE), ..cell } } else { cell }
        };
        let mut cells = vec![Cell::figure(of.days.len() as f64, count(of.days.len() as f64))];
        if asked.of_some {
            let used = of.apps.accounted() / days;
            cells.push(shaded(Cell::figure(used, cpu_time(used)), asked.by == By::Cpu));
            cells.push(shaded(Cell::figure(of.memory(), bytes(of.memory())), asked.by == By::Held));
            cells.push(Cell::figure(of.apps.held_high, bytes(of.apps.held_high)));
            let (read, written) = (of.apps.read / days, of.apps.written / days);
            cells.push(shaded(Cell::figure(read, bytes(read)), asked.by == By::Read));
            cells.push(Cell::figure(written, bytes(written)));
        } else {
            cells.push(shaded(Cell::figure(cpu / days, cpu_time(cpu / days)), asked.by == By::Cpu));
            cells.push(Cell::figure(share, scaled_percent(share)));
            cells.push(shaded(Cell::figure(of.memory(), bytes(of.memory())), asked.by == By::Held));
            let waited = of.machine.waited / days;
            cells.push(shaded(Cell::figure(waited, cpu_time(waited)), asked.by == By::Waiting));
            let bad = of.bad.len();
            let words = if bad == 0 { String::new() } else { format!("{bad} of {}", of.counted.len().max(bad)) };
            cells.push(Cell::figure(bad as f64, words));
            let read = of.apps.read / days;
            cells.push(shaded(Cell::figure(read, bytes(read)), asked.by == By::Read));
        }
        cells.push(shaded(Cell::figure(of.cases, count(of.cases)), asked.by == By::Cases));
        TableRow { name: called.name.clone(), key: called.key.clone(), cells, sum: false }
    };
    let more = times.len().saturating_sub(asked.limit);
    let told = most_telling(&times, asked);
    let rows: Vec<TableRow> = times.iter().filter(|(place, _)| told.contains(place)).map(|(_, of)| row(of)).collect();
    let columns: &[(&str, &str)] = match asked.of_some {
        true => &[
            (what, what),
            ("days", "days"),
            ("cpu time", "cpu.time"),
            ("memory held, typical", "memory.held"),
            ("highest", "memory.held.highest"),
            ("read", "disk.read"),
            ("written", "disk.write"),
            ("cases", "cases"),
        ],
        false => &[
            (what, what),
            ("days", "days"),
            ("cpu time", "cpu.time"),
            ("of all cores", "machine.cpu"),
            ("memory taken, typical", "machine.memory.used"),
            ("programs waited", "waiting"),
            ("bad on days", "days.bad"),
            ("read", "disk.read"),
            ("cases", "cases"),
        ],
    };
    let caption = match asked.group {
        Group::Hour => "What one such hour is like; cases are those of all of them",
        Group::Weekday => "What one such day is like; cases are those of all of them",
        _ => "",
    };
    (headline, Table { caption: caption.to_owned(), shaded: true, rows, ..Table::headed(columns) }, more)
}

/// As many as are asked for: the last days, the hours and weekdays with most.
fn most_telling(times: &Times, asked: Asked) -> BTreeSet<i64> {
    let mut places: Vec<i64> = times.keys().rev().copied().collect();
    if asked.group != Group::Day {
        let value = |place: &i64| times.get(place).map_or(0.0, |(_, of)| of.one(asked).value);
        places.order_by(|a, b| value(b).total_cmp(&value(a)));
    }
    places.into_iter().take(asked.limit).into_set()
}

/// Which hour it is, counted by days; else the greatest.
fn headline_of_times(times: &Times, asked: Asked) -> String {
    if asked.by == By::Waiting
        && asked.group == Group::Hour
        && let Some(told) = bad_hour(times)
    {
        return told;
    }
    let value = |of: &OfTime| of.one(asked).value;
    let most = times.values().max_by(|a, b| value(&a.1).total_cmp(&value(&b.1)));
    match most.map(|(called, of)| (&called.name.0, value(of))).filter(|(_, value)| *value > 0.0) {
        Some((name, value)) => {
            let what = match asked.by {
                By::Cpu => "most CPU time was used",
                By::Held if asked.of_some => "most memory was held",
                By::Held => "most memory was taken",
                By::Read => "most was read from disks",
                By::Waiting => "programs waited longest",
                By::Cases => "most cases opened",
            };
            let one = if is_mean(asked) { " on a usual day" } else { "" };
            format!("{name}: {what}, {}{one}", shown_or_nothing(asked.by, value))
        }
        None if asked.by == By::Waiting => "programs never waited as much as is felt".to_owned(),
        None => nothing(asked.by).to_owned(),
    }
}

/// `10:00 to 11:00: programs waited on 9 of 10 working days, other hours 1 in 80`.
fn bad_hour(times: &Times) -> Option<String> {
    // Where it is bad on no weekend day, working days are what is counted.
    let working = |date: &&Date| !matches!(date.weekday(), Weekday::Saturday | Weekday::Sunday);
    let only_working = times.values().all(|(_, of)| of.bad.iter().all(|date| working(&date)));
    let counted_days = |of: &OfTime| of.counted.iter().filter(|date| !only_working || working(date)).count();
    let share = |of: &OfTime| of.bad.len() as f64 / counted_days(of).max(1) as f64;
    let (place, (called, worst)) = times.iter().max_by(|a, b| share(&a.1.1).total_cmp(&share(&b.1.1)))?;
    let (bad, all) = (worst.bad.len(), counted_days(worst));
    if bad < DAYS || share(worst) < OFTEN {
        return None;
    }
    let others = times.iter().filter(|(other, _)| *other != place);
    let (others_bad, others_all) =
        others.fold((0, 0), |(bad, all), (_, (_, of))| (bad + of.bad.len(), all + counted_days(of)));
    let days = if only_working { "working days" } else { "days" };
    let others = match (others_bad, others_all) {
        (0, _) => "no other".to_owned(),
        (bad, all) => format!("others {bad} in {all}"),
    };
    Some(format!("{}: programs waited on {bad} of {all} {days}, {others}", called.name.0))
}
