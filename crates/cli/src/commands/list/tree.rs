//! Processes drawn as trees, with totals for each branch.

use std::collections::HashMap;

use sophron_core::groups::{begins_a_tree, children};
use sophron_core::model::{Process, Snapshot};
use sophron_core::order::InOrder;
use sophron_core::units::scaled_size;

use crate::ui::table::{self, Column};

/// One process in its tree, with what hangs below it.
pub(super) struct Branch<'a> {
    process: &'a Process,
    depth: usize,
    cpu: f64,
    memory: u64,
    size: usize,
}

/// The branches in drawing order: the heaviest tree first, and in it the heaviest branch first, at most `limit` rows.
pub(super) fn rows(snapshot: &Snapshot, limit: usize) -> Vec<Branch<'_>> {
    let children = children(&snapshot.processes);
    let mut totals: HashMap<u32, (f64, u64, usize)> = HashMap::new();
    let roots: Vec<&Process> =
        snapshot.processes.iter().filter(|process| begins_a_tree(process) && !process.kernel).collect();
    for root in &roots {
        total(root, &children, &mut totals);
    }
    let mut rows = Vec::new();
    let mut open: Vec<(&Process, usize)> = sorted(&roots, &totals).into_iter().rev().map(|root| (root, 0)).collect();
    while let Some((process, depth)) = open.pop() {
        let (cpu, memory, size) = totals.get(&process.id.pid).copied().unwrap_or_default();
        rows.push(Branch { process, depth, cpu, memory, size });
        if rows.len() == limit {
            break;
        }
        let below = children.get(&process.id.pid).map(Vec::as_slice).unwrap_or_default();
        open.extend(sorted(below, &totals).into_iter().rev().map(|child| (child, depth + 1)));
    }
    rows
}

fn sorted<'a>(processes: &[&'a Process], totals: &HashMap<u32, (f64, u64, usize)>) -> Vec<&'a Process> {
    let mut sorted = processes.to_vec();
    let of = |process: &Process| totals.get(&process.id.pid).copied().unwrap_or_default();
    sorted.order_by(|a, b| of(b).0.total_cmp(&of(a).0).then(of(b).1.cmp(&of(a).1)));
    sorted
}

/// Sums without recursion: a chain of parents may be as long as there are processes.
fn total(root: &Process, children: &HashMap<u32, Vec<&Process>>, totals: &mut HashMap<u32, (f64, u64, usize)>) {
    let mut order = vec![root];
    let mut at = 0;
    while let Some(process) = order.get(at) {
        order.extend(children.get(&process.id.pid).into_iter().flatten());
        at += 1;
    }
    for process in order.iter().rev() {
        let own = process.cpu.unwrap_or(0.0) + f64::from(process.waited.unwrap_or(0.0));
        let mut sum = (own, process.memory.unwrap_or(0), 1);
        for child in children.get(&process.id.pid).into_iter().flatten() {
            let (cpu, memory, size) = totals.get(&child.id.pid).copied().unwrap_or_default();
            sum = (sum.0 + cpu, sum.1 + memory, sum.2 + size);
        }
        totals.insert(process.id.pid, sum);
    }
}

pub(super) fn render(rows: &[Branch<'_>]) -> String {
    let columns = [
        Column::text("app").gives_way(),
        Column::text("id"),
        Column::text("owner").gives_way(),
        Column::number("cpu, % of a core"),
        Column::number("memory"),
        Column::number("branch cpu"),
        Column::number("branch memory"),
        Column::number("processes"),
    ];
    let cells: Vec<Vec<String>> = rows
        .iter()
        .map(|branch| {
            let process = branch.process;
            let cpu = process.cpu.map_or("unknown".to_owned(), |cpu| format!("{cpu:.1}"));
            let memory = process.memory.map_or("unknown".to_owned(), |memory| scaled_size(memory as f64));
            let drawn = if branch.depth == 0 {
                process.app.clone()
            } else {
                format!("{}· {}", "  ".repeat(branch.depth.min(20) - 1), process.app)
            };
            let bound = if branch.size > 1 { "at most " } else { "" };
            let sums = [format!("{:.1}", branch.cpu), format!("{bound}{}", scaled_size(branch.memory as f64))];
            let [branch_cpu, branch_memory] = sums;
            vec![
                drawn,
                process.id.checked().to_string(),
                process.owner.clone(),
                cpu,
                memory,
                branch_cpu,
                branch_memory,
                branch.size.to_string(),
            ]
        })
        .collect();
    table::render(&columns, &cells, table::terminal_width())
}
