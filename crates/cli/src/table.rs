//! Tables in plain columns.

use unicode_width::UnicodeWidthStr;

/// Lays out rows in columns; the first row is the heading. Columns in `right` are flush right.
pub fn columns(rows: &[Vec<String>], right: &[usize]) -> String {
    let count = rows.iter().map(Vec::len).max().unwrap_or(0);
    let width = |column: usize| {
        let cells = rows.iter().filter_map(|row| row.get(column));
        cells.map(|cell| shown_width(cell)).max().unwrap_or(0)
    };
    let widths: Vec<usize> = (0..count).map(width).collect();
    let line = |row: &Vec<String>| {
        let mut line = String::new();
        for (column, cell) in row.iter().enumerate() {
            let gap = " ".repeat(widths[column].saturating_sub(shown_width(cell)));
            if column > 0 {
                line += "  ";
            }
            line += &if right.contains(&column) {
                format!("{gap}{cell}")
            } else {
                format!("{cell}{gap}")
            };
        }
        line.trim_end().to_owned()
    };
    rows.iter().map(line).collect::<Vec<_>>().join("\n")
}

/// The width on a terminal, styles left out.
fn shown_width(cell: &str) -> usize {
    anstream::adapter::strip_str(cell).to_string().width()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn wide_names_and_styles_keep_the_columns() {
        let rows = [["name", "n"], ["鐘.wav", "1"], ["\u{1b}[1mab\u{1b}[0m", "10"]];
        let rows: Vec<Vec<String>> = rows.iter().map(|r| r.map(str::to_owned).to_vec()).collect();
        let table = columns(&rows, &[1]);
        assert_eq!(table, "name     n\n鐘.wav   1\n\u{1b}[1mab\u{1b}[0m      10");
    }
}
