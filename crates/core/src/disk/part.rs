//! Outputs under a name of their own until they are whole: exclusive, not to be guessed, and cleared away
//! by the next run where this one is killed.

use super::{data_folder, open_plain, random, read_plain};
use crate::error::{Error, Result};
use crate::limits;
use crate::names::PART;
use deft_needle_audio::read::private::{UNHELD, held};
use std::fs::{self, File, OpenOptions};
use std::path::{Path, PathBuf};
use std::sync::Once;

static SWEPT: Once = Once::new();
/// Digits of a note's name.
const TOKEN: usize = 20;

/// A name beside an output. As long as it lives, a note in this user's own folder says where it is.
#[derive(Debug)]
pub struct Part {
    path: PathBuf,
    note: Option<(PathBuf, File)>,
}

impl Part {
    /// One beside `out`; nothing is there yet.
    ///
    /// # Errors
    /// [`Error::Refused`] where the system gives no random numbers; [`Error::Read`] where the folder of
    /// `out` is not there.
    pub fn beside(out: &Path) -> Result<Self> {
        sweep_once();
        let notes = notes();
        let token = random()?;
        let path = out.with_file_name(format!("{PART}{token}"));
        let absolute = std::path::absolute(&path).map_err(Error::read(&path))?;
        // Without a note all works the same; only a killed run leaves its part.
        let note = notes.and_then(|notes| note(&notes, &token, &absolute).ok());
        Ok(Self { path, note })
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }
}

fn notes() -> Option<PathBuf> {
    data_folder().map(|folder| folder.join("parts"))
}

/// Removes what runs that were killed have left, once in a run.
pub fn sweep_once() {
    if let Some(notes) = notes() {
        SWEPT.call_once(|| sweep(&notes));
    }
}

impl Drop for Part {
    fn drop(&mut self) {
        if let Some((path, file)) = self.note.take() {
            drop(file);
            let _ = fs::remove_file(path);
        }
    }
}

fn note(notes: &Path, token: &str, part: &Path) -> std::io::Result<(PathBuf, File)> {
    fs::create_dir_all(notes)?;
    let path = notes.join(token);
    let file = held(&path, part.to_string_lossy().as_bytes())?;
    Ok((path, file))
}

/// Removes the parts of runs that are gone.
fn sweep(notes: &Path) {
    for entry in fs::read_dir(notes).into_iter().flatten().flatten() {
        let note = entry.path();
        if note.extension().is_some_and(|extension| extension == UNHELD) {
            continue;
        }
        let Ok(file) = open_plain(OpenOptions::new().read(true), &note) else {
            continue;
        };
        if file.try_lock().is_err() {
            continue;
        }
        let named = read_plain(&note, limits::NAME).ok();
        let part = named.and_then(|bytes| String::from_utf8(bytes).ok()).map(PathBuf::from);
        let token = entry.file_name().to_string_lossy().into_owned();
        let own = format!("{PART}{token}");
        // Whatever else somebody keeps there is not ours: not by its name, or not by what it says.
        let is_token = token.len() == TOKEN && token.bytes().all(|byte| byte.is_ascii_hexdigit());
        let is_own = |part: &PathBuf| part.file_name().is_some_and(|name| *name == *own);
        let Some(part) = part.filter(|part| is_token && part.is_absolute() && is_own(part)) else {
            continue;
        };
        if fs::symlink_metadata(&part).is_ok_and(|found| found.is_file()) {
            let _ = fs::remove_file(&part);
        }
        drop(file);
        let _ = fs::remove_file(&note);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicBool, Ordering};

    #[test]
    fn no_part_is_swept_while_its_note_is_made() {
        let folder = tempfile::tempdir().unwrap();
        let notes = folder.path().join("parts");
        let done = AtomicBool::new(false);
        std::thread::scope(|scope| {
            for _ in 0..2 {
                scope.spawn(|| {
                    while !done.load(Ordering::Relaxed) {
                        sweep(&notes);
                    }
                });
            }
            let all = (0..2000).all(|turn| {
                let token = format!("{turn:020}");
                let part = folder.path().join(format!("{PART}{token}"));
                // No panic: the others would never end.
                let Ok((path, file)) = note(&notes, &token, &part) else { return false };
                let made = fs::write(&part, b"x").is_ok();
                std::thread::yield_now();
                let lives = made && part.exists() && path.exists();
                drop(file);
                let _ = (fs::remove_file(path), fs::remove_file(part));
                lives
            });
            done.store(true, Ordering::Relaxed);
            assert!(all);
        });
    }

    #[test]
    fn only_parts_of_runs_that_are_gone_are_swept() {
        let folder = tempfile::tempdir().unwrap();
        let notes = folder.path().join("parts");
        let [living, dead, liar] = ["1", "2", "3"].map(|digit| digit.repeat(TOKEN));
        let part = |token: &str| folder.path().join(format!("{PART}{token}"));
        let held = note(&notes, &living, &part(&living)).unwrap();
        drop(note(&notes, &dead, &part(&dead)).unwrap());
        drop(note(&notes, &liar, &folder.path().join("precious")).unwrap());
        fs::write(notes.join("diary.txt"), b"somebody's own").unwrap();
        for path in [part(&living), part(&dead), folder.path().join("precious")] {
            fs::write(path, b"x").unwrap();
        }
        sweep(&notes);
        assert!(part(&living).exists() && folder.path().join("precious").exists());
        assert!(!part(&dead).exists() && !notes.join(dead).exists());
        assert!(held.0.exists() && notes.join(liar).exists() && notes.join("diary.txt").exists());
    }
}
