//! Taking entries back out of the target's files, and leaving what others wrote there since.

use super::restore::{Changed, Which, covered};
use super::root::Root;
use crate::disk::Disk;
use crate::error::{Error, Result};
use crate::fit::write_part;
use crate::hash::Hash;
use crate::ledger::record::{Held, Told};
use crate::ledger::state::{Slot, State};
use crate::ledger::{Change, held_at, kept_in};

/// A file that loses entries.
pub struct Untold {
    /// The file, as the ledger names it.
    pub file: String,
    /// What went, in words.
    pub words: Vec<String>,
    /// What it holds then; nothing where it goes altogether.
    bytes: Option<Vec<u8>>,
    /// Entries that stay.
    told: Vec<Told>,
}

impl Untold {
    /// Makes the part, and has the change put it in place.
    pub fn put(&self, change: &mut Change<'_, '_>, disk: &dyn Disk) -> Result<()> {
        let after = match &self.bytes {
            None => Held::Nothing,
            Some(bytes) => {
                write_part(&change.part(&self.file)?, bytes, disk)?;
                Held::File(Hash::of(bytes))
            }
        };
        change.tell(&self.file, after, self.told.clone())
    }
}

/// Works out, for every file with entries that are to go, what it will hold.
///
/// # Errors
/// [`Error::Refused`] where a later job has put something in the same place, or the file was changed so
/// that an entry cannot be found any more.
pub fn untell(
    root: &Root,
    state: &State,
    which: Which<'_>,
    changed: Changed,
) -> Result<Vec<Untold>> {
    let mut all = Vec::new();
    for (file, known) in &state.slots {
        let goes = |told: &Told| match which {
            Which::All => true,
            Which::Job(job) => told.job == job,
            Which::Slots(slots) => told.slot.as_ref().is_some_and(|slot| slots.contains(slot)),
        };
        if known.told.iter().any(goes) {
            all.push(one(root, state, file, known, &goes, changed)?);
        }
    }
    Ok(all)
}

fn one(
    root: &Root,
    state: &State,
    file: &str,
    known: &Slot,
    goes: &dyn Fn(&Told) -> bool,
    changed: Changed,
) -> Result<Untold> {
    let path = state.path_of(&root.path, file)?;
    let now = held_at(&path)?;
    let mut told = Vec::new();
    let mut words = Vec::new();
    let mut bytes = match now {
        Held::Nothing => Vec::new(),
        Held::File(_) => std::fs::read(&path).map_err(Error::read(&path))?,
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
            return Err(covered(&one.job, file, Some(&upper.job)));
        }
        words.insert(0, format!("{file}: {}", one.done));
        if now == Held::Nothing {
            continue;
        }
        match one.done.undo(&bytes) {
            Ok(Some(undone)) => bytes = undone,
            // Somebody has put another thing there, or taken ours away.
            Ok(None) => {}
            Err(_) if changed != Changed::Refuse => {}
            Err(what) => {
                return Err(Error::refused(
                    format!("{file}: {what}"),
                    "mend the file, or say --changed keep to leave it as it is",
                ));
            }
        }
    }
    let untouched = known.told_held == Some(now) && !known.mixed;
    let stock = known.stock.last().copied();
    let bytes = match (now, told.is_empty() && untouched, stock) {
        (Held::Nothing, _, _) => None,
        (_, true, Some(Held::Nothing)) => None,
        // Nobody else was there: the very bytes.
        (_, true, Some(Held::File(hash))) => {
            let kept = kept_in(&root.ledger, hash);
            let read = std::fs::read(&kept).ok();
            Some(read.filter(|b| Hash::of(b) == hash).unwrap_or(bytes))
        }
        _ => Some(bytes),
    };
    Ok(Untold {
        file: file.to_owned(),
        words,
        bytes,
        told,
    })
}
