//! What targets keep beside their sounds in lists, manifests and settings: edited in place, everything
//! else as it was, and undone by itself even when other lines have changed since.

mod depth;
mod ini;
mod json;
mod line_list;
mod node;
mod open;
mod plist_binary;
mod plist_xml;
mod script;
mod table;
mod text;
mod toml_text;
mod tree;

pub use ini::plain;
pub use json::{in_line, read as read_json};
pub(crate) use node::steps;
pub use open::OpenFile;
pub(crate) use plist_xml::read_xml;
pub use script::Put;

use crate::names::folded;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::fmt;

/// A file of a target's, to be read and changed at places in it.
trait Document {
    /// The value at a place.
    fn get(&self, at: &str) -> Option<Value>;
    /// The same, as it is written.
    fn raw(&self, at: &str) -> Option<String>;
    /// Puts a value at a place, be there one or not.
    fn set(&mut self, at: &str, value: &Value) -> Result<(), String>;
    /// Undoes that: what was written there before, or nothing.
    fn put_back(&mut self, at: &str, raw: Option<&str>) -> Result<(), String>;
    /// The members of a list; none where there is no such list.
    fn list(&self, at: &str) -> Result<Vec<Value>, String>;
    /// Puts a member into a list.
    fn insert(&mut self, at: &str, index: usize, value: &Value) -> Result<(), String>;
    /// Takes one out.
    fn remove(&mut self, at: &str, index: usize) -> Result<(), String>;
    /// The whole file.
    fn bytes(&self) -> Result<Vec<u8>, String>;
}

/// Formats of such files.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Format {
    /// JSON, with comments where a target has them.
    Json,
    /// TOML.
    Toml,
    /// Sections, keys and values in lines.
    Ini,
    /// A table; its first line names the columns.
    Table,
    /// A property list, as XML or binary.
    Plist,
    /// A list of lines.
    Lines,
    /// A script, which is plain text: what stands there once is replaced, or lines are put beside it.
    Script,
}

impl Format {
    /// What an extension tells; `None` where it tells nothing.
    pub fn of_extension(extension: &str) -> Option<Self> {
        Some(match extension.to_ascii_lowercase().as_str() {
            "json" | "jsonc" => Self::Json,
            "toml" => Self::Toml,
            "ini" | "cfg" | "conf" | "inf" => Self::Ini,
            "csv" | "tsv" | "tab" => Self::Table,
            "plist" => Self::Plist,
            "txt" | "lst" | "list" => Self::Lines,
            _ => return None,
        })
    }

    fn open(self, bytes: &[u8], separator: Option<&str>) -> Result<Box<dyn Document>, String> {
        Ok(match self {
            Self::Json => Box::new(tree::Tree::read(bytes, &json::Json)?),
            Self::Toml => Box::new(tree::Tree::read(bytes, &toml_text::Toml)?),
            Self::Ini => Box::new(ini::Ini::read(bytes, separator)?),
            Self::Table => Box::new(table::Table::read(bytes, separator)?),
            Self::Plist if bytes.starts_with(plist_binary::MARK) => {
                Box::new(plist_binary::PlistBinary::read(bytes)?)
            }
            Self::Plist => Box::new(tree::Tree::read(bytes, &plist_xml::PlistXml)?),
            Self::Lines | Self::Script => Box::new(line_list::Lines::read(bytes)?),
        })
    }
}

/// Where in a list a member goes.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Order {
    /// Behind the last one.
    End,
    /// Before the first one that is greater, as people sort: without case, numbers by their value.
    Sorted,
    /// Before the first one that is greater, character by character.
    Codepoint,
    /// Where this value stands in another list of the file.
    IndexOf {
        /// The other list.
        list: String,
        /// The value.
        value: Value,
    },
}

/// An entry that is wanted, its templates filled in.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct NewEntry {
    /// The file's format.
    pub format: Format,
    /// Where in the file: a pointer, `section/key`, a column; a list where it ends in `/-`.
    pub at: String,
    /// What is put there; nothing where it is only compared.
    pub value: Option<Value>,
    /// What must stand there already.
    pub expect: Option<Value>,
    /// What parts the members of a list in a value, or the columns of a table.
    pub separator: Option<String>,
    /// Where in a list it goes.
    pub order: Order,
    /// Whether members of a list that differ in case alone are the same.
    pub ignore_case: bool,
    /// In a script, what becomes of the part that is found.
    pub put: Put,
}

/// What making an entry gave.
#[derive(Debug, Clone, PartialEq)]
pub enum Made {
    /// It stands there already.
    Already,
    /// The file with it, and how it is undone.
    New(Vec<u8>, Box<Done>),
}

/// An entry that was made.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Done {
    format: Format,
    at: String,
    value: Value,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    separator: Option<String>,
    /// Whether it is a member of a list.
    #[serde(default)]
    member: bool,
    /// Whether its list was made for it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    made: bool,
    /// What was written there before; nothing for members.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    before: Option<String>,
    /// Where in a script it was put, in bytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    offset: Option<u64>,
    /// What stood before and behind it in a script then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    around: Option<[String; 2]>,
}

/// Whether two values say the same, be one a number and the other its text.
fn same(a: &Value, b: &Value) -> bool {
    a == b || (!a.is_object() && !b.is_object() && plain(a) == plain(b))
}

impl NewEntry {
    /// The list that the value becomes a member of, and the value as it stands there.
    fn member(&self, value: &Value) -> Option<(String, Value)> {
        if self.format == Format::Lines {
            return Some((String::new(), value.clone()));
        }
        if let Some(list) = self.at.strip_suffix("/-") {
            return Some((list.to_owned(), value.clone()));
        }
        let added = value.as_str().and_then(|text| text.strip_prefix('+'));
        match (self.format, added, &self.separator) {
            (Format::Ini, Some(added), Some(_)) => Some((self.at.clone(), Value::from(added))),
            _ => None,
        }
    }

    /// What it wants, in words; nothing where it only expects something.
    pub fn words(&self) -> Option<String> {
        let value = self.value.as_ref()?;
        Some(match self.member(value) {
            Some((list, member)) => shown(self.format, Some(&list), &list, &member),
            None => shown(self.format, None, &self.place(value).ok()?, value),
        })
    }

    fn is_same(&self, a: &Value, b: &Value) -> bool {
        same(a, b) || (self.ignore_case && folded(&plain(a)) == folded(&plain(b)))
    }

    /// Where a value is set; a row of a table is known by one of its columns.
    fn place(&self, value: &Value) -> Result<String, String> {
        if self.format != Format::Table || self.at.contains('=') {
            return Ok(self.at.clone());
        }
        let known = value.get(&self.at).map(plain);
        let known = known.ok_or_else(|| format!("value has no column {}", self.at))?;
        Ok(format!("{}={known}", self.at))
    }

    /// Whether what stands there says all of a value: in formats that only know text, in its text.
    fn says(&self, found: &Value, value: &Value) -> bool {
        match (self.format, value) {
            (Format::Table, Value::Object(cells)) => cells
                .iter()
                .all(|(column, cell)| found.get(column).is_some_and(|there| same(there, cell))),
            (Format::Ini, _) => same(found, value),
            _ => found == value,
        }
    }

    /// Compares what must stand there already.
    ///
    /// # Errors
    /// What stands there instead.
    pub fn compare(&self, bytes: &[u8]) -> Result<(), String> {
        let Some(expect) = &self.expect else {
            return Ok(());
        };
        if self.format == Format::Script {
            let text = text::Stored::read(bytes)?.text;
            return match text.contains(&plain(expect)) {
                true => Ok(()),
                false => Err(format!("lacks {}, which this job needs", plain(expect))),
            };
        }
        let document = self.format.open(bytes, self.separator.as_deref())?;
        if let Some((list, member)) = self.member(expect) {
            let members = document.list(&list)?;
            return match members.iter().any(|m| self.is_same(m, &member)) {
                true => Ok(()),
                false => Err(format!("lacks {}, which this job needs", plain(&member))),
            };
        }
        match document.get(&self.place(expect)?) {
            Some(found) if same(&found, expect) => Ok(()),
            Some(found) => Err(format!("says {}, this job says {}", plain(&found), plain(expect))),
            None => Err(format!("says nothing at {}, this job says {}", self.at, plain(expect))),
        }
    }

    /// Makes the entry in a file.
    ///
    /// # Errors
    /// What is wrong with the file, or with the place.
    pub fn make(&self, bytes: &[u8]) -> Result<Made, String> {
        self.compare(bytes)?;
        let Some(value) = &self.value else {
            return Ok(Made::Already);
        };
        if self.format == Format::Script {
            return script::make(self, value, bytes);
        }
        let (Order::IndexOf { list: other, value: known }, Some((list, member))) =
            (&self.order, self.member(value))
        else {
            let plain = Self { expect: None, order: self.order.clone().or_end(), ..self.clone() };
            let mut file = OpenFile::new(bytes.to_vec());
            return match file.make(&plain)? {
                None => Ok(Made::Already),
                Some(done) => Ok(Made::New(file.bytes()?, Box::new(done))),
            };
        };
        let mut document = self.format.open(bytes, self.separator.as_deref())?;
        let (members, others) = (document.list(&list)?, document.list(other)?);
        let index = others.iter().position(|m| same(m, known));
        let index = index.ok_or_else(|| format!("{} is not in {other}", plain(known)))?;
        if members.len() >= others.len() {
            // Both lists are as long: the place is there already.
            let set = Self { at: format!("{list}/{index}"), order: Order::End, ..self.clone() };
            return set.make(bytes);
        }
        let made = members.is_empty() && document.get(&list).is_none();
        document.insert(&list, index, &member)?;
        let done = Done { made, ..self.done(list, member, true, None) };
        Ok(Made::New(document.bytes()?, Box::new(done)))
    }

    /// What is remembered of it once it is made.
    fn done(&self, at: String, value: Value, member: bool, before: Option<String>) -> Done {
        Done {
            format: self.format,
            at,
            value,
            separator: self.separator.clone(),
            member,
            made: false,
            before,
            offset: None,
            around: None,
        }
    }
}

impl Order {
    /// Values at places have no order.
    fn or_end(self) -> Self {
        if let Self::IndexOf { .. } = self { Self::End } else { self }
    }
}

impl Done {
    /// Takes it back out of a file that may have changed since; `None` where it does not stand there
    /// any more.
    ///
    /// # Errors
    /// What is wrong with the file.
    pub fn undo(&self, bytes: &[u8]) -> Result<Option<Vec<u8>>, String> {
        if self.format == Format::Script {
            return script::undo(self, bytes);
        }
        let mut file = OpenFile::new(bytes.to_vec());
        match file.undo(self)? {
            true => file.bytes().map(Some),
            false => Ok(None),
        }
    }

    /// Whether it still stands there.
    pub fn stands(&self, bytes: &[u8]) -> bool {
        matches!(self.undo(bytes), Ok(Some(_)))
    }

    /// Whether it is what an entry wants.
    pub fn is_of(&self, wanted: &NewEntry) -> bool {
        let Some(value) = &wanted.value else {
            return false;
        };
        if self.format == Format::Script {
            let bare = |text: String| text.replace('\r', "").trim_matches('\n').to_owned();
            return self.at == wanted.at && bare(plain(&self.value)) == bare(plain(value));
        }
        match wanted.member(value) {
            Some((list, member)) => self.member && self.at == list && same(&self.value, &member),
            None => wanted.place(value).is_ok_and(|at| at == self.at),
        }
    }

    /// Where it was put, where there is room for one: what was put in the same place later lies over it. Nothing for
    /// the members of lists.
    pub fn place(&self) -> Option<&str> {
        (!self.member).then_some(&self.at)
    }
}

impl fmt::Display for Done {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let list = self.member.then_some(self.at.as_str());
        let new = if self.made { " (a new list)" } else { "" };
        write!(f, "{}{new}", shown(self.format, list, &self.at, &self.value))
    }
}

/// An entry in words: a member of a list, or a value at a place.
fn shown(format: Format, list: Option<&str>, at: &str, value: &Value) -> String {
    match list {
        _ if format == Format::Script => {
            plain(value).trim().lines().next().unwrap_or_default().to_owned()
        }
        Some("") => format!("line {}", plain(value)),
        Some(list) => format!("{list} holds {}", in_line(value)),
        None => format!("{at} = {}", in_line(value)),
    }
}

#[cfg(test)]
mod tests;
