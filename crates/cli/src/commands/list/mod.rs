//! `sophron list`: who uses this machine, the heaviest first.

mod columns;
mod growth;
mod look;
mod machine_formats;
mod query;
mod tree;

use std::fs::File;
use std::io::Write;
use std::time::Duration;

use sophron_core::condition::{Condition, Truth};
use sophron_core::facts::Facts;
use sophron_core::groups::{Group, Grouping};
use sophron_core::model::{Cost, Field, Machine, Needs, Process, Snapshot};
use sophron_core::order::InOrder;
use sophron_core::report::{self, Collector, Setting};
use sophron_core::text::nearest;
use sophron_core::units::scaled_duration;
use sophron_linux::new_files;

use crate::args::{self, Format};
use crate::exit::{Exit, Failure};
use crate::recordings::{Recordings, Spanned};
use crate::source::{Look, Source};
use crate::ui::style::{Label, Styled};
use crate::ui::{self, document, table, when};
use query::Query;

/// Less than that in percent of one core is idle.
const IDLE: f64 = 0.1;

/// Over how much of the lookback growth is, unless told otherwise.
const GROWTH: Duration = Duration::from_secs(3600);

/// How long the exact memory of the groups shown is read for, all together; what is left is an upper bound.
const EXACT_MEMORY: Duration = Duration::from_millis(250);

/// The same for the look everybody takes, which has to cost next to nothing.
const EXACT_MEMORY_AT_A_LOOK: Duration = Duration::from_millis(3);

/// A family of more processes than that is left at its upper bound in that look.
const CROWD_AT_A_LOOK: usize = 64;

pub fn run(args: &args::List) -> Result<Exit, Failure> {
    let query = Query::new(args)?;
    let recordings = match Recordings::asked(&args.recorded, &args.state)? {
        // Growth is over a span: of a recording the whole of it, else the last hour of the lookback, where there is one.
        Some(recordings) if query.growth => Some(recordings.or_whole()),
        Some(recordings) if args.chart => Some(recordings.or_whole()),
        None if query.growth || args.chart => Recordings::last_of_lookback(GROWTH, &args.state),
        asked => asked,
    };
    let charts = args.chart.then(|| charts(args, recordings.as_ref())).transpose()?.unwrap_or_default();
    let mut source = Source::new(recordings, query.needs(), query.asks_for_rates())?;
    let mut file = args.save.as_deref().map(new_files::create).transpose().map_err(|error| {
        Failure::of(Exit::Failed, error)
            .hint("--save never overwrites a file: give another name, or move that one away")
    })?;
    let times =
        if source.is_live() { args.times.unwrap_or(if args.every.is_some() { u32::MAX } else { 1 }) } else { 1 };
    ui::out(&charts);
    if let Some(file) = file.as_mut() {
        save(file, &charts, args)?;
    }
    for time in 0..times {
        let look = if query.growth { source.span(args.every)? } else { source.look(args.every)? };
        let shown = query.show(look, &mut source, time == 0);
        ui::out(&shown);
        if let Some(file) = file.as_mut() {
            save(file, &shown, args)?;
        }
    }
    Ok(Exit::Fine)
}

/// How the machine went over the span.
fn charts(args: &args::List, recordings: Option<&Recordings>) -> Result<String, Failure> {
    if args.format != Format::Text {
        return Err(Failure::new(Exit::Usage, "a chart is for people: it is drawn in text only")
            .hint("`sophron report --format json` has its figures"));
    }
    let recordings = recordings.ok_or_else(|| {
        Failure::new(Exit::Failed, "there is nothing to draw: no lookback was kept in the last hour")
            .hint("`sophron watch` keeps one while it runs; `--from FILE` draws a recording")
    })?;
    let setting = Setting { checkup: Default::default(), zone: recordings.zone().clone(), hours: None };
    let mut collector = Collector::new(setting);
    recordings.each(|snapshot, _, _| collector.take(snapshot))?;
    let stretch = collector.finish().filter(|stretch| !stretch.minutes.is_empty());
    let stretch =
        stretch.ok_or_else(|| Failure::new(Exit::Failed, "there are too few samples in that time to draw"))?;
    Ok(document::text(&report::charts(&stretch), table::terminal_width()))
}

fn save(file: &mut File, shown: &str, args: &args::List) -> Result<(), Failure> {
    let plain = anstream::adapter::strip_str(shown).to_string();
    file.write_all(plain.as_bytes()).map_err(|error| {
        let name = args.save.as_deref().map(|path| path.display().to_string()).unwrap_or_default();
        Failure::new(Exit::Failed, format!("{name} cannot be written")).because(error)
    })
}

impl Query<'_> {
    fn show(&self, look: Look, source: &mut Source, first: bool) -> String {
        let Look { mut snapshot, zone, notes, over } = look;
        for note in notes {
            ui::err(format_args!("sophron: {note}\n"));
        }
        let costly = Needs::of(self.covers.iter().flat_map(Condition::fields).collect::<Vec<_>>().iter());
        if costly.has(Cost::Rollup) || costly.has(Cost::Files) {
            self.read_costly(&mut snapshot, source, costly);
        }
        let undecided = self.keep_covered(&mut snapshot);
        if undecided > 0 {
            ui::err(format_args!(
                "sophron: {undecided} processes left out: what the condition names cannot be read of them\n"
            ));
        }
        if let Some(over) = over.as_ref().filter(|_| self.growth) {
            return self.growth(&snapshot, zone.as_ref(), over);
        }
        if self.plain {
            self.exact_memory(&mut snapshot, source, Grouping::App);
            return self.first_lines(&snapshot, zone.as_ref(), &look::summary(&snapshot))
                + &look::render(&snapshot)
                + &format!("\n{}\n", look::machine_line(&snapshot.machine));
        }
        if self.args.tree {
            let rows = tree::rows(&snapshot, self.limit());
            let words =
                format!("{} of {} processes as trees, heaviest branch first", rows.len(), snapshot.machine.processes);
            return self.head(&snapshot, zone.as_ref(), &words) + &tree::render(&rows);
        }
        match self.grouping {
            Some(grouping) => {
                self.exact_memory(&mut snapshot, source, grouping);
                let groups = self.ranked_groups(&snapshot, grouping);
                self.groups(&snapshot, zone.as_ref(), grouping, &groups, first)
            }
            None => self.processes(snapshot, zone.as_ref(), source, first),
        }
    }

    fn growth(&self, snapshot: &Snapshot, zone: Option<&jiff::tz::TimeZone>, over: &Spanned) -> String {
        if self.args.format != Format::Text {
            return growth::machine_format(self.args.format, snapshot, over, self.limit(), self.grouping.is_some());
        }
        let words = growth::words(snapshot, over, self.limit(), self.grouping.is_some());
        let length = jiff::SignedDuration::try_from(snapshot.interval.unwrap_or_default()).unwrap_or_default();
        let clock = |at: jiff::Timestamp| {
            let form = if length.as_mins() < 10 { "%H:%M:%S" } else { "%H:%M" };
            at.to_zoned(zone.cloned().unwrap_or_else(jiff::tz::TimeZone::system)).strftime(form).to_string()
        };
        let end = snapshot.moment.wall;
        let span = format!("{} to {}", clock(end - length), clock(end));
        let apps = self.grouping.is_some();
        self.head(snapshot, zone, &words) + &growth::text(snapshot, over, self.limit(), &span, apps)
    }

    /// Costly fields of `where` are read only of those for which all else in it holds.
    fn read_costly(&self, snapshot: &mut Snapshot, source: &mut Source, needs: Needs) {
        let (Some(covers), Source::Live { sampler, .. }) = (&self.covers, source) else { return };
        for process in &mut snapshot.processes {
            if covers.evaluate(&Facts::new(process, &snapshot.machine)) == Truth::Unknown {
                sampler.read_costly(process, needs, EXACT_MEMORY);
            }
        }
    }

    /// Resident sums only screen: of the groups that will be shown the exact memory is read.
    fn exact_memory(&self, snapshot: &mut Snapshot, source: &mut Source, grouping: Grouping) {
        let Source::Live { sampler, .. } = source else { return };
        let needs = Needs::NONE.with(Cost::Rollup);
        let groups = self.ranked_groups(snapshot, grouping);
        let mut by_memory: Vec<&Group<'_>> = groups.iter().collect();
        by_memory.order_by_key(|group| std::cmp::Reverse(group.memory().map(|amount| amount.bytes)));
        let shown = groups.iter().take(self.limit()).chain(by_memory.iter().copied().take(self.limit()));
        // Exact is only what was read of every member: of a crowd that a look cannot pay for, nothing is read.
        let most = if self.plain { CROWD_AT_A_LOOK } else { usize::MAX };
        let wanted: Vec<u32> = shown
            .filter(|group| group.members.len() > 1 && group.members.len() <= most)
            .flat_map(|group| group.members.iter().map(|member| member.id.pid))
            .collect();
        // Whom a row names has to be known in full: of the idle only what ranking takes was read.
        let named = groups.iter().take(self.limit()).chain(by_memory.iter().copied().take(self.limit()));
        let named: Vec<u32> =
            named.flat_map(|group| [group.heaviest(false).id.pid, group.heaviest(true).id.pid]).collect();
        let budget = if self.plain { EXACT_MEMORY_AT_A_LOOK } else { EXACT_MEMORY };
        for pid in named {
            if let Ok(at) = snapshot.processes.binary_search_by_key(&pid, |process| process.id.pid)
                && snapshot.processes[at].id.start == 0
            {
                sampler.complete(&mut snapshot.processes[at]);
            }
        }
        let give_up = std::time::Instant::now() + budget;
        for pid in wanted {
            let left = give_up.saturating_duration_since(std::time::Instant::now());
            if left.is_zero() {
                return;
            }
            if let Ok(at) = snapshot.processes.binary_search_by_key(&pid, |process| process.id.pid)
                && snapshot.processes[at].memory_proportional.is_none()
            {
                sampler.read_costly(&mut snapshot.processes[at], needs, left);
            }
        }
    }

    /// The first lines: host, time, interval, counts; and the machine's totals.
    fn head(&self, snapshot: &Snapshot, zone: Option<&jiff::tz::TimeZone>, words: &str) -> String {
        self.first_lines(snapshot, zone, words)
            + &table::flow(&[look::machine_line(&snapshot.machine)], table::terminal_width())
    }

    fn first_lines(&self, snapshot: &Snapshot, zone: Option<&jiff::tz::TimeZone>, words: &str) -> String {
        let interval =
            snapshot.interval.map(|interval| format!("cpu over {}", scaled_duration(interval))).unwrap_or_default();
        let host = Styled(Label::Heading, &snapshot.machine.host).to_string();
        let pieces = [host, when::date_in(snapshot.moment.wall, zone), interval, words.to_owned()];
        let mut text = table::flow(&pieces, table::terminal_width());
        if snapshot.machine.hidden {
            text.push_str("processes of other users are hidden from you (hidepid): run as root to see them\n");
        }
        text
    }

    fn processes(
        &self,
        mut snapshot: Snapshot,
        zone: Option<&jiff::tz::TimeZone>,
        source: &mut Source,
        first: bool,
    ) -> String {
        let total = snapshot.machine.processes as usize;
        let mut rows: Vec<Process> = std::mem::take(&mut snapshot.processes);
        let matched = rows.len();
        // Of everybody what was read of everybody; of the rest, what is read of those shown.
        let of_all = self.needs();
        let (wide, narrow): (Vec<Field>, Vec<Field>) =
            self.columns.iter().partition(|field| of_all.has(field.info().cost));
        let mut unread = unreadable(&rows, &wide);
        if self.hides_idle() {
            rows.retain(|process| process.cpu.is_none_or(|cpu| cpu >= IDLE));
        } else if self.hides_those_without() {
            let rate = |process: &Process| Facts::new(process, &snapshot.machine).reading(self.by)?.number();
            rows.retain(|process| rate(process).is_some_and(|rate| rate > 0.0));
        }
        let hidden = matched - rows.len();
        rows.order_by(|a, b| self.heavier(b, a, &snapshot.machine).then(a.id.pid.cmp(&b.id.pid)));
        rows.truncate(self.limit());
        if let Source::Live { sampler, .. } = source {
            let costly = Needs::of(&self.columns);
            for process in &mut rows {
                sampler.complete(process);
                sampler.read_costly(process, costly, EXACT_MEMORY);
            }
        }
        if self.args.format != Format::Text {
            return machine_formats::processes(
                self.args.format,
                &snapshot,
                &rows,
                matched,
                &self.columns,
                self.args.columns.is_some(),
                first,
            );
        }
        let idle = match (hidden, self.by) {
            (0, _) => String::new(),
            (hidden, Field::Cpu | Field::CpuPart) => format!(", {hidden} idle hidden"),
            (hidden, by) => format!(", {hidden} with no {by} to be seen hidden"),
        };
        let of = if self.covers.is_some() { format!("{matched} that match, of {total}") } else { total.to_string() };
        let order = if self.by == Field::Age { "oldest".to_owned() } else { format!("most {}", self.by) };
        let words = format!("{} of {of} processes, {order} first{idle}", rows.len());
        let head = self.head(&snapshot, zone, &words);
        if rows.is_empty() {
            return head + &self.nothing(hidden, source);
        }
        unread.extend(unreadable(&rows, &narrow));
        let coverage = coverage(&unread);
        let cells: Vec<Vec<String>> =
            rows.iter().map(|process| columns::row(process, &snapshot.machine, &self.columns)).collect();
        head + &table::render(&columns::headings(&self.columns), &cells, table::terminal_width()) + &coverage
    }

    /// An empty result says what was searched, and offers the nearest name.
    fn nothing(&self, hidden: usize, source: &mut Source) -> String {
        if hidden > 0 {
            return match self.by {
                Field::Cpu | Field::CpuPart => format!("all {hidden} are idle; show them with --idle show\n"),
                by => format!("none of {hidden} has any {by} that can be seen; show them with --idle show\n"),
            };
        }
        let searched = self
            .args
            .covers
            .as_deref()
            .map_or("everything".to_owned(), |text| sophron_core::text::clean(text.as_bytes()));
        let mut text = format!("no process matches {searched}\n");
        if let (Some(covers), Source::Live { sampler, .. }) = (&self.covers, source)
            && let Ok(snapshot) = sampler.look()
            && let Some((wanted, near)) = covers.words_of(Field::App).into_iter().find_map(|wanted| {
                let apps = snapshot.processes.iter().map(|process| process.app.as_str());
                nearest(&wanted, apps).map(|near| (wanted.clone(), near.to_owned()))
            })
        {
            text.push_str(&format!("no app is called {wanted}; the nearest is {near}\n"));
        }
        text
    }

    fn groups(
        &self,
        snapshot: &Snapshot,
        zone: Option<&jiff::tz::TimeZone>,
        grouping: Grouping,
        groups: &[Group<'_>],
        first: bool,
    ) -> String {
        let total = groups.len();
        let (shown, hidden): (Vec<&Group<'_>>, usize) = if self.hides_idle() {
            let busy: Vec<&Group<'_>> =
                groups.iter().filter(|group| group.cpu(grouping).is_none_or(|cpu| cpu >= IDLE)).collect();
            let hidden = total - busy.len();
            (busy, hidden)
        } else {
            (groups.iter().collect(), 0)
        };
        let shown: Vec<&Group<'_>> = shown.into_iter().take(self.limit()).collect();
        if self.args.format != Format::Text {
            return machine_formats::groups(self.args.format, snapshot, (grouping, self.by), &shown, total, first);
        }
        let idle = if hidden > 0 { format!(", {hidden} idle hidden") } else { String::new() };
        let words = format!("{} of {total} {}s, most {} first{idle}", shown.len(), grouping.word(), self.by);
        let head = self.head(snapshot, zone, &words);
        if shown.is_empty() {
            return head + &format!("all {hidden} are idle; show them with --idle show\n");
        }
        let cells: Vec<Vec<String>> =
            shown.iter().map(|group| columns::group_row(group, grouping, self.by, &snapshot.machine)).collect();
        head + &table::render(&columns::group_headings(grouping, self.by), &cells, table::terminal_width())
    }
}

/// What could be read of how many, where not of all: `disk.read readable for 41 of 312`.
fn unreadable(rows: &[Process], columns: &[Field]) -> Vec<String> {
    let machine = Machine::default();
    let readable =
        |field: Field| rows.iter().filter(|process| Facts::new(process, &machine).reading(field).is_some()).count();
    let files = columns.iter().filter(|field| field.info().cost != Cost::Free);
    files
        .map(|field| (field, readable(*field)))
        .filter(|(_, count)| *count < rows.len())
        .map(|(field, count)| format!("{field} readable for {count} of {}", rows.len()))
        .collect()
}

fn coverage(unread: &[String]) -> String {
    match unread.is_empty() {
        true => String::new(),
        false if sophron_linux::here::is_privileged() => format!("{}\n", unread.join("; ")),
        false => format!("{}: run as root for the rest\n", unread.join("; ")),
    }
}
