//! A rule written out for a person: every key with a comment that says why it has that value.

use std::fmt::Write;

/// Columns after which comments stand, where the values are shorter.
const COMMENTS: usize = 58;

/// A rule as text, not yet loaded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Written {
    /// Its name.
    pub name: String,
    lines: Vec<(&'static str, String, String)>,
}

impl Written {
    /// A rule of that name; the name is made fit for one.
    pub fn new(name: &str, comment: &str) -> Written {
        let fits = |c: char| if c.is_alphanumeric() || matches!(c, '-' | '_' | '.') { c } else { '-' };
        let name: String = name.chars().map(fits).take(64).collect();
        let first = ("name", string(&name), comment.to_owned());
        Written { name, lines: vec![first] }
    }

    /// A key with a text.
    #[must_use]
    pub fn text(self, key: &'static str, value: &str, comment: &str) -> Written {
        self.raw(key, string(value), comment)
    }

    /// A key with anything else.
    #[must_use]
    pub fn raw(mut self, key: &'static str, value: String, comment: &str) -> Written {
        self.lines.push((key, value, comment.to_owned()));
        self
    }

    /// What stands under a key.
    pub fn value(&self, key: &str) -> Option<&str> {
        self.lines.iter().find(|(known, ..)| *known == key).map(|(_, value, _)| value.as_str())
    }

    /// `[[rule]]` and its lines.
    pub fn toml(&self) -> String {
        let mut text = String::from("[[rule]]\n");
        for (key, value, comment) in &self.lines {
            let line = format!("{key:<8} = {value}");
            // Writing to a string cannot fail.
            let _ = match comment.is_empty() {
                true => writeln!(text, "{line}"),
                false if line.chars().count() <= COMMENTS => writeln!(text, "{line:<COMMENTS$}  # {comment}"),
                false => writeln!(text, "# {comment}\n{line}"),
            };
        }
        text
    }
}

/// A TOML string: as it is between single quotes where it can be.
fn string(text: &str) -> String {
    if text.contains(['\'', '\n']) || text.chars().any(char::is_control) {
        let escape = |c: char| match c {
            '"' => "\\\"".to_owned(),
            '\\' => "\\\\".to_owned(),
            c if c.is_control() => format!("\\u{:04X}", c as u32),
            c => c.to_string(),
        };
        format!("\"{}\"", text.chars().map(escape).collect::<String>())
    } else {
        format!("'{text}'")
    }
}

/// A whole size for a limit: rounded up to a figure that a person would write.
pub(super) fn size(bytes: f64) -> String {
    const MIB: f64 = 1024.0 * 1024.0;
    let mib = bytes / MIB;
    let step = match mib {
        mib if mib < 100.0 => 5.0,
        mib if mib < 1000.0 => 10.0,
        _ => 50.0,
    };
    format!("{} MiB", ((mib / step).ceil() * step).max(step))
}

/// A whole percentage, rounded up to five.
pub(super) fn percent(value: f64) -> String {
    format!("{}%", (value / 5.0).ceil() * 5.0)
}
