//! TOML 1.1: sections of lines, and values in them.

use super::node::{Kind, Member, Node, Syntax};
use super::text::behind_line;
use serde_json::{Map, Value};
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// TOML.
pub struct Toml;

struct Reader<'t> {
    text: &'t str,
}

impl Reader<'_> {
    fn value(&self, value: &Spanned<DeValue<'_>>) -> Node {
        let range = value.span();
        let kind = match value.get_ref() {
            DeValue::Array(members)
                if self.text[range.clone()].starts_with('[') && !self.is_header(&range) =>
            {
                Kind::List {
                    members: members.iter().map(|m| self.element(m)).collect(),
                    inner: Some(range.start + 1..range.end - 1),
                }
            }
            DeValue::Array(members) => Kind::List {
                members: members.iter().map(|m| self.element(m)).collect(),
                inner: None,
            },
            DeValue::Table(table) if self.text[range.clone()].starts_with('{') => Kind::Map {
                members: self.members(table),
                inner: Some(range.start + 1..range.end - 1),
            },
            DeValue::Table(table) => self.section(table, range.end),
            leaf => Kind::Leaf(plain(leaf)),
        };
        Node { range, kind }
    }

    /// Whether a range is the header of a section, `[name]` or `[[name]]`, and no list.
    fn is_header(&self, range: &Range<usize>) -> bool {
        let line = self.text[..range.start].rfind('\n').map_or(0, |n| n + 1);
        self.text[line..range.start].trim().is_empty()
    }

    /// A table that is no value: its direct members are lines.
    fn section(&self, table: &DeTable<'_>, header: usize) -> Kind {
        let members = self.members(table);
        // Sections below it stand elsewhere.
        let start = match header {
            0 => 0,
            header => behind_line(self.text, header),
        };
        Kind::Lines { members, start }
    }

    fn members(&self, table: &DeTable<'_>) -> Vec<Member> {
        let member = |(key, value): (&Spanned<_>, &Spanned<DeValue<'_>>)| {
            let node = self.value(value);
            let key_span = key.span();
            let text: &std::borrow::Cow<'_, str> = key.get_ref();
            Member {
                key: text.to_string(),
                range: key_span.start..node.range.end.max(key_span.end),
                glue: key_span.end..node.range.start.max(key_span.end),
                node,
            }
        };
        let mut members: Vec<Member> = table.iter().map(member).collect();
        // As they stand, sections behind lines: the last line is where more lines go.
        members.sort_by_key(|m| (m.node.is_section(), m.range.start));
        members
    }

    fn element(&self, value: &Spanned<DeValue<'_>>) -> Member {
        let node = self.value(value);
        Member { key: String::new(), range: node.range.clone(), glue: 0..0, node }
    }
}

fn plain(value: &DeValue<'_>) -> Value {
    match value {
        DeValue::String(text) => Value::from(text.as_ref()),
        DeValue::Integer(number) => i64::from_str_radix(number.as_str(), number.radix())
            .map_or_else(|_| Value::from(number.to_string()), Value::from),
        DeValue::Float(number) => number.as_str().parse::<f64>().map_or(Value::Null, Value::from),
        DeValue::Boolean(value) => Value::from(*value),
        DeValue::Datetime(time) => Value::from(time.to_string()),
        DeValue::Array(_) | DeValue::Table(_) => Value::Null,
    }
}

/// A value in one line.
fn in_line(value: &Value) -> String {
    match value {
        Value::Null => "\"\"".to_owned(),
        Value::String(text) => toml::Value::String(text.clone()).to_string(),
        Value::Array(members) => {
            let members: Vec<String> = members.iter().map(in_line).collect();
            format!("[{}]", members.join(", "))
        }
        Value::Object(members) => {
            let member =
                |(key, value): (&String, &Value)| format!("{} = {}", bare(key), in_line(value));
            let members: Vec<String> = members.iter().map(member).collect();
            format!("{{ {} }}", members.join(", "))
        }
        leaf => leaf.to_string(),
    }
}

fn bare(key: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-');
    match !key.is_empty() && key.chars().all(plain) {
        true => key.to_owned(),
        false => Value::from(key).to_string(),
    }
}

impl Syntax for Toml {
    fn read(&self, text: &str) -> Result<Node, String> {
        super::depth::refuse_brackets(text).map_err(|what| format!("invalid TOML: {what}"))?;
        let table = DeTable::parse(text).map_err(|error| {
            let message = error.message().lines().next().unwrap_or_default().to_owned();
            format!("invalid TOML: {message}")
        })?;
        let reader = Reader { text };
        // Without lines of its own, the first one stands before all sections.
        let first = text.lines().position(|line| line.trim_start().starts_with('['));
        let members = reader.members(table.get_ref());
        let has_lines = members.first().is_some_and(|m| !m.node.is_section());
        let start = match first {
            Some(_) if !has_lines => super::text::lines(text)
                .find(|(_, line)| line.trim_start().starts_with('['))
                .map_or(0, |(at, _)| at),
            _ => text.len(),
        };
        Ok(Node { range: 0..text.len(), kind: Kind::Lines { members, start } })
    }

    fn value(&self, value: &Value) -> String {
        in_line(value)
    }

    fn key(&self, key: &str) -> String {
        bare(key)
    }

    fn glue(&self) -> &'static str {
        " = "
    }

    fn separator(&self) -> &'static str {
        ","
    }

    fn line_comment(&self) -> Option<&'static str> {
        Some("#")
    }

    fn marks(&self, list: bool) -> [&'static str; 2] {
        if list { ["[", "]"] } else { ["{", "}"] }
    }

    fn section(&self, path: &[String], key: &str, value: &Value) -> Option<String> {
        let path: Vec<String> = path.iter().map(|step| bare(step)).collect();
        let table = Map::from_iter([(key.to_owned(), value.clone())]);
        let line = table.iter().map(|(key, value)| format!("{} = {}", bare(key), in_line(value)));
        Some(format!("[{}]\n{}", path.join("."), line.collect::<String>()))
    }
}
