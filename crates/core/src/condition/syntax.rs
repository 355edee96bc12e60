//! The syntax tree: what was written, before any name is looked up.

use std::ops::Range;

use super::Comparison;
use crate::units::Value;

/// A node and where it stands.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Node {
    pub kind: NodeKind,
    pub span: Range<usize>,
}

/// What a node is.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum NodeKind {
    Any(Vec<Node>),
    All(Vec<Node>),
    Not(Box<Node>),
    Compare { left: Operand, sign: (Comparison, Range<usize>), right: Operand },
    In { left: Operand, items: Vec<Operand> },
    Like { left: Operand, right: Operand },
    Alone(Operand),
}

/// One side of a comparison, and where it stands.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Operand {
    pub kind: OperandKind,
    pub span: Range<usize>,
}

/// What a side is.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum OperandKind {
    Name(String),
    Literal(Value),
    /// A function of operands.
    Call {
        name: String,
        args: Vec<Operand>,
    },
}
