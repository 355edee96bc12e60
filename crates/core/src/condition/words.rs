//! A condition said in words, and what can be known of it without a machine.

use std::fmt;

use super::{Comparison, Condition, Quantity, Term};
use crate::units::Value;
use crate::window::Function;

impl Comparison {
    /// Its words.
    pub fn words(self) -> &'static str {
        match self {
            Comparison::Less => "under",
            Comparison::AtMost => "at most",
            Comparison::Greater => "over",
            Comparison::AtLeast => "at least",
            Comparison::Equal => "is",
            Comparison::NotEqual => "is not",
        }
    }
}

impl Quantity {
    /// In words: `mean cpu over 2 m`.
    pub fn words(&self) -> String {
        let Quantity::Over(series) = self else { return self.to_string() };
        let field = series.field;
        let over = series.window.map(|window| format!(" in {}", crate::units::exact_duration(window)));
        let over = over.unwrap_or_default();
        match series.function {
            Function::Avg => format!("mean {field}{over}"),
            Function::Peak => format!("highest {field}{over}"),
            Function::Low => format!("lowest {field}{over}"),
            Function::Growth if series.window.is_none() => format!("growth of {field} since it was first seen"),
            Function::Growth => format!("growth of {field}{over}"),
            Function::Climb => format!("rise of the low-water mark of {field}{over}"),
            Function::Slope => format!("slope of {field}{over}"),
            Function::Until => {
                let level = series.level.as_ref().map(Value::scaled).unwrap_or_default();
                format!("time until {field} reaches {level} at its slope{over}")
            }
            Function::Typical => format!("what {field} usually is for this app"),
        }
    }
}

/// A condition in words.
#[derive(Debug, Clone, Copy)]
pub struct InWords<'c>(pub &'c Condition);

impl fmt::Display for InWords<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let joined = |f: &mut fmt::Formatter<'_>, parts: &[Condition], joint: &str| {
            for (place, part) in parts.iter().enumerate() {
                let before = if place == 0 { "" } else { joint };
                match part {
                    Condition::Any(_) | Condition::All(_) => write!(f, "{before}({})", InWords(part))?,
                    _ => write!(f, "{before}{}", InWords(part))?,
                }
            }
            Ok(())
        };
        match self.0 {
            Condition::Any(parts) => joined(f, parts, ", or "),
            Condition::All(parts) => joined(f, parts, ", and "),
            Condition::Not(inner) => match &**inner {
                Condition::Is(field) => write!(f, "not {field}"),
                inner => write!(f, "not ({})", InWords(inner)),
            },
            Condition::Compare(quantity, comparison, term) => {
                let term = match term {
                    Term::Literal(Value::Text(text)) => text.clone(),
                    Term::Literal(Value::Duration(time)) => crate::units::exact_duration(*time),
                    Term::Literal(value) => value.scaled(),
                    Term::Quantity(other) => other.words(),
                };
                write!(f, "{} {} {term}", quantity.words(), comparison.words())
            }
            Condition::OneOf(field, values) => {
                let all: Vec<String> = values.iter().map(Value::scaled).collect();
                write!(f, "{field} is one of {}", all.join(", "))
            }
            Condition::Matches(field, pattern) => write!(f, "{field} matches {pattern}"),
            Condition::Is(field) => write!(f, "{field}"),
        }
    }
}

/// The readings of one quantity for which a condition holds, in base units; ends included as far as that matters here.
#[derive(Debug, Clone, PartialEq)]
pub struct Range {
    /// Of what.
    pub quantity: Quantity,
    /// The lower end.
    pub from: f64,
    /// The upper end.
    pub to: f64,
}

impl Condition {
    /// The range of readings for which it holds, where it is about one quantity against literals; `None` for all else.
    pub fn range(&self) -> Option<Range> {
        match self {
            Condition::Compare(quantity, comparison, Term::Literal(value)) => {
                let limit = value.number()?;
                let (from, to) = match comparison {
                    Comparison::Less | Comparison::AtMost => (f64::NEG_INFINITY, limit),
                    Comparison::Greater | Comparison::AtLeast => (limit, f64::INFINITY),
                    Comparison::Equal => (limit, limit),
                    Comparison::NotEqual => return None,
                };
                Some(Range { quantity: quantity.clone(), from, to })
            }
            Condition::All(parts) => {
                let mut ranges = parts.iter().map(Condition::range).collect::<Option<Vec<Range>>>()?.into_iter();
                let first = ranges.next()?;
                ranges.try_fold(first, |all, range| {
                    (range.quantity == all.quantity).then(|| Range {
                        from: all.from.max(range.from),
                        to: all.to.min(range.to),
                        ..all
                    })
                })
            }
            _ => None,
        }
    }

    /// The quantity that a single comparison reads.
    pub fn quantity(&self) -> Option<&Quantity> {
        match self {
            Condition::Compare(quantity, ..) => Some(quantity),
            Condition::Not(inner) => inner.quantity(),
            _ => None,
        }
    }

    /// The parts that a person would look at one by one: of `and` and `or`, nested as written.
    pub fn parts(&self) -> Vec<&Condition> {
        match self {
            Condition::Any(parts) | Condition::All(parts) => parts.iter().flat_map(Condition::parts).collect(),
            Condition::Not(inner) if matches!(**inner, Condition::Any(_) | Condition::All(_)) => inner.parts(),
            part => vec![part],
        }
    }

    /// Each comparison of a quantity with a literal.
    pub fn limits(&self) -> Vec<(&Quantity, Comparison, &Value)> {
        let limit = |part: &Condition| match part {
            Condition::Compare(..) => true,
            Condition::Not(inner) => matches!(**inner, Condition::Compare(..)),
            _ => false,
        };
        let parts = self.parts().into_iter().filter(|part| limit(part));
        parts
            .filter_map(|part| match part {
                Condition::Compare(quantity, comparison, Term::Literal(value)) => Some((quantity, *comparison, value)),
                _ => None,
            })
            .collect()
    }
}
