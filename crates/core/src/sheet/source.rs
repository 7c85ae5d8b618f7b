//! Where the names of slots come from.

use super::beside::known_root;
use super::values::Within;
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
    /// In JSON, the object whose keys, or the array whose members, are the names (RFC 6901).
    pub pointer: Option<String>,
    /// In JSON, the field of each member that holds the name.
    pub field: Option<String>,
    /// In tables, the column.
    pub column: Option<Column>,
    /// In tables, what parts the columns.
    pub delimiter: Option<char>,
    /// Lines before the first name.
    pub headings: Option<usize>,
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
    /// # Errors
    /// What contradicts itself.
    pub(super) fn validate(&self, roots: &[String]) -> Result<(), String> {
        if self.from.is_some() == self.in_root.is_some() {
            return Err(
                "a list of names is either next to the sheet (from) or in a root (in-root)"
                    .to_owned(),
            );
        }
        if self.make.is_some() && self.find.is_none() {
            return Err("make uses what find has found: write both, or neither".to_owned());
        }
        known_root(self.root.as_deref(), roots)?;
        if let (Some(find), Some(make)) = (&self.find, &self.make) {
            made(make, |number| (number < find.captures_len()).then_some(""))?;
        }
        Ok(())
    }

    /// The slot that an entry of the list means; `None` where it is passed over.
    pub fn slot(&self, entry: &str) -> Option<String> {
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
fn made<'a>(make: &str, part: impl Fn(usize) -> Option<&'a str>) -> Result<String, String> {
    let mut text = String::new();
    let mut rest = make;
    while let Some((before, after)) = rest.split_once('{') {
        let (number, behind) =
            after.split_once('}').ok_or_else(|| format!("\"{make}\" has a {{ without its }}"))?;
        let found = number.parse().ok().and_then(&part);
        text += before;
        text += found.ok_or_else(|| format!("find has no brackets number {{{number}}}"))?;
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
