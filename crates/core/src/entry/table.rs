//! Tables in text (RFC 4180): a row is known by what stands in one of its columns.

use super::Document;
use super::ini::plain;
use super::text::{Stored, behind_line, lines, put_line, take_line};
use serde_json::{Map, Value};

/// A table whose first line names the columns.
pub struct Table {
    stored: Stored,
    delimiter: char,
    columns: Vec<String>,
}

impl Table {
    /// Reads a table; what parts its columns is told by its first line where nobody says.
    ///
    /// # Errors
    /// Text that cannot be told, a table without a first line.
    pub fn read(bytes: &[u8], delimiter: Option<&str>) -> Result<Self, String> {
        let stored = Stored::read(bytes)?;
        let (_, head) = lines(&stored.text).next().ok_or("it has no line with names of columns")?;
        let told = delimiter.and_then(|text| text.chars().next());
        let usual = ['\t', ';', ',', '|'].into_iter().find(|c| head.contains(*c));
        let delimiter = told.or(usual).unwrap_or(',');
        let columns = cells(head, delimiter);
        Ok(Self { stored, delimiter, columns })
    }

    /// The column and the text of a place, `column=text`.
    fn place<'a>(&self, at: &'a str) -> Result<(usize, &'a str), String> {
        let (column, text) = at.split_once('=').ok_or("a row is known by column=text")?;
        let found = self.columns.iter().position(|name| name == column);
        let found = found.ok_or_else(|| {
            format!("there is no column {column}; there are: {}", self.columns.join(", "))
        })?;
        Ok((found, text))
    }

    fn find(&self, at: &str) -> Result<Option<(usize, String)>, String> {
        let (column, text) = self.place(at)?;
        let found = lines(&self.stored.text).skip(1).find(|(_, line)| {
            cells(line, self.delimiter).get(column).is_some_and(|cell| cell == text)
        });
        Ok(found.map(|(start, line)| (start, line.to_owned())))
    }

    fn row(&self, value: &Value, before: Option<&str>) -> Result<String, String> {
        let Value::Object(members) = value else {
            return Err("a row is written as { column = value, … }".to_owned());
        };
        if let Some(odd) = members.keys().find(|key| !self.columns.contains(key)) {
            return Err(format!(
                "there is no column {odd}; there are: {}",
                self.columns.join(", ")
            ));
        }
        let before = before.map_or_else(Vec::new, |line| cells(line, self.delimiter));
        let cell = |(at, column): (usize, &String)| {
            let kept = before.get(at).cloned().unwrap_or_default();
            let text = members.get(column).map_or(kept, plain);
            self.quoted(&text)
        };
        let cells: Vec<String> = self.columns.iter().enumerate().map(cell).collect();
        Ok(cells.join(&self.delimiter.to_string()))
    }

    fn quoted(&self, text: &str) -> String {
        match text.contains(['"', '\n', '\r']) || text.contains(self.delimiter) {
            true => format!("\"{}\"", text.replace('"', "\"\"")),
            false => text.to_owned(),
        }
    }
}

/// The cells of a line; quotes hold delimiters, two of them are one.
pub(super) fn cells(line: &str, delimiter: char) -> Vec<String> {
    let (mut all, mut cell, mut quoted) = (Vec::new(), String::new(), false);
    let mut letters = line.chars().peekable();
    while let Some(letter) = letters.next() {
        match letter {
            '"' if quoted && letters.peek() == Some(&'"') => {
                cell.push('"');
                letters.next();
            }
            '"' if quoted || cell.is_empty() => quoted = !quoted,
            letter if letter == delimiter && !quoted => all.push(std::mem::take(&mut cell)),
            letter => cell.push(letter),
        }
    }
    all.push(cell);
    all
}

impl Document for Table {
    fn get(&self, at: &str) -> Option<Value> {
        let (_, line) = self.find(at).ok()??;
        let cells = cells(&line, self.delimiter).into_iter().map(Value::from);
        let pairs = self.columns.iter().cloned().zip(cells);
        Some(Value::Object(pairs.collect::<Map<_, _>>()))
    }

    fn raw(&self, at: &str) -> Option<String> {
        self.find(at).ok()?.map(|(_, line)| line)
    }

    fn set(&mut self, at: &str, value: &Value) -> Result<(), String> {
        let found = self.find(at)?;
        let row = self.row(value, found.as_ref().map(|(_, line)| line.as_str()))?;
        match found {
            Some((start, line)) => {
                self.stored.text.replace_range(start..start + line.len(), &row);
            }
            None => {
                let last = lines(&self.stored.text).filter(|(_, line)| !line.is_empty()).last();
                let end = last.map_or(0, |(start, _)| behind_line(&self.stored.text, start));
                put_line(&mut self.stored.text, end, &row);
            }
        }
        Ok(())
    }

    fn put_back(&mut self, at: &str, raw: Option<&str>) -> Result<(), String> {
        let (start, line) = self.find(at)?.ok_or("no such row")?;
        match raw {
            Some(raw) => self.stored.text.replace_range(start..start + line.len(), raw),
            None => take_line(&mut self.stored.text, start),
        }
        Ok(())
    }

    fn list(&self, _at: &str) -> Result<Vec<Value>, String> {
        Err("rows are known by a column, as in at = \"slot\"".to_owned())
    }

    fn insert(&mut self, at: &str, _index: usize, _value: &Value) -> Result<(), String> {
        self.list(at).map(drop)
    }

    fn remove(&mut self, at: &str, _index: usize) -> Result<(), String> {
        self.list(at).map(drop)
    }

    fn bytes(&self) -> Result<Vec<u8>, String> {
        self.stored.bytes().map_err(|error| error.to_string())
    }
}
