//! What was asked for, understood: whom, by what, which columns; what has to be read for it, and who comes first.

use std::cmp::Ordering;

use sophron_core::condition::{Condition, Truth};
use sophron_core::facts::Facts;
use sophron_core::groups::{self, Group, Grouping};
use sophron_core::model::{Cost, Field, Machine, Needs, Process, Snapshot};
use sophron_core::order::InOrder;

use super::columns::{self, DEFAULT, field_named};
use super::growth;
use crate::args::{self, Format, Idle};
use crate::commands::condition;
use crate::exit::{Exit, Failure};

/// What was asked for, understood.
pub(super) struct Query<'a> {
    pub args: &'a args::List,
    pub covers: Option<Condition>,
    pub by: Field,
    pub columns: Vec<Field>,
    pub grouping: Option<Grouping>,
    /// The look everybody takes: nothing was asked for.
    pub plain: bool,
    /// Ranked by how much more memory is held than when the span began.
    pub growth: bool,
}

impl<'a> Query<'a> {
    pub fn new(args: &'a args::List) -> Result<Query<'a>, Failure> {
        let covers = args.covers.as_deref().map(condition).transpose()?;
        let growth = args.by.as_deref() == Some(growth::WORD);
        let by = args.by.as_deref().filter(|_| !growth).map(|name| field_named(name, "--by")).transpose()?;
        let by_field = by.unwrap_or(Field::Cpu);
        let grouping = match args.group {
            None | Some(args::Group::Process) => None,
            Some(args::Group::App) => Some(Grouping::App),
            Some(args::Group::Tree) => Some(Grouping::Tree),
            Some(args::Group::Owner) => Some(Grouping::Owner),
            Some(args::Group::Unit) => Some(Grouping::Unit),
        };
        let usage = |message: String, mend: &str| Err(Failure::new(Exit::Usage, message).hint(mend));
        if growth && (!matches!(grouping, None | Some(Grouping::App)) || args.columns.is_some()) {
            return usage(
                "growth is shown of processes and apps, with columns of its own".to_owned(),
                "leave out --columns; --group takes app with it",
            );
        }
        if !by_field.kind().is_ordered() {
            return usage(
                format!("`{by_field}` has no order to rank by"),
                "rank by a number: --by cpu, memory, disk.write, age …",
            );
        }
        if grouping.is_some() && !columns::sums(by_field) {
            return usage(
                format!("`{by_field}` has no sum over a group"),
                "rank groups by what adds up: cpu, memory, memory.held, disk, disk.write, threads, instances …",
            );
        }
        let columns = match &args.columns {
            Some(names) => names.iter().map(|name| field_named(name, "--columns")).collect::<Result<_, _>>()?,
            None if by.is_some_and(|by| !DEFAULT.contains(&by)) => {
                // What is ranked by is shown.
                let mut columns = DEFAULT.to_vec();
                columns.insert(3, by_field);
                columns
            }
            None => DEFAULT.to_vec(),
        };
        if grouping.is_some() && args.columns.is_some() {
            return usage(
                "--columns chooses fields of processes, and groups have columns of their own".to_owned(),
                "leave out --columns or --group",
            );
        }
        let asked = args.by.is_some()
            || args.covers.is_some()
            || args.group.is_some()
            || args.limit.is_some()
            || args.tree
            || args.columns.is_some();
        let plain = !asked && args.format == Format::Text;
        Ok(Query { args, covers, by: by_field, columns, grouping, plain, growth })
    }

    /// Whether rates other than those of the clocks are meant: they need two readings of everybody who may be shown.
    pub fn asks_for_rates(&self) -> bool {
        let of_clocks = |field: &Field| matches!(field, Field::Cpu | Field::CpuPart);
        let of_where = self.covers.iter().flat_map(Condition::fields);
        of_where
            .chain([self.by])
            .chain(self.columns.iter().copied())
            .any(|field| field.info().rate && !of_clocks(&field))
    }

    /// What has to be read of everybody; of those shown the rest is read afterwards.
    pub fn needs(&self) -> Needs {
        let of_where = self.covers.iter().flat_map(Condition::fields);
        let fields: Vec<Field> = of_where.chain([self.by]).collect();
        // The first lines show the machine's totals.
        let mut needs = Needs::of(&fields).with(Cost::Machine);
        if self.plain || self.grouping.is_some() || self.args.tree {
            needs = needs.with(Cost::Statm);
        }
        if self.args.tree
            || self.grouping == Some(Grouping::Tree)
            || self.covers.is_some()
            || self.by.info().cost != Cost::Free && self.by != Field::Memory
            || self.by == Field::Age
        {
            needs = needs.with(Cost::Stat);
        }
        if self.growth {
            needs = needs.with(Cost::Stat).with(Cost::Status);
        }
        if self.grouping == Some(Grouping::Unit) {
            needs = needs.with(Cost::Cgroup);
        }
        if self.asks_for_rates() {
            needs = needs.with(Cost::Stat);
        }
        let shown = Needs::of(&self.columns);
        if self.args.format != Format::Text && self.grouping.is_none() {
            needs = needs.and(Needs::PERIODIC);
        } else if shown.has(Cost::Io) || shown.has(Cost::Family) {
            needs = needs.and(shown.only(Needs::NONE.with(Cost::Io).with(Cost::Family).with(Cost::Stat)));
        }
        needs
    }

    pub fn limit(&self) -> usize {
        self.args.limit.unwrap_or(10) as usize
    }

    pub fn hides_idle(&self) -> bool {
        // Who names processes wants to see them.
        let by_use = matches!(self.by, Field::Cpu | Field::CpuPart) && !self.args.tree && self.covers.is_none();
        self.args.format == Format::Text && self.args.idle.map_or(by_use, |idle| idle == Idle::Hide)
    }

    /// Of a rate those are of interest who have any; who names processes wants to see them.
    pub fn hides_those_without(&self) -> bool {
        let by_other_rate = self.by.info().rate && !matches!(self.by, Field::Cpu | Field::CpuPart);
        let asked = self.args.idle == Some(Idle::Hide) || self.args.idle.is_none() && self.covers.is_none();
        self.args.format == Format::Text && by_other_rate && asked
    }

    /// Keeps those that the condition is true of; how many could not be decided. A tree keeps what hangs below them.
    pub fn keep_covered(&self, snapshot: &mut Snapshot) -> usize {
        let Some(covers) = self.covers.as_ref().filter(|_| self.grouping != Some(Grouping::Tree) && !self.args.tree)
        else {
            return 0;
        };
        let mut undecided = 0;
        let machine = &snapshot.machine;
        snapshot.processes.retain(|process| {
            let truth = covers.evaluate(&Facts::new(process, machine));
            undecided += usize::from(truth == Truth::Unknown);
            truth == Truth::True
        });
        undecided
    }

    pub fn ranked_groups<'s>(&self, snapshot: &'s Snapshot, grouping: Grouping) -> Vec<Group<'s>> {
        let covers = self.covers.as_ref();
        let root = |process: &Process| match covers {
            Some(covers) => covers.evaluate(&Facts::new(process, &snapshot.machine)) == Truth::True,
            None => groups::begins_a_tree(process),
        };
        let mut groups = groups::groups(&snapshot.processes, grouping, root);
        if !matches!(self.by, Field::Cpu | Field::Memory) {
            let sum = |group: &Group<'_>| columns::sum(group, self.by, &snapshot.machine).unwrap_or(-1.0);
            groups.order_by(|a, b| sum(b).total_cmp(&sum(a)));
        } else if self.by == Field::Memory {
            groups.order_by_key(|group| std::cmp::Reverse(group.memory().map(|amount| amount.bytes)));
        } else {
            let cpu = |group: &Group<'_>| group.cpu(grouping).unwrap_or(-1.0);
            groups.order_by(|a, b| cpu(b).total_cmp(&cpu(a)));
        }
        groups
    }

    pub fn heavier(&self, a: &Process, b: &Process, machine: &Machine) -> Ordering {
        let reading = |process| Facts::new(process, machine).reading(self.by);
        match (reading(a), reading(b)) {
            (Some(a), Some(b)) => a.compare(&b).unwrap_or(Ordering::Equal),
            (a, b) => a.is_some().cmp(&b.is_some()),
        }
    }
}
