//! Text to tokens, each with its place.

use std::ops::Range;

use super::Comparison;
use crate::diag::Diagnostic;
use crate::units::{self, QuantityError, Value};

/// A token.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Token {
    And,
    Or,
    Not,
    In,
    Like,
    Open,
    Close,
    Comma,
    Compare(Comparison),
    Name(String),
    Literal(Value),
}

/// A token and where it stands.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Placed {
    pub token: Token,
    pub span: Range<usize>,
}

/// All tokens, or every spelling error.
pub(super) fn tokens(text: &str) -> Result<Vec<Placed>, Vec<Diagnostic>> {
    let mut lexer = Lexer { text, at: 0, tokens: Vec::new(), errors: Vec::new() };
    while let Some(c) = lexer.peek() {
        lexer.token(c);
    }
    if lexer.errors.is_empty() { Ok(lexer.tokens) } else { Err(lexer.errors) }
}

struct Lexer<'t> {
    text: &'t str,
    at: usize,
    tokens: Vec<Placed>,
    errors: Vec<Diagnostic>,
}

const SIGNS: [(&str, Token); 10] = [
    ("<=", Token::Compare(Comparison::AtMost)),
    (">=", Token::Compare(Comparison::AtLeast)),
    ("!=", Token::Compare(Comparison::NotEqual)),
    ("<", Token::Compare(Comparison::Less)),
    (">", Token::Compare(Comparison::Greater)),
    ("=", Token::Compare(Comparison::Equal)),
    ("~", Token::Like),
    ("(", Token::Open),
    (")", Token::Close),
    (",", Token::Comma),
];

/// Signs of other languages, and ours.
const FOREIGN: [(&str, &str); 6] = [("&&", "and"), ("||", "or"), ("==", "="), ("<>", "!="), ("=~", "~"), ("!", "not")];

impl Lexer<'_> {
    fn rest(&self) -> &str {
        &self.text[self.at..]
    }

    fn peek(&self) -> Option<char> {
        self.rest().chars().next()
    }

    fn token(&mut self, c: char) {
        let start = self.at;
        if c.is_whitespace() {
            self.at += c.len_utf8();
        } else if c == '#' {
            self.at += self.rest().find('\n').unwrap_or(self.rest().len());
        } else if c.is_ascii_digit() || (c == '-' && self.rest()[1..].starts_with(|next: char| next.is_ascii_digit())) {
            self.number();
        } else if c.is_alphabetic() || c == '_' {
            self.word();
        } else if c == '"' || c == '\'' {
            self.quoted(c);
        } else if let Some((foreign, ours)) =
            FOREIGN.iter().find(|(sign, _)| self.rest().starts_with(sign) && !self.rest().starts_with("!="))
        {
            self.at += foreign.len();
            self.errors.push(
                Diagnostic::at(start..self.at, format!("`{foreign}` is not a word of conditions"), "not known here")
                    .help(format!("write `{ours}`")),
            );
        } else if let Some((sign, token)) = SIGNS.iter().find(|(sign, _)| self.rest().starts_with(sign)) {
            self.at += sign.len();
            self.push(start, token.clone());
        } else if matches!(c, '/' | '*' | '?' | '[' | '@' | ':' | '$') {
            self.unquoted();
        } else {
            self.at += c.len_utf8();
            let shown = crate::text::clean(c.to_string().as_bytes());
            self.errors.push(Diagnostic::at(
                start..self.at,
                format!("`{shown}` has no meaning in a condition"),
                "remove it",
            ));
        }
    }

    /// A path or a pattern without its quotes, with what of it was taken for a name.
    fn unquoted(&mut self) {
        let ends = |c: char| c.is_whitespace() || matches!(c, ')' | ',' | '"' | '\'');
        let mut start = self.at;
        if self.tokens.last().is_some_and(|last| last.span.end == start && matches!(last.token, Token::Name(_))) {
            start = self.tokens.pop().map_or(start, |last| last.span.start);
        }
        self.at += self.rest().find(ends).unwrap_or(self.rest().len());
        let shown = crate::text::clean(&self.text.as_bytes()[start..self.at]);
        self.errors.push(
            Diagnostic::at(start..self.at, "a path or a pattern is text, and stands in quotes", "quote it")
                .help(format!("write `\"{shown}\"`")),
        );
    }

    fn push(&mut self, start: usize, token: Token) {
        self.tokens.push(Placed { token, span: start..self.at });
    }

    /// A name, or one of the words: letters, digits, `_`, `.` and inner `-`.
    fn word(&mut self) {
        let start = self.at;
        let length = self.rest().find(|c: char| !(c.is_alphanumeric() || matches!(c, '_' | '.' | '-')));
        let word = &self.rest()[..length.unwrap_or(self.rest().len())];
        let word = word.trim_end_matches(['.', '-']).to_owned();
        self.at += word.len();
        let token = match word.as_str() {
            "and" => Token::And,
            "or" => Token::Or,
            "not" => Token::Not,
            "in" => Token::In,
            "over" => Token::Compare(Comparison::Greater),
            "under" => Token::Compare(Comparison::Less),
            "is" if self.follows("not") => Token::Compare(Comparison::NotEqual),
            "is" => Token::Compare(Comparison::Equal),
            "at" if self.follows("most") => Token::Compare(Comparison::AtMost),
            "at" if self.follows("least") => Token::Compare(Comparison::AtLeast),
            _ => Token::Name(word),
        };
        self.push(start, token);
    }

    /// Takes the given word, if it comes next.
    fn follows(&mut self, word: &str) -> bool {
        let rest = self.rest();
        let blank = rest.len() - rest.trim_start().len();
        let found = rest[blank..]
            .strip_prefix(word)
            .is_some_and(|after| !after.starts_with(|c: char| c.is_alphanumeric() || matches!(c, '_' | '.' | '-')));
        if found && blank > 0 {
            self.at += blank + word.len();
        }
        found && blank > 0
    }

    fn quoted(&mut self, quote: char) {
        let start = self.at;
        let mut value = String::new();
        let mut escaped = false;
        for (offset, c) in self.text[start + 1..].char_indices() {
            match c {
                _ if escaped => {
                    value.push(c);
                    escaped = false;
                }
                '\\' => escaped = true,
                _ if c == quote => {
                    self.at = start + 1 + offset + 1;
                    self.push(start, Token::Literal(Value::Text(value)));
                    return;
                }
                _ => value.push(c),
            }
        }
        self.at = self.text.len();
        self.errors.push(
            Diagnostic::at(start..start + 1, "the text does not end", "begins here")
                .help(format!("close it with `{quote}`")),
        );
    }

    /// A number with its unit: `750 MiB`, `5 MiB/s`, `90%`, `1h30m`, `8`.
    fn number(&mut self) {
        let start = self.at;
        let negative = self.rest().starts_with('-');
        self.at += usize::from(negative);
        let value = self.one_quantity();
        let value = match value {
            Ok(Value::Duration(first)) => self.further_durations(first),
            other => other,
        };
        let span = start..self.at;
        match value {
            Ok(Value::Count(count)) if negative => self.push(start, Token::Literal(Value::Count(-count))),
            Ok(value) if negative => self.errors.push(
                Diagnostic::at(span, format!("{} cannot be negative", value.kind().with_article()), "below zero")
                    .help("write zero or more"),
            ),
            Ok(value) => self.push(start, Token::Literal(value)),
            Err(error) => self.errors.push(quantity_error(span, &self.text[start..self.at], &error)),
        }
    }

    fn one_quantity(&mut self) -> Result<Value, QuantityError> {
        let digits = self.rest().find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(self.rest().len());
        let number = self.rest()[..digits].to_owned();
        self.at += digits;
        let unit = self.unit();
        units::quantity(&number, &unit)
    }

    /// The unit after a number: directly behind it, or after a space when the word is no word of the language.
    fn unit(&mut self) -> String {
        let rest = self.rest();
        let blank = rest.len() - rest.trim_start_matches([' ', '\t']).len();
        let after = &rest[blank..];
        if after.starts_with('%') {
            self.at += blank + 1;
            return "%".to_owned();
        }
        let letters = |text: &str| text.find(|c: char| !c.is_alphabetic()).unwrap_or(text.len());
        let mut length = letters(after);
        let reserved = ["and", "or", "not", "in", "is", "over", "under", "at"];
        if length == 0 || (blank > 0 && reserved.contains(&&after[..length])) {
            return String::new();
        }
        if let Some(per) = after[length..].strip_prefix('/') {
            length += 1 + letters(per);
        }
        let unit = after[..length].to_owned();
        self.at += blank + length;
        unit
    }

    fn further_durations(&mut self, first: std::time::Duration) -> Result<Value, QuantityError> {
        let mut total = first;
        while self.peek().is_some_and(|c| c.is_ascii_digit()) {
            match self.one_quantity()? {
                Value::Duration(more) => total += more,
                _ => return Err(QuantityError::OutOfRange),
            }
        }
        Ok(Value::Duration(total))
    }
}

fn quantity_error(span: Range<usize>, written: &str, error: &QuantityError) -> Diagnostic {
    let number = written.trim_end_matches(|c: char| !c.is_ascii_digit());
    match error {
        QuantityError::UnknownUnit { unit, nearest } => {
            let cores = matches!(unit.as_str(), "core" | "cores").then(|| number.parse::<f64>().ok()).flatten();
            let mend = match nearest {
                None if cores.is_some() => {
                    format!("write `{}%`: `cpu` is percent of one core", cores.unwrap_or_default() * 100.0)
                }
                Some("%") => format!("write `{number}%`"),
                Some(unit) => format!("write `{number} {unit}`"),
                None => "sizes: B kB MB GB TB KiB MiB GiB TiB; times: ms s m h d; rates: a size and a time, as MiB/s; shares: %".to_owned(),
            };
            Diagnostic::at(span, format!("`{unit}` is not a unit"), "unknown unit").help(mend)
        }
        QuantityError::OutOfRange => Diagnostic::at(span, "the number is out of range", "too large to be meant")
            .help("write a smaller number or a larger unit"),
        QuantityError::TooFine => {
            Diagnostic::at(span, error.to_string(), "finer than a millisecond").help("write it as `500ms` or `2s`")
        }
    }
}
