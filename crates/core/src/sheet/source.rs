//! Where the names of slots come from.

use super::beside::known_root;
use super::values::{OneOrMany, Within};
use crate::refusal::{OddList, OddText};
use serde::{Deserialize, Deserializer};

/// A list of names.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Source {
    /// A file beside the sheet.
    pub from: Option<Within>,
    /// A file or folder of a root's; `.` is the root itself.
    pub in_root: Option<Within>,
    /// Which root; the main one by default.
    pub root: Option<String>,
    /// In JSON, the object whose keys, or the array whose members, are the names (RFC 6901); in XML the
    /// elements, or an attribute of theirs as in `/bank/sound/@file`. `*` is every member.
    pub pointer: Option<String>,
    /// In JSON, the field of each member that holds the name.
    pub field: Option<String>,
    /// In tables, the column; of several, a name's folders and its file.
    #[serde(default)]
    pub column: OneOrMany<Column>,
    /// In tables, what parts the columns.
    pub delimiter: Option<char>,
    /// Lines before the first name.
    pub headings: Option<usize>,
    /// What is put behind names that have not got it.
    pub extension: Option<String>,
    /// Where in its root the stock of each name lies, where that is not under the name: a template over
    /// what stands beside the name, as in `objects/{hash|first 2}/{hash}`.
    pub stock: Option<String>,
    /// Whether every name that it gives must be there.
    #[serde(default)]
    pub complete: bool,
    /// What an entry must look like; others are passed over.
    #[serde(default, deserialize_with = "super::values::expression")]
    pub find: Option<regex::Regex>,
    /// What the slot is called then: `{1}` is what the first brackets of `find` hold.
    pub make: Option<String>,
}

/// A column of a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Column {
    /// By its heading.
    Named(String),
    /// By its number, from 1.
    Numbered(usize),
}

impl std::fmt::Display for Column {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Named(name) => f.write_str(name),
            Self::Numbered(number) => number.fmt(f),
        }
    }
}

impl<'de> Deserialize<'de> for Column {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Either;
        impl serde::de::Visitor<'_> for Either {
            type Value = Column;
            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a column's heading or its number from 1")
            }
            fn visit_str<E: serde::de::Error>(self, name: &str) -> Result<Column, E> {
                Ok(Column::Named(name.to_owned()))
            }
            fn visit_i64<E: serde::de::Error>(self, number: i64) -> Result<Column, E> {
                match usize::try_from(number) {
                    Ok(number) if number > 0 => Ok(Column::Numbered(number)),
                    _ => Err(E::custom("columns are counted from 1")),
                }
            }
        }
        deserializer.deserialize_any(Either)
    }
}

impl Source {
    /// The file or the folder that it reads, as it is written.
    pub fn title(&self) -> &str {
        self.from.as_ref().or(self.in_root.as_ref()).map_or(".", |within| &within.0)
    }

    /// # Errors
    /// What contradicts itself.
    pub(super) fn validate(&self, roots: &[String]) -> Result<(), OddText> {
        if self.from.is_some() == self.in_root.is_some() {
            return Err(OddText::List(OddList::Place));
        }
        if self.make.is_some() && self.find.is_none() {
            return Err(OddText::List(OddList::MakeAlone));
        }
        known_root(self.root.as_deref(), roots)?;
        if let (Some(find), Some(make)) = (&self.find, &self.make) {
            made(make, |number| (number < find.captures_len()).then_some(""))
                .map_err(OddText::List)?;
        }
        Ok(())
    }

    /// The slot that an entry of the list means; `None` where it is passed over.
    pub fn slot(&self, entry: &str) -> Option<String> {
        let name = self.named(entry)?;
        Some(match &self.extension {
            Some(extension) if !name.ends_with(&format!(".{extension}")) => {
                format!("{name}.{extension}")
            }
            _ => name,
        })
    }

    fn named(&self, entry: &str) -> Option<String> {
        let Some(find) = &self.find else {
            return Some(entry.replace('\\', "/"));
        };
        let found = find.captures(entry)?;
        let name = match &self.make {
            None => found.get(0)?.as_str().to_owned(),
            Some(make) => made(make, |n| Some(found.get(n).map_or("", |m| m.as_str()))).ok()?,
        };
        Some(name.replace('\\', "/"))
    }
}

/// Fills in `{1}`, `{2}` …; `{0}` is all that was found.
fn made<'a>(make: &str, part: impl Fn(usize) -> Option<&'a str>) -> Result<String, OddList> {
    let mut text = String::new();
    let mut rest = make;
    while let Some((before, after)) = rest.split_once('{') {
        let (number, behind) =
            after.split_once('}').ok_or_else(|| OddList::Brace(make.to_owned()))?;
        let found = number.parse().ok().and_then(&part);
        text += before;
        text += found.ok_or_else(|| OddList::Brackets(number.to_owned()))?;
        rest = behind;
    }
    Ok(text + rest)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn source(text: &str) -> Source {
        toml::from_str(text).unwrap()
    }

    #[test]
    fn entries_become_paths() {
        let bells = source("in-root = 'a.json'\nfind = '^N-(\\w+)$'\nmake = 'sfx/{1}.ogg'");
        assert_eq!(bells.validate(&[]), Ok(()));
        assert_eq!(bells.slot("N-bell").as_deref(), Some("sfx/bell.ogg"));
        assert_eq!(bells.slot("bell"), None);
        assert_eq!(source("from = 'x'").slot(r"a\b.wav").as_deref(), Some("a/b.wav"));
        for text in [
            "from = 'a'\nin-root = 'b'",
            "from = 'a'\nmake = '{1}'",
            "from = 'a'\nfind = 'x'\nmake = '{1}'",
            "root = 'x'\nfrom = 'a'",
        ] {
            assert!(source(text).validate(&[]).is_err(), "{text}");
        }
    }
}
