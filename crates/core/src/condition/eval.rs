//! Three-valued evaluation: what cannot be read is unknown, and unknown is not false.

use std::borrow::Cow;
use std::cmp::Ordering;

use super::{Comparison, Condition, Quantity, Term};
use crate::facts::Facts;
use crate::model::Field;
use crate::units::{Kind, Value};
use crate::window::Bounds;

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
    pub quantity: Quantity,
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
            Condition::Compare(Quantity::Now(field), comparison, term) if field.kind() == Kind::Text => {
                // Without copies: this is what most of every `where` is made of.
                let limit = match term {
                    Term::Literal(Value::Text(text)) => Some(Cow::Borrowed(text.as_str())),
                    Term::Quantity(Quantity::Now(other)) => facts.text(*other),
                    Term::Literal(_) | Term::Quantity(_) => None,
                };
                match facts.text(*field).zip(limit) {
                    Some((reading, limit)) => texts_hold(*comparison, &reading, &limit).into(),
                    None => Truth::Unknown,
                }
            }
            Condition::Compare(quantity, comparison, term) => {
                let limit = limit(term, facts);
                match (facts.quantity(quantity), limit) {
                    (Some(reading), Some(limit)) => match reading.compare(&limit) {
                        Some(order) => holds(*comparison, order).into(),
                        None => Truth::Unknown,
                    },
                    (None, Some(limit)) => bounded(facts, quantity, *comparison, &limit),
                    _ => Truth::Unknown,
                }
            }
            Condition::OneOf(field, values) if field.kind() == Kind::Text => {
                let one_of =
                    |reading: &str| values.iter().any(|value| matches!(value, Value::Text(text) if text == reading));
                facts.text(*field).map_or(Truth::Unknown, |reading| one_of(&reading).into())
            }
            Condition::OneOf(field, values) => known(facts, *field, |reading| values.contains(reading)),
            Condition::Matches(field, pattern) => {
                facts.text(*field).map_or(Truth::Unknown, |reading| glob(pattern, &reading).into())
            }
            Condition::Is(field) => known(facts, *field, |reading| *reading == Value::Flag(true)),
        }
    }

    /// The fields whose readings could not be had. What was not read for want of a reason is none of them.
    pub fn unreadable(&self, facts: &Facts<'_>) -> Vec<Field> {
        let known =
            |field: &Field| facts.is_stale(*field) || facts.carried(*field).is_some() || facts.bound(*field).is_some();
        self.fields().into_iter().filter(|field| !known(field)).collect()
    }

    /// The same where a story is told by one quantity already: as long as that holds, or nothing else makes the condition true, it
    /// goes on with that one.
    pub fn leading_on(&self, told_by: &Measure, facts: &Facts<'_>) -> Option<Measure> {
        let mut found: Option<(bool, Measure)> = None;
        self.visit(&mut |condition| {
            let Condition::Compare(quantity, comparison, term) = condition else { return };
            if found.is_none() && (quantity, comparison) == (&told_by.quantity, &told_by.comparison) {
                found = Some((condition.evaluate(facts) == Truth::True, measure(quantity, *comparison, term, facts)));
            }
        });
        match found {
            Some((holds, measure)) if holds || self.evaluate(facts) != Truth::True => Some(measure),
            _ => self.leading(facts),
        }
    }

    /// The comparison with a limit that tells the story: the first that holds, else the first there is.
    pub fn leading(&self, facts: &Facts<'_>) -> Option<Measure> {
        let mut first: Option<(bool, Measure)> = None;
        self.visit(&mut |condition| {
            let Condition::Compare(quantity, comparison, term) = condition else { return };
            if !comparison.needs_order() || first.as_ref().is_some_and(|(holds, _)| *holds) {
                return;
            }
            let holds = condition.evaluate(facts) == Truth::True;
            if holds || first.is_none() {
                first = Some((holds, measure(quantity, *comparison, term, facts)));
            }
        });
        first.map(|(_, measure)| measure)
    }
}

fn known(facts: &Facts<'_>, field: Field, test: impl FnOnce(&Value) -> bool) -> Truth {
    facts.reading(field).map_or(Truth::Unknown, |reading| test(&reading).into())
}

fn measure(quantity: &Quantity, comparison: Comparison, term: &Term, facts: &Facts<'_>) -> Measure {
    Measure { quantity: quantity.clone(), reading: facts.quantity(quantity), comparison, limit: limit(term, facts) }
}

fn limit(term: &Term, facts: &Facts<'_>) -> Option<Value> {
    match term {
        Term::Literal(value) => Some(value.clone()),
        Term::Quantity(quantity) => facts.quantity(quantity),
    }
}

/// A bound decides where the bound itself does: what is at most 600 MiB is not over 750 MiB.
fn bounded(facts: &Facts<'_>, quantity: &Quantity, comparison: Comparison, limit: &Value) -> Truth {
    let Bounds { least, most } = facts.bounds(quantity);
    let below = most.and_then(|most| most.compare(limit)).unwrap_or(Ordering::Greater);
    let above = least.and_then(|least| least.compare(limit)).unwrap_or(Ordering::Less);
    match comparison {
        Comparison::Greater if below.is_le() => Truth::False,
        Comparison::AtLeast | Comparison::Equal if below.is_lt() => Truth::False,
        Comparison::Less | Comparison::NotEqual if below.is_lt() => Truth::True,
        Comparison::AtMost if below.is_le() => Truth::True,
        Comparison::Less if above.is_ge() => Truth::False,
        Comparison::AtMost | Comparison::Equal if above.is_gt() => Truth::False,
        Comparison::Greater | Comparison::NotEqual if above.is_gt() => Truth::True,
        Comparison::AtLeast if above.is_ge() => Truth::True,
        _ => Truth::Unknown,
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

/// Most texts differ in length already, which settles whether they are equal.
fn texts_hold(comparison: Comparison, reading: &str, limit: &str) -> bool {
    match comparison {
        Comparison::Equal => reading == limit,
        Comparison::NotEqual => reading != limit,
        order => holds(order, reading.cmp(limit)),
    }
}

/// `*` is any text, `?` one character. Linear in the text for each `*`: on a mismatch only the last `*` gives way.
pub fn glob(pattern: &str, text: &str) -> bool {
    let (mut p, mut t) = (pattern.chars(), text.chars());
    // Where to go on after a mismatch: behind the last `*`, one character further in the text.
    let mut retry: Option<(std::str::Chars<'_>, std::str::Chars<'_>)> = None;
    loop {
        let (mut behind, rest) = (p.clone(), t.clone());
        match (p.next(), t.next()) {
            (Some('*'), _) => {
                retry = Some((p.clone(), rest.clone()));
                t = rest;
            }
            (Some(wanted), Some(c)) if wanted == '?' || wanted == c => {}
            (None, None) => return true,
            (_, None) => return behind.all(|c| c == '*'),
            _ => match retry.as_mut() {
                Some((after_star, from)) => {
                    from.next();
                    (p, t) = (after_star.clone(), from.clone());
                }
                None => return false,
            },
        }
    }
}
