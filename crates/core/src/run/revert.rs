//! Taking entries back out of the target's files, and leaving what others wrote there since.

use super::restore::{Changed, Failed, Which, covered, layer_of};
use crate::disk::{Disk, read_plain};
use crate::error::{Error, Result};
use crate::fit::write_part;
use crate::hash::Hash;
use crate::ledger::record::{EntryRecord, Held};
use crate::ledger::state::{Slot, State};
use crate::ledger::{Change, held_at, kept_in};
use crate::limits;
use crate::names::Key;
use crate::refusal::OddSlot;
use crate::root::Root;

/// A file that loses entries.
pub struct Reverted {
    /// The file.
    pub file: Key,
    /// What went, in words.
    pub words: Vec<String>,
    /// What was no longer there, in words.
    pub gone: Vec<String>,
    /// What it holds now, and then.
    seen: Held,
    then: Then,
    /// Entries that stay.
    told: Vec<EntryRecord>,
}

/// What a file holds once entries are taken out of it.
enum Then {
    /// What lay there before any: the very file.
    Original,
    /// Nothing, as somebody has removed it.
    Nothing,
    /// These bytes.
    Bytes(Vec<u8>),
}

impl Reverted {
    /// Makes the part, and has the change put it in place.
    pub fn put(&self, change: &mut Change<'_, '_>, disk: &dyn Disk) -> Result<()> {
        match &self.then {
            Then::Original => change.revert(&self.file, self.seen),
            Then::Nothing => change.tell(&self.file, self.seen, Held::Nothing, self.told.clone()),
            Then::Bytes(bytes) => {
                write_part(&change.part(&self.file)?, bytes, disk)?;
                let after = Held::File(Hash::of(bytes));
                change.tell(&self.file, self.seen, after, self.told.clone())
            }
        }
    }
}

/// Works out, for every file with entries that are to go, what it will hold; files that cannot be read
/// are left out, with the reason.
///
/// # Errors
/// [`Error::Refused`] where a later job has put something in the same place, or the file was changed so
/// that an entry cannot be found any more.
pub fn revert(
    root: &Root,
    state: &State,
    which: Which<'_>,
    changed: Changed,
) -> Result<(Vec<Reverted>, Vec<Failed>)> {
    let (mut all, mut failed) = (Vec::new(), Vec::new());
    for (file, known) in &state.slots {
        let goes = |told: &EntryRecord| match which {
            Which::All => true,
            Which::Job(job) => told.job == job,
            Which::Slots(_) | Which::Below(_) => {
                told.slot.as_ref().is_some_and(|slot| which.holds(slot))
            }
        };
        if !known.told.iter().any(goes) {
            continue;
        }
        match one(root, state, file, known, &goes, changed) {
            Ok(untold) => all.push(untold),
            Err(error @ (Error::Read { .. } | Error::StockDamaged { .. })) => {
                failed.push(Failed { slot: file.clone(), error })
            }
            Err(error) => return Err(error),
        }
    }
    Ok((all, failed))
}

fn one(
    root: &Root,
    state: &State,
    file: &Key,
    known: &Slot,
    goes: &dyn Fn(&EntryRecord) -> bool,
    changed: Changed,
) -> Result<Reverted> {
    let path = state.path_of(&root.path, file)?;
    let now = held_at(&path)?;
    let mut told = Vec::new();
    let (mut words, mut gone) = (Vec::new(), Vec::new());
    let mut bytes = match now {
        Held::File(_) => read_plain(&path, limits::LIST).map_err(Error::read(&path))?,
        Held::Nothing | Held::Link(_) => Vec::new(),
    };
    // The latest first: each was made in what the one before had left.
    for (at, one) in known.told.iter().enumerate().rev() {
        if !goes(one) {
            told.insert(0, one.clone());
            continue;
        }
        let later = known.told[at + 1..].iter();
        let mut over = later.filter(|later| !goes(later) && later.done.covers(&one.done));
        if let Some(upper) = over.next() {
            let [lower, upper] = [&one.job, &upper.job].map(|job| layer_of(job));
            return Err(covered(state, lower, file, upper));
        }
        let what = format!("{file}: {}", one.done);
        if !matches!(now, Held::File(_)) {
            gone.insert(0, what);
            continue;
        }
        match one.done.undo(&bytes) {
            Ok(Some(undone)) => {
                bytes = undone;
                words.insert(0, what);
            }
            // Somebody has put another thing there, or taken ours away.
            Ok(None) => gone.insert(0, what),
            Err(_) if changed != Changed::Refuse => gone.insert(0, what),
            Err(what) => {
                return Err(OddSlot::EntryStays { what }.of(file.to_string()));
            }
        }
    }
    let untouched = known.told_held == Some(now) && !known.mixed;
    let original = known.original().filter(|_| told.is_empty() && untouched);
    let then = match (now, original.and_then(Held::hash)) {
        // Nobody else was there: the very file, with all that it had.
        (_, Some(hash)) if is_kept(root, hash) => Then::Original,
        _ if original == Some(Held::Nothing) => Then::Original,
        (Held::File(_), _) => Then::Bytes(bytes),
        _ => Then::Nothing,
    };
    Ok(Reverted { file: file.clone(), words, gone, seen: now, then, told })
}

fn is_kept(root: &Root, hash: Hash) -> bool {
    Hash::of_file(&kept_in(&root.ledger, hash)).is_ok_and(|found| found == hash)
}
