//! Settings in lines: `[section]`, `key=value`, comments behind `;` or `#`.

use super::Document;
use super::text::{Stored, behind_line, lines, put_line, take_line};
use serde_json::Value;

/// Settings in lines.
pub struct Ini {
    stored: Stored,
    /// What parts the members of a list in a value.
    separator: String,
}

/// A place: a section, which is empty above the first one, and a key.
struct Place<'a> {
    section: &'a str,
    key: &'a str,
}

impl<'a> Place<'a> {
    fn of(at: &'a str) -> Self {
        let at = at.strip_prefix('/').unwrap_or(at);
        let (section, key) = at.rsplit_once('/').unwrap_or(("", at));
        Self { section, key }
    }
}

/// A value's text.
pub fn plain(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        other => other.to_string(),
    }
}

impl Ini {
    /// Reads settings.
    ///
    /// # Errors
    /// Text that cannot be told.
    pub fn read(bytes: &[u8], separator: Option<&str>) -> Result<Self, String> {
        Ok(Self { stored: Stored::read(bytes)?, separator: separator.unwrap_or(",").to_owned() })
    }

    fn text(&self) -> &str {
        &self.stored.text
    }

    /// Where the value of a key stands; names are told without minding case, as targets do.
    fn find(&self, place: &Place<'_>) -> Option<std::ops::Range<usize>> {
        let mut section = "";
        for (start, line) in lines(self.text()) {
            let trimmed = line.trim();
            if let Some(name) = trimmed.strip_prefix('[') {
                section = name.trim_end_matches(']').trim();
                continue;
            }
            if trimmed.starts_with([';', '#']) || !section.eq_ignore_ascii_case(place.section) {
                continue;
            }
            let Some((key, value)) = line.split_once('=') else {
                continue;
            };
            if key.trim().eq_ignore_ascii_case(place.key) {
                let blank = value.len() - value.trim_start().len();
                let from = start + key.len() + 1 + blank;
                return Some(from..from + value.trim().len());
            }
        }
        None
    }

    /// Where a further line of a section goes; nothing where there is no such section.
    fn end_of(&self, section: &str) -> Option<usize> {
        let mut inside = section.is_empty();
        let mut end = inside.then_some(0);
        for (start, line) in lines(self.text()) {
            let trimmed = line.trim();
            if let Some(name) = trimmed.strip_prefix('[') {
                if inside && end.is_some() {
                    break;
                }
                inside = name.trim_end_matches(']').trim().eq_ignore_ascii_case(section);
            }
            if inside && !trimmed.is_empty() {
                end = Some(behind_line(self.text(), start));
            }
        }
        end
    }

    /// Whether the file writes blanks around its equals signs.
    fn equals(&self) -> &'static str {
        let airy = lines(self.text()).any(|(_, line)| line.contains(" = "));
        if airy { " = " } else { "=" }
    }

    fn members(&self, at: &str) -> Vec<String> {
        let text = self.raw(at).unwrap_or_default();
        let parts = text.split(&self.separator).map(|part| part.trim().to_owned());
        parts.filter(|part| !part.is_empty()).collect()
    }
}

impl Document for Ini {
    fn get(&self, at: &str) -> Option<Value> {
        self.raw(at).map(Value::from)
    }

    fn raw(&self, at: &str) -> Option<String> {
        let range = self.find(&Place::of(at))?;
        Some(self.text()[range].to_owned())
    }

    fn set(&mut self, at: &str, value: &Value) -> Result<(), String> {
        let value = plain(value);
        if value.contains(['\n', '\r']) {
            return Err("a value of several lines has no place there".to_owned());
        }
        let place = Place::of(at);
        if let Some(range) = self.find(&place) {
            self.stored.text.replace_range(range, &value);
            return Ok(());
        }
        let line = format!("{}{}{value}", place.key, self.equals());
        let end = match self.end_of(place.section) {
            Some(end) => end,
            None => {
                let end = self.text().len();
                put_line(&mut self.stored.text, end, &format!("[{}]", place.section));
                self.text().len()
            }
        };
        put_line(&mut self.stored.text, end, &line);
        Ok(())
    }

    fn put_back(&mut self, at: &str, raw: Option<&str>) -> Result<(), String> {
        let range = self.find(&Place::of(at)).ok_or("no such key")?;
        match raw {
            Some(raw) => self.stored.text.replace_range(range, raw),
            None => {
                let start = self.text()[..range.start].rfind('\n').map_or(0, |n| n + 1);
                take_line(&mut self.stored.text, start);
            }
        }
        Ok(())
    }

    fn list(&self, at: &str) -> Result<Vec<Value>, String> {
        Ok(self.members(at).into_iter().map(Value::from).collect())
    }

    fn insert(&mut self, at: &str, index: usize, value: &Value) -> Result<(), String> {
        let value = plain(value);
        if value.contains(&self.separator) {
            return Err(format!("\"{value}\" holds the separator \"{}\"", self.separator));
        }
        let mut members = self.members(at);
        members.insert(index.min(members.len()), value);
        self.set(at, &Value::from(members.join(&self.separator)))
    }

    fn remove(&mut self, at: &str, index: usize) -> Result<(), String> {
        let mut members = self.members(at);
        if index >= members.len() {
            return Err("no such member".to_owned());
        }
        members.remove(index);
        self.set(at, &Value::from(members.join(&self.separator)))
    }

    fn bytes(&self) -> Result<Vec<u8>, String> {
        self.stored.bytes().map_err(|error| error.to_string())
    }
}
