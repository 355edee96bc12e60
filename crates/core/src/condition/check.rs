//! Syntax to a checked condition: names are looked up, kinds compared, units asked for.

use std::ops::Range;

use super::syntax::{Node, NodeKind, Operand, OperandKind};
use super::{Comparison, Condition, Quantity, Term};
use crate::diag::Diagnostic;
use crate::model::{Cost, Field};
use crate::state::State;
use crate::subject::Judged;
use crate::text::nearest;
use crate::units::{Kind, Value};

/// Where a condition stands, which decides what it may name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Place {
    /// Any field.
    Any,
    /// One look: no functions over time.
    Look,
    /// `[protect]`: no rates, so that protection never waits for a second sample.
    Protect,
    /// `breach` and `calm` of a rule that judges such subjects.
    Judged(Judged),
}

/// Checks the whole tree and reports every error in it.
pub(super) fn check(node: &Node, place: Place) -> Result<Condition, Vec<Diagnostic>> {
    let mut checker = Checker { place, errors: Vec::new() };
    let condition = checker.node(node);
    match condition {
        Some(condition) if checker.errors.is_empty() => Ok(condition),
        _ => Err(checker.errors),
    }
}

pub(super) struct Checker {
    pub place: Place,
    pub errors: Vec<Diagnostic>,
}

/// One side after its name was looked up.
enum Side {
    Quantity(Quantity),
    Literal(Value),
    /// A name that is no field: a word, if the other side wants one.
    Word(String),
}

impl Checker {
    pub fn fail<T>(&mut self, diagnostic: Diagnostic) -> Option<T> {
        self.errors.push(diagnostic);
        None
    }

    fn node(&mut self, node: &Node) -> Option<Condition> {
        match &node.kind {
            NodeKind::Any(parts) => self.parts(parts).map(Condition::Any),
            NodeKind::All(parts) => self.parts(parts).map(Condition::All),
            NodeKind::Not(inner) => self.node(inner).map(|inner| Condition::Not(Box::new(inner))),
            NodeKind::Compare { left, sign, right } => self.compare(left, sign, right),
            NodeKind::In { left, items } => self.one_of(left, items),
            NodeKind::Like { left, right } => self.like(left, right),
            NodeKind::Alone(operand) => self.alone(operand),
        }
    }

    /// All parts are checked, also after one has failed. Nested joints of the same kind are kept as written.
    fn parts(&mut self, parts: &[Node]) -> Option<Vec<Condition>> {
        let checked: Vec<Option<Condition>> = parts.iter().map(|part| self.node(part)).collect();
        checked.into_iter().collect()
    }

    fn side(&mut self, operand: &Operand) -> Option<Side> {
        match &operand.kind {
            OperandKind::Literal(value) => Some(Side::Literal(value.clone())),
            OperandKind::Call { name, args } => {
                self.call(name, args, &operand.span).map(|series| Side::Quantity(Quantity::Over(Box::new(series))))
            }
            OperandKind::Name(name) => match Field::named(name) {
                Some(field) if self.place == Place::Protect && field.info().rate => self.fail(
                    Diagnostic::at(
                        operand.span.clone(),
                        format!("`{name}` is a rate, and protection takes none"),
                        "needs two samples",
                    )
                    .help("protect by app, owner, path or another lasting trait"),
                ),
                Some(field)
                    if self.place == Place::Protect
                        && matches!(field.info().cost, Cost::Rollup | Cost::Files | Cost::Disks) =>
                {
                    self.fail(
                        Diagnostic::at(
                            operand.span.clone(),
                            format!("`{name}` is costly to read, and protection takes no such field"),
                            "read only when all else holds",
                        )
                        .help("protect by app, owner, path or another lasting trait"),
                    )
                }
                Some(field) => self.allowed(field, &operand.span).then_some(Side::Quantity(Quantity::Now(field))),
                None => Some(Side::Word(name.clone())),
            },
        }
    }

    /// A side that must be a field.
    fn field(&mut self, operand: &Operand) -> Option<Field> {
        match self.side(operand)? {
            Side::Quantity(Quantity::Now(field)) => Some(field),
            Side::Quantity(Quantity::Over(series)) => self.fail(
                Diagnostic::at(operand.span.clone(), format!("`{series}` is a function over time"), "not a field")
                    .help(format!("compare it: `{series} > {}`", series.kind().example())),
            ),
            Side::Word(word) => self.fail(unknown_field(&word, &operand.span)),
            Side::Literal(value) => self.fail(
                Diagnostic::at(
                    operand.span.clone(),
                    "a field is missing",
                    format!("this is {}", value.kind().with_article()),
                )
                .help("a comparison reads `memory.held > 750 MiB`"),
            ),
        }
    }

    fn compare(&mut self, left: &Operand, sign: &(Comparison, Range<usize>), right: &Operand) -> Option<Condition> {
        let sides = (self.side(left), self.side(right));
        let (quantity, comparison, term) = match (sides.0?, sides.1?) {
            (Side::Quantity(quantity), Side::Quantity(other)) => {
                if quantity.kind() != other.kind() {
                    return self.fail(unlike(&quantity, other.kind(), &other.to_string(), &right.span));
                }
                (quantity, sign.0, Term::Quantity(other))
            }
            (Side::Quantity(quantity), other) => {
                let literal = self.literal(&quantity, other, &right.span)?;
                (quantity, sign.0, Term::Literal(literal))
            }
            (other, Side::Quantity(quantity)) => {
                // `"x" = app` is turned round; a word on the left that is no field is more likely a misspelt field.
                if let Side::Word(word) = &other
                    && quantity.kind().is_ordered()
                {
                    return self.fail(unknown_field(word, &left.span));
                }
                let literal = self.literal(&quantity, other, &left.span)?;
                (quantity, sign.0.flipped(), Term::Literal(literal))
            }
            (Side::Word(word), _) => return self.fail(unknown_field(&word, &left.span)),
            (_, Side::Word(word)) => return self.fail(unknown_field(&word, &right.span)),
            (Side::Literal(_), Side::Literal(_)) => {
                let span = left.span.start..right.span.end;
                return self.fail(
                    Diagnostic::at(span, "two values are compared with each other", "no field in it")
                        .help("a comparison reads `memory.held > 750 MiB`"),
                );
            }
        };
        if comparison.needs_order() && !quantity.kind().is_ordered() {
            return self.fail(
                Diagnostic::at(
                    sign.1.clone(),
                    format!("`{quantity}` is {}, which has no order", quantity.kind().with_article()),
                    format!("`{}` means nothing here", sign.0.sign()),
                )
                .help("use `=`, `!=`, `in (…)`, or `~` for a pattern"),
            );
        }
        Some(Condition::Compare(quantity, comparison, term))
    }

    /// A literal for a quantity: the kind must fit, and words become texts, states or flags where those are wanted.
    fn literal(&mut self, quantity: &Quantity, side: Side, span: &Range<usize>) -> Option<Value> {
        match (quantity.kind(), side) {
            (Kind::Text, Side::Word(word)) => Some(Value::Text(word)),
            (Kind::State, Side::Word(word) | Side::Literal(Value::Text(word))) => {
                match State::ALL.into_iter().find(|state| state.word() == word) {
                    Some(state) => Some(Value::State(state)),
                    None => {
                        let words = State::ALL.map(State::word);
                        let help = match nearest(&word, words) {
                            Some(near) => format!("write `{near}`"),
                            None => format!("states: {}", words.join(", ")),
                        };
                        self.fail(
                            Diagnostic::at(span.clone(), format!("`{word}` is not a state"), "unknown state")
                                .help(help),
                        )
                    }
                }
            }
            (Kind::Flag, Side::Word(word)) if matches!(word.as_str(), "yes" | "true") => Some(Value::Flag(true)),
            (Kind::Flag, Side::Word(word)) if matches!(word.as_str(), "no" | "false") => Some(Value::Flag(false)),
            (_, Side::Word(word)) => self.fail(unknown_field(&word, span)),
            (kind, Side::Literal(value)) if value.kind() == kind => Some(value),
            (_, Side::Literal(value)) => {
                let written = value.to_string();
                let mut error = unlike(quantity, value.kind(), &written, span);
                if let Value::Count(_) = value {
                    let unit = match quantity.kind() {
                        Kind::Size => " MiB",
                        Kind::Rate => " MiB/s",
                        Kind::Percent => "%",
                        Kind::Duration => "s",
                        _ => "",
                    };
                    error.helps = if quantity.kind() == Kind::Text {
                        vec![format!("write `\"{written}\"`")]
                    } else {
                        vec![format!("write `{written}{unit}`")]
                    };
                }
                self.fail(error)
            }
            (_, Side::Quantity(_)) => None,
        }
    }

    fn one_of(&mut self, left: &Operand, items: &[Operand]) -> Option<Condition> {
        let field = self.field(left);
        let mut values = Vec::new();
        for item in items {
            // In a list a name is a word, also when a field is called so.
            let side = match &item.kind {
                OperandKind::Name(name) => Some(Side::Word(name.clone())),
                _ => self.side(item),
            };
            match (field, side) {
                (Some(field), Some(side)) => values.push(self.literal(&Quantity::Now(field), side, &item.span)),
                _ => values.push(None),
            }
        }
        let values: Option<Vec<Value>> = values.into_iter().collect();
        Some(Condition::OneOf(field?, values?))
    }

    fn like(&mut self, left: &Operand, right: &Operand) -> Option<Condition> {
        let field = self.field(left)?;
        if field.kind() != Kind::Text {
            return self.fail(
                Diagnostic::at(
                    left.span.clone(),
                    format!("`~` matches texts, and `{field}` is {}", field.kind().with_article()),
                    "not a text",
                )
                .help(format!("compare it: `{field} > {}`", field.kind().example())),
            );
        }
        match &right.kind {
            OperandKind::Literal(Value::Text(pattern)) | OperandKind::Name(pattern) => {
                Some(Condition::Matches(field, pattern.clone()))
            }
            _ => self.fail(
                Diagnostic::at(right.span.clone(), "`~` wants a pattern", "not a text")
                    .help("write it in quotes, as `path ~ \"/opt/*\"`"),
            ),
        }
    }

    fn alone(&mut self, operand: &Operand) -> Option<Condition> {
        let field = self.field(operand)?;
        if field.kind() == Kind::Flag {
            return Some(Condition::Is(field));
        }
        let sign = if field.kind().is_ordered() { ">" } else { "=" };
        self.fail(
            Diagnostic::at(
                operand.span.clone(),
                format!("`{field}` alone is not a condition"),
                "compared with nothing",
            )
            .help(format!("write `{field} {sign} {}`", field.kind().example())),
        )
    }
}

/// What people say, and the fields that they may mean: the likeliest first.
const MEANT: [(&[&str], &[Field]); 24] = [
    (&["user", "username", "login", "account"], &[Field::Owner, Field::Uid]),
    (&["ram", "mem", "rss", "resident"], &[Field::MemoryHeld, Field::Memory, Field::MachineMemoryAvailable]),
    (&["pss"], &[Field::MemoryProportional]),
    (&["uss"], &[Field::MemoryPrivate]),
    (&["swap", "swapped"], &[Field::MemorySwapped, Field::MachineSwapUsed]),
    (&["title", "comm"], &[Field::Name, Field::Command]),
    (&["process", "program", "application", "script"], &[Field::App, Field::Name, Field::Path]),
    (&["cmd", "cmdline", "args", "arguments", "commandline"], &[Field::Command]),
    (&["exe", "executable", "binary", "file"], &[Field::Path, Field::App]),
    (&["ppid"], &[Field::Parent]),
    (&["priority", "prio", "niceness"], &[Field::Nice]),
    (&["io", "iops"], &[Field::Disk, Field::MachineDiskBusy]),
    (&["read", "reads"], &[Field::DiskRead]),
    (&["write", "writes"], &[Field::DiskWrite]),
    (&["status"], &[Field::State]),
    (&["service", "cgroup", "group", "slice"], &[Field::Unit, Field::Origin]),
    (&["time"], &[Field::CpuTime, Field::Age]),
    (&["uptime", "runtime", "elapsed", "started"], &[Field::Age, Field::MachineUptime]),
    (&["load", "loadavg"], &[Field::MachineLoad1, Field::MachineLoadCore]),
    (&["fds", "handles", "descriptors"], &[Field::Files]),
    (&["thread"], &[Field::Threads]),
    (&["count", "number"], &[Field::Instances, Field::Children]),
    (&["terminal", "pts"], &[Field::Tty]),
    (&["hostname", "machine"], &[Field::Host]),
];

/// The fields that a word may mean, which is none: by its meaning, else by its letters.
pub fn fields_meant(word: &str) -> Vec<Field> {
    let lower = word.to_lowercase();
    if let Some((_, fields)) = MEANT.iter().find(|(words, _)| words.contains(&lower.as_str())) {
        return fields.to_vec();
    }
    let near = nearest(word, Field::ALL.iter().map(|field| field.name())).and_then(Field::named);
    near.into_iter().collect()
}

pub(super) fn unknown_field(word: &str, span: &Range<usize>) -> Diagnostic {
    let shown = crate::text::clean(word.as_bytes());
    let meant: Vec<String> = fields_meant(word).iter().map(|field| format!("`{field}`")).collect();
    let help = match meant.is_empty() {
        false => format!("write {}", meant.join(" or ")),
        true => "`sophron rules fields` explains all that there are; text stands in quotes".to_owned(),
    };
    Diagnostic::at(span.clone(), format!("there is no field `{shown}`"), "unknown field").help(help)
}

fn unlike(quantity: &Quantity, other: Kind, written: &str, span: &Range<usize>) -> Diagnostic {
    let kind = quantity.kind();
    Diagnostic::at(
        span.clone(),
        format!("`{quantity}` is {}, and `{written}` is {}", kind.with_article(), other.with_article()),
        format!("not {}", kind.with_article()),
    )
    .help(format!("write {} here, as `{}`", kind.with_article(), kind.example()))
}
