//! Usage as a table: by app, by owner, by hour of the day, by weekday, by day; alone, or against an earlier time.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use jiff::civil::Date;

use super::against::{Called, Earlier, Side, Watched, compared};
use super::by_time::of_times;
use super::history::History;
use super::rows::{App, AppHour, Total, total, used};
use crate::document::{Block, Cell, Document, Table, TableRow};
use crate::order::{InOrder, IntoMap, IntoSet};
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

    /// As a heading, and in a sentence.
    pub(super) fn heading(self) -> &'static str {
        match self {
            By::Cpu => "cpu time",
            By::Held => "memory held",
            By::Read => "read from disks",
            By::Waiting => "programs waited",
            By::Cases => "cases",
        }
    }

    pub(super) fn shown(self, value: f64) -> String {
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

pub(super) fn count(value: f64) -> String {
    if value < 0.5 { String::new() } else { format!("{value:.0}") }
}

/// The answer.
pub fn view(history: &History, asked: Asked, earlier: Option<Earlier<'_>>) -> Document {
    let mut document = Document::new(0);
    let Some(span) = span_in_words(history) else {
        document.push(Block::Head(vec![history.host.clone()]));
        document.push(Block::Verdict(None, "nothing is known of that time".to_owned()));
        return document;
    };
    let seen: f64 = history.rows.iter().map(|row| row.machine.seconds).sum();
    let days: BTreeSet<Date> =
        history.rows.iter().map(|row| row.start.to_zoned(history.zone.clone()).date()).into_set();
    document.push(Block::Head(vec![
        history.host.clone(),
        span,
        format!("{} seen on {}", cpu_time(seen), counted(days.len(), "day")),
    ]));
    let against = earlier.filter(|earlier| !earlier.history.rows.is_empty());
    let mut told = match asked.group {
        Group::App => of_apps(history, asked, against, |app: &App| (app.app.clone(), app.owner.clone())),
        Group::Owner => of_apps(history, asked, against, |app: &App| (app.owner.clone(), String::new())),
        Group::Hour | Group::Weekday | Group::Day => of_times(history, asked, against),
    };
    if let Some(earlier) = earlier.filter(|_| against.is_none()) {
        told.0 = format!("nothing is known of {} to compare with; {}", earlier.words(), told.0);
    }
    document.push(Block::Verdict(None, told.0));
    document.push(Block::Table(told.1));
    if told.2 > 0 {
        document.push(Block::Paragraph(format!("{} more: --limit shows them", told.2)));
    }
    document
}

/// `Mon 12 Oct 2026 07:00 to Mon 12 Oct 2026 19:00 BST`; none of what is empty.
pub(super) fn span_in_words(history: &History) -> Option<String> {
    let (from, until) = history.span()?;
    let local = |at: Timestamp| at.to_zoned(history.zone.clone());
    Some(format!(
        "{} to {}",
        local(from).strftime("%a %-d %b %Y %H:%M"),
        local(until).strftime("%a %-d %b %Y %H:%M %Z")
    ))
}

/// CPU time, and its part of all that was used.
pub(crate) fn cpu(seconds: f64, used: f64) -> [Cell; 2] {
    let part = percent(seconds, used);
    [Cell::figure(seconds, cpu_time(seconds)), Cell::figure(part, scaled_percent(part))]
}

fn percent(seconds: f64, used: f64) -> f64 {
    100.0 * seconds / used.max(f64::MIN_POSITIVE)
}

/// What an app or an owner used: CPU time, its part of all that was used, what came through its children, memory held and highest,
/// read, written.
pub(crate) fn figures(total: &Total, used: f64) -> [Cell; 7] {
    let (sum, held) = (&total.sum, total.held());
    let [time, part] = cpu(sum.accounted(), used);
    [
        time,
        part,
        Cell::figure(sum.through, cpu_time(sum.through)),
        Cell::figure(held, bytes(held)),
        Cell::figure(sum.held_high, bytes(sum.held_high)),
        Cell::figure(sum.read, bytes(sum.read)),
        Cell::figure(sum.written, bytes(sum.written)),
    ]
}

/// What is said where there is none of it.
pub(super) fn nothing(by: By) -> &'static str {
    match by {
        By::Cpu => "no CPU time was used",
        By::Held => "nobody held any memory",
        By::Read => "nothing was read from disks",
        By::Waiting => "programs never waited",
        By::Cases => "no case opened",
    }
}

/// What a row is called, and what stands beside it.
pub(super) type Name = (String, String);

/// `labelpress (ines)`.
pub(super) fn in_words(name: &Name) -> String {
    if name.1.is_empty() { name.0.clone() } else { format!("{} ({})", name.0, name.1) }
}

/// The headline, the table, and how many rows were left out.
pub(super) type Told = (String, Table, usize);

fn cases_by<K: Ord>(history: &History, key: impl Fn(&str, &str) -> K) -> BTreeMap<K, f64> {
    let mut cases = BTreeMap::new();
    for case in &history.cases {
        *cases.entry(key(&case.app, &case.owner)).or_insert(0.0) += 1.0;
    }
    cases
}

fn of_apps(history: &History, asked: Asked, against: Option<Earlier<'_>>, key: impl Fn(&App) -> Name + Copy) -> Told {
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
        total(&history.rows, key).into_iter().map(of).into_map()
    };
    let now = valued(history);
    let used = used(&history.rows);
    let is_owner = asked.group == Group::Owner;
    let who = if is_owner { "owner" } else { "app" };
    let mut ranked: Vec<(Name, (Total, f64, f64))> = now.into_iter().collect();
    if let Some(earlier) = against {
        let side = |history: &History, of: Vec<(Name, (Total, f64, f64))>| {
            let seconds = history.rows.iter().map(|row| row.machine.seconds).sum();
            let one =
                |(name, of): (Name, (Total, f64, f64))| (Called { name, key: None }, Watched { value: of.2, seconds });
            let of = of.into_iter().map(one).collect();
            Side { of, absent: Some(Watched { value: 0.0, seconds }) }
        };
        let before = side(earlier.history, valued(earlier.history).into_iter().collect());
        return compared(earlier, asked, &side(history, ranked), &before, who);
    }
    ranked.order_by(|a, b| b.1.2.total_cmp(&a.1.2).then_with(|| a.0.cmp(&b.0)));
    let headline = match ranked.first().filter(|(.., of)| of.2 > 0.0) {
        Some((name, (total, cases, _))) => {
            let name = in_words(name);
            match asked.by {
                By::Cpu | By::Waiting if cpu_time(total.sum.accounted()).is_empty() => {
                    "hardly any CPU time was used".to_owned()
                }
                By::Cpu | By::Waiting => format!(
                    "most CPU time was used by {name}: {}, {} of all used",
                    cpu_time(total.sum.accounted()),
                    scaled_percent(percent(total.sum.accounted(), used))
                ),
                By::Held => format!("most memory was held by {name}: typically {}", scaled_size(total.held())),
                By::Read => format!("most was read from disks by {name}: {}", scaled_size(total.sum.read)),
                By::Cases => format!("most cases were about {name}: {cases:.0}"),
            }
        }
        None => nothing(asked.by).to_owned(),
    };
    let more = ranked.len().saturating_sub(asked.limit);
    ranked.truncate(asked.limit);
    let row = |(name, (total, cases, _)): (Name, (Total, f64, f64))| {
        let mut cells = figures(&total, used).to_vec();
        let sum: AppHour = total.sum;
        cells.extend([Cell::figure(sum.seconds, cpu_time(sum.seconds)), Cell::figure(cases, count(cases))]);
        TableRow { name, cells, ..TableRow::default() }
    };
    let mut rows: Vec<TableRow> = ranked.into_iter().map(row).collect();
    if !asked.of_some {
        let unseen: f64 = history.rows.iter().map(|row| row.machine.unseen).sum();
        rows.push(TableRow {
            name: ("nobody who was seen".to_owned(), String::new()),
            cells: cpu(unseen, used).to_vec(),
            sum: true,
            ..TableRow::default()
        });
    }
    let columns = [
        (who, who),
        ("cpu time", "cpu.time"),
        ("of all used", "cpu.time.part"),
        ("by short-lived children", "cpu.time.children"),
        ("memory held, typical", "memory.held"),
        ("highest", "memory.held.highest"),
        ("read", "disk.read"),
        ("written", "disk.write"),
        ("there for", "seen"),
        ("cases", "cases"),
    ];
    let table = Table { rows, ..Table::headed(&columns) };
    (headline, table, more)
}
