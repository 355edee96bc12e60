//! The condition language: text → tokens → syntax → checked condition → three-valued truth.
//!
//! Each stage is a type of its own, and only the last can be evaluated: a [`Condition`] holds no
//! unresolved name and compares only like with like.

mod check;
mod eval;
mod functions;
mod lexer;
mod parser;
mod print;
mod quiet;
mod syntax;
mod words;

pub use check::{Place, fields_meant};
pub use eval::glob;
pub use eval::{Measure, Truth};
pub use words::{InWords, Range};

use crate::diag::Diagnostic;
use crate::model::Field;
use crate::sorted::SortedSet;
use crate::units::Value;
pub use crate::window::Quantity;
use crate::window::{Series, Spec};

/// Deepest nesting of parentheses and `not`.
pub(crate) const DEEPEST: usize = 64;

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

    /// Whether more is worse.
    pub(crate) fn is_upward(self) -> bool {
        matches!(self, Comparison::Greater | Comparison::AtLeast)
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
    /// Another quantity of the same kind.
    Quantity(Quantity),
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
    /// A quantity against a literal or another quantity of its kind.
    Compare(Quantity, Comparison, Term),
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
        let mut condition = check::check(&syntax, place)?;
        condition.bind(&mut Vec::new());
        Ok(condition)
    }

    /// The fields it names.
    pub fn fields(&self) -> SortedSet<Field> {
        let mut fields = SortedSet::new();
        self.visit(&mut |condition| match condition {
            Condition::Compare(quantity, _, term) => {
                fields.insert(quantity.field());
                if let Term::Quantity(other) = term {
                    fields.insert(other.field());
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
            Condition::Compare(Quantity::Now(field), Comparison::Equal, Term::Literal(Value::Text(word)))
                if *field == wanted =>
            {
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

    /// The functions over time that it names.
    pub fn series(&self) -> Vec<&Series> {
        let mut all = Vec::new();
        self.visit(&mut |condition| {
            let Condition::Compare(left, _, right) = condition else { return };
            let right = if let Term::Quantity(right) = right { Some(right) } else { None };
            all.extend(std::iter::once(left).chain(right).filter_map(|quantity| match quantity {
                Quantity::Over(series) => Some(&**series),
                Quantity::Now(_) => None,
            }));
        });
        all
    }

    /// Tells each function over time which window it reads: those of a whole rule are numbered together, and functions
    /// that keep the same of the same share one.
    pub(crate) fn bind(&mut self, windows: &mut Vec<Spec>) {
        let mut place = |series: &mut Series| {
            let spec = Spec::of(series);
            let found = windows.iter().position(|known| *known == spec);
            series.place = found.unwrap_or_else(|| {
                windows.push(spec);
                windows.len() - 1
            });
        };
        match self {
            Condition::Any(parts) | Condition::All(parts) => parts.iter_mut().for_each(|part| part.bind(windows)),
            Condition::Not(inner) => inner.bind(windows),
            Condition::Compare(left, _, right) => {
                if let Quantity::Over(series) = left {
                    place(series);
                }
                if let Term::Quantity(Quantity::Over(series)) = right {
                    place(series);
                }
            }
            _ => {}
        }
    }

    fn visit<'c>(&'c self, see: &mut impl FnMut(&'c Condition)) {
        see(self);
        match self {
            Condition::Any(parts) | Condition::All(parts) => parts.iter().for_each(|part| part.visit(see)),
            Condition::Not(inner) => inner.visit(see),
            _ => {}
        }
    }
}
