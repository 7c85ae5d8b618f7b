//! A file of entries, open: read once, changed by many entries, written once.

use super::{Document, Done, Format, Made, NewEntry, Order, plain, same, script};
use crate::names::{folded, natural};
use serde_json::Value;
use std::collections::HashMap;

/// A file in which entries are made and undone one after the other.
pub struct OpenFile {
    bytes: Vec<u8>,
    /// The same as a document, once an entry has asked for it: what is newer counts.
    document: Option<Opened>,
}

/// A document, and what is known of its lists.
struct Opened {
    format: Format,
    separator: Option<String>,
    document: Box<dyn Document>,
    lists: HashMap<String, Members>,
    /// Whether it says something else than the bytes.
    changed: bool,
}

/// The members of a list, found by what they say.
#[derive(Default)]
struct Members {
    /// What each of them says, without a difference between a number and its text.
    texts: Vec<String>,
    /// How often each is there; without case, too.
    count: HashMap<String, usize>,
    folded: HashMap<String, usize>,
}

/// What a member is known by: values that say the same have the same.
fn text_of(value: &Value) -> String {
    if value.is_object() { value.to_string() } else { plain(value) }
}

impl Members {
    fn of(values: &[Value]) -> Self {
        let mut members = Self::default();
        for value in values {
            let at = members.texts.len();
            members.insert(at, text_of(value));
        }
        members
    }

    fn insert(&mut self, at: usize, text: String) {
        *self.count.entry(text.clone()).or_default() += 1;
        *self.folded.entry(folded(&text)).or_default() += 1;
        self.texts.insert(at, text);
    }

    fn remove(&mut self, at: usize) {
        let text = self.texts.remove(at);
        for (map, key) in [(&mut self.count, text.clone()), (&mut self.folded, folded(&text))] {
            if let Some(count) = map.get_mut(&key) {
                *count -= 1;
            }
        }
    }

    fn has(&self, text: &str, ignore_case: bool) -> bool {
        let count = match ignore_case {
            true => self.folded.get(&folded(text)),
            false => self.count.get(text),
        };
        count.is_some_and(|count| *count > 0)
    }

    /// Before the first one that is greater.
    fn place(&self, text: &str, order: &Order) -> usize {
        let greater = |other: &String| match order {
            Order::Codepoint => other.as_str() > text,
            _ => natural(&folded(other), &folded(text)).is_gt(),
        };
        // Lists are nearly always sorted already; a place that is right in both ways needs no look at the rest.
        let at = self.texts.partition_point(|other| !greater(other));
        let is_first = !self.texts[..at].iter().rev().take(1).any(greater);
        match is_first && self.is_sorted(order) {
            true => at,
            false => self.texts.iter().position(greater).unwrap_or(self.texts.len()),
        }
    }

    fn is_sorted(&self, order: &Order) -> bool {
        self.texts.is_sorted_by(|a, b| match order {
            Order::Codepoint => a <= b,
            _ => natural(&folded(a), &folded(b)).is_le(),
        })
    }
}

impl OpenFile {
    /// A file that holds these bytes.
    pub fn new(bytes: Vec<u8>) -> Self {
        Self { bytes, document: None }
    }

    /// What it holds now.
    ///
    /// # Errors
    /// Letters that the file's encoding has no place for.
    pub fn bytes(mut self) -> Result<Vec<u8>, String> {
        self.write()?;
        Ok(self.bytes)
    }

    fn write(&mut self) -> Result<(), String> {
        if let Some(opened) = self.document.take_if(|opened| opened.changed) {
            self.bytes = opened.document.bytes()?;
        }
        Ok(())
    }

    fn open(&mut self, format: Format, separator: Option<&str>) -> Result<&mut Opened, String> {
        let is_it =
            |opened: &Opened| opened.format == format && opened.separator.as_deref() == separator;
        if !self.document.as_ref().is_some_and(is_it) {
            self.write()?;
            self.document = Some(Opened {
                format,
                separator: separator.map(str::to_owned),
                document: format.open(&self.bytes, separator)?,
                lists: HashMap::new(),
                changed: false,
            });
        }
        self.document.as_mut().ok_or_else(|| "it cannot be opened".to_owned())
    }

    /// Whether an entry is there as it is wanted.
    pub fn has(&mut self, wanted: &NewEntry) -> bool {
        let Some(value) = &wanted.value else {
            return self.compare(wanted).is_ok();
        };
        if wanted.format == Format::Script {
            return self.write().is_ok() && wanted.make(&self.bytes) == Ok(Made::Already);
        }
        if self.compare(wanted).is_err() {
            return false;
        }
        let Ok(opened) = self.open(wanted.format, wanted.separator.as_deref()) else {
            return false;
        };
        match wanted.member(value) {
            Some((list, member)) if !matches!(wanted.order, Order::IndexOf { .. }) => {
                let text = text_of(&member);
                opened.members(&list).is_ok_and(|known| known.has(&text, wanted.ignore_case))
            }
            Some(_) => self.write().is_ok() && wanted.make(&self.bytes) == Ok(Made::Already),
            None => opened.says(wanted, value),
        }
    }

    fn compare(&mut self, wanted: &NewEntry) -> Result<(), String> {
        if wanted.expect.is_none() {
            return Ok(());
        }
        self.write()?;
        wanted.compare(&self.bytes)
    }

    /// Makes an entry; nothing where it is there already.
    ///
    /// # Errors
    /// What is wrong with the file, or with the place.
    pub fn make(&mut self, wanted: &NewEntry) -> Result<Option<Done>, String> {
        let simple = wanted.format != Format::Script
            && wanted.expect.is_none()
            && !matches!(wanted.order, Order::IndexOf { .. });
        let (Some(value), true) = (&wanted.value, simple) else {
            self.write()?;
            self.document = None;
            return Ok(match wanted.make(&self.bytes)? {
                Made::Already => None,
                Made::New(bytes, done) => {
                    self.bytes = bytes;
                    Some(*done)
                }
            });
        };
        let opened = self.open(wanted.format, wanted.separator.as_deref())?;
        match wanted.member(value) {
            Some((list, member)) => opened.add(wanted, list, member),
            None => opened.set(wanted, value),
        }
    }

    /// Takes an entry back out; whether it was there.
    ///
    /// # Errors
    /// What is wrong with the file.
    pub fn undo(&mut self, done: &Done) -> Result<bool, String> {
        if done.format == Format::Script {
            self.write()?;
            self.document = None;
            let undone = script::undo(done, &self.bytes)?;
            let was_there = undone.is_some();
            self.bytes = undone.unwrap_or_else(|| std::mem::take(&mut self.bytes));
            return Ok(was_there);
        }
        self.open(done.format, done.separator.as_deref())?.undo(done)
    }

    /// Whether an entry that was made is still there.
    pub fn stands(&mut self, done: &Done) -> bool {
        if done.format == Format::Script {
            return self.write().is_ok() && done.stands(&self.bytes);
        }
        let Ok(opened) = self.open(done.format, done.separator.as_deref()) else {
            return false;
        };
        match done.member {
            true => {
                opened.members(&done.at).is_ok_and(|known| known.has(&text_of(&done.value), false))
            }
            false => opened.document.get(&done.at).is_some_and(|found| same(&found, &done.value)),
        }
    }
}

impl Opened {
    fn members(&mut self, list: &str) -> Result<&mut Members, String> {
        if !self.lists.contains_key(list) {
            let members = Members::of(&self.document.list(list)?);
            self.lists.insert(list.to_owned(), members);
        }
        self.lists.get_mut(list).ok_or_else(|| "no such list".to_owned())
    }

    fn says(&self, wanted: &NewEntry, value: &Value) -> bool {
        let at = wanted.place(value).ok();
        let found = at.and_then(|at| self.document.get(&at));
        found.is_some_and(|found| wanted.says(&found, value))
    }

    /// A member of a list.
    fn add(
        &mut self,
        wanted: &NewEntry,
        list: String,
        member: Value,
    ) -> Result<Option<Done>, String> {
        let text = text_of(&member);
        let known = self.members(&list)?;
        if known.has(&text, wanted.ignore_case) {
            return Ok(None);
        }
        let index = match &wanted.order {
            Order::End => known.texts.len(),
            order => known.place(&text, order),
        };
        let made = known.texts.is_empty() && self.document.get(&list).is_none();
        self.document.insert(&list, index, &member)?;
        self.changed = true;
        self.members(&list)?.insert(index, text);
        Ok(Some(Done { made, ..wanted.done(list, member, true, None) }))
    }

    /// A value at a place.
    fn set(&mut self, wanted: &NewEntry, value: &Value) -> Result<Option<Done>, String> {
        if self.says(wanted, value) {
            return Ok(None);
        }
        let at = wanted.place(value)?;
        let before = self.document.raw(&at);
        self.document.set(&at, value)?;
        self.changed = true;
        self.lists.clear();
        let set = self.document.get(&at).unwrap_or_else(|| value.clone());
        Ok(Some(wanted.done(at, set, false, before)))
    }

    fn undo(&mut self, done: &Done) -> Result<bool, String> {
        if !done.member {
            if !self.document.get(&done.at).is_some_and(|found| same(&found, &done.value)) {
                return Ok(false);
            }
            self.document.put_back(&done.at, done.before.as_deref())?;
            self.lists.clear();
            self.changed = true;
            return Ok(true);
        }
        let text = text_of(&done.value);
        let known = self.members(&done.at)?;
        let place = known.texts.iter().rposition(|other| *other == text);
        let (Some(index), count) = (place, known.texts.len()) else {
            return Ok(false);
        };
        match done.made && count == 1 && done.format != Format::Lines {
            true => {
                self.document.put_back(&done.at, None)?;
                self.lists.clear();
            }
            false => {
                self.document.remove(&done.at, index)?;
                self.members(&done.at)?.remove(index);
            }
        }
        self.changed = true;
        Ok(true)
    }
}
