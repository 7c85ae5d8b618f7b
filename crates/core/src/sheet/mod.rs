//! Target sheets: what a target accepts, slot by slot.

mod audit;
mod beside;
pub(crate) mod caches;
mod loop_file;
mod method;
mod own;
mod pairs;
pub mod pattern;
mod rule;
mod shipped;
mod source;
mod validate;
mod values;

pub use crate::names::CharSet;
pub use crate::refusal::{Because, Fault};
pub use audit::{Remark, audit};
pub(crate) use beside::known_root;
pub use beside::{
    Carry, Companion, Entry, IndexOf, Make, Pack, PackFile, PackForm, PackIcon, Sorting, Way, When,
};
pub use loop_file::LoopFile;
pub use method::Method;
pub use own::{OwnSheet, keep_own_sheets_in, own_sheets};
pub use pairs::Pairs;
pub use pattern::Pattern;
pub use rule::{Accepted, Links, New, OutsideEncoder, Rule, Tags};
pub use shipped::{SHIPPED, Shipped};
pub use source::{Column, Source};
pub(crate) use values::NO_CONTROL;
pub use values::{FirstBytes, OneOrMany, Size, Within, quoted};

use crate::disk::read_input;
use crate::error::{Error, Result};
use crate::limits;
use crate::names::{NameRules, nearest};
use crate::refusal::{Many, OddText, Written};
use serde::Deserialize;
use std::collections::BTreeMap;
use std::ops::Range;
use std::path::{Path, PathBuf};
use toml::Spanned;

/// A target sheet.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Sheet {
    /// What the target is called.
    pub name: String,
    /// Files that a real main root has.
    #[serde(default)]
    pub marker: OneOrMany<Within>,
    /// What its roots are called; the first is the main one.
    #[serde(default)]
    pub roots: Vec<String>,
    /// Caches, which go whenever something is put in or taken out.
    #[serde(default)]
    pub clear: OneOrMany<Pattern>,
    /// Files of a root that are none of its concern.
    #[serde(default)]
    pub ignore: OneOrMany<Pattern>,
    /// What the user has to do once files are in.
    pub after: Option<String>,
    /// The room that all slots have together.
    #[serde(default, deserialize_with = "crate::names::text")]
    pub budget: Option<Size>,
    /// A folder of the main root whose files the target prefers over its own; `{…}` are values of a
    /// job's.
    pub overlay: Option<Within>,
    /// How files must be named.
    #[serde(default)]
    pub names: NameRules,
    /// Where the names of slots come from.
    #[serde(default)]
    pub slots: Vec<Spanned<Source>>,
    /// What slots are, in words.
    #[serde(default)]
    pub labels: BTreeMap<Within, String>,
    /// What slots ask of their files. The first that matches counts.
    #[serde(default, rename = "rule")]
    pub rules: Vec<Rule>,
    /// What the target must be told beside the files.
    #[serde(default, rename = "entry")]
    pub entries: Vec<Spanned<Entry>>,
    /// Small files that are made for slots.
    #[serde(default, rename = "make")]
    pub makes: Vec<Spanned<Make>>,
    /// Files that come with clips.
    #[serde(default)]
    pub companions: OneOrMany<Companion>,
    /// Files that go into an overlay unchanged.
    #[serde(default)]
    pub carry: Vec<Carry>,
    /// How a job is packed to be shared.
    pub pack: Option<Pack>,
    #[serde(skip)]
    origin: Origin,
}

/// Where a sheet was read from.
#[derive(Debug, Clone, Default)]
struct Origin {
    path: PathBuf,
    text: String,
}

impl Sheet {
    /// A sheet by its path; or, named without one where no such file is, one of the user's own folder
    /// (see [`keep_own_sheets_in`]) or one of the built-in ones.
    ///
    /// # Errors
    /// [`Error::Sheet`] at the place of what is wrong, [`Error::Read`].
    pub fn find(typed: &Path) -> Result<Self> {
        let name = typed.to_string_lossy();
        if typed.exists() || name.contains(['/', '\\', '.']) {
            return Self::load(typed);
        }
        if let Some(own) = own_sheets().into_iter().find(|own| own.name == *name) {
            return Self::load(&own.path);
        }
        match Shipped::named(&name) {
            Some(shipped) => Self::parse(shipped.text, Path::new(shipped.name)),
            None => {
                let own = own_sheets();
                let names = own.iter().map(|own| own.name.as_str());
                let near = nearest(&name, names.chain(SHIPPED.iter().map(|s| s.name)), 3);
                Err(Fault::whole(typed, OddText::NoSheet(name.into_owned(), near)).into())
            }
        }
    }

    /// A sheet from a file.
    ///
    /// # Errors
    /// As [`Sheet::find`].
    pub fn load(path: &Path) -> Result<Self> {
        let bytes = match read_input(path, limits::SHEET) {
            Err(error) if error.kind() == std::io::ErrorKind::FileTooLarge => {
                let odd = OddText::TooLarge(Written::Sheet, limits::SHEET);
                return Err(Fault::whole(path, odd).into());
            }
            other => other.map_err(Error::read(path))?,
        };
        let text = String::from_utf8(bytes).map_err(|error| {
            let at = error.utf8_error().valid_up_to();
            Fault::whole(path, OddText::NotUtf8(at))
        })?;
        Self::parse(&text, path)
    }

    /// A sheet from its text.
    ///
    /// # Errors
    /// [`Error::Sheet`] at the place of what is wrong.
    pub fn parse(text: &str, path: &Path) -> Result<Self> {
        // A mark that some editors put before UTF-8.
        let text = text.strip_prefix('\u{feff}').unwrap_or(text);
        if text.matches("find").count() > limits::PATTERNS {
            let odd = OddText::TooMany(Many::Expressions, limits::PATTERNS);
            return Err(Fault::whole(path, odd).into());
        }
        let mut sheet: Self =
            toml::from_str(text).map_err(|error| Fault::of_toml(path, text, &error))?;
        sheet.origin = Origin { path: path.to_owned(), text: text.to_owned() };
        sheet.gather()?;
        sheet.validate()?;
        Ok(sheet)
    }

    /// A sheet of one rule, which nobody wrote.
    pub(crate) fn of_rule(name: &str, rule: Rule) -> Self {
        Self { name: name.to_owned(), rules: vec![rule], ..Self::default() }
    }

    /// What each rule asks, from its keys.
    fn gather(&mut self) -> Result<()> {
        for at in 0..self.rules.len() {
            let folder = self.origin.path.parent().map(Path::to_owned);
            if let Some(encoder) = &mut self.rules[at].encoder {
                encoder.folder = folder;
            }
            let span = self.rules[at].spec.span();
            let asks = self.rules[at].gather();
            self.rules[at].asks = asks.map_err(|invalid| self.fault(&span, invalid))?;
        }
        Ok(())
    }

    /// The file that it came from.
    pub fn path(&self) -> &Path {
        &self.origin.path
    }

    /// Its text.
    pub fn text(&self) -> &str {
        &self.origin.text
    }

    /// The rule that counts for a slot.
    pub fn rule_for(&self, slot: &str) -> Option<&Rule> {
        self.rules.iter().find(|rule| rule.matches(slot))
    }

    /// Whether a name is none of the target's concern.
    pub fn ignores(&self, slot: &str) -> bool {
        self.ignore.0.iter().any(|pattern| pattern.matches(slot))
    }

    /// Whether an entry holds a digest of a slot's file.
    pub(crate) fn asks_for_digests(&self) -> bool {
        self.entries.iter().any(|entry| {
            let entry = entry.get_ref();
            let texts = [entry.file.0.clone(), format!("{:?}", (&entry.at, &entry.value))];
            texts.iter().any(|text| crate::digests::named_in(text))
        })
    }

    /// The slot that a file of its overlay stands for, by its name in the main root.
    pub fn mirrored<'a>(&self, name: &'a str) -> Option<&'a str> {
        let mut rest = name;
        for part in self.overlay.as_ref()?.0.split('/') {
            let (folder, behind) = rest.split_once('/')?;
            // What a job fills in may be anything.
            let fits = match (part.split_once('{'), part.rsplit_once('}')) {
                (Some((start, _)), Some((_, end))) => {
                    folder.len() >= start.len() + end.len()
                        && folder.starts_with(start)
                        && folder.ends_with(end)
                }
                _ => folder == part,
            };
            rest = fits.then_some(behind)?;
        }
        Some(rest)
    }

    /// Whether a root of this name is the main one, as where none is named.
    pub fn is_main(&self, root: Option<&str>) -> bool {
        root.is_none_or(|root| self.roots.first().is_some_and(|main| main == root))
    }

    /// What a slot is, in words.
    pub fn label(&self, slot: &str) -> Option<&str> {
        self.labels.get(&Within(slot.to_owned())).map(String::as_str)
    }

    /// A fault at a place of this sheet.
    fn fault(&self, span: &Range<usize>, odd: impl Into<OddText>) -> Fault {
        Fault::at(&self.origin.path, &self.origin.text, span, odd)
    }

    /// A fault in a template of this sheet.
    pub(crate) fn fault_in<T>(&self, part: &Spanned<T>, odd: impl Into<OddText>) -> Error {
        let text = &self.origin.text;
        let mut span = part.span();
        // Of a table with its own header, the parser tells just that.
        if text[span.clone()].starts_with('[') {
            span.end = text[span.end..].find("\n[").map_or(text.len(), |next| span.end + next);
        }
        Fault::of_template(&self.origin.path, text, &span, odd).into()
    }

    /// Everything that can be told wrong without looking at any other file.
    fn validate(&self) -> Result<()> {
        for rule in &self.rules {
            let odd = rule.validate().map_err(OddText::Rule);
            odd.map_err(|odd| self.fault(&rule.spec.span(), odd))?;
        }
        let patterns = self.rules.iter().map(|rule| rule.patterns.get_ref().0.len());
        let entries = self.entries.iter().map(|entry| entry.get_ref().patterns.0.len());
        if patterns.chain(entries).sum::<usize>() + self.clear.0.len() + self.ignore.0.len()
            > limits::PATTERNS
        {
            let odd = OddText::TooMany(Many::Patterns, limits::PATTERNS);
            return Err(Fault::whole(&self.origin.path, odd).into());
        }
        for source in &self.slots {
            let wrong = source.get_ref().validate(&self.roots);
            wrong.map_err(|odd| self.fault(&source.span(), odd))?;
        }
        for entry in &self.entries {
            let wrong = entry.get_ref().validate(&self.roots);
            wrong.map_err(|odd| self.fault(&entry.span(), odd))?;
        }
        for make in &self.makes {
            let wrong = make.get_ref().validate(&self.roots);
            wrong.map_err(|odd| self.fault(&make.span(), odd))?;
        }
        caches::check(self)
    }
}
