//! A report over weeks and months, by the history of usage: which hour is bad, since when, and who uses how much.

use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp};

use super::customer::spoken;
use super::headline::{capital, sentence};
use super::times::length;
use crate::document::{Axis, Block, Document, Drawing, Plot, Stairs};
use crate::moment::shifted;
use crate::order::InOrder;
use crate::text::counted;
use crate::units::{scaled_percent, scaled_size};
use crate::usage::{Asked, By, CaseAt, Group, History, MachineHour, all_changes, from_to, since, view};

/// Most rows of a table.
const MOST: usize = 12;

/// The whole of it; nothing where nothing is known.
pub fn months(history: &History, made: &str) -> Option<Document> {
    let axis = axis(history)?;
    let days = days(history);
    let asked =
        |group: Group, by: By| Asked { group, by, of_some: false, limit: if group == Group::Hour { 24 } else { MOST } };
    let waiting = view(history, asked(Group::Hour, By::Waiting), None);
    let changes = all_changes(history);
    let changed = since(history, &changes);
    let mut document = Document::new(10);
    document.push(head(history, &days));
    let names = changes.iter().filter_map(|changed| changed.app.as_ref()).map(|app| app.app.as_str());
    let headline = headline(&waiting, &changed, changes.is_empty());
    document.push(Block::Verdict(None, sentence(&headline, names)));
    document.push(Block::Paragraph(second_line(history, &days)));
    for plot in plots(&axis, &days) {
        document.push(Block::Plot(Box::new(plot)));
    }
    document.push(Block::Heading("What came to another level".to_owned()));
    let entries: Vec<Block> = changed.blocks.into_iter().filter(|block| matches!(block, Block::Entry(_))).collect();
    match entries.is_empty() {
        true => document.push(Block::Paragraph("Nothing that would be worth a word.".to_owned())),
        false => document.blocks.extend(entries),
    }
    section(&mut document, "Which hour", waiting);
    section(&mut document, "Which day of the week", view(history, asked(Group::Weekday, By::Waiting), None));
    section(&mut document, "Who used how much", view(history, asked(Group::App, By::Cpu), None));
    section(&mut document, "By owner", view(history, asked(Group::Owner, By::Cpu), None));
    document.push(Block::Heading("Cases".to_owned()));
    document.push(Block::List(cases(&history.cases)));
    document.push(Block::Gap);
    document.push(Block::Paragraph(made.to_owned()));
    Some(document)
}

/// The verdict and the tables of another document, under a heading of this one.
fn section(document: &mut Document, heading: &str, of: Document) {
    document.push(Block::Heading(heading.to_owned()));
    for block in of.blocks {
        match block {
            Block::Verdict(_, words) => document.push(Block::Paragraph(format!("{}.", capital(&words)))),
            Block::Table(_) => document.push(block),
            _ => {}
        }
    }
}

fn headline(waiting: &Document, changed: &Document, unchanged: bool) -> String {
    let waiting = waiting.verdict().unwrap_or_default();
    match (changed.verdict(), unchanged) {
        (Some(changed), false) => format!("{waiting}; {changed}"),
        _ => waiting.to_owned(),
    }
}

/// A day with the machine's figures.
type OfDay = (Date, MachineHour);

fn days(history: &History) -> Vec<OfDay> {
    let mut days: Vec<OfDay> = Vec::new();
    for row in &history.rows {
        let date = row.start.to_zoned(history.zone.clone()).date();
        match days.last_mut().filter(|(last, _)| *last == date) {
            Some((_, sum)) => *sum = sum.and(&row.machine),
            None => days.push((date, row.machine)),
        }
    }
    days
}

fn head(history: &History, days: &[OfDay]) -> Block {
    let span = days.first().zip(days.last()).map(|((first, _), (last, machine))| {
        let hardware = format!("{} cores, {}", machine.cores, scaled_size(machine.memory as f64));
        (from_to(*first, *last, "%A %-d %B %Y"), hardware)
    });
    let (span, hardware) = span.unwrap_or_default();
    Block::Head(vec![history.host.clone(), span, format!("{} seen; {hardware}", counted(days.len(), "day"))])
}

fn second_line(history: &History, days: &[OfDay]) -> String {
    let sum = |of: fn(&MachineHour) -> f64| days.iter().map(|(_, machine)| of(machine)).sum::<f64>();
    let (seen, waited) = (sum(|machine| machine.seconds), sum(|machine| machine.waited));
    let told = |seconds: f64| length(SignedDuration::from_secs(seconds as i64));
    let cases = match history.cases.len() {
        0 => String::new(),
        count => format!(" {}.", counted(count, "case")),
    };
    if waited < 1.0 {
        return format!("In all of the {} that were seen programs never waited as much as is felt.{cases}", told(seen));
    }
    format!(
        "In {} of {} that were seen programs waited as much as is felt, {}.{cases}",
        told(waited),
        told(seen),
        scaled_percent(100.0 * waited / seen.max(1.0))
    )
}

fn axis(history: &History) -> Option<Axis> {
    let (from, until) = history.span()?;
    let start = |at: Timestamp| at.to_zoned(history.zone.clone()).start_of_day().map_or(at, |day| day.timestamp());
    let (from, until) = (start(from), until);
    let days = until.duration_since(from).as_hours() / 24;
    // A tick a week, or a month where it is longer.
    let step = SignedDuration::from_hours(
        24 * if days <= 10 {
            1
        } else if days <= 100 {
            7
        } else {
            30
        },
    );
    let mut ticks = Vec::new();
    let mut at = from;
    while at < until && ticks.len() < 64 {
        ticks.push((at, at.to_zoned(history.zone.clone()).strftime("%-d %b").to_string()));
        let Ok(next) = at.checked_add(step) else { break };
        at = next;
    }
    Some(Axis { from, until, ticks, blanks: Vec::new() })
}

fn plots(axis: &Axis, days: &[OfDay]) -> Vec<Plot> {
    let one = |title: &str,
               of: String,
               value: &dyn Fn(&MachineHour) -> f64,
               words: &dyn Fn(f64) -> String,
               full: Option<f64>| {
        let start = |date: Date| {
            let first = days.first().map_or(date, |(first, _)| *first);
            shifted(axis.from, SignedDuration::from_hours(24 * i64::from((date - first).get_days())))
        };
        let mut points: Vec<(Timestamp, Option<f64>)> = Vec::new();
        for (place, (date, machine)) in days.iter().enumerate() {
            points.push((start(*date), Some(value(machine))));
            let next = days.get(place + 1).map(|(next, _)| *next);
            let tomorrow = date.tomorrow().unwrap_or(*date);
            if next.is_some_and(|next| next > tomorrow) {
                points.push((start(tomorrow), None));
            }
        }
        let peak = points.iter().filter_map(|(at, value)| Some((*at, (*value)?))).max_by(|a, b| a.1.total_cmp(&b.1));
        let highest = peak.map_or(0.0, |(_, value)| value);
        let middle = SignedDuration::from_hours(12);
        Plot {
            title: title.to_owned(),
            says: format!("{title}, {of}, day by day; highest {}.", words(highest)),
            of,
            axis: axis.clone(),
            drawing: Drawing::Stairs(Stairs {
                points,
                full: full.unwrap_or(highest * 1.1).max(f64::MIN_POSITIVE),
                limits: Vec::new(),
                falls: false,
                painted: Vec::new(),
                marks: Vec::new(),
                peak: peak.map(|(at, value)| (shifted(at, middle), value, words(value))),
            }),
        }
    };
    let cores = days.last().map_or(1, |(_, machine)| machine.cores);
    let memory = days.last().map_or(0, |(_, machine)| machine.memory);
    let minutes = |value: f64| format!("{value:.0} min");
    vec![
        one("Programs waited", "minutes of the day".to_owned(), &|machine| machine.waited / 60.0, &minutes, None),
        one(
            "CPU",
            format!("% of {cores} cores"),
            &|machine| 100.0 * machine.cpu / (machine.seconds * f64::from(machine.cores.max(1))).max(1.0),
            &scaled_percent,
            None,
        ),
        one(
            "Memory taken",
            format!("% of {}", scaled_size(memory as f64)),
            &|machine| {
                let left = machine.available.unwrap_or(machine.memory as f64);
                100.0 * (1.0 - left / (machine.memory.max(1)) as f64)
            },
            &scaled_percent,
            Some(100.0),
        ),
    ]
}

fn cases(cases: &[CaseAt]) -> Vec<String> {
    let mut rules: std::collections::BTreeMap<(&str, &str), usize> = std::collections::BTreeMap::new();
    for case in cases {
        *rules.entry((&case.rule, &case.app)).or_default() += 1;
    }
    if rules.is_empty() {
        return vec!["none in this time".to_owned()];
    }
    let mut rules: Vec<_> = rules.into_iter().collect();
    rules.order_by_key(|(_, count)| std::cmp::Reverse(*count));
    rules
        .into_iter()
        .take(MOST)
        .map(|((rule, app), count)| {
            let of = if app.is_empty() { String::new() } else { format!(", {app}") };
            format!("{rule}{of}: {}", counted(count, "case"))
        })
        .collect()
}

/// The same for the person whose machine it is.
pub fn months_for_customer(history: &History, suggest: &[String]) -> Option<Document> {
    let axis = axis(history)?;
    let days = days(history);
    let asked = Asked { group: Group::Hour, by: By::Waiting, of_some: false, limit: 24 };
    let waiting = view(history, asked, None);
    let waited: f64 = days.iter().map(|(_, machine)| machine.waited).sum();
    let mut document = Document::new(4);
    document.push(head(history, &days));
    document.push(Block::Verdict(
        None,
        match waited / days.len().max(1) as f64 {
            little if little < 60.0 => "The computer was hardly ever slow".to_owned(),
            some => {
                let each = spoken(length(SignedDuration::from_secs(some as i64)));
                format!("The computer was slow for {each} on a usual day")
            }
        },
    ));
    document.push(Block::Paragraph(format!("{}.", capital(waiting.verdict().unwrap_or_default()))));
    document.blocks.extend(plots(&axis, &days).into_iter().take(1).map(|plot| Block::Plot(Box::new(plot))));
    let changes: Vec<String> = all_changes(history)
        .iter()
        .filter_map(|changed| {
            let app = changed.app.as_ref()?;
            let more = if changed.change.after > changed.change.before { "more" } else { "less" };
            let what = match changed.measure {
                crate::usage::Measure::Held => "memory",
                crate::usage::Measure::Cpu => "of the processor",
                _ => "of the disk",
            };
            let since = changed.change.since.strftime("%A %-d %B");
            Some(format!("The program {} has needed {more} {what} since {since}.", app.app))
        })
        .collect();
    for (heading, lines) in [("What changed", changes), ("What we suggest", suggest.to_vec())] {
        if !lines.is_empty() {
            document.push(Block::Heading(heading.to_owned()));
            document.push(Block::List(lines));
        }
    }
    document.push(Block::Gap);
    document.push(Block::Paragraph(super::customer::WHAT_IT_LOOKS_AT.to_owned()));
    Some(document)
}
