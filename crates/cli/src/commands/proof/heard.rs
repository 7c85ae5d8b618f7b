//! The sounds of a page: taken down while their files are decoded to be proved and measured, else read for it.

use deft_needle_audio::block::Source;
use deft_needle_audio::measure::picture::Picture;
use deft_needle_audio::read::Private;
use deft_needle_audio::{Clip, Error, Observer};
use deft_needle_core::run::Audience;
use deft_needle_proof::sound::{Playable, most_bytes, record};
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

/// What sounds may take in memory, in bytes; all others lie in files.
const MEMORY: u64 = 64 << 20;
/// A sound that takes more lies in a file, in bytes.
const SMALL: u64 = 256 << 10;

/// Sounds by the names of their files, as browsers play them, and their pictures.
pub struct Heard {
    folder: Private,
    /// How many of them lie there.
    files: AtomicUsize,
    /// What may still be taken of the memory.
    room: AtomicU64,
    known: Mutex<HashMap<PathBuf, (Playable, Picture)>>,
}

impl Heard {
    /// Nothing yet; the sounds will lie in this folder.
    pub fn within(folder: Private) -> Self {
        let (files, room) = (AtomicUsize::new(0), AtomicU64::new(MEMORY));
        Self { folder, files, room, known: Mutex::default() }
    }

    /// A clip's sound and picture.
    ///
    /// # Errors
    /// Those of reading, where it was not heard before, and of writing.
    pub fn take(&self, clip: &Clip, observer: &dyn Observer) -> Result<(Playable, Picture), Error> {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        let heard = known.remove(clip.input().name());
        drop(known);
        heard.map_or_else(|| self.take_down(clip, &mut *clip.frames()?, observer), Ok)
    }

    fn take_down(
        &self,
        clip: &Clip,
        frames: &mut dyn Source,
        observer: &dyn Observer,
    ) -> Result<(Playable, Picture), Error> {
        let takes = most_bytes(clip);
        let less = |room: u64| room.checked_sub(takes).filter(|_| takes <= SMALL);
        if self.room.fetch_update(Ordering::Relaxed, Ordering::Relaxed, less).is_ok() {
            return record(clip, frames, None, observer);
        }
        let number = self.files.fetch_add(1, Ordering::Relaxed);
        let path = self.folder.path().join(number.to_string());
        record(clip, frames, Some(&path), observer)
    }
}

impl Audience for Heard {
    fn hear(
        &self,
        clip: &Clip,
        frames: &mut dyn Source,
        observer: &dyn Observer,
    ) -> Result<(), Error> {
        let heard = self.take_down(clip, frames, observer)?;
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        known.insert(clip.input().name().to_owned(), heard);
        Ok(())
    }
}
