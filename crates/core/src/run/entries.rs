//! Entries of a job: what is told beside the files, and which files get other contents by it.

use super::brought::slot_by_slot;
use super::line::{Sources, Work};
use super::look::JobPlan;
use super::removal::Act;
use super::restore::{covered, layer_of};
use super::{Run, known};
use crate::disk::{Disk, read_input, read_plain};
use crate::entry::{Done, Format, NewEntry, OpenFile, Order};
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::ledger::record::{EntryRecord, Held};
use crate::ledger::state::{Entries, State};
use crate::ledger::{held_of, kept_in};
use crate::limits;
use crate::names::Key;
use crate::notice::Notice;
use crate::refusal::{OddJob, OddPath, OddSlot, OddText};
use crate::root::{Kind, look, refuse_odd};
use crate::sheet::{Carry, Entry, Sorting, Way};
use crate::stock::{Member, Stock};
use crate::template::Names;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet, HashMap};
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
    /// What it holds then.
    pub after: After,
    /// What the file held when that was worked out.
    pub seen: Held,
    /// What puts the file there; nothing where it is there, and only edited.
    pub whole: Option<Whole>,
    /// The entries in it; nothing where it has none.
    pub entries: Option<Vec<EntryRecord>>,
    /// Whether somebody has put another file there since, in which nothing of ours is.
    pub anew: bool,
}

/// What a file holds once entries are made in it, or taken out.
#[derive(Debug, Clone, PartialEq)]
pub enum After {
    /// These bytes.
    Bytes(Vec<u8>),
    /// What the ledger keeps of it.
    Kept(Held),
    /// What puts it there, without entries.
    Whole,
}

/// What puts a file there of which entries may be made.
#[derive(Debug, Clone, PartialEq)]
pub enum Whole {
    /// A line of the job, whose clip it is.
    Line(Hash),
    /// A file that the job no longer names is taken out, and these layers stay.
    Back {
        /// How many.
        below: usize,
    },
    /// It comes beside a slot and is restored with it, or is carried along.
    Side {
        /// The slot.
        of: Option<Key>,
        /// The file without entries.
        bytes: Vec<u8>,
        /// Whether the target's own tools write it anew: it goes in as it is, so that it comes back.
        tended: bool,
    },
}

impl Contents {
    /// A file that is put there as it is.
    pub fn beside(bytes: Vec<u8>, of: Option<Key>, tended: bool) -> Self {
        let whole = Whole::Side { of, bytes, tended };
        Self {
            after: After::Whole,
            seen: Held::Nothing,
            whole: Some(whole),
            entries: None,
            anew: false,
        }
    }

    /// What of it is known before entries are.
    fn without_entries(self) -> Option<Self> {
        match self.whole? {
            Whole::Side { of: of @ Some(_), bytes, tended } => {
                Some(Self::beside(bytes, of, tended))
            }
            Whole::Side { of: None, .. } | Whole::Line(_) | Whole::Back { .. } => None,
        }
    }

    /// What must be kept of it before entries are made in it.
    pub fn copy(&self) -> Option<Held> {
        let hash = match (self.entries.as_ref()?, self.whole.as_ref()?) {
            (_, Whole::Line(hash)) => *hash,
            (_, Whole::Side { bytes, .. }) => Hash::of(bytes),
            (_, Whole::Back { .. }) => return None,
        };
        Some(Held::File(hash))
    }

    /// Whether the file is put there, beside slots or carried along.
    pub fn is_put(&self) -> bool {
        matches!(self.whole, Some(Whole::Side { .. }))
    }
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
            if (0..=known.layers.len()).any(|level| self.made_any(known.entries_at(level))) {
                asked.entry(file.clone()).or_default();
            }
        }
        for (file, asked) in asked {
            let edited = match self.whole(&file, plan, sources) {
                Ok(Some(whole)) => self.edit_whole(&file, &asked, whole),
                Ok(None) => self.edit(&file, asked, sources),
                Err(error) => Err(error),
            };
            match edited {
                Ok(edited) => {
                    plan.entries.extend(edited.lines);
                    plan.notices.extend(edited.notices);
                    plan.files.extend(edited.contents.map(|contents| (file, contents)));
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
            let speakers = known::speakers(self, entry, &plan.lines, &mut plan.notices)?;
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
                    plan.files.insert(key, Contents::beside(bytes, None, false));
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
        let files = std::mem::take(&mut plan.files).into_iter();
        plan.files = files.filter_map(|(key, file)| Some((key, file.without_entries()?))).collect();
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

    /// Those that this job has made; of single swaps, those of its slot.
    pub(super) fn own_entries<'e>(&self, entries: &'e [EntryRecord]) -> Vec<&'e EntryRecord> {
        entries.iter().filter(|entry| self.made(entry)).collect()
    }

    /// Whether this job made any of these.
    fn made_any(&self, entries: &Entries) -> bool {
        entries.made.iter().any(|entry| self.made(entry))
    }

    /// What this job itself puts where entries are made, and the entries of others in it.
    fn whole(&self, file: &Key, plan: &JobPlan, sources: &Sources<'_>) -> Result<Option<Coming>> {
        if let Some(Contents { whole: Some(whole @ Whole::Side { bytes, .. }), .. }) =
            plan.files.get(file)
        {
            return Ok(Some((whole.clone(), bytes.clone(), Vec::new())));
        }
        if let Some(back) = plan.back.iter().find(|back| back.key == *file && !back.changed) {
            let (after, entries) = match &back.removal.act {
                Act::Back(back) => (back.after, back.entries.clone()),
                Act::Edit { .. } | Act::Leave { .. } => return Ok(None),
            };
            let bytes = self.kept_below(file, after, sources)?;
            let bytes = bytes.ok_or_else(|| OddPath::NoEntryFile.of(file.within()))?;
            return Ok(Some((Whole::Back { below: back.below }, bytes, entries)));
        }
        let Some(line) = plan.lines.iter().find(|line| line.key == *file) else {
            return Ok(None);
        };
        match line.work {
            Work::Unchanged { .. } => Ok(None),
            Work::AsIs { .. } => {
                let path = line.input.stored_at().ok_or(OddJob::NotFile)?;
                let bytes = read_input(path, limits::LIST).map_err(Error::read(path))?;
                Ok(Some((Whole::Line(Hash::of(&bytes)), bytes, Vec::new())))
            }
            Work::Fit { .. } | Work::Encode { .. } => {
                let clip = line.clip.clone();
                Err(OddSlot::EntryInSound { clip }.of(file.to_string()))
            }
        }
    }

    /// Puts entries into a file that comes with the job.
    fn edit_whole(
        &self,
        file: &Key,
        asked: &[Filled],
        (whole, bytes, stay): Coming,
    ) -> Result<Edited> {
        let before = stay.len();
        let made = self.make_entries(file, asked, bytes, stay)?;
        let any = made.entries.len() > before;
        let contents = Contents {
            after: After::Bytes(made.bytes),
            seen: Held::Nothing,
            whole: Some(whole),
            entries: Some(made.entries),
            anew: false,
        };
        let contents = any.then_some(contents);
        Ok(Edited { lines: made.lines, contents, notices: made.twice })
    }

    /// Makes entries in a file that holds these bytes and `entries` already.
    fn make_entries(
        &self,
        file: &Key,
        asked: &[Filled],
        bytes: Vec<u8>,
        mut entries: Vec<EntryRecord>,
    ) -> Result<MadeEntries> {
        let refused = |what: String| OddSlot::Entry { what }.of(file.to_string());
        let mut open = OpenFile::new(bytes);
        let (mut lines, mut twice) = (Vec::new(), Vec::new());
        let mut set: BTreeSet<String> = BTreeSet::new();
        for Filled { slot, wanted } in asked {
            let Some(done) = open.make(wanted).map_err(refused)? else {
                lines.extend(stands(file, wanted));
                continue;
            };
            if let Some(at) = done.place().filter(|at| !set.insert((*at).to_owned())) {
                let (file, at) = (file.to_string(), at.to_owned());
                twice.push(Notice::SetTwice { file, at });
            }
            lines.push(EntryLine { file: file.clone(), what: done.to_string(), new: true });
            let job = self.job.name.clone();
            entries.push(EntryRecord {
                job,
                slot: slot.clone().or_else(|| self.only_slot()),
                done,
            });
        }
        let bytes = open.bytes().map_err(refused)?;
        Ok(MadeEntries { bytes, entries, lines, twice })
    }

    /// Takes the job's old entries out of a file and puts the new ones in.
    fn edit(&self, file: &Key, mut asked: Vec<Filled>, sources: &Sources<'_>) -> Result<Edited> {
        let known = sources.state.slots.get(file);
        let mut lines = self.covered_entries(file, &mut asked, sources)?;
        let none = Entries::default();
        let entries = known.map_or(&none, |known| known.top_entries());
        let old = entries.made.as_slice();
        if asked.is_empty() && !self.made_any(entries) {
            return Ok(Edited { lines, ..Edited::default() });
        }
        let seen = self.seen(file, sources)?;
        let before = self.source(file, sources)?;
        // What stands, stays where it stands: somebody may have put other things behind it.
        let own = || old.iter().filter(|entry| self.made(entry));
        let mut open = OpenFile::new(before.clone());
        if own().next().is_some()
            && asked.iter().all(|asked| open.has(&asked.wanted))
            && are_wanted(own(), &asked)
        {
            lines.extend(asked.iter().filter_map(|asked| stands(file, &asked.wanted)));
            return Ok(Edited { lines, ..Edited::default() });
        }
        // Where nobody else has written into it, the file is made from what was there before any of ours.
        let alone = own().count() == old.len() && entries.are_all_of(seen);
        let below = known.filter(|_| alone).map(|known| known.below_entries(known.layers.len()));
        let kept = below.map(|below| self.kept_below(file, below, sources)).transpose()?.flatten();
        if let (Some(below), Some(_), []) = (below, &kept, asked.as_slice()) {
            let (after, entries) = (After::Kept(below), Some(Vec::new()));
            let contents = Contents { after, seen, whole: None, entries, anew: false };
            return Ok(Edited { lines, contents: Some(contents), ..Edited::default() });
        }
        let (bytes, stay) = match kept {
            Some(bytes) => (bytes, Vec::new()),
            None => self.take_out_own(file, old, before.clone(), sources)?,
        };
        let made = self.make_entries(file, &asked, bytes, stay)?;
        // What somebody took out by hand is made again, though the ledger knows it.
        let there = own().filter(|entry| open.stands(&entry.done));
        let there: BTreeSet<String> = there.map(|entry| entry.done.to_string()).collect();
        lines.extend(made.lines.into_iter().map(|line| {
            let new = line.new && !there.contains(&line.what);
            EntryLine { new, ..line }
        }));
        let changed = made.bytes != before || made.entries != old;
        let after = After::Bytes(made.bytes);
        let is_changed = known.and_then(|known| known.expected()).is_some_and(|held| held != seen);
        let anew = is_changed && !old.iter().any(|entry| open.stands(&entry.done));
        let contents = Contents { after, seen, whole: None, entries: Some(made.entries), anew };
        Ok(Edited { lines, contents: changed.then_some(contents), notices: made.twice })
    }

    /// Entries of this job over which another file lies now: they stay as they are, or the other one goes first.
    fn covered_entries(
        &self,
        file: &Key,
        asked: &mut Vec<Filled>,
        sources: &Sources<'_>,
    ) -> Result<Vec<EntryLine>> {
        let mut lines = Vec::new();
        let Some(known) = sources.state.slots.get(file) else {
            return Ok(lines);
        };
        for (level, upper) in known.layers.iter().enumerate() {
            let made = known.entries_at(level).made.iter();
            for entry in made.filter(|entry| self.made(entry)) {
                let Some(at) = asked.iter().position(|asked| entry.done.is_of(&asked.wanted))
                else {
                    let (lower, upper) = (layer_of(&entry.job), &upper.installed.job);
                    return Err(covered(sources.state, lower, file, upper.as_deref()));
                };
                lines.extend(stands(file, &asked.remove(at).wanted));
            }
        }
        Ok(lines)
    }

    /// What was in a file before any of our entries; nothing where the copy of it cannot be had.
    fn kept_below(
        &self,
        file: &Key,
        below: Held,
        sources: &Sources<'_>,
    ) -> Result<Option<Vec<u8>>> {
        let Some(root) = &self.root else { return Ok(None) };
        match below {
            Held::File(hash) => {
                let kept = kept_in(&root.ledger, hash);
                let bytes = read_plain(&kept, limits::LIST).ok();
                Ok(bytes.filter(|bytes| Hash::of(bytes) == hash))
            }
            Held::Link(_) => Ok(None),
            Held::Nothing => match self.destination.slot_of(file) {
                Some(name) => self.stock_file(&root.path, &name, sources),
                None => Ok(Some(Vec::new())),
            },
        }
    }

    /// A file's bytes without this job's entries, and those of others.
    fn take_out_own(
        &self,
        file: &Key,
        old: &[EntryRecord],
        bytes: Vec<u8>,
        sources: &Sources<'_>,
    ) -> Result<(Vec<u8>, Vec<EntryRecord>)> {
        let refused = |what: String| OddSlot::Entry { what }.of(file.to_string());
        let mut open = OpenFile::new(bytes);
        let mut stay = Vec::new();
        let mut over: HashMap<&str, &EntryRecord> = HashMap::new();
        for one in old.iter().rev() {
            let place = one.done.place();
            if !self.made(one) {
                stay.push(one.clone());
                over.extend(place.map(|place| (place, one)));
                continue;
            }
            if let Some(upper) = place.and_then(|place| over.get(place)) {
                let [lower, upper] = [&one.job, &upper.job].map(|job| layer_of(job));
                return Err(covered(sources.state, lower, file, upper));
            }
            open.undo(&one.done).map_err(refused)?;
        }
        stay.reverse();
        Ok((open.bytes().map_err(refused)?, stay))
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

/// Whether each of these entries is still wanted.
fn are_wanted<'e>(mut own: impl Iterator<Item = &'e EntryRecord>, asked: &[Filled]) -> bool {
    let words = asked.iter().filter_map(|asked| asked.wanted.words());
    let words: BTreeSet<String> = words.collect();
    // What has the same words is the same, without a look at each pair.
    own.all(|entry| {
        words.contains(&entry.done.to_string())
            || asked.iter().any(|asked| entry.done.is_of(&asked.wanted))
    })
}

/// A file that comes with the job: what puts it there, its bytes, and the entries of others in it.
type Coming = (Whole, Vec<u8>, Vec<EntryRecord>);

/// A file with entries that were made in it.
struct MadeEntries {
    bytes: Vec<u8>,
    entries: Vec<EntryRecord>,
    lines: Vec<EntryLine>,
    /// Places that were set more than once.
    twice: Vec<Notice>,
}

/// What becomes of a file of entries.
#[derive(Default)]
struct Edited {
    lines: Vec<EntryLine>,
    contents: Option<Contents>,
    notices: Vec<Notice>,
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
pub(super) fn words(entries: &[&EntryRecord]) -> Vec<String> {
    entries.iter().map(|entry| Done::to_string(&entry.done)).collect()
}
