//! Three-valued evaluation: what cannot be read is unknown, and unknown is not false.

use std::cmp::Ordering;

use super::{Comparison, Condition, Term};
use crate::model::{Facts, Field};
use crate::units::Value;

/// Kleene's three values.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Truth {
    /// It holds.
    True,
    /// It does not.
    False,
    /// A reading that decides it could not be had.
    Unknown,
}

impl From<bool> for Truth {
    fn from(known: bool) -> Truth {
        if known { Truth::True } else { Truth::False }
    }
}

impl std::ops::Not for Truth {
    type Output = Truth;

    fn not(self) -> Truth {
        match self {
            Truth::True => Truth::False,
            Truth::False => Truth::True,
            Truth::Unknown => Truth::Unknown,
        }
    }
}

/// A reading beside the limit it is held against.
#[derive(Debug, Clone, PartialEq)]
pub struct Measure {
    /// What was read.
    pub field: Field,
    /// The reading; `None` when it could not be had.
    pub reading: Option<Value>,
    /// How it is compared.
    pub comparison: Comparison,
    /// The limit; `None` when it is a reading that could not be had.
    pub limit: Option<Value>,
}

impl Condition {
    /// Whether it holds.
    pub fn evaluate(&self, facts: &Facts<'_>) -> Truth {
        match self {
            Condition::Any(parts) => decide(parts, facts, Truth::True),
            Condition::All(parts) => decide(parts, facts, Truth::False),
            Condition::Not(inner) => !inner.evaluate(facts),
            Condition::Compare(field, comparison, term) => {
                let (reading, limit) = (facts.reading(*field), limit(term, facts));
                match reading.zip(limit).and_then(|(reading, limit)| reading.compare(&limit)) {
                    Some(order) => holds(*comparison, order).into(),
                    None => Truth::Unknown,
                }
            }
            Condition::OneOf(field, values) => known(facts, *field, |reading| values.contains(reading)),
            Condition::Matches(field, pattern) => {
                known(facts, *field, |reading| matches!(reading, Value::Text(text) if glob(pattern, text)))
            }
            Condition::Is(field) => known(facts, *field, |reading| *reading == Value::Flag(true)),
        }
    }

    /// The fields whose readings could not be had.
    pub fn unreadable(&self, facts: &Facts<'_>) -> Vec<Field> {
        self.fields().into_iter().filter(|field| facts.reading(*field).is_none()).collect()
    }

    /// The comparison with a limit that tells the story: the first that holds, else the first there is.
    pub fn leading(&self, facts: &Facts<'_>) -> Option<Measure> {
        let mut first: Option<(bool, Measure)> = None;
        self.visit(&mut |condition| {
            let Condition::Compare(field, comparison, term) = condition else { return };
            if !comparison.needs_order() || first.as_ref().is_some_and(|(holds, _)| *holds) {
                return;
            }
            let holds = condition.evaluate(facts) == Truth::True;
            if holds || first.is_none() {
                let measure = Measure {
                    field: *field,
                    reading: facts.reading(*field),
                    comparison: *comparison,
                    limit: limit(term, facts),
                };
                first = Some((holds, measure));
            }
        });
        first.map(|(_, measure)| measure)
    }
}

fn known(facts: &Facts<'_>, field: Field, test: impl FnOnce(&Value) -> bool) -> Truth {
    facts.reading(field).map_or(Truth::Unknown, |reading| test(&reading).into())
}

fn limit(term: &Term, facts: &Facts<'_>) -> Option<Value> {
    match term {
        Term::Literal(value) => Some(value.clone()),
        Term::Field(field) => facts.reading(*field),
    }
}

/// `decisive` settles the whole; without it, one unknown part makes the whole unknown.
fn decide(parts: &[Condition], facts: &Facts<'_>, decisive: Truth) -> Truth {
    let mut outcome = !decisive;
    for part in parts {
        match part.evaluate(facts) {
            truth if truth == decisive => return decisive,
            Truth::Unknown => outcome = Truth::Unknown,
            _ => {}
        }
    }
    outcome
}

fn holds(comparison: Comparison, order: Ordering) -> bool {
    match comparison {
        Comparison::Less => order.is_lt(),
        Comparison::AtMost => order.is_le(),
        Comparison::Greater => order.is_gt(),
        Comparison::AtLeast => order.is_ge(),
        Comparison::Equal => order.is_eq(),
        Comparison::NotEqual => order.is_ne(),
    }
}

/// `*` is any text, `?` one character. Linear in the text for each `*`: on a mismatch only the last `*` gives way.
fn glob(pattern: &str, text: &str) -> bool {
    let (pattern, text): (Vec<char>, Vec<char>) = (pattern.chars().collect(), text.chars().collect());
    let (mut p, mut t) = (0, 0);
    let mut star: Option<(usize, usize)> = None;
    while t < text.len() {
        match pattern.get(p) {
            Some('*') => {
                star = Some((p, t));
                p += 1;
            }
            Some(c) if *c == '?' || *c == text[t] => {
                p += 1;
                t += 1;
            }
            _ => match star.as_mut() {
                Some((star_p, star_t)) => {
                    *star_t += 1;
                    (p, t) = (*star_p + 1, *star_t);
                }
                None => return false,
            },
        }
    }
    pattern[p..].iter().all(|c| *c == '*')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn globs() {
        for (pattern, text, expected) in [
            ("/opt/*", "/opt/press/labelpress", true),
            ("*press", "labelpress", true),
            ("l?bel*s", "labelpress", true),
            ("label", "labelpress", false),
            ("*a*b*c", "xxaxxbxx", false),
            ("", "", true),
        ] {
            assert_eq!(glob(pattern, text), expected, "{pattern} on {text}");
        }
    }
}
