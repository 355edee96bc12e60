//! The event lines of a watcher: time, what happened in one word, case, who, and what comes next.

use jiff::tz::TimeZone;
use sophron_core::happening::Line;

use super::style::{Label, Styled};
use super::table::wrap;

/// Under the text of the first row: time and word stand before it.
pub const INDENT: usize = 21;

/// The line, or a few where the terminal is too narrow: no word is ever cut.
pub fn render(line: &Line, width: Option<usize>) -> String {
    render_in(line, width, &TimeZone::system())
}

/// The same with its time in another zone.
pub fn render_in(line: &Line, width: Option<usize>, zone: &TimeZone) -> String {
    let case = line.case.map(|case| format!("case {case}  ")).unwrap_or_default();
    let who = if line.who.is_empty() { String::new() } else { format!("{}  ", line.who) };
    let rows: Vec<String> = format!("{case}{who}{}", line.text)
        .lines()
        .flat_map(|paragraph| wrap(paragraph, width.map_or(usize::MAX, |width| width.saturating_sub(INDENT).max(40))))
        .collect();
    let word = format!("{:<9}", line.word);
    format!(
        "{}  {}  {}",
        line.at.to_zoned(zone.clone()).strftime("%H:%M:%S"),
        Styled(Label::from(line.tone), word),
        rows.join(&format!("\n{:INDENT$}", ""))
    )
}

#[cfg(test)]
mod tests {
    use jiff::Timestamp;
    use sophron_core::severity::Tone;

    use super::*;

    #[test]
    fn a_narrow_terminal_gets_rows_under_the_text() {
        let line = Line {
            at: Timestamp::UNIX_EPOCH,
            word: "suspended",
            tone: Tone::Notice,
            case: Some(47),
            who: "labelpress 51907-kqm (ines)".to_owned(),
            text: "until 09:33:05; was 812 MiB, limit 750 MiB; next: terminate 09:34:20\nIt leaks.".to_owned(),
        };
        let shown = |width| anstream::adapter::strip_str(&render(&line, width)).to_string();
        assert_eq!(shown(None).lines().count(), 2);
        insta::assert_snapshot!(shown(Some(72)).split_once("  ").unwrap().1, @r"
        suspended  case 47  labelpress 51907-kqm (ines)  until
                             09:33:05; was 812 MiB, limit 750 MiB; next:
                             terminate 09:34:20
                             It leaks.
        ");
    }
}
