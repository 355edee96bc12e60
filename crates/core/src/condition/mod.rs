//! The condition language: text → tokens → syntax → checked condition → three-valued truth.
//!
//! Each stage is a type of its own, and only the last can be evaluated: a [`Condition`] holds no
//! unresolved name and compares only like with like.

mod check;
mod eval;
mod lexer;
mod parser;
mod print;
mod syntax;

use std::collections::BTreeSet;

pub use check::Place;
pub use eval::{Measure, Truth};

use crate::diag::Diagnostic;
use crate::model::Field;
use crate::units::Value;

/// Deepest nesting of parentheses and `not`.
pub const DEEPEST: usize = 64;

/// Longest condition, in bytes.
pub const LONGEST: usize = 64 * 1024;

/// A comparison.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Comparison {
    /// `<`, `under`
    Less,
    /// `<=`, `at most`
    AtMost,
    /// `>`, `over`
    Greater,
    /// `>=`, `at least`
    AtLeast,
    /// `=`, `is`
    Equal,
    /// `!=`, `is not`
    NotEqual,
}

impl Comparison {
    /// Its sign.
    pub fn sign(self) -> &'static str {
        match self {
            Comparison::Less => "<",
            Comparison::AtMost => "<=",
            Comparison::Greater => ">",
            Comparison::AtLeast => ">=",
            Comparison::Equal => "=",
            Comparison::NotEqual => "!=",
        }
    }

    /// The comparison that says the same with its sides exchanged.
    pub(crate) fn flipped(self) -> Comparison {
        match self {
            Comparison::Less => Comparison::Greater,
            Comparison::AtMost => Comparison::AtLeast,
            Comparison::Greater => Comparison::Less,
            Comparison::AtLeast => Comparison::AtMost,
            same => same,
        }
    }

    pub(crate) fn needs_order(self) -> bool {
        !matches!(self, Comparison::Equal | Comparison::NotEqual)
    }
}

/// The right side of a comparison.
#[derive(Debug, Clone, PartialEq)]
pub enum Term {
    /// A literal.
    Literal(Value),
    /// Another field of the same kind.
    Field(Field),
}

/// A checked condition.
#[derive(Debug, Clone, PartialEq)]
pub enum Condition {
    /// Any of them.
    Any(Vec<Condition>),
    /// All of them.
    All(Vec<Condition>),
    /// The opposite.
    Not(Box<Condition>),
    /// A field against a literal or another field of its kind.
    Compare(Field, Comparison, Term),
    /// A field that is one of several literals.
    OneOf(Field, Vec<Value>),
    /// A text field against a pattern with `*` and `?`.
    Matches(Field, String),
    /// A yes-or-no field standing alone.
    Is(Field),
}

impl Condition {
    /// Reads and checks a condition.
    ///
    /// # Errors
    /// Every error found, with places in bytes of `text`. An error of syntax ends the reading; errors of
    /// spelling (tokens) and of meaning (names, kinds, units) are all reported.
    pub fn parse(text: &str, place: Place) -> Result<Condition, Vec<Diagnostic>> {
        if text.len() > LONGEST {
            return Err(vec![Diagnostic::whole(format!("a condition is at most {LONGEST} bytes long"))]);
        }
        let tokens = lexer::tokens(text)?;
        let syntax = parser::parse(&tokens, text.len()).map_err(|error| vec![error])?;
        check::check(&syntax, place)
    }

    /// The fields it names.
    pub fn fields(&self) -> BTreeSet<Field> {
        let mut fields = BTreeSet::new();
        self.visit(&mut |condition| match condition {
            Condition::Compare(field, _, term) => {
                fields.insert(*field);
                if let Term::Field(other) = term {
                    fields.insert(*other);
                }
            }
            Condition::OneOf(field, _) | Condition::Matches(field, _) | Condition::Is(field) => {
                fields.insert(*field);
            }
            _ => {}
        });
        fields
    }

    /// The words that a text field is compared with.
    pub fn words_of(&self, wanted: Field) -> Vec<String> {
        let mut words = Vec::new();
        self.visit(&mut |condition| match condition {
            Condition::Compare(field, Comparison::Equal, Term::Literal(Value::Text(word))) if *field == wanted => {
                words.push(word.clone())
            }
            Condition::OneOf(field, values) if *field == wanted => {
                words.extend(values.iter().filter_map(|value| match value {
                    Value::Text(word) => Some(word.clone()),
                    _ => None,
                }));
            }
            _ => {}
        });
        words
    }

    fn visit(&self, see: &mut impl FnMut(&Condition)) {
        see(self);
        match self {
            Condition::Any(parts) | Condition::All(parts) => parts.iter().for_each(|part| part.visit(see)),
            Condition::Not(inner) => inner.visit(see),
            _ => {}
        }
    }
}
