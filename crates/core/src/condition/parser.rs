//! Tokens to syntax. `not` binds closest, then `and`, then `or`.

use std::ops::Range;

use super::lexer::{Placed, Token};
use super::syntax::{Node, NodeKind, Operand, OperandKind};
use super::{Comparison, DEEPEST};
use crate::diag::Diagnostic;

/// The whole condition, or the first place at which it stops making sense.
pub(super) fn parse(tokens: &[Placed], end: usize) -> Result<Node, Diagnostic> {
    let mut parser = Parser { tokens, at: 0, end, depth: 0 };
    if tokens.is_empty() {
        return Err(Diagnostic::at(0..end, "the condition is empty", "nothing to judge")
            .help("write for example `memory.held > 750 MiB`"));
    }
    let node = parser.any()?;
    match parser.next() {
        None => Ok(node),
        Some(Placed { token: Token::Close, span }) => {
            Err(Diagnostic::at(span.clone(), "this parenthesis was never opened", "closes nothing")
                .help("remove it, or add the `(`"))
        }
        Some(extra) => {
            Err(Diagnostic::at(extra.span.clone(), "the condition goes on where it should end", "not expected here")
                .help("join two conditions with `and` or `or`"))
        }
    }
}

struct Parser<'t> {
    tokens: &'t [Placed],
    at: usize,
    end: usize,
    depth: usize,
}

type Parsed = Result<Node, Diagnostic>;

impl<'t> Parser<'t> {
    fn peek(&self) -> Option<&'t Token> {
        self.tokens.get(self.at).map(|placed| &placed.token)
    }

    fn next(&mut self) -> Option<&'t Placed> {
        let placed = self.tokens.get(self.at);
        self.at += usize::from(placed.is_some());
        placed
    }

    fn take(&mut self, token: &Token) -> bool {
        let found = self.peek() == Some(token);
        self.at += usize::from(found);
        found
    }

    /// The place of the next token, or of the end.
    fn here(&self) -> Range<usize> {
        self.tokens.get(self.at).map_or(self.end..self.end, |placed| placed.span.clone())
    }

    fn any(&mut self) -> Parsed {
        self.joined(&Token::Or, Parser::all, NodeKind::Any)
    }

    fn all(&mut self) -> Parsed {
        self.joined(&Token::And, Parser::not, NodeKind::All)
    }

    fn joined(&mut self, joint: &Token, part: fn(&mut Self) -> Parsed, make: fn(Vec<Node>) -> NodeKind) -> Parsed {
        let first = part(self)?;
        let mut parts = vec![first];
        while self.take(joint) {
            parts.push(part(self)?);
        }
        if parts.len() == 1 {
            return parts.pop().ok_or_else(|| self.missing("a condition"));
        }
        let span = parts[0].span.start..parts[parts.len() - 1].span.end;
        Ok(Node { kind: make(parts), span })
    }

    fn not(&mut self) -> Parsed {
        let start = self.here();
        if !self.take(&Token::Not) {
            return self.primary();
        }
        self.deeper(&start)?;
        let inner = self.not()?;
        self.depth -= 1;
        let span = start.start..inner.span.end;
        Ok(Node { kind: NodeKind::Not(Box::new(inner)), span })
    }

    fn deeper(&mut self, at: &Range<usize>) -> Result<(), Diagnostic> {
        self.depth += 1;
        if self.depth > DEEPEST {
            return Err(Diagnostic::at(at.clone(), format!("nested deeper than {DEEPEST}"), "one too many")
                .help("split the condition into several rules"));
        }
        Ok(())
    }

    fn primary(&mut self) -> Parsed {
        let start = self.here();
        if self.take(&Token::Open) {
            self.deeper(&start)?;
            let inner = self.any()?;
            self.depth -= 1;
            return if self.take(&Token::Close) {
                Ok(inner)
            } else {
                Err(Diagnostic::at(start, "this parenthesis is never closed", "opened here").help("add the `)`"))
            };
        }
        let left = self.operand()?;
        // `not in` and `not ~` read as they sound.
        let next = self.tokens.get(self.at + 1).map(|placed| &placed.token);
        let turned = matches!((self.peek(), next), (Some(Token::Not), Some(Token::In | Token::Like)));
        self.at += usize::from(turned);
        let (kind, end) = match self.peek() {
            Some(Token::Compare(comparison)) => {
                let sign = (*comparison, self.here());
                self.at += 1;
                let right = self.right_of(*comparison, &sign.1)?;
                let end = right.span.end;
                (NodeKind::Compare { left, sign, right }, end)
            }
            Some(Token::Like) => {
                self.at += 1;
                let right = self.operand()?;
                let end = right.span.end;
                (NodeKind::Like { left, right }, end)
            }
            Some(Token::In) => {
                self.at += 1;
                let (items, end) = self.list()?;
                (NodeKind::In { left, items }, end)
            }
            _ => {
                let end = left.span.end;
                (NodeKind::Alone(left), end)
            }
        };
        let node = Node { kind, span: start.start..end };
        Ok(match turned {
            true => Node { span: node.span.clone(), kind: NodeKind::Not(Box::new(node)) },
            false => node,
        })
    }

    fn right_of(&mut self, comparison: Comparison, sign: &Range<usize>) -> Result<Operand, Diagnostic> {
        if matches!(self.peek(), Some(Token::Compare(Comparison::Equal))) && comparison == Comparison::Equal {
            return Err(Diagnostic::at(
                sign.start..self.here().end,
                "`==` is not a word of conditions",
                "not known here",
            )
            .help("write `=`"));
        }
        self.operand()
    }

    fn list(&mut self) -> Result<(Vec<Operand>, usize), Diagnostic> {
        let open = self.here();
        if !self.take(&Token::Open) {
            return Err(Diagnostic::at(open, "`in` wants a list", "no `(` here")
                .help("write `in (\"labelpress\", \"sheetlamp\")`"));
        }
        let mut items = vec![self.operand()?];
        while self.take(&Token::Comma) {
            items.push(self.operand()?);
        }
        let close = self.here();
        if !self.take(&Token::Close) {
            return Err(Diagnostic::at(open, "this list is never closed", "opened here").help("add the `)`"));
        }
        Ok((items, close.end))
    }

    fn operand(&mut self) -> Result<Operand, Diagnostic> {
        let span = self.here();
        let kind = match self.peek() {
            Some(Token::Literal(value)) => OperandKind::Literal(value.clone()),
            Some(Token::Name(name)) => {
                self.at += 1;
                return self.name_or_call(name, span);
            }
            _ => return Err(self.missing("a field or a value")),
        };
        self.at += 1;
        Ok(Operand { kind, span })
    }

    fn name_or_call(&mut self, name: &str, span: Range<usize>) -> Result<Operand, Diagnostic> {
        let open = self.here();
        if !self.take(&Token::Open) {
            return Ok(Operand { kind: OperandKind::Name(name.to_owned()), span });
        }
        // Arguments are operands; a call inside a call is nested no deeper than anything else.
        self.deeper(&open)?;
        let mut args = Vec::new();
        if self.peek() != Some(&Token::Close) {
            args.push(self.operand()?);
            while self.take(&Token::Comma) {
                args.push(self.operand()?);
            }
        }
        self.depth -= 1;
        let end = self.here().end;
        if !self.take(&Token::Close) {
            return Err(Diagnostic::at(open, "this parenthesis is never closed", "opened here").help("add the `)`"));
        }
        Ok(Operand { kind: OperandKind::Call { name: name.to_owned(), args }, span: span.start..end })
    }

    fn missing(&self, what: &str) -> Diagnostic {
        let here = self.here();
        let label = if here.start == self.end { "the condition ends here" } else { "this stands in its place" };
        Diagnostic::at(here, format!("{what} is missing"), label).help("a comparison reads `memory.held > 750 MiB`")
    }
}
