//! A document as text for a terminal.

use jiff::tz::TimeZone;
use sophron_core::document::{Block, Cell, Chart, Document, Entry, Plot, Table, TableRow, Text};

use super::style::{Label, Styled};
use super::table::Column;
use super::timeline::Canvas;
use super::{paragraph, plot, table};

/// The width where there is no terminal.
const PAGE: usize = 110;

/// Laid out, fitted to the width.
pub fn text(document: &Document, width: Option<usize>) -> String {
    let mut text = String::new();
    for (place, block) in document.blocks.iter().enumerate() {
        // Drawings one after the other share their times.
        let shares = matches!(document.blocks.get(place + 1), Some(Block::Plot(_)));
        let after_drawing =
            place.checked_sub(1).is_some_and(|at| matches!(document.blocks.get(at), Some(Block::Plot(_))));
        if matches!(block, Block::Heading(_)) && (document.has_sections() || after_drawing) {
            text.push('\n');
        }
        text.push_str(&match block {
            Block::Plot(plot) => plot::text(plot, 0, width, !shares),
            block => of_block(block, document.indent, width),
        });
    }
    text
}

fn of_block(block: &Block, indent: usize, width: Option<usize>) -> String {
    match block {
        Block::Head(pieces) => {
            let heading = |(place, piece): (usize, &String)| match place {
                0 => Styled(Label::Heading, piece).to_string(),
                _ => piece.clone(),
            };
            table::flow(&pieces.iter().enumerate().map(heading).collect::<Vec<_>>(), width)
        }
        Block::Verdict(tone, text) => paragraph::styled("", 0, text, width, tone.map_or(Label::Heading, Label::from)),
        Block::Gap => "\n".to_owned(),
        Block::Heading(text) => format!("{}\n", Styled(Label::Heading, text)),
        Block::Paragraph(text) => paragraph::under("", 0, text, width),
        Block::Entry(entry) => {
            let line = |(place, line): (usize, &Text)| {
                of_line(entry, if place == 0 { &entry.word } else { "" }, line, indent, width)
            };
            entry.lines.iter().enumerate().map(line).collect()
        }
        Block::List(lines) => lines.iter().map(|line| paragraph::under("-", 2, line, width)).collect(),
        Block::Plot(plot) => plot::text(plot, 0, width, true),
        Block::Tiles(plots) => of_tiles(plots, width),
        Block::Table(table) => of_table(table, width),
    }
}

/// A row each: the name, the course, the highest.
fn of_tiles(plots: &[Plot], width: Option<usize>) -> String {
    let rows: Vec<Vec<String>> = plots.iter().map(|plot| plot::tile(plot, width)).collect();
    let columns = [
        Column::text("app").gives_way(),
        Column::text("owner").gives_way(),
        Column::text("over the time"),
        Column::text("highest"),
    ];
    table::render(&columns, &rows, width)
}

fn of_table(of: &Table, width: Option<usize>) -> String {
    let columns: Vec<Column> = of
        .columns
        .iter()
        .enumerate()
        .map(|(place, heading)| match place {
            0 => Column::text(heading.clone()).gives_way(),
            _ => Column::number(heading.clone()),
        })
        .collect();
    let cell = |cell: &Cell| if cell.text.is_empty() { "·".to_owned() } else { cell.text.clone() };
    let row = |row: &TableRow| {
        let name = if row.name.1.is_empty() { row.name.0.clone() } else { format!("{} {}", row.name.0, row.name.1) };
        // Words that would widen a column stand beneath the table.
        let cells = row.cells.iter().filter(|of| of.value.is_some() || of.text.is_empty()).map(cell);
        [name].into_iter().chain(cells).collect::<Vec<_>>()
    };
    let caption = if of.caption.is_empty() { String::new() } else { paragraph::under("", 0, &of.caption, width) };
    let rows: Vec<Vec<String>> = of.rows.iter().map(row).collect();
    let mut text = caption + &table::render(&columns, &rows, width);
    for row in &of.rows {
        for words in row.cells.iter().filter(|cell| cell.value.is_none() && !cell.text.is_empty()) {
            text.push_str(&paragraph::under("", 0, &format!("{}: {}", row.name.0, words.text), width));
        }
    }
    text
}

fn of_line(entry: &Entry, word: &str, line: &Text, indent: usize, width: Option<usize>) -> String {
    let label = entry.tone.map_or(Label::Heading, Label::from);
    match line {
        Text::Words(words) => paragraph::under(word, indent, words, width),
        Text::Marked(words) => paragraph::styled(word, indent, words, width, label),
        Text::Command(command, what) if what.is_empty() => {
            paragraph::under(word, indent, &format!("next  {}", Styled(Label::Notice, command)), width)
        }
        Text::Title(what, when) => {
            let line = format!("{what}   {when}");
            format!("\n{}", paragraph::styled(word, indent, &line, width, label))
        }
        Text::Plot(plot) => {
            let steps = plot::steps(plot);
            plot::text(plot, indent, width, false) + &paragraph::under("", indent, &steps, width)
        }
        Text::Command(command, what) => {
            paragraph::under(word, indent, &format!("{}   {what}", Styled(Label::Notice, command)), width)
        }
        Text::Verbatim(drawn) => format!("{}{drawn}\n", Styled(label, &format!("{word:<indent$}"))),
        Text::Chart(chart) => of_chart(chart, word, indent, width),
    }
}

/// The readings against the limit, with what was done beneath.
fn of_chart(chart: &Chart, word: &str, indent: usize, width: Option<usize>) -> String {
    let Some(first) = chart.points.first() else { return String::new() };
    let columns = width.unwrap_or(PAGE).saturating_sub(indent).clamp(24, 100);
    let zone = TimeZone::system();
    let canvas = Canvas { from: first.0, to: chart.until, columns, zone: &zone };
    let drawn = canvas.bars(&chart.points, chart.limit, chart.falls);
    let lines = [drawn.trim_end().to_owned(), canvas.marks(&chart.marks), canvas.axis(), chart.legend.to_owned()];
    let margin = |place: usize| if place == 0 { word } else { "" };
    let line = |(place, line): (usize, &String)| {
        format!("{}{line}\n", Styled(Label::Heading, &format!("{:<indent$}", margin(place))))
    };
    lines.iter().enumerate().map(line).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn plain(document: &Document, width: Option<usize>) -> String {
        anstream::adapter::strip_str(&text(document, width)).to_string()
    }

    fn document() -> Document {
        let mut document = Document::new(8);
        document.push(Block::Head(vec!["case 7".into(), "mossgate-desk-03".into(), "rule press-leak".into()]));
        document.push(Block::Verdict(None, "it held more memory than it may".into()));
        document.entry(
            "who",
            ["labelpress 51907-kqm (ines), user 1001, started by process 1", "runs /opt/mossgate/labelpress"],
        );
        document.entry("none", Vec::<String>::new());
        let command = Text::Command("sophron inspect 51907-kqm".into(), "what it waits for".into());
        document.entry("next", [command]);
        document.push(Block::Gap);
        document.push(Block::Heading("to be sent".into()));
        document.push(Block::Paragraph("Your program labelpress was ended because it held more than 750 MiB.".into()));
        document
    }

    /// Every word is there at every width, no line is wider than the terminal, and what belongs to a word stands beside it.
    #[test]
    fn a_document_fits_every_width() {
        let squeezed = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
        let whole = squeezed(&plain(&document(), None));
        for width in [48, 72, 100, 200] {
            let told = plain(&document(), Some(width));
            assert!(told.lines().all(|line| line.chars().count() <= width), "{width}:\n{told}");
            assert_eq!(squeezed(&told), whole, "{width}");
            let beside = told.lines().skip_while(|line| !line.starts_with("who     ")).skip(1);
            assert!(beside.take_while(|line| !line.starts_with("next")).all(|line| line.starts_with("        ")));
        }
        assert!(!whole.contains("none"), "an entry without lines is left out");
    }

    /// A chart is drawn as wide as there is room, with its marks and its legend beneath.
    #[test]
    fn a_chart_is_fitted_as_well() {
        let at = |second: i64| jiff::Timestamp::from_second(1_795_505_400 + second).unwrap();
        let chart = Chart {
            points: (0..60).map(|second| (at(second), f64::from(u32::try_from(second).unwrap()))).collect(),
            limit: 30.0,
            falls: false,
            until: at(90),
            marks: vec![(at(30), 'b'), (at(80), 't')],
            legend: "b begins, t ended",
        };
        let mut document = Document::new(8);
        document.entry("why", [Text::Chart(chart)]);
        for width in [40, 80, 110] {
            let told = plain(&document, Some(width));
            let lines: Vec<&str> = told.lines().collect();
            assert_eq!((lines.len(), lines[0].starts_with("why     ")), (4, true), "{told}");
            assert!(lines[1].find('b') < lines[1].find('t') && lines[3].ends_with("b begins, t ended"), "{told}");
            assert!(lines.iter().all(|line| line.chars().count() <= width), "{told}");
        }
    }
}
