//! Usage as a table: by app, by owner, by hour of the day, by weekday, by day; alone, or against an earlier time.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use jiff::civil::{Date, Weekday};

use super::history::History;
use super::rows::{App, AppHour, MachineHour, Row, Total, total};
use crate::document::{Block, Cell, Document, Table, TableRow};
use crate::text::counted;
use crate::units::{scaled_percent, scaled_size};

/// What usage is told by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Group {
    /// By app and owner.
    App,
    /// By owner.
    Owner,
    /// By hour of the day.
    Hour,
    /// By day of the week.
    Weekday,
    /// By day.
    Day,
}

/// What it is ranked by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum By {
    /// CPU time.
    Cpu,
    /// Memory held.
    Held,
    /// Read from disks.
    Read,
    /// Time in which programs waited.
    Waiting,
    /// Cases.
    Cases,
}

impl By {
    /// As it is typed.
    pub fn word(self) -> &'static str {
        match self {
            By::Cpu => "cpu.time",
            By::Held => "memory.held",
            By::Read => "disk.read",
            By::Waiting => "waiting",
            By::Cases => "cases",
        }
    }

    fn shown(self, value: f64) -> String {
        match self {
            By::Cpu | By::Waiting => cpu_time(value),
            By::Held | By::Read => bytes(value),
            By::Cases => count(value),
        }
    }
}

/// What is asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Asked {
    /// By what.
    pub group: Group,
    /// Ranked by what.
    pub by: By,
    /// Whether only some apps are meant: then figures are theirs, and not the machine's.
    pub of_some: bool,
    /// Most rows.
    pub limit: usize,
}

/// Programs waited for that part of an hour as much as is felt: it is a bad one.
const BAD: f64 = 1.0 / 12.0;

/// An hour that was seen for less than that, seconds, is none that is counted.
const SEEN: f64 = 1200.0;

/// An hour of the day is told when it was bad on so many of its days, and on at least that many days.
const OFTEN: f64 = 0.5;
const DAYS: usize = 3;

/// A change by less than that part is none.
const FIFTH: f64 = 0.2;

/// `3.1 h`, `39 min`, `40 s`.
pub fn cpu_time(seconds: f64) -> String {
    match seconds {
        none if none < 0.5 => String::new(),
        few if few < 59.5 => format!("{few:.0} s"),
        some if some < 5970.0 => format!("{:.0} min", some / 60.0),
        many if many < 360_000.0 => format!("{:.1} h", many / 3600.0),
        many => format!("{:.0} h", many / 3600.0),
    }
}

/// `3.82 GiB`; nothing below a MiB.
pub(crate) fn bytes(bytes: f64) -> String {
    if bytes < 1_048_576.0 { String::new() } else { scaled_size(bytes) }
}

fn count(value: f64) -> String {
    if value < 0.5 { String::new() } else { format!("{value:.0}") }
}

/// The answer.
pub fn view(history: &History, asked: Asked, against: Option<&History>) -> Document {
    let mut document = Document::new(0);
    let local = |at: Timestamp| at.to_zoned(history.zone.clone());
    let Some((from, until)) = history.span() else {
        document.push(Block::Head(vec![history.host.clone()]));
        document.push(Block::Verdict(None, "nothing is known of that time".to_owned()));
        return document;
    };
    let seen: f64 = history.rows.iter().map(|row| row.machine.seconds).sum();
    let days: BTreeSet<Date> = history.rows.iter().map(|row| local(row.start).date()).collect();
    document.push(Block::Head(vec![
        history.host.clone(),
        format!("{} to {}", local(from).strftime("%a %-d %b %Y %H:%M"), local(until).strftime("%a %-d %b %Y %H:%M %Z")),
        format!("{} seen on {}", cpu_time(seen), counted(days.len(), "day")),
    ]));
    let told = match asked.group {
        Group::App => of_apps(history, asked, against, |app: &App| (app.app.clone(), app.owner.clone())),
        Group::Owner => of_apps(history, asked, against, |app: &App| (app.owner.clone(), String::new())),
        Group::Hour | Group::Weekday | Group::Day => of_times(history, asked, against),
    };
    document.push(Block::Verdict(None, told.0));
    document.push(Block::Table(told.1));
    if told.2 > 0 {
        document.push(Block::Paragraph(format!("{} more: --limit shows them", told.2)));
    }
    document
}

type Name = (String, String);
type Told = (String, Table, usize);

fn cases_by<K: Ord>(history: &History, key: impl Fn(&str, &str) -> K) -> BTreeMap<K, f64> {
    let mut cases = BTreeMap::new();
    for case in &history.cases {
        *cases.entry(key(&case.app, &case.owner)).or_insert(0.0) += 1.0;
    }
    cases
}

fn of_apps(history: &History, asked: Asked, against: Option<&History>, key: impl Fn(&App) -> Name + Copy) -> Told {
    let named = |app: &str, owner: &str| key(&App { app: app.to_owned(), owner: owner.to_owned(), uid: u32::MAX });
    let value = |total: &Total, cases: f64| match asked.by {
        By::Cpu | By::Waiting => total.sum.accounted(),
        By::Held => total.held(),
        By::Read => total.sum.read,
        By::Cases => cases,
    };
    let valued = |history: &History| {
        let cases = cases_by(history, named);
        let of = |(name, total): (Name, Total)| {
            let cases = cases.get(&name).copied().unwrap_or(0.0);
            let value = value(&total, cases);
            (name, (total, cases, value))
        };
        total(&history.rows, key).into_iter().map(of).collect::<BTreeMap<Name, (Total, f64, f64)>>()
    };
    let now = valued(history);
    let busy: f64 = history.rows.iter().map(|row| row.machine.cpu).sum();
    let is_owner = asked.group == Group::Owner;
    let who = if is_owner { "owner" } else { "app" };
    let mut ranked: Vec<(Name, (Total, f64, f64))> = now.into_iter().collect();
    if let Some(against) = against {
        return compared(history, against, asked, ranked.into_iter().map(|(name, of)| (name, of.2)).collect(), &valued(against).into_iter().map(|(name, of)| (name, of.2)).collect(), who);
    }
    ranked.sort_by(|a, b| b.1.2.total_cmp(&a.1.2).then_with(|| a.0.cmp(&b.0)));
    let headline = match ranked.first().filter(|(.., of)| of.2 > 0.0) {
        Some((name, (total, cases, _))) => {
            let name = if name.1.is_empty() { name.0.clone() } else { format!("{} ({})", name.0, name.1) };
            match asked.by {
                By::Cpu | By::Waiting => format!(
                    "most CPU time was used by {name}: {}, {} of all used",
                    cpu_time(total.sum.accounted()),
                    scaled_percent(100.0 * total.sum.accounted() / busy.max(1.0))
                ),
                By::Held => format!("most memory was held by {name}: typically {}", scaled_size(total.held())),
                By::Read => format!("most was read from disks by {name}: {}", scaled_size(total.sum.read)),
                By::Cases => format!("most cases were about {name}: {cases:.0}"),
            }
        }
        None => "none used any".to_owned(),
    };
    let more = ranked.len().saturating_sub(asked.limit);
    ranked.truncate(asked.limit);
    let row = |(name, (total, cases, _)): (Name, (Total, f64, f64))| {
        let sum: AppHour = total.sum;
        let held = total.held();
        TableRow {
            name,
            cells: vec![
                Cell::figure(sum.accounted(), cpu_time(sum.accounted())),
                Cell::figure(sum.accounted() / busy.max(1.0), scaled_percent(100.0 * sum.accounted() / busy.max(1.0))),
                Cell::figure(sum.through, cpu_time(sum.through)),
                Cell::figure(held, bytes(held)),
                Cell::figure(sum.held_high, bytes(sum.held_high)),
                Cell::figure(sum.read, bytes(sum.read)),
                Cell::figure(sum.written, bytes(sum.written)),
                Cell::figure(sum.seconds, cpu_time(sum.seconds)),
                Cell::figure(cases, count(cases)),
            ],
            sum: false,
        }
    };
    let mut rows: Vec<TableRow> = ranked.into_iter().map(row).collect();
    if !asked.of_some {
        let unseen: f64 = history.rows.iter().map(|row| row.machine.unseen).sum();
        rows.push(TableRow {
            name: ("nobody who was seen".to_owned(), String::new()),
            cells: vec![
                Cell::figure(unseen, cpu_time(unseen)),
                Cell::figure(unseen / busy.max(1.0), scaled_percent(100.0 * unseen / busy.max(1.0))),
            ],
            sum: true,
        });
    }
    let columns = [
        who,
        "cpu time",
        "of all used",
        "by short-lived children",
        "memory held, typical",
        "highest",
        "read",
        "written",
        "there for",
        "cases",
    ];
    let table = Table { caption: String::new(), columns: columns.map(str::to_owned).to_vec(), shaded: false, rows };
    (headline, table, more)
}

/// Two times beside each other, the greatest change first.
fn compared(
    history: &History,
    against: &History,
    asked: Asked,
    now: BTreeMap<Name, f64>,
    before: &BTreeMap<Name, f64>,
    who: &str,
) -> Told {
    // What adds up is told by the hour seen, so that a shorter time is not less.
    let hours = |history: &History| history.rows.iter().map(|row| row.machine.seconds).sum::<f64>() / 3600.0;
    let sums = !matches!(asked.by, By::Held);
    let scale = if sums && hours(against) > 0.0 { hours(history) / hours(against) } else { 1.0 };
    let names: BTreeSet<&Name> = now.keys().chain(before.keys()).collect();
    let mut rows: Vec<(Name, f64, f64)> = names
        .into_iter()
        .map(|name| {
            let of = |of: &BTreeMap<Name, f64>| of.get(name).copied().unwrap_or(0.0);
            (name.clone(), of(&now), of(before) * scale)
        })
        .collect();
    rows.sort_by(|a, b| (b.1 - b.2).abs().total_cmp(&(a.1 - a.2).abs()).then_with(|| a.0.cmp(&b.0)));
    // What is about as it was is no news, however much it is.
    let is_news = |(_, now, before): &&(Name, f64, f64)| (now - before).abs() > FIFTH * now.max(*before);
    let headline = match rows.iter().find(is_news) {
        Some((name, now, before)) => {
            let name = if name.1.is_empty() { name.0.clone() } else { format!("{} ({})", name.0, name.1) };
            format!(
                "the greatest change of {} is that of {name}: {} against {}{}",
                asked.by.word(),
                shown_or_nothing(asked.by, *now),
                shown_or_nothing(asked.by, *before),
                ratio(*now, *before).map(|ratio| format!(" ({ratio})")).unwrap_or_default()
            )
        }
        None => "nothing is otherwise by as much as a fifth".to_owned(),
    };
    let more = rows.len().saturating_sub(asked.limit);
    rows.truncate(asked.limit);
    let rows = rows
        .into_iter()
        .map(|(name, now, before)| TableRow {
            name,
            cells: vec![
                Cell::figure(now, asked.by.shown(now)),
                Cell::figure(before, asked.by.shown(before)),
                Cell::figure(now - before, signed(asked.by, now - before)),
                Cell::figure(now / before.max(f64::MIN_POSITIVE), ratio(now, before).unwrap_or_else(|| if before <= 0.0 { "new".to_owned() } else { "gone".to_owned() })),
            ],
            sum: false,
        })
        .collect();
    let caption = match sums && (scale - 1.0).abs() > 0.01 {
        true => format!("Before: as much as in {} watched", cpu_time(hours(history) * 3600.0)),
        false => String::new(),
    };
    let columns = [who, asked.by.word(), "before", "change", "ratio"].map(str::to_owned).to_vec();
    (headline, Table { caption, columns, shaded: false, rows }, more)
}

fn shown_or_nothing(by: By, value: f64) -> String {
    let shown = by.shown(value);
    if shown.is_empty() { "next to nothing".to_owned() } else { shown }
}

fn signed(by: By, change: f64) -> String {
    let shown = by.shown(change.abs());
    match () {
        () if shown.is_empty() => String::new(),
        () if change < 0.0 => format!("-{shown}"),
        () => format!("+{shown}"),
    }
}

/// `2.1 times`; none where one of the two is nothing.
pub(super) fn ratio(now: f64, before: f64) -> Option<String> {
    (now > 0.0 && before > 0.0).then(|| format!("{:.1} times", now / before))
}

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

/// The key of a time, so that they come in their order: the hour, the weekday or the day.
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

fn by_time(history: &History, asked: Asked) -> BTreeMap<i64, (String, OfTime)> {
    let mut times: BTreeMap<i64, (String, OfTime)> = BTreeMap::new();
    for row in &history.rows {
        let at = row.start.to_zoned(history.zone.clone());
        let of = times.entry(place(asked.group, &at)).or_insert_with(|| (named(asked.group, &at), OfTime::default()));
        of.1.add(row, at.date(), asked.of_some);
    }
    for case in &history.cases {
        let at = case.at.to_zoned(history.zone.clone());
        if let Some((_, of)) = times.get_mut(&place(asked.group, &at)) {
            of.cases += 1.0;
        }
    }
    times
}

fn of_times(history: &History, asked: Asked, against: Option<&History>) -> Told {
    let times = by_time(history, asked);
    if let Some(against) = against {
        let values = |times: BTreeMap<i64, (String, OfTime)>| {
            times.into_values().map(|(name, of)| ((name, String::new()), of.value(asked))).collect::<BTreeMap<Name, f64>>()
        };
        let who = if asked.group == Group::Hour { "hour" } else { "day" };
        return compared(history, against, asked, values(times), &values(by_time(against, asked)), who);
    }
    let headline = headline_of_times(&times, asked);
    let most = times.values().map(|(_, of)| of.value(asked)).fold(0.0, f64::max);
    let mean = asked.group != Group::Day;
    let row = |(name, of): &(String, OfTime)| {
        // Of an hour or a weekday it is told what one of them is like.
        let days = if mean { of.days.len().max(1) as f64 } else { 1.0 };
        let (cpu, cores) = (of.machine.cpu, f64::from(of.machine.cores.max(1)));
        let share = 100.0 * cpu / (of.machine.seconds * cores).max(1.0);
        let shaded = |cell: Cell, is: bool| if is { Cell { share: of.value(asked) / most.max(f64::MIN_POSITIVE), ..cell } } else { cell };
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
        TableRow { name: (name.clone(), String::new()), cells, sum: false }
    };
    let more = times.len().saturating_sub(asked.limit.max(31));
    let rows: Vec<TableRow> = times.values().skip(more).map(row).collect();
    let what = if asked.group == Group::Hour { "hour" } else { "day" };
    let columns: Vec<&str> = match asked.of_some {
        true => vec![what, "days", "cpu time", "memory held, typical", "highest", "read", "written", "cases"],
        false => vec![what, "days", "cpu time", "of all cores", "memory taken, typical", "programs waited", "bad on days", "read", "cases"],
    };
    let caption = match asked.group {
        Group::Hour => "What one such hour is like",
        Group::Weekday => "What one such day is like",
        _ => "",
    };
    let columns = columns.into_iter().map(str::to_owned).collect();
    (headline, Table { caption: caption.to_owned(), columns, shaded: true, rows }, more)
}

/// Which hour it is, counted by days; else the greatest.
fn headline_of_times(times: &BTreeMap<i64, (String, OfTime)>, asked: Asked) -> String {
    if asked.by == By::Waiting
        && asked.group == Group::Hour
        && let Some(told) = bad_hour(times)
    {
        return told;
    }
    // Of hours and weekdays it is told what one of them is like: there need not be as many of each.
    let sums = !matches!(asked.by, By::Held | By::Cases) && asked.group != Group::Day;
    let value = |of: &OfTime| of.value(asked) / if sums { of.days.len().max(1) as f64 } else { 1.0 };
    let most = times.values().max_by(|a, b| value(&a.1).total_cmp(&value(&b.1)));
    match most.map(|(name, of)| (name, value(of))).filter(|(_, value)| *value > 0.0) {
        Some((name, value)) => {
            let what = match asked.by {
                By::Cpu => "most CPU time was used",
                By::Held if asked.of_some => "most memory was held",
                By::Held => "most memory was taken",
                By::Read => "most was read from disks",
                By::Waiting => "programs waited longest",
                By::Cases => "most cases opened",
            };
            let one = if sums { " on a usual day" } else { "" };
            format!("{name}: {what}, {}{one}", shown_or_nothing(asked.by, value))
        }
        None if asked.by == By::Waiting => "programs never waited as much as is felt".to_owned(),
        None => "none used any".to_owned(),
    }
}

/// `10:00 to 11:00: programs waited on 9 of 10 working days, other hours 1 in 80`.
fn bad_hour(times: &BTreeMap<i64, (String, OfTime)>) -> Option<String> {
    // Where it is bad on no weekend day, working days are what is counted.
    let working = |date: &&Date| !matches!(date.weekday(), Weekday::Saturday | Weekday::Sunday);
    let only_working = times.values().all(|(_, of)| of.bad.iter().all(|date| working(&date)));
    let counted_days = |of: &OfTime| of.counted.iter().filter(|date| !only_working || working(date)).count();
    let share = |of: &OfTime| of.bad.len() as f64 / counted_days(of).max(1) as f64;
    let (place, (name, worst)) = times.iter().max_by(|a, b| share(&a.1.1).total_cmp(&share(&b.1.1)))?;
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
    Some(format!("{name}: programs waited on {bad} of {all} {days}, {others}"))
}
