//! One setting of one rule, varied: how cases and acts change with it.

use std::time::Duration;

use crate::condition::{Condition, Quantity, Term};
use crate::model::Field;
use crate::rules::{Rule, RuleSet};
use crate::units::{Value, exact_duration, parse_duration, parse_quantity};

/// How many values are tried.
const VALUES: u32 = 8;

/// What cannot be varied.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum VaryError {
    /// It is not `KEY=FROM..TO`.
    #[error("`{0}` is no range; write it as `lasting=5s..60s` or `memory.held=500 MiB..1 GiB`")]
    Form(String),
    /// Neither `lasting` nor a field.
    #[error("`{0}` cannot be varied: `lasting` can, and a field that the breach limits")]
    Key(String),
    /// The two ends are not of the kind.
    #[error("`{0}` is not of the kind that the rule limits there")]
    Kind(String),
}

/// The rules with the setting at one value.
#[derive(Debug, Clone)]
pub struct Varied {
    /// The value, for people.
    pub shown: String,
    /// Whether that is what the file has.
    pub present: bool,
    /// The rules.
    pub rules: RuleSet,
}

/// The rules with a setting of one rule at several values, from one end to the other; the present value is among them.
///
/// # Errors
/// The text is no such setting.
pub fn vary(rules: &RuleSet, rule: usize, text: &str) -> Result<Vec<Varied>, VaryError> {
    let form = || VaryError::Form(crate::text::clean(text.as_bytes()));
    let (key, range) = text.split_once('=').ok_or_else(form)?;
    let (from, to) = range.split_once("..").ok_or_else(form)?;
    let (key, from, to) = (key.trim(), from.trim(), to.trim());
    let base = rules.rules.get(rule).ok_or_else(form)?;
    if key == "lasting" {
        let parse = |text: &str| parse_duration(text).map_err(|_| form());
        let present = base.lasting;
        // Whole seconds are fine enough for how long something lasts.
        let ends = [parse(from)?.as_secs_f64(), parse(to)?.as_secs_f64()];
        let values = spread(ends, present.as_secs_f64()).into_iter().map(Duration::from_secs_f64);
        return Ok(values
            .map(|lasting| {
                let lasting = Duration::from_secs_f64(lasting.as_secs_f64().round());
                varied(rules, rule, exact_duration(lasting), lasting == present, |rule| rule.lasting = lasting)
            })
            .collect());
    }
    let field = Field::named(key).ok_or_else(|| VaryError::Key(crate::text::clean(key.as_bytes())))?;
    let present = limit(&base.breach, field).ok_or_else(|| VaryError::Key(key.to_owned()))?;
    let parse = |text: &str| {
        let value = parse_quantity(text).filter(|value| value.kind() == present.kind());
        value.and_then(|value| value.number()).ok_or_else(|| VaryError::Kind(crate::text::clean(text.as_bytes())))
    };
    let now = present.number().unwrap_or_default();
    let values = spread([parse(from)?, parse(to)?], now);
    let of = |number: f64| match &present {
        Value::Size(_) => Value::Size(number.round().max(0.0) as u64),
        Value::Rate(_) => Value::Rate(number),
        Value::Percent(_) => Value::Percent((number * 10.0).round() / 10.0),
        Value::Duration(_) => Value::Duration(Duration::from_secs_f64(number.max(0.0))),
        _ => Value::Count(number.round()),
    };
    let one = |number: f64| {
        let value = if number == now { present.clone() } else { of(number) };
        varied(rules, rule, value.scaled(), number == now, |rule| {
            set_limit(&mut rule.breach, field, &value);
        })
    };
    Ok(values.into_iter().map(one).collect())
}

fn varied(rules: &RuleSet, place: usize, shown: String, present: bool, change: impl FnOnce(&mut Rule)) -> Varied {
    let mut rules = RuleSet { rules: vec![rules.rules[place].clone()], ..rules.clone() };
    change(&mut rules.rules[0]);
    Varied { shown, present, rules }
}

/// Evenly from one end to the other, with the present value among them.
fn spread(ends: [f64; 2], present: f64) -> Vec<f64> {
    let [from, to] = ends;
    let mut values: Vec<f64> =
        (0..VALUES).map(|step| from + (to - from) * f64::from(step) / f64::from(VALUES - 1)).collect();
    values.push(present);
    values.sort_by(f64::total_cmp);
    values.dedup();
    values
}

/// The limit that a condition first sets a field.
fn limit(condition: &Condition, field: Field) -> Option<Value> {
    condition.limits().into_iter().find(|(quantity, ..)| quantity.field() == field).map(|(_, _, value)| value.clone())
}

fn set_limit(condition: &mut Condition, field: Field, value: &Value) -> bool {
    match condition {
        Condition::Any(parts) | Condition::All(parts) => parts.iter_mut().any(|part| set_limit(part, field, value)),
        Condition::Not(inner) => set_limit(inner, field, value),
        Condition::Compare(Quantity::Now(named), _, Term::Literal(limit)) if *named == field => {
            *limit = value.clone();
            true
        }
        Condition::Compare(Quantity::Over(series), _, Term::Literal(limit))
            if series.field == field && limit.kind() == value.kind() =>
        {
            *limit = value.clone();
            true
        }
        _ => false,
    }
}
