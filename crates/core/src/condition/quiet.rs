//! What a condition hangs on that is not known yet, and until when it cannot come to hold without a look.

use super::{Comparison, Condition, Quantity, Term, Truth};
use crate::facts::Facts;
use crate::model::{Field, Needs, Process, Promise, Quiet};
use crate::units::Value;

impl Condition {
    /// What would have to be read of the process so that it is known whether it holds; nothing where it cannot hold by any reading
    /// of now.
    pub(crate) fn lacking(&self, facts: &Facts<'_>) -> Needs {
        self.lacking_to_be(Truth::True, facts)
    }

    fn lacking_to_be(&self, wanted: Truth, facts: &Facts<'_>) -> Needs {
        if self.evaluate(facts) != Truth::Unknown {
            return Needs::NONE;
        }
        match self {
            Condition::Any(parts) | Condition::All(parts) => {
                let unknown = parts.iter().filter(|part| part.evaluate(facts) == Truth::Unknown);
                // Where all parts have to be so, one that no reading makes known keeps the others from mattering.
                let all_have_to = matches!(self, Condition::All(_)) == (wanted == Truth::True);
                let mut needs = Needs::NONE;
                for part in unknown {
                    let lacking = part.lacking_to_be(wanted, facts);
                    if all_have_to && lacking.is_none() {
                        return Needs::NONE;
                    }
                    needs = needs.and(lacking);
                }
                needs
            }
            Condition::Not(inner) => inner.lacking_to_be(!wanted, facts),
            Condition::Compare(left, _, right) => {
                let right = if let Term::Quantity(right) = right { facts.lacking(right) } else { Needs::NONE };
                facts.lacking(left).and(right)
            }
            other => Needs::of(&other.fields()),
        }
    }

    /// Until when it does not come to hold, by the process's own figures: it stays false, or unknown as long as a window fills.
    pub(crate) fn stays_untrue(&self, facts: &Facts<'_>, process: &Process) -> Promise {
        match self {
            Condition::Any(parts) => {
                let each = parts.iter().map(|part| part.stays_untrue(facts, process));
                each.fold(Promise::ALWAYS, Promise::both)
            }
            Condition::All(parts) => {
                let each = parts.iter().map(|part| part.stays_untrue(facts, process));
                each.fold(Promise::NONE, |best, part| best.longer(part, process))
            }
            Condition::Compare(Quantity::Now(field), comparison, Term::Literal(limit)) if comparison.is_upward() => {
                Promise::of(stays_below(*field, *comparison, limit, facts, process))
            }
            Condition::Compare(Quantity::Over(series), comparison, Term::Literal(limit)) => {
                match self.evaluate(&facts.carrying()) {
                    Truth::False => facts.stays_as_it_is(series, *comparison, limit),
                    Truth::Unknown => facts.stays_unfilled(series),
                    Truth::True => Promise::NONE,
                }
            }
            _ => Promise::NONE,
        }
        .longer(self.by_who_it_is(facts), process)
    }

    /// What goes only by who it is stays false as long as it is that one.
    fn by_who_it_is(&self, facts: &Facts<'_>) -> Promise {
        let is_settled = self.goes_by_who_it_is() && self.evaluate(facts) == Truth::False;
        if is_settled { Promise::of_being(Quiet::ALWAYS) } else { Promise::NONE }
    }

    pub(crate) fn goes_by_who_it_is(&self) -> bool {
        let now = |quantity: &Quantity| matches!(quantity, Quantity::Now(field) if field.is_lasting());
        match self {
            Condition::Any(parts) | Condition::All(parts) => parts.iter().all(Condition::goes_by_who_it_is),
            Condition::Not(inner) => inner.goes_by_who_it_is(),
            Condition::Compare(left, _, Term::Literal(_)) => now(left),
            Condition::Compare(left, _, Term::Quantity(right)) => now(left) && now(right),
            Condition::OneOf(field, _) | Condition::Matches(field, _) | Condition::Is(field) => field.is_lasting(),
        }
    }
}

/// Until when a field that only grows as the process runs stays below its limit.
fn stays_below(field: Field, comparison: Comparison, limit: &Value, facts: &Facts<'_>, process: &Process) -> Quiet {
    let at_least = comparison == Comparison::AtLeast;
    let grown = |at_most: u64, held: bool| {
        let most = process.at_most(held).filter(|most| *most <= at_most);
        most.map_or(Quiet::NEVER, |most| Quiet::until_grown(process, at_most - most, held))
    };
    let below = |limit: u64| limit.saturating_sub(u64::from(at_least));
    let below_percent = |limit: f64| if at_least { limit.next_down() } else { limit };
    match (field, limit) {
        (Field::Memory, Value::Size(limit)) => grown(below(*limit), false),
        (Field::MemoryHeld, Value::Size(limit)) => grown(below(*limit), true),
        // One page less than that share may be: no rounding makes it more.
        (Field::MemoryPart, Value::Percent(limit)) if *limit >= 0.0 => {
            grown(((limit / 100.0 * facts.machine.memory_total as f64) as u64).saturating_sub(4096), false)
        }
        (Field::Cpu, Value::Percent(limit)) => up_to(below_percent(*limit), process),
        (Field::CpuPart, Value::Percent(limit)) => {
            up_to(limit * f64::from(facts.machine.cores.max(1)) * (1.0 - 1e-9), process)
        }
        (Field::CpuTime, Value::Duration(limit)) if process.cpu_time < *limit => {
            Quiet::until(limit.saturating_sub(std::time::Duration::from_nanos(1)))
        }
        _ => Quiet::NEVER,
    }
}

fn up_to(rate: f64, process: &Process) -> Quiet {
    if process.cpu.is_some_and(|cpu| cpu <= rate) { Quiet::up_to(rate) } else { Quiet::NEVER }
}
