//! Tables in plain columns, as wide as the terminal; narrow or plain ones become a block a row.

use std::ops::RangeInclusive;
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// Below this width columns are no use.
const NARROW: usize = 60;
/// A column gives way down to this width.
const LEAST: usize = 12;

/// Rows below a heading.
pub struct Table {
    rows: Vec<Vec<String>>,
    right: &'static [usize],
    yields: &'static [usize],
    whole: &'static [usize],
}

/// How wide a table may be, and whether it is drawn at all.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Room {
    /// Columns of the terminal; `None` where there is none, and all fits.
    pub width: Option<usize>,
    /// Whether each row is a block, a fact a line.
    pub blocks: bool,
}

impl Room {
    /// That of the terminal on standard output.
    pub fn of_terminal(plain: bool) -> Self {
        let size = terminal_size::terminal_size_of(std::io::stdout());
        let width = size.map(|(width, _)| usize::from(width.0));
        Self { width, blocks: plain || width.is_some_and(|width| width < NARROW) }
    }
}

impl Table {
    /// The first row is the heading. Columns in `right` are flush right; those in `yields` go, in this
    /// order, where the terminal is too narrow for all.
    pub fn new(rows: Vec<Vec<String>>, right: &'static [usize], yields: &'static [usize]) -> Self {
        Self { rows, right, yields, whole: &[] }
    }

    /// Rows without a heading.
    pub fn bare(mut rows: Vec<Vec<String>>, right: &'static [usize]) -> Self {
        let columns = rows.iter().map(Vec::len).max().unwrap_or_default();
        rows.insert(0, vec![String::new(); columns]);
        Self::new(rows, right, &[])
    }

    /// Columns whose texts never lose their middle.
    pub fn whole(self, whole: &'static [usize]) -> Self {
        Self { whole, ..self }
    }

    /// All rows, the heading first where it is shown.
    pub fn text(&self, room: Room) -> String {
        let mut lines = Vec::new();
        lines.extend(self.heading(room));
        lines.extend(self.each(room));
        lines.join("\n")
    }

    /// The heading, where one is shown.
    pub fn heading(&self, room: Room) -> Option<String> {
        let heading = self.lines(room).into_iter().next();
        heading.filter(|heading| !room.blocks && !heading.is_empty())
    }

    /// Each row by itself: a line, or a block of lines.
    pub fn each(&self, room: Room) -> Vec<String> {
        if room.blocks { self.blocks() } else { self.lines(room).into_iter().skip(1).collect() }
    }

    fn blocks(&self) -> Vec<String> {
        let Some((heading, rows)) = self.rows.split_first() else {
            return Vec::new();
        };
        let named = |at: usize| heading.get(at).filter(|name| shown_width(name) > 0);
        let widest = (1..heading.len()).filter_map(named).map(|name| shown_width(name)).max();
        let widest = widest.unwrap_or_default();
        let block = |row: &Vec<String>| {
            let mut lines: Vec<String> = row.first().cloned().into_iter().collect();
            for (at, cell) in row.iter().enumerate().skip(1).filter(|(_, c)| shown_width(c) > 0) {
                let name = named(at).map_or("", String::as_str);
                let gap = " ".repeat(widest.saturating_sub(shown_width(name)));
                lines.push(format!("  {name}{gap}  {cell}"));
            }
            lines.join("\n")
        };
        rows.iter().map(block).collect()
    }

    fn lines(&self, room: Room) -> Vec<String> {
        let mut rows = self.rows.clone();
        let (mut right, mut whole) = (self.right.to_vec(), self.whole.to_vec());
        if let Some(most) = room.width {
            let mut gone: Vec<usize> = Vec::new();
            for &column in self.yields {
                if total(&widths(&rows)) <= most {
                    break;
                }
                let at = column - gone.iter().filter(|gone| **gone < column).count();
                rows.iter_mut().filter(|row| row.len() > at).for_each(|row| drop(row.remove(at)));
                for columns in [&mut right, &mut whole] {
                    columns.retain(|column| *column != at);
                    columns.iter_mut().filter(|column| **column > at).for_each(|c| *c -= 1);
                }
                gone.push(column);
            }
            whole.extend(&right);
            shrink(&mut rows, &whole, most);
        }
        let widths = widths(&rows);
        let line = |row: &Vec<String>| {
            let mut line = String::new();
            for (column, cell) in row.iter().enumerate() {
                let gap = " ".repeat(widths[column].saturating_sub(shown_width(cell)));
                if column > 0 {
                    line += "  ";
                }
                line += &match right.contains(&column) {
                    true => format!("{gap}{cell}"),
                    false => format!("{cell}{gap}"),
                };
            }
            line.trim_end().to_owned()
        };
        rows.iter().map(line).collect()
    }
}

/// Lets the widest columns but the `whole` ones lose the middle of what is long, until all fits.
fn shrink(rows: &mut [Vec<String>], whole: &[usize], most: usize) {
    loop {
        let widths = widths(rows);
        let over = total(&widths).saturating_sub(most);
        let widest = (0..widths.len())
            .filter(|at| !whole.contains(at) && widths[*at] > LEAST)
            .max_by_key(|at| widths[*at]);
        let (Some(at), true) = (widest, over > 0) else {
            return;
        };
        // Down to the next widest at most, so that the long ones share what is missing.
        let next = (0..widths.len()).filter(|other| *other != at && !whole.contains(other));
        let next =
            next.map(|other| widths[other]).max().unwrap_or(LEAST).clamp(LEAST, widths[at] - 1);
        let to = next.max(widths[at].saturating_sub(over)).max(LEAST);
        for row in rows.iter_mut() {
            if let Some(cell) = row.get_mut(at) {
                *cell = without_middle(cell, to);
            }
        }
    }
}

/// A text of at most this many columns: its middle gives way, styles stay whole.
pub fn without_middle(text: &str, most: usize) -> String {
    let width = shown_width(text);
    if width <= most {
        return text.to_owned();
    }
    let head = (most - 1) / 2;
    let cut: RangeInclusive<usize> = head..=(width - (most - head));
    let (mut out, mut at, mut escape, mut marked) = (String::new(), 0, false, false);
    for c in text.chars() {
        if c == '\u{1b}' {
            escape = true;
        }
        if escape {
            escape = !c.is_ascii_alphabetic();
            out.push(c);
            continue;
        }
        match cut.contains(&at) {
            true if !std::mem::replace(&mut marked, true) => out.push('…'),
            true => {}
            false => out.push(c),
        }
        at += c.width().unwrap_or_default();
    }
    out
}

fn widths(rows: &[Vec<String>]) -> Vec<usize> {
    let count = rows.iter().map(Vec::len).max().unwrap_or(0);
    let width = |column: usize| {
        let cells = rows.iter().filter_map(|row| row.get(column));
        cells.map(|cell| shown_width(cell)).max().unwrap_or(0)
    };
    (0..count).map(width).collect()
}

fn total(widths: &[usize]) -> usize {
    widths.iter().sum::<usize>() + 2 * widths.len().saturating_sub(1)
}

/// The width on a terminal, styles left out.
fn shown_width(cell: &str) -> usize {
    anstream::adapter::strip_str(cell).to_string().width()
}

#[cfg(test)]
mod tests {
    use super::*;

    const WIDE: Room = Room { width: None, blocks: false };

    fn table(rows: &[[&str; 3]]) -> Table {
        let rows = rows.iter().map(|row| row.map(str::to_owned).to_vec()).collect();
        Table::new(rows, &[1], &[2])
    }

    #[test]
    fn wide_names_and_styles_keep_the_columns() {
        let rows = [["name", "n", ""], ["鐘.wav", "1", ""], ["\u{1b}[1mab\u{1b}[0m", "10", ""]];
        assert_eq!(table(&rows).text(WIDE), "name     n\n鐘.wav   1\n\u{1b}[1mab\u{1b}[0m      10");
    }

    #[test]
    fn columns_go_and_long_names_lose_their_middle() {
        let rows = [["file", "n", "notes"], ["a-very-long-name-indeed.wav", "1", "nothing odd"]];
        let at = |width| table(&rows).text(Room { width: Some(width), blocks: false });
        assert!(at(44).contains("nothing odd"));
        assert_eq!(at(31), "file                         n\na-very-long-name-indeed.wav  1");
        assert_eq!(
            at(20),
            "file               n\na-very-l…ndeed.wav 1"
                .replace(" 1", "  1")
                .replace("ndeed", "deed")
        );
        assert!(at(20).lines().all(|line| line.chars().count() <= 20));
        let block = table(&rows).text(Room { width: Some(40), blocks: true });
        assert_eq!(block, "a-very-long-name-indeed.wav\n  n      1\n  notes  nothing odd");
    }

    #[test]
    fn bare_rows_are_all_shown() {
        let rows = ["a", "b"].map(|name| vec![name.to_owned(), "1".to_owned()]).to_vec();
        assert_eq!(Table::bare(rows.clone(), &[1]).text(WIDE), "a  1\nb  1");
        let blocks = Room { width: None, blocks: true };
        assert_eq!(Table::bare(rows, &[1]).text(blocks), "a\n    1\nb\n    1");
    }

    #[test]
    fn styles_outlive_a_lost_middle() {
        let styled = "\u{1b}[1mabcdefghij\u{1b}[0m";
        assert_eq!(without_middle(styled, 5), "\u{1b}[1mab…ij\u{1b}[0m");
        assert_eq!(without_middle("abc", 3), "abc");
    }
}
