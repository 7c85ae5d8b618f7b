//! Settings in lines: `[section]`, `key=value`, comments behind `;` or `#`.

use super::Document;
use super::text::{Stored, behind_line, lines, put_line, take_line};
use serde_json::Value;
use std::ops::Range;

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
    ///
    /// # Errors
    /// A quote without its other one.
    fn find(&self, place: &Place<'_>) -> Result<Option<Range<usize>>, String> {
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
                let from = start + key.len() + 1;
                let own = self.content(value)?;
                return Ok(Some(from + own.start..from + own.end));
            }
        }
        Ok(None)
    }

    /// What a value says: without the blanks around it, its quotes, and a comment behind it.
    fn content(&self, value: &str) -> Result<Range<usize>, String> {
        let start = value.len() - value.trim_start().len();
        let rest = &value[start..];
        if let Some(quoted) = rest.strip_prefix('"') {
            // A backslash is a plain character: paths end in it.
            let ends = |at: &usize| {
                let behind = quoted[at + 1..].trim_start();
                behind.is_empty() || behind.starts_with([';', '#'])
            };
            let end = quoted.match_indices('"').map(|(at, _)| at).find(ends);
            let end =
                end.ok_or_else(|| format!("{} has a quote without its other one", value.trim()))?;
            return Ok(start + 1..start + 1 + end);
        }
        let parts = self.separator.trim();
        let comment = |at: &usize| {
            let sign = &rest[*at..*at + 1];
            // Where such a sign parts the members of a list, it begins no comment.
            sign != parts && rest[..*at].ends_with([' ', '\t'])
        };
        let end = rest.match_indices([';', '#']).map(|(at, _)| at).find(comment);
        let own = rest[..end.unwrap_or(rest.len())].trim_end();
        Ok(start..start + own.len())
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

    /// Where the members of a list stand, without the blanks around them.
    fn members(&self, at: &str) -> Result<Vec<Range<usize>>, String> {
        let Some(own) = self.find(&Place::of(at))? else {
            return Ok(Vec::new());
        };
        // The blanks around a separator are a matter of style.
        let sign = match self.separator.trim() {
            "" => self.separator.as_str(),
            sign => sign,
        };
        let mut members = Vec::new();
        let mut from = own.start;
        for part in self.text()[own].split(sign) {
            let start = from + part.len() - part.trim_start().len();
            let end = start + part.trim().len();
            if start < end {
                members.push(start..end);
            }
            from += part.len() + sign.len();
        }
        Ok(members)
    }
}

impl Document for Ini {
    fn get(&self, at: &str) -> Option<Value> {
        self.raw(at).map(Value::from)
    }

    fn raw(&self, at: &str) -> Option<String> {
        let range = self.find(&Place::of(at)).ok()??;
        Some(self.text()[range].to_owned())
    }

    fn set(&mut self, at: &str, value: &Value) -> Result<(), String> {
        let value = plain(value);
        if value.contains(['\n', '\r']) {
            return Err("a value of several lines has no place there".to_owned());
        }
        let place = Place::of(at);
        if let Some(range) = self.find(&place)? {
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
        let range = self.find(&Place::of(at))?.ok_or("no such key")?;
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
        let members = self.members(at)?.into_iter();
        Ok(members.map(|own| Value::from(&self.text()[own])).collect())
    }

    fn insert(&mut self, at: &str, index: usize, value: &Value) -> Result<(), String> {
        let value = plain(value);
        let sign = self.separator.trim();
        if value.contains(if sign.is_empty() { &self.separator } else { sign }) {
            return Err(format!("\"{value}\" holds the separator \"{}\"", self.separator));
        }
        let members = self.members(at)?;
        let Some(last) = members.last() else {
            return self.set(at, &Value::from(value));
        };
        // In the list's own manner, where it has one.
        let between = match members.as_slice() {
            [a, b, ..] => self.text()[a.end..b.start].to_owned(),
            _ => self.separator.clone(),
        };
        let (at, text) = match members.get(index) {
            Some(next) => (next.start, format!("{value}{between}")),
            None => (last.end, format!("{between}{value}")),
        };
        self.stored.text.insert_str(at, &text);
        Ok(())
    }

    fn remove(&mut self, at: &str, index: usize) -> Result<(), String> {
        let members = self.members(at)?;
        let own = members.get(index).ok_or("no such member")?.clone();
        let before = index.checked_sub(1).map(|at| members[at].end);
        let range = match (before, members.get(index + 1)) {
            (_, Some(next)) => own.start..next.start,
            (Some(before), None) => before..own.end,
            (None, None) => own,
        };
        self.stored.text.replace_range(range, "");
        Ok(())
    }

    fn bytes(&self) -> Result<Vec<u8>, String> {
        self.stored.bytes().map_err(|error| error.to_string())
    }
}
