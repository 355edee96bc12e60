//! The event lines of a watcher: time, what happened in one word, case, who, and what comes next.

use jiff::Timestamp;

use super::style::{Label, Styled};
use super::table::wrap;
use super::when;

/// One line.
#[derive(Debug, Clone)]
pub struct EventLine {
    pub at: Timestamp,
    pub word: &'static str,
    pub label: Label,
    pub case: Option<u64>,
    /// App, checked PID and owner.
    pub who: String,
    pub text: String,
}

/// Under the text of the first row: time and word stand before it.
const INDENT: usize = 21;

impl EventLine {
    /// The line, or a few where the terminal is too narrow: no word is ever cut.
    pub fn render(&self, width: Option<usize>) -> String {
        let case = self.case.map(|case| format!("case {case}  ")).unwrap_or_default();
        let who = if self.who.is_empty() { String::new() } else { format!("{}  ", self.who) };
        let rows: Vec<String> = format!("{case}{who}{}", self.text)
            .lines()
            .flat_map(|paragraph| {
                wrap(paragraph, width.map_or(usize::MAX, |width| width.saturating_sub(INDENT).max(40)))
            })
            .collect();
        let word = format!("{:<9}", self.word);
        format!("{}  {}  {}", when::clock(self.at), Styled(self.label, word), rows.join(&format!("\n{:INDENT$}", "")))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_narrow_terminal_gets_rows_under_the_text() {
        let line = EventLine {
            at: Timestamp::UNIX_EPOCH,
            word: "suspended",
            label: Label::Notice,
            case: Some(47),
            who: "labelpress 51907-kqm (ines)".to_owned(),
            text: "until 09:33:05; was 812 MiB, limit 750 MiB; next: terminate 09:34:20\nIt leaks.".to_owned(),
        };
        let shown = |width| anstream::adapter::strip_str(&line.render(width)).to_string();
        assert_eq!(shown(None).lines().count(), 2);
        insta::assert_snapshot!(shown(Some(72)).split_once("  ").unwrap().1, @r"
        suspended  case 47  labelpress 51907-kqm (ines)  until
                             09:33:05; was 812 MiB, limit 750 MiB; next:
                             terminate 09:34:20
                             It leaks.
        ");
    }
}
