//! A checked condition as text that reads back as the same condition.

use std::fmt;

use super::{Condition, Quantity, Term};

impl fmt::Display for Quantity {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Quantity::Now(field) => field.fmt(f),
            Quantity::Over(series) => series.fmt(f),
        }
    }
}

impl fmt::Display for Term {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Term::Literal(value) => value.fmt(f),
            Term::Quantity(quantity) => quantity.fmt(f),
        }
    }
}

impl fmt::Display for Condition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Condition::Any(parts) => joined(f, parts, " or "),
            Condition::All(parts) => joined(f, parts, " and "),
            Condition::Not(inner) => match **inner {
                Condition::Any(_) | Condition::All(_) => write!(f, "not ({inner})"),
                _ => write!(f, "not {inner}"),
            },
            Condition::Compare(quantity, comparison, term) => write!(f, "{quantity} {} {term}", comparison.sign()),
            Condition::Matches(field, pattern) => {
                write!(f, "{field} ~ {}", crate::units::Value::Text(pattern.clone()))
            }
            Condition::Is(field) => write!(f, "{field}"),
            Condition::OneOf(field, values) => {
                write!(f, "{field} in (")?;
                for (place, value) in values.iter().enumerate() {
                    write!(f, "{}{value}", if place == 0 { "" } else { ", " })?;
                }
                f.write_str(")")
            }
        }
    }
}

fn joined(f: &mut fmt::Formatter<'_>, parts: &[Condition], joint: &str) -> fmt::Result {
    for (place, part) in parts.iter().enumerate() {
        let before = if place == 0 { "" } else { joint };
        match part {
            Condition::Any(_) | Condition::All(_) => write!(f, "{before}({part})")?,
            _ => write!(f, "{before}{part}")?,
        }
    }
    Ok(())
}
