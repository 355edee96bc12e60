//! Functions over time, checked: their arguments, and where they may stand.

use std::ops::Range;
use std::time::Duration;

use super::check::{Checker, Place, unknown_field};
use super::syntax::{Operand, OperandKind};
use crate::diag::Diagnostic;
use crate::model::Field;
use crate::text::nearest;
use crate::units::{Kind, Value, exact_duration};
use crate::usage::Usual;
use crate::window::{Function, Series};

/// Shortest window.
const SHORTEST: Duration = Duration::from_secs(1);

/// Longest window.
const LONGEST: Duration = Duration::from_secs(7 * 86_400);

/// Names of other languages for ours.
const FOREIGN: [(&str, Function); 12] = [
    ("mean", Function::Avg),
    ("average", Function::Avg),
    ("max", Function::Peak),
    ("maximum", Function::Peak),
    ("min", Function::Low),
    ("minimum", Function::Low),
    ("delta", Function::Growth),
    ("increase", Function::Growth),
    ("rate", Function::Slope),
    ("trend", Function::Slope),
    ("median", Function::Typical),
    ("normal", Function::Typical),
];

/// The function with the arguments as they stand, where they could be its own; else as it is written.
fn called(function: Function, args: &[Operand]) -> String {
    let words: Option<Vec<String>> = args
        .iter()
        .map(|arg| match &arg.kind {
            OperandKind::Name(name) => Some(name.clone()),
            OperandKind::Literal(value) => Some(value.to_string()),
            OperandKind::Call { .. } => None,
        })
        .collect();
    let wanted = if function == Function::Typical { 1 } else { 2 };
    match words {
        Some(words) if words.len() == wanted => format!("{}({})", function.name(), words.join(", ")),
        _ => function.form().to_owned(),
    }
}

impl Checker {
    /// Whether a field may stand here, as far as it depends on what is judged.
    pub(super) fn allowed(&mut self, field: Field, span: &Range<usize>) -> bool {
        let Place::Judged(judged) = self.place else { return true };
        let Some(why) = judged.refuses(field) else { return true };
        self.errors.push(
            Diagnostic::at(span.clone(), format!("`{field}` means nothing for {}", judged.with_article()), why).help(
                "say in `where` which processes are meant; docs/conditions.md has the table of fields and subjects",
            ),
        );
        false
    }

    pub(super) fn call(&mut self, name: &str, args: &[Operand], span: &Range<usize>) -> Option<Series> {
        let Some(function) = Function::named(name) else { return self.no_function(name, args, span) };
        match self.place {
            Place::Protect => {
                return self.fail(
                    Diagnostic::at(
                        span.clone(),
                        format!("`{name}` is a function over time, and protection takes none"),
                        "needs many samples",
                    )
                    .help("protect by app, owner, path or another lasting trait"),
                );
            }
            Place::Look => {
                return self.fail(
                    Diagnostic::at(
                        span.clone(),
                        format!("`{name}` is a function over time, and this is one look"),
                        "needs many samples",
                    )
                    .help("compare the field itself here; a rule may use the function"),
                );
            }
            Place::Any | Place::Judged(_) => {}
        }
        let wanted: &[&str] = match function {
            Function::Typical => &["field"],
            Function::Until => &["field", "level", "window"],
            _ => &["field", "window"],
        };
        let enough = args.len() == wanted.len() || (function == Function::Growth && args.len() == 1);
        if !enough {
            let form = wanted.join(", ");
            return self.fail(
                Diagnostic::at(span.clone(), format!("`{name}` takes ({form}), and {} stand here", args.len()), "")
                    .help(format!("write it as `{}`", function.form())),
            );
        }
        let field = self.field_of(function, &args[0])?;
        let window = match args.get(wanted.len() - 1) {
            Some(_) if function == Function::Typical => None,
            Some(window) => Some(self.window(function, window)?),
            None => None,
        };
        let level = if function == Function::Until { Some(self.level(field, &args[1])?) } else { None };
        Some(Series { function, field, window, level, place: 0 })
    }

    fn no_function<T>(&mut self, name: &str, args: &[Operand], span: &Range<usize>) -> Option<T> {
        let foreign = FOREIGN.iter().find(|(word, _)| *word == name).map(|(_, function)| *function);
        let near = || Function::named(nearest(name, Function::ALL.map(Function::name))?);
        let help = match foreign.or_else(near) {
            Some(function) => format!("write `{}`", called(function, args)),
            None => format!("functions: {}", Function::ALL.map(Function::name).join(", ")),
        };
        let shown = crate::text::clean(name.as_bytes());
        self.fail(
            Diagnostic::at(span.clone(), format!("there is no function `{shown}`"), "unknown function").help(help),
        )
    }

    fn field_of(&mut self, function: Function, operand: &Operand) -> Option<Field> {
        let OperandKind::Name(name) = &operand.kind else {
            return self.fail(
                Diagnostic::at(
                    operand.span.clone(),
                    format!("`{}` wants a field first", function.name()),
                    "not a field",
                )
                .help(format!("write it as `{}`", function.form())),
            );
        };
        let Some(field) = Field::named(name) else { return self.fail(unknown_field(name, &operand.span)) };
        if !self.allowed(field, &operand.span) {
            return None;
        }
        let (fits, wants) = match function {
            Function::Slope => (field.kind() == Kind::Size, "a size; for anything else there is `growth`"),
            Function::Typical if !Usual::knows(field) => {
                let known = Usual::fields();
                return self.fail(
                    Diagnostic::at(
                        operand.span.clone(),
                        format!("the history of usage does not tell of `{field}`"),
                        "not kept",
                    )
                    .help(format!("`typical` knows {known}")),
                );
            }
            _ => (field.kind().is_ordered(), "a quantity"),
        };
        if fits {
            return Some(field);
        }
        self.fail(
            Diagnostic::at(
                operand.span.clone(),
                format!("`{}` takes {wants}, and `{field}` is {}", function.name(), field.kind().with_article()),
                "not that kind",
            )
            .help(format!("write it as `{}`", function.form())),
        )
    }

    fn window(&mut self, function: Function, operand: &Operand) -> Option<Duration> {
        let example = function.form();
        match &operand.kind {
            OperandKind::Literal(Value::Duration(window)) if (SHORTEST..=LONGEST).contains(window) => Some(*window),
            OperandKind::Literal(Value::Duration(_)) => {
                self.fail(Diagnostic::at(operand.span.clone(), "the window is out of range", "out of range").help(
                    format!("write something from `{}` to `{}`", exact_duration(SHORTEST), exact_duration(LONGEST)),
                ))
            }
            OperandKind::Literal(Value::Count(number)) => self.fail(
                Diagnostic::at(
                    operand.span.clone(),
                    format!("`{number}` is a bare number; a window is a duration"),
                    "",
                )
                .help(format!("write `{number}s` or `{number}m`")),
            ),
            _ => self.fail(
                Diagnostic::at(operand.span.clone(), "a window is a duration", "not a duration")
                    .help(format!("write it as `{example}`")),
            ),
        }
    }

    fn level(&mut self, field: Field, operand: &Operand) -> Option<Value> {
        match &operand.kind {
            OperandKind::Literal(value) if value.kind() == field.kind() => Some(value.clone()),
            _ => self.fail(
                Diagnostic::at(
                    operand.span.clone(),
                    format!("the level that `{field}` is to reach is {}", field.kind().with_article()),
                    "not that kind",
                )
                .help(format!("write it as `until({field}, {}, 10m)`", field.kind().example())),
            ),
        }
    }
}
