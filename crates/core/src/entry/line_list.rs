//! Plain lines: the whole file is a list.

use super::Document;
use super::ini::plain;
use super::text::{Stored, lines, put_line, take_line};
use serde_json::Value;

/// Plain lines.
pub struct Lines(Stored);

impl Lines {
    /// Reads lines.
    ///
    /// # Errors
    /// Text that cannot be told.
    pub fn read(bytes: &[u8]) -> Result<Self, String> {
        Stored::read(bytes).map(Self)
    }
}

impl Document for Lines {
    fn get(&self, _at: &str) -> Option<Value> {
        Some(Value::from(self.0.text.as_str()))
    }

    fn raw(&self, _at: &str) -> Option<String> {
        None
    }

    fn set(&mut self, _at: &str, _value: &Value) -> Result<(), String> {
        Err("lines have no places: leave at out, and the line is added".to_owned())
    }

    fn put_back(&mut self, at: &str, _raw: Option<&str>) -> Result<(), String> {
        self.set(at, &Value::Null)
    }

    fn list(&self, _at: &str) -> Result<Vec<Value>, String> {
        Ok(lines(&self.0.text).map(|(_, line)| Value::from(line)).collect())
    }

    fn insert(&mut self, _at: &str, index: usize, value: &Value) -> Result<(), String> {
        let line = plain(value);
        if line.contains(['\n', '\r']) {
            return Err("a value of several lines has no place there".to_owned());
        }
        let at = lines(&self.0.text).nth(index).map_or(self.0.text.len(), |(at, _)| at);
        put_line(&mut self.0.text, at, &line);
        Ok(())
    }

    fn remove(&mut self, _at: &str, index: usize) -> Result<(), String> {
        let found = lines(&self.0.text).nth(index).map(|(start, _)| start);
        take_line(&mut self.0.text, found.ok_or("no such line")?);
        Ok(())
    }

    fn bytes(&self) -> Result<Vec<u8>, String> {
        self.0.bytes().map_err(|error| error.to_string())
    }
}
