//! Files of closed formats: placed as they are, known by name, size and first bytes alone.

use super::Warning;
use super::slot::Asked;
use crate::disk::Disk;
use crate::error::{Error, Result};
use crate::fit::copy_file;
use crate::hash::Hash;
use crate::ledger::record::Installed;
use crate::ledger::{Ledger, Recovered, What};
use crate::names::Key;
use crate::root::Root;
use serde::Serialize;
use std::fs;
use std::io::Read as _;
use std::path::Path;
use std::time::{SystemTime, UNIX_EPOCH};

/// First bytes that a format is known by.
const MARK: u64 = 4;

/// What is asked.
pub struct AsIs<'a> {
    /// The finished file.
    pub file: &'a Path,
    /// What to call the clip that it was made of; the file itself where it is none other.
    pub clip: &'a Path,
    /// The file to replace, as it was typed.
    pub slot: &'a Path,
    /// The root.
    pub root: &'a Root,
    /// Whether a file may be put where none was.
    pub new: bool,
}

/// What was done, or would be.
#[derive(Debug, Serialize)]
pub struct Placed {
    /// The root.
    pub root: Root,
    /// The slot.
    pub slot: Key,
    /// Bytes of the stock; nothing where no file was.
    pub before_bytes: Option<u64>,
    /// Bytes of the file.
    pub after_bytes: u64,
    /// The first bytes of the file, as text.
    pub mark: String,
    /// What the user should know.
    pub warnings: Vec<Warning>,
    /// A change that had been interrupted earlier.
    pub recovered: Option<Recovered>,
}

impl AsIs<'_> {
    /// Checks the file against the stock and puts it in its place; without a disk it only checks.
    ///
    /// # Errors
    /// [`Error::Refused`] where the file is empty, begins otherwise than the stock, or has another
    /// extension; those of the ledger.
    pub fn place(&self, disk: Option<&dyn Disk>) -> Result<Placed> {
        let slot = Asked { file: Some(self.file), slot: self.slot, root: self.root, new: self.new }
            .look_up(disk)?;
        let (mark, after_bytes) = look(self.file)?;
        let before = slot.stock.as_deref().map(look).transpose()?;
        self.compare(&mark, after_bytes, before.as_ref(), &slot.path)?;
        if let Some(disk) = disk {
            let mut ledger = Ledger::open(self.root, disk)?;
            let slots = std::slice::from_ref(&slot.key);
            let mut change = ledger.begin(What::Swap, slots, Vec::new())?;
            let part = change.part(&slot.key)?;
            copy_file(self.file, &part, disk)?;
            let hash = Hash::of_file(&part)?;
            change.install(&slot.key, hash, self.describe(hash, after_bytes)?)?;
            change.finish()?;
        }
        Ok(Placed {
            root: self.root.clone(),
            slot: slot.key,
            before_bytes: before.map(|(_, bytes)| bytes),
            after_bytes,
            mark: mark.escape_ascii().to_string(),
            warnings: slot.warning.into_iter().collect(),
            recovered: slot.recovered,
        })
    }

    fn compare(
        &self,
        mark: &[u8],
        bytes: u64,
        stock: Option<&(Vec<u8>, u64)>,
        slot: &Path,
    ) -> Result<()> {
        let file = self.file.display();
        if bytes == 0 {
            return Err(Error::refused(format!("{file} is empty"), "make it anew"));
        }
        let is_made = self.clip != self.file;
        let extension = |path: &Path| path.extension().map(|e| e.to_string_lossy().to_lowercase());
        if !is_made && extension(self.file) != extension(slot) {
            return Err(Error::refused(
                format!("{file} has another extension than {}", slot.display()),
                "name the finished file as the target wants it, if it is the right one",
            ));
        }
        match stock {
            Some((wanted, _)) if wanted != mark => Err(Error::refused(
                format!(
                    "{file} begins with \"{}\", the stock with \"{}\": it is another format",
                    mark.escape_ascii(),
                    wanted.escape_ascii()
                ),
                "make it with the target's own encoder",
            )),
            _ => Ok(()),
        }
    }

    fn describe(&self, hash: Hash, bytes: u64) -> Result<Installed> {
        let now = SystemTime::now().duration_since(UNIX_EPOCH);
        let clip_hash = match self.clip == self.file {
            true => Some(hash),
            // Standard input is no file.
            false if !self.clip.is_file() => None,
            false => Some(Hash::of_file(self.clip)?),
        };
        Ok(Installed {
            clip: self.clip.to_string_lossy().into_owned(),
            clip_hash,
            edits: vec![format!("whole file: as it was finished, {bytes} bytes")],
            spec: format!("opaque, {bytes} bytes"),
            seconds: 0.0,
            lufs: None,
            guide: false,
            at: now.map_or(0, |since| since.as_secs()),
            job: None,
            clip_path: super::swap::absolute(Some(self.clip)),
            options: std::collections::BTreeMap::new(),
            key: None,
        })
    }
}

/// The first bytes of a file, and its length.
fn look(path: &Path) -> Result<(Vec<u8>, u64)> {
    let mut mark = Vec::new();
    let read = deft_needle_audio::read::open_regular(path)
        .and_then(|file| file.take(MARK).read_to_end(&mut mark));
    read.map_err(Error::read(path))?;
    let bytes = fs::metadata(path).map_err(Error::read(path))?.len();
    Ok((mark, bytes))
}
