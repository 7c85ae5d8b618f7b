//! What lies beside a page: sounds that are too large to lie in it, and the turn of a watched job.

use crate::failure::Failure;
use deft_needle_audio::write::Out;
use deft_needle_core::disk::put_file;
use deft_needle_core::disk::{Disk as _, RealDisk};
use deft_needle_core::hash::Hash;
use deft_needle_core::refusal::OddPath;
use deft_needle_core::root::Kind;
use deft_needle_proof::Sounds;
use deft_needle_proof::page::{HANDS_OVER, TURNS, hand_over};
use deft_needle_proof::sound::{Kept, Playable};
use std::collections::BTreeSet;
use std::io::{Read as _, Write};
use std::path::{Path, PathBuf};

/// What is looked at of a file to tell what it is.
const HEAD: u64 = 1 << 16;
/// Digits of the names of sounds beside a page.
pub const DIGITS: usize = 16;

/// The sounds of a page: some in it, the rest in files.
pub struct Away<'a> {
    /// The folder beside the page, by its name and where it is.
    pub files: String,
    pub folder: PathBuf,
    /// Bytes that may still go into the page.
    pub room: u64,
    pub disk: &'a RealDisk,
    /// What lies beside the page.
    pub used: BTreeSet<String>,
}

impl Away<'_> {
    /// Puts a sound into the page where there is room, else beside it.
    ///
    /// # Errors
    /// Those of writing; a refusal where something else lies there.
    pub fn put(&mut self, sound: Playable) -> Result<Sounds, Failure> {
        let unread =
            |source| deft_needle_core::Error::read(Path::new("a sound of the page"))(source);
        let sounds = if let Some(left) = self.room.checked_sub(sound.bytes) {
            self.room = left;
            Sounds::Inline { bytes: sound.read().map_err(unread)?, kind: sound.kind }
        } else {
            // Once one lies outside, all that come do: what is in the page is heard at once.
            self.room = 0;
            let hash = Hash::of_reader(&mut *sound.open().map_err(unread)?).map_err(unread)?;
            let name = &hash.hex()[..DIGITS];
            let [file, script] =
                [sound.extension, "js"].map(|extension| format!("{name}.{extension}"));
            let script_path = format!("{}/{script}", self.files);
            let mut bytes = sound.open().map_err(unread)?;
            self.make(&file, |out| std::io::copy(&mut bytes, out).map(drop))?;
            let mut bytes = sound.open().map_err(unread)?;
            self.make(&script, |out| hand_over(&script_path, &mut bytes, out))?;
            Sounds::Beside { file: format!("{}/{file}", self.files), script: script_path }
        };
        if let Kept::File(path) = &sound.file {
            // What is left goes with its folder.
            let _ = self.disk.remove(path);
        }
        Ok(sounds)
    }

    /// Makes a file beside the page.
    ///
    /// # Errors
    /// Those of writing; a refusal where something else lies there.
    pub fn make(
        &mut self,
        name: &str,
        write: impl FnOnce(&mut dyn Write) -> std::io::Result<()>,
    ) -> Result<(), Failure> {
        match Kind::of(&self.folder)? {
            Kind::Folder => {}
            Kind::Link => return Err(OddPath::Link.of(&self.folder).into()),
            _ => std::fs::create_dir_all(&self.folder)
                .map_err(|source| deft_needle_core::Error::write("make", &self.folder)(source))?,
        }
        let path = self.folder.join(name);
        if Kind::of(&path)? != Kind::Nothing && !is_ours(&path, name) {
            return Err(OddPath::Exists { in_target: false }.of(&path).into());
        }
        let make = |mut out: &mut dyn Out| {
            write(&mut out).map_err(|source| deft_needle_audio::Error::Write { source })
        };
        put_file(&path, self.disk, make, |_, ()| Ok(()))?;
        self.used.insert(name.to_owned());
        Ok(())
    }

    /// Removes what an earlier page had beside it; everything else stays.
    pub fn tidy(&self) {
        if !matches!(Kind::of(&self.folder), Ok(Kind::Folder)) {
            return;
        }
        let Ok(entries) = std::fs::read_dir(&self.folder) else {
            return;
        };
        for name in entries.flatten().filter_map(|entry| entry.file_name().into_string().ok()) {
            let path = self.folder.join(&name);
            if !self.used.contains(&name) && is_ours(&path, &name) {
                let _ = self.disk.remove(&path);
            }
        }
        // Only where nothing is left in it.
        let _ = std::fs::remove_dir(&self.folder);
    }
}

/// Whether a page put this file there. A name alone proves nothing: sounds of games are named by digits, too. A sound of a
/// page is named by its own hash, and its text begins as only such a text does.
fn is_ours(path: &Path, name: &str) -> bool {
    let named =
        |stem: &str| stem.len() == DIGITS && stem.bytes().all(|byte| byte.is_ascii_hexdigit());
    matches!(Kind::of(path), Ok(Kind::File))
        && match name.split_once('.') {
            Some((stem, "flac" | "wav")) if named(stem) => {
                Hash::of_file(path).is_ok_and(|hash| hash.hex().starts_with(stem))
            }
            Some((stem, "js")) if named(stem) => head(path).starts_with(HANDS_OVER),
            Some(("turn", "js")) => head(path).starts_with(TURNS),
            _ => false,
        }
}

/// The beginning of a file, as text; nothing where it cannot be read.
pub fn head(path: &Path) -> String {
    let mut head = Vec::new();
    if let Ok(file) = std::fs::File::open(path) {
        let _ = file.take(HEAD).read_to_end(&mut head);
    }
    String::from_utf8_lossy(&head).into_owned()
}
