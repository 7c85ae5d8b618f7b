//! Files of closed formats: placed as they are, known by name, size and first bytes alone.

use super::root::find_root;
use super::swap::{find_stock, no_such_slot, refuse_links};
use super::{Root, Warning};
use crate::disk::Disk;
use crate::error::{Error, Result};
use crate::fit::same_file;
use crate::hash::Hash;
use crate::ledger::record::Installed;
use crate::ledger::{Ledger, Recovered};
use crate::tree::slot_name;
use serde::Serialize;
use std::fs::{self, File};
use std::io::{self, Read as _};
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
    /// The root, where it was named.
    pub root: Option<&'a Path>,
    /// The ledger's folder, where it was named.
    pub ledger: Option<&'a Path>,
    /// Whether a file may be put where none was.
    pub new: bool,
}

/// What was done, or would be.
#[derive(Debug, Serialize)]
pub struct Placed {
    /// The root.
    pub root: Root,
    /// The slot, relative to the root.
    pub slot: String,
    /// Bytes of the stock; nothing where no file was.
    pub before_bytes: Option<u64>,
    /// Bytes of the file.
    pub after_bytes: u64,
    /// The first bytes of the file, as text.
    pub mark: String,
    /// What the user should know.
    pub warnings: Vec<Warning>,
    /// A change that had been broken off earlier.
    pub recovered: Option<Recovered>,
}

impl AsIs<'_> {
    /// Checks the file against the stock and puts it in its place; without a disk it only checks.
    ///
    /// # Errors
    /// [`Error::Refused`] where the file is empty, begins otherwise than the stock, or has another
    /// extension; those of the ledger.
    pub fn place(&self, disk: Option<&dyn Disk>) -> Result<Placed> {
        let root = find_root(self.slot, self.root, self.ledger)?;
        let path = std::path::absolute(self.slot).map_err(Error::read(self.slot))?;
        let slot = slot_name(&root.path, &path)?;
        refuse_links(&root.path, &path)?;
        if same_file(self.file, &path) {
            return Err(Error::refused(
                format!("the file and the slot are the same: {}", path.display()),
                "name the finished file first, then the file that it replaces",
            ));
        }
        let (state, recovered) = match disk {
            Some(disk) => {
                let ledger = Ledger::open(&root.path, &root.ledger, disk)?;
                (ledger.state().clone(), ledger.recovered().cloned())
            }
            None => (Ledger::peek(&root.ledger)?, None),
        };
        let (stock, changed_since) = find_stock(&root, &state, &slot, &path)?;
        let known = state.slots.get(&slot);
        let ours = known.is_some_and(|known| known.installed.is_some());
        if stock.is_none() && !self.new && !ours {
            return Err(no_such_slot(self.slot, &path));
        }
        let (mark, after_bytes) = look(self.file)?;
        let before = stock.as_deref().map(look).transpose()?;
        self.compare(&mark, after_bytes, before.as_ref(), &path)?;
        let mut warnings = Vec::new();
        if changed_since {
            let kept = known.map_or(0, |known| known.stock.len()) + 1;
            warnings.push(Warning::ChangedSince { kept });
        }
        if let Some(disk) = disk {
            let mut ledger = Ledger::open(&root.path, &root.ledger, disk)?;
            let mut change = ledger.begin("swap", std::slice::from_ref(&slot))?;
            let part = change.part(&slot)?;
            let hash = self.copy(&part, disk)?;
            change.install(&slot, hash, self.describe(hash, after_bytes))?;
            change.finish()?;
        }
        Ok(Placed {
            root,
            slot,
            before_bytes: before.map(|(_, bytes)| bytes),
            after_bytes,
            mark: mark.escape_ascii().to_string(),
            warnings,
            recovered,
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

    /// Copies the file beside the slot, and reads it back.
    fn copy(&self, part: &Path, disk: &dyn Disk) -> Result<Hash> {
        let mut from = File::open(self.file).map_err(Error::read(self.file))?;
        let mut to = disk.create(part).map_err(Error::write("create", part))?;
        io::copy(&mut from, &mut to).map_err(Error::write("write", part))?;
        to.sync().map_err(Error::write("write", part))?;
        let (meant, found) = (Hash::of_file(self.file)?, Hash::of_file(part)?);
        if meant != found {
            return Err(Error::Audio(deft_needle_audio::Error::Verify {
                what: "a byte that was copied reads back as another".to_owned(),
            }));
        }
        Ok(found)
    }

    fn describe(&self, hash: Hash, bytes: u64) -> Installed {
        let now = SystemTime::now().duration_since(UNIX_EPOCH);
        Installed {
            clip: self.clip.to_string_lossy().into_owned(),
            clip_hash: Some(hash),
            edits: vec![format!("whole file: as it was finished, {bytes} bytes")],
            spec: format!("opaque, {bytes} bytes"),
            seconds: 0.0,
            lufs: None,
            guide: false,
            at: now.map_or(0, |since| since.as_secs()),
        }
    }
}

/// The first bytes of a file, and its length.
fn look(path: &Path) -> Result<(Vec<u8>, u64)> {
    let mut mark = Vec::new();
    let read = File::open(path).and_then(|file| file.take(MARK).read_to_end(&mut mark));
    read.map_err(Error::read(path))?;
    let bytes = fs::metadata(path).map_err(Error::read(path))?.len();
    Ok((mark, bytes))
}
