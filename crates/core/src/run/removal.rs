//! What becomes of one file when something of ours is taken out of it: the layers and entries that go are the topmost,
//! and what lies below comes back as it was kept. Where others have written into a list, our entries alone are taken out.

use super::restore::{Changed, Which, covered, covered_entry, layer_of};
use crate::disk::write_part;
use crate::disk::{Disk, read_plain};
use crate::entry::OpenFile;
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::ledger::record::{EntryRecord, Held};
use crate::ledger::state::{Entries, Slot, State};
use crate::ledger::{Back, Change, check_intact, held_at, kept_in};
use crate::limits;
use crate::names::Key;
use crate::refusal::OddSlot;
use crate::root::Root;
use std::collections::{BTreeSet, HashMap};

/// A file that something is taken out of.
#[derive(Debug, Clone, PartialEq)]
pub struct Removal {
    /// The file.
    pub slot: Key,
    /// What becomes of it.
    pub act: Act,
    /// Entries that go, in words.
    pub entries: Vec<String>,
    /// Entries that were no longer there, in words.
    pub gone: Vec<String>,
}

/// What becomes of a file.
#[derive(Debug, Clone, PartialEq)]
pub enum Act {
    /// It gets back what is kept.
    Back(Back),
    /// It holds these bytes then.
    Edit { bytes: Vec<u8>, back: Back },
    /// It stays as it is, and is nothing of ours any more; these entries may be in it still.
    Leave { entries: Vec<EntryRecord> },
}

impl Removal {
    /// Makes its part, and has the change put it in place.
    ///
    /// # Errors
    /// Those of the change.
    pub fn put(&self, change: &mut Change<'_, '_>, disk: &dyn Disk) -> Result<()> {
        match &self.act {
            Act::Back(back) => change.restore(&self.slot, back.clone()),
            Act::Edit { bytes, back } => {
                write_part(&change.part(&self.slot)?, bytes, disk)?;
                change.restore(&self.slot, back.clone())
            }
            Act::Leave { entries } => change.leave(&self.slot, entries.clone()),
        }
    }
}

impl Which<'_> {
    /// Whether a layer of a slot is to go.
    fn takes_layer(self, slot: &Key, job: Option<&str>) -> bool {
        match self {
            Self::Job(wanted) | Self::FilesOf(wanted) => job == Some(wanted),
            Self::All | Self::Slots(_) | Self::Below(_) => self.holds(slot),
        }
    }

    /// Whether an entry in a file is to go; `above` where it is in a layer that goes.
    fn takes_entry(self, file: &Key, entry: &EntryRecord, above: bool) -> bool {
        match self {
            Self::All => true,
            Self::Job(job) => entry.job == job,
            Self::FilesOf(job) => above && entry.job == job,
            Self::Slots(_) | Self::Below(_) => {
                self.holds(file) || entry.slot.as_ref().is_some_and(|slot| self.holds(slot))
            }
        }
    }
}

/// How many layers of a slot stay, where what goes of it is all that lies over them.
struct Cut {
    below: usize,
    /// Whether a layer goes.
    whole: bool,
    /// Entries of the topmost layer that stays: those that go, by their places, and those that stay.
    go: BTreeSet<usize>,
    stay: Vec<EntryRecord>,
}

/// Works out what becomes of a file; `None` where nothing in it is to go.
///
/// # Errors
/// [`Error::Changed`] where somebody else has changed it and nobody has said what then; [`Error::Refused`] where
/// something that stays lies over what goes, or an entry cannot be found any more; [`Error::StockDamaged`];
/// [`Error::Read`].
pub fn plan_removal(
    root: &Root,
    state: &State,
    slot: &Key,
    which: Which<'_>,
    changed: Changed,
) -> Result<Option<Removal>> {
    let Some(known) = state.slots.get(slot) else { return Ok(None) };
    let Some(cut) = cut(state, slot, known, which)? else { return Ok(None) };
    let now = held_at(&state.path_of(&root.path, slot)?)?;
    let file = File { root, state, slot, known, now };
    match cut.whole {
        true => file.uncover(cut, changed),
        false => file.take_entries(cut, changed),
    }
    .map(Some)
}

fn cut(state: &State, slot: &Key, known: &Slot, which: Which<'_>) -> Result<Option<Cut>> {
    let job_of = |at: usize| known.layers[at].installed.job.as_deref();
    let goes = |at: &usize| which.takes_layer(slot, job_of(*at));
    let entry_goes = |entry: &EntryRecord, above| which.takes_entry(slot, entry, above);
    let top = known.layers.len();
    let first = (0..top).find(goes);
    let below = first.unwrap_or(top);
    if let Some(upper) = (below..top).find(|at| !goes(at)) {
        return Err(covered(state, job_of(below), slot, job_of(upper)));
    }
    for level in below + 1..=top {
        let mut made = known.entries_at(level).made.iter();
        if let Some(upper) = made.find(|entry| !entry_goes(entry, true)) {
            return Err(covered(state, job_of(below), slot, layer_of(&upper.job)));
        }
    }
    for level in 0..below {
        let mut made = known.entries_at(level).made.iter();
        if let Some(lower) = made.find(|entry| entry_goes(entry, false)) {
            return Err(covered(state, layer_of(&lower.job), slot, job_of(level)));
        }
    }
    let (mut go, mut stay) = (BTreeSet::new(), Vec::new());
    // What lies over an entry that goes was put in the same place later.
    let mut over: HashMap<&str, &EntryRecord> = HashMap::new();
    for (at, entry) in known.entries_at(below).made.iter().enumerate().rev() {
        let place = entry.done.place();
        if !entry_goes(entry, false) {
            stay.push(entry.clone());
            over.extend(place.map(|place| (place, entry)));
            continue;
        }
        if let Some(upper) = place.and_then(|place| over.get(place)) {
            return Err(covered_entry(state, slot, entry, upper));
        }
        go.insert(at);
    }
    stay.reverse();
    let whole = first.is_some();
    Ok((whole || !go.is_empty()).then_some(Cut { below, whole, stay, go }))
}

/// A file of which something goes, and what it holds now.
struct File<'a> {
    root: &'a Root,
    state: &'a State,
    slot: &'a Key,
    known: &'a Slot,
    now: Held,
}

impl File<'_> {
    fn removal(&self, act: Act, entries: Vec<String>, gone: Vec<String>) -> Removal {
        Removal { slot: self.slot.clone(), act, entries, gone }
    }

    /// Layers go, and the entries in them.
    fn uncover(&self, cut: Cut, changed: Changed) -> Result<Removal> {
        let known = self.known;
        // An older file of ours is nobody's change, nor is one that is gone or the stock again.
        let ours = known.is_ours(self.now) || known.expected() == Some(self.now);
        let tended = known.top().is_some_and(|top| top.installed.tended);
        let is_ours = tended || (ours && !known.top_entries().mixed);
        let is_known = self.now == Held::Nothing || known.original() == Some(self.now);
        if !is_ours && !is_known {
            match changed {
                Changed::Refuse => return Err(Error::Changed { slot: self.slot.clone() }),
                Changed::Keep => {
                    return Ok(self.removal(Act::Leave { entries: cut.stay }, vec![], vec![]));
                }
                Changed::Overwrite => {}
            }
        }
        let level = known.entries_at(cut.below);
        let words = self.words_of(&cut, known.layers.len());
        if cut.go.is_empty() {
            let back = self.back(known.held_at(cut.below), cut.below, cut.stay);
            return Ok(self.removal(Act::Back(self.proved(back)?), words, vec![]));
        }
        if cut.stay.is_empty() && !level.mixed {
            let back = self.back(known.below_entries(cut.below), cut.below, cut.stay);
            return Ok(self.removal(Act::Back(self.proved(back)?), words, vec![]));
        }
        let with = self.kept_bytes(known.held_at(cut.below))?;
        // What others have made of it before it was covered comes back as it was then.
        let taken = self.take_out(&cut, with, Changed::Keep)?;
        let back = self.back(Held::File(Hash::of(&taken.bytes)), cut.below, cut.stay);
        Ok(self.removal(Act::Edit { bytes: taken.bytes, back }, words, taken.gone))
    }

    /// Nothing but entries go.
    fn take_entries(&self, cut: Cut, changed: Changed) -> Result<Removal> {
        let known = self.known;
        let entries: &Entries = known.top_entries();
        let exact = known.below_entries(cut.below);
        let whole = || self.words_of(&cut, cut.below);
        let gone = |cut: &Cut| self.words_of(cut, cut.below);
        let edited = |after, cut: Cut| Back {
            edited: Some(self.now),
            ..self.back(after, cut.below, cut.stay)
        };
        if entries.are_all_of(self.now) && cut.stay.is_empty() && self.is_kept(exact)? {
            let words = whole();
            return Ok(self.removal(Act::Back(edited(exact, cut)), words, vec![]));
        }
        let damaged = |cut: Cut| match changed {
            Changed::Refuse => Err(Error::Changed { slot: self.slot.clone() }),
            Changed::Keep => {
                let gone = gone(&cut);
                Ok(self.removal(Act::Leave { entries: cut.stay }, vec![], gone))
            }
            Changed::Overwrite => {
                let gone = gone(&cut);
                let back = self.proved(self.back(exact, cut.below, cut.stay))?;
                Ok(self.removal(Act::Back(back), vec![], gone))
            }
        };
        let bytes = match self.now {
            Held::File(_) => self.bytes()?,
            // What is gone altogether comes back like a slot.
            Held::Nothing if cut.stay.is_empty() && changed != Changed::Keep => {
                let gone = gone(&cut);
                let back = self.proved(edited(exact, cut))?;
                return Ok(self.removal(Act::Back(back), vec![], gone));
            }
            Held::Nothing => {
                let gone = gone(&cut);
                let back = edited(Held::Nothing, cut);
                return Ok(self.removal(Act::Back(back), vec![], gone));
            }
            Held::Link(_) => return damaged(cut),
        };
        let empty = Held::File(Hash::of(&[]));
        if bytes.is_empty() && exact != empty && exact != Held::Nothing {
            return damaged(cut);
        }
        let taken = match self.take_out(&cut, bytes, changed) {
            Err(Error::Refused(_)) if changed == Changed::Overwrite => return damaged(cut),
            other => other?,
        };
        if changed == Changed::Overwrite && !taken.gone.is_empty() && cut.stay.is_empty() {
            return damaged(cut);
        }
        let back = edited(Held::File(Hash::of(&taken.bytes)), cut);
        Ok(self.removal(Act::Edit { bytes: taken.bytes, back }, taken.words, taken.gone))
    }

    fn back(&self, after: Held, below: usize, entries: Vec<EntryRecord>) -> Back {
        Back { after, below, entries, edited: None }
    }

    fn words(&self, entry: &EntryRecord) -> String {
        format!("{}: {}", self.slot, entry.done)
    }

    /// The entries that go down to a level, in words.
    fn words_of(&self, cut: &Cut, top: usize) -> Vec<String> {
        let own = &self.known.entries_at(cut.below).made;
        let upper = (cut.below + 1..=top).flat_map(|level| &self.known.entries_at(level).made);
        cut.go.iter().map(|at| &own[*at]).chain(upper).map(|entry| self.words(entry)).collect()
    }

    /// What cannot be brought back must not keep the rest from it.
    fn proved(&self, back: Back) -> Result<Back> {
        match back.after == self.now || self.is_kept(back.after)? {
            true => Ok(back),
            false => Err(self.damaged(back.after)),
        }
    }

    fn damaged(&self, held: Held) -> Error {
        let path = held.hash().map(|hash| kept_in(&self.root.ledger, hash)).unwrap_or_default();
        Error::StockDamaged { slot: self.slot.to_string(), path }
    }

    fn is_kept(&self, held: Held) -> Result<bool> {
        held.hash().map_or(Ok(true), |hash| check_intact(&kept_in(&self.root.ledger, hash), hash))
    }

    fn kept_bytes(&self, held: Held) -> Result<Vec<u8>> {
        let Held::File(hash) = held else { return Ok(Vec::new()) };
        if !self.is_kept(held)? {
            return Err(self.damaged(held));
        }
        let kept = kept_in(&self.root.ledger, hash);
        read_plain(&kept, limits::LIST).map_err(Error::read(&kept))
    }

    fn bytes(&self) -> Result<Vec<u8>> {
        let path = self.state.path_of(&self.root.path, self.slot)?;
        read_plain(&path, limits::LIST).map_err(Error::read(&path))
    }

    /// Takes entries out of a file, the latest first: each was made in what the one before had left.
    fn take_out(&self, cut: &Cut, bytes: Vec<u8>, changed: Changed) -> Result<Taken> {
        let mut open = OpenFile::new(bytes.clone());
        let (mut words, mut gone) = (Vec::new(), Vec::new());
        let made = &self.known.entries_at(cut.below).made;
        for one in cut.go.iter().rev().map(|at| &made[*at]) {
            let what = self.words(one);
            match open.undo(&one.done) {
                Ok(true) => words.push(what),
                // Somebody has put another thing there, or taken ours away.
                Ok(false) => gone.push(what),
                Err(_) if changed == Changed::Keep => gone.push(what),
                Err(what) => {
                    return Err(OddSlot::EntryStays { what }.of(self.slot.to_string()));
                }
            }
        }
        words.reverse();
        gone.reverse();
        // What could not be read was not changed either.
        let bytes = match open.bytes() {
            Ok(bytes) => bytes,
            Err(_) if changed == Changed::Keep => bytes,
            Err(what) => return Err(OddSlot::EntryStays { what }.of(self.slot.to_string())),
        };
        Ok(Taken { bytes, words, gone })
    }
}

/// A file's bytes without entries.
struct Taken {
    bytes: Vec<u8>,
    words: Vec<String>,
    gone: Vec<String>,
}
