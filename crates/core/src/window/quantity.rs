//! What a condition compares.

use super::Series;
use crate::model::Field;
use crate::units::Kind;

/// What is compared: a field as it is now, or a function of one over time.
#[derive(Debug, Clone, PartialEq)]
pub enum Quantity {
    /// The reading now.
    Now(Field),
    /// A function over time.
    Over(Box<Series>),
}

impl Quantity {
    /// The field it reads.
    pub fn field(&self) -> Field {
        match self {
            Quantity::Now(field) => *field,
            Quantity::Over(series) => series.field,
        }
    }

    /// The kind of its readings.
    pub fn kind(&self) -> Kind {
        match self {
            Quantity::Now(field) => field.kind(),
            Quantity::Over(series) => series.kind(),
        }
    }
}
