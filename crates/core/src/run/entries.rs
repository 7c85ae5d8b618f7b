//! Entries of a job: what is told beside the files, and which files get other contents by it.

use super::brought::slot_by_slot;
use super::line::Sources;
use super::look::JobPlan;
use super::notice::Notice;
use super::restore::{covered, layer_of};
use super::{Run, known};
use crate::disk::{Disk, read_plain};
use crate::entry::{Done, Format, Made, NewEntry, Order};
use crate::error::{Error, Result};
use crate::ledger::held_of;
use crate::ledger::record::{EntryRecord, Held};
use crate::ledger::state::State;
use crate::limits;
use crate::names::Key;
use crate::refusal::{OddJob, OddPath, OddSlot, OddText};
use crate::root::{Kind, look, refuse_odd};
use crate::sheet::{Carry, Entry, Sorting, Way};
use crate::stock::{Member, Stock};
use crate::template::Names;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// One entry.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct EntryLine {
    /// The file.
    pub file: Key,
    /// What is put there, in words.
    pub what: String,
    /// Whether it is new; else it stands there already.
    pub new: bool,
}

/// Files that get other contents, by what the ledger calls them.
pub type Files = BTreeMap<Key, Contents>;

/// What a file gets.
#[derive(Debug, Clone, PartialEq)]
pub struct Contents {
    /// All of it.
    pub bytes: Vec<u8>,
    /// What the file held when that was worked out.
    pub seen: Held,
    /// The entries in it; nothing where it is only carried.
    pub told: Option<Vec<EntryRecord>>,
    /// The slot that it belongs to, and is restored with.
    pub of: Option<Key>,
}

/// An entry with its templates filled in.
pub(super) struct Filled {
    pub slot: Option<Key>,
    pub wanted: NewEntry,
}

impl Run {
    /// What the ledger calls the files that are carried unchanged.
    pub(super) fn carried(&self, state: &State, disk: &dyn Disk) -> Vec<(Key, &Carry)> {
        let Some(root) = self.root.as_ref().filter(|_| self.destination.overlay) else {
            return Vec::new();
        };
        let key = |carry: &Carry| {
            let to = carry.to.as_ref().unwrap_or(&carry.file);
            self.destination.key(&to.0, state, &root.path, disk).ok()
        };
        let carried = self.target.sheet.carry.iter();
        carried.filter_map(|carry| Some((key(carry)?, carry))).collect()
    }

    /// What a carried file holds: the target's own.
    fn carried_bytes(&self, carry: &Carry, key: &Key, sources: &Sources<'_>) -> Result<Vec<u8>> {
        if carry.to.is_none() {
            return self.source(key, sources);
        }
        let main = self.root.as_ref().map_or(Path::new("."), |root| &root.path);
        let found = self.stock_file(main, &carry.file.0, sources)?;
        found.ok_or_else(|| OddPath::NoEntryFile.of(main.join(&carry.file.0)))
    }

    /// Works out every entry, and the files that change by them.
    pub(super) fn look_at_entries(&self, plan: &mut JobPlan, sources: &Sources<'_>) -> Result<()> {
        let mut asked: BTreeMap<Key, Vec<Filled>> = BTreeMap::new();
        for (file, filled) in self.wanted(plan, sources)? {
            asked.entry(file).or_default().push(filled);
        }
        // Files with nothing but entries that the job no longer makes.
        for (file, known) in &sources.state.slots {
            if known.told.iter().any(|told| self.made(told)) {
                asked.entry(file.clone()).or_default();
            }
        }
        for (file, asked) in asked {
            match self.edit(&file, &asked, sources) {
                Ok((lines, contents)) => {
                    plan.entries.extend(lines);
                    plan.files.extend(contents.map(|contents| (file, contents)));
                }
                Err(error) => plan.faults.push(error),
            }
        }
        self.carry(plan, sources);
        if self.destination.way() == Way::Archive {
            self.look_at_brought(plan, sources.disk);
        }
        Ok(())
    }

    /// What an archive brings, and what it cannot.
    pub(super) fn look_at_brought(&self, plan: &mut JobPlan, disk: &dyn Disk) {
        match self.brought(&plan.lines, disk) {
            Ok(brought) => {
                plan.entries.extend(brought.entries);
                if !brought.left.is_empty() {
                    let files = brought.left.into_iter().collect();
                    plan.notices.push(Notice::EntriesNotPacked { files });
                }
            }
            Err(error) => plan.faults.push(error),
        }
    }

    /// The entries that are wanted, each with its file, slot by slot; those in lists that an archive brings
    /// are not among them.
    fn wanted(&self, plan: &mut JobPlan, sources: &Sources<'_>) -> Result<Vec<(Key, Filled)>> {
        let mut wanted: Vec<(Key, Filled)> = Vec::new();
        let way = self.destination.way();
        for part in &self.target.sheet.entries {
            let entry = part.get_ref();
            let only = &entry.only.0;
            let elsewhere = !only.is_empty() && !only.contains(&way);
            if elsewhere || (way == Way::Archive && self.is_brought(entry)) {
                continue;
            }
            let speakers = known::speakers(self, entry, &plan.lines)?;
            for (slot, names) in speakers {
                let (file, made) = match fill_in(entry, &names) {
                    Ok(filled) => filled,
                    // It is no other for the next slot.
                    Err(odd) => {
                        plan.faults.push(self.target.sheet.fault_in(part, odd));
                        break;
                    }
                };
                match self.file_key(entry.root.as_deref(), &file, sources) {
                    Ok(key) => wanted.push((key, Filled { slot, wanted: made })),
                    Err(error) => plan.faults.push(error),
                }
            }
        }
        slot_by_slot(&mut wanted, &plan.lines);
        Ok(wanted)
    }

    /// Files that are carried along unchanged, where nothing else is written into them.
    fn carry(&self, plan: &mut JobPlan, sources: &Sources<'_>) {
        for (key, carry) in self.carried(sources.state, sources.disk) {
            if plan.files.contains_key(&key) || sources.state.slots.contains_key(&key) {
                continue;
            }
            match self.carried_bytes(carry, &key, sources) {
                Ok(bytes) => {
                    let seen = Held::Nothing;
                    plan.files.insert(key, Contents { bytes, seen, told: None, of: None });
                }
                Err(error) => plan.faults.push(error),
            }
        }
    }

    /// Works out the entries again, now that the files lie beside their places and their digests are known.
    pub(super) fn tell_digests(
        &self,
        plan: &mut JobPlan,
        made: &BTreeMap<Key, PathBuf>,
        sources: &Sources<'_>,
    ) -> Result<()> {
        for line in &mut plan.lines {
            let path = made.get(&line.key);
            line.digests = path.map(|path| crate::digests::of_file(path)).transpose()?;
        }
        plan.entries.clear();
        plan.files.retain(|_, contents| contents.of.is_some());
        self.look_at_entries(plan, sources)?;
        plan.faults.drain(..).next().map_or(Ok(()), Err)
    }

    /// What the ledger calls a file of entries: in an overlay, the overlay's own copy.
    pub(super) fn file_key(
        &self,
        root: Option<&str>,
        file: &str,
        sources: &Sources<'_>,
    ) -> Result<Key> {
        let is_main = self.target.sheet.is_main(root);
        let path = self.root.as_ref().map_or(Path::new("."), |root| &root.path);
        if let Some(root) = root.filter(|_| !is_main)
            && !sources.state.others.contains_key(root)
        {
            return Err(OddJob::OtherRootUnsaid { name: root.to_owned() }.into());
        }
        match (is_main, self.destination.overlay) {
            (true, true) => self.destination.key(file, sources.state, path, sources.disk),
            (true, false) => sources.state.key(path, None, file, sources.disk),
            (false, _) => sources.state.key(path, root, file, sources.disk),
        }
    }

    /// Takes the job's old entries out of a file and puts the new ones in.
    fn edit(
        &self,
        file: &Key,
        asked: &[Filled],
        sources: &Sources<'_>,
    ) -> Result<(Vec<EntryLine>, Option<Contents>)> {
        let refused = |what: String| OddSlot::Entry { what }.of(file.to_string());
        let seen = self.seen(file, sources)?;
        let before = self.source(file, sources)?;
        let known = sources.state.slots.get(file);
        let old = known.map_or(&[][..], |known| known.told.as_slice());
        // What stands, stays where it stands: somebody may have put other things behind it.
        let own = || old.iter().filter(|told| self.made(told));
        let stand = |asked: &Filled| asked.wanted.make(&before) == Ok(Made::Already);
        let wanted = |told: &EntryRecord| asked.iter().any(|asked| told.done.is_of(&asked.wanted));
        if own().next().is_some() && asked.iter().all(stand) && own().all(wanted) {
            let lines = asked.iter().filter_map(|asked| stands(file, &asked.wanted));
            return Ok((lines.collect(), None));
        }
        let mut bytes = before.clone();
        let mut told = Vec::new();
        for (at, one) in old.iter().enumerate().rev() {
            if !self.made(one) {
                told.insert(0, one.clone());
                continue;
            }
            let mut later = old[at + 1..].iter();
            if let Some(upper) = later.find(|l| !self.made(l) && l.done.covers(&one.done)) {
                let [lower, upper] = [&one.job, &upper.job].map(|job| layer_of(job));
                return Err(covered(sources.state, lower, file, upper));
            }
            if let Some(undone) = one.done.undo(&bytes).map_err(refused)? {
                bytes = undone;
            }
        }
        let mut lines = Vec::new();
        for Filled { slot, wanted } in asked {
            let made = wanted.make(&bytes).map_err(refused)?;
            let Made::New(with, done) = made else {
                lines.extend(stands(file, wanted));
                continue;
            };
            bytes = with;
            lines.push(EntryLine {
                file: file.clone(),
                what: done.to_string(),
                // What somebody took out by hand is made again, though the ledger knows it.
                new: !own().any(|told| told.done == done && done.stands(&before)),
            });
            let job = self.job.name.clone();
            told.push(EntryRecord { job, slot: slot.clone().or_else(|| self.only_slot()), done });
        }
        let changed = bytes != before || told != old;
        let contents = Contents { bytes, seen, told: Some(told), of: None };
        Ok((lines, changed.then_some(contents)))
    }

    /// What a file holds now; for an overlay that has none yet, what the target's own one holds. A link is
    /// read where it leads into one of the roots.
    fn source(&self, file: &Key, sources: &Sources<'_>) -> Result<Vec<u8>> {
        let main = self.root.as_ref().map_or(Path::new("."), |root| &root.path);
        let folder = sources.state.root_of(main, file)?;
        let place = look(&folder, file.within(), sources.disk)?;
        refuse_odd(&place)?;
        match place.kind {
            Kind::File => {
                return read_plain(&place.path, limits::LIST).map_err(Error::read(&place.path));
            }
            Kind::Link => return self.through_link(&place.path, main, sources),
            _ => {}
        }
        let missing = || OddPath::NoEntryFile.of(&place.path);
        match self.destination.slot_of(file) {
            Some(name) => self.stock_file(main, &name, sources)?.ok_or_else(missing),
            None => Err(missing()),
        }
    }

    /// What lies there now.
    fn seen(&self, file: &Key, sources: &Sources<'_>) -> Result<Held> {
        let main = self.root.as_ref().map_or(Path::new("."), |root| &root.path);
        let folder = sources.state.root_of(main, file)?;
        held_of(&look(&folder, file.within(), sources.disk)?)
    }

    fn through_link(&self, link: &Path, main: &Path, sources: &Sources<'_>) -> Result<Vec<u8>> {
        let real = link.canonicalize().map_err(Error::read(link))?;
        let others = sources.state.others.values().map(Path::new);
        let mut roots = others.chain([main]).filter_map(|root| root.canonicalize().ok());
        match roots.any(|root| real.starts_with(root)) {
            true => read_plain(&real, limits::LIST).map_err(Error::read(&real)),
            false => Err(OddPath::LinkOut.of(link)),
        }
    }

    /// A file of the target's own: in its root, or in one of the archives that its names come from.
    pub(super) fn stock_file(
        &self,
        root: &Path,
        name: &str,
        sources: &Sources<'_>,
    ) -> Result<Option<Vec<u8>>> {
        let place = look(root, name, sources.disk)?;
        match place.kind {
            Kind::File => {
                let read = read_plain(&place.path, limits::LIST);
                return read.map(Some).map_err(Error::read(&place.path));
            }
            Kind::Link => return self.through_link(&place.path, root, sources).map(Some),
            _ => {}
        }
        let sources = self.target.sheet.slots.iter().map(|source| source.get_ref());
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
pub(super) fn stands(file: &Key, wanted: &NewEntry) -> Option<EntryLine> {
    let what = wanted.words()?;
    Some(EntryLine { file: file.clone(), what, new: false })
}

/// An entry of a sheet with its templates filled in, and its file.
pub(crate) fn fill_in(entry: &Entry, names: &Names) -> Result<(String, NewEntry), OddText> {
    let file = names.text(&entry.file.0)?;
    let extension = file.rsplit_once('.').map_or("", |(_, extension)| extension);
    let format = entry.format.or_else(|| Format::of_extension(extension));
    let format = format.ok_or_else(|| OddText::NoFormat(file.clone()))?;
    let value =
        |value: &Option<toml::Value>| value.as_ref().map(|value| names.value(value)).transpose();
    let order = match (&entry.order, &entry.index_of) {
        (_, Some(other)) => {
            Order::IndexOf { list: names.text(&other.list)?, value: names.value(&other.value)? }
        }
        (Some(Sorting::Sorted), None) => Order::Sorted,
        (Some(Sorting::Codepoint), None) => Order::Codepoint,
        (Some(Sorting::End) | None, None) => Order::End,
    };
    let wanted = NewEntry {
        format,
        at: names.text(entry.at.as_deref().unwrap_or_default())?,
        value: value(&entry.value)?,
        expect: value(&entry.expect)?,
        separator: entry.separator.clone(),
        order,
        ignore_case: entry.ignore_case,
        put: entry.put,
    };
    Ok((file, wanted))
}

/// Entries in words, for what is said once they are made.
pub(super) fn words(told: &[EntryRecord], job: Option<&str>) -> Vec<String> {
    let ours = told.iter().filter(|told| layer_of(&told.job) == job);
    ours.map(|told| Done::to_string(&told.done)).collect()
}
