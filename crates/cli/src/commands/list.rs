//! `sophron list`: the machine's processes, the heaviest first.

use std::cmp::Ordering;
use std::io::IsTerminal;
use std::path::Path;
use std::time::Duration;

use serde_json::{Map, Value, json};
use sophron_core::condition::{Condition, Place, Truth};
use sophron_core::model::{Facts, Field, Machine, Needs, Process, Snapshot, Subject};
use sophron_core::units::{self, scaled_duration, scaled_percent, scaled_size};
use sophron_linux::Sampler;

use crate::args::{self, By, Format};
use crate::exit::{Exit, Failure};
use crate::ui::style::{Label, Styled};
use crate::ui::table::{self, Column};
use crate::ui::{self, diagnostics, when};

/// Over how long rates are measured.
const INTERVAL: Duration = Duration::from_secs(1);

pub fn run(args: &args::List) -> Result<Exit, Failure> {
    let covers = args.covers.as_deref().map(condition).transpose()?;
    let snapshot = measure()?;
    let mut rows: Vec<&Process> = snapshot.processes.iter().filter(|process| !process.has_ended()).collect();
    let total = rows.len();
    let undecided = match &covers {
        Some(covers) => keep_covered(&mut rows, covers, &snapshot.machine),
        None => 0,
    };
    let matched = rows.len();
    rows.sort_by(|a, b| heavier(args.by, b, a).then(a.id.pid.cmp(&b.id.pid)));
    rows.truncate(args.limit as usize);
    match args.format {
        Format::Json => ui::out(format_args!("{}\n", as_json(&snapshot, &rows, total, matched))),
        Format::Text => {
            ui::out(as_text(args, &snapshot, &rows, total, matched));
            if undecided > 0 {
                ui::err(format_args!(
                    "sophron: {undecided} processes left out: what the condition names cannot be read of them\n"
                ));
            }
        }
    }
    Ok(Exit::Fine)
}

fn condition(text: &str) -> Result<Condition, Failure> {
    Condition::parse(text, Place::Any).map_err(|errors| {
        ui::err(diagnostics::render(&errors, text, "--where"));
        Failure::new(Exit::Usage, "the condition of --where was not understood")
            .hint("quote it for the shell, as --where 'memory > 750 MiB and owner != root'")
    })
}

/// Two samples, the first of which only primes.
fn measure() -> Result<Snapshot, Failure> {
    let failed = |error| Failure::of(Exit::Failed, error);
    let mut sampler = Sampler::new(Path::new("/proc"), Needs::PERIODIC).map_err(failed)?;
    sampler.look().map_err(failed)?;
    let told = std::io::stderr().is_terminal() && std::io::stdout().is_terminal();
    if told {
        ui::err(format_args!("measuring for {} …\r", scaled_duration(INTERVAL)));
    }
    std::thread::sleep(INTERVAL);
    let snapshot = sampler.look().map_err(failed)?;
    if told {
        ui::err("\u{1b}[2K\r");
    }
    Ok(snapshot)
}

/// Keeps those for which the condition is true; how many could not be decided.
fn keep_covered(rows: &mut Vec<&Process>, covers: &Condition, machine: &Machine) -> usize {
    let mut undecided = 0;
    rows.retain(|process| {
        let truth = covers.evaluate(&Facts::new(process, machine));
        undecided += usize::from(truth == Truth::Unknown);
        truth == Truth::True
    });
    undecided
}

fn heavier(by: By, a: &Process, b: &Process) -> Ordering {
    match by {
        By::Cpu => a.cpu.unwrap_or(-1.0).total_cmp(&b.cpu.unwrap_or(-1.0)),
        By::Memory => a.memory.cmp(&b.memory),
        By::Age => a.age.cmp(&b.age),
    }
}

const COLUMNS: [Column; 7] = [
    Column::text("id"),
    Column::text("app").gives_way(),
    Column::text("owner").gives_way(),
    Column::number("cpu, % of a core"),
    Column::number("memory"),
    Column::number("age"),
    Column::text("state"),
];

fn as_text(args: &args::List, snapshot: &Snapshot, rows: &[&Process], total: usize, matched: usize) -> String {
    let interval =
        snapshot.interval.map(|interval| format!("cpu over {}", scaled_duration(interval))).unwrap_or_default();
    let count = if args.covers.is_some() {
        format!("{} of {matched} that match, of {total} processes", rows.len())
    } else {
        format!("{} of {total} processes", rows.len())
    };
    let by = match args.by {
        By::Cpu => "most cpu first",
        By::Memory => "most memory first",
        By::Age => "oldest first",
    };
    let mut text = format!(
        "{}  {}  {interval}  {count}, {by}\n{}\n",
        Styled(Label::Heading, &snapshot.machine.host),
        when::date(snapshot.moment.wall),
        machine_line(&snapshot.machine),
    );
    if rows.is_empty() {
        let searched = args.covers.as_deref().unwrap_or("everything");
        text.push_str(&format!("no process matches {searched}\n"));
        return text;
    }
    let cells: Vec<Vec<String>> = rows.iter().map(|process| row(process)).collect();
    text.push_str(&table::render(&COLUMNS, &cells, table::terminal_width()));
    text
}

fn machine_line(machine: &Machine) -> String {
    let cpu = machine.cpu.map_or("unknown".to_owned(), scaled_percent);
    let used = machine.memory_available.map(|available| machine.memory_total.saturating_sub(available));
    let used = used.map_or("unknown".to_owned(), |used| scaled_size(used as f64));
    let total = scaled_size(machine.memory_total as f64);
    format!("machine: cpu {cpu} of {} cores, memory {used} used of {total}", machine.cores)
}

fn row(process: &Process) -> Vec<String> {
    let unknown = || "unknown".to_owned();
    let own = if process.id.pid == std::process::id() { " (this command)" } else { "" };
    vec![
        process.id.checked().to_string(),
        format!("{}{own}", process.app),
        process.owner.clone(),
        process.cpu.map_or_else(unknown, |cpu| format!("{cpu:.1}")),
        process.memory.map_or_else(unknown, |memory| scaled_size(memory as f64)),
        scaled_duration(Duration::from_secs(process.age.as_secs())),
        process.state.word().to_owned(),
    ]
}

fn as_json(snapshot: &Snapshot, rows: &[&Process], total: usize, matched: usize) -> Value {
    let fields = |process: &Process, of: Subject| -> Map<String, Value> {
        let facts = Facts::new(process, &snapshot.machine);
        let fields = Field::ALL.iter().filter(|field| field.info().subject == of && **field != Field::Host);
        fields
            .map(|field| (field.name().to_owned(), facts.reading(*field).map_or(Value::Null, |value| value.to_json())))
            .collect()
    };
    let machine = snapshot.processes.first().map(|any| fields(any, Subject::Machine)).unwrap_or_default();
    let rows: Vec<Value> = rows.iter().map(|process| Value::Object(fields(process, Subject::Process))).collect();
    let interval = snapshot.interval.map(|interval| units::Value::Duration(interval).to_json());
    json!({
        "host": snapshot.machine.host,
        "at": snapshot.moment.wall.to_string(),
        "interval": interval,
        "processes": total,
        "matched": matched,
        "machine": machine,
        "rows": rows,
    })
}
