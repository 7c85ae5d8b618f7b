//! Lists of names: JSON and XML documents, tables, lines of text.

use super::listed::in_line;
use crate::entry;
use crate::error::{Error, Result};
use crate::limits;
use crate::refusal::{Many, OddList, OddText};
use crate::rows::{Row, is_comment, place_of, rows, usual_delimiter};
use crate::sheet::{Column, Fault, Source, Within};
use crate::template::Names;
use deft_needle_audio::Invalid;
use deft_needle_audio::num::count;
use serde_json::{Map, Value};
use std::path::Path;

/// One entry of a list.
#[derive(Debug)]
pub struct Entry {
    /// Where it stands; 0 where that is not known.
    pub line: u64,
    /// What it says.
    pub name: String,
    /// What stands beside it.
    fields: Map<String, Value>,
}

impl Entry {
    fn new(line: u64, name: impl Into<String>) -> Self {
        Self { line, name: name.into(), fields: Map::new() }
    }

    /// A template filled in with what stands beside the name: a path in the list's root.
    pub fn filled(&self, template: &str) -> Result<String, OddText> {
        let mut names = Names::default().with(&self.fields);
        names.set("name", self.name.as_str());
        let path = names.text(template)?;
        let within: Result<Within, Invalid> = path.parse();
        within.map(|within| within.0).map_err(|bad| OddText::List(OddList::Path(bad)))
    }
}

/// The entries of a list.
pub fn entries(source: &Source, text: &str, path: &Path) -> Result<Vec<Entry>> {
    let extension = path.extension().unwrap_or_default().to_ascii_lowercase();
    if extension == "xml" || (source.pointer.is_some() && text.trim_start().starts_with('<')) {
        return of_xml(source, text, path);
    }
    if source.pointer.is_some() || extension == "json" {
        return of_json(source, text, path);
    }
    let tabled = extension == "csv" || extension == "tsv";
    if tabled || !source.column.0.is_empty() || source.delimiter.is_some() {
        let delimiter = source.delimiter.unwrap_or_else(|| usual_delimiter(path, text));
        return of_table(source, text, path, delimiter);
    }
    let lines = text.lines().enumerate().skip(source.headings.unwrap_or(0));
    let entries = lines
        .map(|(index, line)| Entry::new(count(index) + 1, line.trim()))
        .filter(|entry| !entry.name.is_empty() && !is_comment(&entry.name))
        .take(limits::NAMES + 1);
    refuse_many(entries.collect(), path)
}

/// More names than a list may give.
fn refuse_many(entries: Vec<Entry>, path: &Path) -> Result<Vec<Entry>> {
    match entries.len() > limits::NAMES {
        true => Err(Fault::whole(path, OddText::TooMany(Many::Names, limits::NAMES)).into()),
        false => Ok(entries),
    }
}

/// More values than a document may have; counted by the signs that every value brings.
fn refuse_large(text: &str, signs: &[u8], path: &Path) -> Result<()> {
    let values = text.bytes().filter(|byte| signs.contains(byte)).count();
    match values > limits::VALUES {
        true => Err(Fault::whole(path, OddText::TooMany(Many::Values, limits::VALUES)).into()),
        false => Ok(()),
    }
}

fn of_table(source: &Source, text: &str, path: &Path, delimiter: char) -> Result<Vec<Entry>> {
    let named = source.column.0.iter().any(|column| matches!(column, Column::Named(_)));
    let headings = source.headings.unwrap_or(usize::from(named));
    // Lines before the headings are no table yet.
    let mut rows = rows(path, text, delimiter, headings.saturating_sub(1))?.into_iter();
    let (line, heads) = match (headings > 0).then(|| rows.next()).flatten() {
        Some(Row { line, cells }) => (line, cells),
        None => (1, Vec::new()),
    };
    let columns = columns_of(source, &heads)
        .map_err(|name| in_line(path, text, line, OddList::Column(name, heads.clone())))?;
    let mut all = Vec::new();
    for Row { line, cells } in rows {
        let parts = columns.iter().map(|at| cells.get(*at).map_or("", String::as_str));
        let parts: Vec<&str> = parts.map(|part| part.trim_matches('/')).collect();
        if parts.iter().any(|part| part.is_empty()) {
            continue;
        }
        let mut entry = Entry::new(
            line,
            match parts.as_slice() {
                [_] => cells[columns[0]].clone(),
                parts => parts.join("/"),
            },
        );
        for (at, cell) in cells.into_iter().enumerate() {
            let head = heads.get(at);
            entry.fields.extend(head.map(|head| (head.clone(), Value::from(cell.as_str()))));
            entry.fields.insert((at + 1).to_string(), Value::from(cell));
        }
        all.push(entry);
    }
    Ok(all)
}

/// The columns that a name is made of, counted from 0; the first by default.
///
/// # Errors
/// The name of a column that there is not.
fn columns_of(source: &Source, heads: &[String]) -> Result<Vec<usize>, String> {
    let at = |column: &Column| place_of(column, heads).ok_or_else(|| column.to_string());
    match source.column.0.is_empty() {
        true => Ok(vec![0]),
        false => source.column.0.iter().map(at).collect(),
    }
}

fn of_json(source: &Source, text: &str, path: &Path) -> Result<Vec<Entry>> {
    refuse_large(text, b",:", path)?;
    let strictly: Result<Value, _> = serde_json::from_str(text);
    let document = strictly.or_else(|error| {
        // Comments and commas behind the last member are left in lists by people.
        entry::read_json(text).map_err(|_| {
            in_line(path, text, count(error.line()), OddText::Grammar(error.to_string()))
        })
    })?;
    let pointer = source.pointer.as_deref().unwrap_or_default();
    let whole = |odd: OddList| Error::from(Fault::whole(path, odd));
    let places = places(&document, &entry::steps(pointer));
    if places.is_empty() {
        return Err(whole(OddList::Nothing(pointer.to_owned())));
    }
    let mut all = Vec::new();
    for place in &places {
        take(place, source.field.as_deref(), &mut all);
    }
    if all.is_empty() && places.iter().all(|place| !place.is_object() && !place.is_array()) {
        return Err(whole(OddList::NotMany(pointer.to_owned())));
    }
    // Looking for each in a long text takes long, and only matters where a name is bad.
    let bad = |name: &str| source.slot(name).is_some_and(|slot| slot.parse::<Within>().is_err());
    for entry in all.iter_mut().filter(|entry| bad(&entry.name)) {
        let quoted = Value::from(entry.name.as_str()).to_string();
        let before = text.find(&quoted).map_or(0, |at| text[..at].matches('\n').count());
        entry.line = count(before) + 1;
    }
    Ok(all)
}

/// What a pointer leads to (RFC 6901); `*` is every member.
fn places<'v>(document: &'v Value, steps: &[String]) -> Vec<&'v Value> {
    let mut found = vec![document];
    for step in steps {
        let inner = |value: &'v Value| -> Vec<&'v Value> {
            match (value, step.as_str()) {
                (Value::Object(members), "*") => members.values().collect(),
                (Value::Array(members), "*") => members.iter().collect(),
                (Value::Object(members), step) => members.get(step).into_iter().collect(),
                (Value::Array(members), step) => {
                    let at: Option<usize> = step.parse().ok();
                    at.and_then(|at| members.get(at)).into_iter().collect()
                }
                _ => Vec::new(),
            }
        };
        found = found.into_iter().flat_map(inner).collect();
    }
    found
}

/// The names of one place: itself, where it is a text or a member with the field; the texts of a list, or
/// the fields of its members; the keys of an object, or the fields of its members.
fn take(value: &Value, field: Option<&str>, all: &mut Vec<Entry>) {
    let mut one = |name: &str, fields: Option<&Map<String, Value>>| {
        let mut entry = Entry::new(0, name);
        entry.fields.extend(fields.into_iter().flatten().map(|(k, v)| (k.clone(), v.clone())));
        all.push(entry);
    };
    let mut member = |value: &Value| match (value, field) {
        (Value::String(text), _) => one(text, None),
        (Value::Object(fields), Some(field)) => {
            if let Some(name) = fields.get(field).and_then(Value::as_str) {
                one(name, Some(fields));
            }
        }
        _ => {}
    };
    match (value, field) {
        (Value::Array(members), _) => members.iter().for_each(member),
        (Value::Object(members), Some(field))
            if !members.get(field).is_some_and(Value::is_string) =>
        {
            members.values().for_each(member);
        }
        (Value::Object(members), None) => {
            for (key, value) in members {
                one(key, value.as_object());
            }
        }
        (value, _) => member(value),
    }
}

/// The texts of elements, or of their attributes: `/bank/sound/@file`, `/bank/sound/file`.
fn of_xml(source: &Source, text: &str, path: &Path) -> Result<Vec<Entry>> {
    let whole = |odd: OddText| Error::from(Fault::whole(path, odd));
    let pointer = source.pointer.as_deref().unwrap_or_default();
    refuse_large(text, b"<=", path)?;
    let document = entry::read_xml(text).map_err(|what| whole(OddText::Grammar(what)))?;
    let mut steps = entry::steps(pointer);
    let attribute = match steps.last().and_then(|step| step.strip_prefix('@')) {
        Some(name) => {
            let name = name.to_owned();
            steps.pop();
            Some(name)
        }
        None => None,
    };
    let mut found = vec![document.root()];
    for step in &steps {
        let fits = |node: &roxmltree::Node<'_, '_>| {
            node.is_element() && (step == "*" || node.tag_name().name() == step)
        };
        found = found.into_iter().flat_map(|node| node.children().filter(fits)).collect();
    }
    if steps.is_empty() || found.is_empty() {
        return Err(whole(OddText::List(OddList::Nothing(pointer.to_owned()))));
    }
    let mut all = Vec::new();
    // Elements are found in their order, so that lines need be counted but once.
    let (mut counted, mut line) = (0, 1);
    for node in found {
        let name = match &attribute {
            Some(name) => node.attribute(name.as_str()),
            None => node.text(),
        };
        let Some(name) = name.map(str::trim).filter(|name| !name.is_empty()) else {
            continue;
        };
        let start = node.range().start;
        line += count(text[counted..start].matches('\n').count());
        counted = start;
        let mut entry = Entry::new(line, name);
        let attributes = node.attributes().map(|a| (a.name().to_owned(), Value::from(a.value())));
        entry.fields.extend(attributes);
        all.push(entry);
    }
    Ok(all)
}
