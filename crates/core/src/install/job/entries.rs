//! Entries of a job: what is told beside the files, and which files get other contents by it.

use super::Run;
use super::outlook::Outlook;
use crate::entry::{Done, Format, Made, Order, Wanted};
use crate::error::{Error, Result};
use crate::ledger::record::Told;
use crate::ledger::state::State;
use crate::ledger::{join, split};
use crate::sheet::{Entry, Fault, Way};
use crate::stock::{Member, Stock};
use crate::template::Names;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::Path;

/// One entry.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct EntryLine {
    /// The file, with its root where that is not the main one.
    pub file: String,
    /// What is put there, in words.
    pub what: String,
    /// Whether it is new; else it stands there already.
    pub new: bool,
}

/// Files that get other contents, by what the ledger calls them.
pub type Files = BTreeMap<String, Contents>;

/// What a file gets.
#[derive(Debug, Clone, PartialEq)]
pub struct Contents {
    /// All of it.
    pub bytes: Vec<u8>,
    /// The entries in it; nothing where it is only carried.
    pub told: Option<Vec<Told>>,
}

/// An entry with its templates filled in.
struct Asked {
    slot: Option<String>,
    wanted: Wanted,
}

impl Run {
    /// What the ledger calls the files that are carried unchanged.
    pub(super) fn carried(&self) -> Vec<String> {
        match self.ground.overlay {
            true => self
                .target
                .sheet
                .carry
                .iter()
                .map(|carry| self.ground.key(&carry.file.0))
                .collect(),
            false => Vec::new(),
        }
    }

    /// Works out every entry, and the files that change by them.
    pub(super) fn look_at_entries(&self, outlook: &mut Outlook, state: &State) -> Result<()> {
        let mut asked: BTreeMap<String, Vec<Asked>> = BTreeMap::new();
        let way = self.ground.way();
        let is_main = |root: &Option<String>| {
            let first = self.target.sheet.roots.first();
            root.is_none() || root.as_ref() == first
        };
        for entry in &self.target.sheet.entries {
            let only = &entry.get_ref().only.0;
            // An archive brings what it has to tell in its own manifest.
            let within = way == Way::Archive && is_main(&entry.get_ref().root);
            if within || (!only.is_empty() && !only.contains(&way)) {
                continue;
            }
            let fault = |what: String| -> Error {
                Fault::whole(self.target.sheet.path(), what, "see the sheet's [[entry]]").into()
            };
            for (slot, names) in self.speakers(entry.get_ref(), &outlook.lines)? {
                let (file, wanted) = fill_in(entry.get_ref(), &names).map_err(fault)?;
                let key = self.file_key(entry.get_ref().root.as_deref(), &file);
                asked.entry(key).or_default().push(Asked { slot, wanted });
            }
        }
        // Files with nothing but entries that the job no longer makes.
        for (file, known) in &state.slots {
            if known.told.iter().any(|told| told.job == self.job.name) {
                asked.entry(file.clone()).or_default();
            }
        }
        for (file, asked) in asked {
            match self.edit(&file, &asked, state) {
                Ok((lines, contents)) => {
                    outlook.entries.extend(lines);
                    outlook
                        .files
                        .extend(contents.map(|contents| (file, contents)));
                }
                Err(error) => outlook.faults.push(error),
            }
        }
        for key in self.carried() {
            if outlook.files.contains_key(&key) || state.slots.contains_key(&key) {
                continue;
            }
            match self.source(&key, state) {
                Ok(bytes) => {
                    outlook.files.insert(key, Contents { bytes, told: None });
                }
                Err(error) => outlook.faults.push(error),
            }
        }
        Ok(())
    }

    /// What the ledger calls a file of entries: in an overlay, the overlay's own copy.
    fn file_key(&self, root: Option<&str>, file: &str) -> String {
        let main =
            root.is_none_or(|root| self.target.sheet.roots.first().is_some_and(|r| r == root));
        match (main, self.ground.overlay) {
            (true, true) => self.ground.key(file),
            (true, false) => file.to_owned(),
            (false, _) => join(root, file),
        }
    }

    /// Takes the job's old entries out of a file and puts the new ones in.
    fn edit(
        &self,
        file: &str,
        asked: &[Asked],
        state: &State,
    ) -> Result<(Vec<EntryLine>, Option<Contents>)> {
        let refused =
            |what: String| Error::refused(format!("{file}: {what}"), "mend the file or the sheet");
        let before = self.source(file, state)?;
        let known = state.slots.get(file);
        let old = known.map_or(&[][..], |known| known.told.as_slice());
        // What stands, stays where it stands: somebody may have put other things behind it.
        let own = || old.iter().filter(|told| told.job == self.job.name);
        let stand = |asked: &Asked| asked.wanted.make(&before) == Ok(Made::Already);
        let wanted = |told: &Told| asked.iter().any(|asked| told.done.is_of(&asked.wanted));
        if own().next().is_some() && asked.iter().all(stand) && own().all(wanted) {
            let lines = asked.iter().filter_map(|asked| stands(file, &asked.wanted));
            return Ok((lines.collect(), None));
        }
        let mut bytes = before.clone();
        let mut told = Vec::new();
        for (at, one) in old.iter().enumerate().rev() {
            if one.job != self.job.name {
                told.insert(0, one.clone());
                continue;
            }
            let mut later = old[at + 1..].iter();
            if let Some(upper) = later.find(|l| l.job != one.job && l.done.covers(&one.done)) {
                return Err(crate::install::restore::covered(
                    &one.job,
                    file,
                    Some(&upper.job),
                ));
            }
            if let Some(undone) = one.done.undo(&bytes).map_err(refused)? {
                bytes = undone;
            }
        }
        let mut lines = Vec::new();
        for Asked { slot, wanted } in asked {
            let made = wanted.make(&bytes).map_err(|what| {
                let name = file.rsplit(['/', ':']).next().unwrap_or(file);
                Error::refused(
                    format!("{name} {what}"),
                    format!("in {file}; mend the file or the job"),
                )
            })?;
            let Made::New(with, done) = made else {
                lines.extend(stands(file, wanted));
                continue;
            };
            bytes = with;
            lines.push(EntryLine {
                file: file.to_owned(),
                what: done.to_string(),
                new: !old
                    .iter()
                    .any(|told| told.done == done && told.job == self.job.name),
            });
            let job = self.job.name.clone();
            told.push(Told {
                job,
                slot: slot.clone(),
                done,
            });
        }
        let changed = bytes != before || told != old;
        let contents = Contents {
            bytes,
            told: Some(told),
        };
        Ok((lines, changed.then_some(contents)))
    }

    /// What a file holds now; for an overlay that has none yet, what the target's own one holds.
    fn source(&self, file: &str, state: &State) -> Result<Vec<u8>> {
        let root = self.root.as_ref().map_or(Path::new("."), |root| &root.path);
        let (other, within) = split(file);
        let folder = match other {
            None => root,
            Some(name) => {
                let given = self.ground.others.get(name).map(|path| path.as_path());
                let known = state.others.get(name).map(Path::new);
                given.or(known).ok_or_else(|| {
                    Error::refused(
                        format!("the job does not say where the root {name} is"),
                        format!("write roots = {{ …, {name} = 'FOLDER' }}"),
                    )
                })?
            }
        };
        let path = crate::tree::slot_path(folder, within)?;
        if path.is_file() {
            return std::fs::read(&path).map_err(Error::read(&path));
        }
        let stock = self
            .ground
            .overlay
            .then(|| self.ground.key(""))
            .and_then(|prefix| {
                let prefix = prefix.trim_end_matches('/');
                file.strip_prefix(prefix)
                    .map(|name| name.trim_start_matches(['/', ':']))
            });
        let missing = || {
            Error::refused(
                format!("there is no {} for the entries to go into", path.display()),
                "start the target once so that it makes the file, or check the root",
            )
        };
        match stock {
            Some(name) => self.stock_file(root, name)?.ok_or_else(missing),
            None => Err(missing()),
        }
    }

    /// A file of the target's own: in its root, or in one of the archives that its names come from.
    fn stock_file(&self, root: &Path, name: &str) -> Result<Option<Vec<u8>>> {
        let path = crate::tree::slot_path(root, name)?;
        if path.is_file() {
            return std::fs::read(&path).map(Some).map_err(Error::read(&path));
        }
        let sources = self
            .target
            .sheet
            .slots
            .iter()
            .map(|source| source.get_ref());
        for archive in sources.filter_map(|source| source.in_root.as_ref()) {
            let archive = root.join(&archive.0);
            if !Stock::is_archive(&archive) {
                continue;
            }
            let look = |member: &Member| match member.name == name {
                true => member.bytes_of().map(Some),
                false => Ok(None),
            };
            let found =
                Stock::open(&archive)?.look(&look, &deft_needle_audio::observe::Unobserved)?;
            if let Some(bytes) = found.found.into_iter().flatten().next() {
                return Ok(Some(bytes));
            }
        }
        Ok(None)
    }
}

/// An entry that stands there already.
fn stands(file: &str, wanted: &Wanted) -> Option<EntryLine> {
    let value = wanted.value.as_ref()?;
    Some(EntryLine {
        file: file.to_owned(),
        what: format!("{} = {}", wanted.at, crate::entry::in_line(value)),
        new: false,
    })
}

/// An entry of a sheet with its templates filled in, and its file.
pub(crate) fn fill_in(entry: &Entry, names: &Names) -> Result<(String, Wanted), String> {
    let file = names.text(&entry.file.0)?;
    let extension = file.rsplit_once('.').map_or("", |(_, extension)| extension);
    let format = entry.format.or_else(|| Format::of_extension(extension));
    let format = format.ok_or_else(|| {
        format!("nothing tells how {file} is written: say format = \"json\", toml, ini, table, plist or lines")
    })?;
    let value =
        |value: &Option<toml::Value>| value.as_ref().map(|value| names.value(value)).transpose();
    let order = match (&entry.order, &entry.index_of) {
        (_, Some(other)) => Order::IndexOf {
            list: names.text(&other.list)?,
            value: names.value(&other.value)?,
        },
        (Some(crate::sheet::Sorting::Sorted), None) => Order::Sorted,
        (Some(crate::sheet::Sorting::End) | None, None) => Order::End,
    };
    let wanted = Wanted {
        format,
        at: names.text(entry.at.as_deref().unwrap_or_default())?,
        value: value(&entry.value)?,
        expect: value(&entry.expect)?,
        separator: entry.separator.clone(),
        order,
    };
    Ok((file, wanted))
}

/// Entries in words, for what is said once they are made.
pub(super) fn words(told: &[Told], job: &str) -> Vec<String> {
    let ours = told.iter().filter(|told| told.job == job);
    ours.map(|told| Done::to_string(&told.done)).collect()
}
