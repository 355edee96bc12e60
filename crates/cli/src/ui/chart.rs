//! A line of bars: how a figure went over time.

/// Eighths of a full bar.
const BARS: [char; 9] = ['·', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// A drawn line.
#[derive(Debug, PartialEq)]
pub struct Drawn {
    /// The bars.
    pub line: String,
    /// How many there are.
    pub columns: usize,
    /// What a full bar stands for.
    pub full: f64,
}

/// At most so many bars, each the mean of its share of the figures. A full bar is 100, or the next whole hundred above
/// the largest.
pub fn bars(figures: &[f64], most: usize) -> Drawn {
    let columns = figures.len().min(most.max(1));
    let share = |column: usize| {
        let (from, to) = (column * figures.len() / columns, (column + 1) * figures.len() / columns);
        let part = &figures[from..to.max(from + 1)];
        part.iter().sum::<f64>() / part.len() as f64
    };
    let means: Vec<f64> = (0..columns).map(share).collect();
    let largest = means.iter().copied().fold(0.0, f64::max);
    // Rounding of the measuring does not make a second core.
    let full = 100.0 * ((largest - 3.0) / 100.0).ceil().max(1.0);
    let bar = |mean: &f64| {
        let eighths = (mean / full * 8.0).round().clamp(0.0, 8.0) as usize;
        // A little is not nothing.
        BARS[if *mean >= 0.5 { eighths.max(1) } else { eighths }]
    };
    Drawn { line: means.iter().map(bar).collect(), columns, full }
}

/// The bar that reaches so many eighths; one at least, so that little is not taken for nothing.
pub fn bar(eighths: f64) -> char {
    BARS[(eighths.round() as usize).clamp(1, 8)]
}

/// A column each in so many rows, the top one first; a blank where nothing was seen, and beneath what is beyond the full height all
/// of it.
pub fn rows(cells: &[Option<f64>], full: f64, rows: usize) -> Vec<String> {
    let row = |row: usize| {
        let below = (rows - 1 - row) as f64;
        let bar = |cell: &Option<f64>| {
            let Some(value) = cell else { return ' ' };
            let eighths = (value / full * 8.0 * rows as f64).round().clamp(0.0, 8.0 * rows as f64) - below * 8.0;
            match (eighths >= 1.0, below > 0.0) {
                (true, _) => BARS[(eighths as usize).min(8)],
                (false, true) => ' ',
                // A little is not nothing.
                (false, false) => BARS[usize::from(*value > 0.0)],
            }
        };
        cells.iter().map(bar).collect()
    };
    (0..rows).map(row).collect()
}

/// A course that varies by less than that part of its highest is a straight line, which says less than the word.
const STRAIGHT: f64 = 0.1;

/// One that varies by less than that does not vary.
const STEADY: f64 = 0.01;

/// A column each, from nothing to the highest of them; a blank where nothing was seen. The highest leaves room to the row
/// above.
pub fn columns(cells: &[Option<f64>]) -> String {
    let seen = || cells.iter().copied().flatten();
    let (highest, lowest) = (seen().fold(0.0, f64::max), seen().fold(f64::INFINITY, f64::min));
    if highest - lowest <= highest * STRAIGHT {
        let change = seen().next_back().unwrap_or(0.0) - seen().next().unwrap_or(0.0);
        return match () {
            () if highest - lowest <= highest * STEADY => "steady",
            () if change > highest * STEADY => "up, by less than a tenth",
            () if change < -highest * STEADY => "down, by less than a tenth",
            () => "steady within a tenth",
        }
        .to_owned();
    }
    let eighths = |value: f64| value / highest * 7.0;
    cells.iter().map(|cell| cell.map_or(' ', |value| bar(eighths(value)))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_little_shows_and_several_cores_scale() {
        let drawn = bars(&[0.0, 1.0, 50.0, 100.0, 101.0], 60);
        assert_eq!(drawn, Drawn { line: "·▁▄██".to_owned(), columns: 5, full: 100.0 });
        let drawn = bars(&[390.0, 190.0, 210.0, 0.0], 2);
        assert_eq!(drawn, Drawn { line: "█▃".to_owned(), columns: 2, full: 300.0 });
        assert_eq!(bars(&[], 60).columns, 0);
    }

    #[test]
    fn rows_stand_on_one_another() {
        let cells = [Some(0.0), Some(0.1), Some(50.0), Some(100.0), None, Some(140.0)];
        assert_eq!(rows(&cells, 100.0, 2), ["   █ █", "·▁██ █"]);
        assert_eq!(rows(&cells, 100.0, 1), ["·▁▄█ █"]);
    }

    /// A straight line says less than a word, and the word says which way it goes.
    #[test]
    fn what_would_be_a_straight_line_is_a_word() {
        let told = |course: &[f64]| columns(&course.iter().copied().map(Some).collect::<Vec<_>>());
        assert_eq!(told(&[186.0, 196.0, 206.0]), "up, by less than a tenth");
        assert_eq!(told(&[206.0, 196.0, 186.0]), "down, by less than a tenth");
        assert_eq!(told(&[200.0, 190.0, 200.0]), "steady within a tenth");
        assert_eq!(told(&[200.0, 200.5, 201.0]), "steady");
        assert_eq!(columns(&[None, Some(100.0), Some(200.0)]), " ▄▇");
    }
}
